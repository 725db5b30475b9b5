//! Generated Compose projects mean to the reader what `docker-compose config` makes of them: names replaced, anchors and short forms
//! written out. Generated units of Quadlet mean what Podman shows of containers that it made with the same options, in its inspection
//! and in its list.
//!
//! Run by `scripts/conformance.sh`; needs docker-compose and podman.

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
use trevlin_model::container::{Container, EngineKind, HostRight};
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

const UNITS: u64 = 32;

/// A unit of Quadlet, and the options of `podman create` that say the same.
fn unit(dice: &mut Dice, name: &str) -> (String, Vec<String>) {
    let mut text =
        format!("[Unit]\nDescription=Pages\n\n[Container]\nContainerName={name}\nImage=localhost/made\n");
    let mut options = vec!["--name".to_owned(), name.to_owned()];
    let mut add = |key: &str, value: &str, option: &[&str]| {
        writeln!(text, "{key}={value}").unwrap();
        options.extend(option.iter().map(|word| (*word).to_owned()));
    };
    if dice.roll(5) == 0 {
        add("Network", "host", &["--network", "host"]);
    } else {
        for at in 0..dice.roll(4) {
            let port = 8000 + 10 * at;
            let port = match dice.roll(6) {
                0 => format!("{port}:80"),
                1 => format!("127.0.0.1:{port}:{port}"),
                2 => format!("{port}:53/udp"),
                3 => format!("{}-{}:{}-{}", port, port + 2, port + 100, port + 102),
                4 => format!("[::1]:{port}:443"),
                _ => format!("192.0.2.7:{port}:443/tcp"),
            };
            add("PublishPort", &port, &["--publish", &port]);
        }
    }
    if dice.roll(3) == 0 {
        add(
            "AddCapability",
            "CAP_SYS_ADMIN NET_ADMIN",
            &["--cap-add", "CAP_SYS_ADMIN", "--cap-add", "NET_ADMIN"],
        );
    }
    if dice.roll(3) == 0 {
        add("SecurityLabelDisable", "true", &["--security-opt", "label=disable"]);
    }
    if dice.roll(3) == 0 {
        add("SeccompProfile", "unconfined", &["--security-opt", "seccomp=unconfined"]);
    }
    if dice.roll(3) == 0 {
        add("PodmanArgs", "--privileged --pid=host", &["--privileged", "--pid", "host"]);
    }
    if dice.roll(3) == 0 {
        let user = *dice.pick(&["1000", "0", "1000:1000"]);
        let parts: Vec<&str> = user.split(':').collect();
        add("User", parts[0], &["--user", user]);
        if let [_, group] = parts[..] {
            add("Group", group, &[]);
        }
    }
    let mut seen = BTreeSet::new();
    for _ in 0..dice.roll(4) {
        let volume =
            *dice.pick(&["/etc:/host/etc:ro", "/:/host", "data:/data", "/root:/r:ro,rslave", "/var:/v:rw"]);
        if seen.insert(volume) {
            add("Volume", volume, &["--volume", volume]);
        }
    }
    if dice.roll(3) == 0 {
        add(
            "Environment",
            "API_TOKEN=lantern-quay MODE=test",
            &["--env", "API_TOKEN=lantern-quay", "--env", "MODE=test"],
        );
    }
    text.push_str("\n[Install]\nWantedBy=default.target\n");
    (text, options)
}

fn containers(path: &str, text: &str) -> (Vec<Container>, usize) {
    let export = Export::new(ExportId(0), path, text.to_owned());
    let around = ReadContext::of(vec![&export]);
    let reading = (recognise(&export).reader.unwrap_or_else(|| panic!("{path} is not recognised")).read)(
        &export, &around,
    );
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0, "{text}\n{:?}", reading.ledger.notes);
    (reading.facts.containers.clone(), reading.facts.secrets.len())
}

#[test]
#[ignore = "needs podman; run by scripts/conformance.sh"]
fn units_mean_what_podman_makes_of_their_options() {
    let folder = tempfile::tempdir().unwrap();
    let podman = |words: &[&str]| {
        let store = |name: &str| folder.path().join(name).display().to_string();
        let mut command = Command::new("podman");
        command
            .args(["--storage-driver", "vfs", "--root", &store("root"), "--runroot", &store("run")])
            .args(words);
        let done = command.output().unwrap();
        assert!(done.status.success(), "{words:?}\n{}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap()
    };
    let empty = folder.path().join("empty.tar");
    fs::write(&empty, [0; 1024]).unwrap();
    podman(&["import", &empty.display().to_string(), "localhost/made"]);
    let (mut ports, mut rights) = (0, 0);
    for seed in 1..=UNITS {
        let name = format!("pages{seed}");
        let (text, options) = unit(&mut Dice::new(seed), &name);
        let mut words = vec!["create"];
        words.extend(options.iter().map(String::as_str));
        words.extend(["localhost/made", "/bin/pages"]);
        podman(&words);
        let (ours, secrets) = containers(&format!("etc/containers/systemd/{name}.container"), &text);
        // It would run, had the machine what it needs.
        let running = |text: String| {
            text.replace("\"Running\": false", "\"Running\": true")
                .replace("\"State\": \"created\"", "\"State\": \"running\"")
        };
        let shown = running(podman(&["inspect", &name]));
        let (theirs, held) = containers("d/inspect.json", &shown);
        let ([ours], [theirs]) = (&ours[..], &theirs[..]) else { panic!("{text}\n{shown}") };
        let essence = |one: &Container| {
            let mut one = Container { image: None, ..one.clone() };
            // With every capability the added ones are not listed.
            if one.rights.iter().any(|(right, _)| *right == HostRight::Privileged) {
                one.rights.retain(|(right, _)| !matches!(right, HostRight::Capability(_)));
            }
            let user =
                one.user.as_ref().map_or("-", |(user, _)| user.split(':').next().unwrap_or("-")).to_owned();
            format!("{} {user}", essence(&one))
        };
        assert_eq!(essence(ours), essence(theirs), "seed {seed}\n{text}\n{shown}");
        assert_eq!(secrets, held, "seed {seed}\n{text}");
        assert_eq!(theirs.engine, EngineKind::Podman);
        let listed =
            running(podman(&["ps", "--all", "--format", "json", "--filter", &format!("name=^{name}$")]));
        let (listed, _) = containers("d/ps.json", &listed);
        let of_list = |one: &Container| essence(&Container { rights: Vec::new(), user: None, ..one.clone() });
        assert_eq!(of_list(&listed[0]), of_list(theirs), "seed {seed}\n{text}");
        ports += ours.published.len();
        rights += ours.rights.len();
    }
    assert!(ports > 10 && rights > 20, "{ports} {rights}");
    println!("{UNITS} units, {ports} ports and {rights} rights alike");
}
