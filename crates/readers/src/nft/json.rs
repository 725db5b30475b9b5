//! Rulesets as `nft -j list ruleset` prints them (libnftables-json(5)), into the same commands as text.

use super::expr::{Base, Command, Data, Element, Expr, Op, Place, RuleText, Statement, TableName, Verdict};
use super::parser::priority;
use super::statements::{extension, sets};
use crate::json::Source;
use crate::reader::LineRecorder;
use serde::Deserialize;
use serde_json::Value;
use serde_json::value::RawValue;
use trevlin_model::{Export, LineClass, Origin};

#[derive(Deserialize)]
struct Document<'a> {
    #[serde(borrow)]
    nftables: Vec<&'a RawValue>,
}

/// Depth to which expressions are followed; nft itself writes fewer than ten levels. A deeper rule is reported as not understood.
const DEPTH: usize = 32;

/// Reads a whole ruleset, and returns whether it is broken.
pub(super) fn read(export: &Export, book: &mut LineRecorder<'_>) -> (Vec<Command>, bool) {
    let source = Source::of(export);
    let document: Document<'_> = match serde_json::from_str(source.text()) {
        Ok(document) => document,
        Err(error) => {
            let line = u32::try_from(error.line()).unwrap_or(1).clamp(1, export.line_count().max(1));
            let place = export.line(line).map_or(export.origin(0..0), |line| export.origin_of(line.text));
            book.not_understood(
                place,
                format!("this is not the JSON of `nft -j list ruleset` (line {line})"),
            );
            return (Vec::new(), true);
        }
    };
    // A rule that is not whole could say anything.
    let last = document.nftables.len();
    if source.broken.is_some() {
        source.settle(book, "");
    }
    let (mut commands, mut lost) = (Vec::new(), false);
    for (number, raw) in document.nftables.into_iter().enumerate() {
        let origin = source.origin(raw.get());
        if source.broken.is_some() && number + 1 == last {
            book.class(origin, LineClass::NotUnderstood);
            break;
        }
        let Ok(Value::Object(object)) = serde_json::from_str::<Value>(raw.get()) else {
            lost = true;
            book.not_understood(origin, "expected an object such as {\"table\": …}");
            continue;
        };
        let mut entries = object.iter();
        let Some((mut kind, mut value)) = entries.next() else { continue };
        // Input for `nft -j -f` puts each object into a command.
        let mut inner = None;
        if matches!(kind.as_str(), "add" | "create" | "insert")
            && let Some((one, held)) = value.as_object().and_then(|object| object.iter().next())
        {
            inner = Some((kind == "insert", one, held));
        }
        let place = match inner {
            Some((insert, one, held)) => {
                (kind, value) = (one, held);
                if insert { Place::Start } else { Place::End }
            }
            None => Place::End,
        };
        match command(kind, value, origin, place) {
            Some((found, whole)) => {
                commands.extend(found);
                if whole {
                    book.understood(origin);
                } else {
                    book.not_understood(origin, "a statement of this rule is not in libnftables-json(5)");
                }
            }
            None => {
                lost = true;
                book.not_understood(origin, format!("`{kind}` is not understood here"));
            }
        }
    }
    (commands, lost || source.broken.is_some())
}

fn text(value: &Value, key: &str) -> Option<String> {
    value.get(key)?.as_str().map(str::to_owned)
}

fn table_of(value: &Value, key: &str) -> Option<TableName> {
    Some(TableName { family: text(value, "family")?, name: text(value, key)? })
}

