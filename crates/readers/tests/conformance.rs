//! The readers against the real programs. Needs root, `iptables`, `iproute2` and `openvpn`;
//! `scripts/conformance.sh` installs them and runs these tests, which are left out otherwise.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use trevlin_model::{
    CertificateRequirement, Export, ExportId, Families, Family, Filter, LineClass, MatchKind, PasswordSource,
    Target, Tunnel, TunnelRole,
};
use trevlin_readers::{ReadContext, Reading, decode, recognise};

fn cases(folder: &str) -> Vec<PathBuf> {
    let at = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases").join(folder);
    let mut paths: Vec<_> = std::fs::read_dir(at).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    assert!(!paths.is_empty(), "{folder}: no case");
    paths
}

/// Packet filter files of the demo estate, with the program that takes them.
fn demo_filters() -> Vec<PathBuf> {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/before");
    let mut found = Vec::new();
    let mut folders = vec![demo];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            if path.is_dir() {
                folders.push(path);
            } else if name.contains("tables-save") || name.starts_with("rules.v") {
                found.push(path);
            }
        }
    }
    assert!(found.len() >= 4, "the demo has its filters");
    found
}

fn run(program: &str, arguments: &[&str]) -> Output {
    Command::new(program)
        .args(arguments)
        .output()
        .unwrap_or_else(|error| panic!("{program} cannot be run: {error}"))
}

fn read(path: &Path, text: &str, around: &[Export]) -> Reading {
    let export = Export::new(ExportId(99), path.file_name().unwrap().to_string_lossy(), text.into());
    let mut exports: Vec<_> = around.iter().collect();
    exports.push(&export);
    (recognise(&export).reader.expect("recognised").read)(&export, &ReadContext::of(exports))
}

fn text(path: &Path) -> String {
    decode(&std::fs::read(path).unwrap()).unwrap()
}

/// A network namespace that is taken down again.
struct Namespace(String);

impl Namespace {
    fn new(name: &str) -> Self {
        let name = format!("trevlin-{name}-{}", std::process::id());
        assert!(run("ip", &["netns", "add", &name]).status.success(), "a network namespace; are you root?");
        Self(name)
    }

    fn run(&self, arguments: &[&str]) -> Output {
        let all: Vec<&str> =
            ["netns", "exec", &self.0].into_iter().chain(arguments.iter().copied()).collect();
        run("ip", &all)
    }
}

impl Drop for Namespace {
    fn drop(&mut self) {
        run("ip", &["netns", "del", &self.0]);
    }
}

/// The meaning of a filter, without additions and reorderings of a dump: places, counters, the order of conditions, defaults written out in
/// conditions that are not analysed.
fn essence(filters: &[Filter]) -> Vec<String> {
    let mut all = Vec::new();
    let mut filters: Vec<_> = filters.iter().collect();
    filters.sort_by(|a, b| a.table.cmp(&b.table));
    for filter in filters {
        let mut chains: Vec<_> = filter.chains.iter().collect();
        chains.sort_by(|a, b| a.name.cmp(&b.name));
        for chain in chains {
            all.push(format!("{} {} {:?} {:?}", filter.table, chain.name, chain.hook, chain.policy));
            for rule in &chain.rules {
                let mut matches: Vec<_> = rule.matches.iter().map(condition).collect();
                matches.sort();
                let target = match &rule.target {
                    Target::NotAnalysed { name, ends } => format!("{name} {ends}"),
                    other => format!("{other:?}"),
                };
                all.push(format!("  {} -> {target} {:?}", matches.join(" "), rule.comment));
            }
        }
    }
    all
}

fn condition(one: &trevlin_model::Match) -> String {
    match &one.kind {
        MatchKind::NotAnalysed(one) => format!("?{}", one.text.split(' ').next().unwrap_or_default()),
        kind => format!("{}{kind:?}", if one.negated { "!" } else { "" }),
    }
}

