//! Tests of the reader of Postfix.

use super::*;
use crate::testing::first;

fn of(files: &[(&str, &str)]) -> Reading {
    first(read, files)
}

/// Who may relay, and how the login comes, of each service.
fn told(main: &str, master: &str) -> Vec<String> {
    let files = [("d/etc/postfix/main.cf", main), ("d/etc/postfix/master.cf", master)];
    let files = if master.is_empty() { &files[..1] } else { &files[..] };
    let reading = of(files);
    assert!(reading.ledger.notes.is_empty(), "{main}: {:?}", reading.ledger.notes);
    let line = |one: &Served| {
        let relay = one.parts.iter().find(|part| part.kind == PartKind::Relaying).unwrap();
        let login = one.parts.iter().find(|part| part.kind == PartKind::Whole).map(|part| {
            format!(
                " {:?} {:?}",
                part.login.value().unwrap(),
                part.encryption.as_ref().unwrap().possible().next()
            )
        });
        let at = &one.endpoints[0];
        let refused = if one.refused.is_some() { " refused" } else { "" };
        format!(
            "{} {:?}: {}{}{refused}",
            at.port,
            at.carried,
            relay.sources.words(),
            login.unwrap_or_default()
        )
    };
    reading.facts.served.iter().map(line).collect()
}

#[test]
fn who_may_send_to_other_domains() {
    const LEVEL: &str = "compatibility_level = 3.6\n";
    const NETS: &str = "mynetworks = 127.0.0.0/8 10.4.0.0/16\n";
    for (main, wanted) in [
        (LEVEL.to_owned(), "127.0.0.0/8, ::1"),
        (format!("{LEVEL}{NETS}"), "10.4.0.0/16"),
        (format!("{LEVEL}mynetworks = 0.0.0.0/0\n"), "any address"),
        (format!("{LEVEL}mynetworks = !10.4.9.0/24 10.4.8.0/23\n"), "10.4.8.0/24"),
        (format!("{LEVEL}{NETS}smtpd_relay_restrictions = permit\n"), "any address refused"),
        (
            format!("{LEVEL}{NETS}smtpd_relay_restrictions = permit\nsmtpd_recipient_restrictions = permit_mynetworks, reject_unauth_destination\n"),
            "10.4.0.0/16",
        ),
        (
            format!("{LEVEL}{NETS}smtpd_relay_restrictions = permit_mynetworks permit warn_if_reject reject_unauth_destination reject\n"),
            "any address refused",
        ),
        (
            format!("{LEVEL}{NETS}smtpd_client_restrictions = permit_sasl_authenticated, reject\n"),
            "no address",
        ),
        (
            format!("{LEVEL}{NETS}smtpd_restriction_classes = ours\nours = permit_mynetworks, reject\nsmtpd_client_restrictions = ours\n"),
            "10.4.0.0/16",
        ),
        (
            format!("{LEVEL}{NETS}smtpd_relay_restrictions = check_sender_access static:OK, reject_unauth_destination\n"),
            "any address",
        ),
        ("smtpd_relay_restrictions =\nmynetworks = 10.4.0.0/16\n".to_owned(), "any address refused"),
        ("mynetworks = 10.4.0.0/16\nsmtpd_recipient_restrictions = permit_mynetworks, reject_unauth_destination\n".to_owned(), "10.4.0.0/16"),
        (format!("{LEVEL}mynetworks_style = subnet\n"), "the networks of its interfaces"),
    ] {
        let line = told(&main, "").remove(0);
        assert!(line.ends_with(wanted), "{main}{line}");
    }
}

