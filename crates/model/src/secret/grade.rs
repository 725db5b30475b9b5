//! How hard a secret is to guess.

use super::Secret;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::{LazyLock, Mutex, PoisonError};
use zeroize::Zeroizing;

/// Longest prefix that is graded: estimation is quadratic, and longer secrets are not weak.
const GRADED_CHARACTERS: usize = 100;

/// Bits in one decimal digit of guesses.
const BITS_A_DIGIT: f64 = std::f64::consts::LOG2_10;

/// Bits per letter of a text in words: about the entropy of natural language (NIST SP 800-63-1, appendix A: 1.5 to 2).
const BITS_A_LETTER: f64 = 2.0;

/// Estimate of a value, stored by a keyed digest of the value and its context: one secret occurs in many places, and estimating takes long.
#[derive(Debug, Clone, Copy)]
struct Estimate {
    score: zxcvbn::Score,
    digits: f64,
}

type Digest = (u64, u64);

type Estimates = Mutex<BTreeMap<Digest, Estimate>>;

static KNOWN: LazyLock<(RandomState, RandomState, Estimates)> = LazyLock::new(Default::default);

fn estimate(value: &str, context: &[&str]) -> Estimate {
    let (one, other, known) = &*KNOWN;
    // Words that are nowhere in the value do not count; what stands for them keeps the others at their places, which do.
    let plain = Zeroizing::new(plainly(value));
    let counts = |word: &&str| {
        let word = plainly(word);
        word.is_empty() || plain.contains(&word) || plain.contains(&word.chars().rev().collect::<String>())
    };
    let context: Vec<&str> = context.iter().map(|word| if counts(word) { *word } else { "\u{1}" }).collect();
    let context = context.as_slice();
    let digest = (one.hash_one((value, context)), other.hash_one((value, context)));
    let lock = || known.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = lock().get(&digest) {
        return *known;
    }
    // Not within the lock: others estimate meanwhile.
    let entropy = zxcvbn::zxcvbn(value, context);
    let made = Estimate { score: entropy.score(), digits: entropy.guesses_log10() };
    lock().insert(digest, made);
    made
}

/// A text with one letter for all variants that the estimator treats as equal: capitals, and signs in place of letters.
fn plainly(text: &str) -> String {
    let same = |letter: char| match letter {
        '4' | '@' => 'a',
        '8' => 'b',
        '(' | '{' | '[' | '<' => 'c',
        '3' => 'e',
        '6' | '9' => 'g',
        '1' | '!' | '|' | 'l' | '7' | '+' | 't' => 'i',
        '0' => 'o',
        '$' | '5' => 's',
        '%' => 'x',
        '2' => 'z',
        other => other,
    };
    text.to_lowercase().chars().map(same).collect()
}

/// Digits of guesses below which the estimator gives its lowest score.
const TRIVIAL_DIGITS: f64 = 3.0;

/// How well a key for machines holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum KeyGrade {
    /// Among the first values of any password list.
    Trivial,
    /// Falls to guessing on a recorded exchange.
    Weak,
    /// Resists casual guessing, but not for the required time.
    Short,
    /// Holds.
    Holds,
}

/// Loads the word lists for grading, which takes longer than grading a secret. Call it in parallel to other work; otherwise they are loaded
/// on first use.
pub fn prepare() {
    let _ = zxcvbn::zxcvbn("load", &[]);
}

/// A published secret.
#[derive(Debug, Deserialize)]
pub struct DefaultSecret {
    value: String,
    /// Who publishes it.
    pub source: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Defaults {
    default: Vec<DefaultSecret>,
}

crate::table! { static DEFAULTS: Defaults = "../../tables/default-secrets.toml"; }

/// How hard a password is to guess, in five steps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Grade {
    /// Among the first values of any password list.
    Trivial,
    /// Falls to guessing over the network.
    Weak,
    /// Resists online guessing while attempts are limited, not offline guessing.
    Middling,
    /// Resists slow offline guessing.
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

impl Secret {
    /// Difficulty of guessing the secret for an attacker who knows the words in `context` (names of user, device, organisation).
    ///
    /// The estimator adds entropy for separators and digits between known words; attackers who know the names try such combinations first,
    /// so a secret of nothing but these words, separators and trailing digits is trivial.
    #[must_use]
    pub fn grade(&self, context: &[&str]) -> Grade {
        if self.is_withheld() {
            return Grade::Strong;
        }
        let value = graded(self.expose());
        if self.known_default().is_some() || made_of(value, context) {
            return Grade::Trivial;
        }
        match estimate(value, context).score {
            zxcvbn::Score::Zero => Grade::Trivial,
            zxcvbn::Score::One => Grade::Weak,
            zxcvbn::Score::Two => Grade::Middling,
            zxcvbn::Score::Three => Grade::Good,
            _ => Grade::Strong,
        }
    }

