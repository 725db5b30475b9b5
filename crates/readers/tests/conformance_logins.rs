//! Generated files of what a host takes accounts from: SSSD, nslcd, the library of LDAP, Kerberos and the list of name services, against
//! what the real programs make of them.
//!
//! Every configuration lies over `/etc` in namespaces of its own. Run by `scripts/conformance.sh`; needs the programs, python3 and root.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs programs"
)]

mod support;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::fs;
use std::path::Path;
use std::process::Command;
use support::Dice;
use trevlin_model::login_source::{Admission, LoginSource, ServerProofKind};
use trevlin_model::served::TransportSecurity;
use trevlin_model::{Export, ExportId, Facts};
use trevlin_readers::{ReadContext, recognise};

type Files = Vec<(&'static str, String)>;

/// Facts of files, and how many of their lines were not understood.
fn facts(files: &Files) -> (Facts, usize) {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), format!("d/{path}"), text.clone()))
        .collect();
    let around = ReadContext::of(exports.iter().collect());
    let (mut found, mut notes) = (Vec::new(), 0);
    for export in &exports {
        let Some(reader) = recognise(export).reader else { continue };
        let reading = (reader.read)(export, &around);
        notes += reading.ledger.notes.len();
        found.push(*reading.facts);
    }
    (Facts::joined(found), notes)
}

/// What commands print with files over `/etc`; `$1` is the folder that holds them.
fn run(name: &str, files: &Files, script: &str) -> String {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("logins-{name}"));
    let _ = fs::remove_dir_all(&folder);
    for (path, text) in files {
        let at = folder.join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(at, text).unwrap();
    }
    let start = r#"ip link set lo up
mkdir "$1/upper" "$1/work"; cp -r "$1/etc/." "$1/upper/"
chmod -R go-rwx "$1/upper"; chmod 755 "$1/upper"; unset LD_LIBRARY_PATH
mount -t overlay overlay -o "lowerdir=/etc,upperdir=$1/upper,workdir=$1/work" /etc
mount -t tmpfs tmpfs /run
"#;
    fs::write(folder.join("run.sh"), format!("{start}{script}")).unwrap();
    let output = Command::new("unshare")
        .args([
            "--net",
            "--mount",
            "--pid",
            "--fork",
            "--kill-child",
            "--mount-proc",
            "timeout",
            "30",
            "bash",
        ])
        .args([folder.join("run.sh"), folder.clone()])
        .output()
        .unwrap();
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

/// Compares what is read with what a program says, over generated files.
fn hold(
    name: &str,
    rounds: u64,
    files: fn(&mut Dice) -> Files,
    script: &str,
    really: fn(&str) -> String,
    read: fn(&Facts, usize) -> String,
) {
    let (mut wrong, mut kinds) = (Vec::new(), BTreeSet::new());
    let seed: u64 = std::env::var("SEED").ok().and_then(|text| text.parse().ok()).unwrap_or(0);
    for round in 0..rounds {
        let files = files(&mut Dice::new(1 + seed * 1000 + round));
        let (facts, notes) = facts(&files);
        let output = run(name, &files, script);
        let (really, read) = (really(&output), read(&facts, notes));
        kinds.insert(really.clone());
        if really != read {
            let texts: Vec<String> = files.iter().map(|(path, text)| format!("--- {path}\n{text}")).collect();
            wrong.push(format!(
                "round {round}\nreally: {really}\nread:   {read}\n{}\n{output}",
                texts.join("\n")
            ));
        }
    }
    println!("{name}: {rounds} configurations, {} different outcomes", kinds.len());
    assert!(kinds.len() > 3, "{kinds:?}");
    let shown: Vec<&str> = wrong.iter().take(3).map(String::as_str).collect();
    assert!(wrong.is_empty(), "{} of {rounds} differ\n{}", wrong.len(), shown.join("\n"));
}

