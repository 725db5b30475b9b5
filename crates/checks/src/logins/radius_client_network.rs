//! A client of a RADIUS server is a whole network.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
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
    why: "Every host of that network may ask the RADIUS server about callers, and all that do share one secret. Whoever \
          takes over one of them, or plugs in a machine of their own and learns the secret, can try logins there that no \
          other device sees.",
    fix: "List the devices that ask one by one, each with its own address and a secret of its own.",
    judged: "Fails where a client has more than one IPv4 address, or more than one IPv6 subnet (/64); graver where it is every \
             address there is, or public addresses are among it. Undetermined where the client is given by a name.",
    references: &["RFC 2865, 3", "clients.conf(5), ipaddr"],
    controls: &[Control::grundschutz("SYS.1.1.A35")],
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
            "which addresses RADIUS client `{}` stands for does not show here; ask what its name resolves to",
            client.name
        );
        return Verdict::ask(ask, vec![client.address_origin]);
    };
    let one_place = if range.family() == Family::V4 { 1 } else { ONE_PLACE };
    if client.is_local() || range.size() <= one_place {
        return Verdict::Pass;
    }
    let (severity, why) = if range == IpRange::all(range.family()) {
        (Severity::High, "it is every address there is, so the secret alone decides".to_owned())
    } else if is_public(range.first()) || is_public(range.last()) {
        (Severity::High, "public addresses are among it".to_owned())
    } else {
        (CHECK.severity, "its addresses are private".to_owned())
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("RADIUS client `{}` is a whole network", client.name).into(),
        detail: format!("Any host of {range} may ask, with one secret for all.").into(),
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
