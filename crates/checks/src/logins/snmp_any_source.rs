//! A device tells its values to every machine.

use crate::check::{Answer, Check, Control, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, limited, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/snmp-any-source",
    area: Area::Logins,
    title: "SNMP readable from any source address",
    severity: Severity::Low,
    why: "Interfaces, routes, neighbours, processes and versions are a map for an attacker. A community crosses the network as it \
          is, so it is known to whoever listens once, and only the address of the one who asks is left to tell friend from foe.",
    fix: "Name the machines that watch (`rocommunity NAME 10.0.0.5`), or better ask for SNMP version 3 with `authPriv`, and take \
          the communities out.",
    judged: "Fails for each community that is taken from everywhere, and for each user of version 3 of whom nothing is asked. Passes where \
             sources are named, where a proof is asked for, and where the agent answers the device alone. Undetermined where a file that is read in is not \
             among the exports.",
    references: &["RFC 3414, 1.4", "RFC 3584", "CISA TA17-156A"],
    controls: &[Control::grundschutz("NET.1.2.A2")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Monitoring]) {
        answers.extend(one.open_answer());
        for part in &one.served.parts {
            answers.push(Answer::new(one.device, Subject::part(one.served, part), judge(one, part)));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    let asked = part.login.value();
    let everywhere = asked == Some(&AuthRequirement::Community) && part.sources.is_everybody();
    let nothing = asked == Some(&AuthRequirement::Nothing);
    // What may be changed is told by another check.
    if one.served.is_local() || !(everywhere || nothing) || part.is_written() {
        return Verdict::Pass;
    }
    let what = if nothing { "asks for a name and nothing else" } else { "is taken from every address" };
    one.fail(
        limited(CHECK.rating(), &part.sources),
        part,
        format!("{} of {} {what}", part.title(), one.device_name()),
        "Its values may be read, not changed.".into(),
        part.lines(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (text, wanted) in [
            ("rocommunity Qx81vv\n", &["fail low d snmpd.conf:1"][..]),
            ("rocommunity Qx81vv 10.4.0.9\n", &["pass d"]),
            ("rouser ann noauth\n", &["fail low d snmpd.conf:1"]),
            ("rouser ann priv\n", &["pass d"]),
            ("rouser ann priv\nincludeFile site.conf\n", &["ask d", "pass d"]),
            ("agentaddress 127.0.0.1\nrocommunity public\n", &["pass d"]),
            ("rwcommunity Qx81vv\n", &["pass d"]),
            ("# rocommunity public\nrouser ann\n", &["pass d"]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/snmp/snmpd.conf", text)], wanted)]);
        }
    }
}
