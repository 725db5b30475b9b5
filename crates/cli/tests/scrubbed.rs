//! Scrubbed copies against the programs whose files they are: what each took before, it takes afterwards. Run by
//! `scripts/conformance.sh`, which installs the programs.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// A program that checks whether it would accept a file.
struct Program {
    name: &'static str,
    /// Whether it reads a file of this path.
    reads: fn(&str) -> bool,
    run: fn(&Path, &Path) -> Output,
}

fn output(command: &mut Command) -> Output {
    command.output().unwrap_or_else(|error| panic!("{command:?}: {error}"))
}

const PROGRAMS: [Program; 4] = [
    Program {
        name: "nft -c",
        reads: |path| path.ends_with("nftables.conf") || path.ends_with(".nft"),
        run: |file, _| output(Command::new("nft").arg("-c").arg("-f").arg(file)),
    },
    Program {
        name: "iptables-restore --test",
        reads: |path| path.contains("iptables-save") || path.ends_with("rules.v4"),
        run: |file, _| {
            let name = file.file_name().unwrap().to_string_lossy();
            let program = if name.contains("ip6") { "ip6tables-restore" } else { "iptables-restore" };
            output(Command::new(program).arg("--test").stdin(fs::File::open(file).unwrap()))
        },
    },
    Program {
        name: "sshd -t",
        reads: |path| path.ends_with("sshd_config"),
        run: |file, key| {
            output(Command::new("/usr/sbin/sshd").arg("-t").arg("-h").arg(key).arg("-f").arg(file))
        },
    },
    Program {
        name: "testparm",
        reads: |path| path.ends_with("smb.conf"),
        run: |file, _| output(Command::new("testparm").arg("-s").arg("--suppress-prompt").arg(file)),
    },
];

/// Every file below a folder, by path.
fn files(below: &Path) -> Vec<String> {
    let mut found = Vec::new();
    let mut folders: Vec<PathBuf> = vec![below.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let at = entry.unwrap().path();
            if at.is_dir() {
                folders.push(at);
            } else {
                found.push(at.strip_prefix(below).unwrap().to_string_lossy().into_owned());
            }
        }
    }
    found.sort();
    found
}

/// Files of these kinds with secrets and lines that are not understood in them.
const MORE: [(&str, &str); 4] = [
    (
        "gate/etc/nftables.conf",
        "table inet a {\n\tset b { type ipv4_addr; flags interval; elements = { 10.20.0.0/16, 192.0.2.9-192.0.2.12 } }\n\tct helper c { type \"ftp\" protocol tcp; }\n\
         \tchain d { type filter hook input priority 0; ip6 saddr 2001:db8:20::/48 accept comment \"key Moorhen-4711\"; ether saddr 02:00:5e:10:00:41 accept; tcp dport 21 ct helper set \"c\" }\n}\n",
    ),
    (
        "gate/running/iptables-save.txt",
        "*nat\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -s 10.0.0.0/8 -d 198.51.100.9/32 -p tcp -m tcp --dport 80 -m comment --comment \"password Moorhen-4711\" -j DNAT --to-destination 10.20.4.20-10.20.4.30:8080\nCOMMIT\n\
         *filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m mac --mac-source 02:00:5e:10:00:41 -j ACCEPT\n-A INPUT -m iprange --src-range 10.20.4.1-10.20.5.9 -j DROP\nCOMMIT\n",
    ),
    (
        "gate/etc/ssh/sshd_config",
        "ListenAddress 127.0.0.1\nAllowUsers ann@10.20.4.* bob\nPermitOpen 10.20.4.9:443\nMatch Address 10.20.0.0/16,2001:db8:20::/48\n  PasswordAuthentication no\n# old password: Moorhen-4711\n",
    ),
    (
        "gate/etc/samba/smb.conf",
        "[global]\n  workgroup = GATE\n  hosts allow = 127. 10.20. 10.30.4.0/255.255.255.0\n  interfaces = lo 10.20.4.9/24\n  ldap admin dn = cn=a\n# secret Moorhen-4711\n[a]\n  path = /a\n  valid users = ann\n",
    ),
];

#[test]
#[ignore = "needs the programs; scripts/conformance.sh runs it"]
fn programs_take_what_they_took_before() {
    let work = tempfile::tempdir().unwrap();
    let key = work.path().join("host-key");
    assert!(
        output(Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", ""]).arg("-f").arg(&key))
            .status
            .success()
    );
    let own = work.path().join("own");
    for (path, text) in MORE {
        let at = own.join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(at, text).unwrap();
    }
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut taken = [0; PROGRAMS.len()];
    for (number, from) in
        [own, here.join("../../demo/before"), here.join("../readers/tests/cases")].iter().enumerate()
    {
        for more in [&[][..], &["--addresses"]] {
            let into = work.path().join(format!("copy-{number}-{}", more.len()));
            let mut scrub = Command::new(env!("CARGO_BIN_EXE_trevlin"));
            scrub.arg("scrub").arg(from).arg("--into").arg(&into).arg("-q").args(more);
            let said = output(&mut scrub);
            assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
            for path in files(&into) {
                for (at, program) in PROGRAMS.iter().enumerate().filter(|(_, one)| (one.reads)(&path)) {
                    let (file, copy) = (from.join(&path), into.join(&path));
                    if !(program.run)(&file, &key).status.success() {
                        continue;
                    }
                    let said = (program.run)(&copy, &key);
                    let (text, error) =
                        (fs::read_to_string(&copy).unwrap(), String::from_utf8_lossy(&said.stderr));
                    assert!(said.status.success(), "{} of {path}: {error}\n{text}", program.name);
                    assert!(!text.contains("Moorhen"), "{path}: {text}");
                    taken[at] += 1;
                }
            }
        }
    }
    for (program, count) in PROGRAMS.iter().zip(taken) {
        println!("{}: {count} files", program.name);
        assert!(count >= 2, "{}: {count}", program.name);
    }
}
