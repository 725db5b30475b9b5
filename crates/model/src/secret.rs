//! Secrets: read once, compared and graded here, and never shown.
//!
//! A [`Secret`] has no `Display` and no `Serialize`, its `Debug` shows nothing, and it is wiped when dropped.
//! What leaves this module is its kind, a class of length, a grade, whether two are equal, and a copy of a text
//! with every secret masked.

use crate::{ExportId, Origin};
use secrecy::{ExposeSecret, SecretString};
use std::collections::BTreeMap;
use std::sync::Arc;
use zeroize::Zeroizing;

/// Longest prefix that is graded: estimating is quadratic, and nothing this long is weak for want of more.
const GRADED_CHARACTERS: usize = 100;

/// Shortest secret, in bytes, that is masked wherever it occurs in a line; shorter ones are masked only at their own place,
/// since masking every `a` would leave nothing to read.
const MASKED_ANYWHERE: usize = 4;

/// From this length on a secret is masked inside longer words too.
const MASKED_INSIDE_WORDS: usize = 8;

/// What stands in a text in place of a secret.
pub const MASK: &str = "[secret]";

/// What a secret is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum SecretKind {
    /// Lets a person in.
    LoginPassword,
    /// The device's own password towards somebody else.
    OwnPassword,
    /// A hash of a password.
    PasswordHash,
    /// A private key.
    PrivateKey,
    /// A key both ends of a tunnel share, made by machine.
    SharedKey,
    /// A secret that a RADIUS server and its client share.
    RadiusSecret,
}

impl SecretKind {
    /// The kind in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::LoginPassword => "login password",
            Self::OwnPassword => "saved password",
            Self::PasswordHash => "password hash",
            Self::PrivateKey => "private key",
            Self::SharedKey => "shared key",
            Self::RadiusSecret => "RADIUS secret",
        }
    }

    /// Whether people choose such secrets, so that guessing is the way to break them.
    #[must_use]
    pub fn chosen_by_people(self) -> bool {
        matches!(self, Self::LoginPassword | Self::OwnPassword)
    }
}

/// How hard a password is to guess, in five steps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Grade {
    /// Among the first that anybody tries.
    Trivial,
    /// Falls to guessing over the network.
    Weak,
    /// Holds against guessing over the network while attempts are limited, not against guessing offline.
    Middling,
    /// Holds against slow guessing offline.
    Good,
    /// Holds.
    Strong,
}

impl Grade {
    /// The grade in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Trivial => "trivial",
            Self::Weak => "weak",
            Self::Middling => "middling",
            Self::Good => "good",
            Self::Strong => "strong",
        }
    }
}

/// How long a secret is, in classes wide enough not to help a guesser.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum LengthClass {
    /// Under 8 characters: below the minimum of NIST SP 800-63B, 5.1.1.1.
    UnderEight,
    /// 8 to 14.
    EightToFourteen,
    /// 15 or more.
    FifteenOrMore,
}

impl LengthClass {
    /// The class in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::UnderEight => "under 8 characters",
            Self::EightToFourteen => "8 to 14 characters",
            Self::FifteenOrMore => "15 characters or more",
        }
    }
}

/// A secret value. There is no way to print it.
pub struct Secret(SecretString);

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret")
    }
}

impl Secret {
    /// Takes a secret over.
    #[must_use]
    pub fn new(value: impl Into<String>) -> Self {
        Self(SecretString::from(value.into()))
    }

    fn expose(&self) -> &str {
        self.0.expose_secret()
    }

    /// Whether there is nothing in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.expose().is_empty()
    }

    /// Whether it is one of the signs that lists write where no password is meant to fit.
    #[must_use]
    pub fn is_placeholder(&self) -> bool {
        matches!(self.expose(), "*" | "-" | "!" | "!!" | "x")
    }

    /// How long it is, roughly.
    #[must_use]
    pub fn length_class(&self) -> LengthClass {
        match self.expose().chars().count() {
            0..8 => LengthClass::UnderEight,
            8..15 => LengthClass::EightToFourteen,
            _ => LengthClass::FifteenOrMore,
        }
    }

    /// How hard it is to guess for somebody who knows the words in `context` (names of user, device, organisation).
    ///
    /// The estimator reckons with separators and digits between known words; people who know the names try those
    /// joins first, so a secret that is nothing but such words, separators and closing digits is trivial.
    #[must_use]
    pub fn grade(&self, context: &[&str]) -> Grade {
        let value = self.expose();
        let end = value.char_indices().nth(GRADED_CHARACTERS).map_or(value.len(), |(at, _)| at);
        if made_of(&value[..end], context) {
            return Grade::Trivial;
        }
        match zxcvbn::zxcvbn(&value[..end], context).score() {
            zxcvbn::Score::Zero => Grade::Trivial,
            zxcvbn::Score::One => Grade::Weak,
            zxcvbn::Score::Two => Grade::Middling,
            zxcvbn::Score::Three => Grade::Good,
            _ => Grade::Strong,
        }
    }

    /// Whether two secrets are the same.
    #[must_use]
    pub fn same_as(&self, other: &Self) -> bool {
        self.expose() == other.expose()
    }
}

