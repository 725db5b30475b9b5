//! The review as rows, for outputs.

use jiff::civil::Date;
use rayon::prelude::*;
use serde::Serialize;
use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::remarks::{RemarkKind, Told, of_rule};
use trevlin_analysis::filter_review::{FilterReview, describe, filters, hook_word, judges, leads_to};
use trevlin_analysis::incomplete::IncompleteRow;
use trevlin_analysis::lacking::rows_of_filters;
use trevlin_analysis::verdicts::RuleVerdict;
use trevlin_estate::evidence::place;
use trevlin_model::{Chain, ChainKind, Device, Hook, Origin, Rule, Target, Translation, TranslationKind};
use trevlin_packets::jumps::led_to;
use trevlin_packets::program::RuleId;
use trevlin_packets::review::{Left, RuleReview, RuleStatus};

/// Every filter of the estate.
#[derive(Debug, Clone, Serialize)]
pub struct RulesSheet {
    /// Tables that filter, in order of device.
    pub filters: Vec<FilterSheet>,
    /// Translations of addresses and ports, in order of device.
    pub translations: Vec<TranslationRow>,
    /// Missing or unanalysed parts.
    pub incomplete: Vec<IncompleteRow>,
}

/// One rule that translates addresses or ports, or exempts connections from that.
#[derive(Debug, Clone, Serialize)]
pub struct TranslationRow {
    /// Device.
    pub device: String,
    /// Export.
    pub path: String,
    /// Line.
    pub line: u32,
    /// `source`, `destination`, or `none` for an exemption.
    pub translates: &'static str,
    /// From where.
    pub from: String,
    /// To where.
    pub to: String,
    /// Which service.
    pub service: String,
    /// New address and port; empty for that of the outgoing interface, and for an exemption.
    pub becomes: String,
    /// Comment of the rule.
    pub comment: Option<String>,
}

/// One table.
#[derive(Debug, Clone, Serialize)]
pub struct FilterSheet {
    /// Device.
    pub device: String,
    /// Table.
    pub table: String,
    /// IP versions.
    pub families: String,
    /// Export.
    pub path: String,
    /// Line that opens it.
    pub line: u32,
    /// Whether all of it could be followed.
    pub whole: bool,
    /// Its chains.
    pub chains: Vec<ChainSheet>,
    /// Named lists of addresses or ports with something to remark.
    pub lists: Vec<ListRow>,
    /// Totals.
    pub summary: RuleSummary,
}

/// One chain.
#[derive(Debug, Clone, Serialize)]
pub struct ChainSheet {
    /// Name.
    pub name: String,
    /// Where packets enter it by themselves: `input`, `forward` and so on; none for one that rules lead to.
    pub hook: Option<&'static str>,
    /// Default policy: `accept` or `drop`.
    pub policy: Option<&'static str>,
    /// Line that declares it.
    pub line: u32,
    /// Whether anything leads to it.
    pub reached: bool,
    /// Its rules.
    pub rules: Vec<RuleRow>,
}

/// One rule.
#[derive(Debug, Clone, Serialize)]
pub struct RuleRow {
    /// Export.
    pub path: String,
    /// Line.
    pub line: u32,
    /// The rule as written.
    pub text: String,
    /// Its action.
    pub action: String,
    /// From where.
    pub from: String,
    /// To where.
    pub to: String,
    /// Which service.
    pub service: String,
    /// Further conditions.
    pub condition: String,
    /// `in use`, `never met`, `cannot match`, `not reached` or `not decided`.
    pub verdict: RuleVerdict,
    /// Number of new connections that it permits, as a power of two: sources times destinations times services.
    pub breadth: Option<f64>,
    /// Sources of that, as a power of two.
    pub sources: Option<f64>,
    /// Destinations, as a power of two.
    pub destinations: Option<f64>,
    /// Services, as a power of two.
    pub services: Option<f64>,
    /// Share of its traffic that earlier rules leave to it, from 0 to 1.
    pub left: Option<f64>,
    /// Where it is never met: the rules that take everything it holds for, as `path:line`.
    pub covered_by: Vec<String>,
    /// Packets it counted, where the dump has counters.
    pub packets: Option<u64>,
    /// Remarks.
    pub remarks: Vec<RemarkRow>,
}

