//! Files are exported to every machine.

use crate::check::{Answer, Check, Control, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/nfs-export-any-host",
    area: Area::Logins,
    title: "NFS export open to any host",
    severity: Severity::Medium,
    why: "With the usual way of NFS the client's machine says which user asks, and the server believes it. Any machine that \
          reaches the server is then any user it likes.",
    fix: "Name the machines or the network that need the files, and ask for Kerberos (`sec=krb5p`) where the machines are not \
          all yours. Look for a blank between a client and its options: it gives the options to everybody.",
    judged: "Fails for each export to everybody without Kerberos; a step graver where it may be changed. Passes where clients \
             are named or Kerberos is asked for. Undetermined where a netgroup that is kept elsewhere decides.",
    references: &["exports(5)", "RFC 7530, 3.2.1", "NIST SP 800-209, 4.3"],
    controls: &[Control::grundschutz("APP.3.3.A3")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Exports]) {
        let parts = one.served.parts.iter();
        answers.extend(parts.map(|part| {
            Answer::new(
                one.device,
                Subject::part(one.served, part).limited_to(&part.sources),
                judge(one, part),
            )
        }));
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    let trusting = matches!(part.login.value(), Some(AuthRequirement::Nothing | AuthRequirement::Address));
    if trusting && part.sources.is_everybody() {
        let written = part.is_written();
        let may = if written { "read and change" } else { "read" };
        return one.fail(
            if written { CHECK.rating().raised("it may be changed") } else { CHECK.rating() },
            part,
            format!("{} of {} is exported to every machine", part.name, one.device_name()),
            format!("Any machine that reaches the server may {may} it as any user but the superuser, unless that one is kept too."),
            part.lines(),
        );
    }
    let group = part.sources.names.iter().find(|name| name.starts_with('@'));
    match group.filter(|_| trusting) {
        Some(group) => Verdict::ask(
            format!(
                "{} of {} is exported to the netgroup `{group}`, which is kept elsewhere; ask which machines are in it",
                part.name,
                one.device_name()
            ),
            vec![part.origin],
        ),
        None => Verdict::Pass,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (text, wanted) in [
            ("/a *(ro)\n", &["fail medium d exports:1"][..]),
            ("/a *(rw)\n", &["fail high d exports:1"]),
            ("/a yard.example (rw)\n", &["pass d", "fail high d exports:1"]),
            ("/a 0.0.0.0/0(rw)\n", &["fail high d exports:1"]),
            ("/a *(rw,sec=krb5p)\n", &["pass d"]),
            ("/a 10.4.0.0/24(rw)\n", &["pass d"]),
            ("/a @desks(rw)\n", &["ask d"]),
            ("# /a *(rw)\n", &[]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/exports", text)], wanted)]);
        }
    }
}
