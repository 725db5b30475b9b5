//! Access rules of slapd, evaluated as it does (slapd.access(5)): the first rule for an entry and attribute whose clause fits the client
//! decides, unless the clause goes on.

use super::super::dn::Dn;
use super::attributes::{Listed, has_attribute};
use super::rights::{Change, Rights};
use super::statements::{Statement, Word};
use regex::Regex;
use std::collections::BTreeSet;
use std::net::IpAddr;
use trevlin_model::{IpRange, Origin};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Next {
    Stop,
    Continue,
    Break,
}

/// How names are compared with one of a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Scope {
    Base,
    One,
    Subtree,
    Children,
    Level(usize),
}

impl Scope {
    fn of(style: &str) -> Option<Self> {
        Some(match style.to_ascii_lowercase().as_str() {
            "" | "base" | "baseobject" | "exact" => Self::Base,
            "one" | "onelevel" => Self::One,
            "sub" | "subtree" => Self::Subtree,
            "children" => Self::Children,
            other => Self::Level(other.strip_prefix("level{")?.strip_suffix('}')?.parse().ok()?),
        })
    }

    fn fits(self, name: &Dn, base: &Dn) -> bool {
        match self {
            Self::Base => name == base,
            Self::One => name.is_child_of(base),
            Self::Subtree => name.is_in(base),
            Self::Children => name.is_in(base) && name != base,
            Self::Level(levels) => name.is_in(base) && name.depth() == base.depth() + levels,
        }
    }
}

/// Entries of a rule.
#[derive(Debug, Clone)]
pub(crate) enum Place {
    Every,
    Names(Scope, Dn),
    Pattern(Box<Regex>),
}

impl Place {
    fn fits(&self, name: &Dn) -> bool {
        match self {
            Self::Every => true,
            Self::Names(scope, base) => scope.fits(name, base),
            Self::Pattern(pattern) => pattern.is_match(&name.to_string()),
        }
    }
}

/// A condition on the client.
#[derive(Debug, Clone)]
pub(crate) enum Who {
    Everybody,
    Anonymous,
    Users,
    /// The user whose entry it is, or one above or below it by so many levels.
    Itself(isize),
    /// Users by their names.
    Named(Scope, Dn),
    /// Users by a pattern of their names.
    Pattern(Box<Regex>),
    /// A user by a name with parts of the entry's own, compared as a name or as a pattern.
    Expanded(Option<Scope>, String),
    /// A user by a group, or by an attribute of the entry.
    Related,
    /// Clients from these addresses.
    From(IpRange),
    /// A condition that the file does not decide.
    Unknown(String),
    /// A strength of encryption in bits, for the connection or for SASL alone.
    Strength {
        bits: u32,
        sasl: bool,
    },
    Never,
}

/// One `by` clause.
#[derive(Debug, Clone)]
pub(crate) struct Clause {
    pub(crate) who: Vec<Who>,
    change: Change,
    /// Whether it is about values that are the client's own name.
    own_value: bool,
    next: Next,
    pub(crate) origin: Origin,
}

/// One `access` rule.
#[derive(Debug, Clone)]
pub(crate) struct Rule {
    pub(crate) place: Place,
    /// The pattern of names as it is written.
    pub(crate) place_text: String,
    pub(crate) filter: Option<String>,
    attributes: Option<Vec<Listed>>,
    /// Whether it is about single values.
    pub(crate) values: bool,
    pub(crate) clauses: Vec<Clause>,
    pub(crate) origin: Origin,
}

/// Patterns that slapd takes for all names, and for all of users.
const EVERY: [&str; 7] = ["*", ".*", ".*$", "^.*", "^.*$", ".*$$", "^.*$$"];
const SOMEONE: [&str; 6] = [".+", ".+$", "^.+", "^.+$", ".+$$", "^.+$$"];

