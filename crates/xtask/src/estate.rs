//! Generated estates, and their expected findings.

use crate::bulk;
use crate::dice::Dice;
use crate::kinds::{self, Found, Kind};
use crate::place::{OF_A_SITE, Place};
use anyhow::{Context, Result};
use minijinja::{Environment, context};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::path::Path;

/// A finding that is to be there, by the line that is cited first.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Expected {
    /// The check.
    pub check: String,
    /// The device.
    pub device: String,
    /// The export, within the estate.
    pub path: String,
    /// Its line, from 1.
    pub line: usize,
}

/// A made-up device.
#[derive(Debug)]
pub struct Made {
    /// Its folder's name.
    pub name: String,
    /// Its entry in the estate file.
    pub entry: String,
    /// Its exports: where they lie within its folder, and their text.
    pub files: Vec<(String, String)>,
    /// Expected findings.
    pub expected: Vec<Expected>,
}

/// Makes devices.
#[derive(Debug)]
pub struct Maker {
    kinds: Vec<Kind>,
    seed: u64,
    templates: Environment<'static>,
}

/// One device in this number has a fault.
const FAULTY: u64 = 3;

/// Numbers of rules in a gateway's list, with their share of the gateways in percent.
const RULES: [(u64, u64); 5] = [(40, 20), (35, 80), (20, 300), (4, 1_500), (1, 10_000)];

impl Maker {
    /// One that makes devices out of a seed.
    ///
    /// # Errors
    /// Where a kind of device does not hold together.
    pub fn new(seed: u64) -> Result<Self> {
        Ok(Self { kinds: kinds::all()?, seed, templates: templates() })
    }

    /// Every kind of device.
    #[must_use]
    pub fn kinds(&self) -> &[Kind] {
        &self.kinds
    }

    /// The device of a number, of a kind that its place requires, with or without a fault.
    ///
    /// # Errors
    /// Where a template does not hold together.
    pub fn device(&self, number: u64) -> Result<Made> {
        let mut dice = Dice::of(self.seed, &[number]);
        let gateway = number.is_multiple_of(OF_A_SITE);
        let fitting = || self.kinds.iter().filter(|kind| kind.gateway == gateway);
        let mut left = dice.below(fitting().map(|kind| kind.share).sum());
        let kind = fitting().find(|kind| {
            let here = left < kind.share;
            left = left.saturating_sub(kind.share);
            here
        });
        let kind = kind.context("no kind of device for this place")?;
        let faults = kind.faults.len() as u64;
        let fault = (faults > 0 && dice.below(FAULTY) == 0).then(|| dice.below(faults) as usize);
        let mut percent = dice.below(100);
        let rules = RULES.iter().find(|(share, _)| {
            let here = percent < *share;
            percent = percent.saturating_sub(*share);
            here
        });
        self.of_kind(kind, number, fault, rules.map_or(0, |(_, rules)| *rules))
    }