#[test]
#[ignore = "needs iptables; run by scripts/conformance.sh"]
fn filters_read_alike_before_and_after_the_kernel() {
    for path in cases("iptables").into_iter().chain(demo_filters()) {
        let name = path.to_string_lossy().into_owned();
        let before = read(&path, &text(&path), &[]);
        assert_eq!(before.ledger.count(LineClass::NotUnderstood), 0, "{name}");
        let program = if before.facts.filters[0].families == Families::V6 { "ip6tables" } else { "iptables" };
        let tested = run(&format!("{program}-restore"), &["--test", &name]);
        assert!(tested.status.success(), "{name}: {}", String::from_utf8_lossy(&tested.stderr));
        let namespace = Namespace::new("filter");
        let loaded = namespace.run(&[&format!("{program}-restore"), &name]);
        assert!(loaded.status.success(), "{name}: {}", String::from_utf8_lossy(&loaded.stderr));
        let dump = String::from_utf8(namespace.run(&[&format!("{program}-save"), "-c"]).stdout).unwrap();
        let after = read(Path::new("dump.txt"), &dump, &[]);
        assert_eq!(after.ledger.count(LineClass::NotUnderstood), 0, "{name}\n{dump}");
        // A dump declares the built-in chains that a file may leave out.
        let declared: Vec<_> = essence(&after.facts.filters).into_iter().collect();
        for line in essence(&before.facts.filters) {
            assert!(declared.contains(&line), "{name}: {line}\nthe kernel has:\n{}", declared.join("\n"));
        }
        let rules = |reading: &Reading| {
            essence(&reading.facts.filters).iter().filter(|line| line.starts_with("  ")).count()
        };
        assert_eq!(rules(&before), rules(&after), "{name}");
    }
}

#[test]
#[ignore = "needs iptables; run by scripts/conformance.sh"]
fn lines_that_the_program_refuses_are_not_understood() {
    for line in [
        "-A INPUT -s 10.4.0.300 -j DROP",
        "-A INPUT -p tcp --dport 70000 -j DROP",
        "-A INPUT -p tcp --dport 90:80 -j DROP",
        "-A INPUT -m conntrack --ctstate OPEN -j DROP",
        "-A INPUT -p nothing -j DROP",
        "-A INPUT -s 10.4.0.0/33 -j DROP",
        "-A INPUT -p tcp --tcp-flags SYN,XYZ SYN -j DROP",
        "-A INPUT stray -j DROP",
        "INPUT -j DROP",
    ] {
        let file = tempfile::NamedTempFile::new().unwrap();
        let text = format!("*filter\n:INPUT DROP [0:0]\n{line}\nCOMMIT\n");
        std::fs::write(file.path(), &text).unwrap();
        let tested = run("iptables-restore", &["--test", &file.path().to_string_lossy()]);
        assert!(!tested.status.success(), "the program takes {line}");
        let reading = read(Path::new("iptables-save.txt"), &text, &[]);
        assert_eq!(reading.ledger.class(3), Some(LineClass::NotUnderstood), "{line}");
        assert!(reading.facts.filters.iter().all(|filter| !filter.complete), "{line}");
    }
}

/// Runs the OpenVPN program until it has printed its settings; the files it names are there and hold nothing, so it
/// stops right after.
fn openvpn(path: &Path) -> (BTreeMap<String, String>, String) {
    let folder = tempfile::tempdir().unwrap();
    for name in ["ca.crt", "server.crt", "server.key", "dh.pem", "static.key", "up.txt"] {
        std::fs::write(folder.path().join(name), "").unwrap();
    }
    let parent = path.parent().unwrap();
    for entry in std::fs::read_dir(parent).unwrap() {
        let entry = entry.unwrap();
        std::fs::copy(entry.path(), folder.path().join(entry.file_name())).unwrap();
    }
    let name = path.file_name().unwrap().to_string_lossy();
    let output =
        run("openvpn", &["--cd", &folder.path().to_string_lossy(), "--config", &name, "--verb", "4"]);
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    let mut settings = BTreeMap::new();
    for line in said.lines() {
        if let Some((before, value)) = line.split_once(" = ") {
            let key = before.rsplit(' ').next().unwrap_or_default();
            let value = value.trim_matches('\'').to_owned();
            let all: &mut String = settings.entry(key.to_owned()).or_default();
            if !all.is_empty() {
                all.push('\n');
            }
            all.push_str(&value);
        }
    }
    (settings, said)
}

