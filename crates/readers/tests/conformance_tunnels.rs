//! Holds the readers of tunnels against the programs whose files they read: charon with both of its front ends, Libreswan's
//! parser, OpenVPN, wg-quick, stunnel, the client of the SSH. Run by `scripts/conformance.sh`, as root.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use trevlin_model::ipsec::{AuthRound, Child, IkeProof, IkeVersions};
use trevlin_model::{Export, ExportId, LineClass, Setting};
use trevlin_readers::{ReadContext, Reading, recognise};

fn case(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases/tunnels").join(name)
}

fn run(program: &str, arguments: &[&str]) -> Output {
    Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"))
}

fn told(output: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

fn export(number: u32, path: &str, name: &str) -> Export {
    Export::new(ExportId(number), path, std::fs::read_to_string(case(name)).unwrap())
}

fn read(exports: &[Export]) -> Reading {
    let around = ReadContext::of(exports.iter().collect());
    (recognise(&exports[0]).reader.unwrap().read)(&exports[0], &around)
}

/// Connections that charon lists once a front end has loaded a file: in a network, a file tree and a process tree of its own.
fn charon(load: &str) -> String {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().display();
    std::fs::write(
        folder.path().join("strongswan.conf"),
        format!("charon {{\n port = 0\n port_nat_t = 0\n plugins {{\n  vici {{\n   socket = unix://{at}/vici\n  }}\n }}\n}}\n"),
    )
    .unwrap();
    let script = format!(
        "ip link set lo up; ip addr add 192.0.2.18/32 dev lo; mount -t tmpfs none /run\n\
         export AT={at} STRONGSWAN_CONF={at}/strongswan.conf\n{load}\n\
         swanctl --list-conns --uri unix://{at}/vici; swanctl --list-pools --uri unix://{at}/vici\nkill %1; sleep 0.3\n"
    );
    told(&run("unshare", &["--net", "--mount", "--pid", "--fork", "bash", "-c", &script]))
}

/// Waits for the socket of the daemon in the folder `$AT`.
const WAIT: &str = "for i in $(seq 1 60); do [ -S $AT/vici ] && break; sleep 0.2; done; sleep 1";

/// A connection as charon lists it, in lines that do not depend on its wording.
#[derive(Debug, PartialEq, Eq)]
struct Listed {
    name: String,
    versions: String,
    rekey: Option<u64>,
    liveness: u64,
    local: String,
    remote: String,
    rounds: Vec<String>,
    children: Vec<String>,
}

fn number_after(text: &str, lead: &str) -> Option<u64> {
    text.split(lead).nth(1)?.split(|letter: char| !letter.is_ascii_digit()).next()?.parse().ok()
}

/// The program's list of connections.
fn theirs(list: &str) -> Vec<Listed> {
    let mut found: Vec<Listed> = Vec::new();
    for line in list.lines() {
        let text = line.trim();
        let depth = line.len() - line.trim_start().len();
        if depth == 0 && line.contains(": IKEv") {
            let (name, rest) = line.split_once(": ").unwrap();
            let times = ["reauthentication every ", "rekeying every "]
                .into_iter()
                .filter_map(|lead| number_after(rest, lead));
            found.push(Listed {
                name: name.into(),
                versions: rest.split(',').next().unwrap().into(),
                rekey: times.min(),
                liveness: number_after(rest, "dpd delay ").unwrap_or(0),
                local: String::new(),
                remote: String::new(),
                rounds: Vec::new(),
                children: Vec::new(),
            });
            continue;
        }
        let Some(one) = found.last_mut() else { continue };
        if let Some(side) = ["local ", "remote "]
            .iter()
            .find(|side| text.starts_with(**side) && text.ends_with("authentication:"))
        {
            let how = text[side.len()..].trim_end_matches(" authentication:");
            let how = match how {
                "pre-shared key" => "shared key".to_owned(),
                "public key" => "certificate".to_owned(),
                "unspecified" => "anything".to_owned(),
                other => other.replace('_', "-"),
            };
            one.rounds.push(format!("{}{how}", side));
        } else if let Some(id) =
            text.strip_prefix("id: ").or(text.strip_prefix("eap_id: ")).filter(|id| *id != "%any")
        {
            one.rounds.last_mut().unwrap().push_str(&format!(" {id}"));
        } else if depth == 2
            && (text.contains(": TUNNEL")
                || text.contains(": TRANSPORT")
                || text.contains(": PASS")
                || text.contains(": DROP"))
        {
            let (name, rest) = text.split_once(": ").unwrap();
            let mode = rest.split(',').next().unwrap();
            one.children
                .push(format!("{name} {mode} {}", number_after(rest, "rekeying every ").unwrap_or(0)));
        } else if let Some((side, rest)) =
            text.split_once(':').filter(|(side, _)| matches!(*side, "local" | "remote"))
        {
            let rest = rest.trim().replace("/l2f]", "/1701]");
            match (depth, side) {
                (2, "local") => one.local = rest,
                (2, _) => one.remote = rest,
                (_, side) => one.children.last_mut().unwrap().push_str(&format!(" {side} {rest}")),
            }
        }
    }
    found
}

fn ours(reading: &Reading) -> Vec<Listed> {
    let addresses = |all: &[(String, _)]| {
        let names: Vec<&str> =
            all.iter().map(|(text, _): &(String, trevlin_model::Origin)| text.as_str()).collect();
        if names.is_empty() { "%any".to_owned() } else { names.join(" ") }
    };
    let rounds = |side: &str, all: &[AuthRound]| -> Vec<String> {
        all.iter()
            .map(|round| {
                let how = match round.proof.possible().next().unwrap() {
                    IkeProof::Eap(method) => format!("EAP-{}", method.to_ascii_uppercase()),
                    other => other.words(),
                };
                let id = round.identity.as_ref().filter(|(name, _)| !name.starts_with('%'));
                let id = id.map_or(String::new(), |(name, _)| format!(" {}", name.trim_start_matches('@')));
                format!("{side} {how}{id}")
            })
            .collect()
    };
    let child = |child: &Child| {
        let mode = child.mode.value().unwrap().word();
        let rekey = if mode == "PASS" { 0 } else { *child.rekey.value().unwrap() };
        format!(
            "{} {mode} {rekey} local {} remote {}",
            child.name,
            child.local.texts.join(" "),
            child.remote.texts.join(" ")
        )
    };
    let connections = reading.facts.tunnels.iter().filter_map(|tunnel| tunnel.ipsec.as_deref());
    connections
        .map(|one| Listed {
            name: one.name.clone(),
            versions: match one.versions.value().unwrap() {
                IkeVersions::First => "IKEv1",
                IkeVersions::Second => "IKEv2",
                IkeVersions::Both => "IKEv1/2",
            }
            .into(),
            rekey: one.rekey.value().copied().filter(|seconds| *seconds > 0),
            liveness: *one.liveness.value().unwrap(),
            local: addresses(&one.local_addresses),
            remote: addresses(&one.remote_addresses),
            rounds: [rounds("local", &one.local), rounds("remote", &one.remote)].concat(),
            children: one.children.iter().map(child).collect(),
        })
        .collect()
}

/// A folder with copies of files, and a certificate under each name that a connection refers to.
fn copies(files: &[(&str, String)]) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("x509")).unwrap();
    std::fs::create_dir(folder.path().join("conf.d")).unwrap();
    let at = |name: &str| folder.path().join(name).to_string_lossy().into_owned();
    let (key, certificate) = (at("key.pem"), at("x509/harbour.pem"));
    let made = run(
        "openssl",
        &[
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-subj",
            "/CN=x.example",
            "-keyout",
            &key,
            "-out",
            &certificate,
        ],
    );
    assert!(made.status.success(), "{}", told(&made));
    std::fs::copy(&certificate, at("x509/yard.pem")).unwrap();
    for (name, text) in files {
        std::fs::write(folder.path().join(name), text).unwrap();
    }
    folder
}

