//! fail2ban: the jails that are on, with the failures that they count and what they ban from. All files of a device count together.
//!
//! Format: jail.conf(5), fail2ban(1).

use super::python_ini::{Line, Settings, Value, parse};
use crate::addresses;
use crate::announced::is_secret_variable;
use crate::iptables::{protocol, services};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::login_guard::{Ban, Jail, LoginGuard};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, ExportId, Ledger, LineClass, Origin, PortRange};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "fail2ban",
    title: "jails of fail2ban",
    manual: "jail.conf(5)",
    recognise: |export| match role(export) {
        Some(_) => Recognition::Content,
        None => Recognition::No,
    },
    read,
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Actions {
    everything: BTreeSet<String>,
    nothing: BTreeSet<String>,
    commands: Vec<String>,
}

trevlin_model::table! {
/// What actions do.
static ACTIONS: Actions = "../../tables/guards.toml"; }

/// Place of a file in the order in which the program reads them (jail.conf(5), CONFIGURATION FILES FORMAT).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Role {
    Main,
    Parts,
    Local,
    LocalParts,
    /// Read where another file names it.
    Named,
    /// Settings of the program itself, of which none decides what is judged.
    Program,
}

fn role(export: &Export) -> Option<Role> {
    let (folder, name) = export.path().rsplit_once('/').unwrap_or(("", export.path()));
    let local = name.ends_with(".local");
    if !local && !name.ends_with(".conf") {
        return None;
    }
    if let Some(inner) = folder.rsplit('/').next().filter(|_| folder.contains("fail2ban")) {
        return match (inner, name) {
            ("jail.d", _) => Some(if local { Role::LocalParts } else { Role::Parts }),
            ("fail2ban.d", _) | ("fail2ban", "fail2ban.conf" | "fail2ban.local") => Some(Role::Program),
            ("fail2ban", "jail.conf") => Some(Role::Main),
            ("fail2ban", "jail.local") => Some(Role::Local),
            ("fail2ban", _) if name.starts_with("paths-") => Some(Role::Named),
            _ => None,
        };
    }
    let signs = ["bantime", "maxretry", "banaction", "enabled", "ignoreip"];
    let has = |export: &Export| {
        let mut section = false;
        export.lines().any(|line| {
            let text = line.text.trim();
            section |= text.starts_with('[') && text.ends_with(']');
            section && signs.iter().any(|sign| text.starts_with(sign))
        })
    };
    match name {
        "jail.conf" if has(export) => Some(Role::Main),
        "jail.local" if has(export) => Some(Role::Local),
        _ => None,
    }
}

/// All files of a device together.
#[derive(Default)]
struct Together {
    /// The file with which the guard is handed over.
    first: Option<ExportId>,
    guard: Option<LoginGuard>,
    of_files: BTreeMap<ExportId, (Ledger, Vec<(Origin, LineClass)>)>,
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let together = if around.exports.iter().any(|one| one.id() == export.id()) {
        around.once(|| Together::of(&around.exports))
    } else {
        Arc::new(Together::of(&[export]))
    };
    let mut reading = Reading::of(export);
    if let Some((ledger, elsewhere)) = together.of_files.get(&export.id()) {
        reading.ledger = ledger.clone();
        reading.elsewhere.clone_from(elsewhere);
    } else {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let first = export.lines().next().map_or(export.origin(0..0), |line| export.origin_of(line.text));
        book.not_understood(first, "expected a file of fail2ban in its folder");
    }
    secrets(export, &mut reading);
    if together.first == Some(export.id()) {
        reading.facts.login_guards.extend(together.guard.clone());
    }
    reading
}

/// Keeps the secrets of actions that report to others: `name = value` and options in brackets.
fn secrets(export: &Export, reading: &mut Reading) {
    for line in export.lines() {
        let text = line.text.trim();
        if text.starts_with(['#', ';']) {
            continue;
        }
        for part in text.split(['[', ']', ',']) {
            let Some((key, value)) = part.split_once('=') else { continue };
            let (key, value) = (key.trim(), value.trim().trim_matches(['"', '\'']));
            if !value.contains(['%', '<']) && is_secret_variable(key, value) {
                serving::hold(export, &mut reading.facts, value, SecretKind::ServicePassword, key);
            }
        }
    }
}

