//! The private key of a VPN client is kept on the server.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Device, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/client-key-on-server",
    area: Area::Secrets,
    title: "Private keys of VPN clients kept on the server",
    severity: Severity::Medium,
    why: "A key that only its owner has proves who connects. A copy on the server lets every administrator, every backup and \
          every intruder connect as that client, and the log shows no difference.",
    fix: "Have each client generate its own key and send the public key only. Replace keys that were kept, and delete the \
          files from the server and its backups.",
    judged: "Fails for each private key of WireGuard among the exports of a device whose public key is that of a peer of the \
             same device. Passes for WireGuard tunnels without such a file. Keys of certificates are not judged here.",
    references: &["wg(8), genkey", "NIST SP 800-57 Part 1 Rev. 5, 6.2.2"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let owned = own_keys(device);
        for tunnel in device.facts.tunnels.iter().filter(|tunnel| !tunnel.peers.is_empty()) {
            let mut kept = false;
            for peer in tunnel.peers.iter().filter(|peer| peer.endpoint.is_none()) {
                let Some(key) = peer.public_key.as_deref().and_then(|key| owned.get(key)) else { continue };
                kept = true;
                let subject = Subject::of(SubjectKind::PrivateKeys).with(&tunnel.name).with(&peer.who);
                answers.push(Answer::new(
                    at,
                    subject,
                    Verdict::Fail(Fail {
                        rating: CHECK.rated("any reader of the file can connect as the client"),
                        title: format!(
                            "Private key of the client {} of {} is kept on the server",
                            peer.who, tunnel.name
                        )
                        .into(),
                        detail: format!(
                            "{} contains the private key that belongs to the public key of this peer.",
                            estate.export(key.origin.export).file_name()
                        )
                        .into(),
                        evidence: vec![key.origin, peer.origin],
                    }),
                ));
            }
            if !kept {
                answers.push(Answer::new(
                    at,
                    Subject::tunnel(tunnel),
                    Verdict::pass_by(tunnel.peers.iter().map(|peer| peer.origin), tunnel.origin),
                ));
            }
        }
    }
    answers
}

/// Private keys among the exports, by the public keys that belong to them.
fn own_keys(device: &Device) -> BTreeMap<String, &trevlin_model::SecretRecord> {
    let wireguard = |tunnel: &Tunnel| !tunnel.peers.is_empty();
    if !device.facts.tunnels.iter().any(wireguard) {
        return BTreeMap::new();
    }
    device.facts.wireguard_keys().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    // Keys of RFC 7748, 6.1.
    const SERVER: (&str, &str) = (
        "d/etc/wireguard/wg0.conf",
        "[Interface]\nAddress = 10.9.0.1/24\nListenPort = 51820\nPrivateKey = XasIfmJKikt54X+Lg4AO5m87sSkmGLb9HC+LJ/+I4Os=\n\n\
         # night desk\n[Peer]\nPublicKey = hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo=\nAllowedIPs = 10.9.0.7/32\n",
    );
    const CLIENT: &str = "[Interface]\nPrivateKey = dwdtCnMYpX08FsFyUbJmRd9ML4frwJkqsXf7pR25LCo=\nAddress = 10.9.0.7/32\n\n\
                          [Peer]\nPublicKey = 3p7bfXt9wbTTW2HC7OQ1Nz+DQ8hbeGdNrfx+FG+IK08=\nEndpoint = 192.0.2.9:51820\n\
                          AllowedIPs = 0.0.0.0/0\n";

    #[test]
    fn cases() {
        let other = CLIENT.replace(
            "dwdtCnMYpX08FsFyUbJmRd9ML4frwJkqsXf7pR25LCo=",
            "YWFhYWFhYWFhYWFhYWFhYWFhYWFhYWFhYWFhYWFhYWE=",
        );
        let disabled = CLIENT.replace("PrivateKey", "#PrivateKey");
        run(
            &CHECK,
            &[
                (
                    "kept beside the server",
                    &[SERVER, ("d/root/clients/night-desk.conf", CLIENT)],
                    &["fail medium d night-desk.conf:2 wg0.conf:7"],
                ),
                (
                    "of another device",
                    &[SERVER, ("e/etc/wireguard/desk.conf", CLIENT)],
                    &["pass d", "pass e"],
                ),
                ("another's key", &[SERVER, ("d/root/clients/x.conf", &other)], &["pass d"]),
                ("in a comment", &[SERVER, ("d/root/clients/x.conf", &disabled)], &["pass d"]),
                ("no client files", &[SERVER], &["pass d"]),
            ],
        );
    }
}