/// A remark on a rule.
#[derive(Debug, Clone, Serialize)]
pub struct RemarkRow {
    /// Its kind.
    pub kind: RemarkKind,
    /// The remark.
    pub text: String,
    /// Lines of the rules it refers to, as `path:line`.
    pub rules: Vec<RulePlace>,
}

/// The line of a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RulePlace {
    /// Path below the estate.
    pub path: Arc<str>,
    /// Line, from 1.
    pub line: u32,
}

impl fmt::Display for RulePlace {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{}:{}", self.path, self.line)
    }
}

impl Serialize for RulePlace {
    fn serialize<S: serde::Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        out.collect_str(self)
    }
}

/// A named list.
#[derive(Debug, Clone, Serialize)]
pub struct ListRow {
    /// Name.
    pub name: String,
    /// Export.
    pub path: String,
    /// Line.
    pub line: u32,
    /// How many entries it has.
    pub entries: usize,
    /// Remark.
    pub remark: &'static str,
}

/// Totals of one table.
#[derive(Debug, Clone, Default, Serialize)]
pub struct RuleSummary {
    /// Rules.
    pub rules: usize,
    /// Rules that never decide.
    pub never_met: usize,
    /// Rules without which nothing would change.
    pub changes_nothing: usize,
    /// Rules that let every service through.
    pub every_service: usize,
    /// Temporary rules.
    pub temporary: usize,
    /// Rules without a comment.
    pub no_comment: usize,
    /// Rules that let new connections through without a log line.
    pub unlogged: usize,
    /// Chains for traffic to or through the device with the default policy accept.
    pub accepting: Vec<String>,
}

impl RuleSummary {
    fn add(&mut self, rule: &Rule, row: &RuleRow) {
        let has = |kind: RemarkKind| row.remarks.iter().any(|one| one.kind == kind);
        self.rules += 1;
        self.never_met +=
            usize::from(matches!(row.verdict, RuleVerdict::NeverMet | RuleVerdict::CannotMatch));
        self.changes_nothing += usize::from(has(RemarkKind::ChangesNothing));
        self.every_service +=
            usize::from(has(RemarkKind::EveryService) || has(RemarkKind::AcceptsEverything));
        self.temporary += usize::from(has(RemarkKind::Temporary));
        self.no_comment += usize::from(has(RemarkKind::NoComment));
        self.unlogged += usize::from(row.breadth.is_some() && !rule.logs);
    }
}

/// The sheet of every filter, or of those of some devices.
#[must_use]
pub fn sheet(estate: &Analyses, devices: &[String], as_of: Date) -> RulesSheet {
    let wanted = |name: &str| devices.is_empty() || devices.iter().any(|one| one == name);
    let of_device = |(at, device): (usize, &Device)| -> Vec<FilterSheet> {
        if !wanted(&device.name) {
            return Vec::new();
        }
        let mut reviews = estate.filter_reviews(at);
        reviews.sort_by_key(|one| one.filter.families);
        reviews.iter().map(|review| filter_sheet(estate, &device.name, review, as_of)).collect()
    };
    let mut incomplete = rows_of_filters(estate);
    incomplete.retain(|one| wanted(&one.device));
    RulesSheet {
        filters: estate.devices.par_iter().enumerate().flat_map_iter(of_device).collect(),
        translations: translations(estate, &wanted),
        incomplete,
    }
}