fn command(kind: &str, value: &Value, origin: Origin, place: Place) -> Option<(Vec<Command>, bool)> {
    let whole = |command: Command| Some((vec![command], true));
    match kind {
        "metainfo" | "flowtable" | "counter" | "quota" | "limit" | "secmark" | "synproxy" | "ct helper"
        | "ct timeout" | "ct expectation" => Some((Vec::new(), true)),
        "flush" if value.get("ruleset").is_some() => whole(Command::FlushRuleset),
        "flush" => whole(Command::FlushTable(table_of(value.get("table")?, "name")?)),
        "table" => {
            let table = table_of(value, "name")?;
            let dormant = flags_of(value).iter().any(|flag| flag == "dormant");
            let mut all = vec![Command::Table(table.clone(), origin)];
            all.extend(dormant.then_some(Command::Dormant(table)));
            Some((all, true))
        }
        "chain" => {
            let base = match text(value, "hook") {
                None => None,
                Some(hook) => Some(Base {
                    kind: text(value, "type").unwrap_or_default(),
                    hook,
                    priority: match value.get("prio") {
                        Some(Value::String(name)) => priority(name)?,
                        other => {
                            other.and_then(Value::as_i64).and_then(|one| i32::try_from(one).ok()).unwrap_or(0)
                        }
                    },
                    policy: text(value, "policy"),
                }),
            };
            let (table, name) = (table_of(value, "table")?, text(value, "name")?);
            whole(Command::Chain { table, name, base, origin })
        }
        "rule" => {
            let comment = text(value, "comment").map(|text| crate::announced::masked(&text));
            let mut rule = RuleText { statements: Vec::new(), comment, origin, whole: true };
            for one in value.get("expr")?.as_array()? {
                match statement(one) {
                    Some(statement) => rule.statements.push(statement),
                    None => rule.whole = false,
                }
            }
            let understood = rule.whole;
            let (table, chain) = (table_of(value, "table")?, text(value, "chain")?);
            Some((vec![Command::Rule { table, chain, place, rule }], understood))
        }
        "set" | "map" | "meter" => {
            // The flag `dynamic` is left out here; what times out is put there while the device runs.
            let flags = flags_of(value);
            let passing = flags.iter().any(|flag| matches!(flag.as_str(), "dynamic" | "timeout"));
            let dynamic = passing || value.get("timeout").is_some() || kind == "meter";
            let elements = value.get("elem").map(elements).unwrap_or(Some(Vec::new()))?;
            let (table, name) = (table_of(value, "table")?, text(value, "name")?);
            whole(Command::Set { table, name, dynamic, elements, origin })
        }
        "element" => {
            let elements = elements(value.get("elem")?)?;
            whole(Command::Elements { table: table_of(value, "table")?, set: text(value, "name")?, elements })
        }
        _ => None,
    }
}

fn flags_of(value: &Value) -> Vec<String> {
    match value.get("flags") {
        Some(Value::String(one)) => vec![one.clone()],
        Some(Value::Array(all)) => all.iter().filter_map(|one| one.as_str().map(str::to_owned)).collect(),
        _ => Vec::new(),
    }
}

fn elements(value: &Value) -> Option<Vec<Element>> {
    let one = |value: &Value| match value {
        Value::Array(pair) if pair.len() == 2 => {
            Some(Element { key: expr(&pair[0], 0)?, data: Some(data(&pair[1], 0)?), origin: None })
        }
        other => Some(Element { key: expr(other, 0)?, data: None, origin: None }),
    };
    match value {
        Value::Array(all) => all.iter().map(one).collect(),
        other => Some(vec![one(other)?]),
    }
}

fn data(value: &Value, depth: usize) -> Option<Data> {
    match verdict(value) {
        Some(verdict) => Some(Data::Verdict(verdict)),
        None => expr(value, depth).map(Data::Value),
    }
}

fn verdict(value: &Value) -> Option<Verdict> {
    let (kind, inner) = value.as_object()?.iter().next()?;
    Some(match kind.as_str() {
        "accept" => Verdict::Accept,
        "drop" => Verdict::Drop,
        "continue" => Verdict::Continue,
        "return" => Verdict::Return,
        "jump" => Verdict::Jump(text(inner, "target")?),
        "goto" => Verdict::Goto(text(inner, "target")?),
        _ => return None,
    })
}

fn scalar(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        Value::Bool(true) => Some("exists".to_owned()),
        Value::Bool(false) => Some("missing".to_owned()),
        _ => None,
    }
}

