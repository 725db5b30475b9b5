//! Statements of a rule in the nftables language (nft(8), "EXPRESSIONS" and "STATEMENTS").

use super::expr::{Expr, Op, Statement};
use super::parser::Parser;

/// Properties of a packet that may be written without `meta`.
const BARE: [&str; 17] = [
    "iif",
    "iifname",
    "iiftype",
    "oif",
    "oifname",
    "oiftype",
    "mark",
    "skuid",
    "skgid",
    "nftrace",
    "rtclassid",
    "ibriport",
    "obriport",
    "pkttype",
    "cpu",
    "iifgroup",
    "oifgroup",
];

/// Headers whose fields are one word.
const HEADERS: [&str; 19] = [
    "ip", "ip6", "tcp", "udp", "udplite", "sctp", "dccp", "th", "icmp", "icmpv6", "ether", "vlan", "arp",
    "ah", "esp", "comp", "igmp", "frag", "hbh",
];

/// Fields of TCP and IP options (nft(8), "EXTENSION HEADER EXPRESSIONS").
const OPTION_FIELDS: [&str; 12] =
    ["kind", "length", "size", "count", "left", "right", "tsval", "tsecr", "type", "ptr", "addr", "value"];

/// Matches and targets of iptables that the program does not translate: `xt match NAME`, `xt target NAME`; their values are not printed.
pub(super) fn extension(target: bool, name: &str) -> Statement {
    let unknown = || Some(Expr::Other(format!("xt target {name}")));
    let translate = |kind, address| Statement::Translate { kind, address, port: None, prefix: false };
    match (target, name) {
        (false, "comment") => Statement::Nothing,
        (false, name) => {
            Statement::Perhaps(format!("xt match {name} (its values are in `iptables-save` alone)"))
        }
        (true, "LOG" | "NFLOG" | "ULOG") => Statement::Log,
        (true, "REJECT") => Statement::Reject(None),
        (true, "MASQUERADE") => translate("masquerade", None),
        (true, "REDIRECT") => {
            Statement::Translate { kind: "redirect", address: None, port: unknown(), prefix: false }
        }
        (true, "DNAT" | "NETMAP") => translate("dnat", unknown()),
        (true, "SNAT") => translate("snat", unknown()),
        (
            true,
            "TCPMSS" | "TCPOPTSTRIP" | "CHECKSUM" | "CLASSIFY" | "TOS" | "DSCP" | "TTL" | "HL" | "ECN"
            | "SECMARK" | "CONNSECMARK" | "AUDIT" | "LED" | "IDLETIMER" | "RATEEST" | "TRACE" | "TEE" | "SET",
        ) => Statement::Nothing,
        (true, "MARK" | "CONNMARK" | "CT" | "NOTRACK") => Statement::Marks(format!("xt target {name}")),
        (true, name) => Statement::Takes(format!("xt target {name}")),
    }
}

