//! Rule lists, generated from a seed: the same every time.

/// Ports that everything listens on.
pub(crate) const PORTS: [u16; 14] = [22, 23, 53, 80, 81, 443, 444, 1000, 1001, 1999, 2000, 3000, 3389, 8080];

/// Which program loads a list, and which prints it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Iptables,
    Nft,
}

/// A rule list, by the programs that load its parts.
#[derive(Debug)]
pub(crate) struct RuleList {
    pub(crate) kind: Kind,
    pub(crate) parts: Vec<(&'static str, String)>,
    /// Whether it has conditions that no engine can decide.
    pub(crate) residual: bool,
    pub(crate) seed: u64,
}

impl RuleList {
    pub(crate) fn text(&self) -> String {
        self.parts.iter().map(|(_, text)| text.as_str()).collect::<Vec<_>>().join("\n")
    }
}

/// Numbers from a seed.
pub(crate) struct Rng(u64);

impl Rng {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    pub(crate) fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) as usize % end
    }

    pub(crate) fn pick<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len())]
    }

    fn one_in(&mut self, of: usize) -> bool {
        self.below(of) == 0
    }
}

/// Every list.
pub(crate) fn all(seed: u64) -> Vec<RuleList> {
    (0..72).map(|number| list(number, seed.wrapping_mul(1000) + number)).collect()
}

/// Lists whose meaning the program's own translation preserves: without negations that it loses (UDP ports, address types) and without
/// states together with a translation's, of which it keeps one.
pub(crate) fn translatable(seed: u64) -> Vec<(bool, String)> {
    let one = |number: u64| {
        let v6 = number % 2 == 1;
        let mut rng = Rng::new(seed.wrapping_mul(7919) + number);
        (v6, iptables(&mut rng, v6, Extra::Translatable))
    };
    (0..24).map(one).collect()
}

/// Conditions of a list besides the common ones.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Extra {
    None,
    /// Some that no engine can decide.
    Residual,
    /// Only those that are translated as they are.
    Translatable,
}

fn list(number: u64, seed: u64) -> RuleList {
    let mut rng = Rng::new(seed + 77);
    let residual = number % 12 == 11;
    if number.is_multiple_of(2) {
        let extra = if residual { Extra::Residual } else { Extra::None };
        let v4 = iptables(&mut rng, false, extra);
        let v6 = iptables(&mut rng, true, extra);
        let parts = vec![("iptables-restore", v4), ("ip6tables-restore", v6)];
        RuleList { kind: Kind::Iptables, parts, residual, seed }
    } else {
        let parts = vec![("nft", nft(&mut rng, residual))];
        RuleList { kind: Kind::Nft, parts, residual, seed }
    }
}

impl Extra {
    /// Variant for tables that are evaluated early: conditions that are not analysed are only in the last table.
    fn early(self) -> Self {
        if self == Self::Residual { Self::None } else { self }
    }
}

/// Addresses and networks that rules name, with borders that packets fall on both sides of.
fn address(rng: &mut Rng, v6: bool) -> &'static str {
    const V4: [&str; 20] = [
        "198.51.100.7",
        "198.51.100.0/26",
        "198.51.100.0/24",
        "192.0.2.80",
        "203.0.113.9",
        "10.20.4.0/24",
        "10.20.4.11",
        "10.20.4.20",
        "10.20.4.16/28",
        "10.20.6.0/24",
        "10.20.6.20",
        "10.20.9.0/24",
        "10.20.9.128/25",
        "10.20.0.0/16",
        "10.0.0.0/8",
        "203.0.113.1",
        "10.20.4.1",
        "0.0.0.0/1",
        "128.0.0.0/1",
        "10.20.4.30",
    ];
    const V6: [&str; 12] = [
        "2001:db8:0:1::9",
        "2001:db8:99::7",
        "2001:db8:99::/48",
        "2001:db8:0:4::/64",
        "2001:db8:0:4::11",
        "2001:db8:0:4::20",
        "2001:db8:0:6::/64",
        "2001:db8:0:9::100",
        "2001:db8:0::/48",
        "2001:db8:0:1::1",
        "2001:db8::/32",
        "2001:db8:0:4::10/124",
    ];
    if v6 { V6[rng.below(V6.len())] } else { V4[rng.below(V4.len())] }
}

