//! Scope of an audit: its period, the systems in and out of it, and how systems were chosen.
//!
//! ```toml
//! [scope]
//! from = "2026-11-02"                       # first and last day of the audit
//! until = "2026-11-13"
//! systems = ["edge", "files", "branch-07"]  # every system in scope, by name or folder
//! catalogues = ["iso-27002-2022"]           # catalogues of controls for reports
//!
//! [scope.out]                               # systems out of scope, each with the reason
//! telephony = "operated by a provider"
//!
//! [[scope.sample]]                          # systems in scope that represent others
//! of = "branch routers"
//! population = 40
//! chosen = "at random"
//! systems = ["branch-07"]
//! ```

use super::accept::Until;
use super::error::{EstateFileError, filled};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use toml::Spanned;

/// Scope of an audit, as the estate file states it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Scope {
    /// First day, as `2026-11-02`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Last day.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Systems in scope, by name or folder.
    pub systems: Vec<String>,
    /// Systems out of scope, with the reason.
    pub out: BTreeMap<String, String>,
    /// Samples.
    pub samples: Vec<Sample>,
    /// Catalogues of controls for reports, by name.
    pub catalogues: Vec<String>,
}

/// Systems that represent others.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Sample {
    /// The sampled systems, as a noun in the plural.
    pub of: String,
    /// How many there are.
    pub population: usize,
    /// How they were chosen, as an adverbial: `at random`.
    pub chosen: String,
    /// Those that were chosen.
    pub systems: Vec<String>,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct RawScope {
    from: Option<Spanned<Until>>,
    until: Option<Spanned<Until>>,
    #[serde(default)]
    systems: Vec<Spanned<String>>,
    #[serde(default)]
    out: BTreeMap<Spanned<String>, Spanned<String>>,
    #[serde(default)]
    sample: Vec<RawSample>,
    #[serde(default)]
    catalogues: Vec<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawSample {
    of: Spanned<String>,
    population: Spanned<usize>,
    chosen: Spanned<String>,
    systems: Vec<Spanned<String>>,
}

impl Scope {
    /// The same with what a further estate file states.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        let joined = |mut all: Vec<String>, more: Vec<String>| {
            more.into_iter().for_each(|one| {
                if !all.contains(&one) {
                    all.push(one);
                }
            });
            all
        };
        Self {
            from: [self.from, other.from].into_iter().flatten().min(),
            until: self.until.max(other.until),
            systems: joined(self.systems, other.systems),
            out: self.out.into_iter().chain(other.out).collect(),
            samples: self.samples.into_iter().chain(other.samples).collect(),
            catalogues: joined(self.catalogues, other.catalogues),
        }
    }

    /// The period, as words.
    #[must_use]
    pub fn period(&self) -> Option<String> {
        match (&self.from, &self.until) {
            (Some(from), Some(until)) => Some(format!("{from} to {until}")),
            (Some(from), None) => Some(format!("from {from}")),
            (None, Some(until)) => Some(format!("until {until}")),
            (None, None) => None,
        }
    }
}

