//! Patterns with `*` and `?`, in the variants of daemons: each supports some of the shell's special characters.

/// Which signs mean something, besides `*` for any letters and `?` for one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Signs {
    /// No others (ssh_config(5), PATTERNS).
    Plain,
    /// `[a-z]` and `[!a-z]` as well (glob(7)).
    Sets,
}

/// Whether a text matches a pattern. Slashes and dots are ordinary characters: paths are matched part by part. Where several stars could
/// match a character, the last one does: backtracking further yields no other result, and would not end for patterns with many stars.
#[must_use]
pub fn matches(text: &str, pattern: &str, signs: Signs) -> bool {
    let (text, pattern): (Vec<char>, Vec<char>) = (text.chars().collect(), pattern.chars().collect());
    let (mut at, mut in_pattern) = (0, 0);
    // Behind the last star, and the letter that it has not taken yet.
    let mut star: Option<(usize, usize)> = None;
    while at < text.len() {
        if pattern.get(in_pattern) == Some(&'*') {
            star = Some((in_pattern + 1, at));
            in_pattern += 1;
        } else if let Some(length) = one_letter(text[at], &pattern[in_pattern..], signs) {
            in_pattern += length;
            at += 1;
        } else if let Some((behind, taken)) = star {
            star = Some((behind, taken + 1));
            (in_pattern, at) = (behind, taken + 1);
        } else {
            return false;
        }
    }
    pattern[in_pattern..].iter().all(|sign| *sign == '*')
}

/// The length of the pattern element that matches a character, if it does.
fn one_letter(letter: char, pattern: &[char], signs: Signs) -> Option<usize> {
    match pattern.first()? {
        '?' => Some(1),
        // The first letter of a set may be its own end.
        '[' if signs == Signs::Sets => {
            let negated = matches!(pattern.get(1), Some('!' | '^'));
            let first = if negated { 2 } else { 1 };
            let Some(length) = pattern.iter().skip(first + 1).position(|one| *one == ']') else {
                return (letter == '[').then_some(1);
            };
            let end = first + 1 + length;
            (in_set(letter, &pattern[first..end]) != negated).then_some(end + 1)
        }
        wanted => (*wanted == letter).then_some(1),
    }
}

/// Whether a letter is in a set: letters, and ranges of them (glob(7), "Ranges"). A hyphen at either end is one.
fn in_set(letter: char, set: &[char]) -> bool {
    let mut rest = set;
    loop {
        match rest {
            [first, '-', last, more @ ..] => {
                if (*first..=*last).contains(&letter) {
                    return true;
                }
                rest = more;
            }
            [one, more @ ..] => {
                if *one == letter {
                    return true;
                }
                rest = more;
            }
            [] => return false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use globset::GlobBuilder;
    use proptest::prelude::*;

    /// As others read it; none where they take it for no pattern.
    fn reference(text: &str, pattern: &str) -> Option<bool> {
        let glob = GlobBuilder::new(pattern).literal_separator(false).backslash_escape(false).build().ok()?;
        Some(glob.compile_matcher().is_match(text))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2_000))]

        #[test]
        fn plain_patterns_are_read_as_others_read_them(text in "[ab*?.]{0,8}", pattern in "[ab*?.]{0,8}") {
            // Two stars mean something else there, and here what one means.
            let single = pattern.chars().fold(String::new(), |mut all, sign| {
                if !(sign == '*' && all.ends_with('*')) {
                    all.push(sign);
                }
                all
            });
            prop_assert_eq!(Some(matches(&text, &pattern, Signs::Plain)), reference(&text, &single));
        }

        #[test]
        fn sets_are_read_as_others_read_them(
            text in "[abc\\-\\]!]{0,4}",
            pattern in "(a|\\*|\\?|\\[!?[abc\\]\\-]{1,4}\\]){1,3}",
        ) {
            if let Some(wanted) = reference(&text, &pattern).filter(|_| !pattern.contains("**")) {
                prop_assert_eq!(matches(&text, &pattern, Signs::Sets), wanted, "{} {}", text, pattern);
            }
        }
    }

    #[test]
    fn signs_mean_what_the_daemon_takes_them_for() {
        for (text, pattern, plain, sets) in [
            ("ann", "a*n*", true, true),
            ("", "*", true, true),
            ("ann", "an", false, false),
            ("b", "[a-c]", false, true),
            ("-", "[a-c]", false, false),
            ("-", "[a-]", false, true),
            ("]", "[]a]", false, true),
            ("x", "[!]a]", false, true),
            ("[a-c]", "[a-c]", true, false),
            ("[a", "[a", true, true),
        ] {
            assert_eq!(matches(text, pattern, Signs::Plain), plain, "{text} {pattern}");
            assert_eq!(matches(text, pattern, Signs::Sets), sets, "{text} {pattern}");
        }
    }
}
