//! Services, compared with the programs whose files are read: the result of each for generated files, and the clients it accepts. Needs the
//! programs; `scripts/conformance.sh` installs them and runs these tests.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod data;
mod files;
mod names;
mod shares;
mod upkeep;
mod web;

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::Duration;
use trevlin_model::served::{Served, ServiceResource};
use trevlin_model::{Export, ExportId, Facts};
use trevlin_readers::{ReadContext, recognise};

/// Numbers, the same in every run.
struct Seeded(u64);

impl Seeded {
    fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % limit as u64) as usize
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.below(from.len())]
    }

    fn some<'a>(&mut self, from: &[&'a str], most: usize) -> Vec<&'a str> {
        (0..self.below(most + 1)).map(|_| self.pick(from)).collect()
    }
}

/// Facts of texts, each with its path.
fn facts(files: &[(&str, &str)]) -> Facts {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).to_owned()))
        .collect();
    let around = ReadContext::of(exports.iter().collect());
    let mut facts = Facts::default();
    for export in &exports {
        let reader = recognise(export).reader.unwrap_or_else(|| panic!("nobody reads {}", export.path()));
        let reading = (reader.read)(export, &around);
        let notes: Vec<&str> = reading.ledger.notes.iter().map(|note| note.text.as_str()).collect();
        assert!(notes.is_empty(), "{}: {notes:?}\n{}", export.path(), export.text());
        facts.absorb(*reading.facts);
    }
    facts
}

/// The only service of some files.
fn service(files: &[(&str, &str)]) -> Served {
    let mut facts = facts(files);
    assert_eq!(facts.served.len(), 1, "{files:?}");
    facts.served.remove(0)
}

/// A program that may be installed elsewhere, by the variable with its path.
#[allow(
    clippy::disallowed_methods,
    reason = "scripts/conformance.sh says where programs lie that exclude others"
)]
fn program(variable: &str, name: &str) -> String {
    std::env::var(variable).unwrap_or_else(|_| name.into())
}

/// Runs a program to its end.
fn run(program: &str, arguments: &[&str]) -> Output {
    Command::new(program)
        .args(arguments)
        .stdin(Stdio::null())
        .output()
        .unwrap_or_else(|error| panic!("{program}: {error}"))
}

/// Both of its outputs.
fn told(output: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

/// A program that runs until the test is over.
struct Running(Child);

impl Running {
    fn start(program: &str, arguments: &[&str]) -> Self {
        let child = Command::new(program)
            .args(arguments)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap_or_else(|error| panic!("{program}: {error}"));
        Self(child)
    }

    /// Waits until a port of this machine accepts connections.
    fn answers(self, port: u16) -> Self {
        let answered = (0..500).any(|_| {
            std::thread::sleep(Duration::from_millis(20));
            std::net::TcpStream::connect(("127.0.0.1", port)).is_ok()
        });
        assert!(answered, "nobody answers at port {port}");
        self
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = run("kill", &[&self.0.id().to_string()]);
        for _ in 0..250 {
            if let Ok(Some(_)) = self.0.try_wait() {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn write(path: &Path, text: &str) -> String {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).unwrap();
    }
    fs::write(path, text).unwrap();
    path.display().to_string()
}

/// A part by its name.
fn part<'s>(served: &'s Served, name: &str) -> Option<&'s ServiceResource> {
    served.parts.iter().find(|part| part.name == name)
}

/// Status of a page fetched from an address of this machine, without following to another.
fn fetch(from: &str, url: &str, login: Option<&str>) -> u16 {
    let mut arguments =
        vec!["-s", "-k", "-o", "/dev/null", "-w", "%{http_code}", "--interface", from, "--max-time", "5"];
    arguments.extend(login.iter().flat_map(|login| ["-u", *login]));
    arguments.push(url);
    String::from_utf8(run("curl", &arguments).stdout).unwrap().trim().parse().unwrap()
}
