//! ufw: its settings, its files of rules, and the report of `ufw status`. All of a device's files together become the tables that its
//! start script loads.
//!
//! Format: ufw(8), ufw-framework(8).

mod compile;
pub(crate) mod parts;
mod rules;
mod settings;

use crate::iptables::{ipset, not_analysed_in};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use compile::{Files, OfFiles, compile};
use parts::{HEAD, Part, Profiles, part};
use rules::report;
use settings::Settings;
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::housekeeping::{ProtectionKind, SwitchedOff};
use trevlin_model::{Export, ExportId, Facts, Family, Ledger, LineClass};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ufw",
    title: "settings, rules and status of ufw",
    manual: "ufw(8), ufw-framework(8)",
    recognise,
    read,
};

/// Kind of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Role {
    /// `/etc/default/ufw` or `ufw.conf`.
    Settings,
    Rules(Part, Family),
    /// Output of `ufw status`.
    Report,
    /// Ports of a program, by name.
    Profiles,
}

fn role(export: &Export) -> Option<Role> {
    let path = export.path();
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let last = folder.rsplit('/').next().unwrap_or(folder);
    let has = |sign: &str| export.lines().any(|line| line.text.trim_start().starts_with(sign));
    if name == "ufw.conf" && (last == "ufw" || has("LOGLEVEL=") || has("ENABLED=")) {
        return Some(Role::Settings);
    }
    if (name == "ufw" && last == "default") || (name.contains("ufw") && has("DEFAULT_INPUT_POLICY=")) {
        return Some(Role::Settings);
    }
    if last == "applications.d" && folder.ends_with("ufw/applications.d") {
        return Some(Role::Profiles);
    }
    if let Some((part, family)) = part(export) {
        return Some(Role::Rules(part, family));
    }
    if last == "ufw"
        && let Some((part, family)) = Part::each().find(|(part, family)| part.file(*family) == name)
    {
        return Some(Role::Rules(part, family));
    }
    is_report(export).then_some(Role::Report)
}

fn is_report(export: &Export) -> bool {
    let mut state = false;
    for line in export.lines().take(HEAD) {
        let text = line.text.trim();
        if text == "Status: active" || text == "Status: inactive" {
            state = true;
            if export.file_name().contains("ufw") {
                return true;
            }
        }
        let more = text.starts_with("Default: ") && text.contains("(incoming)")
            || text.starts_with("To ") && text.contains(" Action ") && text.ends_with("From");
        if state && more {
            return true;
        }
    }
    false
}

fn recognise(export: &Export) -> Recognition {
    match role(export) {
        Some(Role::Rules(..) | Role::Report) => Recognition::Content,
        Some(Role::Settings | Role::Profiles) => Recognition::Name,
        None => Recognition::No,
    }
}

/// Content of all files of a device together.
#[derive(Default)]
struct Together {
    /// The file with which the tables are handed over.
    first: Option<ExportId>,
    facts: Facts,
    /// The file of kernel settings that is applied where the filter is loaded, and whether it is.
    kernel: Option<String>,
    of_files: OfFiles,
}

