//! Networks excluded from a tunnel cover networks that should use it.

use crate::addresses::cover;
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::name_of;
use crate::tunnels::told;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::plan::Placed;
use trevlin_model::{Family, IpRange, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/exclusions-too-wide",
    area: Area::Tunnels,
    title: "Split-tunnel exclusions cover protected networks",
    severity: Severity::Medium,
    why: "Traffic to an excluded network bypasses the tunnel unencrypted. An exclusion for a printer or a video \
          service, written too wide, also excludes internal servers, and users do not notice.",
    fix: "Exclude single networks only, and none that contains an internal network.",
    judged: "Fails where excluded networks cover half of all addresses or more, or the whole of a network that is routed \
             into the tunnel.",
    references: &[
        "openvpn(8), --route",
        "ocserv(8), no-route",
        "swanctl.conf(5), pools",
        "NIST SP 800-46 Rev. 2, 3.2.3",
    ],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    told(estate, |_, _, tunnel| judge(tunnel))
}

fn judge(tunnel: &Tunnel) -> Verdict {
    let plan = &tunnel.addresses;
    if plan.kept_out.is_empty() {
        return Verdict::DoesNotApply;
    }
    let out = || plan.kept_out.iter().map(|(range, _)| *range);
    let half = |family| IpRange::all(family).size() / 2;
    let wide: Option<&Placed> = plan.kept_out.iter().find(|(range, _)| range.size() >= half(range.family()));
    let everything = [Family::V4, Family::V6].into_iter().find(|family| cover(out(), IpRange::all(*family)));
    let lost: Vec<&Placed> = plan
        .sent_through
        .iter()
        .filter(|(range, _)| *range != IpRange::all(range.family()) && cover(out(), *range))
        .collect();
    let (what, mut evidence) =
        if let Some((range, origin)) = wide.filter(|_| everything.is_some() || lost.is_empty()) {
            (format!("{} is excluded, half of all addresses or more", range.short()), vec![*origin])
        } else if let Some((range, origin)) = lost.first() {
            let by = plan.kept_out.iter().find(|(kept, _)| kept.intersection(range).is_some());
            let whole = by.map_or(String::new(), |(kept, _)| format!(" by {}", kept.short()));
            (
                format!("{} is routed into the tunnel, and excluded{whole}", range.short()),
                by.map(|(_, at)| *at).into_iter().chain([*origin]).collect(),
            )
        } else {
            return Verdict::pass_by(plan.kept_out.iter().map(|(_, origin)| *origin), tunnel.origin);
        };
    evidence.dedup();
    Verdict::Fail(Fail {
        rating: CHECK.rated("the traffic is sent unprotected, and users do not notice"),
        title: format!("Exclusions of {} cover networks routed into the tunnel", name_of(tunnel)).into(),
        detail: format!("{what}.").into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("push \"route 192.0.2.0 255.255.255.0 net_gateway\"\npush \"redirect-gateway def1\"", "pass d"),
            (
                "push \"route 0.0.0.0 128.0.0.0 net_gateway\"\npush \"redirect-gateway def1\"",
                "fail medium d s.conf:3",
            ),
            (
                "push \"route 10.0.0.0 255.0.0.0 net_gateway\"\npush \"route 10.4.0.0 255.255.0.0\"",
                "fail medium d s.conf:3 s.conf:4",
            ),
            (
                "push \"route 10.4.9.0 255.255.255.0 net_gateway\"\npush \"route 10.4.0.0 255.255.0.0\"",
                "pass d",
            ),
            ("#push \"route 0.0.0.0 0.0.0.0 net_gateway\"\npush \"route 10.4.0.0 255.255.0.0\"", "none d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(lines, &[("d/s.conf", &text)], &[wanted])]);
        }
    }
}
