//! Words that announce a secret, and values that are none, from the table.

use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};

/// How much of an option's value is a secret.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Takes {
    /// All of it.
    Whole,
    /// The value is attached to the option without a blank.
    Glued,
    /// Either.
    GluedOrWhole,
    /// The text after the first colon.
    AfterColon,
    /// The text after the first percent sign.
    AfterPercent,
    /// The last word of the command.
    Last,
}

/// Words and shapes, as the table has them.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Words {
    pub(super) words: BTreeSet<String>,
    pub(super) endings: Vec<String>,
    pub(super) key_kinds: BTreeSet<String>,
    pub(super) no_secret: BTreeSet<String>,
    pub(super) ordinary: BTreeSet<String>,
    pub(super) file_endings: Vec<String>,
    pub(super) programs: BTreeMap<String, BTreeMap<String, Takes>>,
}

trevlin_model::table! { pub(super) static WORDS: Words = "../../tables/announced-secrets.toml"; }
