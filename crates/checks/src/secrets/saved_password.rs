//! A client keeps its password in a file.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::name_of;
use std::collections::BTreeSet;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Origin, Setting, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/saved-password",
    area: Area::Secrets,
    title: "Client profile with a stored password",
    severity: Severity::Medium,
    why: "A stored password is no second factor: it is next to the key or certificate, and both are stolen together. It also \
          reaches backups, tickets and exports.",
    fix: "Let users enter the password. For unattended devices use a certificate, an account limited to the one service, and \
          disk encryption.",
    judged: "Fails for each password that the device itself uses and that is stored in a configuration or a file it names: \
             for tunnels, dial-out and requests to other servers. Empty values and placeholders do not count.",
    references: &["openvpn(8), --auth-user-pass", "NIST SP 800-63B, 5.1.1.1"],
    needs: &[Need::SavedLogins],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut seen = BTreeSet::new();
        for tunnel in device.facts.running().filter(|one| one.accepts_clients()) {
            let rule = tunnel.rule(|policy| &policy.saved_passwords).and_then(Setting::stated);
            if let Some((permitted, origin)) = rule {
                let verdict = if *permitted { permits(tunnel, origin) } else { Verdict::pass(origin) };
                answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
            }
        }
        for tunnel in device.facts.with_profiles() {
            for (_, setting) in tunnel.settings.iter().filter(|(name, _)| name == "auth-user-pass") {
                if let Setting::Stated { value, origin } = setting
                    && !value.is_empty()
                    && estate.find(at, value, origin.export).is_none()
                {
                    let ask = format!(
                        "Please state whether `{value}` contains a password: {0} reads its login from it, and it is not among \
                         the exports.",
                        name_of(tunnel)
                    );
                    answers.push(Answer::new(
                        at,
                        Subject::of(SubjectKind::File).with(value),
                        Verdict::ask(ask, vec![*origin]).wanting(value),
                    ));
                }
            }
        }
        for held in device.facts.secrets.iter().filter(|held| held.kind == SecretKind::OwnPassword) {
            if held.secret.is_placeholder() || held.secret.is_empty() || !seen.insert(held.origin) {
                continue;
            }
            let file = estate.export(held.origin.export).file_name();
            let verdict = Verdict::Fail(Fail {
                rating: CHECK.rated("it is usable by anyone who reads the file"),
                title: format!("File {file} stores a password of the device").into(),
                detail: format!("The password of {} is readable in the file.", held.owner).into(),
                evidence: vec![held.origin],
            });
            answers.push(Answer::new(at, Subject::of(SubjectKind::Secret).with(&held.owner), verdict));
        }
    }
    answers
}

/// Clients may store the password of their users.
fn permits(tunnel: &Tunnel, origin: Origin) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("it is usable by anyone who uses or copies the client device"),
        title: format!("Clients of {} may store the password", name_of(tunnel)).into(),
        detail: "The client software is permitted to keep the password of its user.".into(),
        evidence: vec![origin, tunnel.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const CLIENT: &str = "client\ndev tun\nremote 192.0.2.9\n";
        for (lines, more, wanted) in [
            ("auth-user-pass yard.pass", Some("yard\nsesame\n"), &["fail medium d yard.pass:2"][..]),
            ("<auth-user-pass>\nyard\nsesame\n</auth-user-pass>", None, &["fail medium d c.conf:6"]),
            ("auth-user-pass", None, &[]),
            ("auth-user-pass gone.pass", None, &["ask d"]),
            ("#auth-user-pass yard.pass", Some("yard\nsesame\n"), &[]),
            ("auth-user-pass yard.pass", Some("yard\n\n"), &[]),
        ] {
            let text = format!("{CLIENT}{lines}\n");
            let mut files = vec![("d/c.conf", text.as_str())];
            files.extend(more.map(|more| ("d/yard.pass", more)));
            run(&CHECK, &[(lines, &files, wanted)]);
        }
    }

    #[test]
    fn of_an_appliance() {
        let sheet = |saved: &str| {
            format!(
                "sheet = \"trevlin-sheet/2\"\n[[tunnels]]\nname = \"vpn\"\nfamily = \"tls\"\nrole = \"server\"\n\
                 [tunnels.policy]\nsaved-passwords = \"{saved}\"\n"
            )
        };
        for (saved, wanted) in [("yes", "fail medium d s.toml:7 s.toml:2"), ("no", "pass d")] {
            run(&CHECK, &[(saved, &[("d/s.toml", &sheet(saved))], &[wanted])]);
        }
    }

    #[test]
    fn the_password_of_an_ike_client_is_no_list_of_users() {
        let secrets = ("d/etc/ipsec.secrets", "yard : EAP \"sesame\"\n");
        let dials = "conn c\n\tauto=add\n\tright=198.51.100.9\n\tleftauth=eap-mschapv2\n\teap_identity=yard\n\trightauth=pubkey\n";
        let asks =
            "conn c\n\tauto=add\n\tright=%any\n\trightsourceip=10.9.0.0/24\n\trightauth=eap-mschapv2\n";
        for (text, wanted) in [(dials, &["fail medium d ipsec.secrets:1"][..]), (asks, &[])] {
            run(&CHECK, &[(text, &[("d/etc/ipsec.conf", text), secrets], wanted)]);
        }
    }
}