fn sssd(dice: &mut Dice) -> Files {
    let mut main = String::from("# generated\n[sssd]\n");
    writeln!(
        main,
        "domains = {}",
        dice.pick(&["quay", "quay, yard", "yard,quay,", "Quay", "yard", "quay, none"])
    )
    .unwrap();
    main.push_str("config_file_version = 2\n");
    for domain in ["quay", "yard"] {
        write!(main, "\n[domain/{domain}]\nid_provider = ldap\n").unwrap();
        for (name, sides, values) in [
            (
                "ldap_uri",
                1,
                &[
                    "ldap://10.4.0.9",
                    "ldaps://d.quay.example",
                    "ldap://a, ldaps://b",
                    "ldap://[fd00::9]:1389",
                ][..],
            ),
            ("LDAP_URI", 6, &["ldap://later"]),
            ("ldap_id_use_start_tls", 3, &["true", "TRUE", "false", "yes"]),
            ("ldap_tls_reqcert", 3, &["never", "demand", "allow", "hard"]),
            ("access_provider", 2, &["permit", "ldap", "simple", "deny"]),
            ("ldap_access_filter", 3, &["(host=gate)", "(objectClass=*)"]),
            ("simple_allow_groups", 3, &["crew", "crew, admins"]),
            ("simple_allow_users", 5, &["ann"]),
            ("enabled", 5, &["false", "true", "False"]),
            ("cache_credentials", 5, &["True", "yes"]),
        ] {
            if dice.roll(sides) == 0 {
                writeln!(main, "{}{name} = {}", dice.pick(&["", "", "  "]), dice.pick(values)).unwrap();
            }
        }
    }
    if dice.roll(8) == 0 {
        let odd = *dice.pick(&[
            "[domain/quay\n",
            "a line\n",
            " = nothing\n",
            "; a comment\n",
            "[domain/quay]\nldap_uri = ldap://again\n",
        ]);
        main.push_str(odd);
    }
    let mut files = vec![("etc/sssd/sssd.conf", main)];
    for path in ["etc/sssd/conf.d/10-more.conf", "etc/sssd/conf.d/.hidden.conf", "etc/sssd/conf.d/20-old.cfg"]
    {
        if dice.roll(3) == 0 {
            let text = dice.pick(&[
                "[domain/quay]\nldap_uri = ldap://more\n",
                "[domain/yard]\nenabled = true\n",
                "[domain/quay]\naccess_provider = simple\nsimple_allow_users = bob\n",
                "[sssd]\ndomains = yard\n",
                "[domain/quay]\nldap_uri\n",
            ]);
            files.push((path, (*text).to_owned()));
        }
    }
    files.retain(|(path, _)| !path.ends_with(".cfg"));
    files
}

/// Servers, access and certificates in one line for each source.
fn told(sources: &[LoginSource]) -> String {
    let source = |one: &LoginSource| {
        let mut words: Vec<String> = one.label.iter().map(|label| label.to_ascii_lowercase()).collect();
        words.extend(one.servers.iter().map(|server| {
            let port = server.port.map(|port| format!(":{port}")).unwrap_or_default();
            let tls = server.accounts == Some(TransportSecurity::Encrypted);
            format!("{}{port}{}", server.host, if tls { "!" } else { "" })
        }));
        let proof = one.proofs.iter().find(|proof| proof.kind == ServerProofKind::Certificate);
        words.extend(proof.map(|proof| format!("{}", proof.demanded.value() == Some(&true))));
        words.push(match one.admits.value() {
            Some(Admission::Everybody) => "all".into(),
            Some(Admission::Named(names)) => names.join("+"),
            Some(Admission::Condition(text)) => text.clone(),
            _ => "none".into(),
        });
        words.join(" ")
    };
    sources.iter().filter(|one| one.refused.is_none()).map(source).collect::<Vec<_>>().join(" | ")
}

