//! Tests of the reader of Dovecot.

use super::*;
use crate::testing::first;

fn of(files: &[(&str, &str)]) -> Reading {
    first(read, files)
}

fn told(text: &str) -> Vec<String> {
    let reading = of(&[("d/etc/dovecot/dovecot.conf", text)]);
    assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
    let line = |one: &Served| {
        let places: Vec<String> = one
            .endpoints
            .iter()
            .map(|at| {
                format!(
                    "{}{} {:?}",
                    at.address.map(|one| format!("{one} ")).unwrap_or_default(),
                    at.port,
                    at.carried
                )
            })
            .collect();
        let login = one.parts.first().map(|part| {
            let encryption = part.encryption.as_ref().and_then(|one| one.possible().next().copied());
            format!(" {:?} {encryption:?}", part.login.value().unwrap())
        });
        format!(
            "{}: {}{}",
            one.label.as_deref().unwrap_or_default(),
            places.join(", "),
            login.unwrap_or_default()
        )
    };
    reading.facts.served.iter().map(line).collect()
}

#[test]
fn services() {
    for (text, wanted) in [
        ("protocols = imap\n", &["imap: 143 Optional, 993 Encrypted Password Some(Required)"][..]),
        (
            "protocols = imap pop3 # both\ndisable_plaintext_auth = no\nservice pop3-login {\n  inet_listener pop3 {\n    port = 0\n  }\n}\n",
            &[
                "imap: 143 Optional, 993 Encrypted Password Some(Offered)",
                "pop3: 995 Encrypted Password Some(Offered)",
            ],
        ),
        ("protocols = imap\nssl = no\n", &["imap: 143 Plain"]),
        (
            "protocols = imap\nssl = no\ndisable_plaintext_auth=no\nlisten = 10.4.0.9\n",
            &["imap: 10.4.0.9 143 Plain Password Some(Never)"],
        ),
        (
            "protocols = imap\nssl = required\ndisable_plaintext_auth=no\nauth_mechanisms = plain login\n",
            &["imap: 143 Optional, 993 Encrypted Password Some(Required)"],
        ),
        ("protocols = sieve\nauth_mechanisms = cram-md5\n", &["sieve: 4190 Optional Proof Some(Required)"]),
        (
            "protocols = sieve\npassdb {\n  driver = static\n  args = nopassword=y\n}\n",
            &["sieve: 4190 Optional Nothing Some(Required)"],
        ),
        (
            "protocols =\nservice doveadm {\n  inet_listener {\n    port = 24245\n  }\n}\ndoveadm_password = lantern-quay\n",
            &["doveadm: 24245 Plain Password None"],
        ),
    ] {
        assert_eq!(told(text), wanted, "{text}");
    }
}

#[test]
fn parts_of_the_folder() {
    let main = (
        "d/etc/dovecot/dovecot.conf",
        "!include_try /usr/share/dovecot/protocols.d/*.protocol\n!include conf.d/*.conf\n",
    );
    let auth =
        ("d/etc/dovecot/conf.d/10-auth.conf", "disable_plaintext_auth = no\nauth_mechanisms = plain\n");
    let imap = ("d/etc/dovecot/conf.d/20-imap.conf", "protocol imap {\n}\n");
    let reading = of(&[main, auth, imap]);
    let [one] = &reading.facts.served[..] else { panic!("{:?}", reading.facts.served) };
    assert_eq!(one.label.as_deref(), Some("imap"));
    let encryption = one.parts[0].encryption.as_ref().unwrap();
    assert_eq!(encryption.value(), Some(&Requirement::Offered));
    assert_eq!(encryption.origin().unwrap().export, ExportId(1));
}

#[test]
fn secrets_and_strange_lines() {
    let text = "passdb {\n  driver = static\n  args = password=lantern-quay\n}\ndoveadm_password = tide-and-moor\nssl_key = </x\ncolour = red\nwhat\n}\n";
    let reading = of(&[("d/etc/dovecot/dovecot.conf", text)]);
    assert_eq!((reading.facts.secrets.len(), reading.ledger.notes.len()), (2, 3));
    let more = of(&[(
        "d/etc/dovecot/dovecot-sql.conf.ext",
        "driver = pgsql\nconnect = host=localhost dbname=mail user=mail password=quay-lantern\n",
    )]);
    assert_eq!((more.facts.secrets.len(), more.ledger.notes.len()), (1, 0));
}