    /// Resistance of a machine key to offline guessing for an attacker who knows the words in `context`, as far as its characters show:
    /// `asked` and `casual` are bits of entropy.
    ///
    /// The estimator counts ten guesses for a character outside any pattern. Where nearly every character is such a one, and the whole does
    /// not consist of words in an unknown language, the secret was generated, and each character counts with the size of its alphabet;
    /// otherwise the guesses count.
    #[must_use]
    pub fn key_grade(&self, asked: u64, casual: u64, context: &[&str]) -> KeyGrade {
        if self.is_withheld() {
            return KeyGrade::Holds;
        }
        let value = graded(self.expose());
        let length = value.chars().count() as f64;
        if length < 1.0 || self.known_default().is_some() || made_of(value, context) {
            return KeyGrade::Trivial;
        }
        let digits = digits_of_guesses(value, context);
        // Secrets guessed with fewer tries than the estimator's lowest score are among the first tried.
        if digits < TRIVIAL_DIGITS {
            return KeyGrade::Trivial;
        }
        // In a short text a single pattern is a large part.
        let share = if length < 12.0 { 0.95 } else { 0.7 };
        let held = if length < 8.0 || digits < share * length {
            digits * BITS_A_DIGIT
        } else if is_wordy(value) {
            length * BITS_A_LETTER
        } else {
            length * alphabet(value).log2()
        };
        if held >= (asked as f64) {
            KeyGrade::Holds
        } else if held >= (casual as f64) {
            KeyGrade::Short
        } else {
            KeyGrade::Weak
        }
    }

    /// The publisher of this exact secret, if it is a published one.
    #[must_use]
    pub fn known_default(&self) -> Option<&'static DefaultSecret> {
        let is_it = |known: &&DefaultSecret| {
            known.value.eq_ignore_ascii_case(self.expose()) || Self::from_prefixed(&known.value).same_as(self)
        };
        DEFAULTS.default.iter().find(is_it)
    }
}

/// Decimal digits of the number of guesses. The estimator stops counting near 10^19, so longer secrets are taken in
/// pieces once the whole has come that far.
fn digits_of_guesses(value: &str, context: &[&str]) -> f64 {
    const COUNTED: f64 = 19.0;
    const PIECE: usize = 16;
    let whole = estimate(value, context).digits;
    if whole < COUNTED {
        return whole;
    }
    let letters: Vec<char> = value.chars().collect();
    let pieces = letters.chunks(PIECE).map(|piece| Zeroizing::new(piece.iter().collect::<String>()));
    let sum: f64 = pieces.map(|piece| estimate(&piece, context).digits).sum();
    sum.max(whole)
}

/// How much likelier a letter follows another in a European language than in a row of letters drawn at random, in bits and three
/// more, between 0 and 6: from `a` to `z` each with those that follow it. By the mean share of the pair among words of manual
/// pages in twelve languages: Czech, Danish, Dutch, English, Finnish, French, German, Hungarian, Italian, Polish, Spanish, Swedish.
const FOLLOWS: [&[u8; 26]; 26] = [
    b"34550241424646040656331122",
    b"31004000300400300320300020",
    b"40205005413210500324300012",
    b"40026000500212410331310011",
    b"42554442434556141666232413",
    b"30003300500200400222200000",
    b"30005021300203300431300010",
    b"40005000300101400203200010",
    b"43545440223546531455140203",
    b"30004000100100200000000000",
    b"40004000302201400233300010",
    b"50136120511522510034310030",
    b"52016000401131440021300000",
    b"51455351503203510056430031",
    b"13442231313456340654444002",
    b"50105001300400530523300000",
    b"00000000000000000000300000",
    b"62346131513243520345421033",
    b"41416113504311440146411033",
    b"60226104601222520544411031",
    b"23233220322445230444110100",
    b"40005000400001300000000010",
    b"40003001300002200110000020",
    b"10101000200000020002000000",
    b"00202000001122120032001000",
    b"30004000300002200001100021",
];

/// Threshold in tenths of a bit by which pairs of letters are more frequent in words than at random, on average, for a text to count as
/// words: 972 of a thousand passphrases of three to five words reach it, and 32 of a million random keys of 28 letters and digits.
const LIKELIER_IN_WORDS: i32 = 3;