impl Rule {
    /// The rule of an `access` statement; otherwise what is wrong with it.
    pub(crate) fn parse(statement: &Statement) -> Result<Self, String> {
        let words = statement.words.get(1..).unwrap_or_default();
        let first = words.first().map(|word| word.text.as_str()).unwrap_or_default();
        if !first.eq_ignore_ascii_case("to") {
            return Err("expected `to` behind `access`; slapd does not start with this rule".into());
        }
        let is_by = |word: &&Word| word.text.eq_ignore_ascii_case("by");
        let begin = words.iter().position(|word| is_by(&word)).unwrap_or(words.len());
        let mut rule = Self {
            place: Place::Every,
            place_text: String::new(),
            filter: None,
            attributes: None,
            values: false,
            clauses: Vec::new(),
            origin: statement.origin,
        };
        for word in &words[1..begin] {
            rule.what(&word.text)?;
        }
        if begin == 1 {
            return Err(
                "expected entries or attributes behind `to`; slapd does not start with this rule".into()
            );
        }
        let mut rest = &words[begin..];
        while let Some((by, more)) = rest.split_first() {
            let end = more.iter().position(|word| is_by(&word)).unwrap_or(more.len());
            rule.clauses.push(clause(by, &more[..end])?);
            rest = &more[end..];
        }
        if rule.clauses.is_empty() {
            return Err("expected `by` and a client; slapd does not start with this rule".into());
        }
        Ok(rule)
    }

    fn what(&mut self, word: &str) -> Result<(), String> {
        if word == "*" {
            return Ok(());
        }
        let (left, right) = word.split_once('=').ok_or_else(|| unexpected(word))?;
        let (name, style) = left.split_once('.').unwrap_or((left, ""));
        match name.to_ascii_lowercase().as_str() {
            "dn" => {
                right.clone_into(&mut self.place_text);
                self.place = match style.to_ascii_lowercase().as_str() {
                    "regex" if right.is_empty() => Place::Names(Scope::Base, Dn::default()),
                    "regex" if EVERY.contains(&right) => Place::Every,
                    "regex" => Place::Pattern(Box::new(pattern(right)?)),
                    style => {
                        let scope = Scope::of(style).ok_or_else(|| unexpected(word))?;
                        Place::Names(scope, Dn::parse(right).ok_or_else(|| unexpected(word))?)
                    }
                };
            }
            "filter" => self.filter = Some(right.to_owned()),
            "attr" | "attrs" => {
                self.attributes = Some(right.split(',').map(Listed::of).collect());
            }
            other if other == "val" || other.starts_with("val/") => self.values = true,
            _ => return Err(unexpected(word)),
        }
        Ok(())
    }

    /// Attributes that it names.
    pub(crate) fn named(&self) -> impl Iterator<Item = &str> {
        self.attributes.iter().flatten().filter_map(|one| match one {
            Listed::Name(name) if !matches!(name.as_str(), "entry" | "children") => Some(name.as_str()),
            _ => None,
        })
    }

    /// Usual attributes of the object classes that it names.
    pub(crate) fn of_classes(&self) -> impl Iterator<Item = &str> {
        const USUAL: [&str; 5] = ["cn", "description", "mail", "uid", "uidnumber"];
        let classes = self.attributes.iter().flatten().filter_map(|one| match one {
            Listed::Class(class, _) => Some(class.as_str()),
            Listed::Name(_) => None,
        });
        classes.flat_map(|class| USUAL.into_iter().filter(move |one| has_attribute(class, one)))
    }

    fn fits(&self, entry: &Entry<'_>, attribute: &str) -> bool {
        let listed = self.attributes.as_ref().is_none_or(|all| all.iter().any(|one| one.fits(attribute)));
        listed
            && self.place.fits(entry.name)
            && self.filter.as_deref().is_none_or(|filter| entry.filters.contains(filter))
            && (!self.values || entry.values)
    }
}

