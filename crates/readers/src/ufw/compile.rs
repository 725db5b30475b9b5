//! The files together, as the chains that the start script loads, in its order (ufw-framework(8), `/usr/lib/ufw/ufw-init-functions`).

use super::parts::{PARTS, Part, shipped};
use super::rules::{Report, prefix};
use super::settings::{DIRECTIONS, Policy, Settings};
use crate::iptables::Loader;
use crate::iptables::ipset::Sets;
use crate::making::{open, rule};
use crate::reader::LineRecorder;
use std::collections::BTreeMap;
use trevlin_model::{Export, ExportId, Family, Filter, Ledger, LineClass, Note, Origin, Rule, Target};

/// Content of the files.
pub(super) struct Files<'a> {
    /// The files of rules by what they are and the IP version.
    pub(super) rules: BTreeMap<(Part, Family), &'a Export>,
    pub(super) settings: Settings,
    pub(super) report: Option<Report>,
    /// The place of what no line says.
    pub(super) place: Origin,
}

/// Classes of the lines of a file, with those of lines elsewhere.
pub(super) type OfFiles = BTreeMap<ExportId, (Ledger, Vec<(Origin, LineClass)>)>;

/// The tables that would be loaded.
pub(super) fn compile(files: &Files<'_>, sets: &Sets, of_files: &mut OfFiles) -> Vec<Filter> {
    let mut filters = Vec::new();
    for family in [Family::V4, Family::V6] {
        let Builder { loader, strange, .. } = Builder::all(files, family, sets, of_files);
        for origin in strange {
            if let Some((ledger, _)) = of_files.get_mut(&origin.export) {
                ledger
                    .notes
                    .push(Note { origin, text: "expected ports and addresses as ufw writes them".into() });
            }
        }
        filters.extend(loader.tables().into_iter().map(|mut filter| {
            comment(files, family, &mut filter);
            filter
        }));
    }
    filters
}

struct Builder<'a, 'f> {
    files: &'f Files<'a>,
    family: Family,
    loader: Loader<'f>,
    /// Rows of the report that the program could not have made.
    strange: Vec<Origin>,
}

impl<'a, 'f> Builder<'a, 'f> {
    fn all(files: &'f Files<'a>, family: Family, sets: &'f Sets, of_files: &mut OfFiles) -> Self {
        let mut builder = Self { files, family, loader: Loader::new(family, sets), strange: Vec::new() };
        if family == Family::V6
            && let Some((false, line)) = files.settings.ipv6
        {
            builder.closed(line);
            return builder;
        }
        builder.primary();
        for part in PARTS {
            builder.part(part, of_files);
        }
        builder.policies();
        builder
    }

    /// The line of a policy, with what it says.
    fn policy(&self, at: usize) -> Option<(Policy, Origin)> {
        let reported = self.files.report.as_ref().and_then(|report| report.policies[at]);
        self.files.settings.policies[at].or(reported)
    }

    fn line(&mut self, text: &str, origin: Origin) {
        let whole = self.loader.line("filter", text, origin);
        debug_assert!(whole, "{text}");
    }

    /// Without rules for IPv6 nothing passes but what stays on the machine.
    fn closed(&mut self, line: Origin) {
        for text in [
            ":INPUT DROP",
            ":FORWARD DROP",
            ":OUTPUT DROP",
            "-A INPUT -i lo -j ACCEPT",
            "-A OUTPUT -o lo -j ACCEPT",
        ] {
            self.line(text, line);
        }
    }

    /// The chains that the built-in ones jump to, with what the policies put into them.
    fn primary(&mut self) {
        let prefix = prefix(self.family);
        let place = self.files.place;
        for (at, direction) in DIRECTIONS.into_iter().enumerate() {
            let built_in = direction.to_ascii_uppercase();
            for step in ["before-logging", "before", "after", "after-logging", "reject", "track"] {
                self.line(&format!(":{prefix}-{step}-{direction}"), place);
                self.line(&format!("-A {built_in} -j {prefix}-{step}-{direction}"), place);
            }
            self.line(&format!(":{prefix}-skip-to-policy-{direction}"), place);
            let skip = format!("{prefix}-skip-to-policy-{direction}");
            match self.policy(at) {
                None => {
                    let rule = Rule::open("the default policy of ufw, which is not among the exports", place);
                    self.loader.rule("filter", &skip, rule.clone());
                    self.loader.rule("filter", &format!("{prefix}-reject-{direction}"), rule);
                }
                Some((policy, line)) => {
                    let target = match policy {
                        Policy::Accept => "ACCEPT",
                        Policy::Drop => "DROP",
                        Policy::Reject => "REJECT",
                    };
                    self.line(&format!("-A {skip} -j {target}"), line);
                    match policy {
                        Policy::Reject => {
                            self.line(&format!("-A {prefix}-reject-{direction} -j REJECT"), line)
                        }
                        Policy::Accept => {
                            for protocol in ["tcp", "udp"] {
                                let chain = format!("{prefix}-track-{direction}");
                                let new = "-m conntrack --ctstate NEW -j ACCEPT";
                                self.line(&format!("-A {chain} -p {protocol} {new}"), line);
                            }
                        }
                        Policy::Drop => {}
                    }
                }
            }
        }
        for chain in ["logging-deny", "logging-allow"] {
            self.line(&format!(":{prefix}-{chain}"), place);
        }
    }

