//! Lists without faults that make exports long. No entry covers another, and none is matched by an earlier one alone.

use crate::place::Place;
use std::fmt::Write;
use std::net::Ipv4Addr;

/// One rule of a packet filter, in no language yet.
struct Rule {
    source: String,
    destination: String,
    udp: bool,
    ports: &'static [&'static str],
}

const SERVICES: [&[&str]; 6] =
    [&["443"], &["8443", "9443"], &["25"], &["993", "995"], &["1883", "8883"], &["5000-5019"]];

/// The rules of a gateway from its own network to others': blocks of four over eight addresses each, in part for the same packets.
fn rules(place: Place, count: u64) -> impl Iterator<Item = Rule> {
    (0..count).map(move |at| {
        // Networks of other sites, each eight addresses once.
        let block = at / 4;
        let first = Place::address_at(place.site() + 1 + block / 8, block % 8 * 8);
        let host = |more: u32| Ipv4Addr::from_bits(first.to_bits() + more).to_string();
        let services = SERVICES[(block % 6) as usize];
        match at % 4 {
            0 => Rule {
                source: format!("{}/27", place.address(0)),
                destination: host(1),
                udp: false,
                ports: services,
            },
            1 => Rule {
                source: place.address(2 + block % 25).to_string(),
                destination: format!("{}/29", host(0)),
                udp: false,
                ports: services,
            },
            2 => Rule {
                source: format!("{}/28", place.address(0)),
                destination: host(2),
                udp: true,
                ports: &["514", "5514"],
            },
            _ => Rule {
                source: format!("{}/29", place.address(8 + block % 2 * 8)),
                destination: format!("{}/30", host(4)),
                udp: false,
                ports: &["6514", "8883"],
            },
        }
    })
}

/// Rules as `iptables-save` prints them, for one chain.
#[must_use]
pub fn iptables(place: Place, chain: &str, count: u64) -> String {
    let mut text = String::with_capacity(count as usize * 100);
    for rule in rules(place, count) {
        let protocol = if rule.udp { "udp" } else { "tcp" };
        let mask = |side: &str| if side.contains('/') { side.to_owned() } else { format!("{side}/32") };
        let _ = write!(
            text,
            "-A {chain} -s {} -d {} -p {protocol} -m ",
            mask(&rule.source),
            mask(&rule.destination)
        );
        let _ = match rule.ports {
            [port] => writeln!(text, "{protocol} --dport {} -j ACCEPT", port.replace('-', ":")),
            ports => writeln!(text, "multiport --dports {} -j ACCEPT", ports.join(",")),
        };
    }
    text
}

/// Rules in the language of nftables.
#[must_use]
pub fn nftables(place: Place, count: u64) -> String {
    let mut text = String::with_capacity(count as usize * 80);
    for rule in rules(place, count) {
        let ports = match rule.ports {
            [port] => (*port).to_owned(),
            ports => format!("{{ {} }}", ports.join(", ")),
        };
        let protocol = if rule.udp { "udp" } else { "tcp" };
        let _ = writeln!(
            text,
            "\t\tip saddr {} ip daddr {} {protocol} dport {ports} accept",
            rule.source, rule.destination
        );
    }
    text
}

/// Rules as sections of UCI's firewall.
#[must_use]
pub fn uci(place: Place, count: u64) -> String {
    let mut text = String::with_capacity(count as usize * 200);
    for (at, rule) in rules(place, count).enumerate() {
        let protocol = if rule.udp { "udp" } else { "tcp" };
        let _ = writeln!(
            text,
            "\nconfig rule\n\toption name 'pass {at}'\n\toption src 'lan'\n\toption dest 'wan'\n\toption family 'ipv4'\n\toption \
             src_ip '{}'\n\toption dest_ip '{}'\n\toption proto '{protocol}'\n\toption dest_port '{}'\n\toption target 'ACCEPT'",
            rule.source,
            rule.destination,
            rule.ports.join(" ")
        );
    }
    text
}

