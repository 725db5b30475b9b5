//! Clients that Exim relays for, and the logins that it offers.

use super::READER;
use crate::testing::services;
use trevlin_model::served::PartKind;
use trevlin_model::{Export, ExportId};

/// Addresses, sources of relaying and login, for a main section and rules.
fn told(main: &str, rules: &str) -> String {
    let text = format!(
        "hostlist near = 10.4.0.0/16\ndomainlist own = @ : quay.example\n{main}\nacl_smtp_rcpt = check\nbegin acl\ncheck:\n{rules}\n"
    );
    services(&READER, &[("etc/exim4/exim4.conf", &text)])
}

#[test]
fn rules_in_their_order() {
    const OWN: &str = "require domains = +own";
    for (rules, wanted) in [
        ("accept hosts = +near\ndeny\n", "10.4.0.0/16 a trusted address"),
        ("accept hosts = :\n", "no address access refused"),
        ("accept\n", "any address a trusted address"),
        ("accept domains = +own\n", "no address access refused"),
        (&*format!("{OWN}\naccept\n"), "no address access refused"),
        ("deny domains = !+own\naccept\n", "no address access refused"),
        ("deny domains = ! +own\n !hosts = +near\naccept\n", "10.4.0.0/16 a trusted address"),
        ("accept authenticated = *\n", "no address access refused"),
        // A sender names itself as it likes, and is not on a list by that.
        ("accept senders = *@quay.example\n", "any address a trusted address"),
        ("deny senders = *@elsewhere.example\naccept hosts = +near\n", "10.4.0.0/16 a trusted address"),
        ("deny local_parts = ^.*@\naccept hosts = 192.0.2.0/24\n", "192.0.2.0/24 a trusted address"),
        ("accept hosts = !10.4.9.9 : +near\n", "10.4.0.0-10.4.9.8, 10.4.9.10-10.4.255.255 a trusted address"),
        ("require hosts = +near\naccept\n", "10.4.0.0/16 a trusted address"),
        ("accept condition = false\naccept hosts = 10.4.0.9\n", "10.4.0.9 a trusted address"),
        ("accept hosts = mail.example\n", "mail.example a trusted address"),
        ("warn hosts = *\n", "no address access refused"),
        ("accept domains = !quay.example\n", "any address a trusted address"),
    ] {
        assert_eq!(told("", rules), format!("*:25? {wanted}"), "{rules}");
    }
}

#[test]
fn a_condition_that_is_not_evaluated_is_a_question() {
    let text = "acl_smtp_rcpt = check\nbegin acl\ncheck:\naccept condition = ${if eq{$sender_host_address}{10.4.0.9}}\n";
    let export = Export::new(ExportId(0), "d/etc/exim4/exim4.conf", text.into());
    let reading = (READER.read)(&export, &crate::ReadContext::of(vec![&export]));
    assert_eq!(reading.facts.served[0].open.len(), 1);
}

#[test]
fn places() {
    for (main, wanted) in [
        ("local_interfaces = <; 127.0.0.1 ; ::1", "127.0.0.1:25? ::1:25?"),
        ("local_interfaces = 10.4.0.9.587 : 10.4.0.8", "10.4.0.9:587? 10.4.0.8:25?"),
        ("daemon_smtp_ports = smtp : 465\ntls_on_connect_ports = 465", "*:25? *:465!"),
        ("disable_ipv6 = true\ntls_advertise_hosts =", "IPv4:25"),
        ("no_disable_ipv6", "*:25?"),
    ] {
        assert_eq!(told(main, "deny"), format!("{wanted} no address access refused"), "{main}");
    }
    let text = ("etc/exim4/exim4.conf", "daemon_smtp_ports = 25\n");
    for (start, wanted) in [
        ("SMTPLISTENEROPTIONS='-oX 587:25'\n", "*:587? *:25? no address access refused"),
        ("SMTPLISTENEROPTIONS='-oX 10.4.0.9'\n", "10.4.0.9:25? no address access refused"),
        ("QUEUERUNNER='queueonly'\n", ""),
    ] {
        assert_eq!(services(&READER, &[text, ("etc/default/exim4", start)]), wanted, "{start}");
    }
}

