//! Generated Compose projects mean to the reader what `docker-compose config` makes of them: names replaced, anchors and short forms
//! written out.
//!
//! Run by `scripts/conformance.sh`; needs docker-compose.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs a program"
)]

mod support;

use std::collections::BTreeSet;
use std::fmt::Write;
use std::fs;
use std::process::Command;
use support::Dice;
use trevlin_model::container::Container;
use trevlin_model::{Export, ExportId, LineClass};
use trevlin_readers::{ReadContext, recognise};

const PROJECTS: u64 = 24;

/// A project of a few services, in the forms that people write.
fn project(dice: &mut Dice) -> String {
    let mut text = String::from(
        "version: \"3.7\"\nx-usual: &usual\n  restart: always\n  cap_add: [SYS_PTRACE]\nservices:\n",
    );
    for number in 0..1 + dice.roll(4) {
        writeln!(
            text,
            "  s{number}:\n    image: {}",
            dice.pick(&["postgres:15", "registry.example/web", "\"cache:7\""])
        )
        .unwrap();
        if dice.roll(3) == 0 {
            text.push_str("    <<: *usual\n");
        }
        let host = dice.roll(5) == 0;
        if host {
            text.push_str("    network_mode: host\n");
        } else if dice.roll(5) != 0 {
            text.push_str("    ports:\n");
            for at in 0..1 + dice.roll(3) {
                let port = 8000 + 10 * number + at;
                let line = match dice.roll(8) {
                    0 => format!("      - \"{port}:80\""),
                    1 => format!("      - 127.0.0.1:{port}:{port}"),
                    2 => format!("      - \"${{PORT_{number}:-{port}}}:443\""),
                    3 => format!("      - \"{port}:53/udp\""),
                    4 => format!(
                        "      - target: 9000\n        published: {port}\n        protocol: tcp\n        mode: host"
                    ),
                    5 => "      - \"80\"".to_owned(),
                    6 => format!("      - \"$HOST_PORT:{port}\""),
                    _ => format!("      - \"{}-{}:{}-{}\"", port, port + 1, port + 100, port + 101),
                };
                writeln!(text, "{line}").unwrap();
            }
        }
        if dice.roll(3) == 0 {
            text.push_str("    privileged: true\n");
        }
        if dice.roll(4) == 0 {
            text.push_str("    pid: host\n");
        }
        if dice.roll(4) == 0 {
            text.push_str("    security_opt:\n      - seccomp:unconfined\n");
        }
        if dice.roll(2) == 0 {
            text.push_str("    volumes:\n");
            let mut seen = BTreeSet::new();
            for _ in 0..1 + dice.roll(3) {
                let line = *dice.pick(&[
                    "      - /var/run/docker.sock:/var/run/docker.sock:ro",
                    "      - /etc:/host/etc:ro",
                    "      - /:/host",
                    "      - data:/data",
                    "      - ./here:/there",
                    "      - type: bind\n        source: /root\n        target: /r\n        read_only: true",
                ]);
                if seen.insert(line) {
                    writeln!(text, "{line}").unwrap();
                }
            }
        }
    }
    text.push_str("volumes:\n  data: {}\n");
    text
}

fn read(path: &str, text: &str, env: &str) -> Vec<String> {
    let export = Export::new(ExportId(0), path, text.to_owned());
    let env = Export::new(ExportId(1), "tickets/.env", env.to_owned());
    let around = ReadContext::of(vec![&export, &env]);
    let reading = (recognise(&export).reader.expect("recognised").read)(&export, &around);
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0, "{text}\n{:?}", reading.ledger.notes);
    let mut all: Vec<String> = reading.facts.containers.iter().map(essence).collect();
    all.sort();
    all
}

fn essence(one: &Container) -> String {
    let mut ports: Vec<String> = one
        .published
        .iter()
        .flat_map(|port| {
            let (address, inner) = (port.address, port.inner);
            (port.ports.first..=port.ports.last).map(move |outer| {
                let address = address.map(|one| format!("{one} ")).unwrap_or_default();
                format!("{address}{outer}>{} {}", inner + (outer - port.ports.first), port.protocol.name())
            })
        })
        .collect();
    ports.sort();
    ports.dedup();
    let mut rights: Vec<String> = one.rights.iter().map(|(right, _)| format!("{right:?}")).collect();
    rights.sort();
    rights.dedup();
    format!("{} {:?} {} {}", one.name, one.image, ports.join(","), rights.join(","))
}

#[test]
#[ignore = "needs docker-compose; run by scripts/conformance.sh"]
fn projects_mean_what_the_program_makes_of_them() {
    let mut containers = 0;
    for seed in 1..=PROJECTS {
        let mut dice = Dice::new(seed);
        let text = project(&mut dice);
        let env = "PORT_0=9100\nHOST_PORT=9300\n";
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path().join("tickets");
        fs::create_dir(&at).unwrap();
        fs::write(at.join("docker-compose.yml"), &text).unwrap();
        fs::write(at.join(".env"), env).unwrap();
        let done = Command::new("docker-compose").arg("config").current_dir(&at).output().unwrap();
        assert!(done.status.success(), "{text}\n{}", String::from_utf8_lossy(&done.stderr));
        let made = String::from_utf8(done.stdout).unwrap();
        let (ours, theirs) =
            (read("tickets/docker-compose.yml", &text, env), read("tickets/docker-compose.yml", &made, env));
        assert_eq!(ours, theirs, "seed {seed}\n{text}\n{made}");
        containers += ours.len();
    }
    println!("{PROJECTS} projects, {containers} containers alike");
}
