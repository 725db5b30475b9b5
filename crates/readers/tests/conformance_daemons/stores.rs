//! Stores: where they listen, and whether they answer without a login.

use super::{Daemon, hold, reaches};
use crate::support::Dice;
use std::fmt::Write;
use trevlin_model::served::{AuthRequirement, Served, TransportSecurity};

fn memcached(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text =
        String::from("# generated\n-d\nlogfile /var/log/memcached.log\n-m 16\n-u root  # as root\n");
    let lists = [
        "-l 127.0.0.1",
        "-l 10.20.4.40,127.0.0.1",
        "--listen=0.0.0.0",
        "-l localhost",
        "-l 10.20.4.41:11300",
        "-l ::1",
        "-l [fd00:4::40]:11301,10.20.4.40",
    ];
    for _ in 0..dice.roll(3) {
        writeln!(text, "{}", dice.pick(&lists)).unwrap();
    }
    for (line, sides) in [
        ("-p 11212", 4),
        ("--port=11213", 5),
        ("-p 0", 9),
        ("-U 11211", 3),
        ("-S", 4),
        ("-Y /etc/memcached.pw", 5),
        ("-vF", 5),
        ("-s /run/memcached.sock", 12),
        ("-c 512 -t 2", 3),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(text, "{line}").unwrap();
        }
    }
    vec![("etc/memcached.conf", text), ("etc/memcached.pw", "ann:Anker7\n".into())]
}

#[test]
#[ignore = "needs memcached and root"]
fn places_of_memcached() {
    hold(&Daemon {
        format: "memcached",
        rounds: 24,
        files: memcached,
        except: |_, _| false,
        start: "/usr/share/memcached/scripts/systemd-memcached-wrapper /etc/memcached.conf > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
for port in (11211, 11212, 11213, 11300):
    got = talk("10.4.0.9", port, "stats\r\n", wait=0.3)
    say("answers %d" % port, "none" if got is None else str(b"STAT " in got).lower())
"#,
        expected: |all, name| {
            let port = name.split(' ').nth(1)?.parse().ok()?;
            if !reaches(all, "10.4.0.9", port) {
                return Some("none".into());
            }
            let part = all.first()?.parts.first()?;
            Some((part.login.value() == Some(&AuthRequirement::Nothing)).to_string())
        },
    });
}

fn etcd(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let clients = [
        "http://localhost:2379",
        "http://0.0.0.0:2379",
        "http://10.20.4.40:2379,http://127.0.0.1:2379",
        "https://0.0.0.0:2379",
        "http://[::]:2379",
        "http://127.0.0.1:2379,https://10.20.4.41:2381",
    ];
    let peers = ["http://localhost:2380", "http://0.0.0.0:2380", "http://10.20.4.40:2390"];
    let (client, peer) = (*dice.pick(&clients), *dice.pick(&peers));
    let metrics = (dice.roll(4) == 0).then_some("http://10.20.4.40:2399");
    let advertised = "http://localhost:2379";
    let style = dice.roll(3);
    let mut text = String::from("# generated\n");
    let mut unit = String::from(
        "[Service]\nType=notify\nEnvironment=ETCD_NAME=gate\nEnvironmentFile=-/etc/default/etcd\n",
    );
    match style {
        // Variables of the package's start.
        0 => {
            for (name, value) in [
                ("NAME", Some("gate")),
                ("LISTEN_CLIENT_URLS", (dice.roll(5) != 0).then_some(client)),
                ("ADVERTISE_CLIENT_URLS", Some(advertised)),
                ("LISTEN_PEER_URLS", (dice.roll(3) != 0).then_some(peer)),
                ("LISTEN_METRICS_URLS", metrics),
                ("AUTO_TLS", client.contains("https").then_some("true")),
                ("CLIENT_CERT_AUTH", (dice.roll(4) == 0).then_some("true")),
            ] {
                if let Some(value) = value {
                    writeln!(text, "ETCD_{name}=\"{value}\"").unwrap();
                }
            }
            vec![("etc/default/etcd", text)]
        }
        // Options of a unit over variables.
        1 => {
            if dice.roll(3) == 0 {
                writeln!(text, "ETCD_LISTEN_CLIENT_URLS=http://10.20.4.41:2379").unwrap();
            }
            writeln!(text, "ETCD_LISTEN_PEER_URLS={peer}").unwrap();
            writeln!(unit, "ExecStart=/usr/bin/etcd --advertise-client-urls={advertised} \\\n  --listen-client-urls {client} --auto-tls{}",
                metrics.map(|url| format!(" -listen-metrics-urls={url}")).unwrap_or_default()).unwrap();
            vec![("etc/default/etcd", text), ("etc/systemd/system/etcd.service", unit)]
        }
        // A file, which takes the place of both.
        _ => {
            text.push_str(&format!(
                "name: gate\ndata-dir: /run/etcd\nlisten-client-urls: {client}\nadvertise-client-urls: {advertised}\nlisten-peer-urls: {peer}\n\
                 client-transport-security:\n  auto-tls: true\n"
            ));
            writeln!(unit, "ExecStart=/usr/bin/etcd --config-file=/etc/etcd/etcd.conf.yml --listen-client-urls http://0.0.0.0:2377").unwrap();
            vec![("etc/etcd/etcd.conf.yml", text), ("etc/systemd/system/etcd.service", unit)]
        }
    }
}

