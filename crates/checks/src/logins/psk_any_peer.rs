//! A pre-shared key is valid for any peer.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::ike;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Device;
use trevlin_model::ipsec::{AuthRound, IkeProof};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/psk-any-peer",
    area: Area::Logins,
    title: "Pre-shared key valid for any peer",
    severity: Severity::High,
    why: "A group key is stored on every client and known to everyone who ever had one. Its holder can also impersonate the \
          gateway and collect passwords. It cannot be withdrawn from one client alone.",
    fix: "Use certificates, or EAP with individual passwords and a gateway certificate. Give every site its own key with \
          both identities named.",
    judged: "Fails where an entry has no identity or one that matches any peer (`%any`), and where three or more identities \
             share one entry. The latter is lower, and so is a key for any peer where every pre-shared-key connection names \
             the peer address. Passes for entries with two named ends.",
    references: &["ipsec.secrets(5)", "NIST SP 800-77 Rev. 1, 3.2", "RFC 7296, 2.15"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        answers.extend(ike::keys_not_exported(estate, at));
        for key in &device.facts.pre_shared_keys {
            let fail = |severity, why: &str, title: String| {
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(severity, why),
                    title: title.into(),
                    detail: format!("The entry applies to {}.", key.whom()).into(),
                    evidence: vec![key.origin],
                })
            };
            let unsaid = device.facts.described.filter(|_| !key.has_peers());
            let verdict = if let Some(described) = unsaid {
                let about = "for which peers the pre-shared key is valid (`identities` in `ike-keys`)";
                Verdict::ask(described.request(about), vec![key.origin])
            } else if key.is_for_anybody() && !anybody_calls(device) {
                fail(
                    Severity::Low,
                    "every connection with a pre-shared key names the peer address",
                    "One pre-shared key is valid for any peer, although no connection accepts any peer"
                        .into(),
                )
            } else if key.is_for_anybody() {
                fail(
                    CHECK.severity,
                    "any address may connect with it",
                    "One pre-shared key is valid for any peer".into(),
                )
            } else if key.identities.len() > 2 {
                let title = format!("{} identities share one pre-shared key", key.identities.len());
                fail(Severity::Medium, "the peers that share it are named", title)
            } else {
                Verdict::pass(key.origin)
            };
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::PreSharedKey).with(key.identities.join(" ")),
                verdict,
            ));
        }
    }
    answers
}

/// Whether a connection of the device takes a shared key from any address, or connections were not exported, so that one may.
fn anybody_calls(device: &Device) -> bool {
    let mut connections = device.facts.running().filter_map(|one| one.ipsec.as_ref()).peekable();
    let by_key = |round: &AuthRound| {
        round.proof.possible().any(|proof| matches!(proof, IkeProof::SharedKey | IkeProof::Anything))
    };
    connections.peek().is_none()
        || connections
            .any(|one| one.negotiates() && !one.names_the_other_end() && one.remote.iter().any(by_key))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (line, wanted) in [
            (": PSK \"x\"", &["fail high d ipsec.secrets:1"][..]),
            ("192.0.2.1 %any : PSK \"x\"", &["fail high d ipsec.secrets:1"]),
            ("192.0.2.1 0.0.0.0 : PSK \"x\"", &["fail high d ipsec.secrets:1"]),
            ("@a @b @c : PSK \"x\"", &["fail medium d ipsec.secrets:1"]),
            ("192.0.2.1 192.0.2.9 : PSK \"x\"", &["pass d"]),
            (": RSA key.pem \"x\"", &[]),
            ("# : PSK \"x\"\nann : EAP \"y\"", &[]),
        ] {
            run(&CHECK, &[(line, &[("d/ipsec.secrets", line)], wanted)]);
        }
    }

    #[test]
    fn by_the_connections_that_ask_for_it() {
        let keys = ("d/ipsec.secrets", ": PSK \"x\"\n");
        let conn = |lines: &str| format!("conn c\n\tauto=add\n\tauthby=secret\n\t{lines}\n");
        for (name, lines, wanted) in [
            ("a certain other end", "right=198.51.100.9", "fail low d ipsec.secrets:1"),
            ("any address", "right=%any\n\trightid=@a.example", "fail high d ipsec.secrets:1"),
            ("not loaded", "right=%any\n\tauto=ignore", "fail high d ipsec.secrets:1"),
            ("by certificate", "right=%any\n\tauthby=pubkey", "fail low d ipsec.secrets:1"),
        ] {
            run(&CHECK, &[(name, &[keys, ("d/ipsec.conf", &conn(lines))], &[wanted])]);
        }
    }

    #[test]
    fn a_file_that_is_read_in_and_missing_is_a_question() {
        ike::asks_for_missing_files(&CHECK);
    }
}
