//! Answers to information requests, as the estate file records them: content, source and date.

use crate::config::{EstateFileError, KnownCheck, accept};
use jiff::civil::Date;
use serde::Deserialize;
use toml::Spanned;

/// An answer to an information request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GivenAnswer {
    /// The check that raises the request.
    pub check: &'static str,
    /// Only requests about this device.
    pub device: Option<String>,
    /// Only requests about this subject: a name, a file, or text in a line that raises the request.
    pub about: Option<String>,
    /// The answer.
    pub answer: String,
    /// Whether that is as it should be.
    pub right: bool,
    /// Source of the answer.
    pub by: String,
    /// When.
    pub on: Date,
    /// Its line in the estate file, from 1.
    pub line: usize,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawAnswer {
    check: Spanned<String>,
    device: Option<String>,
    about: Option<String>,
    answer: Spanned<String>,
    right: bool,
    by: Spanned<String>,
    on: Spanned<accept::Until>,
}

impl RawAnswer {
    /// `line`: where the entry begins. `line_of`: the line of an offset.
    pub(super) fn valid(
        self,
        line: usize,
        line_of: &dyn Fn(usize) -> usize,
        known: KnownCheck<'_>,
    ) -> Result<GivenAnswer, EstateFileError> {
        let wrong = |at: usize, text: String| EstateFileError { line: line_of(at), text };
        let check = known(self.check.get_ref())
            .map_err(|unknown| wrong(self.check.span().start, unknown.to_string()))?;
        let said = |name: &str, text: &Spanned<String>| {
            super::filled(name, text, "an answer needs its source", line_of)
        };
        let at = self.on.span().start;
        Ok(GivenAnswer {
            check,
            device: self.device,
            about: self.about,
            answer: said("answer", &self.answer)?,
            right: self.right,
            by: said("by", &self.by)?,
            on: self.on.into_inner().date().map_err(|text| wrong(at, text))?,
            line,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::tests::parsed;

    fn read(entry: &str) -> Result<GivenAnswer, String> {
        let file = parsed(&format!("\n[[answer]]\n{entry}\n"));
        file.map(|file| file.answers[0].clone()).map_err(|error| error.to_string())
    }

    #[test]
    fn entries() {
        let rest = "answer = \"it follows the edge\"\nright = true\nby = \"Oda Lind\"\non = 2026-11-20";
        let one = read(&format!("check = \"upkeep/no-time-source\"\ndevice = \"aaa\"\n{rest}")).unwrap();
        assert_eq!((one.check, one.line, one.right), ("upkeep/no-time-source", 2, true));
        assert_eq!((one.by.as_str(), one.on.to_string().as_str()), ("Oda Lind", "2026-11-20"));
        for (entry, told) in [
            (rest.to_owned(), "check"),
            (
                format!("check = \"upkeep/clock-alon\"\n{rest}"),
                "line 3: there is no check `upkeep/clock-alon`",
            ),
            (format!("check = \"upkeep/no-time-source\"\n{}", rest.replace("Oda Lind", "")), "`by` is empty"),
            (
                format!("check = \"upkeep/no-time-source\"\n{}", rest.replace("2026-11-20", "\"soon\"")),
                "`soon` is not a date",
            ),
            (format!("check = \"upkeep/no-time-source\"\n{}", rest.replace("right = true\n", "")), "right"),
        ] {
            let error = read(&entry).unwrap_err();
            assert!(error.contains(told), "{entry}: {error}");
        }
    }
}
