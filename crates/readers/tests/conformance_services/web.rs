//! Web servers: the files that nginx, Apache and HAProxy accept, and the clients that their pages permit, requested from several addresses
//! of this machine.

use crate::{Running, Seeded, fetch, run, service, told, write};
use std::fs;
use std::path::Path;
use trevlin_model::served::{AuthRequirement, Remark, Served, ServiceResource};

const FROM: [&str; 3] = ["127.0.0.1", "127.0.0.2", "127.0.0.9"];

/// Folders with a file each.
fn folders(root: &Path) {
    for name in ["a", "b", "c"] {
        fs::create_dir_all(root.join(name)).unwrap();
        fs::write(root.join(name).join("x"), "x\n").unwrap();
    }
    run("chmod", &["-R", "a+rX", &root.display().to_string()]);
}

/// Expected response to a client without and with a login, by the facts.
fn expected(served: &Served, path: &str, from: &str) -> (u16, u16) {
    let address = from.parse().unwrap();
    let own: Vec<&ServiceResource> = served
        .parts
        .iter()
        .filter(|part| part.name.trim_end_matches('/') == path && part.sources.contains(address))
        .collect();
    let asks = |wanted: AuthRequirement| own.iter().any(|part| part.login.value() == Some(&wanted));
    match (asks(AuthRequirement::Nothing), asks(AuthRequirement::Password)) {
        (true, _) => (200, 200),
        (false, true) => (401, 200),
        (false, false) => (403, 403),
    }
}

/// Compares every page of a server with the facts; returns the number of requests.
fn compare(served: &Served, port: u16, text: &str) -> usize {
    let mut asked = 0;
    for path in ["/a", "/b", "/c"] {
        for from in FROM {
            let url = format!("http://127.0.0.1:{port}{path}/x");
            let wanted = expected(served, path, from);
            let found = (fetch(from, &url, None), fetch(from, &url, Some("ann:x")));
            assert_eq!(found, wanted, "{path} from {from} in\n{text}");
            if wanted.0 == 200 {
                let lists = served.parts.iter().any(|part| {
                    part.name.trim_end_matches('/') == path && part.remark(Remark::Listing).is_some()
                });
                let folder = fetch(from, &format!("http://127.0.0.1:{port}{path}/"), None);
                assert_eq!(folder == 200, lists, "names below {path} from {from} in\n{text}");
            }
            asked += 1;
        }
    }
    asked
}

#[test]
#[ignore = "needs nginx and curl; run by scripts/conformance.sh"]
fn nginx_lets_in_whom_it_says() {
    const LINES: [&str; 14] = [
        "allow 127.0.0.2;",
        "deny 127.0.0.2;",
        "deny all;",
        "allow all;",
        "allow 127.0.0.0/30;",
        "deny 127.0.0.0/30;",
        "satisfy any;",
        "satisfy all;",
        "auth_basic x; auth_basic_user_file users;",
        "auth_basic off;",
        "autoindex on;",
        "autoindex off;",
        "allow 127.0.0.9; deny all;",
        "# deny all;",
    ];
    let mut seeded = Seeded(59);
    let mut asked = 0;
    for round in 0..14 {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let root = folder.path().join("root");
        folders(&root);
        let port = 8200 + round;
        // A directive that is there once may not be there twice.
        let lines = |seeded: &mut Seeded, most: usize| {
            let mut picked = seeded.some(&LINES, most);
            let key = |line: &str| {
                let word = line.split(' ').next().unwrap().to_owned();
                if matches!(word.as_str(), "allow" | "deny" | "#") { line.to_owned() } else { word }
            };
            let mut seen = Vec::new();
            picked.retain(|line| {
                !seen.contains(&key(line)) && {
                    seen.push(key(line));
                    true
                }
            });
            picked.join("\n  ")
        };
        let (http, server) = (lines(&mut seeded, 2), lines(&mut seeded, 3));
        let mut locations = String::new();
        for path in ["/a", "/b", "/c"] {
            locations.push_str(&format!(" location {path} {{\n  {}\n }}\n", lines(&mut seeded, 3)));
        }
        let text = format!(
            "user root;\ndaemon off;\npid {at}/pid;\nerror_log {at}/error;\nevents {{ worker_connections 64; }}\nhttp {{\n access_log off;\n {http}\n include {at}/sites/*;\n}}\n",
            at = folder.path().display()
        );
        let site = format!(
            "server {{\n listen 127.0.0.1:{port};\n root {};\n {server}\n{locations}}}\n",
            root.display()
        );
        let file = write(&folder.path().join("nginx.conf"), &text);
        write(&folder.path().join("sites/one"), &site);
        write(&folder.path().join("users"), "ann:{PLAIN}x\n");
        let checked = run("nginx", &["-t", "-c", &file]);
        assert!(checked.status.success(), "{text}{site}{}", told(&checked));
        let _running = Running::start("nginx", &["-c", &file]).answers(port);
        let path = folder.path().join("sites/one").display().to_string();
        let main = folder.path().join("nginx.conf").display().to_string();
        let served = service(&[(&main, &text), (&path, &site)]);
        asked += compare(&served, port, &format!("{text}{site}"));
        // The program's output is equivalent.
        let dump = run("nginx", &["-T", "-q", "-c", &file]);
        let dump = String::from_utf8(dump.stdout).unwrap();
        let again = service(&[("d/nginx-T.txt", &dump)]);
        let told = |one: &Served| {
            let line = |part: &ServiceResource| {
                format!(
                    "{} {} {:?} {:?}",
                    part.name,
                    part.sources.words(),
                    part.login.value(),
                    part.remarks.iter().map(|one| one.0).collect::<Vec<_>>()
                )
            };
            one.parts.iter().map(line).collect::<Vec<_>>()
        };
        assert_eq!(told(&again), told(&served), "{dump}");
    }
    println!("{asked} pages asked of nginx");
}

