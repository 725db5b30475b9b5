//! Databases, caches and brokers, compared with the running servers.

use crate::{Running, Seeded, run, service, told, write};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::Duration;
use trevlin_model::served::{AuthRequirement, ServiceResource};

/// An isolated PostgreSQL server, run by a user other than root, under which it refuses to run.
struct Postgres {
    folder: tempfile::TempDir,
    port: u16,
}

fn as_other(command: &str) -> std::process::Output {
    run("su", &["postgres", "-s", "/bin/sh", "-c", command])
}

fn programs() -> String {
    let found = std::fs::read_dir("/usr/lib/postgresql")
        .unwrap()
        .filter_map(Result::ok)
        .map(|one| one.path().join("bin"));
    found.max().unwrap().display().to_string()
}

impl Postgres {
    fn new(port: u16) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path().display();
        run("chown", &["postgres", &at.to_string()]);
        let output = as_other(&format!("{}/initdb -D {at}/data -U postgres --auth=trust", programs()));
        assert!(output.status.success(), "{}", told(&output));
        Self { folder, port }
    }

    fn start(&self) {
        let at = self.folder.path().display();
        let output = as_other(&format!(
            "{}/pg_ctl -D {at}/data -w -l {at}/log -o \"-p {} -k {at}\" start",
            programs(),
            self.port
        ));
        assert!(output.status.success(), "{}", told(&output));
    }

    fn ask(&self, user: &str, database: &str, from: &str, query: &str) -> std::process::Output {
        as_other(&format!(
            "PGCONNECT_TIMEOUT=5 psql -w -h {from} -p {} -U {user} -d {database} -Atc \"{query}\" </dev/null",
            self.port
        ))
    }
}

impl Drop for Postgres {
    fn drop(&mut self) {
        let _ = as_other(&format!(
            "{}/pg_ctl -D {}/data -m immediate stop",
            programs(),
            self.folder.path().display()
        ));
    }
}

#[test]
#[ignore = "needs postgres; run by scripts/conformance.sh"]
fn postgres_reads_the_same_rules_and_lets_in_whom_they_say() {
    const KINDS: [&str; 4] = ["host", "host", "hostssl", "hostnossl"];
    const WHOSE: [&str; 4] = ["all all", "bookings all", "all ann", "bookings ann,bob"];
    const FROM: [&str; 6] =
        ["127.0.0.0/8", "127.0.0.2/32", "127.0.0.0 255.255.255.254", "all", "0.0.0.0/0", "10.4.0.0/16"];
    const HOW: [&str; 5] = ["trust", "trust", "reject", "scram-sha-256", "md5"];
    let server = Postgres::new(5499);
    let data = server.folder.path().join("data");
    let list = data.join("pg_hba.conf");
    std::fs::write(data.join("postgresql.conf"), "listen_addresses = '0.0.0.0'\n").unwrap();
    server.start();
    for query in ["create database bookings", "create role ann login", "create role bob login"] {
        let at = server.folder.path().display().to_string();
        assert!(server.ask("postgres", "postgres", &at, query).status.success(), "{query}");
    }
    let mut seeded = Seeded(71);
    let mut asked = 0;
    let mut open = 0;
    for _ in 0..20 {
        // The first two lines let this test in.
        let mut text = String::from("local all postgres trust\n# generated\n");
        for _ in 0..=seeded.below(5) {
            text.push_str(&format!(
                "{} {} {} {}\n",
                seeded.pick(&KINDS),
                seeded.pick(&WHOSE),
                seeded.pick(&FROM),
                seeded.pick(&HOW)
            ));
        }
        std::fs::write(&list, &text).unwrap();
        let at = server.folder.path().display().to_string();
        let loaded = || told(&server.ask("postgres", "postgres", &at, "select pg_conf_load_time()"));
        let before = loaded();
        server.ask("postgres", "postgres", &at, "select pg_reload_conf()");
        let again = (0..100).any(|_| {
            std::thread::sleep(Duration::from_millis(50));
            loaded() != before
        });
        assert!(again, "the server does not read its list again");
        let rules = server.ask("postgres", "postgres", &at, "select count(*) from pg_hba_file_rules");
        let lines = text.lines().filter(|line| !line.starts_with('#')).count();
        assert_eq!(told(&rules).trim(), lines.to_string(), "{text}");
        let served = service(&[
            ("d/etc/postgresql/15/main/pg_hba.conf", &text),
            ("d/etc/postgresql/15/main/postgresql.conf", "listen_addresses = '0.0.0.0'\n"),
        ]);
        // Local connections come from the first loopback address. A rule for many users may be partly overridden by an earlier one, so it
        // has to apply to some user, and every permitted user has to be reported.
        let near = "127.0.0.1".parse().unwrap();
        // The line for root is for a local socket.
        let by_network = |part: &&ServiceResource| {
            part.asks_nothing() && part.sources.contains(near) && !part.name.ends_with("for postgres")
        };
        let free: Vec<&ServiceResource> = served.parts.iter().filter(by_network).collect();
        let mut used = vec![false; free.len()];
        for (user, database) in
            [("ann", "bookings"), ("bob", "bookings"), ("ann", "postgres"), ("bob", "postgres")]
        {
            let fits = |part: &&ServiceResource| {
                let (databases, users) = part.name.split_once(" for ").unwrap();
                let within =
                    |list: &str, one: &str| list == "all" || list.split(", ").any(|known| known == one);
                within(databases, database) && within(users, user)
            };
            let found = server.ask(user, database, "127.0.0.1", "select 1").status.success();
            assert!(!found || free.iter().any(fits), "{user} to {database} in\n{text}");
            for (one, used) in free.iter().zip(&mut used) {
                *used |= found && fits(one);
            }
            asked += 1;
            open += usize::from(found);
        }
        assert!(used.iter().all(|one| *one), "{text}");
    }
    println!("{asked} logins tried, {open} without a password");
}