#[test]
fn services_and_their_logins() {
    const TLS: &str = "compatibility_level = 3.6\nsmtpd_tls_cert_file = /c\nsmtpd_tls_security_level = may\nmynetworks = 10.4.0.0/16\n";
    const MASTER: &str = "smtp inet n - y - - smtpd\nsubmission inet n - y - - smtpd\n  -o smtpd_tls_security_level=encrypt\n  -o smtpd_sasl_auth_enable=yes\n  \
                          -o smtpd_client_restrictions=permit_sasl_authenticated,reject\n127.0.0.1:10025 inet n - y - - smtpd\npickup unix n - y 60 1 pickup\n";
    assert_eq!(
        told(TLS, MASTER),
        [
            "25 Optional: 10.4.0.0/16",
            "587 Encrypted: no address Password Some(Required)",
            "10025 Optional: 10.4.0.0/16"
        ]
    );
    for (more, wanted) in [
        ("smtpd_sasl_auth_enable = yes\n", "25 Optional: 10.4.0.0/16 Password Some(Offered)"),
        (
            "smtpd_sasl_auth_enable = yes\nsmtpd_tls_auth_only = yes\n",
            "25 Optional: 10.4.0.0/16 Password Some(Required)",
        ),
        (
            "smtpd_sasl_auth_enable = yes\nsmtpd_tls_cert_file =\n",
            "25 Plain: 10.4.0.0/16 Password Some(Never)",
        ),
        (
            "smtpd_sasl_auth_enable = yes\nsmtpd_tls_cert_file =\nsmtpd_tls_auth_only = yes\n",
            "25 Plain: 10.4.0.0/16",
        ),
        (
            "smtpd_sasl_auth_enable = yes\nsmtpd_sasl_security_options = noanonymous, noplaintext\n",
            "25 Optional: 10.4.0.0/16 Proof Some(Offered)",
        ),
        (
            "smtpd_sasl_auth_enable = yes\nsmtpd_tls_wrappermode = yes\n",
            "25 Encrypted: 10.4.0.0/16 Password Some(Required)",
        ),
    ] {
        assert_eq!(told(&format!("{TLS}{more}"), ""), [wanted], "{more}");
    }
    let screened =
        "smtp inet n - y - 1 postscreen\nsmtpd pass - - y - - smtpd\n  -o smtpd_sasl_auth_enable=no\n";
    assert_eq!(told(TLS, screened), ["25 Optional: 10.4.0.0/16"]);
}

#[test]
fn places() {
    for (more, wanted) in [
        ("", "None Both"),
        ("inet_interfaces = loopback-only\n", "Some(127.0.0.1) V4"),
        ("inet_interfaces = 192.0.2.9, 10.4.0.9\n", "Some(192.0.2.9) V4"),
        ("inet_protocols = ipv4\n", "None V4"),
    ] {
        let reading = of(&[("d/etc/postfix/main.cf", &format!("mydestination = a.example\n{more}"))]);
        let at = &reading.facts.served[0].endpoints[0];
        assert_eq!(format!("{:?} {:?}", at.address, at.families), wanted, "{more}");
    }
}

#[test]
fn tables_and_what_is_missing() {
    let main = "compatibility_level = 2\nmynetworks = /etc/postfix/nets\nsmtpd_relay_restrictions = check_client_access cidr:/etc/postfix/clients, \
                permit_mynetworks, reject_unauth_destination\n";
    let nets = ("d/etc/postfix/nets", "10.4.0.0/16 # ours\n");
    let clients = ("d/etc/postfix/clients", "192.0.2.0/24 OK\n198.51.100.9 REJECT\n");
    let words = |files: &[(&str, &str)]| {
        let reading = of(files);
        let served = &reading.facts.served[0];
        (served.parts[0].sources.words(), served.open.len())
    };
    assert_eq!(
        words(&[("d/etc/postfix/main.cf", main), nets, clients]),
        ("10.4.0.0/16, 192.0.2.0/24".into(), 0)
    );
    assert_eq!(words(&[("d/etc/postfix/main.cf", main), nets]), ("10.4.0.0/16".into(), 1));
    let alone = of(&[("d/etc/postfix/master.cf", "smtp inet n - y - - smtpd\n")]);
    assert_eq!(alone.facts.served[0].open.len(), 1);
    let logins = of(&[("d/etc/postfix/sasl_passwd", "[mail.example]:587 ann:lantern-quay\nbroken\n")]);
    assert_eq!((logins.facts.secrets.len(), logins.ledger.notes.len()), (1, 1));
}

#[test]
fn unknown_settings_are_told() {
    let reading = of(&[(
        "d/etc/postfix/main.cf",
        "smtpd_tls_securty_level = may\nown = 1\nmynetworks = $own\nlmtp_destination_recipient_limit = 1\nno equals sign\n",
    )]);
    let lines: Vec<u32> =
        (1..=5).filter(|line| reading.ledger.class(*line) == Some(LineClass::NotUnderstood)).collect();
    assert_eq!(lines, [1, 5]);
}