fn tunnel(path: &Path) -> Tunnel {
    let around: Vec<_> = cases(path.parent().unwrap().file_name().unwrap().to_str().unwrap())
        .iter()
        .filter(|other| *other != path)
        .enumerate()
        .map(|(id, other)| {
            Export::new(ExportId(id as u32), other.file_name().unwrap().to_string_lossy(), text(other))
        })
        .collect();
    read(path, &text(path), &around)
        .facts
        .tunnels
        .pop()
        .unwrap_or_else(|| panic!("{}: no tunnel", path.display()))
}

#[test]
#[ignore = "needs openvpn; run by scripts/conformance.sh"]
fn settings_are_those_of_the_daemon() {
    for path in cases("openvpn").into_iter().filter(|path| path.extension().is_some_and(|end| end == "conf"))
    {
        let name = path.display();
        let tunnel = tunnel(&path);
        let (daemon, said) = openvpn(&path);
        assert!(!said.contains("Options error"), "{name}: {said}");
        let its =
            |key: &str| daemon.get(key).unwrap_or_else(|| panic!("{name}: no {key} in\n{said}")).as_str();
        assert_eq!(tunnel.refused, None, "{name}");
        let role = match (its("mode"), its("client")) {
            ("1", _) => TunnelRole::Server,
            (_, "ENABLED") => TunnelRole::Client,
            _ => TunnelRole::PointToPoint,
        };
        assert_eq!(tunnel.role, role, "{name}");
        if role == TunnelRole::Client {
            continue;
        }
        let listener = &tunnel.listeners[0];
        assert_eq!(listener.port.value().unwrap().to_string(), its("local_port"), "{name}");
        assert_eq!(listener.protocol.name(), &its("proto")[..3], "{name}");
        pools(&name.to_string(), &tunnel, &daemon);
        let asked =
            tunnel.proof.certificate.as_ref().unwrap().value() == Some(&CertificateRequirement::Required);
        assert_eq!(!asked, said.contains("may accept clients which do not present a certificate"), "{name}");
        let script = tunnel.proof.passwords.iter().any(|check| check.source == PasswordSource::Script);
        assert_eq!(script, its("auth_user_pass_verify_script") != "[UNDEF]", "{name}");
        let pushed = tunnel
            .settings
            .iter()
            .filter(|(directive, _)| directive == "push")
            .filter_map(|(_, value)| value.value());
        for entry in pushed {
            assert!(its("push_entry").lines().any(|line| line == entry), "{name}: push {entry}");
        }
    }
}

fn pools(name: &str, tunnel: &Tunnel, daemon: &BTreeMap<String, String>) {
    let v4 = tunnel
        .addresses
        .pools
        .iter()
        .flat_map(|pool| &pool.ranges)
        .find(|(range, _)| range.family() == Family::V4);
    let defined = daemon.get("ifconfig_pool_defined").is_some_and(|word| word == "ENABLED");
    assert_eq!(v4.is_some(), defined, "{name}");
    let (Some((range, _)), true) = (v4, defined) else { return };
    let (first, last) =
        (daemon["ifconfig_pool_start"].parse().unwrap(), daemon["ifconfig_pool_end"].parse().unwrap());
    if name.contains("net30") {
        // The topology is not stated, and 2.7 assigns more than this version: the wider pool is used.
        assert!(range.contains(first) && range.contains(last), "{name}: {range}");
    } else {
        assert_eq!((range.first(), range.last()), (first, last), "{name}");
    }
}

