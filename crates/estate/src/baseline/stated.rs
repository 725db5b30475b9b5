//! The baseline as the estate file states it.
//!
//! ```toml
//! [baseline]
//! base = "strict"                # a ready-made one; the default where left out
//! local_logins = 5
//!
//! [baseline.site.yard]          # for devices of a place
//! base = "legacy-site"
//!
//! [baseline.device.edge]        # for one device, by its folder or name
//! key_strength = 128
//! ```

use crate::baseline::{
    BaselineRow, DeviceBaseline, DeviceBaselines, MARKS, PredefinedBaseline, READY_MADE, set,
};
use crate::config::EstateFileError;
use std::collections::BTreeMap;
use std::sync::Arc;
use toml::de::{DeTable, DeValue};

/// Thresholds in the estate file.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct BaselineFile {
    /// For the whole estate.
    pub estate: BaselinePart,
    /// For the devices of a place, by its name.
    pub sites: BTreeMap<String, BaselinePart>,
    /// For a device, by its folder or name.
    pub devices: BTreeMap<String, BaselinePart>,
}

/// Thresholds that are stated together.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct BaselinePart {
    /// Name of the ready-made one that it begins with.
    base: Option<String>,
    /// Values by number in the list of thresholds, with their lines.
    values: Vec<(usize, toml::Value, usize)>,
    /// Its line in the estate file, from 1.
    pub line: usize,
}

fn ready_made(name: &str) -> Option<&'static PredefinedBaseline> {
    READY_MADE.baseline.iter().find(|one| one.name == name)
}

/// The ready-made one of this name.
///
/// # Errors
/// The nearest name, when there is none of this one.
fn known_base(name: &str) -> Result<&'static PredefinedBaseline, UnknownBaseline> {
    ready_made(name).ok_or_else(|| {
        let known: Vec<&str> = READY_MADE.baseline.iter().map(|one| one.name.as_str()).collect();
        UnknownBaseline { name: name.to_owned(), hint: hint(name, &known) }
    })
}

/// There is no ready-made baseline of this name.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error("there is no baseline `{name}`; {hint}")]
pub struct UnknownBaseline {
    /// The requested name.
    pub name: String,
    /// The known names.
    pub hint: String,
}

/// The words by which the estate file may name a device: its folder, the last part of that, and its name.
fn keys<'a>(folder: &'a str, name: &'a str) -> [&'a str; 3] {
    [folder, folder.rsplit('/').next().unwrap_or(folder), name]
}

/// The known word that is nearest, for people.
fn hint(word: &str, known: &[&str]) -> String {
    let near =
        known.iter().map(|one| (strsim::jaro_winkler(one, word), one)).max_by(|a, b| a.0.total_cmp(&b.0));
    match near.filter(|(likeness, _)| *likeness > 0.75) {
        Some((_, near)) => format!("did you mean `{near}`?"),
        None => format!("known are {}", known.join(", ")),
    }
}

impl BaselineFile {
    /// Takes the section out of the text of an estate file.
    ///
    /// # Errors
    /// When it has a key that is not known, or a value of another kind than expected.
    pub fn of(text: &str, line_of: &dyn Fn(usize) -> usize) -> Result<Self, EstateFileError> {
        let mut file = Self::default();
        // Invalid TOML was reported before.
        let Ok(whole) = DeTable::parse(text) else { return Ok(file) };
        let Some(section) = whole.get_ref().get("baseline") else { return Ok(file) };
        let wrong = |at: usize, text: String| EstateFileError { line: line_of(at), text };
        let Some(table) = section.get_ref().as_table() else {
            return Err(wrong(section.span().start, "expected a table: [baseline]".to_owned()));
        };
        let places = ["site", "device"];
        for place in places {
            let Some(all) = table.get(place) else { continue };
            let expected = |at: usize| {
                wrong(at, format!("expected names with thresholds, such as [baseline.{place}.edge]"))
            };
            for (name, part) in all.get_ref().as_table().ok_or_else(|| expected(all.span().start))? {
                let table = part.get_ref().as_table().ok_or_else(|| expected(part.span().start))?;
                let part = BaselinePart::of(table, &[], line_of(name.span().start), line_of)?;
                let of_place = if place == "site" { &mut file.sites } else { &mut file.devices };
                of_place.insert(name.get_ref().to_string(), part);
            }
        }
        file.estate = BaselinePart::of(table, &places, line_of(section.span().start), line_of)?;
        Ok(file)
    }

