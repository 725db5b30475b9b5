//! The key exchange of a tunnel is not quantum-resistant.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use trevlin_analysis::crypto::algorithms::{Status, lookup};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::IpsecConnection;
use trevlin_model::offer::OfferPart;
use trevlin_model::{Origin, Reference, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/no-quantum-resistance",
    area: Area::Ciphers,
    title: "Key exchange not quantum-resistant",
    severity: Severity::Info,
    why: "Traffic recorded today can be decrypted once a quantum computer breaks the key exchange. That matters for data \
          that must stay confidential for ten years or more.",
    fix: "Add a quantum-resistant key exchange (`ke1_mlkem768` beside the classical one) or an additional pre-shared key: \
          `ppk_id` for IKE, `PresharedKey` for each WireGuard peer.",
    judged: "Judged for IPsec and WireGuard. Fails where no proposal has a quantum-resistant exchange and no additional \
             pre-shared key is used; one level higher where the estate file requires it (`[tunnels] quantum_resistant`).",
    references: &["FIPS 203", "RFC 9370", "RFC 8784", "RFC 9242", "wg(8), PresharedKey"],
    needs: &[Need::Services, Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running() {
            let verdict = match &tunnel.ipsec {
                Some(connection) if connection.negotiates() => of_connection(estate, tunnel, connection),
                None if tunnel.family == TunnelFamily::WireGuard && !tunnel.peers.is_empty() => {
                    of_peers(estate, tunnel)
                }
                _ => continue,
            };
            answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
        }
    }
    answers
}

fn fail(estate: &EstateMap, tunnel: &Tunnel, detail: String, evidence: Vec<Origin>) -> Verdict {
    let wanted = estate.wanted.quantum_resistant;
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            if wanted { Severity::Medium } else { CHECK.severity },
            if wanted {
                "the estate file requires quantum-resistant keys"
            } else {
                "no attack is practical today"
            },
        ),
        title: format!("{} has no quantum-resistant key exchange", name_of(tunnel)).into(),
        detail: detail.into(),
        evidence,
    })
}

fn of_connection(estate: &EstateMap, tunnel: &Tunnel, connection: &IpsecConnection) -> Verdict {
    let control = tunnel.offers.iter().filter(|offer| offer.part == OfferPart::Control);
    let holds = control.clone().flat_map(|offer| offer.algorithms.iter().map(move |one| (offer, one))).any(
        |(offer, one)| {
            lookup(offer.spelling, one.role, &one.name)
                .is_some_and(|known| known.status == Status::QuantumResistant)
        },
    );
    if holds || connection.quantum_key.is_some() {
        return Verdict::pass_by(control.map(|offer| offer.origin), tunnel.origin);
    }
    // The algorithms are requested once, by the check of encryption.
    if control.clone().all(|offer| offer.algorithms.is_empty())
        && Reference::left_open(&tunnel.missing).is_some()
    {
        return Verdict::DoesNotApply;
    }
    let origin = control.into_iter().next().map_or(tunnel.origin, |offer| offer.origin);
    let detail =
        "No proposal of the connection contains such a key exchange, and no additional pre-shared key is used.".to_owned();
    fail(estate, tunnel, detail, vec![origin])
}

fn of_peers(estate: &EstateMap, tunnel: &Tunnel) -> Verdict {
    let without: Vec<_> = tunnel.peers.iter().filter(|peer| peer.shared_key.is_none()).collect();
    if without.is_empty() {
        return Verdict::pass_by(tunnel.peers.iter().map(|peer| peer.origin), tunnel.origin);
    }
    let shown: Vec<_> = without.iter().take(4).map(|peer| format!("`{}`", peer.who)).collect();
    let more = without.len() - shown.len();
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    let detail =
        format!("Peers without a pre-shared key: {}{more}. Setting: `PresharedKey = …`.", shown.join(", "));
    fail(estate, tunnel, detail, without.iter().take(4).map(|peer| peer.origin).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with, run};

    #[test]
    fn cases() {
        for (name, proposals, wanted) in [
            ("none", "proposals = aes256gcm16-prfsha384-ecp384", "fail info d swanctl.conf:3"),
            ("one besides", "proposals = aes256gcm16-prfsha384-ecp384-ke1_mlkem768", "pass d"),
            ("a key besides", "ppk_id = yard\n  proposals = aes256gcm16-prfsha384-ecp384", "pass d"),
            (
                "in a comment",
                "proposals = aes256-sha256-ecp384 # -ke1_mlkem768",
                "fail info d swanctl.conf:3",
            ),
        ] {
            let text = format!("connections {{\n c {{\n  {proposals}\n }}\n}}\n");
            run(&CHECK, &[(name, &[("d/swanctl.conf", &text)], &[wanted])]);
        }
        let peers = "[Interface]\nPrivateKey = k\nAddress = 10.9.0.1/24\n[Peer]\nPublicKey = a\nPresharedKey = p\nAllowedIPs = 10.9.0.2/32\n\
                     [Peer]\nPublicKey = b\nAllowedIPs = 10.9.0.3/32\n";
        let files = [("d/wg0.conf", peers)];
        run(&CHECK, &[("peers", &files, &["fail info d wg0.conf:8"])]);
        let asked = estate_with(&files, "[tunnels]\nquantum_resistant = true\n");
        assert_eq!(answers(&CHECK, &asked), ["fail medium d wg0.conf:8"]);
    }
}
