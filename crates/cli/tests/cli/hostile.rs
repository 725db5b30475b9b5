//! Hostile and broken input to the built program: no panic, no endless run, and every limit is reported with the parts left out.

use crate::common::{folder, json, run, trevlin};
use std::fs;
use std::io::Write;
use std::path::Path;
use std::time::Instant;
use tempfile::TempDir;

/// A file of an intact device, so that there is something to judge besides hostile input.
const SOUND: (&str, &str) = ("sound/etc/snmp/snmpd.conf", "rocommunity public\nagentaddress udp:161\n");

/// Audits a folder: output and messages, and that intact files were judged.
fn audited(estate: &TempDir, more: &[&str]) -> (String, String) {
    let path = estate.path().to_string_lossy().into_owned();
    let arguments: Vec<&str> = ["audit", &path, "-v"].into_iter().chain(more.iter().copied()).collect();
    let start = Instant::now();
    let (out, err, code) = run(&arguments);
    assert_eq!(code, 0, "{err}");
    assert!(!err.contains("panicked"), "{err}");
    assert!(out.contains("community"), "what is sound is judged: {out}");
    // Far above what any of these takes; a run without end is what this is for.
    assert!(start.elapsed().as_secs() < 600, "{:?}", start.elapsed());
    (out, err)
}

/// Files skipped by a run, according to the JSON.
fn left_out(estate: &Path, more: &[&str]) -> Vec<String> {
    let whole = json(estate, more);
    let all = whole["left_out"].as_array().cloned().unwrap_or_default();
    all.iter()
        .map(|one| format!("{}: {}", one["path"].as_str().unwrap(), one["why"].as_str().unwrap()))
        .collect()
}

#[test]
fn a_million_levels_end() {
    const DEEP: usize = 1_000_000;
    // Without optimisation these take seconds at a tenth of it; with it all of them end at once.
    const SLOW: [&str; 5] = ["nginx.conf", "apache2.conf", "dhcpd.conf", "swanctl.conf", "radiusd.conf"];
    const CASES: [(&str, &str, &str, &str); 13] = [
        ("etc/nginx/nginx.conf", "http {\n", "location / {\n", "}\n"),
        ("etc/apache2/apache2.conf", "Listen 80\n<VirtualHost *:80>\n", "<Location />\n", "</Location>\n"),
        ("etc/bind/named.conf", "options { recursion yes; };\nacl a ", "{ ", "}; "),
        ("etc/dhcp/dhcpd.conf", "subnet 10.0.0.0 netmask 255.0.0.0 { }\n", "group {\n", "}\n"),
        ("etc/swanctl/swanctl.conf", "connections {\n", "a {\n", "}\n"),
        ("etc/freeradius/radiusd.conf", "server default {\n", "authorize {\n", "}\n"),
        ("etc/netplan/a.yaml", "network:\n  version: 2\n  ethernets: ", "[", "]"),
        ("running/ip-addr.json", "[{\"ifname\":\"a\",\"addr_info\":", "[", "]"),
        ("etc/kea/kea-dhcp4.conf", "{\"Dhcp4\": {\"x\": ", "[", "]"),
        ("running/nft.json", "{\"nftables\": [{\"metainfo\": {}}, ", "[", "]"),
        (
            "data.xml",
            "<data xmlns=\"urn:ietf:params:xml:ns:yang:ietf-interfaces\"><interfaces>",
            "<a>",
            "</a>",
        ),
        ("data.json", "{\"ietf-interfaces:interfaces\": ", "[", "]"),
        (
            "etc/nftables.conf",
            "table inet t {\nchain c {\ntype filter hook input priority 0;\nip saddr ",
            "{",
            "}",
        ),
    ];
    let estate = folder(&[SOUND]);
    for (number, (path, head, open, close)) in CASES.into_iter().enumerate() {
        let at = estate.path().join(format!("deep{number:02}/{path}"));
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        let deep = if SLOW.iter().any(|name| path.ends_with(name)) { DEEP / 10 } else { DEEP };
        fs::write(at, format!("{head}{}{}", open.repeat(deep), close.repeat(deep))).unwrap();
    }
    // One run over all of them: it is long without optimisation.
    let whole = json(estate.path(), &[]);
    assert!(whole["findings"].to_string().contains("community"), "what is sound is judged");
    let told = whole["left_out"].to_string();
    for (number, (path, ..)) in CASES.into_iter().enumerate() {
        let name = format!("deep{number:02}");
        let device = whole["devices"].as_array().unwrap().iter().find(|one| one["name"] == *name).unwrap();
        let lost = device["exports"][0]["not_understood"].as_u64().unwrap();
        // Beyond the limit, or broken for the parser of the format, which has one of its own.
        assert!(lost > 0, "{path}: {device}");
        let limited = told.contains(&name);
        let parsers =
            ["a.yaml", "ip-addr.json", "kea-dhcp4.conf", "nft.json"].iter().any(|one| path.ends_with(one));
        assert!(limited || parsers, "{path}: {told}");
    }
}

