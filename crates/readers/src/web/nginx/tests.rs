//! Tests of the reader.

use super::*;
use crate::testing::first;
use trevlin_model::served::ServiceResource;

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
    told(&of(&[(
        "d/etc/nginx/nginx.conf",
        &format!("events {{}}\nhttp {{ server {{ listen 80; {inner} }} }}\n"),
    )]))
}

#[test]
fn pages_and_who_may() {
    for (inner, wanted) in [
        ("", &["/ any address Some(Nothing)"][..]),
        (
            "autoindex on; location /a { autoindex off; } location /b {}",
            &[
                "/ any address Some(Nothing) Listing",
                "/a any address Some(Nothing)",
                "/b any address Some(Nothing) Listing",
            ],
        ),
        ("allow 10.4.0.0/24; deny all;", &["/ 10.4.0.0/24 Some(Nothing)"]),
        // Clients without a matching rule are permitted.
        ("deny 10.4.0.0/24;", &["/ any address Some(Nothing)"]),
        ("deny all; location /a { allow all; }", &["/a any address Some(Nothing)"]),
        (
            "auth_basic x; location /a { auth_basic off; }",
            &["/ any address Some(Password)", "/a any address Some(Nothing)"],
        ),
        (
            "satisfy any; allow 10.4.0.9; deny all; auth_basic x;",
            &["/ 10.4.0.9 Some(Nothing)", "/ any address Some(Password)"],
        ),
        ("satisfy any; deny 10.4.0.9; auth_basic x;", &["/ any address Some(Password)"]),
        ("allow 10.4.0.9; deny all; auth_basic x;", &["/ 10.4.0.9 Some(Password)"]),
        ("location / { proxy_pass http://10.4.0.9; }", &["/ any address None HandedOn"]),
        (
            "location /nginx_status { stub_status; allow 127.0.0.1; deny all; }",
            &["/ any address Some(Nothing)", "/nginx_status 127.0.0.1 Some(Nothing) Status"],
        ),
        ("return 301 https://$host$request_uri; location /x {}", &["/ any address Some(Nothing) Redirect"]),
        (
            "if ($scheme != \"https\") { return 301 https://$host$request_uri; }",
            &["/ any address Some(Nothing) Redirect"],
        ),
        (
            "if ($a) { return 301 https://$host$request_uri; }",
            &["/ any address Some(Nothing) RedirectSometimes"],
        ),
        (
            "location /admin { dav_methods PUT; }",
            &["/ any address Some(Nothing)", "/admin any address Some(Nothing) Administration writes"],
        ),
        ("location = /x { internal; }", &["/ any address Some(Nothing)"]),
        // Where every client may state its own address, lists of addresses keep no client off.
        ("allow 10.4.0.0/24; deny all; set_real_ip_from 0.0.0.0/0;", &["/ any address Some(Nothing)"]),
        ("allow 10.4.0.0/24; deny all; set_real_ip_from 10.4.0.9;", &["/ 10.4.0.0/24 Some(Nothing)"]),
    ] {
        assert_eq!(site(inner), wanted, "{inner}");
    }
}

#[test]
fn places_and_versions() {
    for (inner, wanted) in [
        ("listen 443 ssl;", "None IPv4 443 Encrypted: TLSv1 TLSv1.1 TLSv1.2 TLSv1.3"),
        ("listen [::]:80;", "None IPv6 80 Plain: "),
        ("listen [::]:80 ipv6only=off;", "None IPv4 and IPv6 80 Plain: "),
        ("listen 127.0.0.1:8080;", "Some(127.0.0.1) IPv4 8080 Plain: "),
        ("", "None IPv4 80 Plain: "),
        (
            "listen 8443 ssl http2; ssl_protocols TLSv1.2; ssl_ciphers HIGH:!aNULL;",
            "None IPv4 8443 Encrypted: TLSv1.2 HIGH",
        ),
    ] {
        let reading = of(&[("d/nginx.conf", &format!("http {{ server {{ {inner} }} }}\n"))]);
        let served = &reading.facts.served[0];
        let one = &served.endpoints[0];
        let names: Vec<&str> =
            served.offers.iter().flat_map(|one| &one.algorithms).map(|one| one.name.as_str()).collect();
        let told =
            format!("{:?} {} {} {:?}: {}", one.address, one.families, one.port, one.carried, names.join(" "));
        assert_eq!(told, wanted, "{inner}");
    }
}

#[test]
fn files_that_read_in_others() {
    const MAIN: (&str, &str) =
        ("d/etc/nginx/nginx.conf", "http {\n autoindex on;\n include sites-enabled/*;\n}\n");
    const ON: (&str, &str) = ("d/etc/nginx/sites-enabled/a", "server {\n listen 80;\n}\n");
    const OFF: (&str, &str) = ("d/etc/nginx/sites-available/b", "server {\n listen 81;\n}\n");
    assert_eq!(told(&of(&[MAIN, ON, OFF])), ["/ any address Some(Nothing) Listing"]);
    // Files included by another, or not enabled, are no sites of their own.
    assert!(told(&of(&[ON, MAIN, OFF])).is_empty() && told(&of(&[OFF, MAIN])).is_empty());
    assert_eq!(told(&of(&[OFF])), ["/ any address Some(Nothing)"]);
    let dump = format!(
        "# configuration file /etc/nginx/nginx.conf:\n{}\n# configuration file /etc/nginx/sites-enabled/a:\n{}",
        MAIN.1, ON.1
    );
    let reading = of(&[("d/nginx-T.txt", &dump)]);
    assert_eq!(told(&reading), ["/ any address Some(Nothing) Listing"]);
    assert!(reading.ledger.notes.is_empty(), "{:?}", reading.ledger.notes);
}

#[test]
fn what_is_wrong_is_told() {
    for (text, notes) in [
        ("http { colour red; }\n", 1),
        ("http { server { listen 80 }\n}\n", 1),
        ("http { include more.conf; }\n", 1),
        ("http { server {\n", 1),
    ] {
        assert_eq!(of(&[("d/nginx.conf", text)]).ledger.notes.len(), notes, "{text}");
    }
}