#[test]
#[ignore = "needs openvpn; run by scripts/conformance.sh"]
fn every_option_that_the_program_lists_is_known() {
    // They have a meaning on the command line only.
    const COMMANDS: [&str; 14] = [
        "help",
        "version",
        "genkey",
        "mktun",
        "rmtun",
        "test-crypto",
        "show-ciphers",
        "show-digests",
        "show-engines",
        "show-tls",
        "show-groups",
        "show-gateway",
        "show-curves",
        "show-pkcs11-ids",
    ];
    let help = String::from_utf8(run("openvpn", &["--help"]).stdout).unwrap();
    let mut known = 0;
    for line in help.lines().filter_map(|line| line.strip_prefix("--")) {
        let name = line.split_whitespace().next().unwrap_or_default().trim_end_matches(':');
        if COMMANDS.contains(&name) {
            continue;
        }
        let reading = read(Path::new("server.ovpn"), &format!("dev tun\n{name} 1 2 3\n"), &[]);
        let unknown = reading.ledger.notes.iter().any(|note| note.text.contains("no directive"));
        assert!(!unknown, "{name} is not known");
        known += 1;
    }
    assert!(known > 150, "{known} options in the program's help");
}

#[test]
#[ignore = "needs openvpn; run by scripts/conformance.sh"]
fn configurations_that_the_daemon_refuses_are_told() {
    for path in cases("openvpn-refused") {
        let (_, said) = openvpn(&path);
        assert!(said.contains("Options error"), "{}: the daemon takes it:\n{said}", path.display());
        assert!(tunnel(&path).refused.is_some(), "{}", path.display());
    }
}

/// A copy of the server's own folder with some of its files replaced by ours.
fn radius_folder(files: &[(&str, PathBuf)]) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let to = folder.path().join("raddb");
    let copied = run("cp", &["-rL", "/etc/freeradius/3.0", &to.to_string_lossy()]);
    assert!(copied.status.success());
    for (path, ours) in files {
        std::fs::copy(ours, to.join(path)).unwrap();
    }
    let main = std::fs::read_to_string(to.join("radiusd.conf")).unwrap();
    let main = main.replace("raddbdir = /etc/freeradius/3.0", &format!("raddbdir = {}", to.display()));
    std::fs::write(to.join("radiusd.conf"), main).unwrap();
    // The server gives up its rights before it reads on.
    assert!(run("chmod", &["-R", "a+rX", &folder.path().to_string_lossy()]).status.success());
    folder
}

#[test]
#[ignore = "needs freeradius; run by scripts/conformance.sh"]
fn files_that_the_radius_server_takes() {
    let case = |name: &str| Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases/radius").join(name);
    let demo = |path: &str| {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/before/aaa/etc/freeradius/3.0").join(path)
    };
    let sets = [
        vec![
            ("clients.conf", case("clients.conf")),
            ("proxy.conf", case("proxy.conf")),
            ("mods-enabled/eap", case("eap.conf")),
            ("sites-enabled/default", case("site.conf")),
            ("mods-config/files/authorize", case("users")),
        ],
        ["clients.conf", "proxy.conf", "mods-config/files/authorize", "sites-enabled/default"]
            .into_iter()
            .map(|path| (path, demo(path)))
            .filter(|(_, ours)| ours.exists())
            .collect(),
    ];
    for files in sets {
        let folder = radius_folder(&files);
        let at = folder.path().join("raddb");
        let output = run("freeradius", &["-XC", "-d", &at.to_string_lossy()]);
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(said.contains("Configuration appears to be OK"), "{files:?}:\n{said}");
        for (path, ours) in &files {
            let reading = read(ours, &text(ours), &[]);
            assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0, "{path}");
            // The server prints each client as it takes it, the secret left out.
            if *path == "clients.conf" {
                let its: Vec<_> = said
                    .lines()
                    .filter_map(|line| line.trim().strip_prefix("client ")?.split(' ').next())
                    .collect();
                let ours: Vec<_> =
                    reading.facts.radius_clients.iter().map(|client| client.name.as_str()).collect();
                assert_eq!(ours, its);
            }
            // And each server it hands requests on to.
            if *path == "proxy.conf" {
                let named = |line: &str| {
                    line.trim().strip_prefix("home_server ")?.split(' ').next().map(str::to_owned)
                };
                let its: Vec<_> = said.lines().filter_map(named).collect();
                for upstream in &reading.facts.radius_upstreams {
                    assert!(its.contains(&upstream.name), "{}: {its:?}", upstream.name);
                }
            }
        }
    }
}