fn expr(value: &Value, depth: usize) -> Option<Expr> {
    if depth > DEPTH {
        return None;
    }
    let each = |all: &[Value]| all.iter().map(|one| expr(one, depth + 1)).collect::<Option<Vec<_>>>();
    let words = |all: Vec<Expr>| Expr::Bits(all.iter().map(Expr::words).collect());
    if let Some(text) = scalar(value) {
        // A string may be an address with a prefix length too, and the name of a set.
        return Some(Expr::word(&text));
    }
    if let Value::Array(all) = value {
        return each(all).map(words);
    }
    let (kind, inner) = value.as_object()?.iter().next()?;
    let list = || inner.as_array().map(Vec::as_slice);
    Some(match kind.as_str() {
        "set" => match inner {
            Value::Array(all) if all.iter().all(|one| one.as_array().is_some_and(|pair| pair.len() == 2)) => {
                let pair = |one: &Value| Some((expr(&one[0], depth + 1)?, data(&one[1], depth + 1)?, None));
                let pairs = all.iter().map(pair).collect::<Option<Vec<_>>>()?;
                if pairs.is_empty() { Expr::Set(Vec::new()) } else { Expr::Pairs(pairs) }
            }
            Value::Array(all) => Expr::Set(each(all)?),
            other => Expr::Set(vec![expr(other, depth + 1)?]),
        },
        "concat" => Expr::Concat(each(list()?)?),
        "prefix" => Expr::Prefix(text(inner, "addr")?, u8::try_from(inner.get("len")?.as_u64()?).ok()?),
        "range" => match list()? {
            [first, last] => Expr::Range(scalar(first)?, scalar(last)?),
            _ => return None,
        },
        "elem" => expr(inner.get("val")?, depth + 1)?,
        "|" => words(each(list()?)?),
        "&" => match list()? {
            [left, right] => Expr::And(Box::new(expr(left, depth + 1)?), Box::new(expr(right, depth + 1)?)),
            _ => return None,
        },
        "payload" => match (text(inner, "protocol"), text(inner, "field")) {
            (Some(protocol), Some(field)) => Expr::Payload(protocol, field),
            _ => {
                let part = |key: &str| inner.get(key).and_then(scalar).unwrap_or_default();
                Expr::Other(format!("@{},{},{}", part("base"), part("offset"), part("len")))
            }
        },
        "meta" => {
            let key = text(inner, "key")?;
            Expr::Meta(if key == "secpath" { "ipsec".to_owned() } else { key })
        }
        "ct" => Expr::Ct(text(inner, "key")?, text(inner, "dir")),
        "fib" => Expr::Fib(flags_of(inner), text(inner, "result")?),
        "map" => Expr::Lookup(
            Box::new(expr(inner.get("key")?, depth + 1)?),
            Box::new(expr(inner.get("data")?, depth + 1)?),
        ),
        "ipsec" => Expr::Other(format!("ipsec {} {}", text(inner, "dir")?, text(inner, "key")?)),
        "rt" => {
            let family = text(inner, "family").map(|family| format!("{family} ")).unwrap_or_default();
            Expr::Other(format!("rt {family}{}", text(inner, "key")?))
        }
        "socket" => Expr::Other(format!("socket {}", text(inner, "key")?)),
        "exthdr" => {
            let name = text(inner, "name")?;
            match text(inner, "field") {
                Some(field) if name == "rt" => Expr::Other(format!("rt {field}")),
                Some(field) => Expr::Payload(name, field),
                None => Expr::Other(format!("exthdr {name}")),
            }
        }
        "numgen" => {
            let offset = inner.get("offset").and_then(Value::as_u64).filter(|offset| *offset > 0);
            let offset = offset.map(|offset| format!(" offset {offset}")).unwrap_or_default();
            Expr::Other(format!(
                "numgen {} mod {}{offset}",
                text(inner, "mode")?,
                inner.get("mod").and_then(scalar)?
            ))
        }
        "jhash" => {
            let key = expr(inner.get("expr")?, depth + 1)?;
            Expr::Other(format!("jhash {} mod {}", key.words(), inner.get("mod").and_then(scalar)?))
        }
        "symhash" => Expr::Other(format!("symhash mod {}", inner.get("mod").and_then(scalar)?)),
        "tcp option" => {
            let field = text(inner, "field").map(|field| format!(" {field}")).unwrap_or_default();
            Expr::Other(format!("tcp option {}{field}", text(inner, "name")?))
        }
        other => Expr::Other(other.to_owned()),
    })
}

