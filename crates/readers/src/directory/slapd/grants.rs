//! What clients may do in a directory, from its access rules: tried for entries that stand for all others, and for the least privileged
//! clients.

use super::super::dn::Dn;
use super::access::{self, Client, Entry, Place, Rule, Scope, Who};
use super::rights::Rights;
use super::samples;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_model::served::Sources;
use trevlin_model::{Family, IpRange, Origin};

/// Attributes whose values are as good as a password, or let it be guessed.
pub(crate) const PASSWORDS: [&str; 8] = [
    "userpassword",
    "authpassword",
    "sambantpassword",
    "sambalmpassword",
    "sambapasswordhistory",
    "krbprincipalkey",
    "pwdhistory",
    "userpkcs12",
];

/// Attributes that decide what an account of a server with logins by the directory may do (RFC 2307).
const NUMBERS: [&str; 2] = ["uidnumber", "gidnumber"];

/// An attribute that no rule names.
const OTHER: &str = "*";

/// Most names of entries, users and addresses that are tried.
const MOST: usize = 48;

/// Kinds of rights.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Right {
    Read,
    Passwords,
    Write,
    /// Numbers of the own account.
    OwnNumbers,
}

/// Who is permitted: the least privileged client first.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum GrantedTo {
    Anonymous,
    AnyUser,
    /// Users whose names fit this.
    Users(String),
}

/// A right that is granted.
#[derive(Debug, Clone)]
pub(crate) struct Grant {
    pub(crate) right: Right,
    /// The entry with all below it, as it is written.
    pub(crate) base: String,
    pub(crate) client: GrantedTo,
    pub(crate) sources: Sources,
    /// Attributes, where it is not for all; password attributes of [`Right::Passwords`].
    pub(crate) attributes: Vec<String>,
    /// Lines that grant it, the deciding one first.
    pub(crate) lines: Vec<Origin>,
}

impl Grant {
    /// Whether another grant adds nothing to this one, which is for the entries at and below a name.
    fn covers(&self, other: &Self, name: Option<&Dn>, base: &Base) -> bool {
        let rest = other.sources.clone().without(&self.sources.ranges);
        let here = self.base == other.base
            || name.is_some_and(|name| base.samples.iter().all(|sample| sample.is_in(name)));
        let attributes = match self.right {
            Right::Read | Right::Write if self.attributes.is_empty() => true,
            _ => {
                !other.attributes.is_empty()
                    && other.attributes.iter().all(|one| self.attributes.contains(one))
            }
        };
        here && attributes
            && self.right == other.right
            && self.client <= other.client
            && rest.ranges.is_empty()
            && rest.names.iter().all(|name| self.sources.names.contains(name))
    }
}

/// Settings of a database that decide besides its rules.
pub(crate) struct Limits {
    /// Bits of encryption that a client can have.
    pub(crate) bits: u32,
    /// Whether clients without a login are turned away.
    pub(crate) login: bool,
    /// Whether nothing can be written.
    pub(crate) read_only: bool,
    /// Whether clients without a login may write (slapd.conf(5), allow update_anon).
    pub(crate) anonymous_writes: bool,
    /// Whether entries may be accounts of servers: the schema of RFC 2307 is loaded.
    pub(crate) accounts: bool,
}

/// An entry of the rules, with those that stand for the entries at and below it.
struct Base {
    /// Its name; none for a pattern that fits in several places.
    name: Option<Dn>,
    /// As it is written.
    text: String,
    samples: Vec<Dn>,
}

/// Grants in a database with these suffixes.
pub(crate) fn grants(rules: &[&Rule], suffixes: &[Dn], limits: &Limits) -> Vec<Grant> {
    let named: BTreeSet<&str> = rules.iter().flat_map(|rule| rule.named()).collect();
    let tried = Tried {
        rules,
        limits,
        accounts: limits.accounts || NUMBERS.iter().any(|one| named.contains(one)),
        passwords: PASSWORDS.into_iter().filter(|one| *one == PASSWORDS[0] || named.contains(one)).collect(),
        attributes: named
            .into_iter()
            .chain(rules.iter().flat_map(|rule| rule.of_classes()))
            .filter(|one| !PASSWORDS.contains(one))
            .collect::<BTreeSet<_>>()
            .into_iter()
            .collect(),
        filters: rules.iter().filter_map(|rule| rule.filter.as_deref()).collect(),
        addresses: addresses_of(rules),
        conditions: rules
            .iter()
            .flat_map(|rule| rule.clauses.iter().flat_map(|clause| &clause.who))
            .filter_map(|who| match who {
                Who::Unknown(text) => Some(text.as_str()),
                _ => None,
            })
            .collect(),
    };
    let clients = clients_of(rules, limits);
    let mut found: Vec<(Option<Dn>, Grant)> = Vec::new();
    for base in bases_of(rules, suffixes) {
        for right in [Right::Read, Right::Passwords, Right::Write, Right::OwnNumbers] {
            for (who, user) in &clients {
                let Some(grant) = tried.grant(right, &base, who, user.as_ref()) else { continue };
                if !found.iter().any(|(above, known)| known.covers(&grant, above.as_ref(), &base)) {
                    found.push((base.name.clone(), grant));
                }
            }
        }
    }
    found.into_iter().map(|one| one.1).collect()
}

