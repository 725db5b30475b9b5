//! Common parts of the readers of services: known settings, listeners, permitted clients.

use crate::{addresses, growth};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::served::Sources;
use trevlin_model::{Export, Facts, Family, IpRange, Origin, Secret, SecretRecord, Taken};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Words {
    /// In order of their bytes.
    #[serde(deserialize_with = "in_one_text")]
    known: Vec<Box<str>>,
}

/// Words with commas between them: a TOML list of thousands takes longer to read than many an export.
fn in_one_text<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Vec<Box<str>>, D::Error> {
    let all = String::deserialize(from)?;
    Ok(all.split(',').map(|word| word.trim().into()).collect())
}

trevlin_model::table! { static KEYWORDS: BTreeMap<String, Words> = "../tables/served-keywords.toml"; }

/// Settings that programs know by their own sources. Few names are looked up here, so that the table is searched as it is.
const OWN_KEYWORDS: &str = include_str!("../tables/program-keywords.toml");

/// Whether a program has a setting by its own sources.
fn is_own(program: &str, name: &str) -> bool {
    let Some((_, section)) = OWN_KEYWORDS.split_once(&format!("\n[{program}]\n")) else { return false };
    let section = section.split("\n[").next().unwrap_or_default();
    let known = section.split_once("'''").map_or("", |(_, known)| known);
    !name.is_empty() && known.trim_end().trim_end_matches('\'').split(',').any(|word| word.trim() == name)
}

/// Whether a program has a setting of this name, in small letters: by its manual in several versions, or by its own sources. Settings
/// without relevance here are not looked at.
pub(crate) fn is_known(program: &str, name: &str) -> bool {
    let has = |words: &[Box<str>]| words.binary_search_by(|known| (**known).cmp(name)).is_ok();
    KEYWORDS.get(program).is_some_and(|words| has(&words.known)) || is_own(program, name)
}

/// The note for a setting that the program does not have.
pub(crate) fn unknown(manual: &str) -> String {
    format!("not a setting of {manual}; check its spelling against the manual of the version in use")
}

/// `yes`, `true`, `on`, `1` and their opposites, whatever their capitals.
pub(crate) fn truth(text: &str) -> Option<bool> {
    match text.to_ascii_lowercase().as_str() {
        "yes" | "true" | "on" | "1" => Some(true),
        "no" | "false" | "off" | "0" => Some(false),
        _ => None,
    }
}

/// `address`, `address:port`, `[address]:port`, `*:port`, `:port`. An asterisk or nothing means every address, as `None`.
pub(crate) fn host_and_port(text: &str) -> (Option<&str>, Option<u16>) {
    let (host, port) =
        if let Some((host, rest)) = text.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            (host, rest.strip_prefix(':'))
        } else if text.matches(':').count() == 1 {
            text.split_once(':').map_or((text, None), |(host, port)| (host, Some(port)))
        } else {
            (text, None)
        };
    (Some(host).filter(|host| !matches!(*host, "" | "*")), port.and_then(|port| port.parse().ok()))
}

/// The network for the beginning of an IPv4 address, as `10.4.`.
pub(crate) fn beginning(text: &str) -> Option<IpRange> {
    let digits = text.strip_suffix('.')?;
    let parts: Vec<u8> = digits.split('.').map(str::parse).collect::<Result<_, _>>().ok()?;
    if parts.is_empty() || parts.len() > 3 {
        return None;
    }
    let mut first = [0; 4];
    let mut last = [255; 4];
    first[..parts.len()].copy_from_slice(&parts);
    last[..parts.len()].copy_from_slice(&parts);
    IpRange::new(first.into(), last.into()).ok()
}

/// Addresses of a word in a host list; names are kept as names.
pub(crate) fn host(word: &str, into: &mut Sources) {
    // Shared lists are computed for each place: beyond the budget unknown sources may be permitted.
    if !growth::may_grow(size_of::<IpRange>() + size_of::<String>()) {
        if into.names.last().is_none_or(|last| last != BEYOND) {
            into.names.push(BEYOND.to_owned());
        }
        return;
    }
    let all = matches!(word.to_ascii_lowercase().as_str(), "all" | "*" | "any");
    if all {
        into.ranges.extend(Sources::everybody().ranges);
    } else if word.eq_ignore_ascii_case("localhost") {
        into.ranges.extend(loopback());
    } else if let Some(range) = beginning(word).or_else(|| addresses::range_or_prefix(word)) {
        into.ranges.push(range);
    } else {
        into.names.push(word.to_owned());
    }
}