    /// A device of one kind, with one of its faults, and a list with this number of rules where it has one.
    ///
    /// # Errors
    /// Where a template does not hold together.
    pub fn of_kind(&self, kind: &Kind, number: u64, fault: Option<usize>, rules: u64) -> Result<Made> {
        let place = Place { seed: self.seed, number };
        let name = format!("{}-{number:06}", kind.name);
        let fault = fault.map(|at| &kind.faults[at]);
        let render = |text: &str| -> Result<String> {
            let site = place.site();
            let values = context! {
                number, rules, site, name, seed => self.seed,
                own => place.own().to_string(),
                gate => place.address(1).to_string(),
                lan => format!("{}/27", place.address(0)),
                line => place.line(2).to_string(),
                carrier => place.line(1).to_string(),
                line_net => format!("{}/30", place.line(0)),
                v6 => place.v6(),
            };
            Ok(self.templates.render_str(text, values)?)
        };
        let mut files = Vec::with_capacity(kind.files.len());
        for file in &kind.files {
            let text = match fault.filter(|fault| fault.path == file.path) {
                Some(fault) => render(&file.text.replacen(&fault.of, &fault.with, 1)),
                None => render(&file.text),
            };
            files.push((file.path.clone(), text.with_context(|| format!("{name}: {}", file.path))?));
        }
        let first_line =
            |text: &str| text.trim_start_matches('\n').lines().next().unwrap_or_default().to_owned();
        let expect = |found: &Found, path: &str, text: &str| -> Result<Expected> {
            let path = found.path.as_deref().unwrap_or(path);
            let wanted = render(&found.line.clone().unwrap_or_else(|| first_line(text)))?;
            let export = files.iter().find(|(at, _)| at == path);
            let line = export.and_then(|(_, text)| Some(text[..text.find(&wanted)?].matches('\n').count()));
            let line =
                line.with_context(|| format!("{}: no line of `{path}` holds `{wanted}`", kind.name))?;
            let path = format!("{name}/{path}");
            Ok(Expected { check: found.check.clone(), device: name.clone(), path, line: line + 1 })
        };
        let gone = |found: &&Found| !fault.is_some_and(|fault| fault.instead_of.contains(&found.check));
        let mut expected = Vec::new();
        for found in kind.always.iter().filter(gone) {
            expected.push(expect(found, "", "")?);
        }
        if let Some(fault) = fault {
            for found in &fault.found {
                expected.push(expect(found, &fault.path, &fault.with)?);
            }
        }
        let entry = format!("[device.{name}]\n{}\n", render(&kind.entry)?);
        Ok(Made { name, entry, files, expected })
    }

    /// Devices that have each fault of each kind once, and each kind without one.
    ///
    /// # Errors
    /// Where a template does not hold together.
    pub fn every_fault(&self) -> Result<Vec<Made>> {
        let cases = |gateway| -> Vec<(&Kind, Option<usize>)> {
            let kinds = self.kinds.iter().filter(|kind| kind.gateway == gateway);
            kinds
                .flat_map(|kind| {
                    std::iter::once((kind, None))
                        .chain((0..kind.faults.len()).map(move |at| (kind, Some(at))))
                })
                .collect()
        };
        let (gateways, behind) = (cases(true), cases(false));
        let sites = gateways.len().max(behind.len().div_ceil(OF_A_SITE as usize - 1));
        let mut behind = behind.into_iter();
        let mut made = Vec::new();
        for site in 0..sites {
            let (kind, fault) = gateways.get(site).copied().unwrap_or((gateways[0].0, None));
            let first = site as u64 * OF_A_SITE;
            made.push(self.of_kind(kind, first, fault, 24)?);
            for (number, (kind, fault)) in (first + 1..first + OF_A_SITE).zip(behind.by_ref()) {
                made.push(self.of_kind(kind, number, fault, 24)?);
            }
        }
        Ok(made)
    }

    /// Generates an estate with this number of devices in a folder, and returns the expected findings, in order.
    ///
    /// # Errors
    /// Where a file cannot be written.
    pub fn write(&self, devices: u64, into: &Path) -> Result<Vec<Expected>> {
        let made = (0..devices).into_par_iter().map(|number| self.device(number)?.write(into));
        estate_file(into, made.collect::<Result<Vec<_>>>()?)
    }
}

impl Made {
    /// Writes its exports below an estate's folder, and returns its entry for the estate file and the expected findings.
    ///
    /// # Errors
    /// Where a file cannot be written.
    pub fn write(self, into: &Path) -> Result<(String, Vec<Expected>)> {
        for (path, text) in &self.files {
            let path = into.join(&self.name).join(path);
            if let Some(folder) = path.parent() {
                std::fs::create_dir_all(folder)?;
            }
            std::fs::write(&path, text).with_context(|| path.display().to_string())?;
        }
        Ok((self.entry, self.expected))
    }
}

