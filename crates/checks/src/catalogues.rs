//! Catalogues of controls, with the checks that judge a part of each.
//!
//! They are tables: ids are those of the publisher, texts are paraphrases of our own. A control states what a configuration can show of
//! it, since no export shows all of it.

use serde::Deserialize;
use std::collections::BTreeSet;
use trevlin_estate::config::{EstateFileError, KnownCheck};

/// A catalogue of controls.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Catalogue {
    /// The schema, [`SCHEMA`].
    catalogue: String,
    /// Name for the command line, such as `nist-csf-2.0`.
    pub name: String,
    /// Title with its edition.
    pub title: String,
    /// Who publishes it.
    pub publisher: String,
    /// Where it is published.
    pub address: Option<String>,
    /// Words before an id where checks cite the catalogue; those without are not cited.
    pub cited_as: Option<String>,
    /// Checks for which it has no control, by id.
    #[serde(default)]
    pub without: Vec<String>,
    /// Its controls, in its order.
    #[serde(rename = "control")]
    pub controls: Vec<Control>,
}

/// A control of a catalogue.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Control {
    /// Its id there, such as `AC-6`.
    pub id: String,
    /// A paraphrase, as a sentence.
    pub says: String,
    /// The part that a configuration can show, as a phrase; nothing where it shows none.
    #[serde(default)]
    pub shows: String,
    /// Checks that judge this part, by id; none where no configuration shows it.
    #[serde(default)]
    pub checks: Vec<String>,
}

/// The schema of catalogues.
pub const SCHEMA: &str = "trevlin-controls/1";

trevlin_model::table! { static GRUNDSCHUTZ: Catalogue = "../tables/controls/bsi-grundschutz-2023.toml"; }
trevlin_model::table! { static CIS: Catalogue = "../tables/controls/cis-controls-v8.toml"; }
trevlin_model::table! { static IEC: Catalogue = "../tables/controls/iec-62443-3-3.toml"; }
trevlin_model::table! { static ISO: Catalogue = "../tables/controls/iso-27002-2022.toml"; }
trevlin_model::table! { static NIS: Catalogue = "../tables/controls/nis2-2024-2690.toml"; }
trevlin_model::table! { static CSF: Catalogue = "../tables/controls/nist-csf-2.0.toml"; }
trevlin_model::table! { static SP: Catalogue = "../tables/controls/nist-sp800-53-r5.toml"; }
trevlin_model::table! { static PCI: Catalogue = "../tables/controls/pci-dss-4.0.toml"; }

/// Every built-in catalogue, in order of names.
#[must_use]
pub fn all() -> [&'static Catalogue; 8] {
    [&GRUNDSCHUTZ, &CIS, &IEC, &ISO, &NIS, &CSF, &SP, &PCI]
}

impl Control {
    /// Whether a configuration shows a part of it.
    #[must_use]
    pub fn is_visible(&self) -> bool {
        !self.checks.is_empty()
    }
}

impl Catalogue {
    /// Reads a catalogue of an estate's own.
    ///
    /// # Errors
    /// When it is not TOML or not of the schema, has an id twice, or names a check that does not exist; with the line.
    pub fn read(text: &str, known: KnownCheck<'_>) -> Result<Self, EstateFileError> {
        let line_of = |offset: usize| 1 + text.get(..offset).unwrap_or(text).matches('\n').count();
        let read: Self = toml::from_str(text).map_err(|error| EstateFileError {
            line: error.span().map_or(1, |span| line_of(span.start)),
            text: error.message().trim().replace('\n', "; "),
        })?;
        let at = |value: &str| text.find(&format!("\"{value}\"")).map_or(1, line_of);
        let wrong = |value: &str, text: String| Err(EstateFileError { line: at(value), text });
        if read.catalogue != SCHEMA {
            return wrong(
                &read.catalogue,
                format!("this version supports catalogues of the form `{SCHEMA}`"),
            );
        }
        let mut ids = BTreeSet::new();
        for control in &read.controls {
            if !ids.insert(&control.id) {
                return wrong(&control.id, format!("the control `{}` is there twice", control.id));
            }
            for check in control.checks.iter().chain(&read.without) {
                if let Err(unknown) = known(check) {
                    return wrong(check, unknown.to_string());
                }
            }
        }
        Ok(read)
    }

