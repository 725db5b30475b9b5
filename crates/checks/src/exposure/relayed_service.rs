//! The Internet reaches an internal service through a relay.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::rated::severity_of_kind;
use crate::support::relays::{limited, lines, named, strongest_login};
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::protection_evidence;
use trevlin_analysis::relays::{RelayTarget, Relayed};
use trevlin_analysis::services::{PortKind, What, known_port};
use trevlin_analysis::ways::some_ranges;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::served::AuthRequirement;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/relayed-service",
    area: Area::Exposure,
    title: "Internal service reachable through an Internet-facing relay",
    severity: Severity::High,
    why: "A relay opens its own connection to the service behind it. Packet filters and access lists see the relay as the \
          source and permit it, so the service is on the Internet although no rule shows it.",
    fix: "Remove the relay, or require a client certificate or a VPN in front of it. Limit its sources to the addresses that \
          need it.",
    judged: "Fails for each server behind a relay that the Internet reaches, where the relay is permitted to connect to it: \
             high for shells, remote desktops, management, files, databases, directories and controllers; medium for \
             monitoring, printing, messages and voice; low otherwise. Passes for web sites, mail, and where the relay requires \
             a certificate. One level lower for named networks, and where the relay requires a password; info for a few named \
             hosts. Undetermined where the server is not known.",
    references: &["NIST SP 800-41 Rev. 1, 4.1", "NIST SP 800-46 Rev. 2, 2.2"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    // A server by one relay, however many ways lead to the relay.
    let mut by_server: BTreeMap<(usize, Origin, String), &Relayed> = BTreeMap::new();
    for one in &estate.internet().relayed {
        let key = (one.through[0].0, one.last(estate).origin, target_key(one));
        let known = by_server.entry(key).or_insert(one);
        if (!one.certain, !one.everybody) < (!known.certain, !known.everybody) {
            *known = one;
        }
    }
    let mut answers = Vec::new();
    for ((device, ..), one) in by_server {
        let relay = one.last(estate);
        let subject = Subject::of(SubjectKind::Relay).with(relay.program).with(relay.target());
        answers.push(Answer::new(device, subject, judge(estate, one)));
    }
    answers
}

fn target_key(one: &Relayed) -> String {
    match one.target {
        RelayTarget::Service { device, service } => format!("{device} {service}"),
        RelayTarget::Host { address, .. } => address.to_string(),
        RelayTarget::Unresolved => String::new(),
    }
}

/// Whether the server is a relay itself: the one behind it is judged.
fn leads_on(estate: &Analyses, one: &Relayed) -> bool {
    let further =
        |other: &Relayed| other.through.len() > one.through.len() && other.through.starts_with(&one.through);
    estate.internet().relayed.iter().any(|other| other.reached == one.reached && further(other))
}