/// The same from the settings that SSSD keeps, and from the domains that it starts.
fn of_sssd(output: &str) -> String {
    let mut started: Vec<String> = Vec::new();
    for line in output.lines() {
        if let Some(name) = line.strip_prefix("started ").map(str::to_ascii_lowercase)
            && !started.contains(&name)
        {
            started.push(name);
        }
    }
    let mut kept: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    let mut open = String::new();
    for line in output.lines() {
        if let Some(rest) = line.strip_prefix("dn: cn=") {
            open = rest.strip_suffix(",cn=domain,cn=config").unwrap_or_default().to_ascii_lowercase();
        } else if let Some((name, value)) = line.split_once(": ").filter(|_| !open.is_empty()) {
            kept.entry(open.clone()).or_default().insert(name.to_ascii_lowercase(), value.to_owned());
        }
    }
    let domain = |name: &String| {
        let get = |key: &str| kept.get(name).and_then(|one| one.get(key)).map(String::as_str);
        let start = get("ldap_id_use_start_tls").is_some_and(|word| word.eq_ignore_ascii_case("true"));
        let servers = get("ldap_uri").unwrap_or_default().split(',').map(|uri| {
            let (scheme, rest) = uri.trim().split_once("://").unwrap_or_else(|| panic!("{name}\n{output}"));
            format!("{}{}", rest.replace(['[', ']'], ""), if start || scheme == "ldaps" { "!" } else { "" })
        });
        let certificate = !matches!(get("ldap_tls_reqcert"), Some("never" | "allow"));
        let lists = [get("simple_allow_users"), get("simple_allow_groups")];
        let names: Vec<&str> = lists.iter().flatten().flat_map(|list| list.split(", ")).collect();
        let access = match get("access_provider") {
            Some("simple") if !names.is_empty() => names.join("+"),
            Some("ldap") => match get("ldap_access_filter") {
                None => "none".into(),
                Some("(objectClass=*)") => "all".into(),
                Some(filter) => filter.to_owned(),
            },
            Some("deny") => "none".into(),
            _ => "all".into(),
        };
        format!("{name} {} {certificate} {access}", servers.collect::<Vec<_>>().join(" "))
    };
    started.iter().map(domain).collect::<Vec<_>>().join(" | ")
}

#[test]
#[ignore = "needs SSSD, ldbsearch and root"]
fn domains_of_sssd() {
    hold(
        "sssd",
        30,
        sssd,
        r#"mkdir "$1/db"; mkdir -p /run/sss; for one in db mc; do mount -t tmpfs tmpfs /var/lib/sss/$one; done; mount -t tmpfs tmpfs /var/log/sssd
sssd -i > /dev/null 2>&1 & main=$!
for n in $(seq 30); do sleep 0.1; kill -0 $main 2>/dev/null || break; for one in /proc/[0-9]*/cmdline; do { tr '\0' ' ' < $one; echo; } 2>/dev/null | sed -n 's/.*sssd_be --domain \([^ ]*\) .*/started \1/p'; done; done | awk '!seen[$0]++'
kill -0 $main 2>/dev/null && ldbsearch -H /var/lib/sss/db/config.ldb 2>/dev/null | grep -v '^#'
kill -9 $main 2>/dev/null
"#,
        |output| {
            // A provider that cannot read a switch ends again and again.
            let mut words: Vec<String> = of_sssd(output).split(" | ").map(str::to_owned).collect();
            words.sort();
            words.join(" | ")
        },
        |facts, _| {
            let mut words: Vec<String> = told(&facts.login_sources).split(" | ").map(str::to_owned).collect();
            words.sort();
            words.join(" | ")
        },
    );
}

fn nslcd(dice: &mut Dice) -> Files {
    let mut text = String::from("# generated\nuid nslcd\ngid nslcd\nbase dc=quay,dc=example\n");
    for (name, sides, values) in [
        (
            "uri",
            1,
            &["ldap://10.4.0.9", "ldaps://d.quay.example/", "ldap://a/ ldaps://b/", "ldap://[fd00::9]:1389"]
                [..],
        ),
        ("URI", 4, &["ldap://c"]),
        ("ssl", 2, &["on", "off", "start_tls", "yes", "no", "START_TLS"]),
        ("ssl", 5, &["off", "start_tls"]),
        ("tls_reqcert", 2, &["never", "allow", "try", "demand", "hard", "no", "yes"]),
        ("pam_authz_search", 3, &["(&(uid=$username)(host=$hostname))", "(uid=$username)"]),
        (
            "filter",
            3,
            &["passwd (host=a)", "group (cn=x)", "PASSWD (objectClass=posixAccount)", "passwd (uid=*)"],
        ),
        ("filter", 4, &["passwd (host=b)"]),
        ("bindpw", 4, &["Wn7kq2 Lx # c"]),
        ("timelimit", 5, &["30"]),
        ("host", 16, &["10.4.0.9"]),
        ("ssl", 16, &[""]),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(
                text,
                "{}{name}{}{}",
                dice.pick(&["", "", "  "]),
                dice.pick(&[" ", "\t"]),
                dice.pick(values)
            )
            .unwrap();
        }
    }
    vec![("etc/nslcd.conf", text)]
}

