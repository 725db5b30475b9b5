//! A published port of a container.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rating::Rating;
use crate::subject::{Subject, SubjectKind};
use crate::support::filter_decides;
use crate::support::openings::for_sources;
use crate::support::rated::severity_of_kind;
use trevlin_analysis::containers::{containers_of, named};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::BeyondExport;
use trevlin_analysis::own_filter::limited_to_named;
use trevlin_analysis::services::{endpoint, known_port};
use trevlin_analysis::ways::{cited, some_ranges};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::container::{Container, PublishedPort};
use trevlin_model::{Origin, PortRange};
use trevlin_packets::way::has_ports;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/container-port",
    area: Area::Exposure,
    title: "Container port published past the filter",
    severity: Severity::Medium,
    why: "A container engine translates and accepts packets for published ports by rules of its own, before the rules of the \
          administrator for forwarded traffic. The rules for the input of the host are not applied, so a host whose filter \
          looks closed is open at these ports.",
    fix: "Publish the port at the address that needs it, `127.0.0.1:` for a reverse proxy on the host, or remove it where only \
          other containers use the service. Limit sources in the chain `DOCKER-USER`, or publish to an internal network.",
    judged: "Fails for each port of a container that the Internet reaches, by the usual service of its port: high for \
             databases, shells, remote desktops, files and management, medium for pages at other ports than 80 and 443, info \
             for public web sites and mail; one level lower for named sources. Fails as well where the input filter of the \
             host blocks the port and the engine publishes it to every address. Passes for ports at the loopback address, and \
             where the input filter permits the port as well. Undetermined where a condition not analysed decides.",
    references: &["dockerd(8), --iptables", "NIST SP 800-190, 4.3.2 and 4.4.2", "CIS Controls 8, 4.4"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    let beyond = &estate.internet().outside.beyond;
    for (at, device) in estate.devices.iter().enumerate() {
        for container in &device.facts.containers {
            for port in &container.published {
                let subject = Subject::of(SubjectKind::Container)
                    .with(container.title())
                    .with(endpoint(port.protocol.0.unwrap_or(6), port.ports));
                let reached = beyond.iter().find(|one| {
                    one.device == at
                        && one.forward == Some(port.origin)
                        && containers_of(device, &one.addresses)
                            .iter()
                            .any(|own| own.title() == container.title())
                });
                answers.push(Answer::new(at, subject, judge(estate, at, container, port, reached)));
            }
        }
    }
    answers
}

fn judge(
    estate: &Analyses,
    at: usize,
    container: &Container,
    port: &PublishedPort,
    reached: Option<&BeyondExport>,
) -> Verdict {
    let protocol = port.protocol.0.unwrap_or(6);
    // Sockets of the engine are services of the host, which its input filter is for.
    let by_rules = container.is_published_by_rules(&estate.devices[at].facts.engines);
    if port.address.is_some_and(|address| address.is_loopback()) || !has_ports(protocol) || !by_rules {
        return Verdict::pass(port.origin);
    }
    let outer = endpoint(protocol, port.ports);
    let known = known_port(protocol, port.inner);
    let inner = endpoint(protocol, PortRange { first: port.inner, last: port.inner });
    let service = match known {
        Some(known) => format!("{} ({outer})", known.name),
        None => format!("Port {outer}"),
    };
    // The line of the host's own filter that would have blocked it.
    let closed = limited_to_named(estate, at, protocol, port.ports.first);
    let past = "the rules for the input of the host are not applied to it";
    match reached {
        Some(one) if !one.certain => {
            let what = format!("whether {outer} of {} is reachable from the Internet", named(container));
            filter_decides(estate, &one.steps, what).unwrap_or_else(|| {
                let question = format!(
                    "Please state whether {outer} of {} is reachable from the Internet: a condition not analysed decides.",
                    named(container)
                );
                Verdict::ask(question, [port.origin].into_iter().chain(cited(&one.steps)).collect())
            })
        }
        Some(one) => {
            let public = matches!(port.ports.first, 80 | 443);
            let rating: Rating = match known {
                Some(known) => CHECK.rated_at(
                    severity_of_kind(known.kind, Some(known), public),
                    format!("the usual service of the port is {} ({})", known.name, known.kind.words()),
                ),
                None => CHECK.rated("the port has no usual service"),
            };
            let who = if one.everybody { "any address".to_owned() } else { some_ranges(&one.sources) };
            let called = estate.internet().outside.called_words(one.traffic_source, &one.called);
            let place = called.first().map(|first| format!(" at {first} {outer}")).unwrap_or_default();
            Verdict::Fail(Fail {
                rating: for_sources(rating, one.everybody, &one.sources),
                title: format!("{service} of container {} is reachable from the Internet", container.title())
                    .into(),
                detail: format!(
                    "Reachable from {who}{place}; it leads to {inner} of {}, which {} publishes: {past}.{}",
                    named(container),
                    container.engine.words(),
                    blocked(closed)
                )
                .into(),
                evidence: lines(port, closed, one),
            })
        }
        None => match closed {
            Some(line) => Verdict::Fail(Fail {
                rating: CHECK.rated("the filter of the host blocks the port, and is not applied"),
                title: format!(
                    "{service} of container {} is published past the input filter",
                    container.title()
                )
                .into(),
                detail: format!(
                    "{} publishes {outer} for {inner} of {}: {past}.{}",
                    container.engine.words(),
                    named(container),
                    blocked(closed)
                )
                .into(),
                evidence: vec![port.origin, line],
            }),
            None => Verdict::pass(port.origin),
        },
    }
}