impl RawScope {
    pub(super) fn valid(self, line_of: &dyn Fn(usize) -> usize) -> Result<Scope, EstateFileError> {
        let wrong = |at: usize, text: String| EstateFileError { line: line_of(at), text };
        let date = |stated: Option<Spanned<Until>>| {
            let Some(stated) = stated else { return Ok(None) };
            let at = stated.span().start;
            stated.into_inner().date().map(Some).map_err(|text| wrong(at, text))
        };
        let ends_at = self.until.as_ref().map_or(0, |one| one.span().start);
        let (from, until) = (date(self.from)?, date(self.until)?);
        if let (Some(from), Some(until)) = (from, until)
            && from > until
        {
            let text = format!("the scope ends on {until}, before it begins on {from}");
            return Err(wrong(ends_at, text));
        }
        let mut systems: Vec<String> = Vec::new();
        for one in &self.systems {
            let name = filled("systems", one, "name a device or its folder", line_of)?;
            if systems.contains(&name) {
                return Err(wrong(one.span().start, format!("`{name}` is in the scope twice")));
            }
            systems.push(name);
        }
        let mut out = BTreeMap::new();
        for (name, reason) in self.out {
            if systems.contains(name.get_ref()) {
                let text = format!("`{}` is both in scope and out of scope", name.get_ref());
                return Err(wrong(name.span().start, text));
            }
            let reason = filled(name.get_ref(), &reason, "state why it is out of scope", line_of)?;
            out.insert(name.into_inner(), reason);
        }
        let mut samples = Vec::new();
        for one in self.sample {
            let at = one.population.span().start;
            let chosen_systems: BTreeSet<&String> = one.systems.iter().map(Spanned::get_ref).collect();
            if let Some(other) = one.systems.iter().find(|system| !systems.contains(system.get_ref())) {
                let text = format!(
                    "`{}` is in a sample and not among the systems in scope; add it to `systems`",
                    other.get_ref()
                );
                return Err(wrong(other.span().start, text));
            }
            if one.population.get_ref() < &chosen_systems.len() {
                let text = format!(
                    "the sample has {} systems, more than its population of {}",
                    chosen_systems.len(),
                    one.population.get_ref()
                );
                return Err(wrong(at, text));
            }
            samples.push(Sample {
                of: filled("of", &one.of, "name what was sampled, such as `branch routers`", line_of)?,
                population: one.population.into_inner(),
                chosen: filled("chosen", &one.chosen, "state how, such as `at random`", line_of)?,
                systems: one.systems.into_iter().map(Spanned::into_inner).collect(),
            });
        }
        let days = [from, until].map(|day| day.map(|day| day.to_string()));
        let [from, until] = days;
        Ok(Scope { from, until, systems, out, samples, catalogues: self.catalogues })
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::parsed;

    #[test]
    fn what_is_stated() {
        let scope = parsed(
            "[scope]\nfrom = 2026-11-02\nuntil = \"2026-11-13\"\nsystems = [\"edge\", \"b-7\"]\n\
             catalogues = [\"own\"]\n[scope.out]\nphones = \"operated by a provider\"\n\
             [[scope.sample]]\nof = \"branch routers\"\npopulation = 40\nchosen = \"at random\"\nsystems = [\"b-7\"]\n",
        )
        .unwrap()
        .scope
        .unwrap();
        assert_eq!(scope.from.unwrap(), "2026-11-02");
        assert_eq!(scope.until.unwrap(), "2026-11-13");
        assert_eq!(
            (scope.systems, scope.catalogues),
            (vec!["edge".into(), "b-7".into()], vec!["own".into()])
        );
        assert_eq!(scope.out["phones"], "operated by a provider");
        assert_eq!((scope.samples[0].population, &*scope.samples[0].of), (40, "branch routers"));
        assert!(parsed("").unwrap().scope.is_none());
    }

    #[test]
    fn contradictions() {
        for (text, line, part) in [
            ("[scope]\nfrom = 2026-11-02\nuntil = 2026-11-01\n", 3, "ends on 2026-11-01, before"),
            ("[scope]\nfrom = \"soon\"\n", 2, "not a date"),
            ("[scope]\nsystems = [\"a\", \"a\"]\n", 2, "twice"),
            ("[scope]\nsystems = [\"\"]\n", 2, "empty"),
            ("[scope]\nsystems = [\"a\"]\n[scope.out]\na = \"x\"\n", 4, "both in scope and out"),
            ("[scope.out]\na = \" \"\n", 2, "why it is out of scope"),
            (
                "[scope]\nsystems = []\n[[scope.sample]]\nof = \"a\"\npopulation = 3\nchosen = \"b\"\nsystems = [\"c\"]\n",
                7,
                "not among the systems in scope",
            ),
            (
                "[scope]\nsystems = [\"c\", \"d\"]\n[[scope.sample]]\nof = \"a\"\npopulation = 1\nchosen = \"b\"\nsystems = [\"c\", \"d\"]\n",
                5,
                "more than its population",
            ),
            ("[scope]\nsystem = [\"a\"]\n", 2, "unknown field"),
        ] {
            let error = parsed(text).unwrap_err();
            assert!(error.text.contains(part), "{text}: {error}");
            assert_eq!(error.line, line, "{text}: {error}");
        }
    }
}