impl Together {
    fn of(exports: &[&Export], sets: &ipset::Sets) -> Self {
        let mut together = Self::default();
        let mut rules: BTreeMap<(Part, Family), &Export> = BTreeMap::new();
        let mut settings = Settings::default();
        let (mut profiles, mut reports) = (Profiles::new(), Vec::new());
        // The second file of settings is read after the first.
        let mut all: Vec<(&Export, Role)> =
            exports.iter().filter_map(|export| Some((*export, role(export)?))).collect();
        all.sort_by_key(|(export, _)| (export.file_name() == "ufw.conf", export.path()));
        for (export, role) in &all {
            let (mut ledger, mut elsewhere) = (Ledger::new(export.line_count()), Vec::new());
            let mut book = LineRecorder::new(export, &mut ledger, &mut elsewhere);
            match role {
                Role::Settings => settings.read(export, &mut book),
                Role::Profiles => profiles_of(export, &mut profiles, &mut book),
                Role::Rules(part, family) => {
                    // Copies have other names.
                    let named = export.file_name() == part.file(*family);
                    let known = rules.get(&(*part, *family));
                    let in_place = export.path().contains("etc/ufw/");
                    if named || (known.is_none() && !in_place) {
                        rules.insert((*part, *family), export);
                    }
                    continue;
                }
                Role::Report => {
                    reports.push(*export);
                    continue;
                }
            }
            together.of_files.insert(export.id(), (ledger, elsewhere));
        }
        let report = reports.first().map(|export| {
            let report = report(export, &profiles);
            let (mut ledger, mut elsewhere) = (Ledger::new(export.line_count()), Vec::new());
            let mut book = LineRecorder::new(export, &mut ledger, &mut elsewhere);
            report.understood.iter().for_each(|origin| book.understood(*origin));
            for (origin, expected) in &report.strange {
                book.not_understood(*origin, format!("expected {expected}"));
            }
            together.of_files.insert(export.id(), (ledger, elsewhere));
            report
        });
        let user = rules.get(&(Part::User, Family::V4)).or_else(|| rules.get(&(Part::User, Family::V6)));
        let first = user.copied().or_else(|| rules.values().next().copied()).or(reports.first().copied());
        let Some(first) = first else {
            together.kernel = settings.kernel.map(|(path, _)| path);
            return together;
        };
        let place = settings.enabled.map_or(first.origin(0..0), |(_, line)| line);
        together.first = Some(first.id());
        let files = Files { rules, settings, report, place };
        let enabled = files.enabled();
        let filters = compile(&files, sets, &mut together.of_files);
        let is_used = files.rules.iter().any(|((part, _), export)| {
            *part == Part::User && export.lines().any(|line| line.text.starts_with("### tuple ###"))
        });
        if let Some((false, origin)) = enabled {
            // As the package installs it, it is off and has no rule.
            let off = SwitchedOff {
                kind: ProtectionKind::Filter,
                name: "ufw".into(),
                within: None,
                note: None,
                origin,
            };
            together.facts.switched_off.extend(is_used.then_some(off));
            return together;
        }
        together.kernel = files.settings.kernel.map(|(path, _)| path);
        for filter in filters {
            let rules = filter.chains.iter().flat_map(|chain| &chain.rules);
            let name = first.file_name();
            let not_analysed = rules.filter_map(|rule| not_analysed_in(rule, &filter.table, name));
            together.facts.not_analysed.extend(not_analysed);
            together.facts.forwards.extend(trevlin_model::forwards::of(&filter));
            together.facts.filters.push(filter);
        }
        together
    }
}

/// Takes the ports of application profiles (ufw(8), APPLICATION INTEGRATION).
fn profiles_of(export: &Export, profiles: &mut Profiles, book: &mut LineRecorder<'_>) {
    let mut name = None;
    for line in export.lines() {
        let text = line.text.trim();
        let origin = export.origin_of(text);
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        if let Some(section) = text.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            name = Some(section.to_owned());
            book.understood(origin);
        } else if let (Some(name), Some((key, value))) = (&name, text.split_once('=')) {
            match key.trim() {
                "ports" => {
                    profiles.insert(name.clone(), value.trim().to_owned());
                }
                "title" | "description" => {}
                _ => {
                    book.not_understood(origin, "expected `title`, `description` or `ports`");
                    continue;
                }
            }
            book.class(origin, LineClass::Understood);
        } else {
            book.not_understood(origin, "expected `[name]`, or `ports=…` below it");
        }
    }
}

fn together(around: &ReadContext<'_>) -> Arc<Together> {
    let sets = around.once(|| ipset::of(around));
    around.once(|| Together::of(&around.exports, &sets))
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let beside = around.exports.iter().any(|one| one.id() == export.id());
    let together =
        if beside { together(around) } else { Arc::new(Together::of(&[export], &ipset::Sets::default())) };
    let mut reading = Reading::of(export);
    if role(export).is_none() {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        book.not_understood(
            export.lines().next().map_or(export.origin(0..0), |line| export.origin_of(line.text)),
            "expected settings or rules of ufw, or the output of `ufw status`",
        );
    }
    if let Some((ledger, elsewhere)) = together.of_files.get(&export.id()) {
        reading.ledger = ledger.clone();
        reading.elsewhere.clone_from(elsewhere);
    }
    if together.first == Some(export.id()) {
        let own = &together.facts;
        reading.facts.filters.clone_from(&own.filters);
        reading.facts.not_analysed.clone_from(&own.not_analysed);
        reading.facts.forwards.clone_from(&own.forwards);
        reading.facts.switched_off.clone_from(&own.switched_off);
    }
    reading
}

/// Whether a file of kernel settings is one that the program's start applies, and whether it does: none for every other file.
pub(crate) fn applies(export: &Export, around: &ReadContext<'_>) -> Option<bool> {
    let path = export.path();
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    if !folder.ends_with("etc/ufw") {
        return None;
    }
    let named = &together(around).kernel;
    Some(named.as_ref().is_some_and(|named| path.ends_with(named.as_str())))
}

#[cfg(test)]
mod tests;