#[test]
#[ignore = "needs ocserv and openssl; run by scripts/conformance.sh"]
fn files_that_the_openconnect_server_takes() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().to_string_lossy().into_owned();
    let made = run(
        "openssl",
        &[
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-days",
            "9",
            "-subj",
            "/CN=gate.example",
            "-keyout",
            &format!("{at}/server.key"),
            "-out",
            &format!("{at}/server.pem"),
        ],
    );
    assert!(made.status.success());
    std::fs::copy(folder.path().join("server.pem"), folder.path().join("authority.pem")).unwrap();
    // A list of revoked certificates, which the server reads before it begins.
    let settings = format!(
        "[ca]\ndefault_ca = own\n[own]\ndatabase = {at}/index\ndefault_md = sha256\ndefault_crl_days = 9\n"
    );
    std::fs::write(folder.path().join("ca.cnf"), settings).unwrap();
    std::fs::write(folder.path().join("index"), "").unwrap();
    let file = |name: &str| format!("{at}/{name}");
    let (settings, key, own, list) =
        (file("ca.cnf"), file("server.key"), file("server.pem"), file("crl.pem"));
    let made = run(
        "openssl",
        &["ca", "-gencrl", "-config", &settings, "-keyfile", &key, "-cert", &own, "-out", &list],
    );
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/before/booking/etc/ocserv");
    let all: Vec<PathBuf> = cases("ocserv")
        .into_iter()
        .chain(std::fs::read_dir(demo).into_iter().flatten().map(|entry| entry.unwrap().path()))
        .collect();
    let is_list = |path: &Path| path.file_name().is_some_and(|name| name == "ocpasswd");
    let list = all.iter().find(|path| is_list(path)).unwrap();
    std::fs::copy(list, folder.path().join("ocpasswd")).unwrap();
    for path in all.iter().filter(|path| path.extension().is_some_and(|ending| ending == "conf")) {
        let ours = text(path);
        let to = folder.path().join("ocserv.conf");
        std::fs::write(&to, ours.replace("/etc/ocserv/", &format!("{at}/"))).unwrap();
        let output = run("ocserv", &["-t", "-c", &to.to_string_lossy()]);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.success(), "{}:\n{said}", path.display());
        assert!(!said.contains("skipping unknown option"), "{}:\n{said}", path.display());
        let reading = read(path, &ours, &[]);
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0, "{}", path.display());
        assert!(reading.facts.tunnels.iter().all(|tunnel| tunnel.refused.is_none()), "{}", path.display());
        // Methods as the daemon took them, in its own words.
        let primary = said.matches("as primary authentication method").count();
        assert_eq!(primary, reading.facts.tunnels.len(), "{}:\n{said}", path.display());
    }
    // Rejected files are rejected here.
    for (what, wrong) in [
        ("no network", "auth = pam\n"),
        ("no method", "ipv4-network = 10.9.0.0/24\n"),
        (
            "two methods with passwords",
            "auth = pam\nauth = \"plain[passwd=/x]\"\nipv4-network = 10.9.0.0/24\n",
        ),
        (
            "a second one elsewhere",
            "auth = certificate\nauth = pam\nenable-auth = \"plain[passwd=/x]\"\nipv4-network = 10.9.0.0/24\n",
        ),
        (
            "an indented line is the same keyword again",
            "auth = pam\n  device = vpns\nipv4-network = 10.9.0.0/24\n",
        ),
    ] {
        let common = format!(
            "server-cert = {at}/server.pem\nserver-key = {at}/server.key\nrun-as-user = nobody\nrun-as-group = daemon\n\
             socket-file = {at}/socket\ndevice = vpns\nisolate-workers = false\n"
        );
        let to = folder.path().join("ocserv.conf");
        std::fs::write(&to, format!("{wrong}{common}")).unwrap();
        assert!(!run("ocserv", &["-t", "-c", &to.to_string_lossy()]).status.success(), "{what}");
        let reading = read(&to, &format!("{wrong}{common}"), &[]);
        assert!(reading.facts.tunnels[0].refused.is_some(), "{what}");
    }
}