#[test]
fn logins() {
    let with = |main: &str, options: &str| {
        let text = format!("{main}\nbegin authenticators\nplain:\n driver = plaintext\n{options}\n");
        services(&READER, &[("etc/exim4/exim4.conf", &text)]).replace("*:25? no address access refused", "-")
    };
    for (main, options, wanted) in [
        ("", "server_condition = true", "-, any address a password writes"),
        ("", "client_send = x", "-"),
        ("auth_advertise_hosts =", "server_condition = true", "-"),
        (
            "",
            "server_condition = true\nserver_advertise_condition = ${if def:tls_in_cipher}",
            "-, any address a password writes",
        ),
    ] {
        assert_eq!(with(main, options), wanted, "{main} {options}");
    }
    let text = "begin authenticators\nplain:\n driver = plaintext\n server_condition = true\n";
    for (condition, wanted) in
        [("", Some("Offered")), (" server_advertise_condition = ${if def:tls_in_cipher}\n", Some("Required"))]
    {
        let export = Export::new(ExportId(0), "d/etc/exim4/exim4.conf", format!("{text}{condition}"));
        let reading = (READER.read)(&export, &crate::ReadContext::of(vec![&export]));
        let part = reading.facts.served[0].parts.iter().find(|part| part.kind == PartKind::Whole).unwrap();
        let told = part.encryption.as_ref().and_then(|one| one.value()).map(|one| format!("{one:?}"));
        assert_eq!(told.as_deref(), wanted, "{condition}");
    }
}

#[test]
fn settings_of_debian() {
    for (settings, more, wanted) in [
        (
            "dc_eximconfig_configtype='internet'\ndc_local_interfaces='127.0.0.1 ; ::1'\n",
            None,
            "127.0.0.1:25? ::1:25? 127.0.0.1, ::1 a trusted address",
        ),
        (
            "dc_eximconfig_configtype='smarthost'\ndc_relay_nets='10.4.0.0/16;192.0.2.7'\n",
            None,
            "*:25? 10.4.0.0/16, 192.0.2.7 a trusted address",
        ),
        (
            "dc_eximconfig_configtype='internet'\ndc_relay_domains='*'\n",
            None,
            "*:25? any address a trusted address",
        ),
        // Mail stays on the machine.
        ("dc_eximconfig_configtype='local'\ndc_relay_nets='*'\n", None, "*:25? no address access refused"),
        ("dc_eximconfig_configtype='none'\n", None, ""),
        // A macro of the administrator comes before that of the script.
        (
            "dc_eximconfig_configtype='internet'\ndc_relay_nets='*'\n",
            Some(("etc/exim4/exim4.conf.localmacros", "MAIN_RELAY_NETS = 10.4.0.9\n")),
            "*:25? 10.4.0.9 a trusted address",
        ),
        // A file of its own name takes the place of all of it.
        (
            "dc_eximconfig_configtype='internet'\ndc_relay_nets='*'\n",
            Some(("etc/exim4/exim4.conf", "acl_smtp_rcpt =\n")),
            "",
        ),
    ] {
        let mut files = vec![("etc/exim4/update-exim4.conf.conf", settings)];
        files.extend(more);
        assert_eq!(services(&READER, &files), wanted, "{settings}");
    }
}

#[test]
fn macros_and_conditions() {
    let text = "NETS = 10.4.0.0/16\nNETS == 192.0.2.0/24\n.ifdef NETS\nhostlist near = NETS\n.else\nhostlist near = *\n.endif\n.ifndef NETS\nlocal_interfaces = 10.4.0.9\n\
                .elifdef NETS\nlocal_interfaces = \\\n  # in between\n  127.0.0.1\n.endif\nacl_smtp_rcpt = check\nbegin acl\ncheck:\naccept hosts = +near\n";
    assert_eq!(
        services(&READER, &[("etc/exim4/exim4.conf", text)]),
        "127.0.0.1:25? 192.0.2.0/24 a trusted address"
    );
    let included = ("etc/exim4/more", "hostlist near = 10.4.0.9\n");
    let text = ".include /etc/exim4/more\n.include_if_exists /etc/exim4/gone\nacl_smtp_rcpt = check\nbegin acl\ncheck:\naccept hosts = +near\n";
    assert_eq!(
        services(&READER, &[("etc/exim4/exim4.conf", text), included]),
        "*:25? 10.4.0.9 a trusted address"
    );
}

#[test]
fn passwords_of_other_servers() {
    let export = Export::new(
        ExportId(0),
        "d/etc/exim4/passwd.client",
        "# server\nmail.example:ann:Anker7\nodd\n".into(),
    );
    let reading = (READER.read)(&export, &crate::ReadContext::of(vec![&export]));
    assert_eq!(export.text_at(reading.facts.secrets[0].origin), "Anker7");
    assert_eq!(reading.ledger.notes.len(), 1);
}
