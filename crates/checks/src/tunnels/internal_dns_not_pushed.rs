//! VPN clients resolve internal names without the tunnel.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::client_rules::{ClientRule, client_rule};
use crate::support::name_of;
use crate::tunnels::told;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Family, IpRange, Origin, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/internal-dns-not-pushed",
    area: Area::Tunnels,
    title: "Internal DNS server not pushed to clients",
    severity: Severity::Info,
    why: "Clients without an internal DNS server query the local one for internal names too. Its operator learns internal \
          host names and can answer with false addresses. In a full tunnel, the queries bypass the tunnel.",
    fix: "Push an internal DNS server: `push \"dhcp-option DNS …\"` (OpenVPN), `dns = …` (ocserv, swanctl.conf pools), \
          `rightdns` (ipsec.conf).",
    judged: "Fails for servers that push networks or a default route and no DNS server; one level higher for a full tunnel. \
             Does not apply where a RADIUS server or a part that was not exported may set it.",
    references: &["NIST SP 800-46 Rev. 2, 3.2", "RFC 8598, 1"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    told(estate, |_, _, tunnel| judge(tunnel))
}

fn judge(tunnel: &Tunnel) -> Verdict {
    let plan = &tunnel.addresses;
    let Some((_, origin)) = plan.sent_through.first() else { return Verdict::DoesNotApply };
    let by_radius =
        tunnel.proof.passwords.iter().any(|check| check.source == trevlin_model::PasswordSource::Radius);
    if !plan.name_servers.is_empty() {
        return Verdict::pass_by(plan.name_servers.iter().map(|(_, line)| *line), *origin);
    }
    if tunnel.missing_file().is_some() || by_radius {
        return Verdict::DoesNotApply;
    }
    let about =
        format!("whether {} gives its clients a DNS server (`name-servers` in `addresses`)", name_of(tunnel));
    match client_rule(tunnel, |policy| &policy.name_servers, &about) {
        ClientRule::Stated(true, line) => return Verdict::pass(line),
        ClientRule::Stated(false, _) | ClientRule::Native => {}
        ClientRule::Open(ask) => return ask,
    }
    let everything = |range: &IpRange| *range == IpRange::all(Family::V4);
    let full: Option<Origin> =
        plan.sent_through.iter().find(|(range, _)| everything(range)).map(|(_, at)| *at);
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            if full.is_some() { Severity::Low } else { CHECK.severity },
            if full.is_some() {
                "all traffic uses the tunnel except DNS queries"
            } else {
                "queries reveal names, not content"
            },
        ),
        title: format!("No DNS server is pushed to clients of {}", name_of(tunnel)).into(),
        detail: "The server pushes routes but no DNS server.".into(),
        evidence: vec![full.unwrap_or(*origin)],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("push \"route 10.4.0.0 255.255.0.0\"", "fail info d s.conf:3"),
            ("push \"redirect-gateway def1\"", "fail low d s.conf:3"),
            ("push \"route 10.4.0.0 255.255.0.0\"\npush \"dhcp-option DNS 10.4.0.53\"", "pass d"),
            (
                "push \"route 10.4.0.0 255.255.0.0\"\n;push \"dhcp-option DNS 10.4.0.53\"",
                "fail info d s.conf:3",
            ),
            ("push \"route 10.4.0.0 255.255.0.0\"\nconfig more.conf", "none d"),
            ("", "none d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(lines, &[("d/s.conf", &text)], &[wanted])]);
        }
    }
}
