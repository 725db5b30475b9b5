//! Tests of the reader.

use super::*;
use crate::testing::first;
use trevlin_model::served::{Served, ServiceResource};

fn of(files: &[(&str, &str)]) -> Reading {
    first(read, files)
}

fn told(reading: &Reading) -> Vec<String> {
    let line = |part: &ServiceResource| {
        let mut remarks: Vec<String> = part.remarks.iter().map(|(one, _)| format!("{one:?}")).collect();
        if part.is_written() {
            remarks.push("writes".into());
        }
        format!("{} {} {:?} {}", part.name, part.sources.words(), part.login.value(), remarks.join(" "))
    };
    let all = reading.facts.served.iter().flat_map(|one| &one.parts).map(line);
    all.map(|line| line.trim_end().to_owned()).collect()
}

fn site(inner: &str) -> Vec<String> {
    let text = format!("Listen 80\n<VirtualHost *:80>\nDocumentRoot /var/www\n{inner}</VirtualHost>\n");
    let reading = of(&[("d/etc/apache2/apache2.conf", &text)]);
    assert!(reading.ledger.notes.is_empty(), "{inner}: {:?}", reading.ledger.notes);
    told(&reading)
}

#[test]
fn pages_and_who_may() {
    for (inner, wanted) in [
        ("", &["/ any address Some(Nothing)"][..]),
        (
            "<Directory /var/www>\nOptions Indexes FollowSymLinks\nRequire all granted\n</Directory>\n",
            &["/ any address Some(Nothing) Listing"],
        ),
        (
            "<Directory />\nOptions Indexes\n</Directory>\n<Directory /var/www>\nOptions -Indexes\n</Directory>\n",
            &["/ any address Some(Nothing)"],
        ),
        ("<Directory />\nRequire all denied\n</Directory>\n", &[]),
        (
            "<Location />\nRequire ip 10.4 10.5.0.0/16\n</Location>\n",
            &["/ 10.4.0.0/16, 10.5.0.0/16 Some(Nothing)"],
        ),
        (
            "<Location /a>\nAuthType Basic\nRequire valid-user\n</Location>\n",
            &["/ any address Some(Nothing)", "/a any address Some(Password)"],
        ),
        (
            "<Location />\nRequire ip 10.4.0.9\nRequire valid-user\n</Location>\n",
            &["/ 10.4.0.9 Some(Nothing)", "/ any address Some(Password)"],
        ),
        (
            "<Location />\n<RequireAll>\nRequire ip 10.4.0.9\nRequire valid-user\n</RequireAll>\n</Location>\n",
            &["/ 10.4.0.9 Some(Password)"],
        ),
        (
            "<Location />\n<RequireAll>\nRequire all granted\nRequire not ip 0.0.0.0/0\n</RequireAll>\n</Location>\n",
            &["/ any address Some(Nothing)"],
        ),
        (
            "<Location />\nOrder deny,allow\nDeny from all\nAllow from 10.4\n</Location>\n",
            &["/ 10.4.0.0/16 Some(Nothing)"],
        ),
        (
            "<Location />\nOrder allow,deny\nAllow from all\nDeny from 10.4\n</Location>\n",
            &["/ any address Some(Nothing)"],
        ),
        (
            "<Location /server-status>\nSetHandler server-status\nRequire local\n</Location>\n",
            &["/ any address Some(Nothing)", "/server-status 127.0.0.0/8, ::1 Some(Nothing) Status"],
        ),
        (
            "ProxyPass /admin http://10.4.0.9/\n",
            &["/ any address Some(Nothing)", "/admin any address None Administration HandedOn"],
        ),
        ("Redirect permanent / https://yard.example/\n", &["/ any address Some(Nothing) Redirect"]),
        (
            "RewriteEngine on\nRewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI}\n",
            &["/ any address Some(Nothing) Redirect"],
        ),
        ("RewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI}\n", &["/ any address Some(Nothing)"]),
        // A variable that a header of the client sets, and an address that a header states.
        (
            "SetEnvIf X-Forwarded-For ^10\\.4\\. inner\n<Location />\nRequire env inner\n</Location>\n",
            &["/ any address Some(Nothing)"],
        ),
        (
            "SetEnvIf X-Key ^x inner=1\n<Location />\nOrder deny,allow\nDeny from all\nAllow from env=inner\n</Location>\n",
            &["/ any address Some(Nothing)"],
        ),
        (
            "SetEnvIf Remote_Addr ^10\\.4\\. inner\n<Location />\nRequire env inner\n</Location>\n",
            &["/ env inner Some(Nothing)"],
        ),
        (
            "RemoteIPHeader X-Forwarded-For\n<Location />\nRequire ip 10.4\n</Location>\n",
            &["/ any address Some(Nothing)"],
        ),
        (
            "RemoteIPHeader X-Forwarded-For\nRemoteIPInternalProxy 10.4.0.9\n<Location />\nRequire ip 10.4\n</Location>\n",
            &["/ 10.4.0.0/16 Some(Nothing)"],
        ),
        (
            "<Directory /var/www/drop>\nDav On\n</Directory>\n",
            &["/ any address Some(Nothing)", "/drop any address Some(Nothing) writes"],
        ),
    ] {
        assert_eq!(site(inner), wanted, "{inner}");
    }
}

