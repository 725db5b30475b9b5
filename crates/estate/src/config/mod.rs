//! The estate file, `trevlin.toml`.
//!
//! Long because every key of the file is read, validated and described here.
//!
//! ```toml
//! organisation = ["Veyholm Ferry Line", "veyholm"]
//! networks = ["192.0.2.16/29"]   # own public address space
//!
//! [device.edge]            # name of the folder
//! name = "harbour-edge"    # name in outputs
//! kind = "router"          # firewall, router, server or storage
//! outside = ["eth0"]       # interfaces that face an untrusted network
//! site = "harbour"         # location
//! contact = "Oda Lind"     # addressee of information requests
//! server_names = ["gate.veyholm.example"]   # names that clients connect to
//! ike = "libreswan"        # daemon of its ipsec.conf: strongswan or libreswan
//! sends = "some networks"  # traffic that its VPN clients should send through the tunnel
//!
//! [tunnels]                # requirements for every tunnel
//! sends = "everything"     # everything, or some networks
//! quantum_resistant = true # require quantum-resistant key exchange
//!
//! [logins]
//! administrator_groups = ["harbour-it"]      # groups of a directory whose members administer systems
//!
//! [rules]                  # requirements for every packet filter
//! accepts_logged = true    # require logging of permitted connections
//!
//! [shape]                  # interfaces that share a network, where addresses are not conclusive or are misleading
//! joined = [["edge:eth1", "files:eth0"]]
//! apart = [["north:eth0", "yard:eth0"]]
//!
//! [[intent]]               # intended access
//! from = "WireGuard wg0"   # outside, a network, an address, a device, a tunnel (its clients), a group
//! to = ["10.4.0.0/24"]     # networks, addresses, devices, tunnels, or outside
//! services = ["tcp 443"]   # protocol and ports; omitted for every service
//! only = true              # no other access is intended
//!
//! [[accept]]               # accepted findings
//! fingerprint = "3089540224f12926"      # of one finding; or `check`, for all of a check
//! device = "aaa"           # only on this device
//! owner = "Astrid Holm"    # risk owner
//! reason = "the terminal is replaced in spring"
//! until = 2027-03-31       # last day; afterwards the finding is open again
//!
//! [[answer]]               # answers to information requests
//! check = "upkeep/no-time-source"    # the check that raises the request
//! device = "aaa"           # only on this device; `about` = words of the request, where there are several
//! answer = "it follows the edge"
//! right = true             # whether that is in order; otherwise it becomes a finding
//! by = "Oda Lind"
//! on = 2026-11-20
//!
//! [report]                 # front page of a report: title, client, period, scope, classification, author, version
//! client = "Veyholm Ferry Line"
//!
//! [baseline]               # thresholds of the checks; `trevlin baseline` lists them
//! base = "strict"          # a predefined baseline; the default where omitted
//! local_logins = 5
//! [scope]                  # scope of the audit; see `scope`
//! systems = ["edge"]       # every system in scope
//!
//! [baseline.site.yard]     # for the devices of a site
//! base = "legacy-site"
//! [baseline.device.edge]   # for one device
//! key_strength = 128
//! ```

mod accept;
mod answer;
mod error;
mod scope;

pub use accept::{Accept, Accepted, SHORTEST_FINGERPRINT};
pub use answer::GivenAnswer;
use error::filled;
pub use error::{EstateFileError, KnownCheck, UnknownCheck};
pub use scope::{Sample, Scope};

use crate::baseline::BaselineFile;
use ipnet::IpNet;
use serde::Deserialize;
use std::collections::BTreeMap;
use trevlin_model::ipsec::IkeDaemon;
use trevlin_model::plan::Sends;
use trevlin_model::{DeviceKind, PortRange};

/// An estate file that holds together.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ValidEstateFile {
    /// Names of the organisation: words that passwords may not be made of.
    pub organisation: Vec<String>,
    /// Public address space of the organisation's own.
    pub networks: Vec<IpNet>,
    /// Groups whose members administer systems, besides those with a usual name.
    pub administrator_groups: Vec<String>,
    /// Devices by folder.
    pub devices: BTreeMap<String, DeviceEntry>,
    /// Requirements for every tunnel.
    pub wanted: Wanted,
    /// Interfaces that share a network, each by device and name.
    pub joined: Vec<InterfacePair>,
    /// Interfaces that do not.
    pub apart: Vec<InterfacePair>,
    /// Intended access.
    pub intents: Vec<Intent>,
    /// Accepted findings.
    pub accepts: Vec<Accept>,
    /// Answers to information requests.
    pub answers: Vec<GivenAnswer>,
    /// The thresholds that checks judge by.
    pub baseline: BaselineFile,
    /// The front page of a report.
    pub report: ReportEntry,
    /// Scope of the audit.
    pub scope: Option<Scope>,
}

