//! Exports that checks need and that a device lacks.

use super::received::{Collected, collected};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::Known;
use trevlin_checks::check::Need;
use trevlin_model::Family;

/// A set of needs that are not met.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Lacks(u16);

impl Lacks {
    /// Every need.
    #[must_use]
    pub fn all() -> Self {
        Need::ALL.into_iter().fold(Self::default(), Self::with)
    }

    fn with(self, need: Need) -> Self {
        Self(self.0 | 1 << need as u16)
    }

    /// Whether a need is among them.
    #[must_use]
    pub fn has(self, need: Need) -> bool {
        self.0 & 1 << need as u16 != 0
    }

    /// Whether one of these is among them.
    #[must_use]
    pub fn any_of(self, needs: &[Need]) -> bool {
        needs.iter().any(|need| self.has(*need))
    }

    /// Each of them.
    pub fn iter(self) -> impl Iterator<Item = Need> {
        Need::ALL.into_iter().filter(move |need| self.has(*need))
    }
}

/// Formats in which the whole configuration of a device is one export.
const WHOLE: [&str; 2] = ["uci", "yang"];

/// Role of a script that collects the files of a need.
fn role(need: Need) -> Option<&'static str> {
    match need {
        Need::Accounts | Need::Clock | Need::Log | Need::SavedLogins | Need::Ssh | Need::Sudo => Some("base"),
        Need::Wireless => Some("wireless"),
        // What runs is printed by commands, which may fail.
        Need::Addresses | Need::Filter | Need::Kernel | Need::Routes | Need::Services => None,
    }
}

/// Beginnings of the names that Linux and the BSDs give to interfaces for Wi-Fi (systemd.net-naming-scheme(7), the drivers' manual pages).
const WIRELESS: [&str; 6] = ["wl", "phy", "ath", "iwn", "iwm", "ra"];

/// What each device lacks.
pub(crate) fn of_all(estate: &Analyses) -> Vec<Lacks> {
    (0..estate.devices.len()).map(|at| of(estate, at)).collect()
}

fn of(estate: &Analyses, at: usize) -> Lacks {
    let device = &estate.devices[at];
    let formats: Vec<&str> =
        device.exports.iter().filter_map(|id| estate.exports[id.0 as usize].format).collect();
    // An appliance is described by its own export, or by answers to every question.
    if estate.is_appliance(at) || formats.iter().any(|format| WHOLE.contains(format)) {
        return Lacks::default();
    }
    let facts = &device.facts;
    let collected = collected(estate, at);
    let has = |need: Need| -> bool {
        let by_role = || role(need).zip(collected.as_ref()).is_some_and(|(role, log)| log.has(role));
        let by_file = need.formats().iter().any(|format| formats.contains(format)) || by_role();
        match need {
            Need::Addresses => facts.has_interfaces,
            Need::Filter => estate.shows_filter(at, Family::V4),
            Need::Routes => !facts.routes.is_empty(),
            Need::Services => {
                let explained = || {
                    let services = &estate.internet().services[at];
                    services.iter().all(|one| one.known != Known::Observed || one.is_local())
                };
                collected.as_ref().is_some_and(Collected::is_whole) || facts.has_sockets && explained()
            }
            // Without an interface of its kind there is no network.
            Need::Wireless => {
                let wireless = |name: &str| WIRELESS.iter().any(|start| name.starts_with(start));
                by_file || facts.has_interfaces && !facts.interfaces.iter().any(|one| wireless(&one.name))
            }
            _ => by_file,
        }
    };
    Need::ALL.into_iter().filter(|need| !has(*need)).fold(Lacks::default(), Lacks::with)
}