    /// Whether a text is probably a catalogue.
    #[must_use]
    pub fn is_one(text: &str) -> bool {
        text.lines()
            .any(|line| line.trim_start().starts_with("catalogue") && line.contains("\"trevlin-controls/"))
    }

    /// The controls of which a check judges a part.
    pub fn of_check<'a>(&'a self, check: &'a str) -> impl Iterator<Item = &'a Control> {
        self.controls.iter().filter(move |control| control.checks.iter().any(|one| one == check))
    }
}

include!(concat!(env!("OUT_DIR"), "/citations.rs"));

/// The citations of a check: one for each catalogue that is cited, with the ids of its controls.
#[must_use]
pub fn citations(check: &str) -> &'static [&'static str] {
    let found = CITATIONS.binary_search_by(|(known, _)| (*known).cmp(check));
    found.map_or(&[], |at| CITATIONS[at].1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::registry::{CHECKS, known};

    #[test]
    fn every_check_has_its_controls_in_every_catalogue() {
        let known: BTreeSet<&str> = CHECKS.iter().map(|check| check.id).collect();
        for one in all() {
            assert_eq!(one.catalogue, SCHEMA, "{}", one.name);
            let mapped: BTreeSet<&str> =
                one.controls.iter().flat_map(|control| &control.checks).map(String::as_str).collect();
            let without: BTreeSet<&str> = one.without.iter().map(String::as_str).collect();
            assert!(mapped.is_disjoint(&without), "{}: both with and without a control", one.name);
            let all: BTreeSet<&str> = mapped.union(&without).copied().collect();
            let (missing, unknown): (Vec<_>, Vec<_>) =
                (known.difference(&all).collect(), all.difference(&known).collect());
            assert!(missing.is_empty() && unknown.is_empty(), "{}: {missing:?} {unknown:?}", one.name);
            let ids: BTreeSet<&str> = one.controls.iter().map(|control| control.id.as_str()).collect();
            assert_eq!(ids.len(), one.controls.len(), "{}: an id twice", one.name);
        }
    }

    #[test]
    fn catalogues_of_an_estate() {
        let head =
            "catalogue = \"trevlin-controls/1\"\nname = \"own\"\ntitle = \"Own\"\npublisher = \"Us\"\n";
        let control =
            |checks: &str| format!("{head}[[control]]\nid = \"A\"\nsays = \"S.\"\nshows = \"s\"\n{checks}");
        let read = Catalogue::read(&control("checks = [\"tunnels/pptp\"]\n"), &known).unwrap();
        assert_eq!((read.name.as_str(), read.controls[0].checks.len()), ("own", 1));
        assert!(Catalogue::read(&control(""), &known).unwrap().controls[0].checks.is_empty());
        assert!(Catalogue::is_one(head) && !Catalogue::is_one("# trevlin-controls/1\n"));
        for (text, line, part) in [
            (control("checks = [\"tunnels/ppt\"]\n"), 9, "did you mean `tunnels/pptp`?"),
            (control("").replace("controls/1", "controls/2"), 1, "trevlin-controls/1"),
            (format!("{}[[control]]\nid = \"A\"\nsays = \"\"\nshows = \"\"\n", control("")), 6, "twice"),
            (control("colour = 3\n"), 9, "unknown field"),
            ("catalogue = [\n".to_owned(), 1, "array"),
        ] {
            let error = Catalogue::read(&text, &known).unwrap_err();
            assert!(error.text.contains(part) && error.line == line, "{text}: {error}");
        }
    }

    #[test]
    fn catalogues_are_in_order_and_cited_by_their_own_words() {
        let names: Vec<&str> = all().iter().map(|one| one.name.as_str()).collect();
        assert!(names.is_sorted(), "{names:?}");
        assert_eq!(citations("upkeep/no-time-source"), ["BSI OPS.1.1.5.A4", "NIST SP 800-53 Rev. 5, SC-45"]);
        assert!(citations("no/such-check").is_empty());
        assert_eq!(
            CSF.of_check("upkeep/no-time-source").map(|one| &*one.id).collect::<Vec<_>>(),
            ["PR.PS-04"]
        );
    }
}