/// The front page of a report, as far as the estate file states it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ReportEntry {
    /// Title of the report.
    pub title: Option<String>,
    /// The client it is written for.
    pub client: Option<String>,
    /// Period of the audit.
    pub period: Option<String>,
    /// Scope of the audit.
    pub scope: Option<String>,
    /// Who may read it, such as `confidential`.
    pub classification: Option<String>,
    /// Who wrote it.
    pub author: Option<String>,
    /// Version of the document, such as `1.0`.
    pub version: Option<String>,
}

impl ReportEntry {
    /// The same, with what another one states in place of its own.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        Self {
            title: other.title.or(self.title),
            client: other.client.or(self.client),
            period: other.period.or(self.period),
            scope: other.scope.or(self.scope),
            classification: other.classification.or(self.classification),
            author: other.author.or(self.author),
            version: other.version.or(self.version),
        }
    }
}

/// Intended access.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Intent {
    /// From where, as written.
    pub from: String,
    /// Where to, as written.
    pub to: Vec<String>,
    /// Protocols by number, with ports; none for every service.
    pub services: Vec<(u8, PortRange)>,
    /// Whether all other access of these sources is unintended.
    pub only: bool,
    /// Its line in the estate file, from 1.
    pub line: usize,
}

/// Two interfaces, each by the name of its device and its own.
pub type InterfacePair = [(String, String); 2];

/// Requirements for tunnels.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Wanted {
    /// Traffic that clients should send through the tunnel.
    pub sends: Option<Sends>,
    /// Whether key exchange must be quantum-resistant.
    pub quantum_resistant: bool,
    /// Whether rules that let new connections in are to log them.
    pub accepts_logged: bool,
}

