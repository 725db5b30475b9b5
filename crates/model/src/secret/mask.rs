//! Masking secrets in texts on their way out.

use super::{Secret, SecretKind, SecretRecord};
use crate::{ExportId, Origin};
use base64::Engine;
use base64::engine::general_purpose::{STANDARD, STANDARD_NO_PAD};
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use zeroize::Zeroizing;

/// Shortest secret, in bytes, that is masked wherever it occurs in a line; shorter ones are masked only at their own place,
/// since masking every `a` would leave nothing to read.
pub(super) const MASKED_ANYWHERE: usize = 4;

/// Length from which a secret is masked inside longer words as well.
pub(super) const MASKED_INSIDE_WORDS: usize = 8;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct OwnWords {
    words: BTreeSet<String>,
}

crate::table! { static OWN: OwnWords = "../../tables/own-words.toml"; }

/// Whether a text is a word of Trevlin's own sentences, in any case.
#[must_use]
pub fn is_own_word(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_alphabetic()) && OWN.words.contains(&text.to_ascii_lowercase())
}

/// Replacement text for a secret.
pub const MASK: &str = "[secret]";

/// Masks secrets in text on its way out.
#[derive(Debug, Default)]
pub struct Masker {
    /// Places in each export, sorted.
    by_place: BTreeMap<ExportId, Vec<(u32, u32)>>,
    /// The longest place in each export, in bytes.
    longest_place: BTreeMap<ExportId, u32>,
    /// Values that are masked wherever they occur: by how they begin, then by length in bytes, each list sorted by value.
    values: Vec<BTreeMap<usize, Vec<Secret>>>,
    /// How those values begin, sorted.
    beginnings: Zeroizing<Vec<[u8; MASKED_ANYWHERE]>>,
    sieve: Sieve,
    /// Bytes of the longest of those values.
    longest_value: usize,
}

/// Which beginnings there may be: most places in a text are passed over by looking at this alone.
#[derive(Debug, Default)]
struct Sieve(Zeroizing<Vec<u64>>);

impl Sieve {
    /// Bits it has, as a power of two.
    const BITS: u32 = 16;

    fn bit(beginning: [u8; MASKED_ANYWHERE]) -> usize {
        // Multiplicative hashing: the upper bits depend on all bits of the word.
        (u32::from_ne_bytes(beginning).wrapping_mul(0x9e37_79b1) >> (u32::BITS - Self::BITS)) as usize
    }

    fn of(beginnings: &[[u8; MASKED_ANYWHERE]]) -> Self {
        if beginnings.is_empty() {
            return Self::default();
        }
        let mut words = Zeroizing::new(vec![0; 1 << (Self::BITS - u64::BITS.ilog2())]);
        for beginning in beginnings {
            let bit = Self::bit(*beginning);
            words[bit / 64] |= 1 << (bit % 64);
        }
        Self(words)
    }

    fn may_hold(&self, beginning: [u8; MASKED_ANYWHERE]) -> bool {
        let bit = Self::bit(beginning);
        self.0.get(bit / 64).is_some_and(|word| word >> (bit % 64) & 1 == 1)
    }
}

