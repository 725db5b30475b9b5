//! Catalogues of controls, with the checks that judge a part of each.
//!
//! They are tables: ids are those of the publisher, texts are paraphrases of our own. A control states what a configuration can show of
//! it, since no export shows all of it.

use serde::Deserialize;

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
    /// The part that a configuration can show, as a phrase.
    pub shows: String,
    /// Checks that judge this part, by id.
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

impl Catalogue {
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
    use crate::registry::CHECKS;
    use std::collections::BTreeSet;

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
