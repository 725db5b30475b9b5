//! Files that assign and set addresses, compared with the programs that read them: dnsmasq, kea-dhcp4, dhcpd, netplan, ifquery, wg-quick.
//! `scripts/conformance.sh` installs them and runs these tests, which are left out otherwise.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use trevlin_model::{Export, ExportId, Facts};
use trevlin_readers::{ReadContext, Reading, recognise};

fn case(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases/addresses").join(name)
}

fn run(program: &str, arguments: &[&str]) -> Output {
    Command::new(program)
        .args(arguments)
        .output()
        .unwrap_or_else(|error| panic!("{program} cannot be run: {error}"))
}

fn told(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
}

fn read(path: &str, text: &str) -> Reading {
    let export = Export::new(ExportId(0), path, text.into());
    (recognise(&export).reader.expect("recognised").read)(&export, &ReadContext::of(vec![&export]))
}

/// Whether a program takes a file, by its exit status.
fn takes(program: &str, arguments: &[&str], text: &str) -> bool {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().join("file.conf");
    std::fs::write(&at, text).unwrap();
    let mut all = arguments.to_vec();
    all.push(at.to_str().unwrap());
    run(program, &all).status.success()
}

/// Every DHCP server accepts its case. Lines that it rejects are reported here as malformed or not understood, and the reverse; but dnsmasq
/// and dhcpd accept a reversed range.
#[test]
#[ignore = "needs DHCP servers; run by scripts/conformance.sh"]
fn dhcp_servers_take_and_refuse_the_same() {
    for (program, arguments, name, from, to, taken) in [
        ("dnsmasq", &["--test", "-C"][..], "dnsmasq.conf", "", "", true),
        ("dnsmasq", &["--test", "-C"], "dnsmasq.conf", "10.20.4.199,", "10.20.4.9,", true),
        ("dnsmasq", &["--test", "-C"], "dnsmasq.conf", "cache-size", "cache-sise", false),
        ("dnsmasq", &["--test", "-C"], "dnsmasq.conf", "10.20.4.100,10", "10.20.4.300,10", false),
        ("kea-dhcp4", &["-t"], "kea-dhcp4.conf", "", "", true),
        ("kea-dhcp4", &["-t"], "kea-dhcp4.conf", "10.20.7.99", "10.20.7.9", false),
        ("kea-dhcp4", &["-t"], "kea-dhcp4.conf", "10.20.7.128/26", "10.20.7.128/36", false),
        ("kea-dhcp4", &["-t"], "kea-dhcp4.conf", "\"10.20.7.60\"", "\"10.20.7.600\"", false),
        ("kea-dhcp4", &["-t"], "kea-dhcp4.conf", "\"subnet4\": [", "\"subnet4\": [ [", false),
        ("dhcpd", &["-t", "-cf"], "dhcpd.conf", "", "", true),
        ("dhcpd", &["-t", "-cf"], "dhcpd.conf", "10.20.12.60,", "10.20.12.600,", false),
        ("dhcpd", &["-t", "-cf"], "dhcpd.conf", "10.20.12.0 netmask", "10.20.12.7 netmask", false),
        ("dhcpd", &["-t", "-cf"], "dhcpd.conf", "10.20.12.99;", "10.20.12.9;", true),
        ("dhcpd", &["-t", "-cf"], "dhcpd.conf", "range 10.20.12.50", "rnage 10.20.12.50", false),
    ] {
        let text = std::fs::read_to_string(case(name)).unwrap();
        assert!(text.contains(from), "{name}: {from}");
        let text = text.replacen(from, to, usize::from(!from.is_empty()));
        assert_eq!(takes(program, arguments, &text), taken, "{program}: {from} as {to}");
        let reading = read(&format!("d/etc/{name}"), &text);
        let backwards = to.ends_with(".9;") || to.ends_with(".9,");
        let mistaken = reading.ledger.count(trevlin_model::LineClass::NotUnderstood) > 0;
        assert_eq!(mistaken, !taken || backwards, "{name}: {from} as {to}: {:?}", reading.ledger.notes);
    }
}

/// Interfaces, routes, name servers and peers as text, in order.
fn facts(all: &[Facts]) -> Vec<String> {
    let mut found = Vec::new();
    for facts in all {
        for one in &facts.stored_interfaces {
            found.extend(one.addresses.iter().map(|address| format!("{} has {}", one.name, address.net)));
            found.extend(one.asks.map(|_| format!("{} asks", one.name)));
            if one.point_to_point {
                found.push(format!("{} is a link", one.name));
            }
        }
        for one in &facts.stored_routes {
            found.push(format!("{} by {:?} at {:?}", one.destination, one.gateway, one.interface));
        }
        found.extend(facts.name_servers.iter().map(|(server, _)| format!("asks {server}")));
        for (name, plan) in facts.plans() {
            found.extend(plan.fixed.iter().map(|one| format!("{name}: fixed {}", one.range)));
            found.extend(plan.remote.iter().map(|(range, _)| format!("{name}: behind it {range}")));
        }
    }
    found.sort();
    found.dedup();
    found
}

