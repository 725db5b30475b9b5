//! Access control: nested `Require`, and the older `Order`, `Allow`, `Deny`.

use crate::angles::Directive;
use crate::serving;
use crate::web::{Way, both};
use trevlin_model::Origin;
use trevlin_model::served::{AuthRequirement, Sources};

/// Alternative ways. Forbidding conditions only limit the others beside them.
pub(super) fn any(all: &[&Directive<'_>]) -> Vec<Way> {
    all.iter().flat_map(|one| required(one)).collect()
}

/// Ways that meet one entry of each list.
pub(super) fn all_of(lists: &[Vec<Way>]) -> Vec<Way> {
    let mut found: Option<Vec<Way>> = None;
    for list in lists {
        found = Some(match found {
            None => list.clone(),
            Some(held) => {
                held.iter().flat_map(|one| list.iter().map(move |other| both(one, other))).collect()
            }
        });
    }
    found.unwrap_or_default().into_iter().filter(|way| !way.sources.is_nobody()).collect()
}

fn required(one: &Directive<'_>) -> Vec<Way> {
    let way = |sources: Sources, asked| Way { sources, asked, origin: one.origin };
    match one.name.as_str() {
        "requireany" => any(&one.children().iter().collect::<Vec<_>>()),
        "requireall" => {
            let mut lists = Vec::new();
            let mut gone = Vec::new();
            for child in one.children() {
                match child.name.as_str() {
                    "requirenone" => {
                        gone.extend(
                            child.children().iter().flat_map(required).flat_map(|way| way.sources.ranges),
                        );
                    }
                    _ if child.first() == "not" => {
                        gone.extend(meant(child, &child.words[1..]).sources.ranges)
                    }
                    _ => lists.push(required(child)),
                }
            }
            let held = all_of(&lists);
            held.into_iter().map(|way| Way { sources: way.sources.clone().without(&gone), ..way }).collect()
        }
        "requirenone" => Vec::new(),
        "require" if one.first() == "not" => Vec::new(),
        "require" => {
            let found = meant(one, &one.words);
            if found.sources.is_nobody() { Vec::new() } else { vec![found] }
        }
        _ => vec![way(Sources::everybody(), AuthRequirement::Nothing)],
    }
}

/// Clients that a line of `Require` permits.
fn meant(one: &Directive<'_>, words: &[&str]) -> Way {
    let kind = words.first().map_or(String::new(), |word| word.to_ascii_lowercase());
    let mut sources = Sources { origins: vec![one.origin], ..Sources::default() };
    let mut asked = AuthRequirement::Nothing;
    match kind.as_str() {
        "all" if words.get(1).is_some_and(|word| word.eq_ignore_ascii_case("denied")) => {}
        "all" => sources = Sources::everybody(),
        "local" => sources.ranges.extend(serving::loopback()),
        "ip" => words[1..].iter().for_each(|word| serving::host(&dotted(word), &mut sources)),
        "host" | "forward-dns" => sources.names.extend(words[1..].iter().map(|word| (*word).to_owned())),
        // A page open to any client under a condition on the method or on a variable.
        "method" | "env" | "expr" => sources.names.push(words.join(" ")),
        _ => {
            sources = Sources::everybody();
            asked = AuthRequirement::Password;
        }
    }
    Way { sources, asked, origin: one.origin }
}

/// The beginning of an address with its dot: `10.4` becomes `10.4.`.
fn dotted(word: &str) -> String {
    let short = word.bytes().filter(|byte| *byte == b'.').count() < 3 && !word.contains([':', '/']);
    if short && !word.ends_with('.') { format!("{word}.") } else { word.to_owned() }
}

/// `Order`, `Allow from`, `Deny from` (mod_access_compat).
pub(super) fn ordered(all: &[&Directive<'_>]) -> Way {
    let hosts = |name: &str| {
        let mut found = Sources::default();
        for one in all.iter().filter(|one| one.name == name) {
            found.origins.push(one.origin);
            let words = one.words.iter().filter(|word| !word.eq_ignore_ascii_case("from"));
            words.for_each(|word| {
                serving::host(
                    &if word.starts_with(|letter: char| letter.is_ascii_digit()) {
                        dotted(word)
                    } else {
                        (*word).to_owned()
                    },
                    &mut found,
                )
            });
        }
        found
    };
    let (allow, deny) = (hosts("allow"), hosts("deny"));
    let order = all
        .iter()
        .rev()
        .find(|one| one.name == "order")
        .map_or(String::new(), |one| one.words.concat().to_ascii_lowercase());
    let origins: Vec<Origin> = allow.origins.iter().chain(&deny.origins).copied().collect();
    // `allow,deny` keeps out whom nothing names, and a denial wins; `deny,allow`, the default, lets them in, and an allowance wins.
    let mut sources = if order.starts_with("allow") {
        allow.without(&deny.ranges)
    } else {
        let mut rest = Sources::everybody().without(&deny.ranges).without(&allow.ranges);
        rest.ranges.extend(allow.ranges);
        rest.names = allow.names;
        rest
    };
    if !sources.is_everybody() {
        sources.origins = origins;
    }
    Way { sources, asked: AuthRequirement::Nothing, origin: all[0].origin }
}
