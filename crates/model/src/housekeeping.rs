//! Operation of a device: log targets, time sources and enabled units; and its Wi-Fi networks.

use crate::served::{Requirement, TransportSecurity};
use crate::written::Word;
use crate::{Origin, Setting};
use serde::{Deserialize, Serialize};

/// Destination of a device's log messages.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LogTarget {
    /// The collector.
    pub host: String,
    /// Transport protocol and encryption.
    pub carried: TransportSecurity,
    /// Whether lost messages are noticed (TCP or RELP).
    pub reliable: bool,
    /// Its line.
    pub origin: Origin,
}

/// A logging program of a device.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LogKeeper {
    /// The program.
    #[serde(deserialize_with = "crate::written::word::one")]
    pub program: Word,
    /// Destinations of log messages.
    pub targets: Vec<LogTarget>,
    /// Information that the exports do not contain, with the line that raises the request.
    pub open: Vec<(String, Origin)>,
    /// The line to point at.
    pub origin: Origin,
}

/// A program that keeps a device's clock.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ClockKeeper {
    /// The program.
    #[serde(deserialize_with = "crate::written::word::one")]
    pub program: Word,
    /// Servers, pools and reference clocks that it follows.
    pub sources: Vec<(String, Origin)>,
    /// Information that the exports do not contain.
    pub open: Vec<(String, Origin)>,
    /// The line to point at.
    pub origin: Origin,
}

/// A protection that is configured and switched off, or left in a file behind a comment sign.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SwitchedOff {
    /// Kind.
    pub kind: ProtectionKind,
    /// Name: a rule, a filter, or a PAM module.
    pub name: String,
    /// The list that it belongs to, such as a PAM stack.
    pub within: Option<String>,
    /// Remark beside it.
    pub note: Option<String>,
    /// The line.
    pub origin: Origin,
}

/// Kind of a protection.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum ProtectionKind {
    /// A rule of a packet filter that denies traffic.
    DenyRule,
    /// A packet filter as a whole.
    Filter,
    /// A PAM module, by its name.
    PamModule,
    /// A second factor of a remote-access service.
    SecondFactor,
    /// Another one, such as an inspection.
    Other,
}

/// Protection of a Wi-Fi network.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Radio {
    /// Name of the network.
    pub name: String,
    /// Interface.
    pub interface: String,
    /// Protection, weakest first: `open`, `WEP`, `WPA`, `WPA2`, `WPA3`, in words.
    pub protection: WifiProtection,
    /// The line that states it.
    pub protection_origin: Origin,
    /// The line that lets TKIP be used.
    pub tkip: Option<Origin>,
    /// The line that lets clients join by button or number (Wi-Fi Protected Setup).
    pub setup: Option<Origin>,
    /// Whether management frames are protected (IEEE 802.11w).
    pub management_frames: Setting<Requirement>,
    /// Whether clients reach one another.
    pub clients_apart: bool,
    /// The line to point at.
    pub origin: Origin,
}

/// Authentication method of a Wi-Fi network.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WifiProtection {
    /// Nothing.
    Open,
    /// Wired Equivalent Privacy, deprecated since IEEE 802.11i.
    Wep,
    /// The first WPA.
    Wpa,
    /// WPA2 with a passphrase.
    Wpa2Passphrase,
    /// WPA2 with a login for each client (IEEE 802.1X).
    Wpa2Login,
    /// WPA3 with a passphrase.
    Wpa3Passphrase,
    /// WPA3 with a login for each client.
    Wpa3Login,
    /// Encrypted without a login (OWE, RFC 8110).
    Encrypted,
}

/// Whether a unit of systemd starts at boot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum UnitState {
    /// It does.
    Enabled,
    /// It does not.
    Disabled,
    /// It cannot be started.
    Masked,
    /// Started by another unit, or not stated.
    Static,
}

/// The unit that shows that a program is not started: none of its units is enabled, and this one is known not to be. Names are
/// compared without their ending and instance; `postgresql@15-main` is an instance of `postgresql` (systemd.unit(5)).
pub fn off_unit(units: &[Unit], of_it: impl Fn(&str) -> bool) -> Option<&Unit> {
    let named = |unit: &&Unit| {
        let (plain, _) = unit.name.rsplit_once('.').unwrap_or((&unit.name, ""));
        of_it(plain.split('@').next().unwrap_or(plain))
    };
    let mut off = None;
    for unit in units.iter().filter(named) {
        match unit.state {
            UnitState::Enabled => return None,
            UnitState::Disabled | UnitState::Masked => off = off.or(Some(unit)),
            UnitState::Static => {}
        }
    }
    off
}

impl Unit {
    /// Its name and state, in words.
    #[must_use]
    pub fn words(&self) -> String {
        let state = match self.state {
            UnitState::Enabled => "enabled",
            UnitState::Disabled => "disabled",
            UnitState::Masked => "masked",
            UnitState::Static => "not started at boot by itself",
        };
        format!("`{}` is {state}", self.name)
    }
}

/// A unit of systemd.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Unit {
    /// Name with its ending.
    pub name: String,
    /// Whether it starts.
    pub state: UnitState,
    /// The line.
    pub origin: Origin,
}
