//! Text and JSON of the same ruleset, as `nft list ruleset` and `nft -j list ruleset` print it, give the same facts. The rulesets are made
//! by nft itself and by iptables-nft in a network namespace.
//!
//! Run by `scripts/conformance.sh`; needs root, nft and iptables.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs programs"
)]

use serde_json::Value;
use std::io::Write;
use std::process::{Command, Stdio};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, recognise};

/// Rules of nft(8), each loaded as a ruleset of its own, with the declarations that they need.
const RULES: &[&str] = &[
    "meta hour \"08:00\"-\"18:00\" tcp dport 3389 accept",
    "meta day \"Monday\" accept",
    "meta time \"2026-01-01 00:00:00\"-\"2027-01-01 00:00:00\" tcp dport 33 accept",
    "tcp dport 21 ct helper set \"ftp-std\"",
    "ct timeout set \"slow\"",
    "counter name \"hits\" accept",
    "quota name \"q\" drop",
    "quota over 25 mbytes drop",
    "limit name \"lim\" accept",
    "limit rate 5/minute burst 7 packets accept",
    "limit rate over 10 mbytes/second drop",
    "tcp option maxseg size 1-500 drop",
    "tcp option sack-perm exists accept",
    "tcp option sack-perm missing drop",
    "tcp flags syn tcp option maxseg size set 1300",
    "tcp flags syn tcp option maxseg size set rt mtu",
    "tcp dport 80 numgen random mod 10 < 3 accept",
    "tcp dport { 80, 443 } ct state new add @blk { ip saddr limit rate over 10/second } drop",
    "tcp dport 22 update @blk { ip saddr }",
    "ip saddr @blk drop",
    "ip saddr @nets tcp dport 22 accept",
    "ip saddr != @nets tcp dport 23 drop",
    "ip saddr != 10.4.0.0/24 drop",
    "ip saddr 10.4.0.1-10.4.0.9 accept",
    "ip saddr { 10.4.0.1, 10.5.0.0/16, 10.6.0.1-10.6.0.7 } accept",
    "iifname . tcp dport vmap @vm",
    "tcp dport vmap { 22 : accept, 23 : drop, 80-90 : jump other }",
    "ct state vmap { established : accept, related : accept, invalid : drop }",
    "ip protocol icmp accept",
    "icmp type { echo-request, destination-unreachable } accept",
    "icmp type echo-request icmp code 0 accept",
    "meta l4proto { tcp, udp } th dport 53 accept",
    "meta l4proto tcp accept",
    "meta l4proto ipv6-icmp icmpv6 type { nd-neighbor-solicit, nd-router-advert } accept",
    "ip version 4 tcp dport 77 accept",
    "ip6 version 6 tcp dport 78 accept",
    "ip6 nexthdr tcp accept",
    "fib saddr . iif oif missing drop",
    "fib saddr . iif oif exists accept",
    "fib daddr . iif type != { local, broadcast } drop",
    "fib daddr type local accept",
    "fib saddr . mark oif 0 drop",
    "ct status dnat accept",
    "ct status != dnat accept",
    "ct direction original accept",
    "ct mark 0x5 accept",
    "ct mark set tcp dport map { 22 : 0x1, 80 : 0x2 }",
    "meta mark set ip saddr map { 10.4.0.1 : 0x1, 10.4.0.2 : 0x2 } tcp dport 22 accept",
    "ct mark & 0xff == 0x5 accept",
    "ct original ip daddr 192.0.2.9 accept",
    "ct original proto-dst 81 accept",
    "ct state established,related accept",
    "ct state { established, related } accept",
    "ct state != new drop",
    "ct state invalid drop",
    "ct state new,untracked accept",
    "ip dscp cs1 accept",
    "ip ttl > 5 accept",
    "ip ttl 5-9 accept",
    "ip length < 100 accept",
    "ip saddr & 255.255.0.255 == 10.4.0.9 accept",
    "meta skuid root accept",
    "meta skgid 5 accept",
    "meta cpu 0 accept",
    "meta mark 0x1 accept",
    "meta mark set 0x1",
    "ct mark set meta mark",
    "meta priority set 1:1",
    "meta pkttype broadcast drop",
    "socket transparent 1 accept",
    "rt ip nexthop 10.4.0.1 accept",
    "ipsec in reqid 1 accept",
    "meta ipsec exists accept",
    "meta nfproto ipv4 accept",
    "meta nfproto ipv6 tcp dport 22 accept",
    "meta length > 1000 drop",
    "ether saddr 02:00:5e:10:00:01 accept",
    "ether type ip accept",
    "vlan id 5 accept",
    "icmp type echo-request limit rate 5/second burst 10 packets accept",
    "ct count over 20 drop",
    "reject",
    "reject with tcp reset",
    "meta l4proto tcp reject with tcp reset",
    "reject with icmpx type admin-prohibited",
    "ip protocol udp reject with icmp type port-unreachable",
    "ip saddr 10.4.0.0/24 tcp dport 1-1024 log prefix \"x\" level warn flags all counter drop",
    "log group 2 snaplen 64 queue-threshold 5",
    "tcp flags & (fin|syn|rst|ack) == syn ct state new accept",
    "tcp flags syn / fin,syn,rst,ack accept",
    "tcp flags != syn drop",
    "tcp flags syn accept",
    "tcp flags & (fin|syn) == (fin|syn) drop",
    "tcp flags & (syn|ack) == 0 drop",
    "ip frag-off & 0x1fff != 0 drop",
    "tcp dport != 22 drop",
    "tcp dport != { 22, 80 } drop",
    "tcp dport != 1-1023 accept",
    "tcp dport > 1023 accept",
    "tcp dport >= 1024 accept",
    "tcp dport < 1024 drop",
    "tcp sport 53 udp dport 53 accept",
    "udp sport 67 udp dport 68 accept",
    "udp dport { 500, 4500 } accept",
    "sctp dport 99 accept",
    "udplite dport 9 accept",
    "th dport 9 accept",
    "esp spi 5 accept",
    "ah spi 5 accept",
    "meta l4proto { esp, ah, gre } accept",
    "meta l4proto 47 accept",
    "meta l4proto != tcp accept",
    "@th,16,16 0x16 accept",
    "@nh,96,32 0xc0000201 accept",
    "jhash ip saddr mod 2 vmap { 0 : accept, 1 : drop }",
    "queue to 1",
    "notrack",
    "iif \"lo\" accept",
    "iifname \"eth*\" accept",
    "iifname { \"eth0\", \"eth1\" } accept",
    "iifname != \"eth0\" drop",
    "iifgroup 5 accept",
    "iiftype loopback accept",
    "iifname \"eth0\" ip saddr . tcp dport { 10.4.0.9 . 22, 10.4.0.0/24 . 80-90 } accept",
    "ip6 saddr fe80::/10 accept",
    "ip6 saddr { ::1, 2001:db8::/32 } accept",
    "ip6 daddr & ::ffff:ffff == ::9 accept",
    "rt type 0 drop",
    "exthdr hbh exists drop",
    "frag more-fragments 1 drop",
    "goto other",
    "jump other",
    "return",
    "continue",
    "accept comment \"for the winter\"",
    "tcp dport 22 counter packets 9 bytes 90 accept",
];

