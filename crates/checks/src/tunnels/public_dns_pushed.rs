//! A public DNS server is pushed to VPN clients.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::with_options;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::space::own_space;
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_foreign;
use trevlin_model::plan::Placed;
use trevlin_model::{IpRange, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/public-dns-pushed",
    area: Area::Tunnels,
    title: "Public DNS server pushed to clients",
    severity: Severity::Low,
    why: "Clients send every query to that server, including internal names: its operator learns internal host names and \
          usage, and can answer with false addresses. Internal names do not resolve.",
    fix: "Push an internal DNS server, and let that server forward external queries.",
    judged: "Fails where a DNS server that is pushed to clients has a public address outside the networks of the \
             organisation (`networks` in the estate file, and internal networks of devices).",
    references: &["NIST SP 800-81 Rev. 2, 2", "NIST SP 800-46 Rev. 2, 3.2", "RFC 8598"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let own = own_space(estate);
    let mut answers = Vec::new();
    for (at, tunnel, options) in with_options(estate) {
        let by_options = options.into_iter().flat_map(|options| &options.name_servers);
        let told: Vec<&Placed> = tunnel.addresses.name_servers.iter().chain(by_options).collect();
        if !told.is_empty() {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(tunnel, &told, &own)));
        }
    }
    answers
}

fn judge(tunnel: &Tunnel, told: &[&Placed], own: &[IpRange]) -> Verdict {
    let foreign: Vec<_> = told.iter().filter(|(server, _)| is_foreign(*server, own)).collect();
    if foreign.is_empty() {
        return Verdict::pass_by(told.iter().map(|(_, origin)| *origin), tunnel.origin);
    }
    let names: Vec<_> = foreign.iter().map(|(server, _)| server.short()).collect();
    let also = if foreign.len() < told.len() { ", beside an internal one" } else { "" };
    Verdict::Fail(Fail {
        rating: CHECK.rated("queries reveal names and habits, not content"),
        title: format!("Public DNS server is pushed to clients of {}", name_of(tunnel)).into(),
        detail: format!("The server pushes {}{also}.", names.join(", ")).into(),
        evidence: foreign.iter().map(|(_, origin)| *origin).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with, run};

    #[test]
    fn cases() {
        let of = |line: &str| format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{line}\n");
        for (line, wanted) in [
            ("push \"dhcp-option DNS 198.51.100.53\"", &["fail low d s.conf:3"][..]),
            ("push \"dhcp-option DNS 10.4.0.53\"", &["pass d"]),
            ("#push \"dhcp-option DNS 198.51.100.53\"", &[]),
        ] {
            run(&CHECK, &[(line, &[("d/s.conf", &of(line))], wanted)]);
        }
        let own = estate_with(
            &[("d/s.conf", &of("push \"dhcp-option DNS 198.51.100.53\""))],
            "networks = [\"198.51.100.0/24\"]\n",
        );
        assert_eq!(answers(&CHECK, &own), ["pass d"]);
    }
}
