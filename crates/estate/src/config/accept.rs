//! Accepted findings in the estate file: risk owner, reason, and end of acceptance.

use crate::config::{EstateFileError, KnownCheck};
use jiff::civil::Date;
use serde::Deserialize;
use toml::Spanned;

/// Fewest characters of a fingerprint that name a finding.
pub const SHORTEST_FINGERPRINT: usize = 8;

/// An entry for accepted findings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Accept {
    /// Which.
    pub what: Accepted,
    /// Only those of this device.
    pub device: Option<String>,
    /// Who answers for them.
    pub owner: String,
    /// Why they may stay.
    pub reason: String,
    /// The last day on which that holds.
    pub until: Date,
    /// Its line in the estate file, from 1.
    pub line: usize,
}

/// Which findings are accepted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Accepted {
    /// All of a check.
    Check(&'static str),
    /// The one with this fingerprint, or that begins so.
    Fingerprint(String),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawAccept {
    check: Option<Spanned<String>>,
    fingerprint: Option<Spanned<String>>,
    device: Option<String>,
    owner: Spanned<String>,
    reason: Spanned<String>,
    until: Spanned<Until>,
}

/// A date, as TOML's own or as a text.
#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum Until {
    Date(toml::value::Datetime),
    Text(String),
}

impl Until {
    /// The day.
    ///
    /// # Errors
    /// The expected format, when the value is not a date.
    pub(super) fn date(self) -> Result<Date, String> {
        let text = match self {
            Self::Date(date) => date.to_string(),
            Self::Text(text) => text,
        };
        text.parse().map_err(|_| format!("`{text}` is not a date; expected one such as 2027-03-31"))
    }
}

impl RawAccept {
    /// `line`: where the entry begins. `line_of`: the line of an offset.
    pub(super) fn valid(
        self,
        line: usize,
        line_of: &dyn Fn(usize) -> usize,
        known: KnownCheck<'_>,
    ) -> Result<Accept, EstateFileError> {
        let wrong = |at: usize, text: String| EstateFileError { line: line_of(at), text };
        let what = match (self.check, self.fingerprint) {
            (Some(check), None) => Accepted::Check(
                known(check.get_ref()).map_err(|unknown| wrong(check.span().start, unknown.to_string()))?,
            ),
            (None, Some(print)) => {
                let text = print.get_ref().to_ascii_lowercase();
                let of_hex = text.bytes().all(|byte| byte.is_ascii_hexdigit());
                if text.len() < SHORTEST_FINGERPRINT || !of_hex {
                    let expected =
                        "expected the fingerprint of a finding, or its first eight characters or more";
                    return Err(wrong(print.span().start, format!("`{text}`: {expected}")));
                }
                Accepted::Fingerprint(text)
            }
            _ => {
                let text = "expected either `check` or `fingerprint`, to say what is accepted".to_owned();
                return Err(EstateFileError { line, text });
            }
        };
        let said = |name: &str, text: &Spanned<String>| {
            super::filled(name, text, "an acceptance needs a named owner", line_of)
        };
        let at = self.until.span().start;
        let until = self.until.into_inner().date().map_err(|text| wrong(at, text))?;
        Ok(Accept {
            what,
            device: self.device,
            owner: said("owner", &self.owner)?,
            reason: said("reason", &self.reason)?,
            until,
            line,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::tests::parsed;

    fn read(entry: &str) -> Result<Accept, String> {
        let file = parsed(&format!("\n[[accept]]\n{entry}\n"));
        file.map(|file| file.accepts[0].clone()).map_err(|error| error.to_string())
    }

    #[test]
    fn entries() {
        let rest = "owner = \"Astrid\"\nreason = \"replaced in spring\"\nuntil = 2027-03-31";
        let one = read(&format!("check = \"tunnels/pptp\"\ndevice = \"aaa\"\n{rest}")).unwrap();
        assert_eq!((one.what, one.line), (Accepted::Check("tunnels/pptp"), 2));
        assert_eq!((one.owner.as_str(), one.until.to_string().as_str()), ("Astrid", "2027-03-31"));
        let one =
            read(&format!("fingerprint = \"3089540F\"\n{}", rest.replace("2027-03-31", "\"2027-03-31\"")));
        assert_eq!(one.unwrap().what, Accepted::Fingerprint("3089540f".into()));
        for (entry, told) in [
            (rest.to_owned(), "line 2: expected either"),
            (
                format!("check = \"tunnels/pptp-answer\"\n{rest}"),
                "line 3: there is no check `tunnels/pptp-answer`",
            ),
            (format!("fingerprint = \"3089\"\n{rest}"), "line 3: `3089`: expected the fingerprint"),
            (format!("fingerprint = \"30895402\"\ncheck = \"tunnels/pptp\"\n{rest}"), "expected either"),
            (
                format!("fingerprint = \"30895402\"\n{}", rest.replace("2027-03-31", "\"spring\"")),
                "line 6: `spring` is not a date",
            ),
            (format!("fingerprint = \"30895402\"\n{}", rest.replace("Astrid", " ")), "`owner` is empty"),
            ("fingerprint = \"30895402\"\nowner = \"a\"\nuntil = 2027-03-31".to_owned(), "reason"),
            (format!("fingerprint = \"30895402\"\nby = 3\n{rest}"), "unknown field `by`"),
        ] {
            let error = read(&entry).unwrap_err();
            assert!(error.contains(told), "{entry}: {error}");
        }
    }
}