/// netplan writes files of systemd-networkd; both readers have the same result for both forms.
#[test]
#[ignore = "needs netplan; run by scripts/conformance.sh"]
fn netplan_and_what_it_generates_are_alike() {
    let root = tempfile::tempdir().unwrap();
    let folder = root.path().join("etc/netplan");
    std::fs::create_dir_all(&folder).unwrap();
    let text = std::fs::read_to_string(case("01-quay.yaml")).unwrap();
    std::fs::write(folder.join("01-quay.yaml"), &text).unwrap();
    let output = run("netplan", &["generate", "--root-dir", root.path().to_str().unwrap()]);
    assert!(output.status.success(), "{}", told(&output));
    let mut generated = Vec::new();
    for entry in std::fs::read_dir(root.path().join("run/systemd/network")).unwrap() {
        let path = entry.unwrap().path();
        let text = std::fs::read_to_string(&path).unwrap();
        generated.push(*read(path.to_str().unwrap(), &text).facts);
    }
    assert!(generated.len() >= 5);
    let ours = facts(&[*read("d/etc/netplan/01-quay.yaml", &text).facts]);
    assert!(ours.len() > 10, "{ours:?}");
    assert_eq!(ours, facts(&generated));
}

/// ifquery prints the stanzas that it accepts; wg-quick removes its own settings and leaves the peers.
#[test]
#[ignore = "needs ifupdown and wireguard-tools; run by scripts/conformance.sh"]
fn interfaces_and_peers() {
    let text = std::fs::read_to_string(case("interfaces")).unwrap();
    let reading = read("d/etc/network/interfaces", &text);
    let output = run("ifquery", &["-i", case("interfaces").to_str().unwrap(), "eth0"]);
    assert!(output.status.success(), "{}", told(&output));
    let told_by_ifquery = told(&output);
    for one in reading.facts.stored_interfaces.iter().filter(|one| one.name == "eth0") {
        for address in &one.addresses {
            assert!(
                told_by_ifquery.contains(&format!("address: {}", address.net.addr())),
                "{told_by_ifquery}"
            );
        }
    }
    let listed = told(&run("ifquery", &["-i", case("interfaces").to_str().unwrap(), "--list", "--all"]));
    assert!(listed.contains("eth0") && listed.contains("lo"), "{listed}");
    let output = run("wg-quick", &["strip", case("wg2.conf").to_str().unwrap()]);
    assert!(output.status.success(), "{}", told(&output));
    let wg2 = std::fs::read_to_string(case("wg2.conf")).unwrap();
    let plan = |text: &str| read("d/etc/wireguard/wg2.conf", text).facts.tunnels.remove(0).addresses;
    let (whole, stripped) = (plan(&wg2), plan(&told(&output)));
    assert_eq!(whole.fixed.len(), stripped.fixed.len());
    assert_eq!(whole.remote.len(), stripped.remote.len());
    // Addresses are wg-quick's own affair.
    assert!(!whole.pools.is_empty() && stripped.pools.is_empty());
}

/// systemd-networkd, in a network and a mount namespace of its own, accepts the cases without a warning, and warns about the lines that are
/// reported here as not understood.
#[test]
#[ignore = "needs systemd-networkd and root; run by scripts/conformance.sh"]
fn networkd_complains_about_the_same() {
    const BAD: &str = "[Match]\nName=eth9\n[Network]\nAddres=10.0.0.1/24\nAddress=10.0.0.1000/24\n[Route]\nGatewy=10.0.0.9\n";
    let folder = tempfile::tempdir().unwrap();
    let script = format!(
        "mount -t tmpfs none /run && mkdir -p /run/systemd/network && cp {}/*.net* {}/30-bad.network /run/systemd/network/ && \
         SYSTEMD_LOG_LEVEL=debug SYSTEMD_LOG_TARGET=console timeout 4 /usr/lib/systemd/systemd-networkd 2>&1; true",
        case("").display(),
        folder.path().display()
    );
    std::fs::write(folder.path().join("30-bad.network"), BAD).unwrap();
    let said = told(&run("unshare", &["-n", "-m", "bash", "-c", &script]));
    let complains = |place: &str| said.lines().any(|line| line.contains(place) && line.contains("ignoring"));
    assert!(said.contains("wg0.netdev") || said.contains("wg0:"), "{said}");
    for (name, text) in [
        ("20-lan.network", std::fs::read_to_string(case("20-lan.network")).unwrap()),
        ("wg0.netdev", std::fs::read_to_string(case("wg0.netdev")).unwrap()),
        ("30-bad.network", BAD.to_owned()),
    ] {
        let reading = read(&format!("d/etc/systemd/network/{name}"), &text);
        for line in 1..=text.lines().count() as u32 {
            let not_understood = reading.ledger.class(line) == Some(trevlin_model::LineClass::NotUnderstood);
            assert_eq!(complains(&format!("{name}:{line}:")), not_understood, "{name}:{line}\n{said}");
        }
    }
}