/// Entries that rules tell apart: the suffixes, then those that rules name, those above first.
fn bases_of(rules: &[&Rule], suffixes: &[Dn]) -> Vec<Base> {
    let below = |name: &Dn| suffixes.iter().any(|suffix| name.is_in(suffix));
    let mut names: Vec<&Dn> = suffixes.iter().collect();
    let mut patterns: Vec<Base> = Vec::new();
    for rule in rules {
        match &rule.place {
            Place::Names(_, name) if below(name) => names.push(name),
            Place::Pattern(pattern) => {
                let texts = samples::of(pattern.as_str()).texts;
                let fits = texts.iter().filter_map(|text| Dn::parse(text)).filter(|name| below(name));
                let samples: Vec<Dn> = fits.collect();
                if !samples.is_empty() {
                    patterns.push(Base { name: None, text: rule.place_text.clone(), samples });
                }
            }
            _ => {}
        }
    }
    names.sort_by_key(|name| name.depth());
    let mut seen = BTreeSet::new();
    names.retain(|name| seen.insert(*name));
    let of_name = |name: &Dn| {
        let child = name.child("cn=a");
        // What is below two levels may be another rule's.
        let below = child.child("cn=a");
        Base { name: Some(name.clone()), text: name.to_string(), samples: vec![child, below, name.clone()] }
    };
    names.into_iter().map(of_name).chain(patterns).take(MOST).collect()
}

/// The least privileged clients, each with a user that stands for it.
fn clients_of(rules: &[&Rule], limits: &Limits) -> Vec<(GrantedTo, Option<Dn>)> {
    let mut found = Vec::new();
    if !limits.login {
        found.push((GrantedTo::Anonymous, None));
    }
    let user = |text: &str| Dn::parse(text).unwrap_or_default();
    found.push((GrantedTo::AnyUser, Some(user("cn=a,o=trevlin"))));
    let mut more = BTreeMap::new();
    for clause in rules.iter().flat_map(|rule| &rule.clauses) {
        for who in &clause.who {
            match who {
                Who::Named(Scope::One | Scope::Subtree | Scope::Children, base) if is_group(base) => {
                    more.insert(format!("users below {base}"), base.child("cn=a"));
                }
                Who::Pattern(pattern) => {
                    let samples = samples::of(pattern.as_str());
                    let first = samples.texts.iter().find_map(|text| Dn::parse(text));
                    if let Some(first) = first.filter(|_| samples.many) {
                        more.insert(format!("users {}", pattern.as_str()), first);
                    }
                }
                _ => {}
            }
        }
    }
    found.extend(more.into_iter().take(MOST).map(|(text, user)| (GrantedTo::Users(text), Some(user))));
    found
}

/// Whether entries below a name are many: it is that of an organisation or of a part of one.
fn is_group(name: &Dn) -> bool {
    name.depth() == 0 || matches!(name.kind(), "ou" | "dc" | "o" | "c" | "l" | "st")
}

/// Pieces of all addresses that rules tell apart; none where no rule names any.
fn addresses_of(rules: &[&Rule]) -> Vec<IpRange> {
    let who = rules.iter().flat_map(|rule| &rule.clauses).flat_map(|clause| &clause.who);
    let named: Vec<IpRange> = who
        .filter_map(|who| match who {
            Who::From(range) => Some(*range),
            _ => None,
        })
        .take(MOST)
        .collect();
    if named.is_empty() {
        return Vec::new();
    }
    let mut pieces = Vec::new();
    for family in [Family::V4, Family::V6] {
        let mut whole = vec![IpRange::all(family)];
        for range in named.iter().filter(|range| range.family() == family) {
            let cut = |piece: IpRange| -> Vec<IpRange> {
                let rest = Sources { ranges: vec![piece], ..Sources::default() }.without(&[*range]).ranges;
                rest.into_iter().chain(piece.intersection(range)).collect()
            };
            whole = whole.into_iter().flat_map(cut).collect();
        }
        pieces.extend(whole);
    }
    pieces
}

/// Rules, with the attributes, filters and addresses to try them on.
struct Tried<'a> {
    rules: &'a [&'a Rule],
    limits: &'a Limits,
    accounts: bool,
    passwords: Vec<&'a str>,
    /// Attributes that rules name, without those of passwords.
    attributes: Vec<&'a str>,
    filters: Vec<&'a str>,
    addresses: Vec<IpRange>,
    /// Conditions that the file does not decide.
    conditions: BTreeSet<&'a str>,
}

/// What one client may do at one entry.
#[derive(Default)]
struct Permitted {
    attributes: Vec<String>,
    lines: Vec<Origin>,
}