/// Translations before routing, and behind it.
const TRANSLATIONS: &[(&str, &str)] = &[
    ("prerouting", "iifname \"eth0\" dnat ip to tcp dport map @m"),
    ("prerouting", "iifname \"eth0\" dnat ip addr . port to tcp dport map @mp"),
    ("prerouting", "tcp dport 81 dnat ip to 10.4.0.9:8081"),
    ("prerouting", "tcp dport 81 dnat ip to 10.4.0.9"),
    ("prerouting", "tcp dport 81 dnat ip to 10.4.0.9-10.4.0.12"),
    ("prerouting", "tcp dport 81-89 dnat ip to 10.4.0.9:8081-8089"),
    ("prerouting", "tcp dport 82 dnat ip to numgen inc mod 2 map { 0 : 10.4.0.1, 1 : 10.4.0.2 }"),
    ("prerouting", "dnat ip to tcp dport map { 80 : 10.4.0.1, 443 : 10.4.0.2 }"),
    ("prerouting", "dnat ip addr . port to ip daddr . tcp dport map { 192.0.2.1 . 80 : 10.4.0.1 . 8080 }"),
    ("prerouting", "tcp dport 83 redirect to :8083"),
    ("prerouting", "tcp dport 84 redirect"),
    ("prerouting", "ip6 daddr 2001:db8::9 tcp dport 85 dnat ip6 to [2001:db8:1::9]:80"),
    ("prerouting", "dnat ip prefix to ip daddr map { 192.0.2.0/24 : 10.4.0.0/24 }"),
    ("prerouting", "ip daddr 192.0.2.7 dnat ip to 10.4.0.7 persistent"),
    ("postrouting", "oifname \"eth0\" masquerade"),
    ("postrouting", "oifname \"eth0\" masquerade random,persistent"),
    ("postrouting", "ip saddr 10.4.0.0/24 snat ip to 192.0.2.9-192.0.2.12 fully-random"),
    ("postrouting", "ip saddr 10.4.0.0/24 oifname \"eth0\" snat ip to 192.0.2.9"),
    ("postrouting", "meta l4proto tcp masquerade to :1024-65535"),
    ("postrouting", "snat ip to ip saddr map { 10.4.0.1 : 192.0.2.1, 10.4.0.2 : 192.0.2.2 }"),
];

