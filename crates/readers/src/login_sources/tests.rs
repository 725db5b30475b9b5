//! Login sources and servers of small files.

use crate::reader::{ReadContext, Reader};
use crate::testing;
use trevlin_model::login_source::{Admission, LoginSource, ServerProofKind};
use trevlin_model::served::TransportSecurity;
use trevlin_model::{Export, ExportId, Setting};

/// Sources of the files of a device, the first of which is read: servers with how accounts and passwords travel, proofs, and who may log in.
fn told(reader: &Reader, files: &[(&str, &str)]) -> String {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), format!("d/{path}"), (*text).into()))
        .collect();
    assert_eq!(crate::recognise(&exports[0]).reader.map(|one| one.name), Some(reader.name), "{files:?}");
    let reading = (reader.read)(&exports[0], &ReadContext::of(exports.iter().collect()));
    let carried = |one: Option<TransportSecurity>| match one {
        None => "-",
        Some(TransportSecurity::Plain) => "plain",
        Some(TransportSecurity::Optional) => "may",
        Some(TransportSecurity::Encrypted) => "tls",
    };
    let source =
        |one: &LoginSource| {
            let mut words: Vec<String> = one.label.iter().cloned().collect();
            words.extend(one.servers.iter().map(|server| {
                let port = server.port.map(|port| format!(":{port}")).unwrap_or_default();
                format!("{}{port} {}/{}", server.host, carried(server.accounts), carried(server.passwords))
            }));
            words.extend(one.proofs.iter().map(|proof| {
                let kind = if proof.kind == ServerProofKind::Ticket { "ticket" } else { "certificate" };
                let demanded = if proof.demanded.value() == Some(&true) { "" } else { "no " };
                format!("{demanded}{kind}")
            }));
            words.push(match &one.admits {
                Setting::Unknown { why } => format!("? {why}"),
                other => match other.value() {
                    Some(Admission::Everybody) => "all".into(),
                    Some(Admission::Named(names)) => names.join("+"),
                    Some(Admission::Condition(text)) => text.clone(),
                    Some(Admission::ByServer) => "by server".into(),
                    _ => "none".into(),
                },
            });
            words.extend(one.offers.iter().map(|offer| {
                offer.algorithms.iter().map(|one| one.name.as_str()).collect::<Vec<_>>().join(",")
            }));
            words.extend(one.own_password.map(|_| "own password".to_owned()));
            words.extend(one.open.iter().map(|(what, _)| format!("open: {what}")));
            words.join(" | ")
        };
    let running = reading.facts.login_sources.iter().filter(|one| one.refused.is_none());
    let mut all: Vec<String> = running.map(source).collect();
    all.extend(
        reading.ledger.notes.iter().map(|note| format!("line {}", exports[0].line_of(note.origin.start))),
    );
    all.join("; ")
}