/// Clients admitted by an allow list and a deny list, as Samba and rsync evaluate them: members of the first, otherwise those not on the
/// second; with an allow list alone no others (smb.conf(5), hosts allow; rsyncd.conf(5), hosts allow).
pub(crate) fn admitted(allow: Option<(Sources, Origin)>, deny: Option<(Sources, Origin)>) -> Sources {
    let origins = allow.iter().chain(&deny).map(|one| one.1).collect();
    let (ranges, names) = match (allow.map(|one| one.0), deny.map(|one| one.0)) {
        (None, None) => (Sources::everybody().ranges, Vec::new()),
        (Some(allow), None) => (allow.ranges, allow.names),
        (None, Some(deny)) => (Sources::everybody().without(&deny.ranges).ranges, Vec::new()),
        (Some(allow), Some(deny)) => {
            let mut rest = Sources::everybody().without(&deny.ranges).without(&allow.ranges).ranges;
            rest.extend(allow.ranges);
            (rest, allow.names)
        }
    };
    Sources { ranges, names, origins }
}

/// Clients that a list of rules admits, each with whether it permits: the first one that fits decides, and clients without a match are
/// admitted unless only listed ones are.
pub(crate) fn first_match(
    rules: impl IntoIterator<Item = (bool, Sources, Origin)>,
    named_only: bool,
) -> Sources {
    let (mut taken, mut found) = (Taken::default(), Sources::default());
    for (permits, meant, origin) in rules {
        found.origins.push(origin);
        let fits = meant.ranges.into_iter().flat_map(|range| taken.take(range));
        if permits {
            found.ranges.extend(fits);
            found.names.extend(meant.names);
        } else {
            fits.for_each(drop);
        }
    }
    if !named_only {
        found.ranges.extend(Sources::everybody().ranges.into_iter().flat_map(|range| taken.left_of(range)));
    }
    found
}

/// Lines that state something, without comments.
pub(crate) fn entries(export: &Export) -> impl Iterator<Item = &str> {
    export.lines().map(|line| line.text.trim()).filter(|text| !text.is_empty() && !text.starts_with('#'))
}

/// Words of a list before and behind its first `EXCEPT` (access.conf(5), hosts_access(5)); a second one names exceptions from the exceptions,
/// which are left out.
pub(crate) fn except<'l, 'a>(list: &'l [&'a str]) -> (&'l [&'a str], &'l [&'a str]) {
    let mut parts = list.split(|word| *word == "EXCEPT");
    (parts.next().unwrap_or_default(), parts.next().unwrap_or_default())
}

/// The addresses of the device itself.
pub(crate) fn loopback() -> [IpRange; 2] {
    let v4 = IpRange::new([127, 0, 0, 0].into(), [127, 255, 255, 255].into());
    [v4.unwrap_or(IpRange::all(Family::V4)), IpRange::from(IpAddr::from(std::net::Ipv6Addr::LOCALHOST))]
}

/// Represents addresses that were not examined.
const BEYOND: &str = "addresses beyond a limit";

/// A further copy of a list, where the export may still grow by it; beyond the budget it counts as any address. The limit is reported with
/// the export.
pub(crate) fn handed_on(list: &Sources) -> Sources {
    if growth::may_grow(size(list)) {
        list.clone()
    } else {
        Sources {
            names: vec![BEYOND.to_owned()],
            origins: list.origins.iter().take(1).copied().collect(),
            ..Sources::everybody()
        }
    }
}

fn size(list: &Sources) -> usize {
    let names: usize = list.names.iter().map(String::len).sum();
    list.ranges.len() * size_of::<IpRange>() + list.origins.len() * size_of::<Origin>() + names
}

/// Who is of two lists, the second of which many parts have: beyond the limit the first counts alone, which is more than both.
pub(crate) fn of_both(own: &Sources, whole: &Sources) -> Sources {
    if growth::may_grow(size(whole)) {
        return own.and(whole);
    }
    let mut names = own.names.clone();
    names.push(BEYOND.to_owned());
    Sources { names, ..own.clone() }
}

/// Who is admitted by pairs of lists that were met, by where their texts are: most parts of a service share one.
#[derive(Default)]
pub(crate) struct Admitted(BTreeMap<[Option<*const u8>; 2], Option<Sources>>);

impl Admitted {
    /// Clients admitted by lists of these texts; `work_out` computes it on first use.
    pub(crate) fn by(
        &mut self,
        texts: [Option<&str>; 2],
        work_out: impl FnOnce() -> Option<Sources>,
    ) -> Option<Sources> {
        let known = self.0.entry(texts.map(|text| text.map(str::as_ptr))).or_insert_with(work_out);
        known.as_ref().map(handed_on)
    }
}

/// Keeps a secret, for redaction and for comparing. Nothing is kept of an empty one.
pub(crate) fn hold(
    export: &Export,
    facts: &mut Facts,
    value: &str,
    kind: SecretKind,
    owner: &str,
) -> Option<Arc<SecretRecord>> {
    let inner = unquoted(value);
    if inner.is_empty() {
        return None;
    }
    let held = Arc::new(SecretRecord {
        secret: Secret::new(inner),
        kind,
        owner: owner.to_owned(),
        origin: export.origin_of(value),
    });
    facts.secrets.push(Arc::clone(&held));
    Some(held)
}