fn unexpected(word: &str) -> String {
    format!("`{word}` is not expected in a rule; slapd does not start with it")
}

/// A pattern of names, as slapd compiles it: without regard to capitals.
fn pattern(text: &str) -> Result<Regex, String> {
    regex::RegexBuilder::new(text)
        .case_insensitive(true)
        .size_limit(1 << 18)
        .build()
        .map_err(|_| format!("`{text}` is not an extended regular expression"))
}

/// A clause from its words behind `by`.
fn clause(by: &Word, words: &[Word]) -> Result<Clause, String> {
    let mut who = Vec::new();
    let mut at = 0;
    while let Some(one) = words.get(at).map(|word| condition(&word.text)).transpose()?.flatten() {
        who.push(one);
        at += 1;
    }
    if who.is_empty() {
        return Err(format!("expected a client behind `by`, found `{}`", text_of(words)));
    }
    let (mut change, mut own_value, mut next) = (Change::Add(Rights::default()), false, Next::Stop);
    let rest = &words[at..];
    if let Some(word) = rest.first() {
        let control = control(&word.text);
        if control.is_none() {
            let lower = word.text.to_ascii_lowercase();
            let bare = lower.strip_prefix("realself").or_else(|| lower.strip_prefix("self"));
            own_value = bare.is_some();
            change = Change::of(bare.unwrap_or(&lower)).ok_or_else(|| unexpected(&word.text))?;
        }
        let last = if control.is_some() { Some(word) } else { rest.get(1) };
        if let Some(word) = last {
            next = self::control(&word.text).ok_or_else(|| unexpected(&word.text))?;
        }
        if let Some(word) = rest.get(if control.is_some() { 1 } else { 2 }) {
            return Err(unexpected(&word.text));
        }
    }
    let end = words.last().map_or(by.origin.end, |word| word.origin.end);
    Ok(Clause { who, change, own_value, next, origin: Origin { end, ..by.origin } })
}

fn text_of(words: &[Word]) -> String {
    words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ")
}

fn control(word: &str) -> Option<Next> {
    match word.to_ascii_lowercase().as_str() {
        "stop" => Some(Next::Stop),
        "continue" => Some(Next::Continue),
        "break" => Some(Next::Break),
        _ => None,
    }
}

/// The condition that a word is; none where it is none, so that the access begins there.
fn condition(word: &str) -> Result<Option<Who>, String> {
    let (left, right) = word.split_once('=').map_or((word, None), |(left, right)| (left, Some(right)));
    let (name, style) = left.split_once('.').unwrap_or((left, ""));
    let (style, modifier) = style.split_once(',').unwrap_or((style, ""));
    let (name, style) = (name.to_ascii_lowercase(), style.to_ascii_lowercase());
    let name = name.strip_prefix("real").unwrap_or(&name);
    let value = right.unwrap_or_default();
    Ok(Some(match name.split('/').next().unwrap_or_default() {
        "*" => Who::Everybody,
        "anonymous" => Who::Anonymous,
        "users" => Who::Users,
        "self" if right.is_none() => {
            match style.strip_prefix("level{").and_then(|rest| rest.strip_suffix('}')) {
                Some(levels) => Who::Itself(levels.parse().map_err(|_| unexpected(word))?),
                None if style.is_empty() => Who::Itself(0),
                None => return Err(unexpected(word)),
            }
        }
        "dn" => user(word, &style, modifier, right)?,
        "dnattr" | "group" => Who::Related,
        // The user's own name takes part in most sets; others are not decided by the file.
        "set" if value.contains("user") => Who::Related,
        "set" | "sockurl" | "sockname" | "dynacl" | "aci" => Who::Unknown(word.to_owned()),
        // Names of clients are looked up with `reverse-lookup` alone.
        "domain" => Who::Unknown(word.to_owned()),
        "peername" => match style.as_str() {
            "ip" | "ipv6" => Who::From(peer(value).ok_or_else(|| unexpected(word))?),
            "regex" | "expand" => Who::Unknown(word.to_owned()),
            // The whole name has the port of the client.
            _ => Who::Never,
        },
        "ssf" | "transport_ssf" | "tls_ssf" | "sasl_ssf" if right.is_some() => {
            let bits = value.parse().map_err(|_| unexpected(word))?;
            Who::Strength { bits, sasl: name == "sasl_ssf" }
        }
        _ => return Ok(None),
    }))
}

