//! Split or full tunnelling contrary to policy.

use crate::addresses::cover;
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::name_of;
use crate::tunnels::told;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::plan::Sends;
use trevlin_model::{Family, IpRange, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/split-tunnel-policy",
    area: Area::Tunnels,
    title: "Split or full tunnel contrary to policy",
    severity: Severity::Medium,
    why: "Split or full tunnel is a policy decision. With a split tunnel, a client is connected to two networks at once; \
          with a full tunnel, the organisation carries and answers for all client traffic.",
    fix: "Change the pushed routes, or the estate file if the policy differs.",
    judged: "Judged where the estate file states a policy (`sends`, for all tunnels or for a device) and the configuration \
             pushes routes. Does not apply to protocols whose clients decide.",
    references: &["NIST SP 800-46 Rev. 2, 3.2.3", "RFC 7359, 3"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    told(estate, |estate, at, tunnel| match estate.devices[at].wanted_sends {
        Some(wanted) => judge(tunnel, wanted),
        None => Verdict::DoesNotApply,
    })
}

fn judge(tunnel: &Tunnel, wanted: Sends) -> Verdict {
    let sent = || tunnel.addresses.sent_through.iter().map(|(range, _)| *range);
    let full = [Family::V4, Family::V6].into_iter().any(|family| cover(sent(), IpRange::all(family)));
    let origin = tunnel.addresses.sent_through.first().map_or(tunnel.origin, |(_, origin)| *origin);
    let (severity, text, detail) = match (wanted, full) {
        (Sends::Everything, true) | (Sends::SomeNetworks, false) => return Verdict::pass(origin),
        (Sends::Everything, false) => {
            (CHECK.severity, "routes internal networks only", "all traffic is to use the tunnel")
        }
        (Sends::SomeNetworks, true) => (
            Severity::Low,
            "routes all traffic into the tunnel",
            "only internal networks are to use the tunnel",
        ),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, "the estate file states the policy"),
        title: format!("{} {text}", name_of(tunnel)).into(),
        detail: format!("According to the estate file, {detail}.").into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with};

    #[test]
    fn cases() {
        let all = "[tunnels]\nsends = \"everything\"\n";
        let some = "[tunnels]\nsends = \"some networks\"\n";
        let but_one = "[tunnels]\nsends = \"everything\"\n[device.d]\nsends = \"some networks\"\n";
        for (line, stated, wanted) in [
            ("push \"route 10.4.0.0 255.255.0.0\"", all, "fail medium d s.conf:3"),
            ("push \"redirect-gateway def1\"", all, "pass d"),
            ("push \"route 0.0.0.0 128.0.0.0\"\npush \"route 128.0.0.0 128.0.0.0\"", all, "pass d"),
            ("push \"redirect-gateway def1\"", some, "fail low d s.conf:3"),
            ("push \"redirect-gateway def1\"", but_one, "fail low d s.conf:3"),
            ("push \"redirect-gateway def1\"", "", "none d"),
            ("", all, "fail medium d s.conf:2"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{line}\n");
            assert_eq!(
                answers(&CHECK, &estate_with(&[("d/s.conf", &text)], stated)),
                [wanted],
                "{line} {stated}"
            );
        }
    }
}
