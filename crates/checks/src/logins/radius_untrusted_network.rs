//! RADIUS crosses an untrusted network without TLS.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::net::IpAddr;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_public;
use trevlin_model::Origin;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/radius-untrusted-network",
    area: Area::Logins,
    title: "RADIUS without TLS across an untrusted network",
    severity: Severity::High,
    why: "RADIUS over UDP reveals user names to every network on the path and protects passwords with an MD5 construction \
          only. Its responses can be forged on the path.",
    fix: "Carry RADIUS over TLS (RFC 6614) or through a tunnel, and block RADIUS from and to public addresses at the \
          perimeter.",
    judged: "Fails where a RADIUS client, a proxied home server or a configured RADIUS server has a public address and TLS \
             is not configured. The files do not show an enclosing tunnel; where one exists, accept the finding with that \
             reason. Undetermined where a host name replaces the address.",
    references: &["RFC 6614", "RFC 2865, 8", "RFC 6151"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for client in device.facts.radius_clients.iter().filter(|client| !client.tls) {
            let ends = client.from.map(|range| [range.first(), range.last()]);
            // Every address there is stands for somewhere not known; that is another check's finding.
            let all = client.from.is_some_and(|range| range == trevlin_model::IpRange::all(range.family()));
            let verdict = match ends {
                Some([first, last]) if !all && (is_public(first) || is_public(last)) => {
                    fail(&format!("client `{}`", client.name), client.address_origin, client.origin)
                }
                Some(_) => Verdict::pass(client.address_origin),
                None => ask(&client.name, client.address_origin),
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::RadiusClient).with(&client.name), verdict));
        }
        for upstream in device.facts.radius_upstreams.iter().filter(|one| !one.tls) {
            let verdict = judge(&upstream.server, upstream.address, upstream.origin);
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::RadiusUpstream).with(&upstream.name),
                verdict,
            ));
        }
        for target in &device.facts.radius_targets {
            let verdict = judge(&target.server, target.address, target.origin);
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::RadiusServer).with(&target.server),
                verdict,
            ));
        }
    }
    answers
}

fn judge(server: &str, address: Option<IpAddr>, origin: Origin) -> Verdict {
    match address {
        Some(address) if is_public(address) => fail(&format!("server `{server}`"), origin, origin),
        Some(_) => Verdict::pass(origin),
        None if server.starts_with("localhost") => Verdict::pass(origin),
        None => ask(server, origin),
    }
}

fn fail(who: &str, origin: Origin, more: Origin) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("its address is public"),
        title: format!("RADIUS with {who} crosses an untrusted network without TLS").into(),
        detail: "The configuration uses plain UDP without TLS.".into(),
        evidence: vec![origin, more],
    })
}

fn ask(name: &str, origin: Origin) -> Verdict {
    Verdict::ask(
        format!(
            "Please state the address that `{name}` resolves to: it decides whether RADIUS crosses an untrusted network."
        ),
        vec![origin],
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (address, wanted) in [
            ("198.51.100.44", "fail high d clients.conf:2 clients.conf:1"),
            ("10.4.0.9", "pass d"),
            ("127.0.0.1", "pass d"),
            ("gate.example", "ask d"),
            ("198.51.100.44\n proto = tls", ""),
            ("0.0.0.0/0", "pass d"),
        ] {
            let text = format!("client gate {{\n ipaddr = {address}\n secret = x\n}}\n");
            let wanted: Vec<&str> = [wanted].into_iter().filter(|one| !one.is_empty()).collect();
            run(&CHECK, &[(address, &[("d/clients.conf", &text)], &wanted)]);
        }
        for (line, wanted) in [
            ("198.51.100.44 sesame 3", "fail high d pam_radius_auth.conf:1 pam_radius_auth.conf:1"),
            ("10.4.0.9 sesame 3", "pass d"),
            ("# 198.51.100.44 sesame\nlocalhost sesame", "pass d"),
            ("aaa.example sesame", "ask d"),
        ] {
            run(&CHECK, &[(line, &[("d/etc/pam_radius_auth.conf", line)], &[wanted])]);
        }
    }
}