/// An address range, and a host to translate to.
fn span(rng: &mut Rng, v6: bool) -> &'static str {
    let v4 = ["10.20.4.11-10.20.4.25", "198.51.100.7-198.51.100.43", "10.20.4.1-10.20.6.30"];
    let six = ["2001:db8:0:4::11-2001:db8:0:4::1f", "2001:db8:0:1::1-2001:db8:0:4::11"];
    if v6 { six[rng.below(six.len())] } else { v4[rng.below(v4.len())] }
}

fn host(rng: &mut Rng, v6: bool) -> &'static str {
    let v4 = ["10.20.4.11", "10.20.4.20", "10.20.6.20", "10.20.6.61", "10.20.9.200"];
    let six = ["2001:db8:0:4::11", "2001:db8:0:4::20", "2001:db8:0:6::20"];
    if v6 { six[rng.below(six.len())] } else { v4[rng.below(v4.len())] }
}

const INTERFACES: [&str; 4] = ["out0", "in0", "in1", "dial0"];

fn port(rng: &mut Rng) -> u16 {
    *rng.pick(&PORTS)
}

fn ports(rng: &mut Rng, dash: char) -> String {
    let (a, b) = (port(rng), port(rng));
    if a == b || rng.one_in(2) { a.to_string() } else { format!("{}{dash}{}", a.min(b), a.max(b)) }
}

fn not(rng: &mut Rng) -> &'static str {
    if rng.one_in(5) { "! " } else { "" }
}

// ---------------------------------------------------------------------------------------------------- iptables

fn iptables(rng: &mut Rng, v6: bool, extra: Extra) -> String {
    let mut text = String::new();
    if rng.one_in(3) {
        text.push_str("*raw\n:PREROUTING ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n");
        for _ in 0..rng.below(3) {
            let target = *rng.pick(&["DROP", "RETURN", "ACCEPT", "CT --notrack"]);
            let conditions = conditions(rng, v6, "PREROUTING", extra.early());
            text.push_str(&format!("-A PREROUTING {conditions} -j {target}\n"));
        }
        text.push_str("COMMIT\n");
    }
    if rng.one_in(3) {
        text.push_str("*mangle\n:PREROUTING ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n");
        for _ in 0..rng.below(3) {
            let chain = *rng.pick(&["PREROUTING", "FORWARD"]);
            let target = *rng.pick(&["DROP", "RETURN", "TTL"]);
            let target = if target == "TTL" && !v6 { "TTL --ttl-inc 1" } else { "RETURN" };
            text.push_str(&format!("-A {chain} {} -j {target}\n", conditions(rng, v6, chain, extra.early())));
        }
        text.push_str("COMMIT\n");
    }
    if rng.below(3) > 0 {
        text.push_str(&iptables_nat(rng, v6));
    }
    text.push_str("*filter\n");
    for chain in ["INPUT", "FORWARD"] {
        text.push_str(&format!(":{chain} {} [0:0]\n", rng.pick(&["ACCEPT", "DROP", "DROP"])));
    }
    text.push_str(":OUTPUT ACCEPT [0:0]\n:web - [0:0]\n:from-out - [0:0]\n:last - [0:0]\n");
    if rng.below(4) > 0 {
        for chain in ["INPUT", "FORWARD"] {
            text.push_str(&format!("-A {chain} -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n"));
        }
    }
    if rng.one_in(3) {
        text.push_str(
            "-A INPUT -p icmp -j ACCEPT\n".replace("icmp", if v6 { "ipv6-icmp" } else { "icmp" }).as_str(),
        );
    }
    // Neighbours have to find each other, whatever else is dropped.
    if v6 {
        text.push_str("-I INPUT -p ipv6-icmp -j ACCEPT\n");
    }
    for (chain, targets) in [
        ("INPUT", &["ACCEPT", "DROP", "web", "from-out", "REJECT", "RETURN"][..]),
        ("FORWARD", &["ACCEPT", "ACCEPT", "DROP", "web", "from-out", "last", "REJECT"][..]),
        ("from-out", &["ACCEPT", "DROP", "web", "RETURN", "last"][..]),
        ("web", &["ACCEPT", "DROP", "RETURN", "LOG"][..]),
        ("last", &["ACCEPT", "DROP"][..]),
    ] {
        for _ in 0..2 + rng.below(6) {
            let target = *rng.pick(targets);
            let jump = ["web", "from-out", "last"].contains(&target);
            let verb = if jump && rng.one_in(3) { "-g" } else { "-j" };
            let conditions = conditions(rng, v6, chain, extra);
            text.push_str(&format!("-A {chain} {conditions} {verb} {target}\n"));
        }
    }
    text.push_str("COMMIT\n");
    text
}