fn text(path: &Path) -> String {
    std::fs::read_to_string(path).unwrap()
}

fn elsewhere(path: &str) -> String {
    text(&Path::new(env!("CARGO_MANIFEST_DIR")).join(path))
}

#[test]
#[ignore = "needs charon, swanctl and openssl; run by scripts/conformance.sh"]
fn connections_of_swanctl_are_those_that_charon_lists() {
    let own = |name: &str| text(&case(name));
    let all: [(usize, Vec<(&str, String)>); 3] = [
        (
            5,
            vec![
                ("swanctl.conf", own("swanctl.conf")),
                ("conf.d/pools.conf", own("conf.d/pools.conf")),
                ("conf.d/secrets.conf", own("conf.d/secrets.conf")),
            ],
        ),
        (2, vec![("swanctl.conf", elsewhere("tests/cases/addresses/swanctl.conf"))]),
        (2, vec![("swanctl.conf", elsewhere("../../demo/before/yard-gate/etc/swanctl/swanctl.conf"))]),
    ];
    for (count, files) in all {
        let folder = copies(&files);
        let load = format!(
            "/usr/lib/ipsec/charon >/dev/null 2>&1 &\n{WAIT}\nswanctl --load-all --noprompt --file {}/swanctl.conf --uri unix://$AT/vici",
            folder.path().display()
        );
        let list = charon(&load);
        assert!(!list.contains("discarded"), "{list}");
        let export = |number: usize, (name, text): &(&str, String)| {
            Export::new(ExportId(number as u32), format!("d/etc/swanctl/{name}"), text.clone())
        };
        let exports: Vec<Export> =
            files.iter().enumerate().map(|(number, file)| export(number, file)).collect();
        let reading = read(&exports);
        let (ours, mut theirs) = (ours(&reading), theirs(&list));
        assert_eq!(theirs.len(), count, "{list}");
        // Where no identity is stated it is the certificate's, which the configuration does not tell.
        for round in theirs.iter_mut().flat_map(|one| &mut one.rounds) {
            *round = round.replace(" CN=x.example", "");
        }
        assert_eq!(ours, theirs, "{list}");
        // Pools: the first address of each, and the number of client addresses.
        let pools = reading.facts.tunnels.iter().flat_map(|tunnel| &tunnel.addresses.pools);
        let mut sizes: Vec<u128> = pools.map(trevlin_model::Pool::size).collect();
        let listed = list.lines().filter(|line| line.contains(" / "));
        let mut counts: Vec<u128> =
            listed.filter_map(|line| line.rsplit(" / ").next()?.trim().parse().ok()).collect();
        sizes.sort_unstable();
        counts.sort_unstable();
        assert_eq!(sizes, counts, "{list}");
        // Every secret was read, and reported.
        let loaded =
            list.lines().filter(|line| line.starts_with("loaded") && line.contains(" secret ")).count();
        assert_eq!(reading.facts.secrets.len(), loaded, "{list}");
    }
}

