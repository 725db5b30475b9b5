//! Catalogues of controls, built in and of the estate, and how its exports were handed over.

use crate::manifest;
use crate::messages;
use crate::verbosity::Verbosity;
use anyhow::{Context, bail};
use std::path::{Path, PathBuf};
use trevlin_audit::coverage::Received;
use trevlin_audit::{Analyses, Catalogue, catalogues, checks};
use trevlin_readers::collecting::is_collected_place;

/// The catalogue of reports where neither the command line nor the estate file names one.
const OF_REPORTS: &str = "iso-27002-2022";

/// Names of the catalogues that the scope of an estate states.
pub(crate) fn of_scope(estate: &Analyses) -> Vec<String> {
    estate.scope.iter().flat_map(|scope| scope.catalogues.iter().cloned()).collect()
}

/// These names, or that of the catalogue of reports.
pub(crate) fn names_or_default(names: Vec<String>) -> Vec<String> {
    if names.is_empty() { vec![OF_REPORTS.to_owned()] } else { names }
}

/// Catalogues that can be named.
pub(crate) struct Catalogues(Vec<Catalogue>);

impl Catalogues {
    /// Those that are built in.
    pub(crate) fn built_in() -> Self {
        Self(catalogues::all().into_iter().cloned().collect())
    }

    /// Those that are built in, and those of the estate. Errors of the latter are reported.
    pub(crate) fn of(estate: &Analyses, verbosity: Verbosity) -> Self {
        let Self(mut all) = Self::built_in();
        for (path, text) in &estate.catalogue_files {
            match Catalogue::read(text, &checks::known) {
                Ok(one) if all.iter().any(|other| other.name == one.name) => {
                    let why = format!(
                        "{path}: another catalogue has the name {}, so this one is not used",
                        one.name
                    );
                    messages::warning(&why);
                }
                Ok(one) => all.push(one),
                Err(_) if verbosity == Verbosity::Nothing => {}
                Err(why) => messages::warning(&format!("{path}:{}: {}", why.line, why.text)),
            }
        }
        Self(all)
    }

    /// Every catalogue.
    pub(crate) fn all(&self) -> &[Catalogue] {
        &self.0
    }

    /// Those of these names or files, in this order.
    ///
    /// # Errors
    /// When there is none of a name, or a file is not a catalogue.
    pub(crate) fn named(&self, names: &[String]) -> anyhow::Result<Vec<Catalogue>> {
        names.iter().map(|name| self.find(name)).collect()
    }

    fn find(&self, name: &str) -> anyhow::Result<Catalogue> {
        if let Some(known) = self.0.iter().find(|one| one.name == name) {
            return Ok(known.clone());
        }
        let path = Path::new(name);
        if path.extension().is_some_and(|ending| ending == "toml") {
            let text = std::fs::read_to_string(path).with_context(|| format!("{name} cannot be read"))?;
            return Catalogue::read(&text, &checks::known)
                .with_context(|| format!("{name} is not a catalogue of controls"));
        }
        let names: Vec<&str> = self.0.iter().map(|one| one.name.as_str()).collect();
        let near = names.iter().find(|one| strsim::jaro_winkler(one, name) > 0.8);
        let hint = near.map(|near| format!(" Did you mean {near}?")).unwrap_or_default();
        bail!("there is no catalogue {name}; known are: {}.{hint}", names.join(", "))
    }
}

/// How the exports of an estate were handed over: compared with their checksums, where there are some.
pub(crate) fn received(estate: &Analyses, paths: &[PathBuf]) -> Received {
    let checksums = if estate.has_checksums { manifest::verify(paths) } else { Vec::new() };
    Received::of(estate, checksums, is_collected_place)
}