#[test]
fn domains_of_sssd() {
    const START: &str = "[sssd]\ndomains = quay\n[domain/quay]\n";
    for (lines, wanted) in [
        ("id_provider = ldap\nldap_uri = ldap://10.4.0.9\n", "quay | 10.4.0.9 plain/tls | certificate | all"),
        (
            "id_provider = ldap\nldap_uri = ldaps://d.quay.example:6360\n",
            "quay | d.quay.example:6360 tls/tls | certificate | all",
        ),
        (
            "id_provider = ldap\nldap_uri = ldap://a, ldaps://b\nldap_id_use_start_tls = True\nldap_tls_reqcert = allow\n",
            "quay | a tls/tls | b tls/tls | no certificate | all",
        ),
        ("id_provider = ldap\n", "quay |  plain/tls | certificate | all"),
        (
            "id_provider = ldap\nldap_uri = ldap://a\nldap_auth_disable_tls_never_use_in_production = true\n",
            "quay | a plain/plain | certificate | all",
        ),
        ("id_provider = ldap\nldap_uri = ldapi:///\n", "quay | /run/slapd/ldapi tls/tls | certificate | all"),
        (
            "id_provider = ldap\nauth_provider = krb5\nldap_uri = ldap://a\nkrb5_server = k\n",
            "quay | a plain/- | k -/- | certificate | no ticket | all",
        ),
        (
            "id_provider = ad\nad_server = a, _srv_\naccess_provider = ad\n",
            "quay | a tls/- |  tls/- | ticket | by server",
        ),
        (
            "id_provider = ldap\nldap_uri = ldaps://a\naccess_provider = simple\nsimple_allow_users = ann, bob\nsimple_allow_groups = crew\n",
            "quay | a tls/tls | certificate | ann+bob+crew",
        ),
        (
            "id_provider = ldap\nldap_uri = ldaps://a\naccess_provider = simple\nsimple_deny_users = ann\n",
            "quay | a tls/tls | certificate | all",
        ),
        (
            "id_provider = ldap\nldap_uri = ldaps://a\naccess_provider = ldap\n",
            "quay | a tls/tls | certificate | none",
        ),
        (
            "id_provider = ldap\nldap_uri = ldaps://a\naccess_provider = ldap\nldap_access_filter = (host=gate)\n",
            "quay | a tls/tls | certificate | (host=gate)",
        ),
        (
            "id_provider = ldap\nldap_uri = ldaps://a\naccess_provider = ldap\nldap_access_filter = (objectClass=*)\n",
            "quay | a tls/tls | certificate | all",
        ),
        (
            "id_provider = ldap\nldap_uri = ldaps://a\naccess_provider = ldap\nldap_access_order = expire\n",
            "quay | a tls/tls | certificate | all",
        ),
        (
            "id_provider = ldap\nLDAP_URI = ldap://old\nldap_uri = ldaps://a\nldap_default_bind_dn = cn=r\nldap_default_authtok = Wn7kq2\n",
            "quay | a tls/tls | certificate | all | own password",
        ),
        ("id_provider = files\n", ""),
        ("id_provider = ldap\nenabled = false\n", ""),
        // A switch with another word keeps the domain from starting; a line without a value the whole program.
        ("id_provider = ldap\nldap_id_use_start_tls = yes\n", "line 5"),
        ("id_provider = ldap\nldap_uri\n", "line 5"),
        (
            "id_provider = ldap\nldap_ury = x\nldap_uri = ldaps://a\n",
            "quay | a tls/tls | certificate | all; line 5",
        ),
        (
            "id_provider = proxy\nproxy_lib_name = x\n",
            "quay | all | open: the settings of the provider `proxy` of the domain quay",
        ),
    ] {
        let text = format!("{START}{lines}");
        assert_eq!(told(&super::sssd::READER, &[("etc/sssd/sssd.conf", &text)]), wanted, "{lines}");
    }
    // Files of the folder come later; those with a dot before their name are left out.
    let main = "[sssd]\ndomains = quay\n[domain/quay]\nid_provider = ldap\nldap_uri = ldap://a\n[domain/more]\nid_provider = ldap\nldap_uri = ldaps://b\n";
    let more = "[domain/quay]\nldap_uri = ldaps://c\n[domain/more]\nenabled = true\n";
    let hidden = "[domain/quay]\nldap_uri = ldap://hidden\n";
    let files = [
        ("etc/sssd/sssd.conf", main),
        ("etc/sssd/conf.d/10.conf", more),
        ("etc/sssd/conf.d/.20.conf", hidden),
        ("etc/sssd/conf.d/30.old", hidden),
    ];
    assert_eq!(
        told(&super::sssd::READER, &files),
        "quay | c tls/tls | certificate | all; more | b tls/tls | certificate | all"
    );
}

#[test]
fn directories_of_nslcd() {
    for (lines, wanted) in [
        ("uri ldap://10.4.0.9\n", "10.4.0.9 plain/plain | certificate | all"),
        ("URI ldap://a\nssl start_tls\n", "a tls/tls | certificate | all"),
        ("uri ldap://a\nssl off\nssl on\n", "a tls/tls | certificate | all"),
        ("uri ldap://a ldaps://b\n", "a plain/plain | b tls/tls | certificate | all"),
        ("uri ldaps://a\ntls_reqcert never\n", "a tls/tls | no certificate | all"),
        ("uri DNS:quay.example\n", " plain/plain | certificate | all"),
        ("uri ldap://a\nsasl_mech GSSAPI\n", "a tls/plain | certificate | all"),
        (
            "uri ldaps://a\npam_authz_search (&(uid=$username)(host=$hostname))\n",
            "a tls/tls | certificate | (&(uid=$username)(host=$hostname))",
        ),
        ("uri ldaps://a\npam_authz_search (uid=$username)\n", "a tls/tls | certificate | all"),
        (
            "uri ldaps://a\nfilter passwd (host=a)\nfilter passwd (host=b)\nfilter group (cn=c)\n",
            "a tls/tls | certificate | (host=b)",
        ),
        ("uri ldaps://a\nbinddn cn=r\nbindpw Wn7kq2\n", "a tls/tls | certificate | all | own password"),
        // A setting that it does not have, and one without a value, keep it from starting.
        ("uri ldaps://a\nhost b\n", "line 4"),
        ("uri ldaps://a\nssl\n", "line 4"),
    ] {
        let text = format!("uid nslcd\nbase dc=quay,dc=example\n{lines}");
        assert_eq!(told(&super::nslcd::READER, &[("etc/nslcd.conf", &text)]), wanted, "{lines}");
    }
}

