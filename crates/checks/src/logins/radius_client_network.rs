//! A client of a RADIUS server is a whole network.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_public;
use trevlin_model::radius::RadiusClient;
use trevlin_model::{Family, IpRange};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/radius-client-network",
    area: Area::Logins,
    title: "RADIUS client defined as a whole network",
    severity: Severity::Medium,
    why: "Every host in that network may send RADIUS requests, and all use one secret. An attacker who controls one host \
          there, and learns the secret, can test logins that no other device sees.",
    fix: "Define each RADIUS client separately, with its own address and secret.",
    judged: "Fails where a client covers more than one IPv4 address, or more than one IPv6 subnet (/64); one level higher \
             where it covers any address or public addresses. Undetermined where the client is given by host name.",
    references: &["RFC 2865, 3", "clients.conf(5), ipaddr"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// Addresses of IPv6 that one host may have in its own subnet: a prefix of /64 or longer is one place.
const ONE_PLACE: u128 = 1 << 64;

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for client in &device.facts.radius_clients {
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::RadiusClient).with(&client.name),
                judge(client),
            ));
        }
    }
    answers
}

fn judge(client: &RadiusClient) -> Verdict {
    let Some(range) = client.from else {
        let ask = format!(
            "Please state the addresses that the host name of RADIUS client `{}` resolves to.",
            client.name
        );
        return Verdict::ask(ask, vec![client.address_origin]);
    };
    let one_place = if range.family() == Family::V4 { 1 } else { ONE_PLACE };
    if client.is_local() || range.size() <= one_place {
        return Verdict::pass(client.address_origin);
    }
    let (severity, why) = if range == IpRange::all(range.family()) {
        (Severity::High, "it covers any address, so only the secret protects the server".to_owned())
    } else if is_public(range.first()) || is_public(range.last()) {
        (Severity::High, "it includes public addresses".to_owned())
    } else {
        (CHECK.severity, "its addresses are private".to_owned())
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("RADIUS client `{}` is a whole network", client.name).into(),
        detail: format!("Any host of {range} may send requests, all with one secret.").into(),
        evidence: vec![client.address_origin, client.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (item, wanted) in [
            ("ipaddr = 10.4.0.0/24", "fail medium d clients.conf:2 clients.conf:1"),
            ("ipaddr = 203.0.113.0/28", "fail high d clients.conf:2 clients.conf:1"),
            ("ipaddr = *", "fail high d clients.conf:2 clients.conf:1"),
            ("ipv6addr = 2001:db8::/32", "fail high d clients.conf:2 clients.conf:1"),
            ("ipv6addr = fd00:4::/64", "pass d"),
            ("ipaddr = 10.4.0.9", "pass d"),
            ("ipaddr = 127.0.0.0/8", "pass d"),
            ("ipaddr = gate.example", "ask d"),
        ] {
            let text = format!("client gate {{\n {item}\n secret = x\n}}\n");
            run(&CHECK, &[(item, &[("d/clients.conf", &text)], &[wanted])]);
        }
        run(&CHECK, &[("in comments", &[("d/clients.conf", "#client gate {\n# ipaddr = *\n#}\n")], &[])]);
    }
}