#[test]
#[ignore = "needs charon and starter; run by scripts/conformance.sh"]
fn connections_of_the_older_front_end_are_those_that_charon_lists() {
    for (count, file) in [
        (4, text(&case("ipsec.conf"))),
        (2, elsewhere("tests/cases/addresses/ipsec.conf")),
        (1, elsewhere("../../demo/before/harbour-edge/etc/ipsec.conf")),
    ] {
        // The front end subtracts a margin from every lifetime, which is not reported here.
        let text = format!("{file}\nconn %default\n\tmargintime = 0s\n");
        let folder = copies(&[("ipsec.conf", text.clone())]);
        let load = format!(
            "/usr/lib/ipsec/starter --daemon charon --nofork --conf {}/ipsec.conf >/dev/null 2>&1 &\n{WAIT}",
            folder.path().display()
        );
        let list = charon(&load);
        let reading = read(&[Export::new(ExportId(0), "d/etc/ipsec.conf", text)]);
        let (ours, theirs) = (ours(&reading), theirs(&list));
        assert_eq!(theirs.len(), count, "{list}");
        assert_eq!(ours, theirs, "{list}");
    }
}

#[test]
#[ignore = "needs Libreswan's programs, unpacked by scripts/conformance.sh"]
fn libreswan_takes_the_same_file_and_fills_in_the_same() {
    let programs = Path::new(env!("CARGO_TARGET_TMPDIR")).join("libreswan/usr/libexec/ipsec");
    let program = |name: &str| programs.join(name).to_string_lossy().into_owned();
    let file = case("libreswan.conf").to_string_lossy().into_owned();
    let taken = run(&program("addconn"), &["--config", &file, "--checkconfig", "--verbose"]);
    assert!(taken.status.success(), "{}", told(&taken));
    let reading = read(&[export(0, "d/etc/ipsec.conf", "libreswan.conf")]);
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0);
    // The output about the file it read.
    let printed = told(&run(&program("readwriteconf"), &["--config", &file]));
    for tunnel in &reading.facts.tunnels {
        let one = tunnel.ipsec.as_deref().unwrap();
        let section =
            printed.split("conn ").find(|part| part.starts_with(&format!("{}\n", one.name))).unwrap();
        let has = |line: &str| section.lines().any(|found| found.trim() == line);
        let version =
            if one.versions.value() == Some(&IkeVersions::First) { "ikev2=no" } else { "ikev2=yes" };
        assert!(has(version), "{section}");
        let pfs = if one.children[0].forward_secrecy.value() == Some(&true) { "pfs=yes" } else { "pfs=no" };
        assert!(has(pfs), "{section}");
        assert!(
            one.liveness.value() == Some(&0)
                || has(&format!("dpddelay={}000", one.liveness.value().unwrap())),
            "{section}"
        );
    }
    // Its own lists, and every name of ours among those it knows.
    for (arguments, version, part) in
        [("-v2", "ike", 0), ("-v2", "esp", 1), ("-v1", "ike", 0), ("-v1", "esp", 1)]
            .map(|(version, protocol, part)| ([version, protocol], version, part))
    {
        let line = if version == "-v1" { "ikev2=no" } else { "ikev2=insist" };
        let text = format!("conn c\n\tauto=add\n\t{line}\n");
        let reading = read(&[Export::new(ExportId(0), "d/etc/ipsec.conf", text)]);
        let ours: Vec<&str> =
            reading.facts.tunnels[0].offers[part].algorithms.iter().map(|one| one.name.as_str()).collect();
        let theirs = told(&run(&program("algparse"), &arguments));
        // Words of its list, whatever their form: 3DES, AES, GCM, SHA1, MODP1536.
        for (name, word) in [
            ("3des", "3DES"),
            ("sha1", "SHA1"),
            ("dh5", "MODP1536"),
            ("dh14", "MODP2048"),
            ("aes_gcm256", "GCM_16_256"),
            ("sha2_512", "SHA2_512"),
            ("dh31", "DH31"),
            ("dh2", "MODP1024"),
            ("aes_gcm128", "GCM_16_128"),
        ] {
            assert_eq!(
                ours.contains(&name),
                theirs.contains(word),
                "{arguments:?} {name}: {ours:?} {theirs}"
            );
        }
    }
}

