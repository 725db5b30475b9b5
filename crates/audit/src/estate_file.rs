//! The estate file, `trevlin.toml`.
//!
//! ```toml
//! organisation = ["Veyholm Ferry Line", "veyholm"]
//! networks = ["192.0.2.16/29"]   # public address space of its own
//!
//! [device.edge]            # the folder's name
//! name = "harbour-edge"    # how outputs call it
//! kind = "router"          # firewall, router, server or storage
//! outside = ["eth0"]       # interfaces that face the outside
//! site = "harbour"        # where it stands
//! dialled = ["gate.veyholm.example"]   # names by which clients call it
//! ```

use ipnet::IpNet;
use serde::Deserialize;
use std::collections::BTreeMap;
use trevlin_model::DeviceKind;

/// An estate file that holds together.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ValidEstateFile {
    /// Names of the organisation: words that passwords may not be made of.
    pub organisation: Vec<String>,
    /// Public address space of the organisation's own.
    pub networks: Vec<IpNet>,
    /// Devices by folder.
    pub devices: BTreeMap<String, DeviceEntry>,
}

/// What the estate file says of one device.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DeviceEntry {
    /// How outputs call it.
    pub name: Option<String>,
    /// Kind.
    pub kind: Option<DeviceKind>,
    /// Interfaces that face the outside.
    pub outside: Option<Vec<String>>,
    /// The site where it stands.
    pub site: Option<String>,
    /// Names and addresses by which clients call it.
    pub dialled: Vec<String>,
}

/// Why an estate file was not taken, with the line.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("line {line}: {text}")]
pub struct EstateFileError {
    /// Line, from 1.
    pub line: usize,
    /// What was found and what was expected.
    pub text: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    #[serde(default)]
    organisation: OneOrMany,
    #[serde(default)]
    networks: Vec<toml::Spanned<String>>,
    #[serde(default)]
    device: BTreeMap<String, RawDevice>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum OneOrMany {
    One(String),
    Many(Vec<String>),
}

impl Default for OneOrMany {
    fn default() -> Self {
        Self::Many(Vec::new())
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawDevice {
    name: Option<String>,
    kind: Option<toml::Spanned<String>>,
    outside: Option<Vec<String>>,
    site: Option<String>,
    #[serde(default)]
    dialled: OneOrMany,
}

impl OneOrMany {
    fn all(self) -> Vec<String> {
        match self {
            Self::One(one) => vec![one],
            Self::Many(all) => all,
        }
    }
}

impl ValidEstateFile {
    /// Reads the text of an estate file.
    ///
    /// # Errors
    /// When it is not TOML, has a key that is not known, or a value that is none of those expected.
    pub fn parse(text: &str) -> Result<Self, EstateFileError> {
        let line_of = |offset: usize| 1 + text.get(..offset).unwrap_or(text).matches('\n').count();
        let raw: Raw = toml::from_str(text).map_err(|error| EstateFileError {
            line: error.span().map_or(1, |span| line_of(span.start)),
            text: error.message().trim().replace('\n', "; "),
        })?;
        let mut networks = Vec::new();
        for network in raw.networks {
            networks.push(network.as_ref().parse().map_err(|_| EstateFileError {
                line: line_of(network.span().start),
                text: format!(
                    "`{}` is no network; expected an address with a prefix, such as 198.51.100.0/24",
                    network.as_ref()
                ),
            })?);
        }
        let mut devices = BTreeMap::new();
        for (folder, device) in raw.device {
            let kind = match device.kind {
                None => None,
                Some(word) => Some(DeviceKind::from_word(word.as_ref()).ok_or_else(|| EstateFileError {
                    line: line_of(word.span().start),
                    text: format!(
                        "kind `{}` is not known; expected firewall, router, server or storage",
                        word.as_ref()
                    ),
                })?),
            };
            devices.insert(
                folder,
                DeviceEntry {
                    name: device.name,
                    kind,
                    outside: device.outside,
                    site: device.site,
                    dialled: device.dialled.all(),
                },
            );
        }
        Ok(Self { organisation: raw.organisation.all(), networks, devices })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_taken() {
        let file = ValidEstateFile::parse(
            "organisation = \"Veyholm\"\n[device.edge]\nkind = \"router\"\noutside = [\"eth0\"]\n",
        );
        let file = file.unwrap();
        assert_eq!(file.organisation, ["Veyholm"]);
        assert_eq!(file.devices["edge"].kind, Some(DeviceKind::Router));
        assert_eq!(file.devices["edge"].outside.as_deref(), Some(&["eth0".to_owned()][..]));
        assert_eq!(ValidEstateFile::parse("").unwrap(), ValidEstateFile::default());
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line() {
        for (text, line, part) in [
            ("organisation = [\n", 1, "array"),
            ("\nnetworks = [\"10.4.0.0/33\"]\n", 2, "10.4.0.0/33"),
            ("\ncolour = 3\n", 2, "unknown field `colour`"),
            ("[device.edge]\nkind = \"toaster\"\n", 2, "toaster"),
            ("[device.edge]\nexterior = []\n", 2, "exterior"),
        ] {
            let error = ValidEstateFile::parse(text).unwrap_err();
            assert!(error.text.contains(part), "{text}: {error}");
            assert_eq!(error.line, line, "{text}: {error}");
        }
    }
}
