//! Three devices, each written in every form that has words for it: as native files, as packages of a router, as data of standard
//! models, in an appliance's own words with a phrasebook, and as a sheet. The first is a firewall; the second gives remote access; the
//! third has what only screens show.

use crate::common::run;
use serde_json::Value;
use std::collections::BTreeMap;
use std::path::Path;

const WAYS: [&str; 5] = ["native", "uci", "model", "book", "sheet"];
/// The standard models have no words for remote access.
const REMOTE_ACCESS: [&str; 4] = ["lantern/native", "lantern/uci", "lantern/book", "lantern/sheet"];
const SCREENS: [&str; 2] = ["screens/sheet", "screens/book"];

fn json(arguments: &[&str]) -> Value {
    let (text, told, _) = run(&[arguments, &["--format", "json"]].concat());
    serde_json::from_str(&text).unwrap_or_else(|error| panic!("{arguments:?}: {error}\n{told}"))
}

fn estate(way: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/five").join(way);
    path.to_str().unwrap().to_owned()
}

/// Findings by check and severity: names of services and files are each way's own.
fn findings(way: &str) -> BTreeMap<String, usize> {
    let mut found = BTreeMap::new();
    for one in json(&["audit", &estate(way)])["findings"].as_array().unwrap() {
        let told = format!(
            "{} {} {}",
            one["severity"].as_str().unwrap(),
            one["check"].as_str().unwrap(),
            one["device"]
        );
        *found.entry(told).or_default() += 1;
    }
    found
}

/// Exposure: addresses, ports, sources.
fn exposed(way: &str) -> Vec<String> {
    let answer = json(&["exposure", &estate(way)]);
    let mut found = Vec::new();
    let mut take = |list: &str, keys: &[&str]| {
        for one in answer[list].as_array().into_iter().flatten() {
            let told: Vec<String> = keys.iter().map(|key| format!("{key}={}", one[*key])).collect();
            found.push(format!("{list} {}", told.join(" ")));
        }
    };
    take(
        "reached",
        &["device", "address", "endpoint", "called", "called_at", "sources", "certain", "protection"],
    );
    take("openings", &["device", "to", "at", "addresses", "sources", "certain"]);
    take("forwards", &["device", "outcome", "called", "called_at", "to", "sources"]);
    take("breadth", &["version", "protocol", "addresses", "pairs"]);
    found.sort();
    found
}

fn verdict(way: &str, flow: &[&str; 4]) -> String {
    let [from, to, proto, port] = flow;
    let answer = json(&["reach", &estate(way), "--from", from, "--to", to, "--proto", proto, "--port", port]);
    format!("{} {}", answer["verdict"], answer["delivered_to"])
}

#[test]
fn the_same_findings() {
    let native = findings("native");
    assert!(native.values().sum::<usize>() >= 8, "{native:?}");
    for way in ["uci", "book", "sheet"] {
        assert_eq!(findings(way), native, "{way}");
    }
    // Access lists of the standard model name no outgoing interface: outgoing traffic is permitted by the rule on its incoming interface.
    let mut model = findings("model");
    *model.entry("low rules/any-service \"pier\"".into()).or_default() += 1;
    assert_eq!(model, native);
}

/// Information that is requested, without the words for where it is to be found.
fn requests(way: &str) -> usize {
    json(&["audit", &estate(way)])["open_questions"].as_array().unwrap().len()
}

#[test]
fn the_same_findings_of_remote_access() {
    for (ways, least) in [(&REMOTE_ACCESS[..], 24), (&SCREENS[..], 18)] {
        let first = findings(ways[0]);
        assert!(first.values().sum::<usize>() >= least, "{first:?}");
        for way in &ways[1..] {
            assert_eq!(findings(way), first, "{way}");
        }
    }
    // Neither form has more to say about itself.
    assert_eq!(requests(SCREENS[0]), requests(SCREENS[1]));
}

#[test]
fn the_same_is_exposed() {
    for (ways, least) in [(&WAYS[..], 5), (&REMOTE_ACCESS[..], 4), (&SCREENS[..], 4)] {
        let first = exposed(ways[0]);
        assert!(first.len() >= least, "{first:?}");
        for way in &ways[1..] {
            assert_eq!(exposed(way), first, "{way}");
        }
    }
}

#[test]
fn the_same_is_reached() {
    for flow in [
        ["outside", "192.0.2.98", "tcp", "22"],
        ["203.0.113.9", "192.0.2.98", "tcp", "22"],
        ["outside", "192.0.2.98", "tcp", "8443"],
        ["outside", "192.0.2.98", "udp", "161"],
        ["outside", "10.70.4.61", "tcp", "443"],
        ["10.70.4.9", "10.70.4.1", "tcp", "22"],
        ["10.70.4.9", "10.70.4.1", "udp", "53"],
    ] {
        let native = verdict("native", &flow);
        for way in WAYS {
            assert_eq!(verdict(way, &flow), native, "{way} {flow:?}");
        }
    }
    let out = ["10.70.4.9", "198.51.100.9", "tcp", "80"];
    for way in ["uci", "book", "sheet"] {
        assert_eq!(verdict(way, &out), verdict("native", &out), "{way}");
    }
    // The standard model has no word for replies, so that whether they pass is left open, and asked.
    assert!(verdict("model", &out).contains("depends"));
    for way in WAYS {
        let asked = json(&["audit", &estate(way)])["open_questions"].to_string();
        assert_eq!(
            asked.contains("whether replies pass the lists implicitly depends on the device"),
            way == "model",
            "{way}: {asked}"
        );
    }
}