/// Proposals of charon where none is stated: each algorithm that it logs is in our list.
#[test]
#[ignore = "needs charon and swanctl; run by scripts/conformance.sh"]
fn proposals_that_charon_takes_by_itself() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().display().to_string();
    let list = |part: usize| -> String {
        let reading = read(&[Export::new(
            ExportId(0),
            "d/etc/swanctl/swanctl.conf",
            "connections {\n c {\n  children {\n   n {\n   }\n  }\n }\n}\n".into(),
        )]);
        let algorithms = &reading.facts.tunnels[0].offers[part].algorithms;
        let suites = algorithms.last().map_or(0, |one| one.suite + 1);
        let suite = |number: usize| {
            let names = algorithms.iter().filter(|one| one.suite == number).map(|one| one.name.clone());
            names.collect::<Vec<_>>().join("-")
        };
        (0..suites).map(suite).collect::<Vec<_>>().join(",")
    };
    let text = format!(
        "connections {{\n own {{\n  local_addrs = 127.0.0.1\n  children {{\n   own {{\n   }}\n  }}\n }}\n ours {{\n  local_addrs = 127.0.0.2\n  proposals = {}\n  children {{\n   ours {{\n    esp_proposals = {}\n   }}\n  }}\n }}\n}}\n",
        list(0),
        list(1)
    );
    std::fs::write(folder.path().join("c.conf"), text).unwrap();
    std::fs::write(
        folder.path().join("strongswan.conf"),
        format!("charon {{\n port = 0\n port_nat_t = 0\n filelog {{\n  log {{\n   path = {at}/log\n   default = 1\n   cfg = 2\n   flush_line = yes\n  }}\n }}\n plugins {{\n  vici {{\n   socket = unix://{at}/vici\n  }}\n }}\n}}\n"),
    )
    .unwrap();
    let script = format!(
        "ip link set lo up; mount -t tmpfs none /run; export AT={at} STRONGSWAN_CONF={at}/strongswan.conf\n/usr/lib/ipsec/charon >/dev/null 2>&1 &\n{WAIT}\n\
         swanctl --load-all --noprompt --file {at}/c.conf --uri unix://{at}/vici; kill %1; sleep 0.5\n"
    );
    let said = told(&run("unshare", &["--net", "--mount", "--pid", "--fork", "bash", "-c", &script]));
    let log = std::fs::read_to_string(folder.path().join("log")).unwrap_or_else(|_| panic!("{said}"));
    let proposals: Vec<&str> = log.lines().filter_map(|line| line.split("proposals = ").nth(1)).collect();
    assert_eq!(proposals.len(), 4, "{said}\n{log}");
    for (own, ours) in [(proposals[0], proposals[2]), (proposals[1], proposals[3])] {
        let words = |text: &str| -> Vec<String> {
            let bare =
                |word: &str| word.trim().trim_start_matches("IKE:").trim_start_matches("ESP:").to_owned();
            text.split(['/', ',']).map(bare).collect()
        };
        // Rare modes of Camellia are left out intentionally: no finding depends on them.
        let theirs: Vec<String> =
            words(own).into_iter().filter(|word| !word.starts_with("CAMELLIA_C")).collect();
        let ours = words(ours);
        for word in theirs {
            assert!(ours.contains(&word), "{word} is missing in {ours:?}");
        }
        assert!(own.contains("3DES_CBC") || own.starts_with("ESP"), "{own}");
    }
}

