//! A device that is exported as data of standard models (RFC 8512, RFC 8519), and what its kernel is given for it.
//!
//! Lines: `policy POOL INTERFACE NETWORK [PROTOCOL]` translates the sources of a network that leave by an interface;
//! `mapping OUTER INNER [PROTOCOL OUTER-PORT INNER-PORT]` is static; `INTERFACE accept|drop [PROTOCOL PORT] [from NETWORK] [to NETWORK]` is
//! an entry of the list for what arrives there, and `INTERFACE replies` one for packets with ACK.

use serde_json::{Value, json};
use std::fmt::Write;

/// The rules of nft and the document of standard models that say the same.
pub(crate) fn of(lines: &[&str]) -> (String, String) {
    let mut made = Made::default();
    for line in lines {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words.as_slice() {
            ["policy", pool, interface, network, protocol @ ..] => {
                made.policy(pool, interface, network, protocol)
            }
            ["mapping", outer, inner, rest @ ..] => made.mapping(outer, inner, rest),
            [interface, what, rest @ ..] => made.entry(interface, what, rest),
            _ => panic!("{line}"),
        }
    }
    made.finish()
}

#[derive(Default)]
struct Made {
    arrival: String,
    departure: String,
    listed: String,
    policies: Vec<Value>,
    mappings: Vec<Value>,
    /// Entries by interface.
    entries: Vec<(String, Value)>,
}

fn number(protocol: &str) -> u8 {
    if protocol == "tcp" { 6 } else { 17 }
}

impl Made {
    fn policy(&mut self, pool: &str, interface: &str, network: &str, protocol: &[&str]) {
        let limit = protocol.first().map(|one| format!("meta l4proto {one} ")).unwrap_or_default();
        writeln!(self.departure, "oifname {interface} ip saddr {network} {limit}snat to {pool}").unwrap();
        let protocols: Vec<Value> = protocol.iter().map(|one| json!({"protocol-id": number(one)})).collect();
        let id = self.policies.len() + 1;
        self.policies.push(json!({
            "id": id,
            "external-ip-address-pool": [{"pool-id": 1, "external-ip-pool": format!("{pool}/32")}],
            "transport-protocols": protocols,
            "subscriber-match": [{"match-id": 1, "subnet": network}],
            "external-realm": {"external-interface": interface},
        }));
    }

    fn mapping(&mut self, outer: &str, inner: &str, rest: &[&str]) {
        let index = self.mappings.len() + 1;
        let mut entry = json!({
            "index": index,
            "type": "static",
            "internal-src-address": format!("{inner}/32"),
            "external-src-address": format!("{outer}/32"),
        });
        match rest {
            [protocol, from, to] => {
                writeln!(self.arrival, "ip daddr {outer} {protocol} dport {from} dnat to {inner}:{to}")
                    .unwrap();
                entry["transport-protocol"] = number(protocol).into();
                entry["external-src-port"] = json!({"start-port-number": from.parse::<u16>().unwrap()});
                entry["internal-src-port"] = json!({"start-port-number": to.parse::<u16>().unwrap()});
            }
            _ => {
                writeln!(self.arrival, "ip daddr {outer} dnat to {inner}").unwrap();
                // Before the policies, as a mapping of a whole address holds in both directions.
                self.departure.insert_str(0, &format!("ip saddr {inner} snat to {outer}\n"));
            }
        }
        self.mappings.push(entry);
    }

    fn entry(&mut self, interface: &str, what: &str, rest: &[&str]) {
        let mut matches = json!({});
        let mut rule = format!("iifname {interface} ");
        let mut ip = json!({});
        if what == "replies" {
            rule += "tcp flags & ack == ack ";
            matches["tcp"] = json!({"flags": "ack"});
        }
        let mut rest = rest.iter();
        while let Some(word) = rest.next() {
            let value = *rest.next().unwrap();
            match *word {
                "from" => {
                    write!(rule, "ip saddr {value} ").unwrap();
                    ip["source-ipv4-network"] = value.into();
                }
                "to" => {
                    write!(rule, "ip daddr {value} ").unwrap();
                    ip["destination-ipv4-network"] = value.into();
                }
                protocol => {
                    write!(rule, "{protocol} dport {value} ").unwrap();
                    let port = json!({"operator": "eq", "port": value.parse::<u16>().unwrap()});
                    matches[protocol] = json!({"destination-port": port});
                }
            }
        }
        if ip.as_object().is_some_and(|ip| !ip.is_empty()) {
            matches["ipv4"] = ip;
        }
        let action = if what == "drop" { "drop" } else { "accept" };
        writeln!(self.listed, "{rule}{action}").unwrap();
        let name = format!("e{}", self.entries.len() + 1);
        let ace = json!({"name": name, "matches": matches, "actions": {"forwarding": action}});
        self.entries.push((interface.to_owned(), ace));
    }

    fn finish(self) -> (String, String) {
        let (arrival, departure, listed) = (self.arrival, self.departure, self.listed);
        let rules = format!(
            "table ip own {{\nchain listed {{\ntype filter hook prerouting priority -150;\n{listed}}}\n\
             chain arrival {{\ntype nat hook prerouting priority dstnat;\n{arrival}}}\n\
             chain departure {{\ntype nat hook postrouting priority srcnat;\n{departure}}}\n}}\n"
        );
        let mut interfaces: Vec<&String> = self.entries.iter().map(|(interface, _)| interface).collect();
        interfaces.sort();
        interfaces.dedup();
        let list = |interface: &&String| {
            let own = self.entries.iter().filter(|(one, _)| one == *interface).map(|(_, ace)| ace.clone());
            let aces: Vec<Value> = own.collect();
            json!({"name": format!("at {interface}"), "type": "ipv4-acl-type", "aces": {"ace": aces}})
        };
        let point = |interface: &&String| {
            let set = json!([{"name": format!("at {interface}")}]);
            json!({"interface-id": interface, "ingress": {"acl-sets": {"acl-set": set}}})
        };
        let instance = json!({
            "id": 1,
            "enable": true,
            "policy": self.policies,
            "mapping-table": {"mapping-entry": self.mappings},
        });
        let document = json!({
            "ietf-access-control-list:acls": {
                "acl": interfaces.iter().map(list).collect::<Vec<_>>(),
                "attachment-points": {"interface": interfaces.iter().map(point).collect::<Vec<_>>()},
            },
            "ietf-nat:nat": {"instances": {"instance": [instance]}},
        });
        (rules, format!("{document:#}"))
    }
}
