//! Ports are opened for whoever asks.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::IpRange;
use trevlin_model::listen::PortMapper;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/upnp",
    area: Area::Exposure,
    title: "UPnP, NAT-PMP or PCP port mapping enabled",
    severity: Severity::Medium,
    why: "Any program on any machine inside, a game, a camera or a Trojan horse, opens a port to the outside by \
          asking, without a login and without a line in any rule list. What the filter says is then not what is \
          open.",
    fix: "Switch the service off and make the few forwards that are needed by hand. Where it has to stay, let it \
          take requests from named hosts for themselves only, above port 1023, and end its list with a denial of \
          everything.",
    judged: "Fails for each service that takes requests by UPnP, NAT-PMP or PCP; graver where a host may ask for \
             others and no list limits who may ask, milder where the list ends with a denial. Passes where both \
             kinds of requests are switched off.",
    references: &["RFC 6886, 5", "RFC 6887, 17", "CISA TA13-088A"],
    controls: &[Control::grundschutz("NET.3.1.A1")],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for mapper in &device.facts.port_mappers {
            answers.push(Answer::new(at, Subject::of(SubjectKind::PortMapper), judge(&device.name, mapper)));
        }
    }
    answers
}

fn judge(device: &str, mapper: &PortMapper) -> Verdict {
    let ways: Vec<&str> = [(mapper.upnp, "UPnP"), (mapper.nat_pmp, "NAT-PMP and PCP")]
        .into_iter()
        .filter_map(|(on, name)| on.then_some(name))
        .collect();
    if ways.is_empty() {
        return Verdict::Pass;
    }
    let everybody = |range: &IpRange| range.size() >= IpRange::all(range.family()).size() / 2;
    let closed = mapper.permissions.iter().any(|one| !one.allows && everybody(&one.hosts));
    let who = match (closed, mapper.own_only) {
        (true, _) => {
            let allowed: Vec<String> =
                mapper.permissions.iter().filter(|one| one.allows).map(|one| one.hosts.short()).collect();
            if allowed.is_empty() { "nobody".to_owned() } else { allowed.join(", ") }
        }
        (false, true) => "every host that reaches it, for itself".to_owned(),
        (false, false) => "every host that reaches it, for any host".to_owned(),
    };
    let (severity, why) = match (closed, mapper.own_only) {
        (true, _) => (Severity::Low, "a list says who may ask, and ends with a denial"),
        (false, true) => (CHECK.severity, "no list says who may ask, but a host may only ask for itself"),
        (false, false) => (Severity::High, "no list says who may ask, and a host may ask for any other"),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{device} opens ports to the outside on request by {}", ways.join(", ")).into(),
        detail: format!("Requests are taken from {who}.").into(),
        evidence: [mapper.origin]
            .into_iter()
            .chain(mapper.permissions.iter().map(|one| one.origin))
            .collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const HEAD: &str = "ext_ifname=eth0\nlistening_ip=eth1\n";
        for (lines, wanted) in [
            ("enable_upnp=yes\n", "fail high d miniupnpd.conf:3"),
            ("enable_upnp=yes\nsecure_mode=yes\n", "fail medium d miniupnpd.conf:3"),
            ("enable_upnp=no\nenable_natpmp=no\n", "pass d"),
            (
                "enable_upnp=yes\nallow 1024-65535 10.4.0.0/24 1024-65535\ndeny 0-65535 0.0.0.0/0 0-65535\n",
                "fail low d miniupnpd.conf:3 miniupnpd.conf:4 miniupnpd.conf:5",
            ),
            // A comment switches nothing off.
            ("# enable_upnp=no\n", "fail high d miniupnpd.conf:2"),
        ] {
            let text = format!("{HEAD}{lines}");
            run(&CHECK, &[(lines, &[("d/etc/miniupnpd.conf", text.as_str())], &[wanted])]);
        }
    }
}