/// Rules of the tables in force that translate, each chain in its order.
fn translations(estate: &Analyses, wanted: &dyn Fn(&str) -> bool) -> Vec<TranslationRow> {
    let mut rows = Vec::new();
    for (at, device) in estate.devices.iter().enumerate().filter(|(_, device)| wanted(&device.name)) {
        let tables = estate.tables_in_force(at);
        let chains =
            tables.iter().flat_map(|table| &table.chains).filter(|chain| chain.kind == ChainKind::Nat);
        // What another chain leads to is translated as well.
        let plain = tables.iter().flat_map(|table| &table.chains).filter(|chain| chain.hook.is_none());
        for (chain, hooked) in chains.map(|chain| (chain, true)).chain(plain.map(|chain| (chain, false))) {
            for rule in &chain.rules {
                let (translates, becomes) = match &rule.target {
                    Target::Translate(how) => (direction(how.kind), new_place(how)),
                    Target::Accept if hooked && !rule.matches.is_empty() => ("none", String::new()),
                    _ => continue,
                };
                let described = describe(rule);
                let place = place(estate, rule.origin);
                rows.push(TranslationRow {
                    device: device.name.clone(),
                    path: place.path.to_string(),
                    line: place.line,
                    translates,
                    from: described.from,
                    to: described.to,
                    service: described.service,
                    becomes,
                    comment: rule.comment.clone(),
                });
            }
        }
    }
    rows
}

fn direction(kind: TranslationKind) -> &'static str {
    match kind {
        TranslationKind::Destination | TranslationKind::Redirect => "destination",
        TranslationKind::Source | TranslationKind::Masquerade => "source",
        TranslationKind::NetworkMap => "network",
    }
}

/// The new address and port, as far as they are stated.
fn new_place(how: &Translation) -> String {
    let address = how.addresses.map(|range| range.short());
    let ports = how.ports.map(|ports| format!("port {ports}"));
    address.into_iter().chain(ports).collect::<Vec<_>>().join(" ")
}

fn line_of(estate: &Analyses, origin: Origin) -> u32 {
    estate.export(origin.export).line_of(origin.start)
}

fn filter_sheet(estate: &Analyses, device: &str, review: &FilterReview<'_>, as_of: Date) -> FilterSheet {
    let filter = review.filter;
    // A dump with counters has some that are not zero; a list that was just loaded has none to speak of.
    let counted =
        filter.chains.iter().flat_map(|chain| &chain.rules).any(|rule| rule.packets.unwrap_or(0) > 0);
    let mut summary = RuleSummary::default();
    let (own, others): (Vec<&Chain>, Vec<&Chain>) =
        filter.chains.iter().filter(|chain| chain.hook.is_some()).partition(|chain| filters(filter, chain));
    let own = led_to(filter, own);
    let elsewhere: BTreeSet<&str> = led_to(filter, others).difference(&own).copied().collect();
    let mut chains = Vec::new();
    for (at, chain) in filter.chains.iter().enumerate() {
        let hooked = chain.hook.is_some();
        // A chain of another kind is none of the filter's, nor is what it alone leads to.
        if (hooked && !filters(filter, chain)) || elsewhere.contains(chain.name.as_str()) {
            continue;
        }
        let row = |(number, rule): (usize, &Rule)| {
            let id = RuleId { chain: at as u32, rule: number as u32 };
            let found = review.rules.get(&id).map(|(found, _)| found);
            rule_row(estate, review, id, rule, found, counted, as_of)
        };
        let rules: Vec<RuleRow> = chain.rules.par_iter().enumerate().map(row).collect();
        chain.rules.iter().zip(&rules).for_each(|(rule, row)| summary.add(rule, row));
        if [Hook::Input, Hook::Forward].iter().any(|hook| judges(filter, chain, *hook))
            && chain.policy == Some(Target::Accept)
            && !ends(chain)
        {
            summary.accepting.push(chain.name.clone());
        }
        let reached = hooked
            || rules.iter().any(|row| row.verdict != RuleVerdict::NotReached)
            || leads_to(review, chain);
        chains.push(ChainSheet {
            name: chain.name.clone(),
            hook: chain.hook.map(hook_word),
            policy: chain
                .policy
                .as_ref()
                .map(|policy| if *policy == Target::Accept { "accept" } else { "drop" }),
            line: line_of(estate, chain.origin),
            reached,
            rules,
        });
    }
    let export = estate.export(filter.origin.export);
    FilterSheet {
        device: device.to_owned(),
        table: filter.table.clone(),
        families: filter.families.to_string(),
        path: export.path().to_owned(),
        line: line_of(estate, filter.origin),
        whole: review.whole,
        chains,
        lists: lists(estate, review),
        summary,
    }
}