impl Permitted {
    /// Those of some attributes that are permitted, with the lines that permit each; none where none is.
    fn of(attributes: &[&str], may: impl Fn(&str) -> Option<Vec<Origin>>) -> Option<Self> {
        let mut found = Self::default();
        for attribute in attributes {
            if let Some(lines) = may(attribute) {
                found.attributes.push((*attribute).to_owned());
                found.lines.extend(lines);
            }
        }
        (!found.attributes.is_empty()).then_some(found)
    }
}

impl Tried<'_> {
    fn grant(&self, right: Right, base: &Base, who: &GrantedTo, user: Option<&Dn>) -> Option<Grant> {
        if (right >= Right::Write && self.limits.read_only)
            || (right == Right::Write && *who == GrantedTo::Anonymous && !self.limits.anonymous_writes)
            || (right == Right::OwnNumbers && (!self.accounts || *who != GrantedTo::AnyUser))
        {
            return None;
        }
        let mut sources = Sources::default();
        let mut first = None;
        let client = |address: Option<IpAddr>, lucky| Client {
            user: user.cloned(),
            address,
            bits: self.limits.bits,
            lucky,
        };
        let pieces: Vec<Option<IpRange>> = match self.addresses.as_slice() {
            [] => vec![None],
            all => all.iter().copied().map(Some).collect(),
        };
        for piece in pieces {
            let found = self.anywhere(right, base, &client(piece.map(|range| range.first()), false));
            if let Some(found) = found {
                match piece {
                    Some(range) => sources.ranges.push(range),
                    None => sources = Sources::everybody(),
                }
                first.get_or_insert(found);
            }
        }
        if first.is_none() && !self.conditions.is_empty() {
            first = self.anywhere(right, base, &client(None, true));
            if first.is_some() {
                sources.names = self.conditions.iter().map(|text| (*text).to_owned()).collect();
            }
        }
        let found = first?;
        if !self.addresses.is_empty() || !sources.names.is_empty() {
            sources.ranges = trevlin_model::IpRangeSet::from_iter(sources.ranges).into_ranges();
            sources.origins.clone_from(&found.lines);
        }
        Some(Grant {
            right,
            base: base.text.clone(),
            client: who.clone(),
            sources,
            attributes: found.attributes,
            lines: found.lines,
        })
    }

    /// The right at any of the entries, with the filters of rules fitting or not.
    fn anywhere(&self, right: Right, base: &Base, client: &Client) -> Option<Permitted> {
        let none = BTreeSet::new();
        let each = self.filters.iter().map(|filter| BTreeSet::from([*filter]));
        let filters: Vec<BTreeSet<&str>> = std::iter::once(none).chain(each).collect();
        // Rules about single values hold for some, where there are such rules.
        let values: &[bool] =
            if self.rules.iter().any(|rule| rule.values) { &[false, true] } else { &[false] };
        for name in &base.samples {
            for filters in &filters {
                for &values in values {
                    let entry = Entry { name, filters, values };
                    if let Some(found) = self.at(right, &entry, client) {
                        return Some(found);
                    }
                }
            }
        }
        None
    }

    fn at(&self, right: Right, entry: &Entry<'_>, client: &Client) -> Option<Permitted> {
        let writes = |attribute: &str, client: &Client| {
            let (rights, lines) = self.rights(entry, attribute, client);
            rights.has("az").then_some(lines)
        };
        match right {
            Right::Read | Right::Write => {
                let may = |attribute: &str| match right {
                    Right::Read => self.reads(entry, attribute, client),
                    _ => writes(attribute, client),
                };
                match may(OTHER) {
                    Some(lines) => Some(Permitted { attributes: Vec::new(), lines }),
                    None => Permitted::of(&self.attributes, may),
                }
            }
            Right::Passwords => Permitted::of(&self.passwords, |one| self.reads(entry, one, client)),
            // A part of an organisation does not log in.
            Right::OwnNumbers if is_group(entry.name) => None,
            Right::OwnNumbers => {
                let own = Client { user: Some(entry.name.clone()), ..client.clone() };
                Permitted::of(&NUMBERS, |one| writes(one, &own))
            }
        }
    }

    fn rights(&self, entry: &Entry<'_>, attribute: &str, client: &Client) -> (Rights, Vec<Origin>) {
        access::rights(self.rules, entry, attribute, client)
    }

    /// Whether a search shows an attribute, with the lines that permit it: the entry must be found and read, and a filter must be
    /// searched by (slapd.access(5), operation requirements).
    fn reads(&self, entry: &Entry<'_>, attribute: &str, client: &Client) -> Option<Vec<Origin>> {
        let (own, mut lines) = self.rights(entry, attribute, client);
        let (whole, more) = self.rights(entry, "entry", client);
        let searched = own.has("s") || self.rights(entry, "objectclass", client).0.has("s");
        if !own.has("r") || !whole.has("rs") || !searched {
            return None;
        }
        lines.extend(more);
        Some(lines)
    }
}
