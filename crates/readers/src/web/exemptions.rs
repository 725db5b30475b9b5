//! Requests that a rule of HAProxy accepts without the login (Configuration Manual, http-request auth; Using ACLs).

use crate::serving;
use trevlin_model::served::Sources;

/// One comparison of a condition: the definitions of its access list, of which one must hold, or the words between its braces.
struct Term<'w> {
    negated: bool,
    definitions: Vec<Vec<&'w str>>,
}

/// Requests without the login.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Exemption {
    /// From these addresses.
    From(Vec<trevlin_model::IpRange>),
    /// For pages below this path.
    Path(String),
    /// For all but the pages below this path, the only one with a login.
    OtherPaths(String),
    /// On another condition, which any client may meet.
    Any,
}

/// Requests that a rule `http-request auth … if CONDITION` or `unless CONDITION` exempts. `acl` gives the definitions of a list by its name.
pub(super) fn of<'w>(words: &[&'w str], acl: &dyn Fn(&str) -> Vec<Vec<&'w str>>) -> Vec<Exemption> {
    let Some(at) = words.iter().position(|word| matches!(*word, "if" | "unless")) else { return Vec::new() };
    let alternatives = alternatives(&words[at + 1..], acl);
    if words[at] == "unless" {
        return alternatives.iter().filter_map(|terms| met(terms)).collect();
    }
    match alternatives.as_slice() {
        [terms] => terms.iter().filter_map(|term| failed(term)).collect(),
        // Where one of several conditions demands the login, no request is known to be exempt.
        _ => Vec::new(),
    }
}

fn alternatives<'w>(words: &[&'w str], acl: &dyn Fn(&str) -> Vec<Vec<&'w str>>) -> Vec<Vec<Term<'w>>> {
    let mut found = vec![Vec::new()];
    let (mut words, mut negated) = (words.iter().copied(), false);
    while let Some(word) = words.next() {
        if matches!(word, "or" | "||") {
            found.push(Vec::new());
            continue;
        }
        let bare = word.trim_start_matches('!');
        negated ^= (word.len() - bare.len()) % 2 == 1;
        let definitions = match bare {
            "" => continue,
            "{" => vec![words.by_ref().take_while(|word| *word != "}").collect()],
            name => acl(name),
        };
        if let Some(terms) = found.last_mut() {
            terms.push(Term { negated, definitions });
        }
        negated = false;
    }
    found.retain(|terms| !terms.is_empty());
    found
}

impl<'w> Term<'w> {
    /// Whether each definition uses this function.
    fn asks(&self, name: &str) -> bool {
        let is = |definition: &Vec<&str>| {
            definition.first().is_some_and(|word| word.split(['(', ',']).next() == Some(name))
        };
        !self.definitions.is_empty() && self.definitions.iter().all(is)
    }

    fn values(&self) -> impl Iterator<Item = &'w str> + '_ {
        let all = self.definitions.iter().flat_map(|definition| definition.iter().skip(1).copied());
        all.filter(|word| !word.starts_with('-'))
    }

    fn sources(&self) -> Vec<trevlin_model::IpRange> {
        let mut sources = Sources::default();
        self.values().for_each(|word| serving::host(word, &mut sources));
        sources.ranges
    }

    fn path(&self) -> Option<String> {
        let asks = ["path", "path_beg", "path_dir", "url_beg"].iter().any(|name| self.asks(name));
        asks.then(|| self.values().next()).flatten().map(str::to_owned)
    }
}

/// The exemption of requests that meet all terms; none where a login is among them.
fn met(terms: &[Term<'_>]) -> Option<Exemption> {
    let is_login = |term: &Term<'_>| term.asks("http_auth") || term.asks("http_auth_group");
    if terms.iter().any(|term| is_login(term) && !term.negated) {
        return None;
    }
    let of = |term: &Term<'_>| (!term.negated && term.asks("src")).then(|| Exemption::From(term.sources()));
    let by_path = |term: &Term<'_>| term.path().filter(|_| !term.negated).map(Exemption::Path);
    let found = terms.iter().find_map(of).or_else(|| terms.iter().find_map(by_path));
    Some(found.unwrap_or(Exemption::Any))
}

/// The exemption of requests that do not meet a term which the login depends on.
fn failed(term: &Term<'_>) -> Option<Exemption> {
    if term.asks("http_auth") || term.asks("http_auth_group") {
        return None;
    }
    Some(match (term.negated, term.path()) {
        (true, _) if term.asks("src") => Exemption::From(term.sources()),
        (true, Some(path)) => Exemption::Path(path),
        (false, Some(path)) => Exemption::OtherPaths(path),
        _ => Exemption::Any,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conditions() {
        let acl = |name: &str| match name {
            "near" => vec![vec!["src", "10.4.0.0/16"], vec!["src", "10.5.0.9"]],
            "known" => vec![vec!["http_auth(users)"]],
            "tool" => vec![vec!["req.hdr(x-tool)", "-m", "found"]],
            _ => Vec::new(),
        };
        for (rule, wanted) in [
            ("http-request auth", "[]"),
            ("http-request auth unless { http_auth(users) }", "[]"),
            ("http-request auth unless known", "[]"),
            ("http-request auth unless near or known", "[From([10.4.0.0-10.4.255.255, 10.5.0.9])]"),
            ("http-request auth if !known !near", "[From([10.4.0.0-10.4.255.255, 10.5.0.9])]"),
            ("http-request auth unless known || tool", "[Any]"),
            ("http-request auth if ! known", "[]"),
            ("http-request auth unless known or { path_beg -i /api }", "[Path(\"/api\")]"),
            ("http-request auth if { path_beg /admin } !known", "[OtherPaths(\"/admin\")]"),
            ("http-request auth if !{ path_beg /api }", "[Path(\"/api\")]"),
            ("http-request auth unless known near", "[]"),
            ("http-request auth if { method POST }", "[Any]"),
        ] {
            let words: Vec<&str> = rule.split(' ').collect();
            assert_eq!(format!("{:?}", of(&words, &acl)), wanted, "{rule}");
        }
    }
}