#[test]
#[ignore = "needs nginx; run by scripts/conformance.sh"]
fn nginx_refuses_what_is_not_understood() {
    let folder = tempfile::tempdir().unwrap();
    for text in [
        "events {}\nhttp { server { listen 80 }\n}\n",
        "events {}\nhttp { server { listen 80;\n}\n",
        "events {}\nhttp { colour red; }\n",
        "events {}\n}\n",
    ] {
        let file = write(&folder.path().join("nginx.conf"), text);
        assert!(!run("nginx", &["-t", "-c", &file]).status.success(), "{text}");
        let export =
            trevlin_model::Export::new(trevlin_model::ExportId(0), "d/etc/nginx/nginx.conf", text.to_owned());
        let reader = trevlin_readers::recognise(&export).reader.unwrap();
        let reading = (reader.read)(&export, &trevlin_readers::ReadContext::of(vec![&export]));
        assert!(!reading.ledger.notes.is_empty(), "{text}");
    }
}

/// A server of Apache's with the modules that the cases need.
fn apache(folder: &Path, body: &str) -> (String, String) {
    let at = folder.display();
    fs::create_dir_all(folder.join("logs")).unwrap();
    let mut modules = String::new();
    for name in [
        "mpm_event",
        "authn_core",
        "authn_file",
        "authz_core",
        "authz_host",
        "authz_user",
        "auth_basic",
        "access_compat",
        "dir",
        "autoindex",
        "mime",
        "alias",
        "status",
        "ssl",
        "socache_shmcb",
        "proxy",
        "proxy_http",
        "rewrite",
    ] {
        modules.push_str(&format!("LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n"));
    }
    let text = format!(
        "ServerRoot {at}\nServerName 127.0.0.1\nPidFile {at}/pid\nErrorLog {at}/logs/error\nTypesConfig /etc/mime.types\nUser www-data\nGroup www-data\n{modules}{body}"
    );
    (write(&folder.join("apache2.conf"), &text), text)
}

