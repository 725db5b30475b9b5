//! Verdicts of the tables: one word each in outputs, and values everywhere else.

use serde::Serialize;
use strum::{Display, IntoStaticStr};
use trevlin_model::FactorKind;
use trevlin_model::served::AuthRequirement;

/// Verdict on a login.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Display, IntoStaticStr)]
#[serde(into = "&'static str")]
pub enum LoginVerdict {
    /// No authentication is required.
    #[strum(to_string = "none")]
    Nothing,
    /// One factor is.
    #[strum(to_string = "one factor")]
    OneFactor,
    /// Two factors of different kinds, or more.
    #[strum(to_string = "two factors")]
    TwoFactors,
    /// Not known from the exports.
    #[strum(to_string = "undetermined")]
    Undetermined,
    /// No way to log in is left open.
    #[strum(to_string = "no access")]
    Closed,
}

/// A factor that a login requires.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(into = "&'static str")]
pub enum LoginFactor {
    /// A factor of a kind.
    Kind(FactorKind),
    /// A key that both ends share.
    SharedKey,
    /// A community string of SNMP.
    Community,
    /// The address that a client comes from.
    Address,
}

impl LoginFactor {
    /// The factor in a few words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Kind(kind) => kind.words(),
            Self::SharedKey => "shared key",
            Self::Community => "community",
            Self::Address => "address",
        }
    }

    /// Whether it can be guessed, or made up.
    #[must_use]
    pub fn is_guessable(self) -> bool {
        !matches!(
            self,
            Self::Kind(FactorKind::Certificate | FactorKind::Possession | FactorKind::OneTimeCode)
        )
    }
}

/// Factors that a requirement of a service stands for; none where it accepts no client.
#[must_use]
pub fn required_factors(by: AuthRequirement) -> Option<Vec<LoginFactor>> {
    let kinds = |all: &[FactorKind]| Some(all.iter().map(|kind| LoginFactor::Kind(*kind)).collect());
    match by {
        AuthRequirement::Nothing => Some(Vec::new()),
        AuthRequirement::Address => Some(vec![LoginFactor::Address]),
        AuthRequirement::Community => Some(vec![LoginFactor::Community]),
        AuthRequirement::Password | AuthRequirement::Proof => kinds(&[FactorKind::Knowledge]),
        AuthRequirement::PasswordAndCode => kinds(&[FactorKind::Knowledge, FactorKind::OneTimeCode]),
        AuthRequirement::Certificate => kinds(&[FactorKind::Certificate]),
        AuthRequirement::Refused => None,
    }
}

impl From<LoginFactor> for &'static str {
    fn from(one: LoginFactor) -> Self {
        one.words()
    }
}

/// Factors in words, with something between them.
#[must_use]
pub fn joined_factors(all: &[LoginFactor], between: &str) -> String {
    all.iter().map(|one| one.words()).collect::<Vec<_>>().join(between)
}

/// Result of evaluating an intent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Display, IntoStaticStr)]
#[serde(into = "&'static str")]
pub enum IntentVerdict {
    /// All intended access is permitted, and with `only` nothing beyond it.
    #[strum(to_string = "holds")]
    Holds,
    /// A part of the intended access is blocked.
    #[strum(to_string = "missing")]
    Missing,
    /// There is access beyond the intent.
    #[strum(to_string = "excess")]
    Excess,
    /// Both.
    #[strum(to_string = "missing and excess")]
    MissingAndExcess,
    /// Not known from the exports.
    #[strum(to_string = "undetermined")]
    Undetermined,
}

/// Outcome of a port forward.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Display, IntoStaticStr)]
#[serde(into = "&'static str")]
pub enum ForwardVerdict {
    /// It leads to a service.
    #[strum(to_string = "works")]
    Works,
    /// Nothing answers where it leads.
    #[strum(to_string = "no service")]
    NothingAnswers,
    /// Nothing is known to answer where it leads.
    #[strum(to_string = "no service seen")]
    PerhapsNothingAnswers,
    /// It leads to a container of the device.
    #[strum(to_string = "container")]
    Container,
    /// It leads to a host that was not exported.
    #[strum(to_string = "not exported")]
    NotExported,
    /// It leads to an unassigned address.
    #[strum(to_string = "unassigned")]
    NobodyThere,
    /// It is stopped further in.
    #[strum(to_string = "blocked downstream")]
    BlockedLater,
    /// Its packets go in a circle.
    #[strum(to_string = "loops")]
    Circle,
    /// A condition that is not analysed decides.
    #[strum(to_string = "depends")]
    Depends,
    /// No connection from there comes to it.
    #[strum(to_string = "shadowed")]
    NeverMet,
}

/// Destination of permitted traffic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Display, IntoStaticStr)]
#[serde(into = "&'static str")]
#[strum(serialize_all = "lowercase")]
pub enum OpeningTo {
    /// To the device itself.
    Device,
    /// To hosts of a network that it is on.
    Network,
    /// To somewhere beyond.
    Beyond,
}

/// Status of a packet filter rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Display, IntoStaticStr)]
#[serde(into = "&'static str")]
pub enum RuleVerdict {
    /// No chain that packets come to leads to it.
    #[strum(to_string = "unreachable")]
    NotReached,
    /// Packets match it.
    #[strum(to_string = "effective")]
    InUse,
    /// Earlier rules take everything.
    #[strum(to_string = "shadowed")]
    NeverMet,
    /// No packet can match its conditions.
    #[strum(to_string = "cannot match")]
    CannotMatch,
    /// Not decided.
    #[strum(to_string = "not decided")]
    NotDecided,
}

/// Verdict of the checks on a tunnel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(into = "&'static str")]
pub enum TunnelVerdict {
    /// It is not started, and not judged.
    NotStarted,
    /// No findings and no requests.
    NoFinding,
    /// Something is asked.
    Undetermined,
    /// The most severe finding.
    Finding(trevlin_estate::area::Severity),
}

impl TunnelVerdict {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::NotStarted => "not started",
            Self::NoFinding => "no finding",
            Self::Undetermined => "information request",
            Self::Finding(severity) => severity.word(),
        }
    }
}

impl From<TunnelVerdict> for &'static str {
    fn from(one: TunnelVerdict) -> Self {
        one.word()
    }
}
