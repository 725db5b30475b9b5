//! Lists of clients for daemons with libwrap, as `tcpdmatch` judges them with its library.

use crate::support::Dice;
use std::fmt::Write;
use std::fs;
use std::process::Command;
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, recognise};

const CLIENTS: [&str; 9] = [
    "10.4.0.9",
    "10.4.9.9",
    "10.5.0.1",
    "192.0.2.7",
    "198.51.100.77",
    "127.0.0.1",
    "2001:db8::5",
    "2001:db8:20::9",
    "::1",
];

/// A list of clients.
fn hosts(dice: &mut Dice) -> String {
    let mut all = Vec::new();
    for _ in 0..1 + dice.roll(3) {
        all.push(*dice.pick(&[
            "10.4.",
            "10.4.0.9",
            "10.4.0.0/16",
            "10.4.0.0/255.255.0.0",
            "10.4.0.9/16",
            "10.4.0.8/31",
            "10.4.9.*",
            "10.4",
            "192.0.2.0/24",
            "192.0.2.7/255.255.255.0",
            "192.0.2.7/255.255.255.255",
            "192.0.2.7/32",
            "0.0.0.0/0",
            "[2001:db8::]/32",
            "[2001:db8:20::9]",
            "[2001:db8::9]/48",
            "ALL",
            "all",
            "ALL@10.4.0.9",
            "/etc/lists/clients",
            "127.",
        ]));
    }
    let sign = *dice.pick(&[" ", ", ", ","]);
    let mut text = all.join(sign);
    for (sides, more) in [(3, " EXCEPT 10.4.9.9"), (6, " except 10.4. EXCEPT 10.4.0.9")] {
        if dice.roll(sides) == 0 {
            text.push_str(more);
            break;
        }
    }
    text
}

/// A list with some rules, comments, and lines of another form.
fn list(dice: &mut Dice, shortest: usize) -> String {
    let mut text = String::new();
    for _ in 0..shortest + dice.roll(4) {
        let lead = *dice.pick(&["", "", "", "", "", "# ", " # ", "  "]);
        let daemons = *dice.pick(&[
            "vsftpd",
            "vsftpd",
            "ALL",
            "VSFTPD",
            "ALL EXCEPT vsftpd",
            "ALL EXCEPT other",
            "other, vsftpd",
            "vs*",
            "other",
        ]);
        let option = *dice.pick(&[
            "",
            "",
            "",
            "",
            " : deny",
            " : ALLOW",
            " : spawn /bin/true : allow",
            " : twist /bin/echo no",
            " : severity auth.info",
            " : severity = info : deny",
            " : keepalive",
            " : keepalive 5",
            " : banners /etc/banners",
            " : allow : deny",
            " : nosuch",
            " :",
            " : linger 5",
            " : linger x",
            " : spawn echo a \\: b",
        ]);
        let sign = *dice.pick(&[":", " : ", ": ", ":\\\n  "]);
        if dice.roll(15) == 0 {
            writeln!(text, "vsftpd 10.4.0.9").unwrap();
        }
        writeln!(text, "{lead}{daemons}{sign}{}{option}", hosts(dice)).unwrap();
    }
    text
}

#[test]
#[ignore = "needs tcpdmatch"]
fn lists_as_libwrap_judges_them() {
    let folder = tempfile::tempdir().unwrap();
    let (mut compared, mut undecided) = (0, 0);
    for seed in 0..60 {
        let mut dice = Dice::new(7300 + seed);
        let refuses_rest = dice.roll(3) > 0;
        let allow = list(&mut dice, 0);
        let deny = list(&mut dice, 0) + if refuses_rest { "ALL: ALL\n" } else { "" };
        let clients = "10.5.0.0/24\n192.0.2.7 10.5.0.1\n";
        let named = folder.path().join("clients").display().to_string();
        fs::write(&named, clients).unwrap();
        for (name, text) in [("hosts.allow", &allow), ("hosts.deny", &deny), ("inetd.conf", &String::new())] {
            fs::write(folder.path().join(name), text.replace("/etc/lists/clients", &named)).unwrap();
        }
        let exports: Vec<Export> = [
            ("etc/hosts.allow", allow.as_str()),
            ("etc/hosts.deny", deny.as_str()),
            ("etc/lists/clients", clients),
            ("etc/vsftpd.conf", "listen=YES\ntcp_wrappers=YES\n"),
        ]
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), format!("d/{path}"), (*text).to_owned()))
        .collect();
        let around = ReadContext::of(exports.iter().collect());
        let server = exports.last().unwrap();
        let facts = (recognise(server).reader.unwrap().read)(server, &around).facts;
        let sources = &facts.served[0].parts[0].sources;
        for client in CLIENTS {
            let output = Command::new("tcpdmatch")
                .args(["-d", "vsftpd", client])
                .current_dir(folder.path())
                .output()
                .expect("tcpdmatch runs");
            let output = String::from_utf8_lossy(&output.stdout).into_owned();
            let word =
                output.lines().find_map(|line| line.strip_prefix("access:")).expect("a verdict").trim();
            if !sources.names.is_empty() {
                undecided += 1;
                continue;
            }
            let accepted = sources.contains(client.parse().unwrap());
            assert_eq!(
                accepted,
                word == "granted",
                "{seed} {client}: {word}\nallow:\n{allow}\ndeny:\n{deny}"
            );
            compared += 1;
        }
    }
    assert!(compared > 400 && undecided < 60, "{compared} compared, {undecided} undecided");
    println!("libwrap: 60 pairs of lists, {compared} answers alike");
}

