//! Arguments of programs that hold secrets: in hooks, units, jobs and scripts that a configuration names.

use super::values;
use super::words::{Takes, WORDS};
use crate::scrub::words_between;
use std::ops::Range;

/// Positions of such arguments in a line.
pub(super) fn places(line: &str) -> Vec<Range<usize>> {
    // Quotes around a word are no part of it.
    let words = words_between(line, &['"', '\'', '`', ';', '(', ')']);
    let mut found = Vec::new();
    let mut options = None;
    for (at, word) in words.iter().enumerate() {
        let text = &line[word.clone()];
        if let Some(known) = WORDS.programs.get(text.rsplit(['/', '=', '>']).next().unwrap_or(text)) {
            options = Some(known);
            if let Some(Takes::Last) = known.get("") {
                found.extend(words.last().filter(|_| at + 2 < words.len()).cloned());
            }
            continue;
        }
        if matches!(text, "|" | "&&" | ";" | "||") {
            options = None;
            continue;
        }
        let Some(known) = options else { continue };
        for (option, takes) in known.iter().filter(|(option, _)| !option.is_empty()) {
            found.extend(of_option(line, &words, at, option, *takes));
        }
    }
    // Text echoed into a program that prompts for it.
    if let Some(pipe) = line.find('|') {
        let asks = ["passw", "sudo -S", "cryptsetup", "smbpasswd", "chpasswd"]
            .iter()
            .any(|sign| line[pipe..].contains(sign));
        let said =
            words.iter().position(|word| matches!(&line[word.clone()], "echo" | "printf") && word.end < pipe);
        if let Some(at) = said.filter(|_| asks) {
            let value = words[at + 1..]
                .iter()
                .find(|word| !line[(*word).clone()].starts_with('-') && word.end <= pipe);
            found.extend(value.cloned().map(|word| after(line, word, ':')));
        }
    }
    found.retain(|place| values::may_be_secret(&line[place.clone()]));
    found
}

fn of_option(
    line: &str,
    words: &[Range<usize>],
    at: usize,
    option: &str,
    takes: Takes,
) -> Option<Range<usize>> {
    let word = words[at].clone();
    let text = &line[word.clone()];
    let next = || words.get(at + 1).cloned();
    let glued = text.strip_prefix(option).filter(|rest| !rest.is_empty() && !option.starts_with("--"));
    let glued = glued.or_else(|| text.strip_prefix(option)?.strip_prefix('='));
    let value = match takes {
        Takes::Last => return (text == option).then(|| words.last().cloned()).flatten(),
        Takes::Glued => glued.map(|rest| word.end - rest.len()..word.end)?,
        _ if text == option => next()?,
        _ => glued.map(|rest| word.end - rest.len()..word.end)?,
    };
    match takes {
        Takes::AfterColon => line[value.clone()].contains(':').then(|| after(line, value, ':')),
        Takes::AfterPercent => line[value.clone()].contains('%').then(|| after(line, value, '%')),
        _ => Some(value),
    }
}

/// The text after a sign in a word; the whole word where it has none.
fn after(line: &str, word: Range<usize>, sign: char) -> Range<usize> {
    let text = &line[word.clone()];
    text.split_once(sign).map_or(word.clone(), |(_, rest)| word.end - rest.len()..word.end)
}
