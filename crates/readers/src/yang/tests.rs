use super::*;
use crate::{Head, write_sheet};
use trevlin_model::{DeviceKind, ExportId, Facts, Target};

const JSON: &str = include_str!("../../tests/cases/yang/quay-gate.json");
const XML: &str = include_str!("../../tests/cases/yang/quay-gate.xml");

fn of(text: &str) -> Reading {
    let export = Export::new(ExportId(0), "d/data", text.into());
    assert_eq!(recognise(&export), Recognition::Content);
    read(&export, &ReadContext::default())
}

/// All known facts, without their places.
fn sheet(facts: &Facts) -> String {
    let same = |_: Origin| String::new();
    let mask = |text: &str| text.to_owned();
    write_sheet(
        facts,
        &Head {
            device: "d",
            kind: DeviceKind::Unknown,
            complete: true,
            files: &[],
            seen: &same,
            file: &same,
            mask: &mask,
        },
    )
}

#[test]
fn json_and_xml_say_the_same() {
    let (json, xml) = (of(JSON), of(XML));
    assert!(
        json.ledger.notes.is_empty() && xml.ledger.notes.is_empty(),
        "{:?} {:?}",
        json.ledger.notes,
        xml.ledger.notes
    );
    assert_eq!(sheet(&json.facts), sheet(&xml.facts));
    assert_eq!(json.facts.secrets.len(), xml.facts.secrets.len());
    for secret in ["veyholm2026", "Sommer2026", "sZ9kQ0aB"] {
        assert!(!format!("{json:?}{xml:?}").contains(secret) && !sheet(&json.facts).contains(secret));
    }
}

#[test]
fn what_wraps_data_does_not_matter() {
    let bare = of(JSON).facts;
    let set = format!(
        "{{\"ietf-yang-instance-data:instance-data-set\": {{\"name\": \"quay\", \"content-data\": {JSON}}}}}"
    );
    assert_eq!(sheet(&of(&set).facts), sheet(&bare));
    let inner = XML
        .replace("<rpc-reply xmlns=\"urn:ietf:params:xml:ns:netconf:base:1.0\" message-id=\"1\">", "")
        .replace("</rpc-reply>", "");
    let set = inner.replace("<data>", "<instance-data-set xmlns=\"urn:ietf:params:xml:ns:yang:ietf-yang-instance-data\"><name>q</name><content-data>")
        .replace("</data>", "</content-data></instance-data-set>");
    assert_eq!(sheet(&of(&set).facts), sheet(&bare));
    // Prefixes are arbitrary.
    let renamed = XML.replace("xmlns:x=", "xmlns:other=").replace(">x:", ">other:");
    assert_eq!(sheet(&of(&renamed).facts), sheet(&bare));
}

#[test]
fn facts_of_a_device() {
    let facts = of(JSON).facts;
    let nets: Vec<String> = facts
        .interfaces
        .iter()
        .flat_map(|one| &one.addresses)
        .map(|address| address.net.to_string())
        .collect();
    assert_eq!(nets, ["192.0.2.82/29", "10.60.4.1/24", "2001:db8:60:4::1/64"]);
    assert_eq!((facts.routes.len(), facts.name_servers.len()), (2, 1));
    assert_eq!((facts.shadow.len(), facts.logins.len(), facts.radius_targets.len()), (1, 1, 1));
    assert_eq!((facts.served[0].parts.len(), facts.clock_keepers[0].sources.len()), (1, 1));
}

#[test]
fn lists_and_where_they_are_attached() {
    let filter = &of(JSON).facts.filters[0];
    let rules = |name: &str| filter.chain(name).unwrap().rules.len();
    assert_eq!((rules("from-outside"), rules("forgotten")), (3, 1));
    // Nothing leads to a list that is attached nowhere.
    let jumps: Vec<&Target> = filter
        .chains
        .iter()
        .filter(|chain| chain.hook.is_some())
        .flat_map(|chain| &chain.rules)
        .map(|rule| &rule.target)
        .filter(|target| matches!(target, Target::Jump(_)))
        .collect();
    assert_eq!(jumps, [&Target::Jump("from-outside".into())]);
}

