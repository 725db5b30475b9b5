//! The thresholds that checks judge by, and the date they judge for.

mod stated;

pub use stated::{BaselineFile, BaselinePart, UnknownBaseline};

use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::secret::Grade;

/// The criteria of the checks: thresholds for each device, and the date.
#[derive(Debug, Clone)]
pub struct Baseline {
    /// The date for which validity is judged.
    pub as_of: Date,
    device_baselines: Arc<DeviceBaselines>,
}

/// Thresholds of an estate.
#[derive(Debug, Clone)]
pub struct DeviceBaselines {
    /// Default thresholds.
    pub base: Arc<DeviceBaseline>,
    /// Thresholds for each device of the estate; the default where none are stated.
    pub devices: Vec<Arc<DeviceBaseline>>,
}

impl Default for DeviceBaselines {
    fn default() -> Self {
        Self { base: Arc::new(DeviceBaseline::ready_made(&READY_MADE.baseline[0])), devices: Vec::new() }
    }
}

/// Thresholds with where each comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceBaseline {
    thresholds: Thresholds,
    /// By key.
    from: BTreeMap<&'static str, String>,
}

/// The thresholds. `tables/baselines.toml` holds their values, with whose figures they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Thresholds {
    /// A login password below this grade is weak.
    pub login_password_grade: Grade,
    /// A login password of fewer characters is weak whatever its grade.
    pub login_password_length: u64,
    /// A community string, a service password or a Wi-Fi passphrase below this grade is weak.
    pub service_secret_grade: Grade,
    /// One of fewer characters is weak whatever its grade.
    pub service_secret_length: u64,
    /// A RADIUS secret below this grade is weak.
    pub shared_secret_grade: Grade,
    /// A RADIUS secret of fewer characters is weak whatever its grade.
    pub shared_secret_length: u64,
    /// A key with fewer bits of security is weak.
    pub key_strength: u64,
    /// A pre-shared key with fewer bits of entropy can be guessed by a determined attacker.
    pub guessing_bits: u64,
    /// Days before its end from which on a certificate counts as expiring.
    pub days_before_expiry: u64,
    /// Keys of IKE that last longer, in seconds, are kept too long.
    pub ike_lifetime: u64,
    /// Keys of what passes through a tunnel that last longer, in seconds, are kept too long.
    pub data_lifetime: u64,
    /// Number of local logins above which an AAA server is expected.
    pub local_logins: u64,
    /// Number of addresses up to which a source limit is an effective protection.
    pub few_addresses: u64,
    /// An export of files to a network with more addresses is wide.
    pub export_addresses: u64,
    /// Smallest number of addresses for which the size of a pool is judged.
    pub pool_clients: u64,
    /// A pool that is this many times larger than the number of its clients is oversized.
    pub pool_times_need: u64,
    /// Number of ports from which on a rule counts as permitting all.
    pub whole_ports: u64,
}