const AROUND: &str = "table inet t {\n\
ct helper ftp-std {\n type \"ftp\" protocol tcp\n l3proto ip\n}\n\
ct timeout slow {\n protocol tcp\n l3proto ip\n policy = { established: 3600, close: 10 }\n}\n\
counter hits {\n}\n\
quota q {\n over 25 mbytes\n}\n\
limit lim {\n rate 400/minute\n}\n\
set blk {\n type ipv4_addr\n flags dynamic,timeout\n timeout 1h\n}\n\
set nets {\n type ipv4_addr\n flags interval\n elements = { 10.4.0.0/24, 10.9.0.1-10.9.0.9 }\n}\n\
map m {\n type inet_service : ipv4_addr\n elements = { 80 : 10.4.0.9, 443 : 10.4.0.8 }\n}\n\
map mp {\n type inet_service : ipv4_addr . inet_service\n elements = { 90 : 10.4.0.9 . 80 }\n}\n\
chain other {\n}\n\
map vm {\n type ifname . inet_service : verdict\n elements = { \"eth0\" . 22 : accept, \"eth1\" . 80 : jump other }\n}\n";

/// How many lists iptables-nft makes.
const LISTS: usize = 110;

/// A small generator of numbers (xorshift).
struct Rng(u64);

impl Rng {
    fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % end as u64) as usize
    }

    fn one<'a>(&mut self, all: &[&'a str]) -> &'a str {
        all[self.below(all.len())]
    }
}

