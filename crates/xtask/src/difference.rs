//! Comparison of findings with the expected ones.

use crate::Expected;
use anyhow::{Context, Result};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::fmt;

/// Findings that are missing, and findings that are too many.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Difference {
    /// To be found, and not found.
    pub missing: Vec<Expected>,
    /// Found, and not to be found.
    pub surplus: Vec<Expected>,
    /// Found as they are to be.
    pub right: usize,
}

#[derive(Deserialize)]
struct Audit {
    findings: Vec<Finding>,
}

#[derive(Deserialize)]
struct Finding {
    check: String,
    device: String,
    evidence: Vec<Evidence>,
}

#[derive(Deserialize)]
struct Evidence {
    path: String,
    line: usize,
}

impl Difference {
    /// Compares an audit printed as JSON with the expected findings, as JSON.
    ///
    /// # Errors
    /// If one of the two is malformed.
    pub fn of(expected: &[u8], audit: &[u8]) -> Result<Self> {
        let expected: Vec<Expected> = serde_json::from_slice(expected).context("what is to be found")?;
        let audit: Audit = serde_json::from_slice(audit).context("what was found")?;
        let found = audit.findings.into_iter().map(|finding| {
            let first = finding.evidence.into_iter().next();
            let (path, line) = first.map_or_else(Default::default, |one| (one.path, one.line));
            Expected { check: finding.check, device: finding.device, path, line }
        });
        let mut balance: BTreeMap<Expected, (usize, usize)> = BTreeMap::new();
        expected.into_iter().for_each(|one| balance.entry(one).or_default().0 += 1);
        found.for_each(|one| balance.entry(one).or_default().1 += 1);
        let mut difference = Self::default();
        for (one, (wanted, got)) in balance {
            difference.right += wanted.min(got);
            difference.missing.extend(std::iter::repeat_n(one.clone(), wanted.saturating_sub(got)));
            difference.surplus.extend(std::iter::repeat_n(one, got.saturating_sub(wanted)));
        }
        Ok(difference)
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_none(&self) -> bool {
        self.missing.is_empty() && self.surplus.is_empty()
    }
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{} found as they are to be, {} missing, {} too many",
            self.right,
            self.missing.len(),
            self.surplus.len()
        )?;
        for (word, list) in [("missing", &self.missing), ("too many", &self.surplus)] {
            for one in list.iter().take(200) {
                write!(f, "\n{word}: {} {} {}:{}", one.check, one.device, one.path, one.line)?;
            }
        }
        Ok(())
    }
}
