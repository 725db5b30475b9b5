//! A word that crosses the network as it is changes a device.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{AuthRequirement, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/snmp-write",
    area: Area::Logins,
    title: "SNMP write access by community string",
    severity: Severity::High,
    why: "A client that knows the community string can disable interfaces, change routes and, on some devices, copy or \
          replace the configuration. The string is sent in clear text and is the same for every client.",
    fix: "Remove communities with write access (`rwcommunity`). Where changes over SNMP are needed, use one SNMPv3 \
          user with `authPriv` and a restricted view (`rwuser NAME priv -V VIEW`).",
    judged: "Fails for each community with write access, and for each user with write access and no authentication; one \
             level lower where only a few addresses are permitted. Passes for authenticated users and where the agent is \
             limited to the device itself. Undetermined where an included file is missing.",
    references: &["RFC 3414, 1.4", "RFC 3415", "CISA TA17-156A"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Monitoring]) {
        answers.extend(one.open_answer());
        for part in &one.served.parts {
            answers.push(Answer::new(
                one.device,
                Subject::part(one.served, part),
                judge(one, part, baseline.at(one.device)),
            ));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    let weak = matches!(part.login.value(), Some(AuthRequirement::Community | AuthRequirement::Nothing));
    if one.served.is_local() || !weak || !part.is_written() || part.sources.is_local() {
        return if weak { one.holds_by_limit(part) } else { one.holds_by_login(part) };
    }
    let base = match is_few(&part.sources, thresholds) {
        true => CHECK.rating().lowered("limited to named hosts"),
        false => CHECK.rating(),
    };
    one.fail(
        base,
        part,
        format!("SNMP {} permits write access", part.title()),
        format!("Permitted sources: {}.", part.sources.words()),
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
            ("rwcommunity Qx81vv\n", &["fail high d snmpd.conf:1"][..]),
            ("rwcommunity Qx81vv 10.4.0.9\n", &["fail medium d snmpd.conf:1"]),
            ("rwcommunity Qx81vv localhost\n", &["pass d"]),
            ("rwuser ann noauth\n", &["fail high d snmpd.conf:1"]),
            ("rwuser ann priv\nrocommunity public\n", &["pass d", "pass d"]),
            ("rouser ann priv\nincludeFile site.conf\n", &["ask d", "pass d"]),
            ("agentaddress 127.0.0.1\nrwcommunity private\n", &["pass d"]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/snmp/snmpd.conf", text)], wanted)]);
        }
    }
}
