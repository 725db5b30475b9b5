//! A split tunnel pushes an internal DNS server and no domain.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::client_rules::{ClientRule, client_rule};
use crate::support::name_of;
use crate::tunnels::with_options;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::plan::Placed;
use trevlin_model::{IpRange, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/no-dns-domain",
    area: Area::Tunnels,
    title: "Internal DNS server pushed without a domain",
    severity: Severity::Info,
    why: "In a split tunnel the client has two DNS servers, and decides by the domain which of them to ask. Without one, \
          internal names go to the DNS server of the local network, or all names of the client go through the tunnel.",
    fix: "Push the internal domain with the DNS server (`dhcp-option DOMAIN`, `split-dns`, or the DNS suffix of the \
          appliance).",
    judged: "Judged for servers that push a private DNS server and some networks. Fails where no domain is pushed. Passes for \
             full tunnels; does not apply where a part of the configuration was not exported or a RADIUS server may set it.",
    references: &["RFC 8598, 1", "openvpn(8), --dhcp-option"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, tunnel, _) in with_options(estate) {
        if let Some(verdict) = judge(tunnel) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
        }
    }
    answers
}

fn judge(tunnel: &Tunnel) -> Option<Verdict> {
    let plan = &tunnel.addresses;
    let internal = |(server, _): &&Placed| {
        matches!(trevlin_estate::special::space_of(*server), trevlin_estate::special::Space::Private)
    };
    let (_, origin) = plan.name_servers.iter().find(internal)?;
    let everything = |(range, _): &Placed| *range == IpRange::all(range.family());
    if plan.sent_through.is_empty() || plan.sent_through.iter().any(everything) || !plan.domains.is_empty() {
        let lines = plan.domains.iter().map(|(_, line)| *line);
        return Some(Verdict::pass_by(lines.chain(plan.sent_through.iter().map(|(_, line)| *line)), *origin));
    }
    let by_radius =
        tunnel.proof.passwords.iter().any(|check| check.source == trevlin_model::PasswordSource::Radius);
    if tunnel.missing_file().is_some() || by_radius {
        return Some(Verdict::DoesNotApply);
    }
    let about =
        format!("whether {} gives its clients a DNS domain (`domains` in `addresses`)", name_of(tunnel));
    if let ClientRule::Open(ask) = client_rule(tunnel, |policy| &policy.domains, &about) {
        return Some(ask);
    }
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated("names are concerned, not content"),
        title: format!("{} pushes a DNS server without a domain", name_of(tunnel)).into(),
        detail: "Networks and a DNS server are pushed, and no domain.".into(),
        evidence: vec![*origin],
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const SPLIT: &str = "push \"route 10.4.0.0 255.255.255.0\"";
        const DNS: &str = "push \"dhcp-option DNS 10.4.0.53\"";
        for (lines, wanted) in [
            (format!("{SPLIT}\n{DNS}"), &["fail info d s.conf:4"][..]),
            (format!("{SPLIT}\n{DNS}\npush \"dhcp-option DOMAIN desk.example\""), &["pass d"]),
            (format!("{SPLIT}\n{DNS}\n#push \"dhcp-option DOMAIN desk.example\""), &["fail info d s.conf:4"]),
            (format!("push \"redirect-gateway def1\"\n{DNS}"), &["pass d"]),
            (SPLIT.to_owned(), &[]),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(&lines, &[("d/s.conf", &text)], wanted)]);
        }
    }
}
