//! The SSH server's configuration against `sshd -T`: generated configurations, with drop-ins and conditions,
//! for several connections. Needs the server program; `scripts/conformance.sh` installs it and runs these tests.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::path::Path;
use std::process::Command;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Export, ExportId, Setting};
use trevlin_readers::{ReadContext, decode, recognise};

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
}

/// Lines that are permitted anywhere, and those not permitted behind `Match`.
const ANYWHERE: [&str; 44] = [
    "PasswordAuthentication no",
    "passwordauthentication=yes",
    "KbdInteractiveAuthentication no",
    "ChallengeResponseAuthentication yes",
    "PubkeyAuthentication no",
    "HostbasedAuthentication yes",
    "PermitEmptyPasswords yes",
    "PermitRootLogin no",
    "PermitRootLogin prohibit-password",
    "PermitRootLogin \"forced-commands-only\"",
    "X11Forwarding yes",
    "X11Forwarding no # off",
    "AllowTcpForwarding local",
    "AllowTcpForwarding all",
    "GatewayPorts clientspecified",
    "PermitTunnel ethernet",
    "MaxAuthTries 3",
    "MaxSessions\t2",
    "ClientAliveInterval 5m",
    "ClientAliveCountMax 0",
    "AllowUsers ann bob",
    "AllowUsers root@192.0.2.*",
    "DenyUsers \"mallory\" eve",
    "AllowGroups wheel",
    "DenyGroups guests",
    "AuthenticationMethods publickey,password publickey",
    "AuthenticationMethods password",
    "AuthorizedKeysFile none",
    "AuthorizedKeysFile /etc/keys/%u .ssh/authorized_keys",
    "Banner /etc/issue.net",
    "ForceCommand /bin/echo \"a b\" # c",
    "ChrootDirectory /srv/%u",
    "DisableForwarding yes",
    "ExposeAuthInfo yes",
    "PermitTTY no",
    "PermitUserRC no",
    "AllowAgentForwarding no",
    "IgnoreRhosts shosts-only",
    "AllowStreamLocalForwarding remote",
    "RequiredRSASize 2048",
    "PubkeyAcceptedAlgorithms +ssh-rsa",
    "PubkeyAcceptedKeyTypes -*nistp*",
    "TrustedUserCAKeys /etc/ssh/ca.pub",
    "RevokedKeys /etc/ssh/revoked",
];
const GLOBAL: [&str; 20] = [
    "Port 2222",
    "Port 22",
    "UsePAM yes",
    "StrictModes no",
    "TCPKeepAlive no",
    "KeepAlive yes",
    "UseDNS yes",
    "Compression delayed",
    "AddressFamily inet",
    "LoginGraceTime 1m30s",
    "LoginGraceTime 0",
    "Ciphers aes256-ctr,aes128-ctr",
    "Ciphers -chacha20*,aes128-gcm*",
    "Ciphers ^aes256-gcm@openssh.com",
    "MACs -*sha1*,umac*",
    "MACs hmac-sha2-256,hmac-sha2-512",
    "KexAlgorithms +diffie-hellman-group14-sha1",
    "KexAlgorithms ^curve25519-sha256",
    "HostKeyAlgorithms -ecdsa*",
    "PrintMotd no",
];
const CONDITIONS: [&str; 12] = [
    "Match User root",
    "Match User ann,b*",
    "Match User !root,*",
    "Match Address 192.0.2.0/24",
    "Match Address !192.0.2.9,192.0.2.0/24",
    "Match Host *.example",
    "Match LocalPort 2222",
    "Match LocalAddress 10.0.0.0/8 User ann",
    "Match Group root",
    "Match all",
    "Match User=bob Host=\"host.example\" # b",
    "Match Group nobody-has-it",
];
const CONNECTIONS: [&str; 5] = [
    "",
    "user=root,host=host.example,addr=192.0.2.9,laddr=10.0.0.1,lport=22",
    "user=ann,host=host.example,addr=192.0.2.9,laddr=10.0.0.1,lport=2222",
    "user=bob,host=host.example,addr=192.0.2.77,laddr=192.0.2.1,lport=2222",
    "user=eve,host=other.test,addr=203.0.113.5,laddr=10.0.0.1,lport=22",
];

fn lines(seeded: &mut Seeded, conditional: bool) -> String {
    let mut text = String::new();
    for _ in 0..1 + seeded.below(6) {
        let global = !conditional && seeded.below(3) == 0;
        let line = if global { seeded.pick(&GLOBAL) } else { seeded.pick(&ANYWHERE) };
        let _ = writeln!(text, "{}{line}", if seeded.below(4) == 0 { "  " } else { "" });
    }
    text
}

fn configuration(seeded: &mut Seeded, folder: &str) -> String {
    let mut text = String::from("# generated\n");
    if seeded.below(2) == 0 {
        let _ = writeln!(text, "Include {folder}/drop.d/*.conf");
    }
    text.push_str(&lines(seeded, false));
    if seeded.below(3) == 0 {
        let _ = writeln!(text, "Include {folder}/nothing/*.conf {folder}/drop.d/1*.conf");
    }
    for _ in 0..seeded.below(4) {
        let _ = writeln!(text, "{}", seeded.pick(&CONDITIONS));
        text.push_str(&lines(seeded, true));
        if seeded.below(3) == 0 {
            let _ = writeln!(text, "Include {folder}/inner.conf");
        }
    }
    text
}