/// The line that publishes it, that of the filter which is not applied, and the others that decide.
fn lines(port: &PublishedPort, closed: Option<Origin>, one: &BeyondExport) -> Vec<Origin> {
    let mut all = vec![port.origin];
    for line in closed.into_iter().chain(cited(&one.steps)) {
        if !all.contains(&line) {
            all.push(line);
        }
    }
    all
}

/// That the host's own filter would have blocked it.
fn blocked(closed: Option<Origin>) -> &'static str {
    match closed {
        Some(_) => " The input filter blocks the port for every source that no rule names.",
        None => "",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const ADDRESSES: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"203.0.113.20","prefixlen":24}]}]"#;
    const INSIDE: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.20","prefixlen":24}]}]"#;
    const ROUTES: &str =
        r#"[{"dst":"default","gateway":"203.0.113.1","dev":"eth0"},{"dst":"203.0.113.0/24","dev":"eth0"}]"#;
    const CLOSED: &str =
        "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n-A INPUT -p tcp --dport 22 -j ACCEPT\nCOMMIT\n";

    #[test]
    fn cases() {
        let compose = |ports: &str| {
            format!(
                "services:\n  db:\n    image: postgres:15\n    ports:\n      - \"{ports}\"\n    restart: always\n"
            )
        };
        let (database, page, local, other) =
            (compose("5432:5432"), compose("8080:80"), compose("127.0.0.1:5432:5432"), compose("22:22"));
        let outside = [("d/ip-addr.json", ADDRESSES), ("d/ip-route.json", ROUTES)];
        let file = "d/srv/tickets/compose.yaml";
        let stored = ("d/etc/iptables/rules.v4", CLOSED);
        let limited = format!(
            "{}-A DOCKER-USER -i eth0 -s 198.51.100.0/24 -j RETURN\n-A DOCKER-USER -i eth0 -j DROP\nCOMMIT\n",
            CLOSED.replace("-A INPUT", ":DOCKER-USER - [0:0]\n-A INPUT").replace("COMMIT\n", "")
        );
        let limited = ("d/etc/iptables/rules.v4", limited.as_str());
        let engine = ("d/etc/docker/daemon.json", "{\"iptables\": false}\n");
        let loopback = ("d/etc/docker/daemon.json", "{\"ip\": \"127.0.0.1\"}\n");
        run(
            &CHECK,
            &[
                (
                    "a database in spite of a closed filter",
                    &[outside[0], outside[1], stored, (file, &database)],
                    &["fail high d compose.yaml:5 rules.v4:2"],
                ),
                (
                    "a page at another port",
                    &[outside[0], outside[1], stored, (file, &page)],
                    &["fail medium d compose.yaml:5 rules.v4:2"],
                ),
                ("at the loopback address", &[outside[0], outside[1], stored, (file, &local)], &["pass d"]),
                (
                    "by default at the loopback address",
                    &[outside[0], outside[1], stored, (file, &database), loopback],
                    &["pass d"],
                ),
                (
                    "limited in the chain for it",
                    &[outside[0], outside[1], limited, (file, &database)],
                    &["fail medium d compose.yaml:5 rules.v4:2"],
                ),
                (
                    "on an internal host",
                    &[("d/ip-addr.json", INSIDE), stored, (file, &database)],
                    &["fail medium d compose.yaml:5 rules.v4:2"],
                ),
                (
                    "where the filter permits it too",
                    &[("d/ip-addr.json", INSIDE), stored, (file, &other)],
                    &["pass d"],
                ),
                (
                    "by a process of the host",
                    &[outside[0], outside[1], stored, (file, &database), engine],
                    &["pass d"],
                ),
                ("without a filter", &[outside[0], outside[1], (file, &database)], &["ask d"]),
            ],
        );
    }
}
