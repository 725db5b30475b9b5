//! A service limits its sources, and a relay that untrusted networks reach is among them.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::each_once;
use crate::support::relays::{limited, lines, strongest_login};
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::relays::{RelayTarget, Relayed};
use trevlin_analysis::services::sites_at;
use trevlin_analysis::ways::some_ranges;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::IpRange;
use trevlin_model::relay::Relay;
use trevlin_model::served::{AuthRequirement, PartKind, Served, ServiceResource, Sources};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/relay-voids-source-limit",
    area: Area::Exposure,
    title: "Source restriction without effect behind a relay",
    severity: Severity::Medium,
    why: "The service admits clients by their address, and it sees the address of the relay, not that of the client. Any host that \
          reaches the relay is admitted, and logs of the service show the relay alone.",
    fix: "Restrict the sources at the relay, or hand on the client's address (PROXY protocol) and judge that one. Remove the \
          relay's address from the list, and require a login at the service.",
    judged: "Fails for each share, module, page, database rule or other resource that permits the relay's address and not the \
             clients that reach the relay from the Internet: high where the resource requires no login, medium otherwise. \
             One level lower for named networks, and where the relay requires a password. Passes where the relay requires a \
             certificate, or where the service learns the client's address.",
    references: &["RFC 7239, 8.1", "NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut found: BTreeMap<(usize, String), (bool, Answer)> = BTreeMap::new();
    for one in &estate.internet().relayed {
        let RelayTarget::Service { device, service } = one.target else { continue };
        let place = &estate.internet().services[device][service];
        for served in sites_at(&estate.devices[device], place) {
            for part in &served.parts {
                let verdict = judge(estate, one, device, served, part);
                let fails = matches!(verdict, Verdict::Fail(_));
                let subject = Subject::part(served, part);
                let key = (device, subject.key().to_owned());
                let answer = Answer::new(device, subject, verdict);
                match found.get(&key) {
                    Some((true, _)) => {}
                    Some(_) if !fails => {}
                    _ => {
                        found.insert(key, (fails, answer));
                    }
                }
            }
        }
    }
    found.into_values().map(|(_, answer)| answer).collect()
}

fn admits(sources: &Sources, some: &[IpRange]) -> bool {
    some.iter().any(|one| sources.ranges.iter().any(|own| own.intersection(one).is_some()))
}

fn judge(
    estate: &Analyses,
    one: &Relayed,
    device: usize,
    served: &Served,
    part: &ServiceResource,
) -> Verdict {
    let relay = one.last(estate);
    let outsiders = one.clients.iter().any(|range| !part.sources.ranges.iter().any(|own| own.covers(range)));
    let void = !part.sources.is_everybody()
        && !part.sources.origins.is_empty()
        && admits(&part.sources, &one.seen_as)
        && outsiders
        && relay.source_kept_origin.is_none()
        && part.login.value() != Some(&AuthRequirement::Refused)
        && strongest_login(estate, one) <= Some(AuthRequirement::Password)
        && (part.kind != PartKind::Page || passes_on(relay, &part.name));
    if !void {
        return Verdict::pass_by(
            part.login.origin().into_iter().chain([part.origin, relay.origin]),
            part.origin,
        );
    }
    let nothing = part.login.value().is_some_and(|login| *login <= AuthRequirement::Address);
    let base = if nothing { CHECK.rated_at(Severity::High, "no login is required") } else { CHECK.rating() };
    let name = &estate.devices[device].name;
    let title = match part.title() {
        title if title == served.name => format!("{title} of {name}"),
        title => format!("{title} of {} on {name}", served.name),
    };
    let evidence = part.lines().into_iter().chain(lines(estate, one)).collect::<Vec<_>>();
    Verdict::Fail(Fail {
        rating: limited(estate, base, one),
        title: format!("{title}: source restriction has no effect behind {}", relay.name).into(),
        detail: format!(
            "Permitted sources: {}. The relay connects from {}, and {} reaches the relay.",
            part.sources.words(),
            some_ranges(&one.seen_as),
            if one.everybody { "any Internet address".to_owned() } else { some_ranges(&one.clients) }
        )
        .into(),
        evidence: each_once(evidence),
    })
}