#[test]
fn nesting_beyond_the_limit_is_told_everywhere() {
    let text = format!("http {{\n{}listen 80;\n{}}}\n", "location / {\n".repeat(40), "}\n".repeat(40));
    let estate = folder(&[SOUND, ("web/etc/nginx/nginx.conf", &text)]);
    let path = estate.path().to_string_lossy().into_owned();
    let wanted = "web/etc/nginx/nginx.conf:33: nested blocks: more than 32 nested blocks, sections and values; `--limit nesting=N` sets another limit";
    assert_eq!(left_out(estate.path(), &[]), [wanted]);
    let (out, err) = audited(&estate, &[]);
    assert!(err.contains(wanted) && out.contains("nginx.conf:33"), "{out}{err}");
    for command in ["survey", "audit"] {
        let (out, _, _) = run(&[command, &path]);
        assert!(out.contains("nginx.conf:33"), "{out}");
    }
    for format in ["html", "markdown"] {
        let (out, _, _) = run(&["report", &path, "--to", "-", "--format", format]);
        assert!(out.contains("nginx.conf:33"), "{out}");
    }
    assert_eq!(left_out(estate.path(), &["--limit", "nesting=100"]), Vec::<String>::new());
}

#[test]
fn a_line_of_fifty_megabytes_is_left_out_and_the_others_are_read() {
    let long = "x".repeat(50 << 20);
    let estate = folder(&[
        (
            "sound/etc/snmp/snmpd.conf",
            &format!("syslocation {long}\nrocommunity public\nagentaddress udp:161\n"),
        ),
        (
            "gate/etc/ssh/sshd_config",
            &format!("PermitRootLogin yes\nMatch User {long}\nPasswordAuthentication yes\n"),
        ),
    ]);
    let (_, err) = audited(&estate, &[]);
    for part in [
        "snmpd.conf:1: this line is longer than 16 MiB and was not read",
        "sshd_config:2: this line is longer",
    ] {
        assert!(err.contains(part), "{part}: {err}");
    }
    assert_eq!(left_out(estate.path(), &[]).len(), 2);
}

