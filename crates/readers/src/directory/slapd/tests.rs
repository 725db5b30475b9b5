use super::*;
use trevlin_model::ExportId;
use trevlin_model::served::Served;

const HEAD: &str = "include /etc/ldap/schema/nis.schema\ndatabase mdb\nsuffix \"dc=quay,dc=example\"\n";

fn of(path: &str, text: &str, more: &[(&str, &str)]) -> (Reading, Option<Served>) {
    let export = Export::new(ExportId(0), path, text.into());
    let others: Vec<Export> = more
        .iter()
        .zip(1..)
        .map(|((path, text), number)| Export::new(ExportId(number), *path, (*text).into()))
        .collect();
    let all = std::iter::once(&export).chain(&others).collect();
    let mut reading = read(&export, &ReadContext::of(all));
    let served = reading.facts.served.pop();
    (reading, served)
}

fn told(served: &Served) -> Vec<String> {
    let of = |part: &trevlin_model::served::ServiceResource| {
        let kind = part.kind.code();
        let login = part.login.value().map_or("?", |login| login.words());
        let users = part.users.join(", ");
        let writes = if part.is_written() { "writes" } else { "reads" };
        let all = [kind, &part.name, writes, login, &users, &part.sources.words()].map(str::to_owned);
        all.into_iter().filter(|one| !one.is_empty()).collect::<Vec<_>>().join(" | ")
    };
    served.parts.iter().skip(1).map(of).collect()
}

#[test]
fn rules_in_their_order() {
    let entries = "entries | dc=quay,dc=example | reads | nothing | any address";
    for (rules, wanted) in [
        // Debian's own.
        (
            "access to attrs=userPassword by self write by anonymous auth by * none\naccess to attrs=shadowLastChange by self write by * read\naccess to * by * read\n",
            &[entries][..],
        ),
        ("", &[entries, "password-hashes | dc=quay,dc=example | reads | nothing | any address"]),
        (
            "access to * by users read by anonymous auth\n",
            &[
                "entries | dc=quay,dc=example | reads | a password | any address",
                "password-hashes | dc=quay,dc=example | reads | a password | any address",
            ],
        ),
        // The rule for passwords comes too late.
        (
            "access to * by * read\naccess to attrs=userPassword by anonymous auth\n",
            &[entries, "password-hashes | dc=quay,dc=example | reads | nothing | any address"],
        ),
        (
            "access to attrs=userPassword by anonymous auth\naccess to * by self write by users read\n",
            &[
                "entries | dc=quay,dc=example | reads | a password | any address",
                "own-account | dc=quay,dc=example (uidnumber, gidnumber) | writes | a password | any address",
            ],
        ),
        (
            "access to * by dn.exact=\"cn=admin,dc=quay,dc=example\" write\n",
            &["entries | dc=quay,dc=example | reads | a password | named accounts | any address"],
        ),
        (
            "access to attrs=userPassword by anonymous auth\naccess to * by peername.ip=10.4.0.0%255.255.240.0 read by * none\n",
            &["entries | dc=quay,dc=example | reads | nothing | 10.4.0.0/20"],
        ),
        (
            "access to attrs=userPassword by anonymous auth\naccess to * by domain.subtree=quay.example read\n",
            &["entries | dc=quay,dc=example | reads | nothing | domain.subtree=quay.example"],
        ),
        (
            "access to * by ssf=128 read\n",
            &["entries | dc=quay,dc=example | reads | a password | named accounts | any address"],
        ),
        (
            "access to attrs=mail by * read\naccess to attrs=entry by * read\naccess to * by * search\n",
            &["entries | dc=quay,dc=example (mail) | reads | nothing | any address"],
        ),
    ] {
        let (reading, served) = of("d/etc/ldap/slapd.conf", &format!("{HEAD}{rules}"), &[]);
        assert_eq!(told(&served.unwrap()), wanted, "{rules}");
        assert!(reading.ledger.notes.is_empty(), "{rules} {:?}", reading.ledger.notes);
    }
}

#[test]
fn rules_that_slapd_does_not_take() {
    for rule in [
        "access to * by * raed",
        "access * by * read",
        "access to *",
        "access to dn.subtree=people by * read",
    ] {
        let (reading, served) = of("d/etc/ldap/slapd.conf", &format!("{HEAD}{rule}\n"), &[]);
        assert_eq!(reading.ledger.notes.len(), 1, "{rule}");
        assert!(served.unwrap().refused.is_some(), "{rule}");
    }
}

