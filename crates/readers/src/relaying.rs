//! Common parts of the readers of relays: the servers that connections are handed on to.

use crate::growth::may_grow;
use crate::serving;
use trevlin_model::relay::Relay;
use trevlin_model::served::{AuthRequirement, Served, ServiceResource};

/// `host:port`, `[address]:port`, or a host alone with the usual port, where there is one. Names that are put together at run time are
/// none.
pub(crate) fn server(text: &str, usual: Option<u16>) -> Option<(&str, u16)> {
    if text.contains(['$', '%', '/']) || text.starts_with("unix:") || text == "unix" {
        return None;
    }
    let (host, port) = serving::host_and_port(text);
    let whole = text.starts_with('[') || text.matches(':').count() < 2;
    let host = if whole { host? } else { text };
    Some((host, port.or(usual)?))
}

/// The server of a URL, with the path behind it where it has one, and its usual port.
pub(crate) fn server_of_url(url: &str) -> Option<(&str, u16, Option<&str>)> {
    let (scheme, rest) = url.split_once("://")?;
    let usual = match scheme.to_ascii_lowercase().as_str() {
        "http" | "h2c" | "ws" | "grpc" => 80,
        "https" | "h2" | "wss" | "grpcs" => 443,
        "ajp" => 8009,
        _ => return None,
    };
    let end = rest.find(['/', '?']).unwrap_or(rest.len());
    let (place, path) = rest.split_at(end);
    // A login may stand before the host.
    let place = place.rsplit_once('@').map_or(place, |(_, place)| place);
    let (host, port) = server(place, Some(usual))?;
    Some((host, port, Some(path).filter(|path| !path.is_empty())))
}

/// A relay for each way to a page, or to a service as a whole, that is handed on: with the sources and the login of each.
pub(crate) fn for_each_way<'p>(
    relay: &Relay,
    parts: impl IntoIterator<Item = &'p ServiceResource>,
    found: &mut Vec<Relay>,
) {
    for part in parts.into_iter().filter(|part| part.login.value() != Some(&AuthRequirement::Refused)) {
        if !may_grow(size_of::<Relay>() + relay.host.len()) {
            return;
        }
        let login = part.login.value().copied().filter(|login| *login > AuthRequirement::Address);
        found.push(Relay { sources: serving::handed_on(&part.sources), login, ..relay.clone() });
    }
}

/// Notes for each relay of a site the paths that are others: those below its own, and patterns.
pub(crate) fn divide(relays: &mut [Relay], paths: &[String]) {
    let bare = |path: &str| path.trim_start_matches("^~ ").trim_start_matches("= ").to_owned();
    for one in relays {
        let Some(path) = one.path.as_deref() else { continue };
        let own = bare(path);
        let others = paths.iter().map(|path| bare(path)).filter(|other| *other != own);
        let others = others.filter(|other| !other.starts_with('/') || other.starts_with(&own));
        let others: Vec<String> = others.collect();
        if may_grow(others.iter().map(String::len).sum::<usize>() + paths.len()) {
            one.elsewhere = others;
        }
    }
}

