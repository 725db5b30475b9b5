//! Coverage, as text, JSON, CSV and Markdown.

mod data;
mod markdown;
mod text;

pub use data::{coverage_csv, coverage_json};
pub use markdown::coverage_markdown;
pub use text::coverage_text;

use crate::counted;
use trevlin_audit::coverage::{
    CheckCoverage, ControlRow, ControlSheet, Coverage, GapKind, PassEvidence, Standing, State, SystemCoverage,
};
use trevlin_audit::{Area, Check, Need, Scope};

/// A coverage with what of it to show.
#[derive(Debug, Clone, Copy)]
pub struct CoverageView<'a> {
    /// The coverage.
    pub coverage: &'a Coverage,
    /// Catalogues of controls; those that were requested, or all in numbers alone.
    pub sheets: &'a [ControlSheet<'a>],
    /// Whether the controls were requested, rather than the checks.
    pub of_controls: bool,
    /// Whether to show what makes subjects right.
    pub passes: bool,
}

/// The scope as sentences.
pub(crate) fn scope_words(coverage: &Coverage) -> Vec<String> {
    let mut words = Vec::new();
    let Some(scope) = &coverage.scope else { return words };
    let of = |standing: Standing| coverage.systems.iter().filter(move |one| one.standing == standing);
    let period = scope.period().map(|period| format!("{period}; ")).unwrap_or_default();
    words.push(format!("{period}{} in scope.", counted(of(Standing::InScope).count(), "system")));
    let out: Vec<String> = of(Standing::OutOfScope)
        .map(|one| match &one.reason {
            Some(reason) => format!("{} ({reason})", one.name),
            None => one.name.to_string(),
        })
        .collect();
    if !out.is_empty() {
        words.push(format!("Out of scope: {}.", out.join(", ")));
    }
    words.extend(samples(scope));
    words
}

fn samples(scope: &Scope) -> impl Iterator<Item = String> {
    scope.samples.iter().map(|one| {
        let systems = one.systems.join(", ");
        format!(
            "Sample of {}: {} of {}, chosen {}: {systems}.",
            one.of,
            one.systems.len(),
            one.population,
            one.chosen
        )
    })
}

/// Subjects in one line.
pub(crate) fn totals(coverage: &Coverage) -> String {
    let counts = coverage.counts();
    let incomplete = coverage.in_scope().filter(|one| one.not_judged > 0).count();
    let judged = coverage.checks.iter().filter(|one| one.counts.judged() > 0).count();
    let not_judged = match incomplete {
        0 => "every system judged by every check".to_owned(),
        count => format!("{} not judged by every check", counted(count, "system")),
    };
    format!(
        "{} on {}, {}: {} failed, {} undetermined, {} passed; {not_judged}",
        counted(judged, "check"),
        counted(coverage.in_scope().count(), "system"),
        counted(counts.judged(), "subject"),
        counts.failed,
        counts.undetermined,
        counts.passed,
    )
}

