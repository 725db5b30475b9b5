//! A key of the SSH is weak.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::Device;
use trevlin_model::certificate::KeyAlgorithm;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::ssh_key::{SshKey, SshKeyUse};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/weak-ssh-key",
    area: Area::Logins,
    title: "Weak SSH key type or size",
    severity: Severity::High,
    why: "The public key is visible to every server it is offered to. The private key can be computed from a short one and \
          then opens every account that lists it. Current servers reject such keys.",
    fix: "Have the owner create a new key (`ssh-keygen -t ed25519`), and remove the old line from every list.",
    judged: "Fails for DSA, and for keys below the security strength of the baseline (112 bits: RSA of 2048 bits). One level \
             higher for keys of root and of a CA, one lower each where the key is limited to a command or to addresses; medium \
             at most for DSA where the exported server rejects it. Lines that sshd itself ignores are reported by the reader.",
    references: &[
        "NIST SP 800-131A Rev. 2, 3",
        "RFC 8332",
        "sshd(8), AUTHORIZED_KEYS FILE FORMAT",
        "BSI TR-02102-4, 3",
    ],
    needs: &[Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        answers.extend(
            not_exported(device)
                .map(|verdict| Answer::new(at, Subject::of(SubjectKind::AuthorizedKeys), verdict)),
        );
        for key in &device.facts.ssh_keys {
            let path = estate.export(key.origin.export).path();
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::SshKey).with(&key.kind).with(&key.comment).with(path),
                judge(device, key, baseline.at(at)),
            ));
        }
    }
    answers
}

/// A question where keys let people in and none of them was exported.
fn not_exported(device: &Device) -> Option<Verdict> {
    let server = device.facts.ssh_servers.iter().find(|server| server.refused.is_none())?;
    let keys = device.facts.ssh_keys.iter().any(|key| key.purpose != SshKeyUse::Host);
    let on = server.may_be_on("pubkeyauthentication", &SshConnection::default());
    let no_lists = server.stated("authorizedkeysfile", &SshConnection::default());
    let on = on && no_lists.is_none_or(|(files, _)| files.first().is_none_or(|file| file != "none"));
    let people = device.facts.accounts.iter().any(|account| account.has_shell());
    (on && people && !keys).then(|| {
        let ask = "Please provide `authorized_keys` of every account with a shell: SSH accepts keys, and no list of them is \
                   among the exports.";
        Verdict::ask(ask, vec![server.origin])
    })
}

/// Whether every SSH server of a device rejects keys of type DSA, as OpenSSH does since 7.0 unless a line accepts them.
fn rejects_dsa(device: &Device) -> bool {
    let accepts = |server: &SshServer| {
        let setting = server.effective("pubkeyacceptedalgorithms", &SshConnection::default());
        let mut possible = setting.possible().peekable();
        possible.peek().is_none() || possible.any(|names| names.iter().any(|name| name.contains("ssh-dss")))
    };
    let mut servers = device.facts.ssh_servers.iter().filter(|server| server.refused.is_none()).peekable();
    servers.peek().is_some() && !servers.any(accepts)
}

