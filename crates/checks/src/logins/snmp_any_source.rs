//! SNMP is readable from any address.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
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
    why: "SNMP reveals interfaces, routes, neighbours, processes and versions. A community string is sent in clear text, so \
          it is known after one observation, and only the source address remains as protection.",
    fix: "Restrict the community to monitoring hosts (`rocommunity NAME 10.0.0.5`), or better use SNMPv3 with `authPriv` and \
          remove all communities.",
    judged: "Fails for each community that is accepted from any address, and, as high, for each SNMPv3 user without \
             authentication. \
             Passes where sources are named, where authentication is required, and where the agent is limited to the device \
             itself. Undetermined where an included file is missing.",
    references: &["RFC 3414, 1.4", "RFC 3584", "CISA TA17-156A"],
    needs: &[Need::Services],
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
    // Write access is reported by another check.
    if one.served.is_local() || !(everywhere || nothing) || part.is_written() {
        return one.holds_by_limit(part);
    }
    let rating = match nothing {
        true => {
            CHECK.rated_at(Severity::High, "no secret is required, and user names are sent in clear text")
        }
        false => CHECK.rating(),
    };
    let what = if nothing { "requires a user name only" } else { "is accepted from any address" };
    one.fail(
        one.limited(rating, &part.sources),
        part,
        format!("SNMP {} {what}", part.title()),
        "Access is read-only.".into(),
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
            ("rouser ann noauth\n", &["fail high d snmpd.conf:1"]),
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