/// Writes the common files of an estate, and returns the expected findings, in order.
///
/// # Errors
/// Where a file cannot be written.
pub fn estate_file(into: &Path, made: Vec<(String, Vec<Expected>)>) -> Result<Vec<Expected>> {
    let mut estate =
        String::from("# A made-up estate.\norganisation = [\"Veyholm Ferry Line\", \"Veyholm\"]\n\n");
    let mut expected = Vec::new();
    for (entry, found) in made {
        estate.push_str(&entry);
        estate.push('\n');
        expected.extend(found);
    }
    let books = into.join("phrasebooks");
    std::fs::create_dir_all(&books)?;
    std::fs::write(books.join("tidelink.toml"), include_str!("../kinds/tidelink.phrasebook.toml"))?;
    std::fs::write(into.join("trevlin.toml"), estate)?;
    expected.sort();
    Ok(expected)
}

/// The place of the device that is being written.
fn place(state: &minijinja::State<'_, '_>) -> Place {
    let number = |name| state.lookup(name).and_then(|value| u64::try_from(value).ok()).unwrap_or_default();
    Place { seed: number("seed"), number: number("number") }
}

/// Functions for templates.
fn templates() -> Environment<'static> {
    let mut all = Environment::new();
    all.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    all.set_keep_trailing_newline(true);
    type State<'a, 'b, 'c> = &'a minijinja::State<'b, 'c>;
    all.add_function("secret", |state: State<'_, '_, '_>, label: &str| place(state).secret(label));
    all.add_function("hash", |state: State<'_, '_, '_>, label: &str| place(state).hash(label));
    all.add_function("key", |state: State<'_, '_, '_>, label: &str| place(state).key(label));
    all.add_function("shell_key", |state: State<'_, '_, '_>, label: &str| place(state).shell_key(label));
    all.add_function("hex", |state: State<'_, '_, '_>, label: &str, length: usize| {
        place(state).hex(label, length)
    });
    all.add_function("at", |state: State<'_, '_, '_>, host: u64| place(state).address(host).to_string());
    all.add_function("pooled", |state: State<'_, '_, '_>, host: u64| place(state).pooled(host).to_string());
    all.add_function("elsewhere", |state: State<'_, '_, '_>, sites: u64, host: u64| {
        Place::address_at(place(state).site() + sites, host).to_string()
    });
    all.add_function("iptables_rules", |state: State<'_, '_, '_>, chain: &str, count: u64| {
        bulk::iptables(place(state), chain, count)
    });
    all.add_function("nft_rules", |state: State<'_, '_, '_>, count: u64| bulk::nftables(place(state), count));
    all.add_function("uci_rules", |state: State<'_, '_, '_>, count: u64| bulk::uci(place(state), count));
    all.add_function("entries", |state: State<'_, '_, '_>, count: u64| bulk::entries(place(state), count));
    all.add_function("members", |state: State<'_, '_, '_>, set: &str, count: u64| {
        bulk::members(place(state), set, count)
    });
    all.add_function("shell_keys", |state: State<'_, '_, '_>, count: u64| {
        bulk::shell_keys(place(state), count)
    });
    all.add_function("accounts", bulk::accounts);
    all.add_function("shadows", bulk::shadows);
    all.add_function("nginx_servers", |state: State<'_, '_, '_>, count: u64| {
        bulk::nginx(place(state), count)
    });
    all.add_function("shares", bulk::shares);
    all.add_function("packages", |state: State<'_, '_, '_>, count: u64| bulk::packages(place(state), count));
    all.add_function("log_lines", |state: State<'_, '_, '_>, count: u64| bulk::log(place(state), count));
    all.add_function("names", |state: State<'_, '_, '_>, count: u64| bulk::names(place(state), count));
    all.add_function("remarks", |count: u64, sign: &str| bulk::remarks(count, sign));
    all
}
