//! `smb.conf` against testparm, and against a server that clients without a login ask.

use crate::{Running, Seeded, part, run, service, told, write};
use std::fs;
use std::path::Path;
use trevlin_model::served::{Requirement, ServiceResource};

const ADDRESSES: [&str; 6] = ["10.4.1.1", "10.4.9.1", "10.5.1.1", "192.168.7.7", "10.4.1.200", "172.16.0.1"];

const OF_SHARES: [&str; 26] = [
    "guest ok = yes",
    "guest ok = no",
    "public = yes",
    "GuestOk=No",
    "guest only = yes",
    "read only = no",
    "writable = yes",
    "writeable = no",
    "write ok = yes",
    "Read Only = 1",
    "smb encrypt = required",
    "smb encrypt = off",
    "server smb encrypt = desired",
    "available = no",
    "valid users = ann",
    "valid users = ann nobody",
    "hosts allow = 10.4.",
    "hosts allow = 10.4. EXCEPT 10.4.9.",
    "allow hosts = 10.5.0.0/255.255.0.0",
    "hosts deny = ALL",
    "hosts deny = 10.4.9. 10.5.",
    "deny hosts = 0.0.0.0/0",
    "comment = x \\\n  y",
    "; guest ok = yes",
    "printable = no",
    "hosts allow = 10.4.1.1",
];

/// A file with a section for all, three shares, and sometimes a second section for all between them.
fn generated(seeded: &mut Seeded) -> String {
    let mut text = String::from("[global]\nworkgroup = QUAY\n");
    let lines = |seeded: &mut Seeded, most: usize| {
        let picked = seeded.some(&OF_SHARES, most);
        picked.iter().map(|line| format!("   {line}\n")).collect::<String>()
    };
    text.push_str(&lines(seeded, 3));
    for share in ["alpha", "beta", "gamma"] {
        text.push_str(&format!("[{share}]\n   path = /tmp\n{}", lines(seeded, 4)));
        if seeded.below(5) == 0 {
            text.push_str(&format!("[global]\n{}", lines(seeded, 2)));
        }
    }
    text
}

/// Value of one setting of a share according to testparm.
fn setting(file: &str, share: &str, name: &str) -> String {
    let section = format!("--section-name={share}");
    let parameter = format!("--parameter-name={name}");
    let output = run("testparm", &["-s", file, &section, &parameter]);
    String::from_utf8(output.stdout).unwrap().trim().to_lowercase()
}

#[test]
#[ignore = "needs testparm; run by scripts/conformance.sh"]
fn testparm_finds_the_same_values() {
    let folder = tempfile::tempdir().unwrap();
    let mut seeded = Seeded(41);
    let mut compared = 0;
    for number in 0..36 {
        let text = generated(&mut seeded);
        let file = write(&folder.path().join(format!("{number}.conf")), &text);
        let served = service(&[("d/etc/samba/smb.conf", &text)]);
        for share in ["alpha", "beta", "gamma"] {
            let off = setting(&file, share, "available") == "no";
            let Some(part) = part(&served, share) else {
                assert!(off, "{share} in\n{text}");
                continue;
            };
            assert!(!off, "{share} in\n{text}");
            let written = setting(&file, share, "read only") == "no";
            assert_eq!(part.is_written(), written, "read only of {share} in\n{text}");
            let demand = match setting(&file, share, "server smb encrypt").as_str() {
                "required" => Requirement::Required,
                "off" | "no" => Requirement::Never,
                _ => Requirement::Offered,
            };
            assert_eq!(
                part.encryption.as_ref().unwrap().value(),
                Some(&demand),
                "encryption of {share} in\n{text}"
            );
            let valid = setting(&file, share, "valid users");
            let guests =
                setting(&file, share, "guest ok") == "yes" || setting(&file, share, "guest only") == "yes";
            let guests = guests && (valid.is_empty() || valid.contains("nobody"));
            assert_eq!(part.asks_nothing(), guests, "guests of {share} in\n{text}");
            for address in ADDRESSES {
                let output = told(&run("testparm", &["-s", &file, "x", address]));
                let allowed = output.contains(&format!("Allow connection from x ({address}) to {share}"));
                assert_eq!(
                    part.sources.contains(address.parse().unwrap()),
                    allowed,
                    "{address} to {share} in\n{text}"
                );
                compared += 1;
            }
        }
    }
    println!("36 files, {compared} addresses compared with testparm");
}

/// A server of its own, at a port of its own, with four shares; its files lie in a folder of their own.
fn server(folder: &Path, global: &str, shares: &[String]) -> (Running, String) {
    let at = folder.display();
    let mut text = format!(
        "[global]\nsmb ports = 4459\nbind interfaces only = yes\ninterfaces = 127.0.0.1/8\ndisable netbios = yes\n\
         lock directory = {at}/lock\nstate directory = {at}/state\ncache directory = {at}/cache\npid directory = {at}/pid\n\
         private dir = {at}/private\nncalrpc dir = {at}/ncalrpc\nlog file = {at}/log\n{global}"
    );
    for name in ["lock", "state", "cache", "pid", "private", "ncalrpc"] {
        fs::create_dir_all(folder.join(name)).unwrap();
    }
    for (number, share) in shares.iter().enumerate() {
        let path = folder.join(format!("s{number}"));
        fs::create_dir_all(&path).unwrap();
        run("chmod", &["777", &path.display().to_string()]);
        text.push_str(&format!("[s{number}]\npath = {}\n{share}", path.display()));
    }
    let file = write(&folder.join("smb.conf"), &text);
    let running = Running::start("smbd", &["-F", "-s", &file]).answers(4459);
    (running, text)
}

/// Whether a client without a login reads, and whether it writes.
fn guest(share: &str) -> (bool, bool) {
    let ask = |command: &str| {
        let target = format!("//127.0.0.1/{share}");
        let output = run("smbclient", &["-N", "-p", "4459", &target, "-c", command]);
        !told(&output).contains("NT_STATUS") && output.status.success()
    };
    (ask("ls"), ask("put /etc/hostname h"))
}

#[test]
#[ignore = "needs smbd and smbclient; run by scripts/conformance.sh"]
fn a_client_without_a_login_gets_what_is_said() {
    const LINES: [&str; 14] = [
        "guest ok = yes\n",
        "guest ok = yes\n",
        "guest ok = no\n",
        "guest only = yes\n",
        "read only = no\n",
        "read only = no\n",
        "writable = no\n",
        "write list = nobody\n",
        "read list = nobody\n",
        "valid users = nobody\n",
        "valid users = root\n",
        "invalid users = nobody\n",
        "write list = root\n",
        "force user = root\n",
    ];
    const GLOBALS: [&str; 5] =
        ["", "map to guest = Bad User\n", "guest ok = yes\n", "read only = no\n", "restrict anonymous = 1\n"];
    let mut seeded = Seeded(43);
    let mut asked = 0;
    let mut open = 0;
    for global in GLOBALS {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let shares: Vec<String> = (0..6).map(|_| seeded.some(&LINES, 4).concat()).collect();
        let (_running, text) = server(folder.path(), global, &shares);
        let served = service(&[("d/etc/samba/smb.conf", &text)]);
        for number in 0..shares.len() {
            let name = format!("s{number}");
            let one: &ServiceResource = part(&served, &name).unwrap();
            let said = (one.asks_nothing(), one.asks_nothing() && one.is_written());
            assert_eq!(guest(&name), said, "{name} in\n{text}");
            asked += 1;
            open += usize::from(said.0);
        }
    }
    println!("{asked} shares asked, {open} open to everybody");
}