#[test]
#[ignore = "needs postgres; run by scripts/conformance.sh"]
fn postgres_has_the_same_settings() {
    let server = Postgres::new(5498);
    let data = server.folder.path().join("data");
    for (text, name, wanted) in [
        ("listen_addresses = '*' # all\n", "listen_addresses", "*"),
        ("listen_addresses='a,b'\nlisten_addresses '10.4.0.9'\n", "listen_addresses", "10.4.0.9"),
        ("LISTEN_addresses = 'it''s'\n", "listen_addresses", "it's"),
        ("ssl_min_protocol_version = TLSv1.3\n", "ssl_min_protocol_version", "TLSv1.3"),
        ("# listen_addresses = '*'\n", "listen_addresses", "localhost"),
    ] {
        std::fs::write(data.join("postgresql.conf"), text).unwrap();
        let output = as_other(&format!("{}/postgres -D {} -C {name}", programs(), data.display()));
        assert_eq!(String::from_utf8(output.stdout).unwrap().trim(), wanted, "{text}");
        let served = service(&[("d/etc/postgresql/15/main/postgresql.conf", &format!("{text}ssl = on\n"))]);
        let places: Vec<String> = served
            .endpoints
            .iter()
            .map(|one| one.address.map_or("*".into(), |one| one.to_string()))
            .collect();
        match name {
            "listen_addresses" if wanted == "localhost" => assert_eq!(places, ["127.0.0.1"]),
            // A name may be any address.
            "listen_addresses" if wanted == "it's" => assert_eq!(places, ["*"]),
            "listen_addresses" => assert_eq!(places, [wanted]),
            _ => assert_eq!(served.offers[0].algorithms[0].name, wanted),
        }
    }
}

/// Response of a server to a line.
fn answer(port: u16, line: &[u8]) -> Vec<u8> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(3))).unwrap();
    stream.write_all(line).unwrap();
    let mut buffer = [0; 256];
    let read = stream.read(&mut buffer).unwrap_or(0);
    buffer[..read].to_vec()
}

#[test]
#[ignore = "needs redis-server; run by scripts/conformance.sh"]
fn redis_asks_for_what_it_says() {
    let mut asked = 0;
    for (number, lines) in [
        "bind 127.0.0.1\nprotected-mode no\n",
        "bind 127.0.0.1\nprotected-mode no\nrequirepass Sesame-9\n",
        "bind 127.0.0.1\nprotected-mode no\nuser default on >Sesame-9 ~* +@all\n",
        "bind 127.0.0.1\nprotected-mode no\nuser default on nopass ~* +@all\n",
        "bind 127.0.0.1\nprotected-mode no\nuser default off\nuser ann on >x ~* +@all\n",
    ]
    .into_iter()
    .enumerate()
    {
        let folder = tempfile::tempdir().unwrap();
        let port = 6390 + number as u16;
        let text = format!("port {port}\ndir {}\nsave \"\"\n{lines}", folder.path().display());
        let file = write(&folder.path().join("redis.conf"), &text);
        let _running = Running::start("redis-server", &[&file]).answers(port);
        let served = service(&[("d/etc/redis/redis.conf", &text)]);
        let told = String::from_utf8(answer(port, b"PING\r\n")).unwrap();
        let open = told.starts_with("+PONG");
        assert_eq!(served.parts[0].asks_nothing(), open, "{text}{told}");
        assert_eq!(served.endpoints[0].port, port);
        asked += 1;
    }
    println!("{asked} caches asked");
}

#[test]
#[ignore = "needs mosquitto; run by scripts/conformance.sh"]
fn mosquitto_asks_for_what_it_says() {
    // CONNECT of MQTT 3.1.1 with the name `t` (OASIS MQTT 3.1.1, 3.1).
    const CONNECT: &[u8] = &[0x10, 13, 0, 4, b'M', b'Q', b'T', b'T', 4, 2, 0, 60, 0, 1, b't'];
    let mut asked = 0;
    for (number, (lines, more)) in [
        ("listener PORT 127.0.0.1\nallow_anonymous true\n", ""),
        ("listener PORT 127.0.0.1\nallow_anonymous false\n", ""),
        ("allow_anonymous true\nlistener PORT 127.0.0.1\n", ""),
        ("per_listener_settings true\nallow_anonymous true\nlistener PORT 127.0.0.1\nallow_anonymous false\n", ""),
        ("listener PORT 127.0.0.1\nallow_anonymous false\nlistener 1 127.0.0.1\nallow_anonymous true\n", "two"),
        ("port PORT\nbind_address 127.0.0.1\nallow_anonymous true\n", ""),
    ]
    .into_iter()
    .enumerate()
    {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let port = 18830 + 2 * number as u16;
        let text = lines.replace("PORT", &port.to_string()).replace("listener 1 ", &format!("listener {} ", port + 1));
        let file = write(&folder.path().join("mosquitto.conf"), &text);
        let _running = Running::start("mosquitto", &["-c", &file]).answers(port);
        let facts = crate::facts(&[("d/etc/mosquitto/mosquitto.conf", &text)]);
        let served = facts.served.iter().find(|one| one.endpoints[0].port == port).unwrap();
        assert_eq!(facts.served.len(), if more.is_empty() { 1 } else { 2 }, "{text}");
        let told = answer(port, CONNECT);
        // CONNACK with 0 for yes.
        let open = told.get(3) == Some(&0);
        let asks = served.parts[0].login.value();
        assert_eq!(asks == Some(&AuthRequirement::Nothing), open, "{text}{told:?}");
        asked += 1;
    }
    println!("{asked} brokers asked");
}