fn iptables_nat(rng: &mut Rng, v6: bool) -> String {
    let mut text =
        String::from("*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n:forwards - [0:0]\n");
    text.push_str("-A PREROUTING -i out0 -j forwards\n");
    for _ in 0..1 + rng.below(5) {
        let chain = *rng.pick(&["PREROUTING", "forwards"]);
        let protocol = *rng.pick(&["tcp", "udp"]);
        let port = ports(rng, ':');
        let limit = if rng.one_in(3) { format!(" -s {}", address(rng, v6)) } else { String::new() };
        let at = if rng.one_in(2) { if v6 { " -d 2001:db8:0:1::1" } else { " -d 203.0.113.1" } } else { "" };
        let to = host(rng, v6);
        let shown = if v6 { format!("[{to}]") } else { to.to_owned() };
        let target = match rng.below(6) {
            0 => format!("REDIRECT --to-ports {}", self::port(rng)),
            1 | 2 => format!("DNAT --to-destination {shown}:{}", self::port(rng)),
            3 => "RETURN".to_owned(),
            4 => "ACCEPT".to_owned(),
            _ => format!("DNAT --to-destination {to}"),
        };
        text.push_str(&format!("-A {chain} -p {protocol} --dport {port}{limit}{at} -j {target}\n"));
    }
    if rng.one_in(4) && !v6 {
        text.push_str("-A PREROUTING -d 203.0.113.64/26 -j NETMAP --to 10.20.4.0/26\n");
    }
    if rng.one_in(2) {
        text.push_str("-A POSTROUTING -o out0 -j MASQUERADE\n");
    }
    text.push_str("COMMIT\n");
    text
}

/// Conditions that a chain may have.
fn conditions(rng: &mut Rng, v6: bool, chain: &str, extra: Extra) -> String {
    let plain = extra == Extra::Translatable;
    let mut all = Vec::new();
    if rng.one_in(2) {
        all.push(format!("{}-s {}", not(rng), address(rng, v6)));
    }
    if rng.one_in(2) {
        all.push(format!("{}-d {}", not(rng), address(rng, v6)));
    }
    if rng.one_in(3) {
        all.push(format!("{}-i {}", not(rng), rng.pick(&INTERFACES)));
    }
    if chain == "FORWARD" && rng.one_in(4) {
        all.push(format!("{}-o {}", not(rng), rng.pick(&["in+", "out0", "dial0"])));
    }
    let early = chain == "PREROUTING";
    match rng.below(9) {
        0..=2 => {
            let protocol = *rng.pick(&["tcp", "udp"]);
            let not = if plain && protocol == "udp" { "" } else { not(rng) };
            all.push(format!("-p {protocol} -m {protocol} {not}--dport {}", ports(rng, ':')));
        }
        3 => {
            let list = (0..3).map(|_| ports(rng, ':')).collect::<Vec<_>>().join(",");
            all.push(format!("-p tcp -m multiport {}--dports {list}", not(rng)));
        }
        4 => all.push("-p udp".to_owned()),
        5 => all.push("-p tcp -m tcp --syn".to_owned()),
        6 => all.push("! -p tcp".to_owned()),
        7 => all.push("-p udp -m udp --sport 20000:40000".to_owned()),
        _ => {}
    }
    if rng.one_in(6) {
        all.push(format!("-m iprange {}--src-range {}", not(rng), span(rng, v6)));
    }
    if rng.one_in(6) && !early {
        let state =
            *rng.pick(if plain { &["NEW", "INVALID"] } else { &["NEW", "DNAT", "NEW,DNAT", "INVALID"] });
        all.push(format!("-m conntrack {}--ctstate {state}", not(rng)));
    }
    if rng.one_in(8) {
        let not = if plain { "" } else { not(rng) };
        all.push(format!("-m addrtype {not}--dst-type LOCAL"));
    }
    if rng.one_in(9) && !early && !v6 {
        all.push("-m conntrack --ctorigdst 203.0.113.1".to_owned());
    }
    if extra == Extra::Residual && rng.one_in(3) {
        all.push(
            rng.pick(&["-m mark --mark 7", "-m ttl --ttl-gt 3", "-m length --length 0:9999"])
                .replace("-m ttl --ttl-gt 3", if v6 { "-m hl --hl-gt 3" } else { "-m ttl --ttl-gt 3" }),
        );
    }
    all.join(" ")
}

// ---------------------------------------------------------------------------------------------------- nftables