#[test]
#[ignore = "needs openvpn; run by scripts/conformance.sh"]
fn openvpn_begins_with_every_profile() {
    let folder = tempfile::tempdir().unwrap();
    let text = std::fs::read_to_string(case("profile.ovpn")).unwrap();
    let file = folder.path().join("profile.ovpn");
    std::fs::write(&file, text).unwrap();
    let output = run(
        "openvpn",
        &["--config", &file.to_string_lossy(), "--cd", &folder.path().to_string_lossy(), "--verb", "3"],
    );
    let said = told(&output);
    // It has read everything and misses the certificates only.
    assert!(said.contains("ca.crt") && !said.contains("Options error: Unrecognized"), "{said}");
    let reading = read(&[export(0, "d/etc/openvpn/profile.ovpn", "profile.ovpn")]);
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0);
    let remotes = reading.facts.tunnels[0].settings.iter().filter(|(name, _)| name == "remote").count();
    assert_eq!(remotes, 2);
}

#[test]
#[ignore = "needs wg; run by scripts/conformance.sh"]
fn what_showconf_prints_is_taken_back() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("wg7.conf");
    std::fs::copy(case("wg-showconf-wg7.txt"), &file).unwrap();
    let stripped = run("wg-quick", &["strip", &file.to_string_lossy()]);
    assert!(stripped.status.success(), "{}", told(&stripped));
    let reading = read(&[export(0, "d/wg-showconf-wg7.txt", "wg-showconf-wg7.txt")]);
    let tunnel = &reading.facts.tunnels[0];
    assert_eq!((tunnel.name.as_str(), tunnel.interface.as_deref()), ("WireGuard wg7", Some("wg7")));
    assert!(matches!(tunnel.listeners[0].port, Setting::Stated { value: 51821, .. }));
    let peer = &tunnel.peers[0];
    assert_eq!((peer.allowed.len(), peer.keepalive, peer.shared_key.is_some()), (2, Some(25), true));
}