#[test]
fn files_that_read_themselves_in_end() {
    for (path, text) in [
        ("etc/ssh/sshd_config", "Port 22\nInclude /etc/ssh/sshd_config\nInclude /etc/ssh/sshd_config\n"),
        ("etc/nginx/nginx.conf", "http { include /etc/nginx/nginx.conf; include /etc/nginx/nginx.conf; }\n"),
        ("etc/apache2/apache2.conf", "Listen 80\nInclude apache2.conf\nInclude apache2.conf\n"),
        (
            "etc/samba/smb.conf",
            "[global]\nworkgroup = A\ninclude = /etc/samba/smb.conf\ninclude = /etc/samba/smb.conf\n",
        ),
        (
            "etc/bind/named.conf",
            "options { recursion yes; };\ninclude \"named.conf\";\ninclude \"named.conf\";\n",
        ),
        ("etc/postgresql/postgresql.conf", "listen_addresses = '*'\nport = 1\ninclude 'postgresql.conf'\n"),
        (
            "etc/swanctl/swanctl.conf",
            "connections {\n a { local_addrs = 1.1.1.1\n }\n}\ninclude swanctl.conf\ninclude swanctl.conf\n",
        ),
        (
            "etc/ipsec.conf",
            "config setup\nconn a\n\tleft=1.1.1.1\n\ninclude ipsec.conf\ninclude ipsec.conf\n",
        ),
        (
            "etc/openvpn/server.conf",
            "dev tun\nserver 10.8.0.0 255.255.255.0\nconfig server.conf\nconfig server.conf\n",
        ),
        (
            "etc/ppp/options",
            "require-mschap-v2\nms-dns 10.0.0.1\nfile /etc/ppp/options\nfile /etc/ppp/options\n",
        ),
        ("etc/sudoers", "root ALL=(ALL) ALL\n@include /etc/sudoers\n@include /etc/sudoers\n"),
        (
            "etc/nftables.conf",
            "include \"/etc/nftables.conf\"\ntable inet t { chain c { type filter hook input priority 0; } }\n",
        ),
    ] {
        let at = format!("again/{path}");
        let estate = folder(&[SOUND, (&at, text)]);
        let (out, err) = audited(&estate, &[]);
        let notes = out + &err;
        let told = [
            "` includes itself; it was read once",
            "more than",
            "includes are repeated too often; the remaining ones were not read",
        ]
        .iter()
        .any(|part| notes.contains(part));
        // nft passes over the file itself.
        assert!(told || path.contains("nftables"), "{path}: {notes}");
    }
}

#[test]
fn files_that_read_in_others_over_and_over_end() {
    // Each refers to the next ten times: ten to the twelfth without a limit.
    let text =
        |next: usize| format!("{}listen 80;\n", format!("include /etc/nginx/n{next}.conf;\n").repeat(10));
    let mut files = vec![(SOUND.0.to_owned(), SOUND.1.to_owned())];
    files.push(("web/etc/nginx/nginx.conf".into(), format!("http {{\n{}}}\n", text(0))));
    files.extend((0..12).map(|one| (format!("web/etc/nginx/n{one}.conf"), text(one + 1))));
    let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let estate = folder(&files);
    let (_, err) = audited(&estate, &[]);
    assert!(err.contains("includes are repeated too often; the remaining ones were not read"), "{err}");
}

#[test]
fn circles_end() {
    let chain =
        "*filter\n:INPUT DROP [0:0]\n:a - [0:0]\n:b - [0:0]\n-A INPUT -j a\n-A a -j b\n-A b -j a\nCOMMIT\n";
    let table = "table inet t {\nchain i { type filter hook input priority 0; policy drop; jump a; }\nchain a { jump b; }\nchain b { jump a; }\n}\n";
    let groups = "sheet = \"trevlin-sheet/1\"\nkind = \"firewall\"\n[[address-names]]\nname = \"a\"\naddresses = [\"b\"]\n\
                  [[address-names]]\nname = \"b\"\naddresses = [\"a\"]\n[[rules]]\nfrom = \"a\"\naction = \"allow\"\n";
    let sections = "connections {\n a : connections.b {\n }\n b : connections.a {\n }\n}\n";
    let also = "conn a\n\talso=b\n\tauto=add\n\tleft=1.1.1.1\nconn b\n\talso=a\n\tright=2.2.2.2\n";
    let acl = "acl a { b; };\nacl b { a; };\noptions { allow-query { a; }; };\n";
    let alias = "config interface a\n\toption device @b\nconfig interface b\n\toption device @a\nconfig zone\n\toption name z\n\tlist network a\n";
    for (path, text) in [
        ("rules.v4", chain),
        ("etc/nftables.conf", table),
        ("sheet.toml", groups),
        ("etc/swanctl/swanctl.conf", sections),
        ("etc/ipsec.conf", also),
        ("etc/bind/named.conf", acl),
        ("uci-export.txt", &format!("package network\n{alias}")),
    ] {
        let at = format!("round/{path}");
        audited(&folder(&[SOUND, (&at, text)]), &[]);
    }
}

