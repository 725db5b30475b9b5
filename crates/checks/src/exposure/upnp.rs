//! Ports are opened on request of any host.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
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
    why: "Any program on any internal host can open a port to the Internet by request, without a login and without a visible \
          rule. The filter rules then no longer describe what is open.",
    fix: "Disable the service and configure the few necessary forwards by hand. Where it must stay, permit named hosts to \
          map ports above 1023 to themselves only, and end its list with a deny for all.",
    judged: "Fails for each service that accepts UPnP, NAT-PMP or PCP requests; higher where a host may open ports for \
             others and no list limits it, lower where the list ends with a deny. Passes where both protocols are disabled.",
    references: &["RFC 6886, 5", "RFC 6887, 17", "CISA TA13-088A"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for mapper in &device.facts.port_mappers {
            answers.push(Answer::new(at, Subject::of(SubjectKind::PortMapper), judge(mapper)));
        }
    }
    answers
}

fn judge(mapper: &PortMapper) -> Verdict {
    let ways: Vec<&str> = [(mapper.upnp, "UPnP"), (mapper.nat_pmp, "NAT-PMP and PCP")]
        .into_iter()
        .filter_map(|(on, name)| on.then_some(name))
        .collect();
    if ways.is_empty() {
        return Verdict::pass(mapper.origin);
    }
    let allowed = before_deny(mapper);
    let closed = allowed.is_some();
    let who = match (closed, mapper.own_only) {
        (true, _) => {
            let allowed = allowed.unwrap_or_default();
            if allowed.is_empty() { "nobody".to_owned() } else { allowed.join(", ") }
        }
        (false, true) => "any host that reaches it, for itself".to_owned(),
        (false, false) => "any host that reaches it, for any other host".to_owned(),
    };
    let (severity, why) = match (closed, mapper.own_only) {
        (true, _) => (Severity::Low, "a list limits the requests and ends with a deny"),
        (false, true) => {
            (CHECK.severity, "no list limits the requests, but a host may only map ports to itself")
        }
        (false, false) => {
            (Severity::High, "no list limits the requests, and a host may map ports to any other")
        }
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Port mapping by {} is enabled", ways.join(", ")).into(),
        detail: format!("Requests are accepted from {who}.").into(),
        evidence: [mapper.origin]
            .into_iter()
            .chain(mapper.permissions.iter().map(|one| one.origin))
            .collect(),
    })
}

/// Hosts that may ask, where a rule denies all others for every port above 1023: the first rule that fits decides (miniupnpd.conf).
fn before_deny(mapper: &PortMapper) -> Option<Vec<String>> {
    let everybody = |range: &IpRange| range.size() >= IpRange::all(range.family()).size() / 2;
    let mut allowed = Vec::new();
    for one in &mapper.permissions {
        match one.allows {
            true if everybody(&one.hosts) && one.outside.last > 1023 => return None,
            true => allowed.push(one.hosts.short()),
            false if everybody(&one.hosts) && one.outside.first <= 1024 && one.outside.last == u16::MAX => {
                return Some(allowed);
            }
            false => {}
        }
    }
    None
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
            // The first rule that fits decides, and one for low ports alone ends no list.
            (
                "enable_upnp=yes\nallow 1024-65535 0.0.0.0/0 1024-65535\ndeny 0-65535 0.0.0.0/0 0-65535\n",
                "fail high d miniupnpd.conf:3 miniupnpd.conf:4 miniupnpd.conf:5",
            ),
            (
                "enable_upnp=yes\ndeny 0-1023 0.0.0.0/0 0-65535\n",
                "fail high d miniupnpd.conf:3 miniupnpd.conf:4",
            ),
            // A comment switches nothing off.
            ("# enable_upnp=no\n", "fail high d miniupnpd.conf:2"),
        ] {
            let text = format!("{HEAD}{lines}");
            run(&CHECK, &[(lines, &[("d/etc/miniupnpd.conf", text.as_str())], &[wanted])]);
        }
    }
}