/// Relays with the places of the service they belong to.
pub(crate) fn placed(mut relays: Vec<Relay>, served: &Served) -> Vec<Relay> {
    let size = served.endpoints.len() * size_of::<trevlin_model::served::Endpoint>();
    relays.retain(|_| may_grow(size));
    for one in &mut relays {
        one.name.clone_from(&served.name);
        one.endpoints.clone_from(&served.endpoints);
        one.units = served.units.iter().map(|unit| (*unit).to_owned()).collect();
    }
    relays
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{Export, ExportId};

    #[test]
    fn servers() {
        for (text, usual, wanted) in [
            ("10.4.0.9:5432", None, Some(("10.4.0.9", 5432))),
            ("db", Some(80), Some(("db", 80))),
            ("db", None, None),
            ("[2001:db8::9]:80", None, Some(("2001:db8::9", 80))),
            ("2001:db8::9", Some(80), Some(("2001:db8::9", 80))),
            ("$host:80", None, None),
            ("/run/x.sock", Some(80), None),
        ] {
            assert_eq!(server(text, usual), wanted, "{text}");
        }
        for (url, wanted) in [
            ("http://10.4.0.9", Some(("10.4.0.9", 80, None))),
            ("https://db.example:8443/app/", Some(("db.example", 8443, Some("/app/")))),
            ("http://ann:x@db/", Some(("db", 80, Some("/")))),
            ("http://unix:/run/x:/", None),
            ("fcgi://10.4.0.9:9000", None),
            ("http://$backend", None),
        ] {
            assert_eq!(server_of_url(url), wanted, "{url}");
        }
    }

    /// Relays of a file as lines: where they listen, the path, the server with its path, and what limits them.
    fn told(path: &str, text: &str) -> Vec<String> {
        let export = Export::new(ExportId(0), format!("d/etc/{path}"), text.into());
        let reader = crate::recognise(&export).reader.unwrap();
        let reading = (reader.read)(&export, &crate::ReadContext::of(vec![&export]));
        assert!(reading.ledger.notes.is_empty(), "{:?}", reading.ledger.notes);
        let line = |one: &Relay| {
            let ports: Vec<String> = one.endpoints.iter().map(|at| at.port.to_string()).collect();
            let path = one.path.as_ref().map(|path| format!(" {path}")).unwrap_or_default();
            let onward = one.onward.as_ref().map(|path| format!(" {path}")).unwrap_or_default();
            let from = if one.sources.is_everybody() {
                String::new()
            } else {
                format!(" from {}", one.sources.words())
            };
            let login = one.login.map(|login| format!(" login {login:?}")).unwrap_or_default();
            let kept = if one.source_kept_origin.is_some() { " kept" } else { "" };
            format!("{}{path} -> {}{onward}{from}{login}{kept}", ports.join(","), one.target())
        };
        reading.facts.relays.iter().map(line).collect()
    }

    #[test]
    fn relays_of_haproxy() {
        for (text, wanted) in [
            (
                "listen db\n mode tcp\n bind :5432\n server a 10.4.0.9:5432 check\n",
                &["5432 -> 10.4.0.9:5432"][..],
            ),
            ("listen db\n mode tcp\n bind :5432\n server a 10.4.0.9\n", &["5432 -> 10.4.0.9:5432"]),
            (
                "listen db\n mode tcp\n bind :90\n server a 10.4.0.9:80 send-proxy-v2\n server b 10.4.0.8:80 disabled\n",
                &["90 -> 10.4.0.9:80 kept"],
            ),
            (
                "defaults\n mode http\n default-server send-proxy\nfrontend f\n bind :80\n acl inside src 10.4.0.0/24\n http-request deny unless inside\n acl app path_beg /app\n \
                 use_backend two if app\n default_backend one\nbackend one\n server a web:8080\nbackend two\n server b 10.4.0.8:81\n",
                &["80 /app -> 10.4.0.8:81 from 10.4.0.0/24 kept", "80 / -> web:8080 from 10.4.0.0/24 kept"],
            ),
            (
                "frontend f\n mode http\n bind :80\n http-request auth unless { http_auth(u) }\n use_backend one if { path_beg /x }\nbackend one\n server a 10.4.0.9:80\n",
                &["80 /x -> 10.4.0.9:80 login Password"],
            ),
            ("listen s\n mode tcp\n bind :90\n server a /run/x.sock\n", &[]),
        ] {
            assert_eq!(told("haproxy/haproxy.cfg", text), wanted, "{text}");
        }
    }

    #[test]
    fn relays_of_nginx() {
        for (text, wanted) in [
            (
                "stream {\n server {\n listen 5432;\n proxy_pass 10.4.0.9:5432;\n }\n}\n",
                &["5432 -> 10.4.0.9:5432"][..],
            ),
            (
                "stream {\n upstream db { server 10.4.0.9:1; server 10.4.0.8:2 down; server unix:/x; }\n server {\n listen 53 udp;\n proxy_pass db;\n proxy_protocol on;\n allow 10.4.0.0/24;\n deny all;\n }\n}\n",
                &["53 -> 10.4.0.9:1 from 10.4.0.0/24 kept"],
            ),
            (
                "http {\n upstream app { server 10.4.0.9:8080; }\n server {\n listen 80;\n location / { proxy_pass http://app; }\n location /s/ { auth_basic x; auth_basic_user_file f; proxy_pass https://10.4.0.8/t/; }\n location /no { proxy_pass http://$host; }\n }\n}\n",
                &["80 / -> 10.4.0.9:8080", "80 /s/ -> 10.4.0.8:443 /t/ login Password"],
            ),
        ] {
            assert_eq!(told("nginx/nginx.conf", text), wanted, "{text}");
        }
    }

    #[test]
    fn relays_of_apache() {
        let site = |inner: &str| {
            format!("Listen 80\n<VirtualHost *:80>\nServerName a.example\n{inner}</VirtualHost>\n")
        };
        for (text, wanted) in [
            (
                site("ProxyPass /no !\nProxyPass /app http://10.4.0.9:8080/x\n"),
                &["80 /app -> 10.4.0.9:8080 /x"][..],
            ),
            (
                site("ProxyPass / http://10.4.0.9/\n<Location /adm>\nRequire ip 10.4.0.0/24\n</Location>\n"),
                &["80 / -> 10.4.0.9:80 /", "80 /adm -> 10.4.0.9:80 /adm from 10.4.0.0/24"],
            ),
            (site("<Location /y>\nProxyPass http://10.4.0.9\n</Location>\n"), &["80 /y -> 10.4.0.9:80 /"]),
            (
                site(
                    "<Proxy balancer://all>\nBalancerMember http://10.4.0.9:81\nBalancerMember ajp://10.4.0.8\n</Proxy>\nProxyPass / balancer://all/\n",
                ),
                &["80 / -> 10.4.0.9:81 /", "80 / -> 10.4.0.8:8009 /"],
            ),
            (
                site("RewriteEngine on\nRewriteRule ^/(.*)$ https://10.4.0.9/$1 [P,L]\n"),
                &["80 / -> 10.4.0.9:443 /"],
            ),
        ] {
            assert_eq!(told("apache2/sites-enabled/a.conf", &text), wanted, "{text}");
        }
    }

    #[test]
    fn relays_of_stunnel_and_ssh() {
        for (path, text, wanted) in [
            (
                "stunnel/a.conf",
                "[a]\naccept = 443\nconnect = 80\nconnect = db:81\n",
                &["443 -> localhost:80", "443 -> db:81"][..],
            ),
            (
                "stunnel/a.conf",
                "[a]\naccept = 443\nconnect = 10.4.0.9:80\nverifyChain = yes\nCAfile = x\nprotocol = proxy\n",
                &["443 -> 10.4.0.9:80 login Certificate kept"],
            ),
            (
                "ssh/ssh_config",
                "Host quay\n  LocalForward *:90 10.4.0.9:80\n  DynamicForward 1080\n",
                &["90 -> 10.4.0.9:80"],
            ),
        ] {
            assert_eq!(told(path, text), wanted, "{text}");
        }
    }
}