/// Masks the login between `://` and `@` in a URL.
pub(crate) fn mask_login(export: &Export, facts: &mut Facts, word: &str) {
    let login = word.split_once("://").and_then(|(_, rest)| rest.split(['/', '?']).next()?.rsplit_once('@'));
    if let Some((login, _)) = login {
        facts.masked_places.push(export.origin_of(login));
    }
}

/// A text without the quotes around it.
pub(crate) fn unquoted(text: &str) -> &str {
    ['"', '\''].into_iter().find_map(|quote| text.strip_prefix(quote)?.strip_suffix(quote)).unwrap_or(text)
}

/// The words of a line. Quotes of either kind hold a word together and do not belong to it; `#` at the beginning of a word ends
/// the line.
pub(crate) fn words(text: &str) -> Vec<&str> {
    split(text, true)
}

/// The same where `#` begins a comment at the beginning of the line only, and belongs to a word elsewhere.
pub(crate) fn words_of_statement(text: &str) -> Vec<&str> {
    if text.trim_start().starts_with('#') { Vec::new() } else { split(text, false) }
}

fn split(text: &str, comments: bool) -> Vec<&str> {
    let mut found = Vec::new();
    let mut rest = text.trim_start();
    while !(rest.is_empty() || comments && rest.starts_with('#')) {
        let end = match rest.as_bytes()[0] {
            quote @ (b'"' | b'\'') => match rest[1..].find(char::from(quote)) {
                Some(end) => {
                    found.push(&rest[1..=end]);
                    rest = rest[end + 2..].trim_start();
                    continue;
                }
                None => rest.len(),
            },
            _ => rest.find(char::is_whitespace).unwrap_or(rest.len()),
        };
        found.push(&rest[..end]);
        rest = rest[end..].trim_start();
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_of_the_programs_own_sources() {
        #[derive(Deserialize)]
        struct Own {
            version: String,
            known: String,
        }
        let all: BTreeMap<String, Own> = toml::from_str(OWN_KEYWORDS).unwrap();
        assert!(all.len() > 15);
        for (program, own) in &all {
            assert!(!own.version.is_empty(), "{program}");
            let words: Vec<&str> = own.known.split(',').map(str::trim).collect();
            for word in [words[0], words[words.len() / 2], words[words.len() - 1]] {
                assert!(is_own(program, word), "{program}: {word}");
            }
            assert!(!is_own(program, "zz-made-up") && !is_own(program, ""), "{program}");
        }
        assert!(is_known("networkd", "Route.MultiPathRoute") && !is_known("networkd", "Route.Gatewayy"));
    }

    #[test]
    fn places() {
        for (text, wanted) in [
            ("80", (Some("80"), None)),
            ("*:80", (None, Some(80))),
            (":80", (None, Some(80))),
            ("10.4.0.9:80", (Some("10.4.0.9"), Some(80))),
            ("[::1]:80", (Some("::1"), Some(80))),
            ("::1", (Some("::1"), None)),
            ("[::]", (Some("::"), None)),
        ] {
            assert_eq!(host_and_port(text), wanted, "{text}");
        }
    }

    #[test]
    fn hosts() {
        for (word, wanted) in [
            ("10.4.", "10.4.0.0/16"),
            ("10.4.0.0/255.255.255.0", "10.4.0.0/24"),
            ("10.4.0.9", "10.4.0.9"),
            ("ALL", "any address"),
            ("localhost", "127.0.0.0/8, ::1"),
            ("@yard", "@yard"),
            ("300.", "300."),
        ] {
            let mut sources = Sources::default();
            host(word, &mut sources);
            assert_eq!(sources.words(), wanted, "{word}");
        }
    }

    #[test]
    fn words_of_a_line() {
        assert_eq!(words(" a 'b c' \"d\" e#f # g"), ["a", "b c", "d", "e#f"]);
        assert_eq!(words("'open"), ["'open"]);
        assert!(words("# nothing").is_empty());
        assert_eq!(words_of_statement(" a #b"), ["a", "#b"]);
        assert!(words_of_statement(" # nothing").is_empty());
    }

    #[test]
    fn every_program_has_its_words() {
        assert!(KEYWORDS.len() > 5);
        for (program, words) in &*KEYWORDS {
            assert!(words.known.len() > 10, "{program}");
            assert!(words.known.iter().all(|word| **word == word.to_lowercase()), "{program}");
            assert!(words.known.is_sorted() && !words.known[0].is_empty(), "{program}");
        }
    }
}