/// A list for iptables-restore, of IPv4 or IPv6.
fn list(rng: &mut Rng) -> String {
    let v6 = rng.below(3) == 0;
    let nets: &[&str] = if v6 {
        &["2001:db8::/32", "2001:db8:1::9", "fe80::/10", "2001:db8:2::/48"]
    } else {
        &["10.4.0.0/24", "10.4.0.9", "192.0.2.0/28", "10.0.0.0/8"]
    };
    let mut text =
        String::from("*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n:own - [0:0]\n");
    for _ in 0..3 + rng.below(6) {
        let chain = rng.one(&["INPUT", "FORWARD", "own"]);
        text.push_str(&format!("-A {chain}"));
        if rng.below(2) == 0 {
            text.push_str(&format!(" {}-s {}", rng.one(&["", "", "! "]), rng.one(nets)));
        }
        if rng.below(3) == 0 {
            text.push_str(&format!(" {}-d {}", rng.one(&["", "", "! "]), rng.one(nets)));
        }
        if rng.below(3) == 0 {
            text.push_str(&format!(" {}-i {}", rng.one(&["", "! "]), rng.one(&["eth0", "eth+", "lo"])));
        }
        match rng.below(5) {
            0 => text.push_str(&format!(" -p tcp -m tcp --dport {}", rng.one(&["22", "80:90", "443"]))),
            1 => text
                .push_str(&format!(" -p udp -m udp --sport {} --dport 53", rng.one(&["53", "1024:65535"]))),
            2 => text
                .push_str(&format!(" -p tcp -m tcp {}--tcp-flags FIN,SYN,RST,ACK SYN", rng.one(&["", "! "]))),
            3 => text.push_str(&format!(" {}-p {}", rng.one(&["", "! "]), rng.one(&["tcp", "47", "esp"]))),
            _ => {}
        }
        if rng.below(5) == 0 {
            text.push_str(&format!(" -m limit --limit {}", rng.one(&["5/sec", "10/min --limit-burst 9"])));
        }
        if rng.below(7) == 0 {
            text.push_str(&format!(
                " -m mark {}--mark {}",
                rng.one(&["", "! "]),
                rng.one(&["0x1", "0x10/0xf0"])
            ));
        }
        let to = if chain == "own" {
            rng.one(&["ACCEPT", "DROP", "RETURN"])
        } else {
            rng.one(&["ACCEPT", "DROP", "own"])
        };
        text.push_str(&format!(" -j {to}\n"));
    }
    text.push_str("COMMIT\n");
    text
}

struct Namespace(String);

impl Namespace {
    fn new() -> Option<Self> {
        let name = format!("tn{}", std::process::id());
        let made = Command::new("ip").args(["netns", "add", &name]).stderr(Stdio::null()).status();
        made.is_ok_and(|status| status.success()).then_some(Self(name))
    }

    fn run(&self, words: &[&str], input: &str) -> Result<String, String> {
        let mut child = Command::new("ip")
            .args(["netns", "exec", &self.0])
            .args(words)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        let done = child.wait_with_output().unwrap();
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
        if done.status.success() { Ok(text(done.stdout)) } else { Err(text(done.stderr)) }
    }
}

impl Drop for Namespace {
    fn drop(&mut self) {
        let _ = Command::new("ip").args(["netns", "del", &self.0]).status();
    }
}

/// Facts without the places where they are written.
fn plain(value: &mut Value) {
    match value {
        Value::Object(map) => {
            map.retain(|key, _| !key.ends_with("origin") && key != "looked-up-at" && key != "state");
            map.values_mut().for_each(plain);
        }
        Value::Array(all) => all.iter_mut().for_each(plain),
        _ => {}
    }
}

fn facts(name: &str, text: &str) -> (Value, Vec<String>) {
    let export = Export::new(ExportId(0), format!("d/{name}"), text.into());
    let reader = recognise(&export).reader.unwrap();
    let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
    let mut value = serde_json::to_value(&reading.facts.filters).unwrap();
    plain(&mut value);
    (value, reading.ledger.notes.iter().map(|note| format!("{note:?}")).collect())
}