impl Together {
    fn of(exports: &[&Export]) -> Self {
        let mut together = Self::default();
        let mut all: Vec<(Role, &Export)> =
            exports.iter().filter_map(|export| Some((role(export)?, *export))).collect();
        all.sort_by_key(|(role, export)| (*role, export.path()));
        let mut order: Vec<&Export> = Vec::new();
        for (role, export) in &all {
            if *role < Role::Named {
                place(export, &all, &mut order, &mut BTreeSet::new());
            }
        }
        let mut settings = Settings::default();
        let mut refused = None;
        for export in &order {
            let (sections, lines) = parse(export);
            together.record(export, &lines);
            settings.add(sections);
            let stops = lines.iter().find_map(|(origin, line)| match line {
                Line::Strange(_) => Some(("a line of its files is not valid".to_owned(), *origin)),
                Line::Understood => None,
            });
            refused = refused.or(stops);
        }
        for (role, export) in &all {
            if *role == Role::Program {
                let (_, lines) = parse(export);
                together.record(export, &lines);
            } else if !order.iter().any(|one| one.id() == export.id()) {
                // Packages bring files for other systems along, which no file names.
                together.record(export, &[]);
            }
        }
        let own = all.iter().filter(|(role, _)| *role < Role::Named).map(|(_, export)| *export);
        // The file of the system itself tells more than that of the package.
        let Some(first) = own.max_by_key(|export| role(export)) else { return together };
        together.first = Some(first.id());
        let mut guard = LoginGuard {
            program: "fail2ban".into(),
            jails: Vec::new(),
            switched_off: Vec::new(),
            origin: first.origin(0..first.lines().next().map_or(0, |line| line.text.len())),
        };
        let files = Files { settings: &settings, exports };
        for name in settings.names().filter(|name| !matches!(*name, "INCLUDES")) {
            match settings.get(name, "enabled") {
                Some(Ok(value)) if serving::truth(&value.text) == Some(true) => {
                    let (jail, strange) = files.jail(name, value.origin);
                    // It stops at a name without a value as well.
                    refused = refused.or_else(|| {
                        strange
                            .first()
                            .map(|(origin, _)| ("a name in a line has no value".to_owned(), *origin))
                    });
                    guard.jails.push(jail);
                    for (origin, expected) in strange {
                        together.tell(exports, origin, expected);
                    }
                }
                Some(Ok(value))
                    if serving::truth(&value.text) == Some(false)
                        && settings.own(name, "enabled").is_some() =>
                {
                    guard.switched_off.push((name.to_owned(), value.origin));
                }
                Some(Ok(value)) if serving::truth(&value.text) == Some(false) => {}
                Some(Ok(value)) => {
                    together.tell(exports, value.origin, "expected `true` or `false`".to_owned());
                }
                Some(Err(missing)) => {
                    if let Some(value) = settings.raw(name, "enabled") {
                        together.tell(exports, value.origin, missing_name(&missing));
                    }
                }
                // Off unless a line says otherwise.
                None => {}
            }
        }
        for jail in &mut guard.jails {
            jail.fault = refused.clone().or(jail.fault.take());
        }
        together.guard = Some(guard);
        together
    }

    fn record(&mut self, export: &Export, lines: &[(Origin, Line)]) {
        let (mut ledger, mut elsewhere) = (Ledger::new(export.line_count()), Vec::new());
        ledger.set(1, export.line_count(), LineClass::Ignored);
        let mut book = LineRecorder::new(export, &mut ledger, &mut elsewhere);
        for (origin, line) in lines {
            match line {
                Line::Understood => book.class(*origin, LineClass::Understood),
                Line::Strange(expected) => book.not_understood(*origin, *expected),
            }
        }
        self.of_files.insert(export.id(), (ledger, elsewhere));
    }

    /// Records a value without a meaning, in its file.
    fn tell(&mut self, exports: &[&Export], origin: Origin, expected: String) {
        let export = exports.iter().find(|export| export.id() == origin.export);
        if let Some((export, (ledger, elsewhere))) = export.zip(self.of_files.get_mut(&origin.export)) {
            let mut book = LineRecorder::new(export, ledger, elsewhere);
            if !book.is_told(origin) {
                book.not_understood(origin, expected);
            }
        }
    }
}

fn missing_name(name: &str) -> String {
    format!("expected a value for the name `{name}` in this line: no section sets it")
}

/// Puts a file, and those that it names before and after itself, into the order of reading.
fn place<'a>(
    export: &&'a Export,
    all: &[(Role, &'a Export)],
    order: &mut Vec<&'a Export>,
    seen: &mut BTreeSet<ExportId>,
) {
    if !seen.insert(export.id()) || order.iter().any(|one| one.id() == export.id()) {
        return;
    }
    let (sections, _) = parse(export);
    let folder = export.path().rsplit_once('/').map_or("", |(folder, _)| folder);
    let mut named = |key: &str, order: &mut Vec<&'a Export>| {
        let list =
            sections.iter().find(|(name, _)| name == "INCLUDES").and_then(|(_, section)| section.get(key));
        for name in list.into_iter().flat_map(|value| value.text.split_whitespace()) {
            // A file of the system's own lies beside that of the package, and is read after it.
            for name in [name.to_owned(), name.replace(".conf", ".local")] {
                let path = format!("{folder}/{name}");
                if let Some((_, found)) = all.iter().find(|(_, one)| one.path() == path) {
                    place(found, all, order, seen);
                }
            }
        }
    };
    named("before", order);
    order.push(export);
    named("after", order);
}