fn nft(rng: &mut Rng, residual: bool) -> String {
    let mut text = String::from("flush ruleset\ndefine lan = { in0, in1 }\ntable inet gate {\n");
    text.push_str("\tset hosts { type ipv4_addr; flags interval; elements = { 10.20.4.0/28, 198.51.100.7, 10.20.9.100-10.20.9.150 } }\n");
    text.push_str("\tset services { type inet_service; flags interval; elements = { 22, 80-443, 2000 } }\n");
    text.push_str("\tset pairs { type ipv4_addr . inet_service; flags interval; elements = { 10.20.4.11 . 80, 10.20.6.0/24 . 1000-2000 } }\n");
    text.push_str("\tmap verdicts { type inet_service : verdict; flags interval; elements = { 22 : accept, 80-81 : jump web, 3389 : drop } }\n");
    text.push_str("\tmap places { type inet_service : ipv4_addr; elements = { 80 : 10.20.4.11, 443 : 10.20.4.20, 3389 : 10.20.6.20 } }\n");
    for (chain, targets) in [
        ("last", &["accept", "drop"][..]),
        ("web", &["accept", "drop", "return", "log prefix \"w \" level debug"][..]),
        ("fromout", &["accept", "drop", "jump web", "return", "goto last"][..]),
    ] {
        text.push_str(&format!("\tchain {chain} {{\n{}\t}}\n", nft_rules(rng, targets, chain, residual)));
    }
    for (chain, hook) in [("input", "input"), ("forward", "forward")] {
        let policy = *rng.pick(&["accept", "drop", "drop"]);
        let priority = *rng.pick(&["filter", "0", "filter + 5", "-10"]);
        text.push_str(&format!(
            "\tchain {chain} {{\n\t\ttype filter hook {hook} priority {priority}; policy {policy};\n"
        ));
        text.push_str(
            "\t\ticmpv6 type { nd-neighbor-solicit, nd-neighbor-advert, nd-router-advert } accept\n",
        );
        match rng.below(4) {
            0 | 1 => text.push_str("\t\tct state established,related accept\n"),
            2 => text
                .push_str("\t\tct state vmap { established : accept, related : accept, invalid : drop }\n"),
            _ => {}
        }
        let targets = ["accept", "accept", "drop", "jump web", "jump fromout", "goto last", "reject"];
        text.push_str(&nft_rules(rng, &targets, chain, residual));
        text.push_str("\t}\n");
    }
    // A second chain on the same hook: what it drops is dropped, what it accepts is not yet accepted.
    if rng.one_in(2) {
        text.push_str(&format!(
            "\tchain early {{\n\t\ttype filter hook {} priority -20; policy accept;\n",
            rng.pick(&["forward", "prerouting"])
        ));
        text.push_str(&nft_rules(rng, &["accept", "drop", "return"], "early", residual));
        text.push_str("\t}\n");
    }
    text.push_str("}\n");
    if rng.below(3) > 0 {
        text.push_str(&nft_nat(rng));
    }
    text
}

fn nft_rules(rng: &mut Rng, targets: &[&str], chain: &str, residual: bool) -> String {
    let mut text = String::new();
    for _ in 0..2 + rng.below(6) {
        if rng.one_in(9) && chain != "web" && chain != "last" && chain != "early" {
            let map =
                *rng.pick(&["tcp dport vmap @verdicts", "iifname vmap { out0 : drop, dial0 : jump web }"]);
            text.push_str(&format!("\t\t{map}\n"));
            continue;
        }
        text.push_str(&format!("\t\t{} {}\n", nft_conditions(rng, chain, residual), rng.pick(targets)));
    }
    text
}