fn user(word: &str, style: &str, modifier: &str, right: Option<&str>) -> Result<Who, String> {
    let value = right.unwrap_or_default();
    Ok(match style {
        _ if right.is_none() => Who::Users,
        "regex" if value.is_empty() => Who::Anonymous,
        "regex" if value == "*" || SOMEONE.contains(&value) => Who::Users,
        "regex" if EVERY.contains(&value) => Who::Everybody,
        "regex" if is_related(value) => Who::Expanded(None, value.to_owned()),
        // The dollar sign of the end is doubled, since it begins a part of the entry's name otherwise.
        "regex" => Who::Pattern(Box::new(pattern(&value.replace("$$", "$"))?)),
        "expand" => Who::Expanded(Some(Scope::Base), value.to_owned()),
        style if modifier.eq_ignore_ascii_case("expand") => {
            Who::Expanded(Some(Scope::of(style).ok_or_else(|| unexpected(word))?), value.to_owned())
        }
        _ if value.is_empty() => Who::Anonymous,
        style => {
            let scope = Scope::of(style).ok_or_else(|| unexpected(word))?;
            Who::Named(scope, Dn::parse(value).ok_or_else(|| unexpected(word))?)
        }
    })
}

/// Whether a pattern takes parts of the entry's name: `$1`, `${1}`.
fn is_related(pattern: &str) -> bool {
    let bytes = pattern.replace("$$", "");
    bytes.split('$').skip(1).any(|rest| rest.starts_with(|next: char| next.is_ascii_digit() || next == '{'))
}

/// Addresses of `address%mask{port}` (slapd.access(5), peername.ip).
fn peer(text: &str) -> Option<IpRange> {
    let text = text.split('{').next()?;
    let (address, mask) = text.split_once('%').map_or((text, None), |(address, mask)| (address, Some(mask)));
    let address: IpAddr = address.trim_matches(['[', ']']).parse().ok()?;
    let Some(mask) = mask else { return IpRange::new(address, address).ok() };
    let net = match address {
        IpAddr::V4(_) => crate::addresses::v4_with_mask(&address.to_string(), mask)?.into(),
        IpAddr::V6(v6) => {
            let mask: std::net::Ipv6Addr = mask.trim_matches(['[', ']']).parse().ok()?;
            let bits = u128::from(mask);
            let length = u8::try_from(bits.leading_ones()).ok()?;
            let whole = bits.count_ones() == bits.leading_ones();
            ipnet::IpNet::from(ipnet::Ipv6Net::new(v6, length).ok().filter(|_| whole)?)
        }
    };
    Some(net.trunc().into())
}

/// An entry that stands for others, with what is assumed of it.
pub(crate) struct Entry<'a> {
    pub(crate) name: &'a Dn,
    /// Filters that it fits.
    pub(crate) filters: &'a BTreeSet<&'a str>,
    /// Whether rules about single values hold for the value in question.
    pub(crate) values: bool,
}

/// A client.
#[derive(Debug, Clone)]
pub(crate) struct Client {
    /// Its user; none without a login.
    pub(crate) user: Option<Dn>,
    /// Its address; conditions of addresses do not hold without one.
    pub(crate) address: Option<IpAddr>,
    /// Bits of encryption that it can have.
    pub(crate) bits: u32,
    /// Whether conditions that the file does not decide are taken to hold.
    pub(crate) lucky: bool,
}

