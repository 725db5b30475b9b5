//! One query, and the whole exposure to the Internet, on a generated estate of 1,000 devices: `cargo bench --bench exposure`. Forty sites
//! of 25 devices: an edge router with forwards and some two hundred rules, an inner filter, a VPN gateway, and servers with filters and
//! sockets of their own. Some sites leave IPv6 open, some forwards lead nowhere.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark measures and prints"
)]

use std::fmt::Write;
use std::time::Instant;
use trevlin_audit::exposure::{all_services, outside};
use trevlin_audit::reachability::{From, NetworkModel, Question, Transport, reach, reach_all};
use trevlin_audit::{Analyses, Baseline, Estate, Input, ValidEstateFile, audit};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, recognise};

/// Devices of a site.
const AT_SITE: usize = 25;
const SITES: [usize; 4] = [4, 12, 40, 120];

/// Numbers from a seed.
struct Rng(u64);

impl Rng {
    fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) as usize % end
    }
}

const PORTS: [u16; 10] = [22, 25, 53, 80, 443, 445, 3306, 3389, 5432, 8443];

fn addresses(all: &[(&str, String, u8)]) -> String {
    let one = |(name, address, length): &(&str, String, u8)| {
        format!(r#"{{"ifname":"{name}","addr_info":[{{"local":"{address}","prefixlen":{length}}}]}}"#)
    };
    format!("[{}]", all.iter().map(one).collect::<Vec<_>>().join(",\n"))
}

fn routes(all: &[(&str, &str, &str)]) -> String {
    let one = |(to, gateway, by): &(&str, &str, &str)| {
        format!(r#"{{"dst":"{to}","gateway":"{gateway}","dev":"{by}","flags":[]}}"#)
    };
    format!("[{}]", all.iter().map(one).collect::<Vec<_>>().join(",\n"))
}

/// Files of one site, by device.
fn site(number: usize, rng: &mut Rng) -> Vec<(String, String)> {
    let (a, b) = (number / 250, number % 250);
    let public = format!("203.{a}.{b}.2");
    let (dmz, lan) = (format!("10.{}.{b}", 2 * a), format!("10.{}.{b}", 2 * a + 1));
    let mut files = Vec::new();
    let mut add = |device: String, name: &str, text: String| files.push((format!("{device}/{name}"), text));
    let edge = format!("edge{number:03}");
    let v6 = format!("2001:db8:{number:x}::2");
    let mut own = addresses(&[("eth0", public, 30), ("eth1", format!("{dmz}.1"), 24)]);
    own = own
        .replace("\"prefixlen\":30}", &format!("\"prefixlen\":30}},{{\"local\":\"{v6}\",\"prefixlen\":64}}"));
    add(edge.clone(), "ip-addr.json", own);
    let back = format!("{dmz}.2");
    let gateway = format!("203.{a}.{b}.1");
    let inside = format!("{lan}.0/24");
    add(edge.clone(), "ip-route.json", routes(&[("default", &gateway, "eth0"), (&inside, &back, "eth1")]));
    let mut nat = String::from("*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n");
    let mut filter = String::from(
        "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A FORWARD -m state --state ESTABLISHED -j ACCEPT\n\
         -A INPUT -m state --state ESTABLISHED -j ACCEPT\n-A FORWARD -i eth1 -o eth0 -j ACCEPT\n",
    );
    for forward in 0..12 {
        let (host, port) = (10 + rng.below(30), PORTS[rng.below(PORTS.len())]);
        let net = if rng.below(2) == 0 { &dmz } else { &lan };
        let outer = 8000 + forward;
        let _ = writeln!(
            nat,
            "-A PREROUTING -i eth0 -p tcp -m tcp --dport {outer} -j DNAT --to-destination {net}.{host}:{port}"
        );
        if rng.below(4) != 0 {
            let _ = writeln!(
                filter,
                "-A FORWARD -i eth0 -d {net}.{host}/32 -p tcp -m tcp --dport {port} -j ACCEPT"
            );
        }
    }
    nat.push_str("-A POSTROUTING -o eth0 -j MASQUERADE\nCOMMIT\n");
    for _ in 0..180 {
        let (source, host, port) = (rng.below(250), rng.below(250), PORTS[rng.below(PORTS.len())]);
        let _ = writeln!(
            filter,
            "-A FORWARD -s 198.51.{source}.0/24 -d {lan}.{host}/32 -p tcp -m tcp --dport {port} -j ACCEPT"
        );
    }
    filter.push_str("COMMIT\n");
    add(edge.clone(), "iptables-save.txt", nat + &filter);
    let open = rng.below(5) == 0;
    let policy = if open { "ACCEPT" } else { "DROP" };
    add(
        edge,
        "ip6tables-save.txt",
        format!("*filter\n:INPUT {policy} [0:0]\n:FORWARD {policy} [0:0]\nCOMMIT\n"),
    );
    let inner = format!("inner{number:03}");
    add(
        inner.clone(),
        "ip-addr.json",
        addresses(&[("eth0", format!("{dmz}.2"), 24), ("eth1", format!("{lan}.1"), 24)]),
    );
    let front = format!("{dmz}.1");
    add(inner.clone(), "ip-route.json", routes(&[("default", &front, "eth0")]));
    let mut rules = String::from(
        "table inet t {\nchain f {\ntype filter hook forward priority 0; policy drop;\nct state established accept\niifname eth1 accept\n",
    );
    for _ in 0..40 {
        let (host, port) = (10 + rng.below(30), PORTS[rng.below(PORTS.len())]);
        let _ = writeln!(rules, "ip daddr {lan}.{host} tcp dport {port} accept");
    }
    rules.push_str("}\n}\n");
    add(inner, "nft.txt", rules);
    for server in 0..AT_SITE - 2 {
        let name = format!("server{number:03}-{server:02}");
        let (net, router) =
            if server % 2 == 0 { (&dmz, format!("{dmz}.1")) } else { (&lan, format!("{lan}.1")) };
        add(name.clone(), "ip-addr.json", addresses(&[("eth0", format!("{net}.{}", 10 + server), 24)]));
        add(name.clone(), "ip-route.json", routes(&[("default", &router, "eth0")]));
        let mut own =
            String::from("*filter\n:INPUT DROP [0:0]\n-A INPUT -m state --state ESTABLISHED -j ACCEPT\n");
        let mut sockets = String::new();
        for _ in 0..4 {
            let port = PORTS[rng.below(PORTS.len())];
            let _ = writeln!(own, "-A INPUT -p tcp -m tcp --dport {port} -j ACCEPT");
            let _ = writeln!(
                sockets,
                "tcp LISTEN 0 128 0.0.0.0:{port} 0.0.0.0:* users:((\"daemon\",pid=1,fd=3))"
            );
        }
        own.push_str("COMMIT\n");
        add(name.clone(), "iptables-save.txt", own);
        add(name, "ss.txt", sockets);
    }
    files
}

fn estate(sites: usize) -> Analyses {
    let mut rng = Rng(20_261_125);
    let files: Vec<(String, String)> = (0..sites).flat_map(|number| site(number, &mut rng)).collect();
    let inputs = files.into_iter().enumerate().map(|(at, (path, text))| {
        let export = Export::new(ExportId(u32::try_from(at).unwrap()), path.as_str(), text);
        let reader = recognise(&export).reader;
        let reading = reader.map(|reader| (reader.read)(&export, &ReadContext::default())).unwrap();
        Input {
            folder: path.split('/').next().unwrap().to_owned(),
            export,
            format: reader.map(|reader| reader.name),
            facts: reading.facts,
            ledger: reading.ledger,
        }
    });
    Analyses::of(Estate::assemble(inputs.collect(), &ValidEstateFile::default()))
}

fn question(site: usize, port: u16) -> Question {
    Question {
        from: From::Outside,
        entering: None,
        to: format!("203.{}.{}.2", site / 250, site % 250),
        protocol: Transport::Tcp,
        port,
        source_port: None,
    }
}

fn main() {
    // Cargo's test runner builds benches as well, and runs none of them.
    if std::env::args().any(|word| word == "--test") {
        return;
    }
    println!(
        "{:>8} {:>12} {:>14} {:>14} {:>12} {:>10}",
        "devices", "one reach", "1,000 flows", "exposure", "reached", "audit"
    );
    for sites in SITES {
        let estate = estate(sites);
        estate.shape();
        let begun = Instant::now();
        let answer = reach(&estate, &question(sites / 2, 8003)).unwrap();
        let one = begun.elapsed();
        assert!(!answer.steps.is_empty());
        let flows: Vec<Question> =
            (0..1_000).map(|number| question(number % sites, 8000 + (number % 12) as u16)).collect();
        let begun = Instant::now();
        let allowed = reach_all(&estate, &flows)
            .into_iter()
            .filter(|one| {
                one.as_ref().is_ok_and(|one| one.verdict == trevlin_audit::reachability::Verdict::Allowed)
            })
            .count();
        let many = begun.elapsed();
        assert!(allowed > 0);
        let begun = Instant::now();
        let services = all_services(&estate);
        let ground = NetworkModel::of(&estate);
        let exposure = outside(&ground, &services);
        let whole = begun.elapsed();
        let begun = Instant::now();
        let outcome = audit(&estate, &Baseline::on(jiff::civil::date(2026, 11, 25)));
        let audited = begun.elapsed();
        assert!(!outcome.findings.is_empty() && !exposure.cut);
        println!(
            "{:>8} {:>9.1} ms {:>11.1} ms {:>11.1} ms {:>12} {:>7.2} s",
            sites * AT_SITE,
            one.as_secs_f64() * 1e3,
            many.as_secs_f64() * 1e3,
            whole.as_secs_f64() * 1e3,
            exposure.reached.len(),
            audited.as_secs_f64()
        );
    }
}