    /// Adds the content of another estate file, which takes precedence.
    pub fn add(&mut self, other: Self) {
        self.estate.base = other.estate.base.or_else(|| self.estate.base.take());
        self.estate.values.extend(other.estate.values);
        self.sites.extend(other.sites);
        self.devices.extend(other.devices);
    }

    /// Replaces the predefined baseline that the file begins with.
    ///
    /// # Errors
    /// The nearest name, when there is none of this one.
    pub fn begin_with(&mut self, name: &str) -> Result<(), UnknownBaseline> {
        self.estate.base = Some(known_base(name)?.name.clone());
        Ok(())
    }

    /// Every threshold that holds for the whole estate.
    #[must_use]
    pub fn rows(&self) -> Vec<BaselineRow> {
        self.device_baselines(std::iter::empty()).rows(std::iter::empty())
    }

    /// The thresholds for devices, each given with its folder, name and site.
    pub fn device_baselines<'a>(
        &self,
        devices: impl Iterator<Item = (&'a str, &'a str, Option<&'a str>)>,
    ) -> DeviceBaselines {
        let begin = self.estate.base.as_deref().and_then(ready_made).unwrap_or(&READY_MADE.baseline[0]);
        let mut base = DeviceBaseline::ready_made(begin);
        self.estate.apply(&mut base, "");
        let base = Arc::new(base);
        let device_baseline = |(folder, name, site): (&str, &str, Option<&str>)| {
            let of_device =
                keys(folder, name).into_iter().find_map(|key| Some((key, self.devices.get(key)?)));
            let of_site = site.and_then(|site| Some((site, self.sites.get(site)?)));
            if of_device.is_none() && of_site.is_none() {
                return Arc::clone(&base);
            }
            let mut device_baseline = (*base).clone();
            for (what, key, part) in of_site
                .map(|(key, part)| ("site", key, part))
                .into_iter()
                .chain(of_device.map(|(key, part)| ("device", key, part)))
            {
                if let Some(begin) = part.base.as_deref().and_then(ready_made) {
                    device_baseline = DeviceBaseline::ready_made(begin);
                }
                part.apply(&mut device_baseline, &format!(", {what} {key}"));
            }
            Arc::new(device_baseline)
        };
        let devices = devices.map(device_baseline).collect();
        DeviceBaselines { base, devices }
    }

    /// The parts that are for a device or place that there is none of, in words.
    pub fn of_nobody<'a>(
        &self,
        devices: impl Iterator<Item = (&'a str, &'a str, Option<&'a str>)> + Clone,
    ) -> Vec<String> {
        let known = |key: &str| devices.clone().any(|(folder, name, _)| keys(folder, name).contains(&key));
        let mut all: Vec<(usize, String)> = Vec::new();
        for (name, part) in self.devices.iter().filter(|(name, _)| !known(name)) {
            all.push((part.line, format!("device `{name}`")));
        }
        for (name, part) in &self.sites {
            if !devices.clone().any(|(_, _, site)| site == Some(name)) {
                all.push((part.line, format!("device at the site `{name}`")));
            }
        }
        all.sort();
        let told = |(line, what)| {
            format!("trevlin.toml, line {line}: there is no {what}, so this baseline has no effect")
        };
        all.into_iter().map(told).collect()
    }
}

