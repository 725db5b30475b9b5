//! All dial-in users have one identity and one pre-shared key.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use trevlin_analysis::l2tp::carries_l2tp;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::{AuthRound, IkeProof};
use trevlin_model::{Tunnel, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/shared-ike-identity",
    area: Area::Logins,
    title: "One IKE identity for all users",
    severity: Severity::Medium,
    why: "A group identity with its pre-shared key is in the configuration of every client. The gateway does not distinguish its holders, and anyone who ever had it can pose as the gateway and collect the passwords that follow.",
    fix: "Give every user or device an identity of its own: certificates, or EAP behind a certificate of the gateway.",
    judged: "Fails for IPsec servers with a pool of client addresses where the other end is any address, proves itself by a \
             pre-shared key and has one identity that is not a pattern; one level higher where no user login follows. \
             Connections to a single peer and those that only carry L2TP are not judged.",
    references: &["NIST SP 800-77 Rev. 1, 3.2", "RFC 7296, 2.15"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in
            device.facts.tunnels.iter().filter(|one| one.role == TunnelRole::Server && one.accepts_clients())
        {
            answers.extend(judge(tunnel).map(|verdict| Answer::new(at, Subject::tunnel(tunnel), verdict)));
        }
    }
    answers
}

fn judge(tunnel: &Tunnel) -> Option<Verdict> {
    let ipsec = tunnel.ipsec.as_deref()?;
    if !ipsec.negotiates() || carries_l2tp(tunnel) || ipsec.names_the_other_end() || !serves_several(tunnel) {
        return None;
    }
    let by_key = |round: &&AuthRound| round.proof.value() == Some(&IkeProof::SharedKey);
    let round = ipsec.remote.iter().find(by_key)?;
    let Some((identity, origin)) = round.identity.as_ref().filter(|_| !round.admits_several()) else {
        return Some(Verdict::pass_by(round.identity.iter().map(|(_, origin)| *origin), tunnel.origin));
    };
    let login = ipsec.remote.iter().any(AuthRound::is_login) || !tunnel.proof.passwords.is_empty();
    let (severity, why) = if login {
        (CHECK.severity, "a user login follows")
    } else {
        (Severity::High, "no user login follows: the key alone grants access")
    };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Users of {} share the IKE identity `{identity}`", name_of(tunnel)).into(),
        detail: "Every client proves itself with this identity and one pre-shared key.".into(),
        evidence: vec![*origin, tunnel.origin],
    }))
}

/// Whether it has addresses for more than one client.
fn serves_several(tunnel: &Tunnel) -> bool {
    let size: u128 = tunnel.addresses.pools.iter().map(trevlin_model::Pool::size).sum();
    size > 1
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let conn = |lines: &str| {
            format!(
                "conn crew\n\tauto=add\n\tleft=192.0.2.9\n\tright=%any\n\trightsourceip=10.9.0.0/24\n{lines}"
            )
        };
        for (lines, wanted) in [
            ("\tauthby=secret\n\trightid=@crew\n", &["fail high d ipsec.conf:7 ipsec.conf:1"][..]),
            (
                "\tkeyexchange=ikev1\n\tleftauth=psk\n\trightauth=psk\n\trightauth2=xauth\n\trightid=@crew\n",
                &["fail medium d ipsec.conf:10 ipsec.conf:1"],
            ),
            ("\tauthby=secret\n", &["pass d"]),
            ("\tauthby=secret\n\t#rightid=@crew\n", &["pass d"]),
            ("\tauthby=pubkey\n\trightid=@crew\n", &[]),
        ] {
            let text = conn(lines);
            run(&CHECK, &[(lines, &[("d/etc/ipsec.conf", &text)], wanted)]);
        }
        let peer = "conn yard\n\tauto=add\n\tleft=192.0.2.9\n\tright=198.51.100.7\n\tauthby=secret\n\trightid=@yard\n";
        run(&CHECK, &[("a peer", &[("d/etc/ipsec.conf", peer)], &[])]);
    }
}