#[test]
fn places_and_conditions() {
    for (text, wanted) in [
        ("Listen 80\nDocumentRoot /a\n", &["web site at 80 (Apache) None/80 Plain"][..]),
        ("Listen 127.0.0.1:8080\n", &["web site at 8080 (Apache) Some(127.0.0.1)/8080 Plain"]),
        // No service listens on 8443.
        (
            "Listen 80\n<VirtualHost *:8443>\nServerName a\n</VirtualHost>\n",
            &["web site at 80 (Apache) None/80 Plain"],
        ),
        (
            "Listen 443\n<VirtualHost *:443>\nServerName a\nSSLEngine on\n</VirtualHost>\n",
            &["web site a (Apache) None/443 Encrypted"],
        ),
        (
            "LoadModule dir_module x\n<IfModule mod_ssl.c>\nListen 443\n</IfModule>\n<IfModule !mod_ssl.c>\nListen 80\n</IfModule>\n",
            &["web site at 80 (Apache) None/80 Plain"],
        ),
        ("<IfModule ssl_module>\nListen 443\n</IfModule>\n", &["web site at 443 (Apache) None/443 Plain"]),
        ("Define P 8088\nListen ${P}\n", &["web site at 8088 (Apache) None/8088 Plain"]),
    ] {
        let reading = of(&[("d/etc/apache2/apache2.conf", text)]);
        let line = |one: &Served| {
            let at = &one.endpoints[0];
            format!("{} {:?}/{} {:?}", one.name, at.address, at.port, at.carried)
        };
        assert_eq!(reading.facts.served.iter().map(line).collect::<Vec<_>>(), wanted, "{text}");
    }
}

#[test]
fn sites_that_are_not_enabled_are_nobodys() {
    const MAIN: (&str, &str) =
        ("d/etc/apache2/apache2.conf", "Include ports.conf\nIncludeOptional sites-enabled/*.conf\n");
    const PORTS: (&str, &str) = ("d/etc/apache2/ports.conf", "Listen 80\n");
    const ON: (&str, &str) =
        ("d/etc/apache2/sites-enabled/a.conf", "<VirtualHost *:80>\nServerName a\n</VirtualHost>\n");
    const OFF: (&str, &str) =
        ("d/etc/apache2/sites-available/b.conf", "<VirtualHost *:80>\nServerName b\n</VirtualHost>\n");
    let names = |files: &[(&str, &str)]| {
        of(files).facts.served.iter().map(|one| one.name.clone()).collect::<Vec<_>>()
    };
    assert_eq!(names(&[MAIN, PORTS, ON, OFF]), ["web site a (Apache)"]);
    assert!(names(&[OFF, MAIN, PORTS, ON]).is_empty() && names(&[ON, MAIN, PORTS]).is_empty());
}

#[test]
fn what_is_wrong_is_told() {
    for (text, notes) in
        [("Colour red\n", 1), ("Include more.conf\n", 1), ("<VirtualHost *:80>\n", 1), ("</Directory>\n", 1)]
    {
        assert_eq!(of(&[("d/apache2.conf", text)]).ledger.notes.len(), notes, "{text}");
    }
}