/// Lists of one version of IP pass over the other; of several on an interface each takes what the one before left; an end that is not
/// stated is open.
#[test]
fn several_lists_on_one_interface() {
    let entry = |matches: &str, action: &str| {
        format!(r#"{{"name": "e", "matches": {{{matches}}}, "actions": {{"forwarding": "{action}"}}}}"#)
    };
    let list = |name: &str, kind: &str, entries: &[String]| {
        format!(r#"{{"name": "{name}", "type": "{kind}", "aces": {{"ace": [{}]}}}}"#, entries.join(","))
    };
    let ack = entry(r#""ipv4": {"protocol": 6}, "tcp": {"flags": "ack"}"#, "accept");
    let both = entry(r#""tcp": {"flags": "syn ack"}"#, "accept");
    let rest = entry("", "drop");
    let lists = [
        list("four", "ipv4-acl-type", &[ack, both]),
        list("six", "ietf-access-control-list:ipv6-acl-type", std::slice::from_ref(&rest)),
        list("frames", "eth-acl-type", &[rest]),
    ];
    let point = |interface: &str, names: &[&str]| {
        let sets: Vec<String> = names.iter().map(|name| format!(r#"{{"name": "{name}"}}"#)).collect();
        format!(
            r#"{{"interface-id": "{interface}", "ingress": {{"acl-sets": {{"acl-set": [{}]}}}}}}"#,
            sets.join(",")
        )
    };
    let points = [point("a", &["four", "six"]), point("b", &["four", "frames"])];
    let text = format!(
        r#"{{"ietf-access-control-list:acls": {{"acl": [{}], "attachment-points": {{"interface": [{}]}}}}}}"#,
        lists.join(","),
        points.join(",")
    );
    let facts = of(&text).facts;
    let ingress = facts.filters[0].chain("ingress").unwrap();
    let told: Vec<String> = ingress.rules[1..]
        .iter()
        .map(|rule| {
            let matches: Vec<String> = rule.matches.iter().map(|one| format!("{:?}", one.kind)).collect();
            let target = match &rule.target {
                Target::Jump(name) => name.as_str(),
                Target::NotAnalysed { .. } => "open",
                _ => "other",
            };
            format!("{} {target}", matches.join(" "))
        })
        .collect();
    assert_eq!(
        told,
        [
            "Entering(\"a\") Version(V4) four",
            "Entering(\"a\") Version(V6) six",
            "Entering(\"a\") Version(V4) open",
            "Entering(\"b\") Version(V4) four",
            "Entering(\"b\") frames",
        ]
    );
    let flags =
        |at: usize| facts.filters[0].chain("four").unwrap().rules[at].matches.last().unwrap().kind.clone();
    assert_eq!(flags(0), trevlin_model::MatchKind::TcpFlags { looked_at: 0b1_0000, set: 0b1_0000 });
    assert!(matches!(flags(1), trevlin_model::MatchKind::AnyOf(all) if all.len() == 3));
}

#[test]
fn policies_of_translation() {
    let reading = of(
        r#"{"ietf-nat:nat": {"instances": {"instance": [{"id": 1, "policy": [{"id": 1, "external-ip-address-pool": [{"pool-id": 1,
 "external-ip-pool": "192.0.2.82/32"}], "transport-protocols": [{"protocol-id": 6}, {"protocol-id": 17}],
 "subscriber-match": [{"match-id": 1, "subnet": "10.60.0.0/16"}], "external-realm": {"external-interface": "out"}}],
 "mapping-table": {"mapping-entry": [{"index": 1, "type": "static", "internal-src-address": "10.60.4.9/32", "external-src-address": "192.0.2.83/32"}]}}]}}}"#,
    );
    let departure = reading.facts.filters[0].chain("on departure").unwrap();
    let kinds: Vec<String> = departure
        .rules
        .iter()
        .map(|rule| rule.matches.iter().map(|one| format!("{:?}", one.kind)).collect::<Vec<_>>().join(" "))
        .collect();
    assert_eq!(kinds[0], "Source([10.60.4.9])");
    assert!(kinds[1].contains("Leaving(\"out\") Source([10.60.0.0-10.60.255.255])"), "{kinds:?}");
}