/// Entry of the estate file for one device.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DeviceEntry {
    /// How outputs call it.
    pub name: Option<String>,
    /// Kind.
    pub kind: Option<DeviceKind>,
    /// Interfaces that face an untrusted network.
    pub outside: Option<Vec<String>>,
    /// Its site.
    pub site: Option<String>,
    /// Contact for it.
    pub contact: Option<String>,
    /// Names and addresses by which clients call it.
    pub server_names: Vec<String>,
    /// Whose files for IKE it has.
    pub ike: Option<IkeDaemon>,
    /// Traffic that its clients should send through the tunnel.
    pub sends: Option<Sends>,
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
    #[serde(default)]
    logins: RawLogins,
    #[serde(default)]
    tunnels: RawTunnels,
    #[serde(default)]
    rules: RawRules,
    #[serde(default)]
    shape: RawShape,
    #[serde(default)]
    intent: Vec<toml::Spanned<RawIntent>>,
    #[serde(default)]
    accept: Vec<toml::Spanned<accept::RawAccept>>,
    #[serde(default)]
    answer: Vec<toml::Spanned<answer::RawAnswer>>,
    /// Read by itself, with the lines of its keys.
    #[serde(rename = "baseline")]
    _baseline: Option<toml::Value>,
    #[serde(default)]
    report: ReportEntry,
    scope: Option<scope::RawScope>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawIntent {
    from: String,
    to: OneOrMany,
    #[serde(default)]
    services: OneOrMany,
    #[serde(default)]
    only: bool,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
struct RawShape {
    #[serde(default)]
    joined: Vec<toml::Spanned<Vec<String>>>,
    #[serde(default)]
    apart: Vec<toml::Spanned<Vec<String>>>,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
struct RawRules {
    #[serde(default)]
    accepts_logged: bool,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
struct RawLogins {
    #[serde(default)]
    administrator_groups: OneOrMany,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
struct RawTunnels {
    sends: Option<toml::Spanned<String>>,
    #[serde(default)]
    quantum_resistant: bool,
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
    contact: Option<String>,
    #[serde(default)]
    server_names: OneOrMany,
    ike: Option<toml::Spanned<String>>,
    sends: Option<toml::Spanned<String>>,
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
    /// Its entry for the device in a folder, by the whole path or its last part.
    #[must_use]
    pub fn device(&self, folder: &str) -> Option<&DeviceEntry> {
        let short = folder.rsplit('/').next().unwrap_or(folder);
        self.devices.get(folder).or_else(|| self.devices.get(short))
    }

    /// The scope, with devices by the names that the file gives them.
    pub(crate) fn scope_of_names(&self) -> Option<Scope> {
        let named = |system: &String| {
            let stated = self.devices.get(system).and_then(|entry| entry.name.as_ref());
            stated.unwrap_or(system).clone()
        };
        let mut scope = self.scope.clone()?;
        scope.systems = scope.systems.iter().map(named).collect();
        scope.out = scope.out.iter().map(|(system, reason)| (named(system), reason.clone())).collect();
        for sample in &mut scope.samples {
            sample.systems = sample.systems.iter().map(named).collect();
        }
        Some(scope)
    }

    /// The IKE daemon of a device, where it is stated.
    #[must_use]
    pub fn ike_of(&self, folder: &str) -> Option<IkeDaemon> {
        self.device(folder)?.ike
    }

    /// Reads the text of an estate file.
    ///
    /// # Errors
    /// When it is not TOML, has a key that is not known, or a value that is none of those expected.
    pub fn parse(text: &str, known: KnownCheck<'_>) -> Result<Self, EstateFileError> {
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
                    "`{}` is not a network; expected an address with a prefix, such as 198.51.100.0/24",
                    network.as_ref()
                ),
            })?);
        }
        // A word out of a few.
        let word = |what: &str, stated: &toml::Spanned<String>, known: &[&str]| {
            let at = known.iter().position(|one| one == stated.as_ref());
            at.ok_or_else(|| EstateFileError {
                line: line_of(stated.span().start),
                text: format!("{what} `{}` is not known; expected {}", stated.as_ref(), known.join(" or ")),
            })
        };
        let sends = |stated: &Option<toml::Spanned<String>>| -> Result<Option<Sends>, EstateFileError> {
            let Some(stated) = stated else { return Ok(None) };
            let at = word("sends", stated, &["everything", "some networks"])?;
            Ok(Some([Sends::Everything, Sends::SomeNetworks][at]))
        };
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
            let ike = match &device.ike {
                None => None,
                Some(stated) => {
                    let at = word("ike", stated, &["strongswan", "libreswan"])?;
                    Some([IkeDaemon::StrongSwan, IkeDaemon::Libreswan][at])
                }
            };
            devices.insert(
                folder,
                DeviceEntry {
                    name: device.name,
                    kind,
                    outside: device.outside,
                    site: device.site,
                    contact: device.contact,
                    server_names: device.server_names.all(),
                    ike,
                    sends: sends(&device.sends)?,
                },
            );
        }
        let wanted = Wanted {
            sends: sends(&raw.tunnels.sends)?,
            quantum_resistant: raw.tunnels.quantum_resistant,
            accepts_logged: raw.rules.accepts_logged,
        };
        let pairs = |all: Vec<toml::Spanned<Vec<String>>>| -> Result<Vec<InterfacePair>, EstateFileError> {
            all.into_iter()
                .map(|one| {
                    let line = line_of(one.span().start);
                    pair(one.as_ref()).ok_or_else(|| EstateFileError {
                        line,
                        text: "expected two interfaces, such as [\"edge:eth1\", \"files:eth0\"]".to_owned(),
                    })
                })
                .collect()
        };
        let (joined, apart) = (pairs(raw.shape.joined)?, pairs(raw.shape.apart)?);
        let mut intents = Vec::new();
        for one in raw.intent {
            let line = line_of(one.span().start);
            let one = one.into_inner();
            let services: Result<Vec<_>, String> =
                one.services.all().iter().map(|text| service(text)).collect();
            let services = services.map_err(|text| EstateFileError { line, text })?;
            intents.push(Intent { from: one.from, to: one.to.all(), services, only: one.only, line });
        }
        let mut accepts = Vec::new();
        for one in raw.accept {
            let line = line_of(one.span().start);
            accepts.push(one.into_inner().valid(line, &line_of, known)?);
        }
        let mut answers = Vec::new();
        for one in raw.answer {
            let line = line_of(one.span().start);
            answers.push(one.into_inner().valid(line, &line_of, known)?);
        }
        let organisation = raw.organisation.all();
        let baseline = BaselineFile::of(text, &line_of)?;
        let scope = raw.scope.map(|scope| scope.valid(&line_of)).transpose()?;
        Ok(Self {
            organisation,
            networks,
            administrator_groups: raw.logins.administrator_groups.all(),
            devices,
            wanted,
            joined,
            apart,
            intents,
            accepts,
            answers,
            baseline,
            report: raw.report,
            scope,
        })
    }
}