/// Whether a text is a chain of these words, with anything that is no letter between them and digits at the end.
fn made_of(text: &str, words: &[&str]) -> bool {
    let plain = |text: &str| {
        text.chars()
            .filter(|letter| letter.is_alphanumeric())
            .flat_map(char::to_lowercase)
            .collect::<String>()
    };
    let text = plain(text);
    let text = text.trim_end_matches(|letter: char| letter.is_ascii_digit());
    let words: Vec<String> =
        words.iter().map(|word| plain(word)).filter(|word| word.chars().count() >= 3).collect();
    let mut reached = vec![false; text.len() + 1];
    reached[0] = true;
    for at in 0..text.len() {
        if reached[at] {
            for word in words.iter().filter(|word| text[at..].starts_with(word.as_str())) {
                reached[at + word.len()] = true;
            }
        }
    }
    !text.is_empty() && reached[text.len()]
}

/// A secret, what it is for, whose it is, and where it stands.
#[derive(Debug)]
pub struct HeldSecret {
    /// The value.
    pub secret: Secret,
    /// What it is for.
    pub kind: SecretKind,
    /// Whose it is: a user name, or the tunnel it belongs to.
    pub owner: String,
    /// Where the value stands, quotes included.
    pub origin: Origin,
}

/// Groups equal secrets. Groups of one are left out; groups and members keep the order of `held`.
#[must_use]
pub fn reuse_groups(held: &[Arc<HeldSecret>]) -> Vec<Vec<usize>> {
    let mut by_value: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (index, one) in held.iter().enumerate().filter(|(_, one)| !one.secret.is_empty()) {
        by_value.entry(one.secret.expose()).or_default().push(index);
    }
    let mut groups: Vec<_> = by_value.into_values().filter(|members| members.len() > 1).collect();
    groups.sort();
    groups
}

/// A name for the group with this number that says nothing about its secret: A, B, … Z, AA, AB, …
#[must_use]
pub fn group_letter(mut number: usize) -> String {
    let mut letters = Vec::new();
    loop {
        letters.push(b'A' + (number % 26) as u8);
        if number < 26 {
            break;
        }
        number = number / 26 - 1;
    }
    letters.iter().rev().map(|letter| char::from(*letter)).collect()
}

/// Masks secrets in text on its way out.
#[derive(Debug, Default)]
pub struct Masker {
    /// Places in each export, sorted.
    by_place: BTreeMap<ExportId, Vec<(u32, u32)>>,
    /// Values that are masked wherever they occur, by length in bytes, each list sorted by value.
    by_length: BTreeMap<usize, Vec<Arc<HeldSecret>>>,
    /// How those values begin, sorted: most places in a text are passed over by looking at this alone.
    beginnings: Zeroizing<Vec<[u8; MASKED_ANYWHERE]>>,
}

impl Masker {
    /// A masker for everything the exports hold, and for places that may hold a piece of a secret.
    #[must_use]
    pub fn new<'a>(held: impl IntoIterator<Item = &'a Arc<HeldSecret>>, places: &[Origin]) -> Self {
        let mut masker = Self::default();
        for place in places {
            masker.by_place.entry(place.export).or_default().push((place.start, place.end));
        }
        for one in held {
            masker.by_place.entry(one.origin.export).or_default().push((one.origin.start, one.origin.end));
            // A key block is many lines; nobody repeats it by accident, and its own place is masked.
            let value = one.secret.expose();
            if value.len() >= MASKED_ANYWHERE && !value.contains('\n') && value != one.owner {
                masker.by_length.entry(value.len()).or_default().push(Arc::clone(one));
            }
        }
        masker.by_place.values_mut().for_each(|places| places.sort_unstable());
        for list in masker.by_length.values_mut() {
            list.sort_by(|a, b| a.secret.expose().cmp(b.secret.expose()));
            list.dedup_by(|a, b| a.secret.same_as(&b.secret));
        }
        let beginning = |one: &Arc<HeldSecret>| one.secret.expose().as_bytes().first_chunk().copied();
        masker.beginnings.extend(masker.by_length.values().flatten().filter_map(beginning));
        masker.beginnings.sort_unstable();
        masker.beginnings.dedup();
        masker
    }

    /// A copy of a text that starts at `start` in its export, with every secret masked.
    #[must_use]
    pub fn mask_at(&self, text: &str, place: Origin) -> String {
        let base = place.start as usize;
        let mut spans = self.spans(text);
        for (start, end) in self.by_place.get(&place.export).into_iter().flatten() {
            let from = (*start as usize).saturating_sub(base).min(text.len());
            let to = (*end as usize).saturating_sub(base).min(text.len());
            if from < to {
                spans.push((from, to));
            }
        }
        masked(text, spans)
    }

    /// A copy of a text with every secret masked that is long enough to be told apart from ordinary words.
    /// Only whole words are masked: a user's name inside a longer word stays readable.
    #[must_use]
    pub fn mask(&self, text: &str) -> String {
        masked(text, self.spans(text))
    }

    /// Where known values stand in a text.
    fn spans(&self, text: &str) -> Vec<(usize, usize)> {
        let mut spans = Vec::new();
        for (at, _) in text.char_indices() {
            let beginning = text.as_bytes()[at..].first_chunk::<MASKED_ANYWHERE>();
            if beginning.is_none_or(|beginning| self.beginnings.binary_search(beginning).is_err()) {
                continue;
            }
            for (length, list) in &self.by_length {
                let Some(candidate) = text.get(at..at + length) else { continue };
                if list.binary_search_by(|one| one.secret.expose().cmp(candidate)).is_err() {
                    continue;
                }
                let whole = !text[..at].ends_with(char::is_alphanumeric)
                    && !text[at + length..].starts_with(char::is_alphanumeric);
                if whole || *length >= MASKED_INSIDE_WORDS {
                    spans.push((at, at + length));
                }
            }
        }
        spans
    }
}