impl Masker {
    /// A masker for everything the exports hold, and for places that may hold a piece of a secret.
    #[must_use]
    pub fn new<'a>(held: impl IntoIterator<Item = &'a Arc<SecretRecord>>, places: &[Origin]) -> Self {
        Self::beside(held, places, &BTreeSet::new())
    }

    /// A masker that leaves secrets which are words of `names`, such as the name of a device, readable outside their own places: a mask
    /// within a name that is readable elsewhere would reveal the secret.
    #[must_use]
    pub fn beside<'a>(
        held: impl IntoIterator<Item = &'a Arc<SecretRecord>>,
        places: &[Origin],
        names: &BTreeSet<&str>,
    ) -> Self {
        let mut masker = Self::default();
        let mut all: Vec<Secret> = Vec::new();
        for place in places {
            masker.by_place.entry(place.export).or_default().push((place.start, place.end));
        }
        for one in held {
            masker.by_place.entry(one.origin.export).or_default().push((one.origin.start, one.origin.end));
            if is_told_by_value(one) && !names.contains(one.secret.expose()) {
                all.extend(forms(one.kind, one.secret.expose()));
            }
        }
        for (export, places) in &mut masker.by_place {
            places.sort_unstable();
            let longest = places.iter().map(|(start, end)| end.saturating_sub(*start)).max();
            masker.longest_place.insert(*export, longest.unwrap_or_default());
        }
        all.sort_by(|a, b| a.expose().cmp(b.expose()));
        all.dedup_by(|a, b| a.same_as(b));
        // Sorted by value they are sorted by how they begin.
        for one in all {
            let Some(beginning) = one.expose().as_bytes().first_chunk().copied() else { continue };
            if masker.beginnings.last() != Some(&beginning) {
                masker.beginnings.push(beginning);
                masker.values.push(BTreeMap::new());
            }
            if let Some(lists) = masker.values.last_mut() {
                lists.entry(one.expose().len()).or_default().push(one);
            }
        }
        masker.sieve = Sieve::of(&masker.beginnings);
        let longest =
            masker.values.iter().filter_map(|lists| lists.last_key_value()).map(|(length, _)| *length);
        masker.longest_value = longest.max().unwrap_or_default();
        masker
    }

    /// Bytes of the longest secret that is masked by value.
    #[must_use]
    pub fn longest_value(&self) -> usize {
        self.longest_value
    }

    /// A copy of a text that starts at `start` in its export, with every secret masked.
    #[must_use]
    pub fn mask_at(&self, text: &str, place: Origin) -> String {
        let base = place.start as usize;
        let mut spans = self.spans(text);
        let places = self.by_place.get(&place.export).map_or(&[][..], Vec::as_slice);
        // Places that could reach into this text begin no further before it than the longest of them is.
        let longest = self.longest_place.get(&place.export).copied().unwrap_or_default();
        let first = places.partition_point(|(start, _)| start.saturating_add(longest) < place.start);
        for (start, end) in
            places[first..].iter().take_while(|(start, _)| (*start as usize) < base + text.len())
        {
            let from = (*start as usize).saturating_sub(base).min(text.len());
            let to = (*end as usize).saturating_sub(base).min(text.len());
            if from < to {
                spans.push((from, to));
            }
        }
        masked(text, spans)
    }

    /// A copy of a text with every secret masked that is long enough to be distinguished from ordinary words. Only whole words are masked:
    /// a user's name within a longer word stays readable.
    #[must_use]
    pub fn mask(&self, text: &str) -> String {
        masked(text, self.spans(text))
    }

    /// The same for a sentence of Trevlin: words that its sentences consist of stay, since a gap in their place would tell the secret.
    #[must_use]
    pub fn mask_sentence(&self, text: &str) -> String {
        let mut spans = self.spans(text);
        spans.retain(|(start, end)| !is_own_word(&text[*start..*end]));
        masked(text, spans)
    }

    /// Positions of known values in a text.
    fn spans(&self, text: &str) -> Vec<(usize, usize)> {
        let mut spans = Vec::new();
        for (at, beginning) in text.as_bytes().windows(MASKED_ANYWHERE).enumerate() {
            let Some(beginning) = beginning.first_chunk().filter(|one| self.sieve.may_hold(**one)) else {
                continue;
            };
            let known = self.beginnings.binary_search(beginning).ok();
            for (length, list) in known.into_iter().flat_map(|known| &self.values[known]) {
                let Some(candidate) = text.get(at..at + length) else { continue };
                if list.binary_search_by(|one| one.expose().cmp(candidate)).is_err() {
                    continue;
                }
                let whole = !text[..at].ends_with(char::is_alphanumeric)
                    && !text[at + length..].starts_with(char::is_alphanumeric);
                if whole || *length >= MASKED_INSIDE_WORDS && !is_own_word(candidate) {
                    spans.push((at, at + length));
                }
            }
        }
        spans
    }
}

/// Whether a secret is masked by value everywhere, and not in its own place only.
pub(super) fn is_told_by_value(one: &SecretRecord) -> bool {
    let value = one.secret.expose();
    // A published community is an ordinary word, as `public` is: elsewhere in a text it is not the secret.
    let word = matches!(one.kind, SecretKind::Community | SecretKind::TrapCommunity)
        && one.secret.known_default().is_some();
    // A key block is many lines and does not recur by accident; its own place is masked.
    value.len() >= MASKED_ANYWHERE && !value.contains('\n') && value != one.owner && !word
}

/// Whether such secrets are generated by programs, so that they do not occur in other encodings.
pub(super) fn is_of_machines(kind: SecretKind) -> bool {
    matches!(
        kind,
        SecretKind::PrivateKey
            | SecretKind::SharedKey
            | SecretKind::PasswordHash
            | SecretKind::DigestHash
            | SecretKind::CodeSeed
    )
}

/// The forms in which a value may occur, in a fixed order: as it is, and in the encodings that configurations use.
pub(super) fn forms(kind: SecretKind, value: &str) -> Vec<Secret> {
    let mut forms = vec![Secret::new(value)];
    if !is_of_machines(kind) {
        let hex = hex(value);
        forms.push(Secret::new(hex.to_uppercase()));
        forms.push(Secret::new(hex.as_str()));
        forms.push(Secret::new(STANDARD.encode(value)));
        forms.push(Secret::new(STANDARD_NO_PAD.encode(value)));
    }
    forms
}

/// A text in hexadecimal digits.
pub(super) fn hex(text: &str) -> Zeroizing<String> {
    Zeroizing::new(text.bytes().map(|byte| format!("{byte:02x}")).collect())
}

/// The text with these byte spans replaced; spans may overlap. Blanks behind a secret become one, since in a list with aligned columns
/// their number reveals its length.
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