/// A place for a threshold, and its unit.
enum Slot<'a> {
    Grade(&'a mut Grade),
    /// A number of something, from the least that makes sense.
    Count(&'a mut u64, u64, &'static str),
    Seconds(&'a mut u64),
}

/// Description of a threshold, without its value.
struct Mark {
    key: &'static str,
    about: &'static str,
    slot: fn(&mut Thresholds) -> Slot<'_>,
}

const fn mark(key: &'static str, about: &'static str, slot: fn(&mut Thresholds) -> Slot<'_>) -> Mark {
    Mark { key, about, slot }
}

/// Every threshold, in the order in which they are shown.
const MARKS: [Mark; 17] = [
    mark("login_password_grade", "minimum grade of a login password", |all| {
        Slot::Grade(&mut all.login_password_grade)
    }),
    mark("login_password_length", "minimum length of a login password", |all| {
        Slot::Count(&mut all.login_password_length, 1, "characters")
    }),
    mark(
        "service_secret_grade",
        "minimum grade of a community, service password or Wi-Fi passphrase",
        |all| Slot::Grade(&mut all.service_secret_grade),
    ),
    mark(
        "service_secret_length",
        "minimum length of a community, service password or Wi-Fi passphrase",
        |all| Slot::Count(&mut all.service_secret_length, 1, "characters"),
    ),
    mark("shared_secret_grade", "minimum grade of a RADIUS secret", |all| {
        Slot::Grade(&mut all.shared_secret_grade)
    }),
    mark("shared_secret_length", "minimum length of a RADIUS secret", |all| {
        Slot::Count(&mut all.shared_secret_length, 1, "characters")
    }),
    mark("key_strength", "minimum security strength of a key", |all| {
        Slot::Count(&mut all.key_strength, 1, "bits")
    }),
    mark("guessing_bits", "minimum entropy of a pre-shared key", |all| {
        Slot::Count(&mut all.guessing_bits, 1, "bits")
    }),
    mark("days_before_expiry", "warning before a certificate expires", |all| {
        Slot::Count(&mut all.days_before_expiry, 0, "days before")
    }),
    mark("ike_lifetime", "maximum lifetime of IKE keys", |all| Slot::Seconds(&mut all.ike_lifetime)),
    mark("data_lifetime", "maximum lifetime of data keys", |all| Slot::Seconds(&mut all.data_lifetime)),
    mark("local_logins", "maximum number of accounts in a local list", |all| {
        Slot::Count(&mut all.local_logins, 0, "accounts")
    }),
    mark("few_addresses", "number of source addresses that still counts as named hosts", |all| {
        Slot::Count(&mut all.few_addresses, 0, "addresses")
    }),
    mark("export_addresses", "largest network that an NFS export may permit", |all| {
        Slot::Count(&mut all.export_addresses, 1, "addresses")
    }),
    mark("pool_clients", "pool size from which the need is checked", |all| {
        Slot::Count(&mut all.pool_clients, 1, "clients")
    }),
    mark("pool_times_need", "factor above the need at which a pool is oversized", |all| {
        Slot::Count(&mut all.pool_times_need, 1, "times")
    }),
    mark("whole_ports", "number of ports that counts as any service", |all| {
        Slot::Count(&mut all.whole_ports, 1, "ports")
    }),
];

/// A baseline that comes with the program, for a purpose.
#[derive(Debug, Deserialize)]
pub struct PredefinedBaseline {
    /// How it is named in the estate file.
    pub name: String,
    /// Purpose.
    pub purpose: String,
    thresholds: BTreeMap<String, Figure>,
}

#[derive(Debug, Deserialize)]
struct Figure {
    value: toml::Value,
    from: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct PredefinedBaselines {
    baseline: Vec<PredefinedBaseline>,
}

trevlin_model::table! { static READY_MADE: PredefinedBaselines = "../../tables/baselines.toml"; }

/// The baselines that come with the program; the first one holds unless another is named.
#[must_use]
pub fn ready_made() -> &'static [PredefinedBaseline] {
    &READY_MADE.baseline
}

/// A threshold as outputs show it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct BaselineRow {
    /// Its key in the estate file.
    pub key: &'static str,
    /// Subject of the threshold.
    pub about: &'static str,
    /// Its value, with the unit.
    pub value: String,
    /// Where the value comes from.
    pub source: String,
    /// The device for which alone it holds; none for those of the estate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
}

impl Baseline {
    /// The default thresholds, for a date.
    #[must_use]
    pub fn on(as_of: Date) -> Self {
        Self { as_of, device_baselines: Arc::default() }
    }

    /// The thresholds of an estate.
    pub fn new(as_of: Date, device_baselines: Arc<DeviceBaselines>) -> Self {
        Self { as_of, device_baselines }
    }

    /// The date of the audit in days since 1970-01-01.
    #[must_use]
    pub fn day(&self) -> i64 {
        i64::from((self.as_of - Date::constant(1970, 1, 1)).get_days())
    }

    /// The thresholds for a device, by its number in the estate.
    #[must_use]
    pub fn at(&self, device: usize) -> &Thresholds {
        &self.device_baselines.devices.get(device).unwrap_or(&self.device_baselines.base).thresholds
    }
}

impl DeviceBaselines {
    /// Every threshold of the estate, then for each device, by its number, those that differ there.
    pub fn rows<'a>(&self, names: impl Iterator<Item = &'a str>) -> Vec<BaselineRow> {
        let base = &self.base;
        let mut rows: Vec<BaselineRow> = MARKS.iter().map(|mark| row(mark, base, None)).collect();
        for (name, device_baseline) in
            names.zip(&self.devices).filter(|(_, device_baseline)| !Arc::ptr_eq(device_baseline, base))
        {
            let differs =
                |mark: &&Mark| shown(mark, &device_baseline.thresholds) != shown(mark, &base.thresholds);
            rows.extend(
                MARKS.iter().filter(differs).map(|mark| row(mark, device_baseline, Some(name.to_owned()))),
            );
        }
        rows
    }
}

fn row(mark: &Mark, device_baseline: &DeviceBaseline, device: Option<String>) -> BaselineRow {
    BaselineRow {
        key: mark.key,
        about: mark.about,
        value: shown(mark, &device_baseline.thresholds),
        source: device_baseline.from.get(mark.key).cloned().unwrap_or_default(),
        device,
    }
}

/// A value with its unit.
fn shown(mark: &Mark, thresholds: &Thresholds) -> String {
    let mut thresholds = *thresholds;
    match (mark.slot)(&mut thresholds) {
        Slot::Grade(grade) => grade.words().to_owned(),
        Slot::Count(count, _, unit) => format!("{count} {unit}"),
        Slot::Seconds(seconds) => span(*seconds),
    }
}