#[test]
#[ignore = "needs nslcd and root"]
fn directories_of_nslcd() {
    hold(
        "nslcd",
        40,
        nslcd,
        "timeout 0.7 nslcd -d 2>&1",
        |output| {
            let every = |name: &str| -> Vec<&str> {
                let start = format!("CFG: {name} ");
                output.lines().filter_map(|line| Some(line.split_once(&start)?.1)).collect()
            };
            if every("threads").is_empty() {
                return String::new();
            }
            let tls = every("ssl").first().is_some_and(|word| *word != "off");
            let servers = every("uri").into_iter().map(|uri| {
                let (scheme, rest) = uri.split_once("://").unwrap();
                let place = rest.trim_end_matches('/').replace(['[', ']'], "");
                format!("{place}{}", if tls || scheme == "ldaps" { "!" } else { "" })
            });
            let servers: Vec<String> = servers.collect();
            let certificate = !matches!(every("tls_reqcert")[0], "never" | "allow");
            let search = every("pam_authz_search").into_iter().find(|one| *one != "(uid=$username)");
            let filter = every("filter passwd")[0];
            let narrow = !matches!(filter, "(objectClass=posixAccount)" | "(uid=*)");
            let access = search.unwrap_or(if narrow { filter } else { "all" });
            format!("{} {certificate} {access}", servers.join(" "))
        },
        |facts, _| told(&facts.login_sources),
    );
}

fn ldap_client(dice: &mut Dice) -> Files {
    let mut text = String::from("# generated\nBASE dc=quay,dc=example\n");
    for (name, sides, values) in [
        ("URI", 2, &["ldap://a", "ldaps://b ldap://c", "ldap://10.4.0.9:1389"][..]),
        ("TLS_REQCERT", 2, &["never", "allow", "try", "demand", "hard", "NEVER"]),
        ("tls_reqcert", 4, &["never", "demand"]),
        ("uri", 5, &["ldaps://later"]),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(text, "{name} {}", dice.pick(values)).unwrap();
        }
    }
    vec![("etc/ldap/ldap.conf", text)]
}

#[test]
#[ignore = "needs the library of OpenLDAP, python3 and root"]
fn clients_of_ldap() {
    hold(
        "ldap-client",
        30,
        ldap_client,
        r#"python3 - <<'END'
import ctypes
for name in ("libldap-2.5.so.0", "libldap.so.2", "libldap-2.4.so.2"):
    try: library = ctypes.CDLL(name); break
    except OSError: pass
uri = ctypes.c_char_p(); library.ldap_get_option(None, 0x5006, ctypes.byref(uri))
word = ctypes.c_int(); library.ldap_get_option(None, 0x6006, ctypes.byref(word))
print("uri", (uri.value or b"").decode()); print("proof", word.value)
END"#,
        |output| {
            let of = |name: &str| {
                output.lines().find_map(|line| line.strip_prefix(name)).unwrap_or_default().trim()
            };
            // LDAP_OPT_X_TLS_NEVER and LDAP_OPT_X_TLS_ALLOW.
            let servers: Vec<&str> =
                of("uri").split(' ').map(|uri| uri.trim_end_matches("/??base")).collect();
            format!("{} {}", servers.join(" "), !matches!(of("proof"), "0" | "3"))
        },
        |facts, _| {
            let Some(source) = facts.login_sources.first() else { return "ldap://localhost:389 true".into() };
            let servers = source.servers.iter().map(|server| {
                let scheme =
                    if server.accounts == Some(TransportSecurity::Encrypted) { "ldaps" } else { "ldap" };
                let port = server.port.unwrap_or(if scheme == "ldaps" { 636 } else { 389 });
                format!("{scheme}://{}:{port}", server.host)
            });
            let servers: Vec<String> = servers.collect();
            let servers =
                if servers.is_empty() { "ldap://localhost:389".to_owned() } else { servers.join(" ") };
            format!("{servers} {}", source.proofs[0].demanded.value() == Some(&true))
        },
    );
}