/// Daemons that consult the lists in Debian's packages: the name, its file with what it says, the command, and how a client is judged.
const DAEMONS: [(&str, &str, &str, &str, u16); 5] = [
    (
        "sshd",
        "etc/ssh/sshd_config",
        "Port 2222\nHostKey KEY\nListenAddress 127.0.0.1\n",
        "mkdir -p /run/sshd && /usr/sbin/sshd -D -f FILE",
        2222,
    ),
    (
        "mosquitto",
        "etc/mosquitto/mosquitto.conf",
        "listener 1884 127.0.0.1\nallow_anonymous true\n",
        "mosquitto -c FILE",
        1884,
    ),
    (
        "snmpd",
        "etc/snmp/snmpd.conf",
        "rocommunity public\nagentAddress tcp:127.0.0.1:1161\n",
        "snmpd -f -Lo -C -c FILE",
        1161,
    ),
    (
        "slapd",
        "etc/ldap/slapd.conf",
        "database config\nrootdn \"cn=config\"\nrootpw hidden\n",
        "slapd -h ldap://127.0.0.1:1389 -f FILE -d 0",
        1389,
    ),
    (
        "nrpe",
        "etc/nagios/nrpe.cfg",
        "server_port=5667\nserver_address=127.0.0.1\nallowed_hosts=127.0.0.1\nnrpe_user=nagios\nnrpe_group=nagios\npid_file=/run/own.pid\n",
        "nrpe -n -f -c FILE",
        5667,
    ),
];

/// Answers a connection of each daemon: a line `refused` or `accepted`.
const PROBE: &str = r#"
ip link set lo up
touch /etc/hosts.allow /etc/hosts.deny
mount --bind "$1/allow" /etc/hosts.allow
mount --bind "$1/deny" /etc/hosts.deny
mount -t tmpfs tmpfs /run
sh -c "$2" > "$1/log" 2>&1 &
python3 - "$3" <<'PY'
import socket, sys, time
for _ in range(100):
    try:
        one = socket.create_connection(("127.0.0.1", int(sys.argv[1])), 1)
        break
    except OSError:
        time.sleep(0.1)
else:
    print("silent")
    sys.exit()
# The agent answers a request, the SSH server speaks first, and the others wait where they accept.
request = bytes.fromhex("302602010104067075626c6963a019020101020100020100300e300c06082b060102010105000500")
if sys.argv[1] == "1161":
    one.sendall(request)
# The library waits five seconds before it closes a connection.
one.settimeout(2 if sys.argv[1] in ("1161", "2222") else 7)
try:
    print("accepted" if one.recv(1) else "refused")
except TimeoutError:
    print("refused" if sys.argv[1] in ("1161", "2222") else "accepted")
except OSError:
    print("refused")
PY
kill %1 2>/dev/null; pkill -P $$ 2>/dev/null; true
"#;

#[test]
#[ignore = "needs the daemons, and namespaces"]
fn daemons_that_consult_the_lists() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).display().to_string();
    let made = Command::new("ssh-keygen")
        .args(["-q", "-t", "ed25519", "-N", "", "-f", &path("key")])
        .status()
        .expect("ssh-keygen runs");
    assert!(made.success());
    let mut compared = 0;
    for (daemon, file, text, command, port) in DAEMONS {
        for (allow, deny) in [
            ("", "ALL: ALL\n".to_owned()),
            ("", format!("{daemon}: ALL\n")),
            ("", format!("other, {daemon}x: ALL\n")),
            ("ALL: 127.0.0.1\n", "ALL: ALL\n".to_owned()),
        ] {
            let config = text.replace("KEY", &path("key"));
            for (name, text) in [("allow", allow), ("deny", &deny), ("config", &config)] {
                fs::write(path(name), text).unwrap();
            }
            let output = Command::new("unshare")
                .args(["-mnpf", "--mount-proc", "--kill-child", "sh", "-c", PROBE, "sh", &path("")])
                .args([command.replace("FILE", &path("config")), port.to_string()])
                .output()
                .expect("unshare runs");
            let word = String::from_utf8_lossy(&output.stdout).trim().to_owned();
            let log = fs::read_to_string(path("log")).unwrap_or_default();
            let exports: Vec<Export> = [
                (file, text),
                ("etc/hosts.allow", allow),
                ("etc/hosts.deny", deny.as_str()),
                ("etc/debian_version", "12.8\n"),
            ]
            .iter()
            .enumerate()
            .map(|(at, (path, text))| {
                Export::new(ExportId(at as u32), format!("d/{path}"), (*text).to_owned())
            })
            .collect();
            let around = ReadContext::of(exports.iter().collect());
            let facts = (recognise(&exports[0]).reader.unwrap().read)(&exports[0], &around).facts;
            let client = "127.0.0.1".parse().unwrap();
            let accepted = match facts.ssh_servers.first() {
                Some(server) => server.lists.as_ref().is_none_or(|lists| lists.sources.contains(client)),
                None => facts.served[0].parts.iter().any(|part| part.sources.contains(client)),
            };
            let wanted = if accepted { "accepted" } else { "refused" };
            assert_eq!(wanted, word, "{daemon}: {allow:?} {deny:?}\n{log}");
            compared += 1;
        }
    }
    println!("lists of daemons: {compared} answers alike");
}