    /// One of the files of rules, or what is known in its place.
    fn part(&mut self, part: Part, of_files: &mut OfFiles) {
        let prefix = prefix(self.family);
        let place = self.files.place;
        if part == Part::User {
            for direction in DIRECTIONS {
                self.line(&format!(":{prefix}-user-{direction}"), place);
                self.line(&format!(":{prefix}-user-logging-{direction}"), place);
            }
            self.line(&format!(":{prefix}-user-limit"), place);
            self.line(&format!(":{prefix}-user-limit-accept"), place);
        }
        match self.files.rules.get(&(part, self.family)) {
            Some(export) => {
                let (mut ledger, mut elsewhere) = (Ledger::new(export.line_count()), Vec::new());
                let mut book = LineRecorder::new(export, &mut ledger, &mut elsewhere);
                self.loader.file(export, &mut book);
                of_files.insert(export.id(), (ledger, elsewhere));
            }
            None => self.instead(part),
        }
        if part == Part::User {
            for direction in DIRECTIONS {
                self.line(&format!("-A {prefix}-before-{direction} -j {prefix}-user-{direction}"), place);
            }
        }
    }

    /// Knowledge of a file of rules that is not among the exports.
    fn instead(&mut self, part: Part) {
        let prefix = prefix(self.family);
        let place = self.files.place;
        if part == Part::User
            && let Some(report) = &self.files.report
        {
            self.line(&format!("-A {prefix}-user-limit -j REJECT"), place);
            self.line(&format!("-A {prefix}-user-limit-accept -j ACCEPT"), place);
            for rule in report.rules.iter().filter(|rule| rule.family == self.family) {
                let understood = |text: &String| self.loader.line("filter", text, rule.origin);
                let refused = rule.lines.iter().map(understood).filter(|whole| !whole).count();
                self.strange.extend((refused > 0).then_some(rule.origin));
            }
            return;
        }
        // Where none of them is there, the export is a report alone, and those of the package are likely.
        let likely = self.files.report.is_some() && self.files.rules.is_empty();
        let name = part.file(self.family);
        if part == Part::Before && likely {
            let shipped = shipped();
            let lines = if self.family == Family::V4 { &shipped.before } else { &shipped.before6 };
            for text in lines {
                self.line(text, place);
            }
            for direction in DIRECTIONS {
                let what = format!("a rule of `{name}` of ufw, which is not among the exports");
                let rule = rule(vec![open(what)], Target::Accept, place);
                self.loader.rule("filter", &format!("{prefix}-before-{direction}"), rule);
            }
        }
        if !likely {
            let step = match part {
                Part::Before => "before",
                Part::User => "user",
                Part::After => "after",
            };
            for direction in DIRECTIONS {
                let what = format!("`{name}` of ufw, which is not among the exports");
                self.loader.rule("filter", &format!("{prefix}-{step}-{direction}"), Rule::open(&what, place));
            }
        }
    }

    fn policies(&mut self) {
        let place = self.files.place;
        for (at, direction) in DIRECTIONS.into_iter().enumerate() {
            let (word, line) = match self.policy(at) {
                Some((Policy::Accept, line)) => ("ACCEPT", line),
                Some((Policy::Drop | Policy::Reject, line)) => ("DROP", line),
                None => ("DROP", place),
            };
            let built_in = direction.to_ascii_uppercase();
            self.line(&format!(":{built_in} {word}"), line);
            if self.files.enabled().is_none() {
                let rule = rule(vec![open("ufw is not enabled")], Target::Accept, place);
                self.loader.rule("filter", &built_in, rule);
            }
        }
    }
}

impl Files<'_> {
    /// Whether the filter is loaded: what runs counts before what the next start does.
    pub(super) fn enabled(&self) -> Option<(bool, Origin)> {
        self.report.as_ref().and_then(|report| report.active).or(self.settings.enabled)
    }
}

/// Gives the rules the remarks of the command: in the files of rules a line before them has it in hexadecimal digits.
fn comment(files: &Files<'_>, family: Family, filter: &mut Filter) {
    let mut remarks: BTreeMap<Origin, String> = BTreeMap::new();
    if let Some(export) = files.rules.get(&(Part::User, family)) {
        let mut remark = None;
        for line in export.lines() {
            let text = line.text.trim();
            if let Some(tuple) = text.strip_prefix("### tuple ###") {
                remark = tuple.split_once(" comment=").and_then(|(_, digits)| decoded(digits.trim()));
            } else if text.starts_with("-A ")
                && let Some(remark) = &remark
            {
                remarks.insert(export.origin_of(text), remark.clone());
            }
        }
    } else if let Some(report) = &files.report {
        let rules = report.rules.iter().filter(|rule| rule.family == family);
        remarks.extend(rules.filter_map(|rule| Some((rule.origin, rule.comment.clone()?))));
    }
    for rule in filter.chains.iter_mut().flat_map(|chain| &mut chain.rules) {
        if let Some(remark) = remarks.get(&rule.origin) {
            rule.comment = Some(remark.clone());
        }
    }
}

/// Text of hexadecimal digits.
fn decoded(digits: &str) -> Option<String> {
    let pairs = digits.as_bytes().chunks(2);
    let bytes: Option<Vec<u8>> =
        pairs.map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()).collect();
    String::from_utf8(bytes?).ok()
}