#[test]
fn each_limit_is_told_with_what_was_left_out() {
    let rules: String = (0..20).map(|port| format!("-A INPUT -p tcp --dport {port} -j ACCEPT\n")).collect();
    let filter = format!("*filter\n:INPUT DROP [0:0]\n{rules}COMMIT\n");
    let estate = folder(&[
        ("gate/rules.v4", &filter),
        ("gate/etc/ssh/sshd_config", "Include /etc/ssh/a\nPort 22\nPermitRootLogin yes\n"),
        ("gate/etc/ssh/a", "Include /etc/ssh/b\n"),
        ("gate/etc/ssh/b", "PasswordAuthentication yes\n"),
        ("gate/etc/nginx/nginx.conf", "http {\n server {\n  location / {\n   allow all;\n  }\n }\n}\n"),
        ("other/etc/snmp/snmpd.conf", "rocommunity public\n"),
    ]);
    assert!(left_out(estate.path(), &[]).is_empty());
    for (limit, part) in [
        (
            "file-bytes=300",
            "gate/rules.v4: larger than 300 bytes, which is not a configuration file; leave it out, split it",
        ),
        (
            "files=3",
            "gate/etc/ssh/sshd_config: more than 3 files of a run: neither this one nor later ones, in order of path, were read",
        ),
        ("total-bytes=400", "gate/rules.v4: more than 400 bytes in all files of the run: neither this one"),
        (
            "line-bytes=20",
            "rules.v4:3: this line is longer than 20 bytes and was not read; `--limit line-bytes=N`",
        ),
        ("nesting=1", "nginx.conf:2: nested blocks: more than 1 nested blocks"),
        ("includes=1", "gate/etc/ssh/a:1: `gate/etc/ssh/b` was not included: more than 1 nested includes"),
        ("rules=5", "rules.v4:8: table filter has 20 rules; those beyond 5 were not read"),
    ] {
        let told = left_out(estate.path(), &["--limit", limit]).join("\n");
        assert!(told.contains(part), "{limit}: {told}");
        let remedy = format!("`--limit {}=N` sets another limit", limit.split('=').next().unwrap());
        assert!(told.contains(&remedy), "{limit}: {told}");
        let (out, err, _) = run(&["audit", &estate.path().to_string_lossy(), "--limit", limit]);
        assert!(out.contains("NOT READ") && err.contains("warning"), "{limit}: {out}{err}");
    }
    // With one node for a query, exposure and rules of the demo are left undetermined.
    let told = left_out(&crate::common::demo(), &["--limit", "set-nodes=1"]).join("\n");
    assert!(told.contains("what is reachable from the Internet: the analysis stopped"), "{told}");
    assert!(
        told.contains(
            "iptables-save.txt:30: whether 29 rules of this filter are ever effective was not decided"
        ),
        "{told}"
    );
    let (_, err, code) = run(&["audit", &estate.path().to_string_lossy(), "--limit", "nestin=3"]);
    assert_eq!(code, 2);
    assert!(err.contains("there is no limit `nestin`; known are file-bytes"), "{err}");
}

#[test]
fn rules_that_were_not_read_leave_verdicts_open() {
    let estate = folder(&[
        (
            "gate/rules.v4",
            "*filter\n:INPUT DROP [0:0]\n-A INPUT -p tcp --dport 22 -j ACCEPT\n-A INPUT -p tcp --dport 23 -j DROP\n-A INPUT -j ACCEPT\nCOMMIT\n",
        ),
        (
            "gate/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"192.0.2.9\",\"prefixlen\":24}]}]\n",
        ),
        ("trevlin.toml", "[device.gate]\noutside = [\"eth0\"]\n"),
    ]);
    let path = estate.path().to_string_lossy().into_owned();
    let verdict = |port: &str, more: &[&str]| {
        let flow = [
            "reach",
            &path,
            "--from",
            "outside",
            "--to",
            "192.0.2.9",
            "--proto",
            "tcp",
            "--port",
            port,
            "--format",
            "json",
        ];
        let (out, err, _) = run(&flow.iter().chain(more).copied().collect::<Vec<_>>());
        let whole: serde_json::Value = serde_json::from_str(&out).unwrap_or_else(|_| panic!("{out}{err}"));
        whole["verdict"].as_str().unwrap().to_owned()
    };
    assert_eq!(
        [verdict("22", &[]), verdict("23", &[]), verdict("24", &[])],
        ["allowed", "blocked", "allowed"]
    );
    let cut = ["--limit", "rules=1"];
    assert_eq!(
        [verdict("22", &cut), verdict("23", &cut), verdict("24", &cut)],
        ["allowed", "depends", "depends"]
    );
}