/// Parses one statement; `None` where none is known here.
pub(super) fn statement(parser: &mut Parser<'_, '_>) -> Option<Statement> {
    if let Some(verdict) = parser.verdict() {
        return Some(Statement::Verdict(verdict));
    }
    let word = parser.text();
    match word {
        "counter" => {
            parser.next();
            let mut packets = None;
            while matches!(parser.text(), "packets" | "bytes") {
                let which = parser.word();
                let count = parser.word().and_then(|one| one.parse().ok());
                packets = if which == Some("packets") { count } else { packets };
            }
            if parser.text() == "name" {
                parser.next();
                parser.word();
            }
            Some(Statement::Counter(packets))
        }
        "log" => {
            parser.next();
            while matches!(
                parser.text(),
                "prefix" | "level" | "group" | "snaplen" | "queue-threshold" | "flags"
            ) {
                let which = parser.word();
                parser.word();
                // `flags tcp sequence,options`, `flags all`
                while which == Some("flags")
                    && (parser.take(",")
                        || matches!(parser.text(), "sequence" | "options" | "skuid" | "ether"))
                {
                    if matches!(parser.text(), "sequence" | "options") {
                        parser.next();
                    }
                }
            }
            Some(Statement::Log)
        }
        "reject" => {
            parser.next();
            let mut with = None;
            if parser.take("with") {
                // `icmpx type port-unreachable`, `tcp reset`, `icmpv6 no-route`
                with = parser.word().map(str::to_owned);
                while !parser.at_end() && !matches!(parser.text(), "comment" | "counter") {
                    parser.next();
                }
            }
            Some(Statement::Reject(with))
        }
        "limit" => {
            parser.next();
            Some(Statement::Perhaps(limit(parser)))
        }
        "quota" => {
            parser.next();
            if parser.take("name") {
                parser.word();
            }
            while matches!(parser.text(), "over" | "until" | "used" | "bytes" | "kbytes" | "mbytes")
                || parser.text().bytes().next().is_some_and(|byte| byte.is_ascii_digit())
            {
                parser.next();
            }
            Some(Statement::Perhaps("quota".into()))
        }
        "comment" => {
            parser.next();
            Some(Statement::Comment(parser.word()?.to_owned()))
        }
        "snat" | "dnat" | "masquerade" | "redirect" => translation(parser),
        "queue" | "synproxy" | "tproxy" | "dup" | "fwd" => {
            let name = word.to_owned();
            while !parser.at_end() && parser.text() != "comment" {
                parser.next();
            }
            Some(match name.as_str() {
                // A copy is sent; the packet goes on.
                "dup" => Statement::Nothing,
                _ => Statement::Takes(name),
            })
        }
        "notrack" => {
            parser.next();
            Some(Statement::Marks("NOTRACK".into()))
        }
        "add" | "update" | "delete" => {
            parser.next();
            let name = parser.word()?.trim_start_matches('@').to_owned();
            if parser.text() == "{" {
                parser.skip_braces();
            }
            Some(Statement::Fills(name))
        }
        "set" => {
            // The older order: `set add ip saddr @name`.
            parser.next();
            parser.word()?;
            let mut name = None;
            while !parser.at_end() && name.is_none() {
                name = parser.next().and_then(|one| one.text.strip_prefix('@')).map(str::to_owned);
            }
            Some(Statement::Fills(name?))
        }
        "flow" => {
            parser.next();
            parser.word()?;
            parser.word()?;
            Some(Statement::Nothing)
        }
        "meter" => {
            parser.next();
            let name = parser.word()?.to_owned();
            if parser.text() == "size" {
                parser.next();
                parser.next();
            }
            parser.skip_braces();
            Some(Statement::Perhaps(format!("meter {name}")))
        }
        "xt" => {
            parser.next();
            let target = parser.word()? == "target";
            Some(extension(target, parser.word()?))
        }
        "objref" => None,
        _ => condition(parser),
    }
}

/// `rate [over] 5/minute [burst 5 packets]`, or `name "x"`.
fn limit(parser: &mut Parser<'_, '_>) -> String {
    let mut words = vec!["limit".to_owned()];
    if parser.take("name") {
        words.push(parser.word().unwrap_or_default().to_owned());
        return words.join(" ");
    }
    parser.take("rate");
    if parser.take("over") {
        words.push("over".into());
    }
    words.push(parser.word().unwrap_or_default().to_owned());
    // `10 mbytes/second`, `5 / minute`
    if parser.text().contains("bytes") {
        words.push(parser.word().unwrap_or_default().to_owned());
    }
    if parser.take("/") {
        let per = parser.word().unwrap_or_default();
        if let Some(last) = words.last_mut() {
            last.push('/');
            last.push_str(per);
        }
    }
    if parser.take("burst") {
        parser.word();
        parser.word();
    }
    words.join(" ")
}