/// Compares the two forms of what is loaded.
fn compare(net: &Namespace, what: &str, wrong: &mut Vec<String>) {
    let text = net.run(&["nft", "list", "ruleset"], "").unwrap();
    let json = net.run(&["nft", "-j", "list", "ruleset"], "").unwrap();
    let ((one, notes), (other, more)) = (facts("nft.txt", &text), facts("nft.json", &json));
    if one != other {
        // Only what differs.
        let parts = |value: &Value| -> Vec<String> {
            let each = |key: &str| -> Vec<Value> {
                let tables = value.as_array().into_iter().flatten();
                tables.flat_map(|table| table[key].as_array().cloned().unwrap_or_default()).collect()
            };
            each("chains").iter().chain(&each("sets")).map(ToString::to_string).collect()
        };
        if std::env::var_os("TREVLIN_SHOW").is_some() {
            println!("{what}\n{one:#}\n{other:#}");
        }
        let (first, second) = (parts(&one), parts(&other));
        let lone = |all: &[String], rest: &[String]| -> Vec<String> {
            all.iter().filter(|one| !rest.contains(one)).cloned().collect()
        };
        wrong.push(format!("{what}\n  text {:?}\n  json {:?}", lone(&first, &second), lone(&second, &first)));
    } else if !notes.iter().chain(&more).all(|note| note.contains("is not followed")) {
        wrong.push(format!("{what}: not understood: {notes:?} {more:?}"));
    }
}

#[test]
#[ignore = "needs root and nft"]
fn text_and_json_say_the_same() {
    let Some(net) = Namespace::new() else {
        println!(
            "\n*** SKIPPED: text and JSON of nft were NOT compared: no network namespace can be made ***\n"
        );
        return;
    };
    let (mut wrong, mut refused, mut count) = (Vec::new(), Vec::new(), 0);
    let in_filter = |rule: &str| {
        format!(
            "flush ruleset\n{AROUND}chain in {{\n type filter hook input priority filter; policy drop;\n {rule}\n}}\n}}\n"
        )
    };
    let in_nat = |hook: &str, rule: &str| {
        format!("flush ruleset\n{AROUND}chain nat {{\n type nat hook {hook} priority 0;\n {rule}\n}}\n}}\n")
    };
    let own = RULES.iter().map(|rule| (*rule, in_filter(rule)));
    for (rule, text) in own.chain(TRANSLATIONS.iter().map(|(hook, rule)| (*rule, in_nat(hook, rule)))) {
        match net.run(&["nft", "-f", "-"], &text) {
            Ok(_) => {
                count += 1;
                compare(&net, rule, &mut wrong);
            }
            Err(why) => refused.push(format!("{rule}: {}", why.lines().next().unwrap_or_default())),
        }
    }
    // The examples that come with nft, where its package has them.
    let examples = std::fs::read_dir("/usr/share/doc/nftables/examples").into_iter().flatten().flatten();
    let mut examples: Vec<_> = examples.map(|one| one.path()).collect();
    examples.retain(|path| path.extension().is_some_and(|ending| ending == "nft"));
    examples.sort();
    for path in examples {
        let name = path.display().to_string();
        net.run(&["nft", "flush", "ruleset"], "").unwrap();
        match net.run(&["nft", "-f", &name], "") {
            Ok(_) => {
                count += 1;
                compare(&net, &name, &mut wrong);
            }
            Err(why) => refused.push(format!("{name}: {}", why.lines().next().unwrap_or_default())),
        }
    }
    // Lists of several rules by iptables-nft, of options that it translates for itself.
    let mut rng = Rng(7);
    for number in 0..LISTS {
        let list = list(&mut rng);
        let program =
            if list.contains("2001:db8") { "ip6tables-nft-restore" } else { "iptables-nft-restore" };
        net.run(&["nft", "flush", "ruleset"], "").unwrap();
        net.run(&[program], &list).unwrap_or_else(|why| panic!("{why}\n{list}"));
        count += 1;
        compare(&net, &format!("list {number}\n{list}"), &mut wrong);
    }
    println!("{count} rulesets compared, {} refused by this version or kernel: {refused:#?}", refused.len());
    assert!(wrong.is_empty(), "{} differ:\n{}", wrong.len(), wrong.join("\n"));
}