fn kerberos(dice: &mut Dice) -> Files {
    let mut text = String::from("# generated\n");
    if dice.roll(3) == 0 {
        text.push_str("includedir /etc/krb5.conf.d/\n");
    }
    text.push_str("[libdefaults]\n");
    for (name, sides, values) in [
        ("default_realm", 1, &["QUAY.EXAMPLE", "\"QUAY.EXAMPLE\"", "YARD.EXAMPLE"][..]),
        ("default_realm", 4, &["LATER.EXAMPLE"]),
        ("allow_weak_crypto", 3, &["true", "false", "1", "on"]),
        (
            "permitted_enctypes",
            1,
            &[
                "aes256-cts-hmac-sha1-96",
                "aes rc4",
                "aes256-cts, aes128-cts, arcfour-hmac",
                "aes256-sha2 des3-cbc-sha1 camellia",
                "aes -aes128-cts rc4-hmac-exp",
                "AES256-CTS RC4",
                "des-cbc-crc aes256-cts",
                "aes +rc4",
            ],
        ),
        ("verify_ap_req_nofail", 3, &["true", "no", "yes"]),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(
                text,
                "{}{name}{}{}",
                dice.pick(&["  ", "", "\t"]),
                dice.pick(&[" = ", "=", " ="]),
                dice.pick(values)
            )
            .unwrap();
        }
    }
    text.push_str("[realms]\n  YARD.EXAMPLE = {\n    kdc = y\n  }\n  QUAY.EXAMPLE = {\n    kdc = a\n    admin_server = a\n    kdc = b:750\n  }\n");
    if dice.roll(4) == 0 {
        let odd = *dice.pick(&[
            "[realms]\n  QUAY.EXAMPLE = {\n    kdc = c\n  }\n",
            "; a comment\n",
            "broken\n",
            "  QUAY.EXAMPLE = {\n",
            "[libdefaults]\n  default_realm = AGAIN.EXAMPLE\n",
        ]);
        text.push_str(odd);
    }
    let mut files = vec![("etc/krb5.conf", text)];
    for path in [
        "etc/krb5.conf.d/weak",
        "etc/krb5.conf.d/b.conf",
        "etc/krb5.conf.d/left.bak",
        "etc/krb5.conf.d/.c.conf",
    ] {
        let more = dice.pick(&[
            "[libdefaults]\n  permitted_enctypes = rc4\n",
            "[libdefaults]\n  verify_ap_req_nofail = true\n",
            "[realms]\n  QUAY.EXAMPLE = {\n    kdc = first\n  }\n",
        ]);
        if dice.roll(3) == 0 {
            files.push((path, (*more).to_owned()));
        }
    }
    files
}

