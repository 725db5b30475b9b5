//! Names that patterns fit, on which rules with patterns are tried.

use regex_syntax::hir::{Class, Hir, HirKind};

/// Names of a pattern, and how many it fits.
pub(crate) struct Samples {
    /// Some texts that fit.
    pub(crate) texts: Vec<String>,
    /// Whether further ones fit, without an end.
    pub(crate) many: bool,
}

/// Most texts of one pattern.
const MOST: usize = 16;

/// Samples of a pattern: the shortest of each of its branches, with at least one letter where any number may stand.
pub(crate) fn of(pattern: &str) -> Samples {
    match regex_syntax::parse(pattern) {
        Ok(hir) => {
            let many = hir.properties().maximum_len().is_none() || !is_anchored(&hir);
            Samples { texts: texts(&hir), many }
        }
        Err(_) => Samples { texts: Vec::new(), many: true },
    }
}

/// Whether nothing may stand before or behind it.
fn is_anchored(hir: &Hir) -> bool {
    let looks = hir.properties();
    looks.look_set_prefix().contains(regex_syntax::hir::Look::Start)
        && looks.look_set_suffix().contains(regex_syntax::hir::Look::End)
}

fn texts(hir: &Hir) -> Vec<String> {
    match hir.kind() {
        HirKind::Empty | HirKind::Look(_) => vec![String::new()],
        HirKind::Literal(literal) => vec![String::from_utf8_lossy(&literal.0).into_owned()],
        HirKind::Class(class) => letter(class).into_iter().map(String::from).collect(),
        HirKind::Capture(group) => texts(&group.sub),
        HirKind::Repetition(one) => {
            let inner = texts(&one.sub);
            let optional = one.min == 0 && one.max == Some(1);
            let times = if optional { 0 } else { one.min.clamp(1, 8) };
            let longest = inner.into_iter().map(|text| text.repeat(times as usize));
            if one.max == Some(0) { vec![String::new()] } else { longest.take(MOST).collect() }
        }
        HirKind::Concat(parts) => {
            let mut found = vec![String::new()];
            for part in parts {
                let more = texts(part);
                let joined =
                    found.iter().flat_map(|begin| more.iter().map(move |end| format!("{begin}{end}")));
                found = joined.take(MOST).collect();
            }
            found
        }
        HirKind::Alternation(branches) => branches.iter().flat_map(texts).take(MOST).collect(),
    }
}

/// A letter of a class: a small one or a digit where it has one.
fn letter(class: &Class) -> Option<char> {
    let has = |wanted: char| match class {
        Class::Unicode(class) => class.iter().any(|range| range.start() <= wanted && wanted <= range.end()),
        Class::Bytes(class) => class.iter().any(|range| {
            u32::from(range.start()) <= wanted as u32 && wanted as u32 <= u32::from(range.end())
        }),
    };
    ('a'..='z').chain('0'..='9').chain([',', '=', ' ', '-', '.']).find(|letter| has(*letter))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns() {
        for (pattern, wanted, many) in [
            ("^uid=([^,]+),ou=people,dc=x$", "uid=a,ou=people,dc=x", true),
            ("^(.+,)?dc=x$", "dc=x", true),
            ("^(cn|uid)=a,dc=x$", "cn=a,dc=x uid=a,dc=x", false),
            ("dc=x", "dc=x", true),
            ("^cn=[0-9]{3},dc=x$", "cn=000,dc=x", false),
            ("(", "", true),
        ] {
            let found = of(pattern);
            assert_eq!((found.texts.join(" ").as_str(), found.many), (wanted, many), "{pattern}");
        }
    }
}