fn judge(device: &Device, key: &SshKey, thresholds: &Thresholds) -> Verdict {
    let weak = key.key.algorithm == KeyAlgorithm::Dsa
        || key.key.strength().is_some_and(|bits| u64::from(bits) < thresholds.key_strength);
    if !weak {
        return Verdict::pass(key.origin);
    }
    let whose = match (key.purpose, &key.user) {
        (SshKeyUse::Host, _) => "host key".to_owned(),
        (SshKeyUse::Authority, _) => "CA key".to_owned(),
        (SshKeyUse::Authorized, Some(user)) => format!("key of `{user}`"),
        (SshKeyUse::Authorized, None) => "key of an account".to_owned(),
    };
    let (severity, why) = match (key.purpose, key.user.as_deref()) {
        (SshKeyUse::Authority, _) => (Severity::Critical, "it signs keys for many accounts"),
        (_, Some("root")) => (Severity::Critical, "it grants root access"),
        (SshKeyUse::Host, _) => (Severity::Medium, "an attacker who breaks it can impersonate the server"),
        _ => (CHECK.severity, "it grants access to an account"),
    };
    let mut rating = CHECK.rated_at(severity, why);
    if key.key.algorithm == KeyAlgorithm::Dsa && key.purpose == SshKeyUse::Authorized && rejects_dsa(device) {
        rating = rating.at_most(Severity::Medium, "the server rejects keys of this type");
    }
    if key.limited && key.purpose == SshKeyUse::Authorized {
        rating = rating.lowered("the key is limited to one command");
    }
    if key.from.is_some() && key.purpose != SshKeyUse::Host {
        rating = rating.lowered("the key is accepted from named addresses only");
    }
    Verdict::Fail(Fail {
        rating,
        title: format!("Weak SSH key ({}): {whose}", key.key.words()).into(),
        detail: match key.key.strength() {
            Some(bits) => {
                format!(
                    "Its security strength is about {bits} bits; {} are required.",
                    thresholds.key_strength
                )
            }
            None => "Its size is not known.".to_owned(),
        }
        .into(),
        evidence: vec![key.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const RSA1024: &str = include_str!("../../../readers/tests/cases/ssh-keys/rsa1024.pub");
    const RSA2048: &str = include_str!("../../../readers/tests/cases/ssh-keys/rsa2048.pub");
    const DSA: &str = include_str!("../../../readers/tests/cases/ssh-keys/dsa1024.pub");
    const ED: &str = include_str!("../../../readers/tests/cases/ssh-keys/ed25519.pub");

    #[test]
    fn cases() {
        for (name, path, text, wanted) in [
            (
                "short",
                "d/home/ann/.ssh/authorized_keys",
                RSA1024.to_owned(),
                &["fail high d authorized_keys:1"][..],
            ),
            ("DSA", "d/home/ann/.ssh/authorized_keys", DSA.to_owned(), &["fail high d authorized_keys:1"]),
            (
                "limited to a command and an address",
                "d/home/ann/.ssh/authorized_keys",
                format!("command=\"/bin/copy\",from=\"10.4.0.9\" {RSA1024}"),
                &["fail low d authorized_keys:1"],
            ),
            (
                "the superuser's",
                "d/root/.ssh/authorized_keys",
                RSA1024.to_owned(),
                &["fail critical d authorized_keys:1"],
            ),
            (
                "an authority's",
                "d/home/ann/.ssh/authorized_keys",
                format!("cert-authority {RSA1024}"),
                &["fail critical d authorized_keys:1"],
            ),
            (
                "a server's",
                "d/etc/ssh/ssh_host_rsa_key.pub",
                RSA1024.to_owned(),
                &["fail medium d ssh_host_rsa_key.pub:1"],
            ),
            (
                "long enough",
                "d/home/ann/.ssh/authorized_keys",
                format!("{RSA2048}{ED}"),
                &["pass d", "pass d"],
            ),
            ("in comments", "d/home/ann/.ssh/authorized_keys", format!("# {RSA1024}{ED}"), &["pass d"]),
        ] {
            run(&CHECK, &[(name, &[(path, &text)], wanted)]);
        }
    }

    #[test]
    fn a_type_that_the_server_rejects() {
        let list = ("d/home/ann/.ssh/authorized_keys", DSA);
        for (lines, wanted) in [
            ("MaxAuthTries 3\n", "fail medium d authorized_keys:1"),
            ("PubkeyAcceptedAlgorithms +ssh-dss\n", "fail high d authorized_keys:1"),
            ("#PubkeyAcceptedAlgorithms +ssh-dss\nMaxAuthTries 3\n", "fail medium d authorized_keys:1"),
        ] {
            run(&CHECK, &[(lines, &[list, ("d/etc/ssh/sshd_config", lines)], &[wanted])]);
        }
    }

    #[test]
    fn lists_that_were_not_exported_are_a_question() {
        const ACCOUNT: (&str, &str) = ("d/etc/passwd", "ann:x:1000:1000::/home/ann:/bin/bash\n");
        let ssh = |line: &'static str| ("d/etc/ssh/sshd_config", line);
        run(
            &CHECK,
            &[
                ("keys let in", &[ACCOUNT, ssh("MaxAuthTries 3\n")], &["ask d"]),
                ("keys do not", &[ACCOUNT, ssh("PubkeyAuthentication no\n")], &[]),
                ("certificates alone", &[ACCOUNT, ssh("AuthorizedKeysFile none\n")], &[]),
                (
                    "a list",
                    &[ACCOUNT, ssh("MaxAuthTries 3\n"), ("d/home/ann/.ssh/authorized_keys", ED)],
                    &["pass d"],
                ),
            ],
        );
    }
}