/// The first few of several names.
pub(crate) fn few(names: &[String], most: usize) -> String {
    let shown: Vec<&str> = names.iter().take(most).map(String::as_str).collect();
    match names.len().saturating_sub(most) {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

/// Why something was not judged, with the systems.
pub(crate) struct Reason {
    /// The reason, as a phrase.
    pub(crate) words: String,
    /// Systems, with files where it is about some.
    pub(crate) systems: Vec<String>,
    /// How many checks it concerns; all where it concerns the exports as a whole.
    pub(crate) checks: Option<usize>,
}

/// Exports that checks need and that systems lack.
pub(crate) fn lacking(coverage: &Coverage) -> Vec<Reason> {
    let of = |need: Need| {
        let lacks = |one: &&SystemCoverage| !one.is_absent() && one.lacks.has(need);
        let systems: Vec<String> =
            coverage.in_scope().filter(lacks).map(|one| one.name.to_string()).collect();
        let checks = coverage.checks.iter().filter(|one| one.check.needs.contains(&need)).count();
        (!systems.is_empty() && checks > 0).then(|| Reason {
            words: need.words().to_owned(),
            systems,
            checks: Some(checks),
        })
    };
    Need::ALL.into_iter().filter_map(of).collect()
}

/// Why the exports of systems are not all that could show a fault. `most`: how many files of a system are named.
pub(crate) fn gaps(coverage: &Coverage, most: usize) -> Vec<Reason> {
    let mut found: Vec<Reason> = Vec::new();
    for kind in GapKind::ALL {
        let mut systems = Vec::new();
        for one in coverage.in_scope() {
            for gap in one.gaps.iter().filter(|gap| gap.kind == kind) {
                systems.push(match gap.files.as_slice() {
                    [] => one.name.to_string(),
                    files => format!("{} ({})", one.name, few(files, most)),
                });
            }
        }
        if !systems.is_empty() {
            found.push(Reason { words: kind.words().to_owned(), systems, checks: None });
        }
    }
    found
}

/// Names of the systems that a check could not judge.
fn not_judged_names(coverage: &Coverage, check: &Check) -> Vec<String> {
    coverage.not_judged_by(check).map(|one| one.name.to_string()).collect()
}

/// Controls of a catalogue by state, as a phrase.
pub(crate) fn states(sheet: &ControlSheet<'_>) -> String {
    let counts = State::ALL.map(|state| format!("{} {}", sheet.count(state), state.words()));
    match sheet.invisible() {
        0 => counts.join(", "),
        1 => format!("{}; 1 further control is not visible in configurations", counts.join(", ")),
        count => format!("{}; {count} further controls are not visible in configurations", counts.join(", ")),
    }
}

/// The state of a control, in a sentence that can be pasted.
pub(crate) fn justification(row: &ControlRow<'_>, coverage: &Coverage) -> String {
    let names = |wanted: &dyn Fn(&trevlin_audit::coverage::ControlSystem) -> bool| -> Vec<String> {
        let of = row.systems.iter().filter(|one| wanted(one));
        of.map(|one| coverage.systems[one.system].name.to_string()).collect()
    };
    let mut parts = Vec::new();
    if row.counts.failed > 0 {
        let accepted = match row.accepted {
            0 => String::new(),
            count => format!(", {count} of them accepted"),
        };
        let on = few(&names(&|one| one.counts.failed > 0), FEW);
        parts.push(format!("{} failed{accepted}: {on}", counted(row.counts.failed, "subject")));
    }
    if row.counts.undetermined > 0 {
        let on = few(&names(&|one| one.counts.undetermined > 0), FEW);
        parts.push(format!("{} undetermined: {on}", row.counts.undetermined));
    }
    if row.counts.passed > 0 {
        parts.push(format!("{} passed", row.counts.passed));
    }
    let lacking = names(&|one| !one.judged);
    if !lacking.is_empty() {
        parts.push(format!("exports lacking: {}", few(&lacking, FEW)));
    }
    if row.paths_unknown {
        parts.push("paths through other systems are not known".to_owned());
    }
    let explained = row.counts.undetermined > 0 || row.not_judged > 0 || row.paths_unknown;
    if row.state == State::PartlyJudged && !explained {
        parts.push("the exports are not known to be complete".to_owned());
    }
    if parts.is_empty() {
        parts.push(match row.control.is_visible() {
            true => "the exports have no subject of its checks".to_owned(),
            false => "configurations do not show it".to_owned(),
        });
    }
    format!("{}.", parts.join("; "))
}

/// The same in numbers.
pub(crate) fn basis(row: &ControlRow<'_>) -> String {
    let mut parts = Vec::new();
    if row.counts.failed > 0 {
        let on = row.systems.iter().filter(|one| one.counts.failed > 0).count();
        let accepted = match row.accepted {
            0 => String::new(),
            count => format!(", {count} accepted"),
        };
        parts.push(format!("{} failed on {}{accepted}", row.counts.failed, counted(on, "system")));
    }
    if row.counts.undetermined > 0 {
        parts.push(format!("{} undetermined", row.counts.undetermined));
    }
    if row.counts.passed > 0 {
        parts.push(format!("{} passed", row.counts.passed));
    }
    match row.not_judged {
        0 => {}
        1 => parts.push("1 system lacks exports".to_owned()),
        count => parts.push(format!("{count} systems lack exports")),
    }
    if row.paths_unknown {
        parts.push("paths unknown".to_owned());
    }
    if parts.is_empty() {
        parts.push("no subject".to_owned());
    }
    parts.join("; ")
}

/// Systems that are named before the others are counted.
const FEW: usize = 6;

/// Where something is shown to be right: a place, the document of a default, or the estate file.
pub(crate) fn proof(one: &PassEvidence) -> String {
    let place = one.evidence.first().map(|first| {
        let text = first.excerpt.lines().next().unwrap_or_default().trim();
        match text {
            "" => format!("{}:{}", first.path, first.line),
            text => format!("{}:{}  {text}", first.path, first.line),
        }
    });
    let place =
        place.map(|place| if one.limited { format!("{place}  (few sources permitted)") } else { place });
    match (one.default, one.estate_file_line, place) {
        (Some(source), _, Some(place)) => format!("{place}  (default: {source})"),
        (Some(source), _, None) => format!("default: {source}"),
        (None, Some(line), _) => format!("trevlin.toml:{line}"),
        (None, None, Some(place)) => place,
        (None, None, None) => "no line".to_owned(),
    }
}

/// Checks of an area with a subject, or a system that lacks what they need.
pub(crate) fn of_area(coverage: &Coverage, area: Area) -> impl Iterator<Item = &CheckCoverage> {
    coverage.checks.iter().filter(move |one| one.check.area == area)
}
