//! Files are exported to every machine.

use crate::check::{Answer, Check, Need, Run, Verdict};
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
    why: "With the default security of NFS (`sec=sys`), the client host states which user makes a request. Any host that \
          reaches the server can act as any user.",
    fix: "Name the hosts or the network that need the export, and require Kerberos (`sec=krb5p`) where clients are not fully \
          trusted. Check for a space between a client and its options: it applies the options to every host.",
    judged: "Fails for each export to any host without Kerberos; one level higher where it is writable. Passes where clients \
             are named or Kerberos is required. Undetermined where a netgroup decides.",
    references: &["exports(5)", "RFC 7530, 3.2.1", "NIST SP 800-209, 4.3"],
    needs: &[Need::Services],
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
            if written { CHECK.rating().raised("the export is writable") } else { CHECK.rating() },
            part,
            format!("NFS export {} is open to any host", part.name),
            format!("Any host that reaches the server may {may} files as any user; root is subject to root squashing."),
            part.lines(),
        );
    }
    let group = part.sources.names.iter().find(|name| name.starts_with('@'));
    match group.filter(|_| trusting) {
        Some(group) => Verdict::ask(
            format!(
                "Please list the hosts of the netgroup `{group}`: NFS export {} is open to it.",
                part.name
            ),
            vec![part.origin],
        ),
        None => one.holds_by_limit(part),
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
