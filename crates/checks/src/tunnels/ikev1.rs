//! A connection takes the first version of IKE.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::name_of;
use crate::tunnels::ipsec;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::{IkeVersions, IpsecConnection};
use trevlin_model::{Setting, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/ikev1",
    area: Area::Tunnels,
    title: "IKEv1 accepted",
    severity: Severity::Medium,
    why: "IKEv1 is deprecated (RFC 9395): it is no longer maintained, newer algorithms are not defined for it, and its \
          pre-shared key exchange permits offline attacks. While both versions are accepted, an attacker chooses IKEv1.",
    fix: "Accept IKEv2 only for every connection: `version = 2` (swanctl.conf), `keyexchange=ikev2` (ipsec.conf of \
          strongSwan), `ikev2=insist` (Libreswan). Replace peers that do not support it.",
    judged: "Fails for connections with IKEv1 only; one level lower for those that accept both, the default of strongSwan. \
             Undetermined for Libreswan without a setting, since versions before 4 then use IKEv1. Connections that are not \
             loaded do not count.",
    references: &["RFC 9395, 3", "RFC 2409, 5.4", "swanctl.conf(5), version", "ipsec.conf(5), keyexchange"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    ipsec(estate, |_, _, tunnel, connection| judge(tunnel, connection))
}

fn judge(tunnel: &Tunnel, connection: &IpsecConnection) -> Verdict {
    if !connection.negotiates() {
        return Verdict::DoesNotApply;
    }
    let advice = connection.daemon.advice("version = 2` or `keyexchange=ikev2", "ikev2=insist");
    let (severity, why, title, detail, origin) = match &connection.versions {
        Setting::Stated { value: IkeVersions::Second, origin } => return Verdict::pass(*origin),
        Setting::Stated { value: IkeVersions::First, origin } => (
            CHECK.severity,
            "only IKEv1 is permitted",
            format!("{} uses IKEv1", name_of(tunnel)),
            "Version 1 is set.",
            *origin,
        ),
        Setting::Unknown { why } => {
            let question = format!("Please state which IKE versions {} accepts ({why}).", name_of(tunnel));
            return Verdict::ask(question, vec![tunnel.origin]);
        }
        both if both.possible().all(|one| *one == IkeVersions::Both) => (
            Severity::Low,
            "peers with IKEv2 are served with IKEv2",
            format!("{} accepts IKEv1 beside IKEv2", name_of(tunnel)),
            "No version is set, or both are; the daemon then accepts both.",
            both.origin().unwrap_or(tunnel.origin),
        ),
        Setting::Default(rows) => {
            let told: Vec<_> = rows
                .iter()
                .map(|row| {
                    format!(
                        "{} {}",
                        row.versions,
                        if row.value == IkeVersions::First { "IKEv1" } else { "IKEv2" }
                    )
                })
                .collect();
            let question = format!(
                "Please state the version of the program: {} sets no IKE version, and {} uses {}.",
                name_of(tunnel),
                connection.daemon.name(),
                told.join(", ")
            );
            return Verdict::ask(question, vec![tunnel.origin]);
        }
        Setting::Stated { origin, .. } => return Verdict::pass(*origin),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: title.into(),
        detail: format!("{detail}{advice}").into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, text, wanted) in [
            ("nothing stated", "conn c\n\tauto=add\n", &["fail low d ipsec.conf:1"][..]),
            ("version 2", "conn c\n\tauto=add\n\tkeyexchange=ikev2\n", &["pass d"]),
            ("version 1", "conn c\n\tauto=add\n\tkeyexchange=ikev1\n", &["fail medium d ipsec.conf:3"]),
            ("Libreswan, nothing stated", "conn c\n\tauto=add\n\tphase2alg=aes256\n", &["ask d"]),
            ("Libreswan, version 2", "conn c\n\tauto=add\n\tikev2=insist\n", &["pass d"]),
            ("Libreswan, version 1", "conn c\n\tauto=add\n\tikev2=no\n", &["fail medium d ipsec.conf:3"]),
            ("packets that pass by", "conn c\n\tauto=route\n\ttype=passthrough\n", &["none d"]),
            ("inherited", "conn %default\n\tkeyexchange=ikev2\nconn c\n\tauto=add\n", &["pass d"]),
            (
                "replaced",
                "conn %default\n\tkeyexchange=ikev2\nconn c\n\tauto=add\n\tkeyexchange=ikev1\n",
                &["fail medium d ipsec.conf:5"],
            ),
            ("switched off", "conn c\n\tauto=ignore\n\tkeyexchange=ikev1\n", &[]),
        ] {
            run(&CHECK, &[(name, &[("d/ipsec.conf", text)], wanted)]);
        }
        let swanctl = "connections {\n c {\n  version = 1\n }\n e {\n  version = 2\n  pools = p\n }\n}\n";
        run(
            &CHECK,
            &[("swanctl", &[("d/swanctl.conf", swanctl)], &["fail medium d swanctl.conf:3", "pass d"])],
        );
    }
}