struct Files<'a> {
    settings: &'a Settings,
    exports: &'a [&'a Export],
}

impl Files<'_> {
    fn jail(&self, name: &str, enabled: Origin) -> (Jail, Vec<(Origin, String)>) {
        let mut strange = Vec::new();
        let mut value = |key: &str| match self.settings.get(name, key)? {
            Ok(value) => Some(value),
            Err(missing) => {
                let raw = self.settings.raw(name, key)?;
                strange.push((raw.origin, missing_name(&missing)));
                None
            }
        };
        let seconds = |value: Option<Value>| value.and_then(|value| seconds(&value.text));
        let attempts = value("maxretry").and_then(|value| value.text.parse().ok());
        let (within, banned_for) = (seconds(value("findtime")), seconds(value("bantime")));
        let filter = value("filter");
        let (action, ignored) = (value("action"), value("ignoreip"));
        let exempt = ignored.iter().flat_map(|value| {
            let words = value.text.split([' ', ',', '\n', '\t']).filter(|word| !word.is_empty());
            words.filter_map(|word| Some((addresses::net_of(word)?, value.origin)))
        });
        let bare = filter.as_ref().map_or("", |value| named(&value.text).0).to_owned();
        let fault = filter
            .as_ref()
            .filter(|_| self.lacks_filter(&bare))
            .map(|value| (format!("the filter `{bare}` is not among the files of `filter.d`"), value.origin));
        let jail = Jail {
            name: name.to_owned(),
            filter: bare,
            attempts,
            within,
            banned_for,
            bans: action.iter().flat_map(|value| self.bans(name, value)).collect(),
            exempt: exempt.collect(),
            fault,
            origin: enabled,
        };
        (jail, strange)
    }

    /// Whether the folder of filters is exported and this one is not in it.
    fn lacks_filter(&self, name: &str) -> bool {
        // As many as no administrator writes.
        const WHOLE: usize = 20;
        let mut count = 0;
        let mut found = false;
        for export in self.exports {
            if let Some((_, file)) = export.path().rsplit_once("fail2ban/filter.d/") {
                count += 1;
                found |= file.rsplit_once('.').is_some_and(|(stem, _)| stem == name);
            }
        }
        count >= WHOLE && !found
    }

    /// Bans by the actions of a value.
    fn bans(&self, jail: &str, value: &Value) -> Vec<Ban> {
        let mut bans = Vec::new();
        for action in actions(&value.text) {
            let (name, options) = named(action);
            let option = |key: &str| {
                options.iter().rev().find(|(known, _)| known == key).map(|(_, value)| value.as_str())
            };
            let bare = name.strip_suffix(".py").unwrap_or(name);
            if ACTIONS.nothing.contains(bare) || !self.blocks(bare) {
                continue;
            }
            let mut ban = Ban { protocols: Vec::new(), ports: Vec::new(), origin: value.origin };
            // An action of one's own need not look at ports, and what the actions of the package look at by themselves is SSH.
            let is_own = self.own_action(bare).is_some();
            let usual = |word: &'static str| (!is_own).then_some(word);
            if !ACTIONS.everything.contains(bare) || bare.contains("-allports") {
                let list = option("protocol").or(usual("tcp")).unwrap_or("all");
                ban.protocols.extend(
                    list.split(',').filter_map(|word| protocol(word.trim())).filter(|one| one.0.is_some()),
                );
                let whole = bare.contains("-allports") || option("type") == Some("allports");
                if let Some(list) = option("port").or(usual("ssh")).filter(|_| !whole) {
                    ban.ports.extend(ports(list));
                    // Most actions take the ports of the jail.
                    let own = self.settings.get(jail, "port").and_then(Result::ok);
                    if let Some(own) = own.filter(|own| own.text == list) {
                        ban.origin = own.origin;
                    }
                    if ban.ports.is_empty() {
                        continue;
                    }
                }
            }
            bans.push(ban);
        }
        bans
    }

    /// The file of an action that no package has.
    fn own_action(&self, name: &str) -> Option<&Export> {
        let known = ["iptables", "nftables", "firewallcmd", "bsd-ipfw", "ipfw", "pf"];
        if ACTIONS.everything.contains(name) || known.iter().any(|start| name.starts_with(start)) {
            return None;
        }
        let ends = [format!("fail2ban/action.d/{name}.conf"), format!("fail2ban/action.d/{name}.local")];
        self.exports
            .iter()
            .find(|export| ends.iter().any(|end| export.path().ends_with(end.as_str())))
            .copied()
    }

    /// Whether an action blocks: one of one's own does by its commands.
    fn blocks(&self, name: &str) -> bool {
        self.own_action(name).is_none_or(|export| {
            let (sections, _) = parse(export);
            let mut commands = sections.iter().flat_map(|(_, section)| section.values());
            commands.any(|value| ACTIONS.commands.iter().any(|command| value.text.contains(command.as_str())))
        })
    }
}