#[test]
fn clients_of_ldap() {
    for (text, wanted) in [
        ("BASE dc=quay\n", ""),
        ("URI ldap://a ldaps://b\n", "a may/may | b tls/tls | certificate | all"),
        ("URI ldaps://b\nTLS_REQCERT never\n", "b tls/tls | no certificate | all"),
        ("tls_reqcert allow\n", "no certificate | all"),
        ("TLS_REQCERT maybe\n", "line 1"),
        ("TLS_REQCERTS never\n", "line 1"),
    ] {
        assert_eq!(told(&super::ldap_client::READER, &[("etc/ldap/ldap.conf", text)]), wanted, "{text}");
    }
}

#[test]
fn kerberos() {
    for (text, wanted) in [
        ("[libdefaults]\n default_realm = Q\n", "Q | no ticket | all"),
        (
            "[libdefaults]\n default_realm = Q\n[realms]\n Q = {\n  kdc = k:750\n  kdc = l\n }\n",
            "Q | k:750 -/- | l -/- | no ticket | all",
        ),
        ("[libdefaults]\n default_realm = Q\n verify_ap_req_nofail = on\n", "Q | ticket | all"),
        (
            "[libdefaults]\n permitted_enctypes = aes256-cts rc4\n",
            "no ticket | all | aes256-cts-hmac-sha1-96,arcfour-hmac",
        ),
        (
            "[libdefaults]\n permitted_enctypes = des-cbc-crc aes256-sha2\n",
            "no ticket | all | aes256-cts-hmac-sha384-192",
        ),
        (
            "[libdefaults]\n allow_weak_crypto = true\n permitted_enctypes = des-cbc-crc\n",
            "no ticket | all | des-cbc-crc | aes256-cts-hmac-sha1-96,aes128-cts-hmac-sha1-96,aes256-cts-hmac-sha384-192,aes128-cts-hmac-sha256-128,camellia256-cts-cmac,camellia128-cts-cmac,allow_weak_crypto",
        ),
        ("[libdefaults]\n allow_weak_crypto = no\n default_realm = Q\n", "Q | no ticket | all"),
        (
            "[libdefaults]\n permitted_enctypes = aes, rc4 -aes128-cts\n",
            "no ticket | all | aes256-cts-hmac-sha1-96,aes256-cts-hmac-sha384-192,aes128-cts-hmac-sha256-128,arcfour-hmac",
        ),
        // The first value counts.
        ("[libdefaults]\n default_realm = Q\n default_realm = R\n", "Q | no ticket | all"),
        ("default_realm = Q\n", "line 1"),
        ("[libdefaults]\n default_realm\n", "line 2"),
    ] {
        assert_eq!(told(&super::kerberos::READER, &[("etc/krb5.conf", text)]), wanted, "{text}");
    }
    let main = ("etc/krb5.conf", "includedir /etc/krb5.conf.d/\n[libdefaults]\n default_realm = Q\n");
    let part = ("etc/krb5.conf.d/weak", "[libdefaults]\n permitted_enctypes = rc4\n");
    let left = ("etc/krb5.conf.d/x~", "[libdefaults]\n permitted_enctypes = aes\n");
    assert_eq!(told(&super::kerberos::READER, &[main, left, part]), "Q | no ticket | all | arcfour-hmac");
}