#[test]
#[ignore = "needs openssl; run by scripts/conformance.sh"]
fn certificates_as_openssl_reads_them() {
    let folder = tempfile::tempdir().unwrap();
    let made = folder.path().join("made.pem").to_string_lossy().into_owned();
    let key = folder.path().join("key.pem").to_string_lossy().into_owned();
    let plain = "/CN=gate.example";
    let ferry = "/C=XX/ST=Coast/L=Harbour/O=Ferry Line/OU=Gates/emailAddress=gate@ferry.example";
    for (key_kind, subject, more) in [
        ("rsa:1024", plain, &["-sha1"][..]),
        ("rsa:2047", ferry, &["-sha384"]),
        ("rsa:2048", "/O=Ferry Line", &["-addext", "basicConstraints=CA:FALSE"]),
        ("rsa:2048", plain, &["-sigopt", "rsa_padding_mode:pss", "-sha1"]),
        ("rsa:2048", plain, &["-sigopt", "rsa_padding_mode:pss", "-sha256"]),
        ("rsa-pss", plain, &["-days", "9000"]),
        ("ed25519", plain, &["-set_serial", "-5"]),
        ("ed448", "/DC=example/UID=gate", &["-days", "2912000"]),
        ("ec:secp521r1", plain, &["-sha512"]),
        ("ec:brainpoolP384r1", plain, &["-addext", "subjectAltName=DNS:gate.example,IP:2001:db8::1"]),
    ] {
        let curve = key_kind.strip_prefix("ec:").map(|curve| format!("ec_paramgen_curve:{curve}"));
        let kind = if curve.is_some() { "ec" } else { key_kind };
        let mut arguments = vec!["req", "-x509", "-nodes", "-newkey", kind, "-subj", subject];
        arguments.extend(["-keyout", &key, "-out", &made]);
        if let Some(curve) = &curve {
            arguments.extend(["-pkeyopt", curve]);
        }
        arguments.extend(more);
        let output = run("openssl", &arguments);
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        let options = ["-noout", "-text", "-nameopt", "sname,utf8,sep_comma_plus_space"];
        let said = run("openssl", &[&["x509", "-in", &made][..], &options].concat());
        let said = String::from_utf8(said.stdout).unwrap();
        let reading = read(Path::new("made.pem"), &text(Path::new(&made)), &[]);
        let [one] = reading.facts.certificates.as_slice() else { panic!("one certificate:\n{said}") };
        let after = |label: &str| {
            said.lines().find_map(|line| line.trim().strip_prefix(label)).unwrap_or_default().trim()
        };
        let subject = after("Subject:");
        assert!(one.subject == subject || subject == format!("CN={}", one.subject), "{subject}: {one:?}");
        // It does not say how large keys of Edwards curves are.
        if !kind.starts_with("ed") {
            assert_eq!(after("Public-Key: ("), format!("{} bit)", one.key.bits));
        }
        let hash = [after("Hash Algorithm:"), after("Signature Algorithm:")].join(" ").to_uppercase();
        let ours = one.signature_hash.clone().unwrap_or_else(|| one.signature.clone());
        assert!(hash.contains(&ours.to_uppercase().replace("SHA-", "SHA")), "{hash}: {one:?}");
        assert_eq!(one.is_authority, said.contains("CA:TRUE"), "{said}");
        for name in &one.names {
            assert!(name == "2001:db8::1" || said.contains(name), "{name}:\n{said}");
        }
        let date = |label: &str| {
            let output = run("date", &["-u", "-d", after(label), "+%s"]);
            String::from_utf8(output.stdout).unwrap().trim().parse::<i64>().unwrap()
        };
        assert_eq!(one.not_before, date("Not Before:"), "{said}");
        assert_eq!(one.not_after, date("Not After :"), "{said}");
    }
}