#[test]
fn entries_below_the_configuration() {
    let text = "dn: cn=config\nobjectClass: olcGlobal\ncn: config\nolcTLSCertificateFile: /etc/ldap/quay.pem\n\n\
                dn: olcDatabase={-1}frontend,cn=config\nolcDatabase: {-1}frontend\nolcAccess: {1}to dn.base=\"\" by * read\n\
                olcAccess: {0}to attrs=userPassword by anonymous au\n th\n\n\
                dn: olcDatabase={1}mdb,cn=config\nolcDatabase: {1}mdb\nolcSuffix: dc=quay,dc=example\nolcRootDN: cn=admin,dc=quay,dc=example\n\
                olcRootPW:: U2VzYW1lOQ==\nolcAccess: {0}to dn.children=\"ou=staff,dc=quay,dc=exam\n ple\" by * read\n";
    let (reading, served) = of("d/slapcat.ldif", text, &[]);
    assert!(reading.ledger.notes.is_empty(), "{:?}", reading.ledger.notes);
    let served = served.unwrap();
    assert_eq!(told(&served)[0], "entries | ou=staff,dc=quay,dc=example | reads | nothing | any address");
    assert!(!format!("{reading:?}").contains("Sesame9"));
    let held = &reading.facts.secrets[0];
    assert_eq!(&text[held.origin.start as usize..held.origin.end as usize], "U2VzYW1lOQ==");
    assert_eq!(reading.facts.logins[0].user, "cn=admin,dc=quay,dc=example");
    // The line of the clause, which is folded.
    let line = served.parts[1].origin;
    assert!(text[line.start as usize..line.end as usize].starts_with("by * read"));
}

#[test]
fn where_it_listens_and_how_a_login_travels() {
    const TLS: &str = "TLSCertificateFile /etc/ldap/quay.pem\n";
    for (settings, start, wanted) in [
        ("", "", "None/389 Plain, Some(Never)"),
        (TLS, "", "None/389 Optional, Some(Offered)"),
        (
            TLS,
            "SLAPD_SERVICES=\"ldap:/// ldapi:/// ldaps:///\"\n",
            "None/389 Optional None/636 Encrypted, Some(Offered)",
        ),
        (
            "",
            "SLAPD_SERVICES=\"ldap://10.4.0.9:3389/ ldaps:///\"\n",
            "Some(10.4.0.9)/3389 Plain, Some(Never)",
        ),
        (
            "security simple_bind=128\n",
            "SLAPD_URLS=\"ldap://localhost\"\n",
            "Some(127.0.0.1)/389 Plain, Some(Required)",
        ),
        ("TLSCertificateFile a\nsecurity ssf=128\n", "", "None/389 Optional, Some(Required)"),
        ("require strong\n", "", "None/389 Plain, Some(Required)"),
    ] {
        let start = ("d/etc/default/slapd", start);
        let (_, served) = of("d/etc/ldap/slapd.conf", &format!("{settings}{HEAD}"), &[start]);
        let served = served.unwrap();
        let places =
            served.endpoints.iter().map(|one| format!("{:?}/{} {:?}", one.address, one.port, one.carried));
        let told = format!(
            "{}, {:?}",
            places.collect::<Vec<_>>().join(" "),
            served.parts[0].encryption.as_ref().and_then(|one| one.value())
        );
        assert_eq!(told, wanted, "{settings} {start:?}");
    }
    let local = ("d/etc/default/slapd", "SLAPD_SERVICES=\"ldapi:///\"\n");
    assert!(of("d/etc/ldap/slapd.conf", HEAD, &[local]).1.is_none());
}

#[test]
fn one_form_is_in_use() {
    let folder = ("d/etc/ldap/slapd.d/cn=config.ldif", "dn: cn=config\nobjectClass: olcGlobal\ncn: config\n");
    assert!(of("d/etc/ldap/slapd.conf", HEAD, &[folder]).1.is_none());
    let forced = ("d/etc/default/slapd", "SLAPD_CONF=/etc/ldap/slapd.conf\n");
    assert!(of("d/etc/ldap/slapd.conf", HEAD, &[folder, forced]).1.is_some());
}

#[test]
fn secrets_of_replication() {
    let text = "database mdb\nsuffix dc=a\nrootpw \"Sesame 9\"\nsyncrepl rid=1 provider=ldap://10.4.0.9\n  bindmethod=simple\n  credentials=Sesame10\n";
    let (reading, _) = of("d/etc/ldap/slapd.conf", text, &[]);
    assert!(!format!("{reading:?}").contains("Sesame"));
    let places: Vec<&str> = reading
        .facts
        .secrets
        .iter()
        .map(|held| &text[held.origin.start as usize..held.origin.end as usize])
        .collect();
    assert_eq!(places, ["\"Sesame 9\"", "Sesame10"]);
}
