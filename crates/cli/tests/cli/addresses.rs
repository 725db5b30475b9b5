//! The addresses command.

use crate::common::{demo, folder, run};
use std::fs;
use std::net::IpAddr;

fn on_demo(more: &[&str]) -> String {
    let demo = demo();
    let arguments: Vec<&str> =
        ["addresses", demo.to_str().unwrap()].into_iter().chain(more.iter().copied()).collect();
    let (out, err, status) = run(&arguments);
    assert_eq!((status, err.as_str()), (0, ""), "{arguments:?}");
    out
}

fn json(more: &[&str]) -> serde_json::Value {
    let all: Vec<&str> = ["--format", "json"].into_iter().chain(more.iter().copied()).collect();
    let document: serde_json::Value = serde_json::from_str(&on_demo(&all)).unwrap();
    assert_eq!(document["schema"], "trevlin-addresses/1");
    document
}

#[test]
fn the_text_is_as_it_was() {
    insta::assert_snapshot!(on_demo(&[]));
}

#[test]
fn overlaps_name_both_lines_in_one_sentence() {
    let document = json(&[]);
    let allocations = document["allocations"].as_array().unwrap();
    let overlaps = document["overlaps"].as_array().unwrap();
    assert!(overlaps.len() > 5);
    let mut across = 0;
    for one in overlaps {
        let sentence = one["sentence"].as_str().unwrap();
        let rows: Vec<_> = one["rows"]
            .as_array()
            .unwrap()
            .iter()
            .map(|row| &allocations[row.as_u64().unwrap() as usize])
            .collect();
        for row in &rows {
            let place = format!("{}:{}", row["path"].as_str().unwrap(), row["line"]);
            assert!(sentence.contains(&place), "{sentence}");
            let text = fs::read_to_string(demo().join(row["path"].as_str().unwrap())).unwrap();
            assert!(row["line"].as_u64().unwrap() as usize <= text.lines().count());
        }
        assert!(sentence.ends_with('.') && !sentence.contains(". "), "{sentence}");
        across += usize::from(rows[0]["device"] != rows[1]["device"]);
    }
    assert!(across > 1, "some overlaps show only across devices");
    assert_eq!(document["malformed"].as_array().unwrap().len(), 2);
    assert!(allocations.iter().any(|row| row["foreign"] == true));
}

#[test]
fn around_an_address() {
    let document = json(&["--around", "10.20.12.40"]);
    for row in document["allocations"].as_array().unwrap() {
        let first: IpAddr = row["first"].as_str().unwrap().parse().unwrap();
        assert!(first.to_string().starts_with("10.20.12."), "{row}");
    }
    assert!(
        on_demo(&["--around", "192.168.77.1"]).contains("no address allocation was found in these exports")
    );
    let (_, err, status) = run(&["addresses", ".", "--around", "10.20.12"]);
    assert_eq!(status, 2);
    assert!(err.contains("10.20.12"), "{err}");
}

#[test]
fn free_networks_collide_with_nothing() {
    let allocations = json(&[]);
    let free = json(&["--free", "200"]);
    let free: Vec<ipnet::IpNet> =
        free["free"].as_array().unwrap().iter().map(|net| net.as_str().unwrap().parse().unwrap()).collect();
    assert_eq!(free.len(), 5);
    for row in allocations["allocations"].as_array().unwrap() {
        let end = |key: &str| row[key].as_str().unwrap().parse::<IpAddr>().unwrap();
        for net in &free {
            assert!(end("last") < net.network() || net.broadcast() < end("first"), "{row} {net}");
        }
    }
    assert_eq!(on_demo(&["--free", "200", "--format", "csv"]).lines().count(), 6);
    assert!(on_demo(&["--free", "200"]).contains("room for 253 clients"));
    assert!(on_demo(&["--free", "20000000"]).contains("no private network with room for"));
    let (_, err, status) = run(&["addresses", ".", "--free", "0"]);
    assert_eq!(status, 2, "{err}");
}