#[test]
fn servers_of_kerberos() {
    let kdc = |text: &str, files: &[(&str, &str)]| {
        let mut all = vec![("etc/krb5kdc/kdc.conf", text)];
        all.extend_from_slice(files);
        testing::services(&super::kdc::READER, &all)
    };
    for (text, wanted) in [
        ("[realms]\n Q = {\n }\n", "udp *:88! *:88! "),
        ("[kdcdefaults]\n kdc_ports = 88,750\n kdc_tcp_ports = \"\"\n", "udp *:88! udp *:750! "),
        (
            "[kdcdefaults]\n kdc_listen = 10.4.0.9, [fd00::9]:89\n[realms]\n Q = {\n kdc_tcp_listen = 127.0.0.1:88\n }\n",
            "udp 10.4.0.9:88! udp fd00::9:89! 127.0.0.1:88! ",
        ),
        ("[realms]\n Q = {\n", "udp *:88! *:88! "),
    ] {
        assert_eq!(kdc(text, &[]), wanted, "{text}");
    }
    let with = "[realms]\n Q = {\n  acl_file = /etc/krb5kdc/kadm5.acl\n }\n";
    const SERVER: &str = "udp *:88! *:88! ; *:749! *:464! udp *:464! ";
    for (list, wanted) in [
        ("*/admin@Q *\n", "any address a login"),
        ("*@Q *\n", "any address a login writes"),
        ("* aci\n", "any address a login writes"),
        ("*@R *\n", "any address a login"),
        ("*@Q ci *1@Q\n", "any address a login"),
        ("*@Q li\n*@Q *\n", "any address a login"),
        ("*@Q e\n", "any address a login, any address a login"),
        ("*@Q xA\n", "any address a login writes"),
    ] {
        assert_eq!(kdc(with, &[("etc/krb5kdc/kadm5.acl", list)]), format!("{SERVER}{wanted}"), "{list}");
    }
}

#[test]
fn servers_of_nis() {
    const RULES: &str = "files: 30\n* : * : shadow.byname : port\n* : * : * : none\n";
    for (rules, nets, wanted) in [
        (RULES, "255.0.0.0 127.0.0.0\n255.255.240.0 10.4.0.0\n", "10.4.0.0/20 nothing, 10.4.0.0/20 nothing"),
        (RULES, "host 10.4.0.9\n", "10.4.0.9 nothing, 10.4.0.9 nothing"),
        (RULES, "0.0.0.0 0.0.0.0\n", "any address nothing, any address nothing"),
        (
            "10.4. : * : * : none\n* : * : * : deny\n",
            "0.0.0.0 0.0.0.0\n",
            "10.4.0.0/16 nothing, 10.4.0.0/16 nothing",
        ),
        (
            "* : * : passwd.byname : deny\n* : * : shadow.byname : deny\n",
            "255.0.0.0 10.0.0.0\n",
            "no address nothing",
        ),
    ] {
        let files = [("etc/ypserv.conf", rules), ("var/yp/securenets", nets)];
        assert_eq!(testing::services(&super::nis::SERVER, &files), wanted, "{rules}{nets}");
    }
    let defaults = ("etc/default/nis", "YPSERVARGS=\"-p 834\"\n");
    assert_eq!(
        testing::services(&super::nis::SERVER, &[("etc/ypserv.conf", RULES), defaults]),
        "udp IPv4:834 udp *:835 IPv4:834 *:835 any address unknown"
    );
    assert_eq!(
        told(
            &super::nis::CLIENT,
            &[("etc/yp.conf", "domain quay server 10.4.0.9\nypserver b\nbroadcast\nserver c\n")]
        ),
        "10.4.0.9 plain/plain | b plain/plain |  plain/plain | all; line 4"
    );
}

#[test]
fn name_services() {
    let export = Export::new(
        ExportId(0),
        "d/etc/nsswitch.conf",
        "passwd:  files # sss\n#group: nis\nGroup: compat [!NOTFOUND=return] ldap\nhosts\n".into(),
    );
    let reading = (super::nsswitch::READER.read)(&export, &ReadContext::default());
    let all: Vec<String> = reading
        .facts
        .name_services
        .iter()
        .map(|one| format!("{} {}", one.database, one.systems.join("+")))
        .collect();
    assert_eq!(all, ["passwd files+sss", "Group compat+ldap"]);
    assert_eq!(reading.ledger.notes.len(), 1);
}