#[test]
fn other_modules_are_told_by_subtree() {
    let reading = of(
        "{\n \"ietf-interfaces:interfaces\": {\"interface\": []},\n \"example-lights:lights\": {\n  \"colour\": \"red\"\n }\n}\n",
    );
    assert_eq!(reading.ledger.notes.len(), 1);
    assert!(reading.ledger.notes[0].text.contains("example-lights"));
    for broken in
        ["{\"ietf-interfaces:interfaces\": ", "<a xmlns=\"urn:ietf:params:xml:ns:yang:ietf-ip\"><b></a>"]
    {
        let notes = of(broken).ledger.notes;
        assert!(notes.iter().any(|note| note.text.contains("what precedes it was read")), "{notes:?}");
    }
}

#[test]
fn mappings_and_keys() {
    let reading = of(
        r#"{"ietf-nat:nat": {"instances": {"instance": [{"id": 1, "enable": true, "mapping-table": {"mapping-entry": [
 {"index": 1, "type": "static", "transport-protocol": 6, "internal-src-address": "10.60.4.9/32", "internal-src-port": {"start-port-number": 443},
  "external-src-address": "192.0.2.82/32", "external-src-port": {"start-port-number": 8443}}]}}]}},
 "ietf-keystore:keystore": {"asymmetric-keys": {"asymmetric-key": [{"name": "k", "cleartext-private-key": "U2VzYW1lLTk="}]}}}"#,
    );
    let forward = &reading.facts.forwards[0];
    assert_eq!((forward.ports[0].first, forward.to.ports.unwrap().first), (8443, 443));
    assert_eq!(reading.facts.private_keys.len(), 1);
}

#[test]
fn ike_by_numbers() {
    let reading = of(r#"{"ietf-i2nsf-ike:ipsec-ike": {"pad": {"pad-entry": [
 {"name": "here", "ipv4-address": "192.0.2.82", "peer-authentication": {"auth-method": "pre-shared", "pre-shared": {"secret": "Sesame-9"}}},
 {"name": "yard", "ipv4-address": "198.51.100.9", "peer-authentication": {"auth-method": "pre-shared", "pre-shared": {"secret": "Sesame-9"}}}]},
 "conn-entry": [{"name": "yard", "local": {"local-pad-entry-name": "here"}, "remote": {"remote-pad-entry-name": "yard"},
  "ike-sa-intr-alg": [2], "ike-sa-encr-alg": [{"id": 1, "algorithm-type": 3}, {"id": 2, "algorithm-type": 12, "key-length": 256}], "dh-group": 2,
  "spd": {"spd-entry": [{"name": "lans", "ipsec-policy-config": {"traffic-selector": {"local-prefix": "10.60.4.0/24", "remote-prefix": "10.61.4.0/24"},
   "processing-info": {"action": "protect", "ipsec-sa-cfg": {"mode": "tunnel", "esp-algorithms": {"encryption": [{"id": 1, "algorithm-type": 20, "key-length": 128}]},
    "tunnel": {"local": "192.0.2.82", "remote": "198.51.100.9"}}}}}]}}]}}"#);
    let tunnel = &reading.facts.tunnels[0];
    let names: Vec<&str> =
        tunnel.offers.iter().flat_map(|offer| &offer.algorithms).map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["sha1", "3des", "aes256", "modp1024", "aes128gcm16"]);
    let connection = tunnel.ipsec.as_ref().unwrap();
    assert_eq!((connection.children[0].remote.networks.len(), reading.facts.pre_shared_keys.len()), (1, 2));
    assert!(!format!("{reading:?}").contains("Sesame"));
}

#[test]
fn servers_by_their_groupings() {
    let reading = of(
        r#"{"ietf-netconf-server:netconf-server": {"listen": {"endpoints": {"endpoint": [{"name": "shell",
 "ssh": {"tcp-server-parameters": {"local-address": "10.60.4.1", "local-port": 830},
  "ssh-server-parameters": {"client-authentication": {"users": {"user": [{"name": "a", "password": {}}]}},
   "transport-params": {"encryption": {"encryption-alg": ["ietf-ssh-common:aes128-cbc"]}}}}}]}}},
 "ietf-system:system": {}}"#,
    );
    let server = &reading.facts.ssh_servers[0];
    assert_eq!(server.port(&trevlin_model::ssh::SshConnection::default()), 830);
    assert_eq!(server.blocks[0].statements.len(), 5);
}