#[test]
#[ignore = "needs the library of Kerberos, python3 and root"]
fn settings_of_kerberos() {
    hold(
        "kerberos",
        40,
        kerberos,
        r#"python3 - <<'END'
import ctypes
library = ctypes.CDLL("libkrb5.so.3")
context = ctypes.c_void_p()
if library.krb5_init_context(ctypes.byref(context)) == 0:
    realm = ctypes.c_char_p(); library.krb5_get_default_realm(context, ctypes.byref(realm))
    print("realm", realm.value.decode())
    kinds = ctypes.POINTER(ctypes.c_int32)(); library.krb5_get_permitted_enctypes(context, ctypes.byref(kinds))
    found, at = [], 0
    while kinds[at]:
        name = ctypes.create_string_buffer(100); library.krb5_enctype_to_name(kinds[at], False, name, 100)
        found.append(name.value.decode()); at += 1
    print("kinds", ",".join(found))
    profile = ctypes.c_void_p(); library.krb5_get_profile(context, ctypes.byref(profile))
    names = (ctypes.c_char_p * 4)(b"realms", realm.value, b"kdc", None); values = ctypes.POINTER(ctypes.c_char_p)()
    servers = []
    if library.profile_get_values(profile, names, ctypes.byref(values)) == 0:
        at = 0
        while values[at]: servers.append(values[at].decode()); at += 1
    print("servers", ",".join(servers))
    switch = ctypes.c_int(); library.profile_get_boolean(profile, b"libdefaults", b"verify_ap_req_nofail", None, 0, ctypes.byref(switch))
    print("proof", switch.value)
END"#,
        |output| {
            let of = |name: &str| {
                output.lines().find_map(|line| line.strip_prefix(name)).unwrap_or_default().trim()
            };
            if of("realm").is_empty() {
                return String::new();
            }
            format!("{} {} {} {}", of("realm"), of("servers"), of("kinds"), of("proof") != "0")
        },
        |facts, _| {
            let source = facts.login_sources.first().filter(|one| one.refused.is_none());
            let Some(source) = source else { return String::new() };
            let servers = source.servers.iter().map(|server| {
                format!("{}{}", server.host, server.port.map(|port| format!(":{port}")).unwrap_or_default())
            });
            let offered = source
                .offers
                .first()
                .filter(|offer| offer.algorithms.iter().any(|one| one.versions.is_none()));
            let kinds =
                offered.iter().flat_map(|offer| &offer.algorithms).filter(|one| one.versions.is_none());
            let kinds: Vec<&str> = kinds.map(|one| one.name.as_str()).collect();
            let servers: Vec<String> = servers.collect();
            let label = source.label.as_deref().unwrap_or_default();
            format!(
                "{label} {} {} {}",
                servers.join(","),
                kinds.join(","),
                source.proofs[0].demanded.value() == Some(&true)
            )
        },
    );
}

fn nsswitch(dice: &mut Dice) -> Files {
    let mut text = String::from("# generated\n");
    let lists = [
        "files",
        "files systemd",
        "files first second",
        "second [NOTFOUND=continue] first",
        "files [!UNAVAIL=continue] first # c",
        "first\t second",
    ];
    for (name, sides) in [("passwd", 1), ("group", 2), ("passwd", 4), ("Passwd", 6), ("#passwd", 5)] {
        if dice.roll(sides) == 0 {
            writeln!(
                text,
                "{}{name}:{}{}",
                dice.pick(&["", "", " "]),
                dice.pick(&[" ", "\t\t", ""]),
                dice.pick(&lists)
            )
            .unwrap();
        }
    }
    vec![("etc/nsswitch.conf", text)]
}

#[test]
#[ignore = "needs strace and root"]
fn lists_of_name_services() {
    hold(
        "nsswitch",
        30,
        nsswitch,
        "strace -f -e trace=openat,open getent passwd nobody-of-that-name 2>&1 | grep nss",
        |output| {
            let mut found: Vec<&str> = Vec::new();
            for line in output.lines() {
                let name = line.split("libnss_").nth(1).and_then(|rest| rest.split(".so").next());
                if let Some(name) = name.filter(|name| !found.contains(name) && *name != "#") {
                    found.push(name);
                }
            }
            found.join(",")
        },
        |facts, _| {
            let list = facts.name_services.iter().rfind(|one| one.database == "passwd");
            // The library has the plain files built in.
            let systems = list.iter().flat_map(|one| &one.systems).filter(|name| *name != "files");
            systems.map(String::as_str).collect::<Vec<_>>().join(",")
        },
    );
}

fn nis_client(dice: &mut Dice) -> Files {
    let mut text = String::from("# generated\n");
    for _ in 0..1 + dice.roll(4) {
        let line = dice.pick(&[
            "domain quay server 10.4.0.9",
            "domain quay broadcast",
            "ypserver 10.4.0.9",
            "  ypserver nis.quay.example",
            "broadcast",
            "domain quay",
            "server 10.4.0.9",
            "ypserver",
            "nothing at all",
            "# ypserver 10.4.0.9",
        ]);
        writeln!(text, "{line}").unwrap();
    }
    vec![("etc/yp.conf", text)]
}

#[test]
#[ignore = "needs ypbind and root"]
fn servers_of_nis() {
    hold(
        "nis-client",
        20,
        nis_client,
        "domainname quay 2>/dev/null; ypbind -c 2>&1",
        |output| output.lines().filter(|line| line.contains("is not valid")).count().to_string(),
        |_, notes| notes.to_string(),
    );
}
