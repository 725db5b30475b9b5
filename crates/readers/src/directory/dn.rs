//! Distinguished names (RFC 4514), as far as they are compared.

/// A distinguished name: its parts from the entry to the root, in small letters and without blanks around their signs.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Default)]
pub(crate) struct Dn(Vec<String>);

impl Dn {
    /// The name that a text is; none where a part has no type and value.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        if text.trim().is_empty() {
            return Some(Self::default());
        }
        let parts = split(text, [',', ';']).into_iter().map(|part| {
            let pairs = split(part, ['+', '+']).into_iter().map(|pair| {
                let (kind, value) = pair.split_once('=')?;
                let (kind, value) = (kind.trim(), value.trim().trim_matches('"'));
                // A pattern has letters that no name has unless they are escaped.
                let named = kind.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-.".contains(&byte));
                (named && !kind.is_empty()).then(|| format!("{}={}", short(kind), value.to_lowercase()))
            });
            let mut pairs: Vec<String> = pairs.collect::<Option<_>>()?;
            pairs.sort();
            Some(pairs.join("+"))
        });
        parts.collect::<Option<_>>().map(Self)
    }

    /// How many parts it has.
    pub(crate) fn depth(&self) -> usize {
        self.0.len()
    }

    /// Whether it is another name or below it.
    pub(crate) fn is_in(&self, other: &Self) -> bool {
        self.0.ends_with(&other.0)
    }

    /// Whether it is directly below another.
    pub(crate) fn is_child_of(&self, other: &Self) -> bool {
        self.depth() == other.depth() + 1 && self.is_in(other)
    }

    /// The name of an entry directly below.
    pub(crate) fn child(&self, part: &str) -> Self {
        let mut parts = vec![part.to_owned()];
        parts.extend(self.0.iter().cloned());
        Self(parts)
    }

    /// The name `levels` above it.
    pub(crate) fn above(&self, levels: usize) -> Option<Self> {
        self.0.get(levels..).map(|parts| Self(parts.to_vec()))
    }

    /// The type of its first part.
    pub(crate) fn kind(&self) -> &str {
        self.0.first().and_then(|part| part.split('=').next()).unwrap_or_default()
    }
}

impl std::fmt::Display for Dn {
    fn fmt(&self, to: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        to.write_str(&self.0.join(","))
    }
}

/// The short name of a type that has a long one (RFC 4519).
fn short(kind: &str) -> String {
    match kind.to_ascii_lowercase().as_str() {
        "commonname" => "cn".into(),
        "domaincomponent" => "dc".into(),
        "organizationalunitname" => "ou".into(),
        "organizationname" => "o".into(),
        "countryname" => "c".into(),
        "userid" => "uid".into(),
        other => other.to_owned(),
    }
}

/// Pieces between signs that are neither escaped nor in quotes.
fn split(text: &str, signs: [char; 2]) -> Vec<&str> {
    let (mut found, mut start, mut quoted, mut escaped) = (Vec::new(), 0, false, false);
    for (at, letter) in text.char_indices() {
        match letter {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '"' => quoted = !quoted,
            sign if !quoted && signs.contains(&sign) => {
                found.push(&text[start..at]);
                start = at + sign.len_utf8();
            }
            _ => {}
        }
    }
    found.push(&text[start..]);
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names() {
        let of = |text: &str| Dn::parse(text).unwrap();
        let base = of("dc=Quay, dc=example");
        assert_eq!(base.to_string(), "dc=quay,dc=example");
        assert_eq!(of("uidNumber=0+gidNumber=0,cn=x"), of("gidnumber=0+uidnumber=0,CN=x"));
        assert_eq!(of("cn=Rossi\\, Ann,dc=quay,dc=example").depth(), 3);
        assert!(base.child("cn=x").is_child_of(&base) && base.child("cn=x").child("cn=y").is_in(&base));
        assert!(!of("cn=x,dc=other").is_in(&base) && of("").depth() == 0 && base.is_in(&of("")));
        assert_eq!(base.above(1), Some(of("dc=example")));
        assert_eq!(base.above(3), None);
        assert!(Dn::parse("people").is_none() && Dn::parse("[^,]+=x,dc=a").is_none());
    }
}
