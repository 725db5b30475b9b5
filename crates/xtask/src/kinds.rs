//! Kinds of devices of a generated estate: a file for each in `kinds/`, with its exports as templates, the findings on every device of the
//! kind, and faults, each a change of one export with its expected findings.

use anyhow::{Context, Result, bail, ensure};
use serde::Deserialize;

/// A kind of device.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Kind {
    /// Name prefix of its devices, before the number.
    pub name: String,
    /// Entry of such a device in `trevlin.toml`.
    pub entry: String,
    /// Share of this kind among the devices of its place, in percent.
    pub share: u64,
    /// Whether it connects a site to the Internet.
    #[serde(default)]
    pub gateway: bool,
    /// Its exports.
    #[serde(rename = "file")]
    pub files: Vec<File>,
    /// Findings of every device of the kind, with or without faults.
    #[serde(default)]
    pub always: Vec<Found>,
    /// Possible faults.
    #[serde(default, rename = "fault")]
    pub faults: Vec<Fault>,
}

/// An export of a device.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct File {
    /// Its path in the device's folder.
    pub path: String,
    /// Its text, a template.
    pub text: String,
}

/// Something wrong: in one export a text is in another's place.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Fault {
    /// The export.
    pub path: String,
    /// The replaced text of the template, which occurs once.
    pub of: String,
    /// Replacement text.
    pub with: String,
    /// Expected findings.
    pub found: Vec<Found>,
    /// Findings of every device of the kind that no longer apply, by check.
    #[serde(default)]
    pub instead_of: Vec<String>,
}

/// A finding, by the line that is cited first.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Found {
    /// The check.
    pub check: String,
    /// The export, where it is not the fault's.
    pub path: Option<String>,
    /// Text that the line begins with or contains, a template: the first such place. Where omitted, the first line inserted by the fault.
    pub line: Option<String>,
}

const TEXTS: [(&str, &str); 17] = [
    ("gate", include_str!("../kinds/gate.toml")),
    ("router", include_str!("../kinds/router.toml")),
    ("keeper", include_str!("../kinds/keeper.toml")),
    ("entrance", include_str!("../kinds/entrance.toml")),
    ("model", include_str!("../kinds/model.toml")),
    ("booking", include_str!("../kinds/booking.toml")),
    ("storage", include_str!("../kinds/storage.toml")),
    ("pages", include_str!("../kinds/pages.toml")),
    ("names", include_str!("../kinds/names.toml")),
    ("office", include_str!("../kinds/office.toml")),
    ("dialin", include_str!("../kinds/dialin.toml")),
    ("island", include_str!("../kinds/island.toml")),
    ("mast", include_str!("../kinds/mast.toml")),
    ("post", include_str!("../kinds/post.toml")),
    ("crew", include_str!("../kinds/crew.toml")),
    ("stacks", include_str!("../kinds/stacks.toml")),
    ("desks", include_str!("../kinds/desks.toml")),
];

/// Every kind.
///
/// # Errors
/// Where one of the files does not hold together.
pub fn all() -> Result<Vec<Kind>> {
    TEXTS.iter().map(|(name, text)| read(text).with_context(|| format!("kinds/{name}.toml"))).collect()
}

fn read(text: &str) -> Result<Kind> {
    let kind: Kind = toml::from_str(text)?;
    for fault in &kind.faults {
        let Some(file) = kind.files.iter().find(|file| file.path == fault.path) else {
            bail!("a fault is in `{}`, which is not there", fault.path);
        };
        let times = file.text.matches(&fault.of).count();
        ensure!(times == 1, "`{}` stands {times} times in `{}`", fault.of, fault.path);
        ensure!(!fault.found.is_empty(), "a fault of `{}` is to be found by nothing", fault.path);
    }
    Ok(kind)
}
