//! Servers of accounts beside directories of LDAP: Kerberos and NIS.

use super::{CLIENTS, Daemon, hold, permits};
use crate::support::Dice;
use std::fmt::Write;
use trevlin_model::served::{PartKind, Served, ServiceWeakness};

fn kerberos(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut general = String::from(
        "# generated\n[libdefaults]\n  default_realm = QUAY.EXAMPLE\n  dns_lookup_kdc = false\n  rdns = false\n  dns_canonicalize_hostname = false\n",
    );
    if dice.roll(4) == 0 {
        general.push_str("  allow_weak_crypto = true\n");
    }
    general.push_str("[realms]\n  QUAY.EXAMPLE = {\n    kdc = 10.20.4.40:88\n    kdc = 10.20.4.40:750\n    admin_server = 10.20.4.40:749\n  }\n");
    let mut text = String::from("[kdcdefaults]\n");
    if dice.roll(3) == 0 {
        writeln!(text, "  kdc_ports = {}", dice.pick(&["88", "750,88", "88 750"])).unwrap();
    }
    if dice.roll(4) == 0 {
        writeln!(text, "  kdc_tcp_listen = {}", dice.pick(&["\"\"", "88", "10.20.4.40:88"])).unwrap();
    }
    text.push_str("[realms]\n  OTHER.EXAMPLE = {\n    kdc_listen = 99\n  }\n  QUAY.EXAMPLE = {\n    database_name = /run/principal\n    key_stash_file = /run/stash\n    acl_file = /etc/krb5kdc/kadm5.acl\n");
    for (name, sides, values) in [
        (
            "kdc_listen",
            3,
            &["88", "10.20.4.40", "10.20.4.40:88 127.0.0.1:89", "[fd00:4::40]:88, 10.20.4.40", "750"][..],
        ),
        ("kdc_tcp_ports", 4, &["88", "10.20.4.41:88", "88,750"]),
        ("kadmind_port", 6, &["749", "1749"]),
        ("kadmind_listen", 5, &["10.20.4.40", "749", "10.20.4.40:749"]),
        ("kpasswd_listen", 5, &["10.20.4.40", "1464", "127.0.0.1:464"]),
        (
            "supported_enctypes",
            2,
            &[
                "aes256-cts:normal",
                "aes256-cts:normal arcfour-hmac:normal",
                "aes128-cts-hmac-sha256-128:normal des3-hmac-sha1:normal",
                "aes256-cts:normal rc4-hmac:normal",
                "aes256-sha2:normal camellia128-cts:normal des-cbc-crc:normal",
                "aes256-cts:normal, arcfour-hmac-exp:normal",
            ],
        ),
        (
            "default_principal_flags",
            2,
            &[
                "+preauth",
                "-preauth",
                "preauth",
                "+renewable, -preauth",
                "-preauth, +preauth",
                "+forwardable",
            ],
        ),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(text, "    {name} = {}", dice.pick(values)).unwrap();
        }
    }
    text.push_str("  }\n");
    let rights = dice.pick(&[
        "*/admin@QUAY.EXAMPLE *\n",
        "*@QUAY.EXAMPLE *\n",
        "* *\n",
        "*@* li\n",
        "bob@QUAY.EXAMPLE *\n",
        "*/*@QUAY.EXAMPLE *\n",
        "*@OTHER.EXAMPLE *\n",
        "*@QUAY.EXAMPLE l\n*@QUAY.EXAMPLE *\n",
        "*@QUAY.EXAMPLE ci *1@QUAY.EXAMPLE\n",
        "*@QUAY.EXAMPLE acd */root@QUAY.EXAMPLE\n*@QUAY.EXAMPLE il\n",
        "# c\n\n*@QUAY.EXAMPLE e\n",
        "*@QUAY.EXAMPLE xA\n",
        "*@QUAY.EXAMPLE xACDMS\n",
        "*@QUAY.EXAMPLE a   *   -maxlife 9h -postdateable\n",
        "*/admin *e\n*@QUAY.EXAMPLE c\n",
        "*@QUAY.EXAMPLE xe\n",
    ]);
    vec![
        ("etc/krb5kdc/kdc.conf", text),
        ("etc/krb5.conf", general),
        ("etc/krb5kdc/kadm5.acl", (*rights).to_owned()),
    ]
}