#[test]
#[ignore = "needs apache2 and curl; run by scripts/conformance.sh"]
fn apache_lets_in_whom_it_says() {
    const LINES: [&str; 15] = [
        "Require all granted",
        "Require all denied",
        "Require ip 127.0.0.2",
        "Require ip 127.0.0.0/30",
        "Require not ip 127.0.0.2",
        "Require valid-user",
        "Options Indexes",
        "Options -Indexes",
        "Options +Indexes",
        "Options None",
        "<RequireAll>\nRequire valid-user\nRequire ip 127.0.0.2\n</RequireAll>",
        "<RequireAll>\nRequire all granted\nRequire not ip 127.0.0.9\n</RequireAll>",
        "<RequireAny>\nRequire ip 127.0.0.9\nRequire valid-user\n</RequireAny>",
        "Require local",
        "# Require all denied",
    ];
    let login = "AuthType Basic\nAuthName x\nAuthUserFile users\n";
    let mut seeded = Seeded(61);
    let mut asked = 0;
    for round in 0..14 {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let root = folder.path().join("root");
        folders(&root);
        let port = 8230 + round;
        // A denial alone is refused, and options with and without signs on one page are refused together.
        let lines = |seeded: &mut Seeded| {
            let mut picked = seeded.some(&LINES, 2);
            picked.retain(|line| !line.starts_with("Require not"));
            picked.dedup();
            let mixed = picked.iter().filter(|line| line.starts_with("Options")).count() > 1;
            picked.retain(|line| !mixed || !line.starts_with("Options"));
            picked.iter().map(|line| format!("{line}\n")).collect::<String>()
        };
        let mut body =
            format!("Listen 127.0.0.1:{port}\n<Directory />\n{login}Require all granted\n</Directory>\n");
        let site = root.display();
        body.push_str(&format!(
            "<Directory {site}>\n{}</Directory>\n<VirtualHost *:{port}>\nDocumentRoot {site}\n",
            lines(&mut seeded)
        ));
        for path in ["a", "b", "c"] {
            let inside = lines(&mut seeded);
            if seeded.below(2) == 0 {
                body.push_str(&format!("<Location /{path}>\n{inside}</Location>\n"));
            } else {
                body.push_str(&format!("<Directory {site}/{path}>\n{inside}</Directory>\n"));
            }
        }
        body.push_str("</VirtualHost>\n");
        let (file, text) = apache(folder.path(), &body);
        write(&folder.path().join("users"), "ann:$apr1$xEnvFeFq$cz6TtmQmZBMJuRRn6Xj.1.\n");
        let hash = run("openssl", &["passwd", "-apr1", "x"]);
        write(
            &folder.path().join("users"),
            &format!("ann:{}\n", String::from_utf8(hash.stdout).unwrap().trim()),
        );
        let checked = run("apache2", &["-t", "-f", &file]);
        assert!(checked.status.success(), "{text}{}", told(&checked));
        let _running = Running::start("apache2", &["-D", "FOREGROUND", "-f", &file]).answers(port);
        let served = service(&[("d/etc/apache2/apache2.conf", &text)]);
        asked += compare(&served, port, &text);
    }
    println!("{asked} pages asked of Apache");
}

#[test]
#[ignore = "needs apache2 and curl; run by scripts/conformance.sh"]
fn apache_lets_in_whom_the_old_lists_say() {
    const LINES: [&str; 8] = [
        "Order deny,allow\nDeny from all\nAllow from 127.0.0.2",
        "Order allow,deny\nAllow from all\nDeny from 127.0.0.9",
        "Order allow,deny\nAllow from 127.0.0.0/30\nDeny from 127.0.0.2",
        "Order deny,allow\nDeny from 127.0.0.0/30\nAllow from 127.0.0.2",
        "Deny from all",
        "Order allow,deny",
        "Order deny,allow",
        "Allow from 127.0.0.2",
    ];
    let mut seeded = Seeded(73);
    let mut asked = 0;
    for round in 0..6 {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let root = folder.path().join("root");
        folders(&root);
        let port = 8260 + round;
        let mut body =
            format!("Listen 127.0.0.1:{port}\n<VirtualHost *:{port}>\nDocumentRoot {}\n", root.display());
        for path in ["a", "b", "c"] {
            body.push_str(&format!("<Location /{path}>\n{}\n</Location>\n", seeded.pick(&LINES)));
        }
        body.push_str("</VirtualHost>\n");
        let (file, text) = apache(folder.path(), &body);
        let _running = Running::start("apache2", &["-D", "FOREGROUND", "-f", &file]).answers(port);
        let served = service(&[("d/etc/apache2/apache2.conf", &text)]);
        asked += compare(&served, port, &text);
    }
    println!("{asked} pages asked of Apache by old lists");
}