#[test]
fn lines_for_a_spreadsheet() {
    let text = on_demo(&["--format", "csv"]);
    let mut lines = text.lines();
    assert_eq!(lines.next(), Some("range,first,last,kind,device,owner,who,path,line,overlap,meets"));
    assert_eq!(lines.count(), json(&[])["allocations"].as_array().unwrap().len());
    let files = folder(&[("d/chap-secrets", "\"=cmd()\" * sesame 10.4.0.9\n\"a,\"\"b\" * other 10.4.0.8\n")]);
    let (out, _, _) = run(&["addresses", files.path().to_str().unwrap(), "--format", "csv"]);
    assert!(out.contains("'=cmd()") && !out.contains(",=cmd()"), "{out}");
}

#[test]
fn pictures() {
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    for name in ["plan.svg", "plan.PNG"] {
        assert_eq!(on_demo(&["--picture", &file(name)]), "");
    }
    let svg = fs::read_to_string(file("plan.svg")).unwrap();
    assert!(svg.starts_with("<svg ") && svg.trim_end().ends_with("</svg>"));
    for part in
        ["10.20.4.0/24", "url(#twice)", "overlaps", "astrid", "malformed", "foreign public address space"]
    {
        assert!(svg.contains(part), "{part}");
    }
    let png = fs::read(file("plan.PNG")).unwrap();
    assert_eq!(&png[..8], b"\x89PNG\r\n\x1a\n");
    let (_, err, status) = run(&["addresses", demo().to_str().unwrap(), "--picture", &file("plan.jpeg")]);
    assert_eq!(status, 2);
    assert!(err.contains("is neither an .svg nor a .png file; use one of these extensions"), "{err}");
}

#[test]
fn a_picture_takes_nobodys_place() {
    let estate =
        folder(&[("gate/etc/network/interfaces", "iface eth0 inet static\n  address 10.4.0.1/24\n")]);
    let path = estate.path().to_str().unwrap();
    let elsewhere = tempfile::tempdir().unwrap();
    let there = elsewhere.path().join("plan.svg");
    fs::write(&there, "mine").unwrap();
    let among = estate.path().join("gate/plan.svg");
    for command in ["addresses", "exposure"] {
        for (at, part) in [
            (&there, "already exists; use --force to overwrite it"),
            (&among, "the next run would read the picture"),
        ] {
            let (_, err, status) = run(&[command, path, "--picture", at.to_str().unwrap()]);
            assert!(status == 2 && err.contains(part), "{command}: {err}");
        }
        assert_eq!(fs::read_to_string(&there).unwrap(), "mine");
        assert!(!among.exists());
    }
    let (_, err, status) = run(&["addresses", path, "--force", "--picture", there.to_str().unwrap()]);
    assert_eq!(status, 0, "{err}");
    assert!(fs::read_to_string(&there).unwrap().contains("<svg"));
}

#[test]
fn names_do_nothing_in_a_picture() {
    let files = folder(&[
        ("d/chap-secrets", "\"<script>x</script>&\" * sesame 10.4.0.9\nb\u{1b}[2J * other 10.4.0.8\n"),
        ("d/dnsmasq.conf", "dhcp-range=10.4.0.5,10.4.0.20\n"),
    ]);
    let elsewhere = tempfile::tempdir().unwrap();
    let picture = elsewhere.path().join("plan.svg");
    let (out, err, status) =
        run(&["addresses", files.path().to_str().unwrap(), "--picture", picture.to_str().unwrap()]);
    assert_eq!((out.as_str(), status), ("", 0), "{err}");
    let svg = fs::read_to_string(picture).unwrap();
    assert!(!svg.contains("<script") && !svg.contains('\u{1b}') && svg.contains("&lt;script&gt;"), "{svg}");
}

#[test]
fn nothing_to_show() {
    let files = folder(&[("d/etc/group", "users:x:100:\n")]);
    let (out, _, _) = run(&["addresses", files.path().to_str().unwrap()]);
    assert!(out.contains("no address allocation was found in these exports"), "{out}");
}