#[test]
#[ignore = "needs the servers of Kerberos, and root"]
fn realms_of_kerberos() {
    hold(&Daemon {
        format: "kdc",
        rounds: 24,
        files: kerberos,
        except: |_, _| false,
        start: "kdb5_util create -s -P Wn7kq2Lx -r QUAY.EXAMPLE > /dev/null
for name in ann bob probe; do kadmin.local -q \"addprinc -pw Rt5mv8Pz $name\" > /dev/null 2>&1; done
krb5kdc -n > /run/kdc.log 2>&1 & ready; kadmind -nofork > /run/kadmind.log 2>&1 & sleep 0.7; cat /run/*.log",
        ask: r#"
import re, subprocess
def run(*words): return subprocess.run(words, capture_output=True, text=True, timeout=20)
shown = run("kadmin.local", "-q", "getprinc ann").stdout
say("kinds", ",".join(re.findall(r"Key: vno \d+, (?:DEPRECATED:|UNSUPPORTED:)?([a-z0-9-]+)", shown)))
say("preauthentication", "true" if "REQUIRES_PRE_AUTH" in shown else "false")
def may(query):
    got = run("kadmin", "-p", "ann@QUAY.EXAMPLE", "-w", "Rt5mv8Pz", "-q", query)
    text = got.stdout + got.stderr
    if "privilege" in text: return False
    if "while initializing" in text: return None
    return True
answers = [may(query) for query in ("addprinc -pw Rt5mv8Pz new", "modprinc -maxlife 1h probe", "cpw -pw Rt5mv8Pz9 probe", "delprinc -force probe")]
if None not in answers:
    say("writes", "true" if any(answers) else "false")
    say("extracts", "true" if may("ktadd -k /run/keys -norandkey bob") else "false")
"#,
        expected: |all, name| {
            let tickets = all.iter().find(|one| one.program == "krb5kdc")?;
            let rights = all.iter().find(|one| one.program == "kadmind")?;
            let has = |kind: PartKind| {
                rights.parts.iter().find(|part| part.kind == kind && part.name == "QUAY.EXAMPLE")
            };
            Some(match name {
                "kinds" => match tickets.offers.first() {
                    Some(offer) => {
                        let kinds = offer.algorithms.iter().filter(|one| one.versions.is_none());
                        kinds.map(|one| one.name.as_str()).collect::<Vec<_>>().join(",")
                    }
                    None => "aes256-cts-hmac-sha1-96,aes128-cts-hmac-sha1-96".to_owned(),
                },
                "preauthentication" => {
                    let weak = |one: &(ServiceWeakness, _)| one.0 == ServiceWeakness::NoPreauthentication;
                    (!tickets.weaknesses.iter().any(weak)).to_string()
                }
                "writes" => has(PartKind::Entries).is_some_and(|part| part.is_written()).to_string(),
                _ => has(PartKind::PasswordHashes).is_some().to_string(),
            })
        },
    });
}

fn nis(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut rules = String::from("# generated\nfiles: 30\n");
    for _ in 0..dice.roll(4) {
        writeln!(
            rules,
            "{} : {} : {} : {}",
            dice.pick(&["*", "10.4.", "10.4.0.9", "192.0.2.0/255.255.255.0", "127.0.0.1", "10."]),
            dice.pick(&["*", "quay"]),
            dice.pick(&["*", "passwd.byname", "shadow.byname", "hosts.byname"]),
            dice.pick(&["none", "port", "deny", "deny"]),
        )
        .unwrap();
    }
    let mut nets = String::from("# generated\n255.0.0.0 127.0.0.0\n");
    for _ in 0..dice.roll(4) {
        writeln!(
            nets,
            "{}",
            dice.pick(&[
                "255.255.0.0 10.4.0.0",
                "host 10.4.0.9",
                "0.0.0.0 0.0.0.0",
                "255.255.255.255\t192.0.2.7",
                "255.255.255.0 198.51.100.0",
                "host 192.0.2.7",
            ])
        )
        .unwrap();
    }
    let port = *dice.pick(&["-p 834", "--port 834", "-p834", "--port=834"]);
    vec![
        ("etc/ypserv.conf", rules),
        ("var/yp/securenets", nets),
        ("etc/default/nis", format!("YPSERVARGS=\"{port}\"\n")),
    ]
}

#[test]
#[ignore = "needs ypserv, rpcbind and root"]
fn maps_of_nis() {
    hold(&Daemon {
        format: "nis-server",
        rounds: 24,
        files: nis,
        except: |_, _| false,
        start: "mkdir -p /run/rpcbind \"$1/var/yp/quay\" \"$1/var/yp/binding\"; mount --bind \"$1/var/yp\" /var/yp; domainname quay
for map in passwd.byname shadow.byname; do printf 'ann\tann:hash:1000:1000::/home/ann:/bin/sh\n' | /usr/lib/yp/makedbm - /var/yp/quay/$map; done
rpcbind -w -f > /dev/null 2>&1 & mapper=$!; sleep 0.4; . /etc/default/nis; ypserv $YPSERVARGS -f & sleep 0.6; kill $mapper; sleep 0.1",
        ask: r#"
def matched(client, name):
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.settimeout(0.6)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1); s.bind((client, 901))
    def text(word): word = word.encode(); return struct.pack(">I", len(word)) + word + b"\0" * (-len(word) % 4)
    call = struct.pack(">10I", 7, 0, 2, 100004, 2, 3, 0, 0, 0, 0) + text("quay") + text(name) + text("ann")
    try:
        s.sendto(call, (server_of(client), 834)); reply = s.recv(4096)
        return len(reply) >= 28 and struct.unpack(">i", reply[24:28])[0] == 1
    except OSError: return False
    finally: s.close()
for client in CLIENTS:
    accounts, shadow = matched(client, "passwd.byname"), matched(client, "shadow.byname")
    say("accounts " + client, "true" if accounts else "false")
    say("passwords " + client, "true" if accounts or shadow else "false")
"#,
        expected: |all: &[Served], name| {
            let (what, client) = name.split_once(' ')?;
            assert!(CLIENTS.contains(&client));
            let kind = if what == "accounts" { PartKind::Entries } else { PartKind::PasswordHashes };
            let part = all.first()?.parts.iter().find(|part| part.kind == kind);
            Some(part.is_some_and(|part| permits(part, client)).to_string())
        },
    });
}
