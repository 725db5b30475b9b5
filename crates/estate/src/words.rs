//! Words that an attacker is likely to try.

use crate::assemble::Estate;
use serde::Deserialize;
use std::collections::BTreeSet;
use trevlin_model::Device;

/// Number of devices up to which the names of all weaken a secret.
const NEIGHBOURS: usize = 64;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Guessed {
    words: Vec<String>,
}

trevlin_model::table! { static GUESSED: Guessed = "../tables/guessed-words.toml"; }

/// Words that weaken a secret: the names of the organisation and the device and those given, whole and in parts, and common passwords.
pub fn against(estate: &Estate, device: &Device, more: &[&str]) -> Vec<String> {
    // Names of the other devices are known to those who know one of them. In a large estate they are too many to be tried
    // first, and too many to be looked through for every secret.
    let few = estate.devices.len() <= NEIGHBOURS;
    let devices = estate.devices.iter().filter(|_| few).map(|one| one.name.as_str());
    let names = estate.organisation.iter().map(String::as_str).chain([device.name.as_str()]).chain(devices);
    let mut words: BTreeSet<String> = BTreeSet::new();
    for name in names.chain(more.iter().copied()) {
        let name = name.to_lowercase();
        words.extend(name.split(|letter: char| !letter.is_alphanumeric()).map(String::from));
        words.insert(name.split(|letter: char| !letter.is_alphanumeric()).collect());
        words.insert(name);
    }
    words.extend(GUESSED.words.iter().cloned());
    words.retain(|word| word.chars().count() >= 3);
    words.into_iter().collect()
}