fn drop_in(seeded: &mut Seeded) -> String {
    let mut text = lines(seeded, false);
    if seeded.below(2) == 0 {
        let _ = writeln!(text, "{}", seeded.pick(&CONDITIONS));
        text.push_str(&lines(seeded, true));
    }
    text
}

/// A piece that may be read in behind `Match`.
fn inner(seeded: &mut Seeded) -> String {
    let mut text = lines(seeded, true);
    let _ = writeln!(text, "{}", seeded.pick(&CONDITIONS));
    text + &lines(seeded, true)
}

/// The daemon's effective settings, by keyword; lines of one keyword joined. `None` where no enabled method could satisfy
/// `AuthenticationMethods`, or a condition requires a property that the connection does not state.
fn daemon(path: &Path, key: &Path, connection: &str) -> Option<BTreeMap<String, String>> {
    let mut command = Command::new("/usr/sbin/sshd");
    command.args(["-T", "-f"]).arg(path).arg("-h").arg(key);
    if !connection.is_empty() {
        command.args(["-C", connection]);
    }
    let output = command.output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    if said.contains("AuthenticationMethods cannot be satisfied")
        || said.contains("not in connection test specification")
    {
        return None;
    }
    assert!(output.status.success(), "{said}\n{}", std::fs::read_to_string(path).unwrap());
    let mut found: BTreeMap<String, String> = BTreeMap::new();
    for line in String::from_utf8(output.stdout).unwrap().lines() {
        let (keyword, value) = line.split_once(' ').unwrap_or((line, ""));
        let all = found.entry(keyword.to_owned()).or_default();
        if !all.is_empty() {
            all.push(' ');
        }
        all.push_str(value);
    }
    Some(found)
}

fn connection<'a>(text: &'a str, groups: &'a [String]) -> SshConnection<'a> {
    let mut one = SshConnection::default();
    for (key, value) in text.split(',').filter_map(|part| part.split_once('=')) {
        match key {
            "user" => one.user = Some(value),
            "host" => one.host = Some(value),
            "addr" => one.address = value.parse().ok(),
            "laddr" => one.local_address = value.parse().ok(),
            _ => one.local_port = value.parse().ok(),
        }
    }
    // Of these users only root has an account here, and so groups.
    if one.user == Some("root") {
        one.groups = groups;
    }
    one
}

fn server(root: &Path) -> SshServer {
    let mut exports = Vec::new();
    for name in ["sshd_config", "drop.d/10-a.conf", "drop.d/20-b.conf", "inner.conf"] {
        let path = root.join(name);
        let text = decode(&std::fs::read(&path).unwrap()).unwrap();
        exports.push(Export::new(
            ExportId(exports.len() as u32),
            path.to_string_lossy().trim_start_matches('/'),
            text,
        ));
    }
    let around = ReadContext::of(exports.iter().collect());
    let reader = recognise(&exports[0]).reader.unwrap();
    assert_eq!(reader.name, "sshd");
    (reader.read)(&exports[0], &around).facts.ssh_servers.pop().unwrap()
}

#[test]
#[ignore = "needs sshd; run by scripts/conformance.sh"]
fn every_keyword_has_the_value_that_the_daemon_gives_it() {
    let folder = tempfile::tempdir().unwrap();
    let key = folder.path().join("key");
    assert!(
        Command::new("ssh-keygen")
            .args(["-q", "-t", "ed25519", "-N", "", "-f"])
            .arg(&key)
            .status()
            .unwrap()
            .success()
    );
    std::fs::create_dir_all("/run/sshd").unwrap();
    std::fs::create_dir(folder.path().join("drop.d")).unwrap();
    let mut seeded = Seeded(20_261_124);
    let groups = ["root".to_owned()];
    let (mut compared, mut configurations) = (0, BTreeSet::new());
    for number in 0..120 {
        let at = folder.path().to_string_lossy();
        let main = configuration(&mut seeded, &at);
        std::fs::write(folder.path().join("sshd_config"), &main).unwrap();
        std::fs::write(folder.path().join("drop.d/10-a.conf"), drop_in(&mut seeded)).unwrap();
        std::fs::write(folder.path().join("drop.d/20-b.conf"), drop_in(&mut seeded)).unwrap();
        std::fs::write(folder.path().join("inner.conf"), inner(&mut seeded)).unwrap();
        let server = server(folder.path());
        assert_eq!(server.refused, None, "{main}");
        for text in CONNECTIONS {
            let Some(daemon) = daemon(&folder.path().join("sshd_config"), &key, text) else { continue };
            configurations.insert(number);
            let connection = connection(text, &groups);
            for keyword in server.keywords.iter().filter(|keyword| keyword.name != "listenaddress") {
                let between = if keyword.defaults.iter().any(|row| row.value.len() > 3) { "," } else { " " };
                let ours = match server.effective(&keyword.name, &connection) {
                    Setting::Stated { value, .. } => value.join(between),
                    // The last row is that of current versions.
                    Setting::Default(rows) => {
                        rows.last().map(|row| row.value.join(between)).unwrap_or_default()
                    }
                    Setting::Unknown { why } => panic!("{}: {why}", keyword.name),
                };
                let its = daemon.get(&keyword.name).cloned().unwrap_or_default();
                assert_eq!(ours, its, "{} for `{text}` in\n{main}", keyword.name);
                compared += 1;
            }
        }
    }
    assert!(
        configurations.len() >= 60 && compared > 10_000,
        "{} configurations, {compared} values",
        configurations.len()
    );
    println!("{} configurations, {compared} values compared", configurations.len());
}