/// The text with these byte spans replaced; spans may overlap. Blanks behind a secret become one, since in a list
/// with aligned columns their number tells its length.
fn masked(text: &str, mut spans: Vec<(usize, usize)>) -> String {
    spans.sort_unstable();
    let mut out = String::with_capacity(text.len());
    let mut at = 0;
    for (mut from, mut to) in spans {
        while !text.is_char_boundary(from) {
            from -= 1;
        }
        while !text.is_char_boundary(to) {
            to += 1;
        }
        if from >= at {
            out.push_str(&text[at..from]);
            out.push_str(MASK);
        }
        at = at.max(to);
        let blanks = text[at..].len() - text[at..].trim_start_matches([' ', '\t']).len();
        if blanks > 1 {
            // The last blank stays.
            at += blanks - 1;
        }
    }
    out.push_str(&text[at..]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn held(value: &str, start: u32) -> Arc<HeldSecret> {
        let origin = Origin { export: ExportId(0), start, end: start + value.len() as u32 };
        Arc::new(HeldSecret {
            secret: Secret::new(value),
            kind: SecretKind::LoginPassword,
            owner: "ann".into(),
            origin,
        })
    }

    #[test]
    fn nothing_prints_it() {
        let printed = format!("{:?} {:?}", Secret::new("hunter2"), held("hunter2", 0));
        assert!(!printed.contains("hunter2"), "{printed}");
    }

    #[test]
    fn context_words_count_against_it() {
        for (value, context, at_most) in [
            ("password", &[][..], Grade::Trivial),
            ("Skerrow2026", &["skerrow"][..], Grade::Middling),
            ("", &[][..], Grade::Trivial),
            ("Qvintharbel-Zoskamor_2026!", &["qvintharbel", "Zoskamor"][..], Grade::Trivial),
        ] {
            assert!(Secret::new(value).grade(context) <= at_most, "{value}");
        }
        assert!(Secret::new("skerrowskerrow").grade(&["skerrow"]) < Secret::new("skerrowskerrow").grade(&[]));
        assert_eq!(Secret::new("vK3!pw9-Zr7_qTx2mL").grade(&[]), Grade::Strong);
        assert_eq!(Secret::new("x".repeat(100_000)).length_class(), LengthClass::FifteenOrMore);
        assert!(
            Secret::new("ü".repeat(100_000)).grade(&[]) <= Grade::Good,
            "long input is graded without delay"
        );
    }

    #[test]
    fn equal_secrets_are_grouped_in_order() {
        let all =
            [held("one", 0), held("two", 9), held("one", 20), held("", 30), held("", 40), held("two", 50)];
        assert_eq!(reuse_groups(&all), [vec![0, 2], vec![1, 5]]);
        assert_eq!([0, 25, 26, 27, 701, 702].map(group_letter).join(" "), "A Z AA AB ZZ AAA");
    }

    #[test]
    fn masks_by_place_and_by_value() {
        let masker = Masker::new(&[held("sesame-open", 4), held("ann", 90)], &[]);
        let place = Origin { export: ExportId(0), start: 0, end: 0 };
        assert_eq!(masker.mask_at("ann sesame-open * # sesame-open", place), "ann [secret] * # [secret]");
        assert_eq!(masker.mask_at("ann sesame-open     *", place), "ann [secret] *");
        assert_eq!(masker.mask("annual: xsesame-openx"), "annual: x[secret]x");
        let overlapping = Masker::new(&[held("sesame-open", 4), held("open sesame", 11)], &[]);
        assert_eq!(overlapping.mask_at("ann sesame-open sesame", place), "ann [secret]");
        let elsewhere = Origin { export: ExportId(1), start: 0, end: 0 };
        assert_eq!(masker.mask_at("ann something", elsewhere), "ann something");
    }
}