impl BaselinePart {
    /// Takes the keys of a table but for `others`.
    fn of(
        table: &DeTable<'_>,
        others: &[&str],
        line: usize,
        line_of: &dyn Fn(usize) -> usize,
    ) -> Result<Self, EstateFileError> {
        let mut part = Self { line, ..Self::default() };
        let mut unused = DeviceBaseline::ready_made(&READY_MADE.baseline[0]).thresholds;
        for (key, value) in
            table.iter().filter(|(key, _)| others.iter().all(|other| *other != key.get_ref().as_ref()))
        {
            let line = line_of(key.span().start);
            let wrong = |text: String| EstateFileError { line, text };
            let name: &str = key.get_ref().as_ref();
            if name == "base" {
                let base = known_base(value.get_ref().as_str().unwrap_or_default())
                    .map_err(|unknown| wrong(unknown.to_string()))?;
                part.base = Some(base.name.clone());
                continue;
            }
            let Some(at) = MARKS.iter().position(|mark| mark.key == name) else {
                let known: Vec<&str> =
                    MARKS.iter().map(|mark| mark.key).chain(["base"]).chain(others.iter().copied()).collect();
                return Err(wrong(format!(
                    "there is no threshold `{name}`; {} (`trevlin baseline` lists them)",
                    hint(name, &known)
                )));
            };
            let value = match value.get_ref() {
                DeValue::String(text) => toml::Value::String(text.to_string()),
                DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix())
                    .map_or(toml::Value::Boolean(false), toml::Value::Integer),
                _ => toml::Value::Boolean(false),
            };
            set(&MARKS[at], &mut unused, &value).map_err(|expected| wrong(format!("{name}: {expected}")))?;
            part.values.push((at, value, line));
        }
        Ok(part)
    }

    fn apply(&self, device_baseline: &mut DeviceBaseline, whose: &str) {
        for (at, value, line) in &self.values {
            let mark = &MARKS[*at];
            if set(mark, &mut device_baseline.thresholds, value).is_ok() {
                device_baseline.from.insert(mark.key, format!("trevlin.toml, line {line}{whose}"));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(text: &str) -> Result<BaselineFile, EstateFileError> {
        BaselineFile::of(text, &|offset| 1 + text[..offset].matches('\n').count())
    }

    #[test]
    fn a_device_goes_before_its_site_and_a_site_before_the_estate() {
        let file = parse(
            "[baseline]\nlocal_logins = 5\n[baseline.site.yard]\nbase = \"legacy-site\"\nkey_strength = 90\n\
             [baseline.device.edge]\nkey_strength = 128\nike_lifetime = \"2 hours\"\n",
        )
        .unwrap();
        let device_baselines = file.device_baselines(
            [("a/edge", "edge", None), ("b", "north", Some("yard")), ("c", "edge", Some("yard"))].into_iter(),
        );
        let seen = |device_baseline: &DeviceBaseline| {
            let thresholds = &device_baseline.thresholds;
            (thresholds.local_logins, thresholds.key_strength, thresholds.ike_lifetime / 3600)
        };
        assert_eq!(seen(&device_baselines.base), (5, 112, 24));
        let all: Vec<_> = device_baselines.devices.iter().map(|one| seen(one)).collect();
        assert_eq!(all, [(5, 128, 2), (30, 90, 48), (30, 128, 2)]);
        let from = |at: usize, key: &str| device_baselines.devices[at].from[key].clone();
        assert_eq!(from(0, "local_logins"), "trevlin.toml, line 2");
        assert_eq!(from(2, "key_strength"), "trevlin.toml, line 7, device edge");
        assert_eq!(from(1, "key_strength"), "trevlin.toml, line 5, site yard");
        assert_eq!(from(1, "local_logins"), "legacy-site; Trevlin");
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line() {
        for (text, line, part) in [
            ("baseline = 3\n", 1, "expected a table: [baseline]"),
            ("[baseline]\n\nkey_strenght = 3\n", 3, "did you mean `key_strength`?"),
            ("[baseline]\ncolour = 3\n", 2, "known are login_password_grade"),
            ("[baseline]\nkey_strength = \"3\"\n", 2, "key_strength: expected a number of bits, from 1"),
            ("[baseline]\nlocal_logins = -1\n", 2, "from 0"),
            ("[baseline]\nike_lifetime = \"soon\"\n", 2, "\"8 hours\""),
            ("[baseline]\nlogin_password_grade = \"fine\"\n", 2, "trivial, weak, middling, good or strong"),
            ("[baseline]\nbase = \"stric\"\n", 2, "did you mean `strict`?"),
            ("[baseline.device.edge]\nkeys = 3\n", 2, "there is no threshold `keys`"),
            ("[baseline]\nsite = 3\n", 2, "[baseline.site.edge]"),
        ] {
            let error = parse(text).unwrap_err();
            assert!(error.text.contains(part), "{text}: {error}");
            assert_eq!(error.line, line, "{text}: {error}");
        }
    }

    #[test]
    fn another_beginning_leaves_what_is_stated() {
        let mut file = parse("[baseline]\nlocal_logins = 5\n").unwrap();
        assert!(
            file.begin_with("lenient")
                .unwrap_err()
                .to_string()
                .contains("known are default, strict, legacy-site")
        );
        file.begin_with("strict").unwrap();
        let thresholds = file.device_baselines(std::iter::empty()).base.thresholds;
        assert_eq!((thresholds.local_logins, thresholds.key_strength), (5, 120));
    }
}
