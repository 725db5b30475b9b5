//! A VPN server answers TLS handshakes of any source.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::client_rules::{ClientRule, client_rule};
use crate::support::name_of;
use crate::tunnels::{openvpn, stated_or_missing};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::Tunnel;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/no-control-channel-key",
    area: Area::Tunnels,
    title: "OpenVPN control channel without tls-auth or tls-crypt",
    severity: Severity::Low,
    why: "Without a control-channel key the server answers every packet with a TLS handshake. It can be found by scanning \
          and overloaded, and faults in the TLS library are exposed to any address.",
    fix: "Distribute one `tls-crypt` key to all ends, or an individual key to each client with `tls-crypt-v2`.",
    judged: "Fails for OpenVPN servers without `tls-auth`, `tls-crypt` or `tls-crypt-v2`. Undetermined where a part of the \
             configuration was not exported.",
    references: &["openvpn(8), --tls-crypt and --tls-crypt-v2"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    openvpn(estate, Tunnel::accepts_clients, judge)
}

fn judge(estate: &EstateMap, tunnel: &Tunnel) -> Verdict {
    let about = format!("whether {} uses a control-channel key", name_of(tunnel));
    match client_rule(tunnel, |policy| &policy.control_channel_key, &about) {
        ClientRule::Stated(true, origin) => return Verdict::pass(origin),
        ClientRule::Stated(false, origin) => return fail(tunnel, "It is switched off.".to_owned(), origin),
        ClientRule::Open(ask) => return ask,
        ClientRule::Native => {}
    }
    let keys = ["tls-auth", "tls-crypt", "tls-crypt-v2"];
    if let Some(verdict) = stated_or_missing(tunnel, &keys, "uses a control-channel key") {
        return verdict;
    }
    let detail = format!(
        "Neither `tls-auth` nor `tls-crypt` is set for the server at {}. Setting: `tls-crypt /etc/openvpn/tls-crypt.key`.",
        estate.place(tunnel.origin)
    );
    fail(tunnel, detail, tunnel.origin)
}

fn fail(tunnel: &Tunnel, detail: String, origin: Origin) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("certificates still control access"),
        title: format!("{} has no control-channel key", name_of(tunnel)).into(),
        detail: detail.into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("no key", "", &["fail low d t.conf:2"][..]),
            ("a key", "tls-crypt ta.key", &["pass d"]),
            ("inline", "<tls-crypt>\nKEY\n</tls-crypt>", &["pass d"]),
            ("in a comment", "#tls-auth ta.key 0", &["fail low d t.conf:2"]),
            ("in a part that is missing", "config other.conf", &["ask d"]),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(name, &[("d/t.conf", &text)], wanted)]);
        }
    }
}