impl Place {
    /// Parts of an entry's name that `$0`, `$1` stand for.
    fn parts(&self, name: &Dn) -> Vec<String> {
        let whole = name.to_string();
        match self {
            Self::Pattern(pattern) => {
                let found = pattern.captures(&whole);
                let parts = found.iter().flat_map(|found| found.iter());
                parts.map(|part| part.map_or(String::new(), |part| part.as_str().to_owned())).collect()
            }
            Self::Names(Scope::Base, _) | Self::Every => vec![whole],
            Self::Names(_, base) => vec![whole, base.to_string()],
        }
    }
}

/// A text with these parts in place of `$1`, `${1}`; a doubled sign is one.
fn expanded(text: &str, parts: &[String]) -> String {
    let mut found = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('$') {
        found.push_str(before);
        let braced = after.strip_prefix('{').and_then(|inner| inner.split_once('}'));
        let (number, next) = match braced {
            Some((number, next)) => (number.trim_start_matches('d'), next),
            None => after.split_at_checked(1).unwrap_or(("", after)),
        };
        match number.parse::<usize>() {
            Ok(number) => found.push_str(parts.get(number).map_or("", String::as_str)),
            Err(_) => found.push('$'),
        }
        rest = if number.parse::<usize>().is_ok() { next } else { after.strip_prefix('$').unwrap_or(after) };
    }
    found + rest
}

impl Who {
    fn fits(&self, client: &Client, entry: &Dn, place: &Place) -> bool {
        let user = client.user.as_ref();
        match self {
            Self::Everybody => true,
            Self::Anonymous => user.is_none(),
            Self::Users => user.is_some(),
            Self::Itself(levels) => user.is_some_and(|user| match levels {
                0 => user == entry,
                up if *up > 0 => user.above(up.unsigned_abs()).as_ref() == Some(entry),
                down => entry.above(down.unsigned_abs()).as_ref() == Some(user),
            }),
            Self::Named(scope, base) => user.is_some_and(|user| scope.fits(user, base)),
            Self::Pattern(pattern) => pattern.is_match(&user.map(ToString::to_string).unwrap_or_default()),
            Self::Expanded(scope, text) => user.is_some_and(|user| {
                let text = expanded(text, &place.parts(entry));
                match scope {
                    Some(scope) => Dn::parse(&text).is_some_and(|base| scope.fits(user, &base)),
                    None => pattern(&text).is_ok_and(|pattern| pattern.is_match(&user.to_string())),
                }
            }),
            Self::Related | Self::Never => false,
            Self::From(range) => client.address.is_some_and(|address| range.contains(address)),
            Self::Unknown(_) => client.lucky,
            Self::Strength { bits, sasl } => client.bits >= *bits && (!sasl || user.is_some()),
        }
    }
}

/// Privileges of a client on an attribute of an entry, with the clauses that give them.
pub(crate) fn rights(
    rules: &[&Rule],
    entry: &Entry<'_>,
    attribute: &str,
    client: &Client,
) -> (Rights, Vec<Origin>) {
    let mut rights = Rights::default();
    let mut lines = Vec::new();
    for rule in rules.iter().filter(|rule| rule.fits(entry, attribute)) {
        let mut goes_on = false;
        for clause in &rule.clauses {
            if clause.own_value || !clause.who.iter().all(|who| who.fits(client, entry.name, &rule.place)) {
                continue;
            }
            let before = rights;
            rights = clause.change.to(before);
            if matches!(clause.change, Change::Set(_)) {
                lines.clear();
            }
            if before != rights || lines.is_empty() {
                lines.push(clause.origin);
            }
            match clause.next {
                Next::Stop => return (rights, lines),
                Next::Continue => {}
                Next::Break => {
                    goes_on = true;
                    break;
                }
            }
        }
        if !goes_on {
            return (Rights::default(), vec![rule.origin]);
        }
    }
    (Rights::default(), lines)
}