#[test]
#[ignore = "needs etcd and root"]
fn places_of_etcd() {
    hold(&Daemon {
        format: "etcd",
        rounds: 20,
        files: etcd,
        except: |_, _| false,
        start: r#"cd "$1"; set -a; export ETCD_DATA_DIR="$1/data"
[ -f /etc/default/etcd ] && grep -q generated /etc/default/etcd && . /etc/default/etcd
command=/usr/bin/etcd
[ -f "$1/etc/systemd/system/etcd.service" ] && command=$(sed -e ':a;/\\$/{N;s/\\\n//;ba}' "$1/etc/systemd/system/etcd.service" | sed -n 's/^ExecStart=//p')
[ -f "$1/etc/default/etcd" ] || unset ETCD_LISTEN_CLIENT_URLS ETCD_LISTEN_PEER_URLS
$command > "$1/log" 2>&1 &
ready; sleep 0.5; grep -i 'fatal\|error' "$1/log" | tail -3"#,
        ask: r#"
for port in (2377, 2379, 2381, 2380, 2390, 2399):
    got = talk("10.4.0.9", port, "GET /version HTTP/1.0\r\n\r\n", wait=0.4)
    say("plain %d" % port, "none" if got is None else str(b"etcdserver" in got or b"404" in got).lower())
"#,
        expected: |all, name| {
            let port = name.split(' ').nth(1)?.parse().ok()?;
            if !reaches(all, "10.4.0.9", port) {
                return Some("none".into());
            }
            let places = all.iter().flat_map(|one| &one.endpoints).filter(|place| place.port == port);
            Some(places.map(|place| place.carried).all(|one| one == TransportSecurity::Plain).to_string())
        },
    });
}

fn influxdb(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from("# generated\nreporting-enabled = false\n");
    match dice.roll(4) {
        0 => text.push_str("bind-address = \"10.20.4.40:8088\"\n"),
        1 => text.push_str("bind-address = \":8088\"  # for backups\n"),
        _ => {}
    }
    text.push_str("[meta]\n  dir = \"/run/influx/meta\"\n[data]\n  dir = \"/run/influx/data\"\n  wal-dir = \"/run/influx/wal\"\n");
    if dice.roll(5) != 0 {
        text.push_str("[http]\n");
        for (line, sides) in [
            ("auth-enabled = true", 2),
            ("bind-address = \"10.20.4.40:8086\"", 4),
            ("enabled = false", 9),
            ("flux-enabled = false", 3),
        ] {
            if dice.roll(sides) == 0 {
                writeln!(text, "  {line}").unwrap();
            }
        }
    }
    for (section, sides) in [
        ("[[graphite]]\n  enabled = true\n", 3),
        ("[[graphite]]\n  enabled = true\n  bind-address = \"127.0.0.1:2004\"\n  protocol = \"udp\"\n", 5),
        ("[[udp]]\n  enabled = true\n", 3),
        ("[[opentsdb]]\n  enabled = false\n", 3),
        ("[[opentsdb]]\n  enabled = true\n  bind-address = \"10.20.4.41:4242\"\n", 6),
    ] {
        if dice.roll(sides) == 0 {
            text.push_str(section);
        }
    }
    vec![("etc/influxdb/influxdb.conf", text)]
}

#[test]
#[ignore = "needs influxd and root"]
fn places_of_influxdb() {
    hold(&Daemon {
        format: "influxdb",
        rounds: 20,
        files: influxdb,
        except: |_, _| false,
        start: "export HOME=\"$1\"; influxd -config /etc/influxdb/influxdb.conf > \"$1/log\" 2>&1 &\nready; sleep 0.6; tail -2 \"$1/log\"",
        ask: r#"
got = talk("10.4.0.9", 8086, "GET /query?q=SHOW%20DATABASES HTTP/1.0\r\n\r\n", wait=0.8)
say("answers", "none" if got is None else str(b" 200 " in got.split(b"\r\n")[0]).lower())
"#,
        expected: |all, _| {
            if !reaches(all, "10.4.0.9", 8086) {
                return Some("none".into());
            }
            let part = all
                .iter()
                .find(|one: &&Served| one.endpoints.iter().any(|place| place.port == 8086))?
                .parts
                .first()?;
            Some((part.login.value() == Some(&AuthRequirement::Nothing)).to_string())
        },
    });
}