/// `tcp 443`, `udp 5000-5010`, or `tcp` for every port.
fn service(text: &str) -> Result<(u8, PortRange), String> {
    let wrong = || {
        format!(
            "service `{text}` is not known; expected tcp or udp and ports, such as `tcp 443` or `udp 5000-5010`"
        )
    };
    let mut words = text.split_whitespace();
    let protocol = match words.next().map(str::to_ascii_lowercase).as_deref() {
        Some("tcp") => 6,
        Some("udp") => 17,
        _ => return Err(wrong()),
    };
    let ports = match words.next() {
        None => PortRange { first: 0, last: 65535 },
        Some(ports) => {
            let (first, last) = ports.split_once('-').unwrap_or((ports, ports));
            let port = |text: &str| text.parse::<u16>().map_err(|_| wrong());
            PortRange { first: port(first)?, last: port(last)? }
        }
    };
    if ports.first > ports.last || words.next().is_some() { Err(wrong()) } else { Ok((protocol, ports)) }
}

/// Two texts of the form `device:interface`.
fn pair(texts: &[String]) -> Option<InterfacePair> {
    let [a, b] = texts else { return None };
    let one = |text: &str| {
        let (device, interface) = text.split_once(':')?;
        (!device.is_empty() && !interface.is_empty()).then(|| (device.to_owned(), interface.to_owned()))
    };
    Some([one(a)?, one(b)?])
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Read where two checks are known.
    pub(super) fn parsed(text: &str) -> Result<ValidEstateFile, EstateFileError> {
        ValidEstateFile::parse(text, &|id| {
            let known = ["tunnels/pptp", "upkeep/no-time-source"];
            known
                .into_iter()
                .find(|one| *one == id)
                .ok_or_else(|| UnknownCheck { id: id.to_owned(), near: None })
        })
    }

    #[test]
    fn what_is_taken() {
        let file =
            parsed("organisation = \"Veyholm\"\n[device.edge]\nkind = \"router\"\noutside = [\"eth0\"]\n");
        let file = file.unwrap();
        assert_eq!(file.organisation, ["Veyholm"]);
        assert_eq!(file.devices["edge"].kind, Some(DeviceKind::Router));
        assert_eq!(file.devices["edge"].outside.as_deref(), Some(&["eth0".to_owned()][..]));
        assert_eq!(parsed("").unwrap(), ValidEstateFile::default());
        let file = parsed(
            "[tunnels]\nsends = \"everything\"\nquantum_resistant = true\n[rules]\naccepts_logged = true\n[device.edge]\nike = \"libreswan\"\nsends = \"some networks\"\n",
        )
        .unwrap();
        assert_eq!(
            file.wanted,
            Wanted { sends: Some(Sends::Everything), quantum_resistant: true, accepts_logged: true }
        );
        let edge = &file.devices["edge"];
        assert_eq!((edge.ike, edge.sends), (Some(IkeDaemon::Libreswan), Some(Sends::SomeNetworks)));
    }

    #[test]
    fn intents() {
        let file = parsed(
            "[[intent]]\nfrom = \"outside\"\nto = \"web\"\nservices = [\"tcp 443\", \"udp 5000-5010\", \"TCP\"]\nonly = true\n",
        );
        let one = &file.unwrap().intents[0];
        let ports: Vec<String> =
            one.services.iter().map(|(protocol, ports)| format!("{protocol} {ports}")).collect();
        assert_eq!((one.from.as_str(), one.only, one.line), ("outside", true, 1));
        assert_eq!(ports, ["6 443", "17 5000-5010", "6 0-65535"]);
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line() {
        for (text, line, part) in [
            ("[shape]\njoined = [[\"a:eth0\"]]\n", 2, "expected two interfaces"),
            ("\n[[intent]]\nfrom = \"a\"\nto = \"b\"\nservices = \"sctp 9\"\n", 2, "sctp 9"),
            ("[[intent]]\nfrom = \"a\"\nto = \"b\"\nservices = \"tcp 9-1\"\n", 1, "tcp 9-1"),
            ("[[intent]]\nto = \"b\"\n", 1, "from"),
            ("organisation = [\n", 1, "array"),
            ("\nnetworks = [\"10.4.0.0/33\"]\n", 2, "10.4.0.0/33"),
            ("\ncolour = 3\n", 2, "unknown field `colour`"),
            ("[device.edge]\nkind = \"toaster\"\n", 2, "toaster"),
            ("[device.edge]\nexterior = []\n", 2, "exterior"),
            ("[tunnels]\nsends = \"all\"\n", 2, "everything or some networks"),
            ("[device.edge]\n\nike = \"other\"\n", 3, "strongswan or libreswan"),
        ] {
            let error = parsed(text).unwrap_err();
            assert!(error.text.contains(part), "{text}: {error}");
            assert_eq!(error.line, line, "{text}: {error}");
        }
    }
}