/// Whether a relay passes requests for a page on: the page is below the path that takes the place of its own, and no other page of the relay
/// takes them. Patterns are not followed.
fn passes_on(relay: &Relay, page: &str) -> bool {
    let Some(path) = &relay.path else { return true };
    let own = path.strip_prefix("^~ ").unwrap_or(path);
    if !own.starts_with('/') || !page.starts_with('/') {
        return false;
    }
    let onward = relay.onward.as_deref().unwrap_or(own);
    let asked = match page.strip_prefix(onward) {
        Some(rest) => format!("{own}{rest}"),
        // The page holds all that is handed on.
        None if onward.starts_with(page) => own.to_owned(),
        None => return false,
    };
    !relay.elsewhere.iter().any(|name| {
        asked.starts_with(name) || (!name.starts_with('/') && name.contains(asked.trim_end_matches('/')))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::at_gate;

    #[test]
    fn services_that_trust_an_address() {
        let open = "-A INPUT -p tcp -m multiport --dports 80,873 -j ACCEPT\n";
        let relay =
            |options: &str| format!("listen r\n mode tcp\n bind :873\n server a 10.4.0.20:873{options}\n");
        let module = |hosts: &str| format!("[plans]\n path = /srv\n hosts allow = {hosts}\n");
        for (name, options, hosts, wanted) in [
            (
                "trusts the network",
                "",
                "10.4.0.0/24",
                &[
                    "fail high server rsyncd.conf:1 rsyncd.conf:3 iptables-save.txt:9 haproxy.cfg:3 haproxy.cfg:4",
                ][..],
            ),
            ("trusts another", "", "10.9.0.0/24", &["pass server"]),
            ("any address", "", "0.0.0.0/0 ::/0", &["pass server"]),
            ("the client's address goes on", " send-proxy", "10.4.0.0/24", &["pass server"]),
        ] {
            let (relay, module) = (relay(options), module(hosts));
            let answers = at_gate(
                &CHECK,
                ("gate/etc/haproxy/haproxy.cfg", &relay),
                ("server/etc/rsyncd.conf", &module),
                open,
            );
            assert_eq!(answers, wanted, "{name}");
        }
    }

    #[test]
    fn pages_that_trust_an_address() {
        let open = "-A INPUT -p tcp --dport 80 -j ACCEPT\n";
        let front = |locations: &str| format!("http {{\n server {{\n listen 80;\n{locations} }}\n}}\n");
        let back = "Listen 80\n<VirtualHost *:80>\nDocumentRoot /srv/www\n<Location /admin>\nRequire ip 10.4.0.0/24\n</Location>\n</VirtualHost>\n";
        for (name, locations, wanted) in [
            ("everything", " location / { proxy_pass http://10.4.0.20; }\n", Some("fail high server")),
            ("another path", " location /shop { proxy_pass http://10.4.0.20; }\n", None),
            (
                "another path in its place",
                " location /shop/ { proxy_pass http://10.4.0.20/admin/; }\n",
                Some("fail high server"),
            ),
            (
                "the page is refused at the relay",
                " location / { proxy_pass http://10.4.0.20; }\n location /admin { deny all; }\n",
                None,
            ),
            (
                "a pattern refuses it",
                " location / { proxy_pass http://10.4.0.20; }\n location ~ ^/admin { return 403; }\n",
                None,
            ),
        ] {
            let front = front(locations);
            let answers = at_gate(
                &CHECK,
                ("gate/etc/nginx/nginx.conf", &front),
                ("server/etc/apache2/apache2.conf", back),
                open,
            );
            let failing: Vec<&String> = answers.iter().filter(|one| one.starts_with("fail")).collect();
            match wanted {
                Some(start) => {
                    assert!(failing.len() == 1 && failing[0].starts_with(start), "{name}: {answers:?}")
                }
                None => assert!(failing.is_empty(), "{name}: {answers:?}"),
            }
        }
    }

    /// What trusts the device itself trusts its relays.
    #[test]
    fn on_the_device_itself() {
        let open = "-A INPUT -p tcp --dport 80 -j ACCEPT\n";
        let front = (
            "gate/etc/nginx/nginx.conf",
            "http {\n server {\n listen 80;\n location / { proxy_pass http://127.0.0.1:8080; }\n }\n}\n",
        );
        let back = (
            "gate/etc/apache2/apache2.conf",
            "Listen 127.0.0.1:8080\nDocumentRoot /srv/www\n<Location /server-status>\nSetHandler server-status\nRequire local\n</Location>\n",
        );
        let answers = at_gate(&CHECK, front, back, open);
        assert!(answers.iter().any(|one| one.starts_with("fail high gate apache2.conf:3")), "{answers:?}");
    }
}