/// Whether a text reads like words: most of it in runs of letters of one case, in which letters follow each other as they do in
/// languages.
fn is_wordy(value: &str) -> bool {
    let (mut in_runs, mut pairs, mut likelier) = (0usize, 0i32, 0i32);
    for run in value.split(|letter: char| !letter.is_alphabetic()) {
        // A capital begins a word.
        let mut starts: Vec<usize> =
            run.char_indices().filter(|(_, letter)| letter.is_uppercase()).map(|(at, _)| at).collect();
        if run.chars().all(char::is_uppercase) {
            starts.clear();
        }
        starts.push(run.len());
        let mut from = 0;
        for start in starts {
            let word = &run[from..start];
            from = start;
            let length = word.chars().count();
            if length >= 4 {
                in_runs += length;
                let plain = |letter: u8| {
                    letter.is_ascii_alphabetic().then(|| usize::from(letter.to_ascii_lowercase() - b'a'))
                };
                let two = word.as_bytes().windows(2).filter_map(|two| Some((plain(two[0])?, plain(two[1])?)));
                for (first, second) in two {
                    pairs += 1;
                    likelier += i32::from(FOLLOWS[first][second] - b'0') - 3;
                }
            }
        }
    }
    in_runs * 10 >= value.chars().count() * 6 && pairs > 0 && likelier * 10 >= pairs * LIKELIER_IN_WORDS
}

fn graded(value: &str) -> &str {
    let end = value.char_indices().nth(GRADED_CHARACTERS).map_or(value.len(), |(at, _)| at);
    &value[..end]
}

/// Size of the alphabet that the characters of a text were drawn from.
fn alphabet(value: &str) -> f64 {
    let any = |test: fn(char) -> bool| value.chars().any(test);
    let hex = value.chars().all(|letter| letter.is_ascii_hexdigit());
    let one_case = !(any(|letter| letter.is_ascii_lowercase()) && any(|letter| letter.is_ascii_uppercase()));
    if value.chars().all(|letter| letter.is_ascii_digit()) {
        return 10.0;
    }
    if hex && one_case {
        return 16.0;
    }
    // Bytes that are no text came out of an encoding: all 256 occur.
    if any(|letter| letter.is_control() || ('\u{80}'..='\u{ff}').contains(&letter)) {
        return 256.0;
    }
    type Class = (fn(char) -> bool, f64);
    let classes: [Class; 5] = [
        (|letter| letter.is_ascii_lowercase(), 26.0),
        (|letter| letter.is_ascii_uppercase(), 26.0),
        (|letter| letter.is_ascii_digit(), 10.0),
        (|letter| letter.is_ascii_punctuation() || letter == ' ', 33.0),
        (|letter| !letter.is_ascii(), 100.0),
    ];
    classes.iter().filter(|(test, _)| any(*test)).map(|(_, size)| size).sum::<f64>().max(2.0)
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

#[cfg(test)]
mod tests {
    use super::*;

    /// Generated values rarely read like words, whatever letters they contain: a few of tens of thousands do.
    #[test]
    fn random_keys_are_not_taken_for_words() {
        const LOWER: &str = "abcdefghijklmnopqrstuvwxyz";
        const OTHERS: &str = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789";
        let mixed = format!("{LOWER}{OTHERS}");
        let mut state = 20_261_127u64;
        let mut next = |end: usize| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as usize % end
        };
        for (letters, length, most) in [(LOWER, 32, 8), (&mixed, 28, 4), (&mixed, 22, 8)] {
            let key = |_| (0..length).map(|_| char::from(letters.as_bytes()[next(letters.len())])).collect();
            let wordy = (0..20_000).map(key).filter(|key: &String| is_wordy(key)).count();
            assert!(wordy <= most, "{wordy} with {} letters and a length of {length}", letters.len());
        }
    }

    #[test]
    fn words_that_are_nowhere_in_a_value_change_nothing() {
        let context = ["astrid", "veyholm", "harbour", "edge", "3l1z4", "p@ul", "nas"];
        for value in [
            "Veyholm2026",
            "mlohyev",
            "4str1d!",
            "tide-and-gull",
            "3l1za-1",
            "lu@p.9",
            "QuX1ttRD2DFdaTZlKuOI",
            "edgeedge",
            "e",
            "",
        ] {
            let bare = zxcvbn::zxcvbn(value, &context);
            let told = estimate(value, &context);
            assert_eq!((told.score, told.digits), (bare.score(), bare.guesses_log10()), "{value}");
            // Said again, it is the same.
            assert_eq!(estimate(value, &context).digits, told.digits);
        }
    }
}