#[test]
#[ignore = "needs stunnel; run by scripts/conformance.sh"]
fn stunnel_knows_the_same_options() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().display().to_string();
    for (line, known) in [
        ("sslVersionMin = TLSv1.2", true),
        ("verifyChain = no", true),
        ("ciphers = ECDHE+AESGCM:!aNULL", true),
        ("wobble = 1", false),
        ("sslVersionMin = TLSv9", true),
    ] {
        let text = format!(
            "foreground = yes\npid = {at}/pid\n[a]\nclient = yes\naccept = 127.0.0.1:0\nconnect = 127.0.0.1:9\n{line}\n"
        );
        let file = folder.path().join("s.conf");
        std::fs::write(&file, &text).unwrap();
        let said = told(&run("timeout", &["2", "stunnel", &file.to_string_lossy()]));
        assert_eq!(!said.contains("Specified option name is not valid here"), known, "{line}: {said}");
        let reading = read(&[Export::new(ExportId(0), "d/etc/stunnel/s.conf", text)]);
        assert_eq!(reading.ledger.notes.is_empty(), known, "{line}");
    }
}

#[test]
#[ignore = "needs ssh; run by scripts/conformance.sh"]
fn what_a_client_of_the_secure_shell_hands_on() {
    let text = "Host quay\n  Hostname gate.example\n  RemoteForward 8080 10.4.0.9:80\n  Tunnel point-to-point\nHost *\n  Tunnel no\n  \
                LocalForward 9000 10.4.0.9:80\n  DynamicForward 1080\nHost off\n  RemoteForward 1 a:2\nHost late !off\n  GatewayPorts yes\n";
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("ssh_config");
    std::fs::write(&file, text).unwrap();
    let reading = read(&[Export::new(ExportId(0), "d/etc/ssh/ssh_config", text.into())]);
    assert_eq!(reading.facts.tunnels.len(), 3);
    for tunnel in &reading.facts.tunnels {
        let host = tunnel.name.split(' ').nth(2).unwrap();
        let output = run("ssh", &["-G", "-F", &file.to_string_lossy(), host]);
        let theirs = String::from_utf8_lossy(&output.stdout).into_owned();
        let value =
            |name: &str| theirs.lines().find_map(|line| line.strip_prefix(&format!("{name} "))).unwrap_or("");
        assert_eq!(tunnel.stated("remote").unwrap().0, value("hostname"), "{host}: {theirs}");
        let ours = tunnel.stated("tunnel").map_or("no", |(value, _)| value);
        assert_eq!(ours.replace("no", "false"), value("tunnel"), "{host}: {theirs}");
        assert_eq!(
            tunnel.stated("gatewayports").map_or("no", |(value, _)| value),
            value("gatewayports"),
            "{host}: {theirs}"
        );
        for name in ["remoteforward", "localforward", "dynamicforward"] {
            let bare = |text: &str| text.replace(['[', ']'], "");
            let ours: Vec<_> = tunnel
                .settings
                .iter()
                .filter(|(known, _)| known == name)
                .map(|(_, one)| bare(one.stated().unwrap().0))
                .collect();
            let theirs: Vec<_> =
                theirs.lines().filter_map(|line| line.strip_prefix(&format!("{name} "))).map(bare).collect();
            assert_eq!(ours, theirs, "{host} {name}");
        }
    }
}