/// `dnat [ip|ip6] [prefix] to EXPR[:PORT] [flags]`, and the like.
fn translation(parser: &mut Parser<'_, '_>) -> Option<Statement> {
    let kind = match parser.word()? {
        "snat" => "snat",
        "dnat" => "dnat",
        "masquerade" => "masquerade",
        _ => "redirect",
    };
    let mut prefix = false;
    while matches!(parser.text(), "ip" | "ip6" | "prefix" | "addr" | "." | "port" | "interval") {
        prefix |= parser.text() == "prefix";
        parser.next();
    }
    let (mut address, mut port) = (None, None);
    if parser.take("to") {
        if parser.text() != ":" {
            address = Some(left_or_right(parser)?);
        }
        if parser.take(":") {
            port = Some(left_or_right(parser)?);
        }
    }
    while parser.take(",") || matches!(parser.text(), "random" | "fully-random" | "persistent") {
        if !parser.at_end() && parser.text() != "comment" {
            parser.next();
        }
    }
    Some(Statement::Translate { kind, address, port, prefix })
}

/// A value, or a lookup such as `tcp dport map { … }`.
fn left_or_right(parser: &mut Parser<'_, '_>) -> Option<Expr> {
    let word = parser.text();
    if HEADERS.contains(&word)
        || BARE.contains(&word)
        || matches!(word, "meta" | "ct" | "numgen" | "jhash" | "symhash")
    {
        let key = left(parser)?;
        if parser.take("map") {
            let data = parser.right(0);
            return Some(Expr::Lookup(Box::new(key), Box::new(data)));
        }
        return Some(key);
    }
    Some(parser.right(1))
}

/// The value that a statement sets: a value, a lookup in a map, or a property of the route (`rt mtu`).
fn set_value(parser: &mut Parser<'_, '_>) -> Option<()> {
    if parser.take("rt") {
        parser.word()?;
        return Some(());
    }
    left_or_right(parser).map(|_| ())
}

/// `LEFT [OP] RIGHT`, `LEFT vmap …`, `LEFT set …`.
fn condition(parser: &mut Parser<'_, '_>) -> Option<Statement> {
    let mut first = left(parser)?;
    if matches!(parser.text(), "&" | "and") {
        parser.next();
        let mask = parser.right(0);
        first = Expr::And(Box::new(first), Box::new(mask));
    }
    if parser.take("vmap") {
        let data = parser.right(0);
        return Some(Statement::VerdictMap(first, data));
    }
    if parser.take("set") {
        set_value(parser)?;
        while matches!(
            parser.text(),
            "&" | "|" | "^" | "<<" | ">>" | "and" | "or" | "xor" | "lshift" | "rshift" | "," | ":"
        ) {
            parser.next();
            set_value(parser)?;
        }
        return Some(sets(&first));
    }
    if let Expr::Other(words) = &first
        && words.starts_with("ct count")
    {
        return Some(Statement::Perhaps(words.clone()));
    }
    let op = match parser.text() {
        "==" | "eq" => Op::Equal,
        "!=" | "ne" => Op::Unequal,
        "!" => Op::NoneOf,
        "<" | "lt" => Op::Less,
        ">" | "gt" => Op::Greater,
        "<=" | "le" => Op::AtMost,
        ">=" | "ge" => Op::AtLeast,
        _ => Op::Implicit,
    };
    if op != Op::Implicit {
        parser.next();
    }
    if parser.at_end() {
        return None;
    }
    let right = parser.right(0);
    // `tcp flags syn / fin,syn,rst,ack`
    if parser.take("/") {
        let mask = parser.right(0);
        let op = if op == Op::Implicit { Op::Equal } else { op };
        return Some(Statement::Match(Expr::And(Box::new(first), Box::new(mask)), op, right));
    }
    Some(Statement::Match(first, op, right))
}