/// A duration in the largest unit that it is a whole number of.
fn span(seconds: u64) -> String {
    let (count, one, many) = match seconds {
        0 => (0, "second", "seconds"),
        _ if seconds.is_multiple_of(3600) => (seconds / 3600, "hour", "hours"),
        _ if seconds.is_multiple_of(60) => (seconds / 60, "minute", "minutes"),
        _ => (seconds, "second", "seconds"),
    };
    format!("{count} {}", if count == 1 { one } else { many })
}

/// Puts a value in its place.
///
/// # Errors
/// The expected type, when the value has another.
fn set(mark: &Mark, thresholds: &mut Thresholds, value: &toml::Value) -> Result<(), String> {
    match (mark.slot)(thresholds) {
        Slot::Grade(grade) => {
            let known = [Grade::Trivial, Grade::Weak, Grade::Middling, Grade::Good, Grade::Strong];
            let found = known.into_iter().find(|one| value.as_str() == Some(one.words()));
            *grade = found.ok_or("expected a grade: trivial, weak, middling, good or strong")?;
        }
        Slot::Count(count, least, unit) => {
            let found =
                value.as_integer().and_then(|one| u64::try_from(one).ok()).filter(|one| *one >= least);
            *count = found.ok_or_else(|| format!("expected a number of {unit}, from {least}"))?;
        }
        Slot::Seconds(seconds) => {
            let wrong = "expected a time, such as \"8 hours\" or \"30 minutes\"";
            let span: jiff::SignedDuration = value.as_str().ok_or(wrong)?.parse().map_err(|_| wrong)?;
            *seconds = u64::try_from(span.as_secs()).ok().filter(|one| *one > 0).ok_or(wrong)?;
        }
    }
    Ok(())
}

impl DeviceBaseline {
    /// The baseline of this name, on top of the first one.
    pub fn ready_made(one: &PredefinedBaseline) -> Self {
        let nothing = Thresholds {
            login_password_grade: Grade::Trivial,
            login_password_length: 0,
            service_secret_grade: Grade::Trivial,
            service_secret_length: 0,
            shared_secret_grade: Grade::Trivial,
            shared_secret_length: 0,
            key_strength: 0,
            guessing_bits: 0,
            days_before_expiry: 0,
            ike_lifetime: 0,
            data_lifetime: 0,
            local_logins: 0,
            few_addresses: 0,
            export_addresses: 0,
            pool_clients: 0,
            pool_times_need: 0,
            whole_ports: 0,
        };
        let mut device_baseline = Self { thresholds: nothing, from: BTreeMap::new() };
        for base in [&READY_MADE.baseline[0], one] {
            for (mark, figure) in MARKS.iter().filter_map(|mark| Some((mark, base.thresholds.get(mark.key)?)))
            {
                let taken = set(mark, &mut device_baseline.thresholds, &figure.value);
                debug_assert!(taken.is_ok(), "{}: {taken:?}", mark.key);
                device_baseline.from.insert(mark.key, format!("{}; {}", base.name, figure.from));
            }
        }
        device_baseline
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ready_made_ones_hold_together() {
        let keys: Vec<&str> = MARKS.iter().map(|mark| mark.key).collect();
        for one in ready_made() {
            for (key, figure) in &one.thresholds {
                let mark = MARKS.iter().find(|mark| mark.key == key).unwrap_or_else(|| panic!("{key}"));
                let mut thresholds = DeviceBaseline::ready_made(one).thresholds;
                assert_eq!(set(mark, &mut thresholds, &figure.value), Ok(()), "{} of {}", key, one.name);
                assert!(!figure.from.is_empty(), "{} of {}", key, one.name);
            }
        }
        let first = &ready_made()[0];
        assert_eq!(first.name, "default");
        assert_eq!(keys.iter().filter(|key| first.thresholds.contains_key(**key)).count(), keys.len());
        assert_eq!(DeviceBaseline::ready_made(first).from.len(), keys.len());
    }

    #[test]
    fn strict_asks_for_more_and_a_legacy_site_for_less() {
        let thresholds = |at: usize| DeviceBaseline::ready_made(&ready_made()[at]).thresholds;
        let (usual, strict, legacy) = (thresholds(0), thresholds(1), thresholds(2));
        assert!(strict.key_strength > usual.key_strength && usual.key_strength > legacy.key_strength);
        assert!(strict.ike_lifetime < usual.ike_lifetime && usual.ike_lifetime < legacy.ike_lifetime);
        assert!(strict.local_logins < usual.local_logins && usual.local_logins < legacy.local_logins);
        assert_eq!(strict.service_secret_grade, usual.service_secret_grade);
    }

    #[test]
    fn durations_read_as_people_say_them() {
        for (seconds, text) in
            [(3600, "1 hour"), (86_400, "24 hours"), (5400, "90 minutes"), (61, "61 seconds")]
        {
            assert_eq!(span(seconds), text);
        }
    }
}