fn nft_conditions(rng: &mut Rng, chain: &str, residual: bool) -> String {
    let mut all: Vec<String> = Vec::new();
    let v6 = rng.one_in(3);
    let ip = if v6 { "ip6" } else { "ip" };
    let op = |rng: &mut Rng| if rng.one_in(5) { "!= " } else { "" };
    match rng.below(7) {
        0 | 1 => all.push(format!("{ip} saddr {}{}", op(rng), address(rng, v6))),
        2 => all.push(format!(
            "{ip} saddr {}{{ {}, {} }}",
            op(rng),
            host(rng, v6),
            span(rng, v6).split('-').next().unwrap_or("")
        )),
        3 => all.push(format!("ip saddr {}@hosts", op(rng))),
        4 => all.push(format!("{ip} saddr {}{}", op(rng), span(rng, v6))),
        _ => {}
    }
    // One condition of each version would leave nothing.
    if rng.one_in(2) && all.iter().all(|one| one.starts_with(&format!("{ip} "))) {
        all.push(format!("{ip} daddr {}{}", op(rng), address(rng, v6)));
    }
    if rng.one_in(3) {
        all.push(format!(
            "iifname {}{}",
            op(rng),
            rng.pick(&["\"out0\"", "$lan", "{ out0, dial0 }", "\"in*\""])
        ));
    }
    if chain == "forward" && rng.one_in(4) {
        all.push(format!("oifname {}{}", op(rng), rng.pick(&["\"in0\"", "$lan", "\"dial*\""])));
    }
    match rng.below(11) {
        0 | 1 => all.push(format!("{} dport {}{}", rng.pick(&["tcp", "udp"]), op(rng), ports(rng, '-'))),
        2 => all.push(
            format!("tcp dport {}{{ {}, {}, 1000-1999 }}", op(rng), self::port(rng), self::port(rng))
                .replace("1000, ", "")
                .replace("1001, ", "")
                .replace("1999, ", ""),
        ),
        3 => all.push(format!("meta l4proto {{ tcp, udp }} th dport {}", ports(rng, '-'))),
        4 => all.push("tcp dport @services".to_owned()),
        5 => all.push("tcp flags syn / fin,syn,rst,ack".to_owned()),
        6 => all.push(format!("udp dport >= {}", self::port(rng))),
        7 if !v6 => all.push("ip daddr . tcp dport @pairs".to_owned()),
        8 => all.push(format!("meta nfproto {}", rng.pick(&["ipv4", "ipv6"]))),
        9 => all.push("meta l4proto udp".to_owned()),
        _ => {}
    }
    match rng.below(10) {
        0 => all.push(format!(
            "ct state {}",
            rng.pick(&["new", "!= new", "{ new, related }", "invalid", "!= established,related"])
        )),
        1 => all.push("ct status dnat".to_owned()),
        2 => all.push(format!(
            "fib daddr type {}",
            rng.pick(&["local", "!= local", "unicast", "{ local, broadcast }"])
        )),
        3 => all.push("ct original ip daddr 203.0.113.1".to_owned()),
        4 => all.push(format!("meta l4proto tcp ct original proto-dst {}", self::port(rng))),
        _ => {}
    }
    if residual && rng.one_in(3) {
        all.push(
            (*rng.pick(&["meta mark 7", "limit rate over 9000/second", "ip ttl > 3", "meta length 0-9999"]))
                .to_owned(),
        );
    }
    all.join(" ")
}

fn nft_nat(rng: &mut Rng) -> String {
    let mut text = String::from(
        "table inet translate {\n\tmap places { type inet_service : ipv4_addr; elements = { 80 : 10.20.4.11, 443 : 10.20.4.20, 3389 : 10.20.6.20 } }\n",
    );
    text.push_str("\tchain pre {\n\t\ttype nat hook prerouting priority dstnat; policy accept;\n");
    for _ in 0..1 + rng.below(5) {
        let protocol = *rng.pick(&["tcp", "udp"]);
        let port = ports(rng, '-');
        let enter = *rng.pick(&["iifname out0 ", "", "ip daddr 203.0.113.1 ", "fib daddr type local "]);
        let v6 = enter.is_empty() && rng.one_in(3);
        let (family, to) = (if v6 { "ip6" } else { "ip" }, host(rng, v6));
        let shown = if v6 { format!("[{to}]") } else { to.to_owned() };
        let rule = match rng.below(6) {
            0 => format!("{enter}{protocol} dport {port} redirect to :{}", self::port(rng)),
            1 => format!("{enter}{protocol} dport {port} dnat {family} to {to}"),
            2 => format!("{enter}{protocol} dport {port} dnat {family} to {shown}:{}", self::port(rng)),
            3 => format!("{enter}dnat ip to {protocol} dport map @places"),
            4 => format!("{enter}dnat ip to {protocol} dport map {{ 22 : 10.20.4.30, 53 : 10.20.6.61 }}"),
            _ => format!("{enter}{protocol} dport {port} accept"),
        };
        text.push_str(&format!("\t\t{rule}\n"));
    }
    text.push_str("\t}\n\tchain post {\n\t\ttype nat hook postrouting priority srcnat; policy accept;\n");
    if rng.one_in(2) {
        text.push_str("\t\toifname out0 masquerade\n");
    }
    text.push_str("\t}\n}\n");
    text
}
