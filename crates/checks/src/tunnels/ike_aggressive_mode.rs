//! A connection uses the aggressive mode of the first version of IKE.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::name_of;
use crate::tunnels::ipsec;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Tunnel;
use trevlin_model::ipsec::{IkeDaemon, IkeVersions, IpsecConnection};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/ike-aggressive-mode",
    area: Area::Tunnels,
    title: "IKEv1 aggressive mode",
    severity: Severity::High,
    why: "In aggressive mode the responder sends a hash that is derived from the pre-shared key, unencrypted. One request is \
          enough for an unlimited offline attack on the key.",
    fix: "Use IKEv2. Until then, use main mode, and certificates instead of the key.",
    judged: "Fails where aggressive mode is enabled and IKEv1 may be used. High with a pre-shared key, lower where the \
             strongSwan settings are not among the exports or prevent it, and low with certificates, whose identities are \
             then sent in clear text. Does not apply to IKEv2, which has no such mode.",
    references: &["RFC 2409, 5.4", "RFC 9395, 3", "NIST SP 800-77 Rev. 1", "strongswan.conf(5), charon"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    ipsec(estate, |_, _, tunnel, connection| judge(tunnel, connection))
}

fn judge(tunnel: &Tunnel, connection: &IpsecConnection) -> Verdict {
    let Some(origin) = connection.aggressive.filter(|_| connection.negotiates()) else {
        return if connection.negotiates() { Verdict::pass(tunnel.origin) } else { Verdict::DoesNotApply };
    };
    if connection.versions.value() == Some(&IkeVersions::Second) {
        return Verdict::DoesNotApply;
    }
    // charon refuses to answer this way with a shared key unless its own settings let it (strongswan.conf(5)).
    let allowed = tunnel.stated("aggressive-with-shared-key");
    let mut evidence = vec![origin];
    let unsaid = connection.remote.is_empty() && connection.local.is_empty();
    let (severity, why) = match (connection.shared_key(), connection.daemon, allowed) {
        (None, IkeDaemon::Appliance, _) if unsaid => (
            Severity::Medium,
            "with a pre-shared key one response is enough for an offline attack, and it is not stated whether one is used",
        ),
        (None, ..) => {
            (Severity::Low, "certificates cannot be guessed, although identities are sent in clear text")
        }
        (Some(_), IkeDaemon::Libreswan | IkeDaemon::Appliance, _) => {
            (CHECK.severity, "one response is enough for an offline attack on the pre-shared key")
        }
        (Some(_), IkeDaemon::StrongSwan, Some(("yes" | "true" | "1", at))) => {
            evidence.push(at);
            (
                CHECK.severity,
                "the daemon is set to respond in this mode, and one response is enough for an offline attack on the \
                 pre-shared key",
            )
        }
        (Some(_), IkeDaemon::StrongSwan, Some((_, at))) => {
            evidence.push(at);
            (Severity::Low, "the settings of the daemon prevent responses in this mode, so it only initiates")
        }
        (Some(_), IkeDaemon::StrongSwan, None) => (
            Severity::Medium,
            "strongswan.conf, which is not among the exports, decides whether the daemon responds in this mode",
        ),
    };
    evidence.extend(connection.shared_key().and_then(|round| round.proof.origin()));
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{} uses IKEv1 aggressive mode", name_of(tunnel)).into(),
        detail: format!(
            "Aggressive mode is enabled.{}",
            connection.daemon.advice("aggressive = no", "aggressive=no")
        )
        .into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let of = |more: &str| format!("connections {{\n c {{\n  aggressive = yes\n  {more}\n }}\n}}\n");
        let (key, certificate) = (of("remote { auth = psk }"), of("remote { auth = pubkey }"));
        let (second, off) = (of("version = 2"), of("aggressive = no"));
        let yes = "charon {\n i_dont_care_about_security_and_use_aggressive_mode_psk = yes\n}\n";
        let at = "d/etc/swanctl/swanctl.conf";
        let own = "d/etc/strongswan.conf";
        run(
            &CHECK,
            &[
                ("with a key", &[(at, &key)], &["fail medium d swanctl.conf:3 swanctl.conf:4"]),
                (
                    "and answers so",
                    &[(at, &key), (own, yes)],
                    &["fail high d swanctl.conf:3 strongswan.conf:2 swanctl.conf:4"],
                ),
                (
                    "and refuses to",
                    &[(at, &key), (own, "charon {\n threads = 4\n}\n")],
                    &["fail low d swanctl.conf:3 strongswan.conf:1 swanctl.conf:4"],
                ),
                ("with certificates", &[(at, &certificate)], &["fail low d swanctl.conf:3"]),
                ("version 2", &[(at, &second)], &["none d"]),
                ("replaced", &[(at, &off)], &["pass d"]),
                (
                    "Libreswan",
                    &[(
                        "d/ipsec.conf",
                        "conn c\n\tauto=add\n\tikev2=no\n\taggressive=yes\n\tauthby=secret\n",
                    )],
                    &["fail high d ipsec.conf:4 ipsec.conf:5"],
                ),
                (
                    "main mode",
                    &[("d/ipsec.conf", "conn c\n\tauto=add\n\tikev2=no\n\tauthby=secret\n")],
                    &["pass d"],
                ),
            ],
        );
    }
}