fn judge(estate: &Analyses, one: &Relayed) -> Verdict {
    let relay = one.last(estate);
    if strongest_login(estate, one) > Some(AuthRequirement::Password) {
        return Verdict::pass(relay.origin);
    }
    let known = known_port(relay.protocol.0.unwrap_or(6), relay.port);
    let kind = match one.target {
        RelayTarget::Service { device, service } => estate.internet().services[device][service].kind(),
        _ => known.map_or(PortKind::Other, |known| known.kind),
    };
    // Requests to a web site are what such a relay is for.
    if matches!(kind, PortKind::Web | PortKind::Mail | PortKind::Tunnel)
        || (relay.is_of_pages() && kind == PortKind::Other)
    {
        return Verdict::pass(relay.origin);
    }
    if leads_on(estate, one) {
        return Verdict::pass(relay.origin);
    }
    let (name, from) = (named(estate, one), &estate.devices[one.through[0].0].name);
    if one.target == RelayTarget::Unresolved && relay.is_of_pages() {
        return Verdict::pass(relay.origin);
    }
    if one.target == RelayTarget::Unresolved || !one.certain {
        let question = format!(
            "Please state which host {} is and whether {} relays connections from the Internet to it: the exports do not \
             determine it.",
            relay.host, relay.name
        );
        return Verdict::ask(question, lines(estate, one));
    }
    let mut rating =
        CHECK.rated_at(severity_of_kind(kind, known, false), format!("kind of service: {}", kind.words()));
    if let RelayTarget::Service { device, service } = one.target {
        let service = &estate.internet().services[device][service];
        let shell = matches!(service.what, What::Shell(_));
        let factors = protection_evidence(estate, device, service).factors;
        if let Some(factors) = factors.filter(|_| shell)
            && (factors.len() > 1 || factors.first().is_some_and(|factor| !factor.is_guessable()))
        {
            rating = rating.at_most(Severity::Low, "its login cannot be guessed");
        }
    }
    let reached = &estate.internet().outside.reached[one.reached];
    let entry = &estate.internet().services[reached.device][reached.service];
    let who = if one.everybody { "any address".to_owned() } else { some_ranges(&one.clients) };
    let unseen = match one.target {
        RelayTarget::Host { device: None, .. } => {
            " No device of the estate has the address, so the service could not be assessed."
        }
        RelayTarget::Host { device: Some(_), .. } => {
            " The exports do not show which service answers there; it is named by its port."
        }
        _ => "",
    };
    let hops = match one.through.len() {
        1 => String::new(),
        2 => ", hands them on to another relay".to_owned(),
        more => format!(", hands them on to {} more relays", more - 1),
    };
    Verdict::Fail(Fail {
        rating: limited(estate, rating, one),
        title: format!("{name} is reachable from the Internet through {}", relay.name).into(),
        detail: format!(
            "{} of {from} accepts connections from {who} at {}{hops} and connects to {}.{unseen}",
            crate::logins::capital(&entry.name),
            entry.endpoint(),
            relay.target()
        )
        .into(),
        evidence: lines(estate, one),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::at_gate;

    const DATABASE: (&str, &str) =
        ("server/etc/mosquitto/mosquitto.conf", "listener 1883\nallow_anonymous true\n");

    #[test]
    fn relays_of_each_kind() {
        let open = "-A INPUT -p tcp -m multiport --dports 80,443,5432 -j ACCEPT\n";
        let limited = "-A INPUT -p tcp -s 198.51.100.7 -j ACCEPT\n";
        let haproxy = "listen db\n mode tcp\n bind :5432\n server a 10.4.0.20:5432\n";
        let unit = "[Service]\nExecStart=/usr/bin/socat TCP-LISTEN:5432,fork TCP:10.4.0.20:3389\n";
        for (name, relay, rules, wanted) in [
            (
                "haproxy",
                ("gate/etc/haproxy/haproxy.cfg", haproxy),
                open,
                &["fail high gate iptables-save.txt:9 haproxy.cfg:3 haproxy.cfg:4"][..],
            ),
            (
                "to one host",
                ("gate/etc/haproxy/haproxy.cfg", haproxy),
                limited,
                &["fail info gate iptables-save.txt:9 haproxy.cfg:3 haproxy.cfg:4"],
            ),
            ("not reached", ("gate/etc/haproxy/haproxy.cfg", haproxy), "", &[]),
            (
                "nginx",
                (
                    "gate/etc/nginx/nginx.conf",
                    "stream {\n server {\n listen 5432;\n proxy_pass 10.4.0.20:5432;\n }\n}\n",
                ),
                open,
                &["fail high gate iptables-save.txt:9 nginx.conf:3 nginx.conf:4"],
            ),
            (
                "socat",
                ("gate/etc/systemd/system/pc.service", unit),
                open,
                &["fail high gate iptables-save.txt:9 pc.service:2"],
            ),
            (
                "a certificate is required",
                (
                    "gate/etc/stunnel/db.conf",
                    "[db]\naccept = 443\nconnect = 10.4.0.20:5432\nverifyChain = yes\nCAfile = ca.pem\n",
                ),
                open,
                &["pass gate"],
            ),
            (
                "a web site",
                (
                    "gate/etc/nginx/nginx.conf",
                    "http {\n server {\n listen 80;\n location / { proxy_pass http://10.4.0.20:8080; }\n }\n}\n",
                ),
                open,
                &["pass gate"],
            ),
            (
                "a name that is not known",
                (
                    "gate/etc/haproxy/haproxy.cfg",
                    "listen db\n mode tcp\n bind :5432\n server a db.example:5432\n",
                ),
                open,
                &["ask gate"],
            ),
        ] {
            assert_eq!(at_gate(&CHECK, relay, DATABASE, rules), wanted, "{name}");
        }
    }

    /// Filters on the way from the relay to its server count, and a chain of relays is followed.
    #[test]
    fn the_way_behind() {
        let rules = "-A INPUT -p tcp --dport 5432 -j ACCEPT\n:OUTPUT DROP [0:0]\n";
        let relay =
            ("gate/etc/haproxy/haproxy.cfg", "listen db\n mode tcp\n bind :5432\n server a 10.4.0.20:5432\n");
        assert_eq!(at_gate(&CHECK, relay, DATABASE, rules), Vec::<String>::new());
        let next = (
            "server/etc/haproxy/haproxy.cfg",
            "listen db\n mode tcp\n bind :5432\n server a 127.0.0.1:6379\n",
        );
        let open = "-A INPUT -p tcp --dport 5432 -j ACCEPT\n";
        let answers = at_gate(&CHECK, relay, next, open);
        assert!(
            answers
                .iter()
                .any(|one| one.starts_with("fail high gate") && one.ends_with("haproxy.cfg:4 haproxy.cfg:4")),
            "{answers:?}"
        );
    }
}