fn statement(value: &Value) -> Option<Statement> {
    if let Some(verdict) = verdict(value) {
        return Some(Statement::Verdict(verdict));
    }
    let (kind, inner) = value.as_object()?.iter().next()?;
    Some(match kind.as_str() {
        "match" => {
            let op = match inner.get("op")?.as_str()? {
                "in" => Op::Implicit,
                "==" => Op::Equal,
                "!=" => Op::Unequal,
                "!" => Op::NoneOf,
                "<" => Op::Less,
                ">" => Op::Greater,
                "<=" => Op::AtMost,
                ">=" => Op::AtLeast,
                _ => return None,
            };
            Statement::Match(expr(inner.get("left")?, 0)?, op, expr(inner.get("right")?, 0)?)
        }
        "vmap" => Statement::VerdictMap(expr(inner.get("key")?, 0)?, expr(inner.get("data")?, 0)?),
        "counter" => Statement::Counter(inner.get("packets").and_then(Value::as_u64)),
        "log" => Statement::Log,
        "reject" => {
            let with = text(inner, "type").map(|with| with.split(' ').next().unwrap_or_default().to_owned());
            Statement::Reject(with)
        }
        "limit" => {
            let over = if inner.get("inv").and_then(Value::as_bool) == Some(true) { "over " } else { "" };
            match inner {
                Value::String(name) => Statement::Perhaps(format!("limit {name}")),
                _ => {
                    let unit = text(inner, "rate_unit").filter(|unit| unit != "packets");
                    let unit = unit.map(|unit| format!(" {unit}")).unwrap_or_default();
                    let rate = inner.get("rate").and_then(scalar)?;
                    let per = text(inner, "per").unwrap_or_else(|| "second".into());
                    Statement::Perhaps(format!("limit {over}{rate}{unit}/{per}"))
                }
            }
        }
        "quota" => Statement::Perhaps("quota".into()),
        "ct count" => Statement::Perhaps(format!("ct count {}", inner.get("val").and_then(scalar)?)),
        "meter" => Statement::Perhaps(format!("meter {}", text(inner, "name")?)),
        "snat" | "dnat" | "masquerade" | "redirect" => {
            let kind = match kind.as_str() {
                "snat" => "snat",
                "dnat" => "dnat",
                "masquerade" => "masquerade",
                _ => "redirect",
            };
            let part = |key: &str| inner.get(key).map(|one| expr(one, 0));
            let prefix = text(inner, "type_flags").is_some_and(|flags| flags == "prefix");
            let (address, port) = (part("addr"), part("port"));
            if matches!(address, Some(None)) || matches!(port, Some(None)) {
                return None;
            }
            Statement::Translate { kind, address: address.flatten(), port: port.flatten(), prefix }
        }
        "mangle" => sets(&expr(inner.get("key")?, 0)?),
        "set" => Statement::Fills(text(inner, "set")?.trim_start_matches('@').to_owned()),
        "notrack" => Statement::Marks("NOTRACK".into()),
        "queue" | "synproxy" | "tproxy" | "fwd" => Statement::Takes(kind.clone()),
        "dup" | "flow" | "ct helper" | "ct timeout" | "ct expectation" | "secmark" => Statement::Nothing,
        "xt" => extension(text(inner, "type")? == "target", &text(inner, "name")?),
        _ => return None,
    })
}