/// The actions of a value: each is a name with options in brackets, and a blank or the end of the line ends it.
fn actions(text: &str) -> Vec<&str> {
    let (mut found, mut from) = (Vec::new(), None);
    let (mut depth, mut quote) = (0_u32, None);
    for (at, letter) in text.char_indices() {
        match (quote, letter) {
            (Some(open), letter) if open == letter => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') if depth > 0 => quote = Some(letter),
            (None, '[') => depth += 1,
            (None, ']') => depth = depth.saturating_sub(1),
            (None, letter) if depth == 0 && (letter.is_whitespace() || letter == ',') => {
                found.extend(from.take().map(|from: usize| &text[from..at]));
                continue;
            }
            _ => {}
        }
        from.get_or_insert(at);
    }
    found.extend(from.map(|from| &text[from..]));
    found
}

/// `name[key=value, key="value"]` in its parts.
fn named(text: &str) -> (&str, Vec<(String, String)>) {
    let text = text.trim();
    let Some((name, mut rest)) = text.split_once('[') else { return (text, Vec::new()) };
    let mut options = Vec::new();
    while let Some((key, after)) = rest.split_once('=') {
        let key = key.trim().trim_start_matches([',', ']', '[', ' ']).trim().to_owned();
        let after = after.trim_start();
        let quote = after.chars().next().filter(|letter| matches!(letter, '"' | '\''));
        let (value, further) = match quote {
            Some(quote) => after[1..].split_once(quote).unwrap_or((&after[1..], "")),
            None => after.split_at(after.find([',', ']']).unwrap_or(after.len())),
        };
        options.push((key, value.trim().to_owned()));
        rest = further;
    }
    (name.trim(), options)
}

/// `ssh,2222,1000:1010` by name and number.
fn ports(text: &str) -> Vec<PortRange> {
    let number = |word: &str| {
        let word = word.trim();
        word.parse().ok().or_else(|| services().get(&word.to_ascii_lowercase()).copied())
    };
    let range = |word: &str| {
        let (first, last) = word.split_once(':').unwrap_or((word, word));
        let (first, last) = (number(first)?, number(last)?);
        (first <= last).then_some(PortRange { first, last })
    };
    text.split([',', ' ', '\n']).filter(|word| !word.is_empty()).filter_map(range).collect()
}

/// Seconds of `600`, `10m`, `1h 30m`, `-1` (jail.conf(5), TIME ABBREVIATION FORMAT).
pub(super) fn seconds(text: &str) -> Option<i64> {
    let text = text.trim().to_ascii_lowercase();
    if let Ok(number) = text.parse::<f64>() {
        return Some(number as i64);
    }
    let (mut sum, mut rest) = (0_i64, text.as_str());
    while !rest.is_empty() {
        let digits = rest.find(|letter: char| !letter.is_ascii_digit())?;
        let number: i64 = rest[..digits].parse().ok()?;
        rest = rest[digits..].trim_start();
        let end = rest.find(|letter: char| !letter.is_ascii_alphabetic()).unwrap_or(rest.len());
        let unit: i64 = match &rest[..end] {
            "s" | "ss" | "sec" | "second" | "seconds" => 1,
            "m" | "mm" | "min" | "minute" | "minutes" => 60,
            "h" | "hh" | "hour" | "hours" => 3600,
            "d" | "da" | "dd" | "day" | "days" => 86_400,
            "w" | "wee" | "week" | "weeks" => 604_800,
            "mo" | "mon" | "month" | "months" => 2_629_800,
            "y" | "ye" | "yea" | "year" | "years" => 31_557_600,
            _ => return None,
        };
        sum = sum.checked_add(number.checked_mul(unit)?)?;
        rest = rest[end..].trim_start();
    }
    Some(sum)
}