/// Whether the last rule of a chain decides for everything.
fn ends(chain: &Chain) -> bool {
    chain.rules.last().is_some_and(|rule| {
        rule.matches.is_empty()
            && matches!(rule.target, Target::Drop | Target::Reject | Target::Jump(_) | Target::Goto(_))
    })
}

fn lists(estate: &Analyses, review: &FilterReview<'_>) -> Vec<ListRow> {
    let mut rows = Vec::new();
    for set in &review.filter.sets {
        let remark = match (set.present, set.used_at.is_empty()) {
            (false, _) => "referenced by rules, and missing from the export",
            (true, true) => "not referenced by any rule",
            _ => continue,
        };
        let export = estate.export(set.origin.export);
        rows.push(ListRow {
            name: set.name.clone(),
            path: export.path().to_owned(),
            line: line_of(estate, set.origin),
            entries: set.elements,
            remark,
        });
    }
    rows
}

fn rule_row(
    estate: &Analyses,
    review: &FilterReview<'_>,
    id: RuleId,
    rule: &Rule,
    found: Option<&RuleReview>,
    counted: bool,
    as_of: Date,
) -> RuleRow {
    let Told { described, breadth, remarks } = of_rule(estate, review, id, rule, found, counted, as_of);
    let verdict = match found.map(|found| &found.status) {
        None => RuleVerdict::NotReached,
        Some(RuleStatus::Alive) => RuleVerdict::InUse,
        Some(RuleStatus::Covered { .. }) => RuleVerdict::NeverMet,
        Some(RuleStatus::Impossible) => RuleVerdict::CannotMatch,
        Some(RuleStatus::NotDecided | RuleStatus::TooCostly) => RuleVerdict::NotDecided,
    };
    let left = found.and_then(|found| found.left).map(|left| match left {
        Left::Nothing => 0.0,
        Left::Part(share) => share,
        Left::All => 1.0,
    });
    let evidence = place(estate, rule.origin);
    let text = estate.export(rule.origin.export).text();
    let text = text.get(rule.origin.start as usize..rule.origin.end as usize).unwrap_or_default();
    let text = estate.masker().mask_at(text, rule.origin);
    let covered_by = match found.map(|found| &found.status) {
        Some(RuleStatus::Covered { by }) => {
            let mut places: Vec<String> =
                by.iter().filter_map(|one| review.rule(*one)).map(|rule| estate.place(rule.origin)).collect();
            // Elements of one map are rules of one line.
            places.dedup();
            places
        }
        _ => Vec::new(),
    };
    let remarks = remarks.into_iter().map(|one| RemarkRow {
        kind: one.kind,
        text: one.text,
        rules: {
            let place = |origin: Origin| {
                let export = estate.export(origin.export);
                RulePlace { path: export.shared_path(), line: export.line_of(origin.start) }
            };
            let mut places: Vec<RulePlace> = one.others.into_iter().map(place).collect();
            places.dedup();
            places
        },
    });
    RuleRow {
        path: evidence.path.to_string(),
        line: evidence.line,
        text: text.split_whitespace().collect::<Vec<_>>().join(" "),
        action: described.action,
        from: described.from,
        to: described.to,
        service: described.service,
        condition: described.more,
        verdict,
        breadth: breadth.map(|one| one.all),
        sources: breadth.map(|one| one.sources),
        destinations: breadth.map(|one| one.destinations),
        services: breadth.map(|one| one.services),
        left,
        covered_by,
        packets: rule.packets,
        remarks: remarks.collect(),
    }
}
