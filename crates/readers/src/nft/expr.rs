//! Elements of an nftables ruleset, written as text or as JSON. The structure follows libnftables-json(5).

use trevlin_model::Origin;

/// An expression: the compared field, or the value it is compared with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Expr {
    /// A word, a number, an address or a string.
    Text(String),
    /// `a/n`
    Prefix(String, u8),
    /// `a-b`
    Range(String, String),
    /// `{ a, b }`
    Set(Vec<Expr>),
    /// `{ a : b }`
    Pairs(Vec<Pair>),
    /// `a . b`
    Concat(Vec<Expr>),
    /// `@name`
    Named(String),
    /// `a, b` outside of braces, or `a | b`: combined bits.
    Bits(Vec<String>),
    /// `a & b`
    And(Box<Expr>, Box<Expr>),
    /// A field of a header.
    Payload(String, String),
    /// A property of the packet.
    Meta(String),
    /// A property of its connection; with a direction where one is named.
    Ct(String, Option<String>),
    /// A routing lookup.
    Fib(Vec<String>, String),
    /// `key map { … }`
    Lookup(Box<Expr>, Box<Expr>),
    /// Any other expression, as text.
    Other(String),
}

impl Expr {
    /// About how many bytes it takes.
    pub(super) fn size(&self) -> usize {
        const OWN: usize = size_of::<Expr>();
        let all = |all: &[Self]| all.iter().map(Self::size).sum::<usize>();
        OWN + match self {
            Self::Text(text)
            | Self::Prefix(text, _)
            | Self::Named(text)
            | Self::Meta(text)
            | Self::Other(text) => text.len(),
            Self::Range(first, last) | Self::Payload(first, last) => first.len() + last.len(),
            Self::Set(inner) | Self::Concat(inner) => all(inner),
            Self::Pairs(inner) => inner.iter().map(|(key, data, _)| key.size() + data.size()).sum(),
            Self::Bits(words) => words.iter().map(|word| OWN + word.len()).sum(),
            Self::And(a, b) | Self::Lookup(a, b) => a.size() + b.size(),
            Self::Ct(text, direction) => text.len() + direction.as_ref().map_or(0, String::len),
            Self::Fib(words, text) => words.iter().map(|word| OWN + word.len()).sum::<usize>() + text.len(),
        }
    }

    pub(super) fn text(text: impl Into<String>) -> Self {
        Self::Text(text.into())
    }

    /// A word of the text form: an address with a prefix length or mask, a range, or other text.
    pub(super) fn word(word: &str) -> Self {
        let address = |text: &str| text.parse::<std::net::IpAddr>().is_ok();
        if let Some((base, length)) = word.split_once('/')
            && address(base)
        {
            let mask =
                length.parse::<std::net::IpAddr>().ok().and_then(|mask| ipnet::ip_mask_to_prefix(mask).ok());
            if let Some(length) = length.parse().ok().or(mask) {
                return Self::Prefix(base.to_owned(), length);
            }
        }
        if let Some((first, last)) = word.split_once('-') {
            let number = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
            if (address(first) && address(last)) || (number(first) && number(last)) {
                return Self::Range(first.to_owned(), last.to_owned());
            }
        }
        if let Some(name) = word.strip_prefix('@') {
            return Self::Named(name.to_owned());
        }
        Self::Text(number(word).map_or_else(|| word.to_owned(), |number| number.to_string()))
    }

    /// It in words, the same for text and JSON.
    pub(super) fn words(&self) -> String {
        let join = |all: &[Expr], by: &str| all.iter().map(Expr::words).collect::<Vec<_>>().join(by);
        match self {
            Self::Text(text) | Self::Other(text) => text.clone(),
            Self::Prefix(base, length) => format!("{base}/{length}"),
            Self::Range(first, last) => format!("{first}-{last}"),
            Self::Set(all) => {
                // The kernel gives elements back in its own order.
                let mut words: Vec<String> = all.iter().map(Expr::words).collect();
                words.sort();
                format!("{{ {} }}", words.join(", "))
            }
            Self::Pairs(all) => format!("{{ {} pairs }}", all.len()),
            Self::Concat(all) => join(all, " . "),
            Self::Named(name) => format!("@{name}"),
            Self::Bits(all) => all.join(","),
            Self::And(left, right) => format!("{} & {}", left.words(), right.words()),
            Self::Payload(protocol, field) => format!("{protocol} {field}"),
            Self::Meta(key) => format!("meta {key}"),
            Self::Ct(key, None) => format!("ct {key}"),
            Self::Ct(key, Some(direction)) => format!("ct {direction} {key}"),
            Self::Fib(flags, result) => format!("fib {} {result}", flags.join(" . ")),
            Self::Lookup(key, data) => format!("{} map {}", key.words(), data.words()),
        }
    }
}