#[test]
#[ignore = "needs apache2; run by scripts/conformance.sh"]
fn apache_has_the_same_hosts() {
    let mut seeded = Seeded(67);
    let mut compared = 0;
    for _ in 0..12 {
        let folder = tempfile::tempdir().unwrap();
        let mut body = String::new();
        for port in ["8301", "8302", "8303"] {
            if seeded.below(4) > 0 {
                body.push_str(&format!("Listen {port}\n"));
            }
        }
        if body.is_empty() {
            body.push_str("Listen 8301\n");
        }
        for name in ["one", "two", "three"] {
            let place = seeded.pick(&["*:8301", "*:8302", "*:8303", "_default_:8301", "127.0.0.1:8302"]);
            let condition =
                seeded.pick(&["mod_ssl.c", "!mod_ssl.c", "ssl_module", "mod_nothing.c", "!mod_nothing.c"]);
            body.push_str(&format!(
                "<IfModule {condition}>\n<VirtualHost {place}>\nServerName {name}.example\nDocumentRoot /tmp\n</VirtualHost>\n</IfModule>\n"
            ));
        }
        let (file, text) = apache(folder.path(), &body);
        let dump = told(&run("apache2", &["-t", "-D", "DUMP_VHOSTS", "-f", &file]));
        let facts = crate::facts(&[("d/etc/apache2/apache2.conf", &text)]);
        for name in ["one", "two", "three"] {
            // `*:8301  one.example (file:line)`, or behind `port 8301 namevhost`.
            let stands = dump.contains(&format!("{name}.example"));
            let named = dump.lines().filter(|line| line.contains(&format!("{name}.example")));
            let port = named
                .filter_map(|line| ["8301", "8302", "8303"].into_iter().find(|port| line.contains(port)))
                .next();
            let listens = port.is_some_and(|port| text.contains(&format!("Listen {port}\n")));
            let ours = facts.served.iter().find(|one| one.name.contains(&format!("{name}.example")));
            assert_eq!(ours.is_some(), stands && listens, "{name} in\n{text}{dump}");
            compared += 1;
        }
    }
    println!("{compared} virtual hosts compared");
}

#[test]
#[ignore = "needs haproxy; run by scripts/conformance.sh"]
fn haproxy_takes_what_is_understood() {
    let folder = tempfile::tempdir().unwrap();
    for (text, fits) in [
        (
            "global\n maxconn 100\ndefaults\n mode http\n timeout client 5s\n timeout server 5s\n timeout connect 5s\nfrontend f\n bind 127.0.0.1:8311\n acl near src 10.4.0.0/24\n http-request deny unless near\n default_backend b\nbackend b\n server s 10.4.0.9:80\n",
            true,
        ),
        (
            "frontend f\n mode http\n timeout client 5s\n bind :8312\n stats enable\n stats uri /s\n stats auth ann:x\n",
            true,
        ),
        (
            "listen l\n mode tcp\n timeout client 5s\n timeout server 5s\n timeout connect 5s\n bind :8313\n server s 10.4.0.9:22\n",
            true,
        ),
        ("frontend f\n colour red\n", false),
        ("maxconn 9\n", false),
    ] {
        let file = write(&folder.path().join("haproxy.cfg"), text);
        let output = run("haproxy", &["-c", "-f", &file]);
        assert_eq!(output.status.success(), fits, "{text}{}", told(&output));
        let export = trevlin_model::Export::new(
            trevlin_model::ExportId(0),
            "d/etc/haproxy/haproxy.cfg",
            text.to_owned(),
        );
        let reader = trevlin_readers::recognise(&export).reader.unwrap();
        let reading = (reader.read)(&export, &trevlin_readers::ReadContext::of(vec![&export]));
        assert_eq!(reading.ledger.notes.is_empty(), fits, "{text}");
    }
}

#[test]
#[ignore = "needs haproxy and curl; run by scripts/conformance.sh"]
fn haproxy_lets_in_whom_it_says() {
    let head = "defaults\n mode http\n timeout client 5s\n timeout server 5s\n timeout connect 5s\n";
    let mut asked = 0;
    for (number, lines) in [
        " http-request deny unless { src 127.0.0.2 }\n",
        " acl near src 127.0.0.0/30\n http-request deny if !near\n",
        " acl far src 127.0.0.9\n http-request deny if far\n",
        " acl near src 127.0.0.1\n acl near src 127.0.0.2\n tcp-request connection reject if !near\n",
        " acl far src 127.0.0.9\n acl odd src 127.0.0.2\n http-request deny if far\n http-request deny if odd\n",
        "",
    ]
    .into_iter()
    .enumerate()
    {
        let folder = tempfile::tempdir().unwrap();
        let port = 8320 + number as u16;
        let text = format!("{head}frontend f\n bind 127.0.0.1:{port}\n{lines} stats enable\n stats uri /s\n");
        let file = write(&folder.path().join("haproxy.cfg"), &text);
        let _running = Running::start("haproxy", &["-db", "-f", &file]).answers(port);
        let served = service(&[("d/etc/haproxy/haproxy.cfg", &text)]);
        let page = served.parts.iter().find(|part| part.name == "/s").unwrap();
        for from in FROM {
            let found = fetch(from, &format!("http://127.0.0.1:{port}/s"), None);
            assert_eq!(found == 200, page.sources.contains(from.parse().unwrap()), "{from} in\n{text}: {found}");
            asked += 1;
        }
    }
    println!("{asked} pages asked of HAProxy");
}