/// A field that is set: marks, addresses and ports may decide later; priorities, sizes of segments and the like do not.
pub(super) fn sets(field: &Expr) -> Statement {
    let decides = match field {
        Expr::Meta(key) | Expr::Ct(key, _) => key == "mark",
        Expr::Payload(_, field) => !matches!(
            field.as_str(),
            "dscp" | "ecn" | "ttl" | "hoplimit" | "flowlabel" | "checksum" | "length"
        ),
        Expr::Other(words) => !words.starts_with("tcp option"),
        _ => true,
    };
    if decides { Statement::Marks(format!("{} set", field.words())) } else { Statement::Nothing }
}

/// The left side of a condition: fields with `.` between them.
fn left(parser: &mut Parser<'_, '_>) -> Option<Expr> {
    let mut parts = vec![one_left(parser)?];
    while parser.take(".") {
        parts.push(one_left(parser)?);
    }
    Some(if parts.len() == 1 { parts.swap_remove(0) } else { Expr::Concat(parts) })
}

fn one_left(parser: &mut Parser<'_, '_>) -> Option<Expr> {
    let word = parser.word()?;
    if BARE.contains(&word) {
        return Some(Expr::Meta(word.to_owned()));
    }
    match word {
        "meta" => {
            let key = parser.word()?;
            // The older name of the same.
            Some(Expr::Meta(if key == "secpath" { "ipsec" } else { key }.to_owned()))
        }
        "ct" => {
            let mut key = parser.word()?.to_owned();
            let direction = matches!(key.as_str(), "original" | "reply").then(|| key.clone());
            if direction.is_some() {
                parser.word()?.clone_into(&mut key);
                if matches!(key.as_str(), "ip" | "ip6") {
                    key = format!("{key} {}", parser.word()?);
                }
            }
            if key == "count" {
                parser.take("over");
                return Some(Expr::Other(format!("ct count {}", parser.word()?)));
            }
            Some(Expr::Ct(key, direction))
        }
        "fib" => {
            let mut flags = vec![parser.word()?.to_owned()];
            while parser.take(".") {
                flags.push(parser.word()?.to_owned());
            }
            Some(Expr::Fib(flags, parser.word()?.to_owned()))
        }
        "tcp" | "ip" | "ip6" if parser.text() == "option" => {
            parser.next();
            let mut words = format!("{word} option {}", parser.word()?);
            if OPTION_FIELDS.contains(&parser.text()) {
                words.push(' ');
                words.push_str(parser.word()?);
            }
            Some(Expr::Other(words))
        }
        _ if HEADERS.contains(&word) => Some(Expr::Payload(word.to_owned(), parser.word()?.to_owned())),
        "ipsec" => {
            let mut words = format!("ipsec {} {}", parser.word()?, parser.word()?);
            if words.ends_with("spnum") {
                parser.word();
                words = words.replace("spnum", parser.word()?);
            }
            if matches!(parser.text(), "saddr" | "daddr") {
                words = format!("{words} {}", parser.word()?);
            }
            Some(Expr::Other(words))
        }
        "rt" | "socket" | "exthdr" | "osf" | "cgroup" => {
            let mut words = format!("{word} {}", parser.word()?);
            while matches!(parser.text(), "nexthop" | "mtu" | "ipsec" | "level" | "ttl" | "name" | "version")
            {
                words = format!("{words} {}", parser.word()?);
            }
            Some(Expr::Other(words))
        }
        "numgen" | "jhash" | "symhash" => {
            let mut words = word.to_owned();
            while !parser.at_end() && !matches!(parser.text(), "==" | "!=" | "<" | ">" | "map" | "vmap" | "{")
            {
                words.push(' ');
                words.push_str(parser.next()?.text);
            }
            Some(Expr::Other(words))
        }
        "exists" | "missing" => None,
        _ if word.starts_with('@') && !parser.at_end() => {
            // `@nh,96,32`
            let mut words = word.to_owned();
            while parser.take(",") {
                words = format!("{words},{}", parser.word()?);
            }
            Some(Expr::Other(words))
        }
        _ => None,
    }
}