#[cfg(unix)]
#[test]
fn what_is_no_file_is_told_and_never_opened() {
    use std::os::unix::fs::symlink;
    use std::os::unix::net::UnixListener;
    let estate = folder(&[
        SOUND,
        ("gate/etc/hostname", "gate\n"),
        ("GATE/etc/snmp/snmpd.conf", "rocommunity private\n"),
    ]);
    let gate = estate.path().join("gate");
    let made = std::process::Command::new("mkfifo").arg(gate.join("pipe")).status().unwrap();
    assert!(made.success());
    let _socket = UnixListener::bind(gate.join("socket")).unwrap();
    symlink("/dev/zero", gate.join("endless")).unwrap();
    symlink("/usr", gate.join("outside")).unwrap();
    symlink(".", gate.join("itself")).unwrap();
    symlink("loop", gate.join("loop")).unwrap();
    let told = left_out(estate.path(), &[]).join("\n");
    for part in [
        "pipe: neither a file nor a folder",
        "socket: neither a file nor a folder",
        "endless: a link that points outside the given folder",
        "outside: a link that points outside the given folder",
        "loop: a broken link",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    assert!(!told.contains("itself"), "a link within the folder is read in its place: {told}");
    // Devices whose names differ by capitals alone are two.
    let whole = json(estate.path(), &[]);
    let names: Vec<&str> =
        whole["devices"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["GATE", "gate", "sound"]);
    // Given by name it is an error, and no run that hangs.
    let (_, err, code) = run(&["audit", &gate.join("pipe").to_string_lossy()]);
    assert!(code == 2 && err.contains("neither a file nor a folder"), "{err}");
}

#[cfg(unix)]
#[test]
fn what_may_not_be_read_is_told() {
    use std::os::unix::fs::PermissionsExt;
    let estate = folder(&[SOUND, ("gate/etc/shadow", "root:!:1::::::\n"), ("gate/etc/secret/a.conf", "x\n")]);
    let of = |path: &str| estate.path().join(path);
    fs::set_permissions(of("gate/etc/shadow"), fs::Permissions::from_mode(0o0)).unwrap();
    fs::set_permissions(of("gate/etc/secret"), fs::Permissions::from_mode(0o0)).unwrap();
    // Root may read it anyway.
    if fs::read(of("gate/etc/shadow")).is_err() {
        let told = left_out(estate.path(), &[]).join("\n");
        assert!(told.contains("gate/etc/shadow: it may not be read by you"), "{told}");
        assert!(told.contains("gate/etc/secret: it may not be read by you"), "{told}");
    }
    fs::set_permissions(of("gate/etc/secret"), fs::Permissions::from_mode(0o700)).unwrap();
}

#[test]
fn texts_of_other_worlds_are_read() {
    let text = "rocommunity public\nagentaddress udp:161\n";
    let wide: Vec<u8> =
        [0xff, 0xfe].into_iter().chain(text.encode_utf16().flat_map(u16::to_le_bytes)).collect();
    let big: Vec<u8> =
        [0xfe, 0xff].into_iter().chain(text.encode_utf16().flat_map(u16::to_be_bytes)).collect();
    for (what, bytes) in [
        ("UTF-16, little end first", wide),
        ("UTF-16, big end first", big),
        ("Latin-1", [b"# Pr\xfcfung\n", text.as_bytes()].concat()),
        ("returns", text.replace('\n', "\r\n").into_bytes()),
        ("zeros at the end", [text.as_bytes(), &[0; 64]].concat()),
        ("a mark at the beginning", [b"\xef\xbb\xbf", text.as_bytes()].concat()),
        ("no last line end", text.trim_end().as_bytes().to_vec()),
    ] {
        let estate = folder(&[("gate/etc/motd", "welcome\n")]);
        fs::create_dir_all(estate.path().join("gate/etc/snmp")).unwrap();
        fs::write(estate.path().join("gate/etc/snmp/snmpd.conf"), bytes).unwrap();
        let found = json(estate.path(), &[])["findings"].to_string();
        assert!(found.contains("community"), "{what}: {found}");
    }
}

#[test]
fn a_log_by_mistake_costs_nothing() {
    let estate = folder(&[SOUND]);
    let mut log = fs::File::create(estate.path().join("sound/syslog")).unwrap();
    let line = "Nov 25 10:00:00 sound kernel: something happened again, and nobody cares\n".repeat(1000);
    for _ in 0..3000 {
        log.write_all(line.as_bytes()).unwrap();
    }
    drop(log);
    let (_, err) = audited(&estate, &[]);
    assert!(err.contains("sound/syslog: larger than 64 MiB, which is not a configuration file"), "{err}");
}

#[test]
fn signs_that_steer_a_terminal_come_out_as_signs() {
    let hostile = "\u{1b}[2J\u{1b}]0;owned\u{7}\u{202e}evil\u{2066}\u{200f}";
    let estate = folder(&[
        ("gate/etc/snmp/snmpd.conf", &format!("rocommunity public # {hostile}\nsyslocation {hostile}\n")),
        (
            "gate/rules.v4",
            &format!(
                "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -p tcp --dport 22 -m comment --comment \"temporary {hostile}\" -j ACCEPT\nCOMMIT\n"
            ),
        ),
        ("gate/etc/ssh/sshd_config", &format!("PermitRootLogin yes\n{hostile} yes\n")),
    ]);
    let path = estate.path().to_string_lossy().into_owned();
    let report = estate.path().join("../report.md").to_string_lossy().into_owned();
    for arguments in [
        &["audit", &path, "-v"][..],
        &["audit", &path, "--color", "always"],
        &["survey", &path, "-v"],
        &["rules", &path],
        &["services", &path],
        &["logins", &path],
        &["exposure", &path],
        &["questions", &path],
        &["coverage", &path, "--passes"],
        &["coverage", &path, "--controls", "iso-27002-2022"],
        &["sheet", "show", &path],
        &["audit", &path, "--format", "json"],
        &["report", &path, "--to", "-", "--format", "csv"],
        &["report", &path, "--to", "-", "--format", "html"],
        &["report", &path, "--to", "-", "--format", "markdown"],
        &["report", &path, "--to", "-", "--format", "sarif"],
    ] {
        let output = trevlin(arguments).output().unwrap();
        for (stream, bytes) in [("out", &output.stdout), ("err", &output.stderr)] {
            let text = String::from_utf8(bytes.clone()).unwrap();
            let ours = arguments.contains(&"always");
            for sign in ["\u{1b}[2J", "\u{1b}]", "\u{7}", "\u{202e}", "\u{2066}", "\u{200f}"] {
                assert!(!text.contains(sign), "{arguments:?} {stream}: {sign:?}");
            }
            assert!(ours || !text.contains('\u{1b}'), "{arguments:?} {stream}");
        }
    }
    let _ = fs::remove_file(report);
    let out = run(&["audit", &path, "-v"]).0;
    assert!(
        out.contains("\u{241b}") || out.contains("\\u{1b}") || out.contains("<U+001B>"),
        "visibly neutralised: {out}"
    );
}

#[test]
#[ignore = "makes a million files, which takes minutes; run it with -- --ignored"]
fn a_million_tiny_files() {
    let estate = folder(&[("aaa/etc/snmp/snmpd.conf", SOUND.1)]);
    for device in 0..1000 {
        let at = estate.path().join(format!("d{device:04}"));
        fs::create_dir(&at).unwrap();
        for file in 0..1000 {
            fs::write(at.join(format!("{file}.conf")), "x\n").unwrap();
        }
    }
    // The program is not optimised here, so that it is to read a part of what it reads by default.
    let (_, err) = audited(&estate, &["--limit", "files=100000"]);
    let wanted =
        "more than 100000 files of a run: neither this one nor later ones, in order of path, were read";
    assert!(err.contains(wanted), "{err}");
}

#[test]
#[ignore = "makes thirty thousand files, which takes minutes; run it with -- --ignored"]
fn many_tiny_files_of_one_device() {
    let flat = folder(&[("gate/etc/snmp/snmpd.conf", SOUND.1)]);
    for file in 0..30_000 {
        fs::write(
            flat.path().join(format!("gate/{file}.conf")),
            "Include /x\nPort 22\nPermitRootLogin yes\n",
        )
        .unwrap();
    }
    audited(&flat, &[]);
}

#[test]
fn limits_are_documented() {
    use std::fmt::Write;
    let mut table = String::new();
    for row in trevlin_model::LIMITS {
        let shown = |value: u64| match value {
            u64::MAX => "any".to_owned(),
            value if row.bytes => trevlin_model::size(value),
            value => value.to_string(),
        };
        let (default, least, most) = (shown(row.default), shown(row.range.0), shown(row.range.1));
        writeln!(table, "| `{}` | {} | {default} | {least} | {most} | {} |", row.name, row.what, row.beyond)
            .unwrap();
    }
    let at = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/limits.md");
    let document = fs::read_to_string(&at).unwrap();
    let (head, rest) = document.split_once("| --- | --- | --- | --- | --- | --- |\n").unwrap();
    let tail = rest.trim_start_matches(|sign| sign != '\n').split_once("\n\n").map_or("", |(_, tail)| tail);
    let wanted = format!(
        "{head}| --- | --- | --- | --- | --- | --- |\n{table}{}{tail}",
        if tail.is_empty() { "" } else { "\n" }
    );
    if std::env::var_os("TREVLIN_UPDATE_README").is_some() {
        fs::write(&at, wanted).unwrap();
        return;
    }
    assert!(
        document.contains(&table),
        "run the tests with TREVLIN_UPDATE_README=1 to bring docs/limits.md up to date:\n{table}"
    );
}

#[cfg(unix)]
#[test]
fn files_that_turn_into_others_while_they_are_read() {
    use std::os::unix::fs::symlink;
    use std::sync::atomic::{AtomicBool, Ordering};
    let estate = folder(&[SOUND]);
    let elsewhere = folder(&[("etc/outside.conf", "agentaddress udp:16161\nrocommunity public\n")]);
    let mut turning = Vec::new();
    for number in 0..20 {
        let (gate, away) =
            (estate.path().join(format!("gate{number}")), elsewhere.path().join(number.to_string()));
        for file in ["etc/snmp/snmpd.conf", "etc/snmp/pipe.conf", "etc/way/outside.conf"] {
            fs::create_dir_all(gate.join(file).parent().unwrap()).unwrap();
            fs::write(gate.join(file), "agentaddress udp:161\nrocommunity public\n").unwrap();
        }
        // Replacements: a link to a file elsewhere, a pipe without a writer, a link to a folder elsewhere.
        fs::create_dir_all(&away).unwrap();
        symlink(elsewhere.path().join("etc/outside.conf"), away.join("link")).unwrap();
        std::process::Command::new("mkfifo").arg(away.join("pipe")).status().unwrap();
        symlink(elsewhere.path().join("etc"), away.join("folder")).unwrap();
        for (one, other) in
            [("etc/snmp/snmpd.conf", "link"), ("etc/snmp/pipe.conf", "pipe"), ("etc/way", "folder")]
        {
            turning.push((gate.join(one), away.join(other), away.join(format!("was-{other}"))));
        }
    }
    let at = estate.path().to_str().unwrap();
    let (out, _, _) = run(&["services", elsewhere.path().to_str().unwrap(), "--format", "json"]);
    assert!(out.contains("16161"), "what lies elsewhere would be seen: {out}");
    let done = AtomicBool::new(false);
    std::thread::scope(|threads| {
        threads.spawn(|| {
            while !done.load(Ordering::Relaxed) {
                for (own, other, aside) in &turning {
                    let _ = fs::rename(own, aside).and_then(|()| fs::rename(other, own));
                }
                for (own, other, aside) in &turning {
                    let _ = fs::rename(own, other).and_then(|()| fs::rename(aside, own));
                }
            }
        });
        let ended = std::panic::catch_unwind(|| {
            for _ in 0..40 {
                let (out, err, code) = run(&["services", at, "--format", "json"]);
                assert!(code == 0 && !err.contains("panicked"), "{err}");
                assert!(out.contains("161") && !out.contains("16161"), "{out}");
            }
        });
        done.store(true, Ordering::Relaxed);
        ended.unwrap();
    });
}
