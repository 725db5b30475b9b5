//! Privileges of slapd (slapd.access(5), the access field).

/// Privileges.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Rights(u16);

impl Rights {
    const LETTERS: [(char, u16); 9] =
        [('m', 256), ('w', 192), ('a', 64), ('z', 128), ('r', 16), ('s', 8), ('c', 4), ('x', 2), ('d', 1)];

    fn of_letters(letters: &str) -> Option<Self> {
        if letters == "0" {
            return Some(Self(0));
        }
        let bit = |letter| Self::LETTERS.iter().find(|known| known.0 == letter).map(|known| known.1);
        letters.chars().map(bit).try_fold(0, |sum, bit| Some(sum | bit?)).map(Self)
    }

    fn of_level(level: &str) -> Option<Self> {
        let letters = match level.to_ascii_lowercase().as_str() {
            "none" => "0",
            "disclose" => "d",
            "auth" => "dx",
            "compare" => "dxc",
            "search" => "dxcs",
            "read" => "dxcsr",
            "add" => "dxcsra",
            "delete" => "dxcsrz",
            "write" => "dxcsraz",
            "manage" => "dxcsrazm",
            _ => return None,
        };
        Self::of_letters(letters)
    }

    /// Whether all of these are among them.
    pub(crate) fn has(self, letters: &str) -> bool {
        Self::of_letters(letters).is_some_and(|wanted| self.0 & wanted.0 == wanted.0)
    }
}

/// Effect of a clause on the privileges so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Change {
    Set(Rights),
    Add(Rights),
    Remove(Rights),
}

impl Change {
    /// The change that a word states: a level, or letters behind a sign.
    pub(crate) fn of(word: &str) -> Option<Self> {
        if let Some(level) = Rights::of_level(word) {
            return Some(Self::Set(level));
        }
        let (sign, letters) = word.split_at_checked(1)?;
        let rights = Rights::of_letters(letters)?;
        match sign {
            "=" => Some(Self::Set(rights)),
            "+" => Some(Self::Add(rights)),
            "-" => Some(Self::Remove(rights)),
            _ => None,
        }
    }

    /// The privileges after it.
    pub(crate) fn to(self, rights: Rights) -> Rights {
        match self {
            Self::Set(set) => set,
            Self::Add(more) => Rights(rights.0 | more.0),
            Self::Remove(less) => Rights(rights.0 & !less.0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_and_letters() {
        let after = |words: &[&str]| {
            words.iter().fold(Rights::default(), |rights, word| Change::of(word).unwrap().to(rights))
        };
        for (words, has, lacks) in [
            (&["read"][..], "rscxd", "a"),
            (&["write"], "az", "m"),
            (&["write"], "w", "m"),
            (&["=rs", "+c", "-s"], "rc", "s"),
            (&["read", "none"], "", "d"),
            (&["=xw"], "wx", "r"),
            (&["auth"], "x", "c"),
        ] {
            assert!(after(words).has(has) && !after(words).has(lacks), "{words:?}");
        }
        assert!(Change::of("raed").is_none() && Change::of("=q").is_none() && Change::of("").is_none());
    }
}