/// Rules as a list of standard access-control entries, in JSON.
#[must_use]
pub fn entries(place: Place, count: u64) -> String {
    let one = |(at, rule): (usize, Rule)| {
        let net = |side: &str| if side.contains('/') { side.to_owned() } else { format!("{side}/32") };
        let protocol = if rule.udp { (17, "udp") } else { (6, "tcp") };
        let port = rule.ports[0].split('-').next().unwrap_or_default();
        format!(
            "{{ \"name\": \"pass-{at}\", \"matches\": {{ \"ipv4\": {{ \"protocol\": {}, \"source-ipv4-network\": \"{}\", \
             \"destination-ipv4-network\": \"{}\" }}, \"{}\": {{ \"destination-port\": {{ \"operator\": \"eq\", \"port\": {port} }} }} }}, \
             \"actions\": {{ \"forwarding\": \"ietf-access-control-list:accept\" }} }}",
            protocol.0,
            net(&rule.source),
            net(&rule.destination),
            protocol.1
        )
    };
    rules(place, count).enumerate().map(one).map(|entry| entry + ",\n      ").collect()
}

/// Networks of other sites, as entries of an `ipset`.
#[must_use]
pub fn members(place: Place, set: &str, count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let other = Place::address_at(place.site() + 40 + at, 0);
        let _ = writeln!(text, "add {set} {other}/27");
        text
    })
}

/// SSH keys, one for each user.
#[must_use]
pub fn shell_keys(place: Place, count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(text, "{} person-{at}@desk", place.shell_key(&format!("shell {at}")));
        text
    })
}

/// Accounts without a login, as a system has them for its programs.
#[must_use]
pub fn accounts(count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(
            text,
            "job{at}:x:{0}:{0}:nightly job {at}:/var/lib/job{at}:/usr/sbin/nologin",
            2000 + at
        );
        text
    })
}

/// Their lines in `shadow`: accounts without login.
#[must_use]
pub fn shadows(count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(text, "job{at}:!:20100:0:99999:7:::");
        text
    })
}

/// Servers of nginx, each with pages behind TLS.
#[must_use]
pub fn nginx(place: Place, count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(
            text,
            "server {{\n    listen {}:443 ssl;\n    server_name desk{at}.s{}.veyholm.example;\n    ssl_certificate \
             /etc/ssl/pages.pem;\n    ssl_certificate_key /etc/ssl/pages.key;\n\n    location / {{\n        proxy_pass \
             http://127.0.0.1:{};\n        proxy_set_header Host $host;\n    }}\n}}\n",
            place.own(),
            place.site(),
            9000 + at
        );
        text
    })
}

/// Shares of a file server, each for a group of its own.
#[must_use]
pub fn shares(count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(
            text,
            "[berth-{at}]\n   comment = Drawings of berth {at}\n   path = /srv/berths/{at}\n   read only = no\n   valid users = \
             @berth{at}\n   create mask = 0660\n"
        );
        text
    })
}

/// A folder of packages, for which there is no reader.
#[must_use]
pub fn packages(place: Place, count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(
            text,
            "ii  part-{at:<24} {}.{}.{}-1  amd64  piece {at} of what is installed here",
            at % 7,
            at % 11,
            place.number % 13
        );
        text
    })
}

/// A log of a device, for which there is no reader.
#[must_use]
pub fn log(place: Place, count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(
            text,
            "Nov {:02} {:02}:{:02}:{:02} device{} kernel: [{:8}.{:03}] line to the outside: {} packets passed, {} turned away",
            1 + at * 25 / count,
            at % 24,
            at % 60,
            (at * 7) % 60,
            place.number,
            at * 613,
            at % 1000,
            at * 97 % 90_000,
            at % 17
        );
        text
    })
}

/// Names with their addresses, in the language of dnsmasq.
#[must_use]
pub fn names(place: Place, count: u64) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(
            text,
            "address=/thing{at}.s{}.veyholm.example/{}",
            place.site(),
            place.address(2 + at % 25)
        );
        text
    })
}

/// Records of no meaning here: comments as people leave them.
#[must_use]
pub fn remarks(count: u64, sign: &str) -> String {
    (0..count).fold(String::new(), |mut text, at| {
        let _ = writeln!(text, "{sign} {at}: looked after on day {}, nothing to change", at % 365);
        text
    })
}