/// A whole number, decimal or with `0x`.
pub(super) fn number(text: &str) -> Option<u64> {
    match text.strip_prefix("0x") {
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        None if text.bytes().all(|byte| byte.is_ascii_digit()) => text.parse().ok(),
        None => None,
    }
}

/// The value of a map element.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Data {
    Verdict(Verdict),
    Value(Expr),
}

impl Data {
    fn size(&self) -> usize {
        match self {
            Self::Verdict(_) => size_of::<Self>(),
            Self::Value(value) => value.size(),
        }
    }
}

/// Verdict on a packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Verdict {
    Accept,
    Drop,
    Continue,
    Return,
    Jump(String),
    Goto(String),
}

/// How two sides of a condition are compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Op {
    /// As the left side has it: equal, or for bits any of them.
    Implicit,
    /// Written `!`: none of the bits.
    NoneOf,
    Equal,
    Unequal,
    Less,
    Greater,
    AtMost,
    AtLeast,
}

/// A statement of a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Statement {
    Match(Expr, Op, Expr),
    Verdict(Verdict),
    VerdictMap(Expr, Expr),
    Counter(Option<u64>),
    Log,
    /// The type of the reply, which determines the packets it applies to.
    Reject(Option<String>),
    /// Kind, address, ports, and whether a prefix is mapped onto another.
    Translate {
        kind: &'static str,
        address: Option<Expr>,
        port: Option<Expr>,
        prefix: bool,
    },
    /// A condition that is not analysed.
    Perhaps(String),
    /// Something that is done and has no bearing on where the packet goes.
    Nothing,
    /// Something that is done and may have a bearing later: a mark.
    Marks(String),
    /// Something that takes the packet elsewhere.
    Takes(String),
    /// Rules that fill a set.
    Fills(String),
    Comment(String),
}

/// Which table, and what in it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct TableName {
    pub(super) family: String,
    pub(super) name: String,
}

/// Properties of a base chain.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Base {
    pub(super) kind: String,
    pub(super) hook: String,
    pub(super) priority: i32,
    pub(super) policy: Option<String>,
}

/// Where a rule is put.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Place {
    End,
    Start,
    /// Before or behind another, which is not followed.
    Elsewhere,
}

/// One command of a ruleset.
#[derive(Debug, Clone)]
pub(super) enum Command {
    FlushRuleset,
    Table(TableName, Origin),
    /// Its rules are out of force.
    Dormant(TableName),
    DeleteTable(TableName),
    FlushTable(TableName),
    Chain {
        table: TableName,
        name: String,
        base: Option<Base>,
        origin: Origin,
    },
    Policy {
        table: TableName,
        chain: String,
        policy: String,
        origin: Origin,
    },
    FlushChain(TableName, String),
    DeleteChain(TableName, String),
    Rule {
        table: TableName,
        chain: String,
        place: Place,
        rule: RuleText,
    },
    Set {
        table: TableName,
        name: String,
        dynamic: bool,
        elements: Vec<Element>,
        origin: Origin,
    },
    Elements {
        table: TableName,
        set: String,
        elements: Vec<Element>,
    },
    DeleteElements {
        table: TableName,
        set: String,
        elements: Vec<Expr>,
    },
}

/// A rule as written.
#[derive(Debug, Clone)]
pub(super) struct RuleText {
    pub(super) statements: Vec<Statement>,
    pub(super) comment: Option<String>,
    pub(super) origin: Origin,
    /// Whether all of it was understood.
    pub(super) whole: bool,
}

/// An element of a map, with its place where it is known.
pub(super) type Pair = (Expr, Data, Option<Origin>);

/// An element of a set or map.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Element {
    pub(super) key: Expr,
    pub(super) data: Option<Data>,
    pub(super) origin: Option<Origin>,
}
