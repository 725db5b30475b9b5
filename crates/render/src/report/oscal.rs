//! Findings as assessment results in OSCAL (NIST's Open Security Controls Assessment Language, 1.1).

use super::markup::oscal;
use crate::coverage::justification;
use crate::{Renderer, sanitize};
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::io;
use trevlin_audit::coverage::{ControlRow, Coverage, State};
use trevlin_audit::{
    Acceptance, Catalogue, Evidence, Finding, InformationRequest, Outcome, Status, catalogues,
};
use uuid::Uuid;

/// OSCAL assessment results.
#[derive(Debug, Clone, Copy, Default)]
pub struct Oscal<'a> {
    /// Coverage, for the objectives of controls and their evidence.
    pub coverage: Option<&'a Coverage>,
}

const VERSION: &str = "1.1.3";

/// The namespace of our own properties.
const NAMESPACE: &str = "https://trevlin.example/ns/oscal";

/// Identifiers are derived from their objects, so that two runs are identical (RFC 9562, 5.5).
fn id(kind: &str, of: &str) -> String {
    let own = Uuid::new_v5(&Uuid::NAMESPACE_URL, NAMESPACE.as_bytes());
    Uuid::new_v5(&own, format!("{kind}\n{of}").as_bytes()).to_string()
}

impl Renderer for Oscal<'_> {
    fn render(&self, outcome: &Outcome, out: &mut dyn io::Write) -> io::Result<()> {
        // The time of day is left out: the same exports yield the same document.
        let moment = format!("{}T00:00:00Z", outcome.as_of);
        let all: String = outcome.findings().map(|one| one.fingerprint.as_str()).collect();
        let devices: Vec<Value> = outcome.devices.iter().map(component).collect();
        let mut result = json!({
            "uuid": id("result", &all),
            "title": "Audit of exported configurations",
            "description": "Every check over all given exports; the reviewed controls are those of checks that had something to judge. A finding states a weakness, a risk its consequence, an \
                            observation the lines that prove it.",
            "start": moment,
            "end": moment,
            "reviewed-controls": { "control-selections": [reviewed(outcome)] },
        });
        // Lists may be left out in OSCAL, and may not be empty.
        let mut add = |name: &str, list: Vec<Value>| {
            if !list.is_empty() {
                result[name] = Value::Array(list);
            }
        };
        let questions = outcome.open_questions.iter().enumerate();
        let passes = self.coverage.map(passes).unwrap_or_default();
        let objectives = self.coverage.map(|one| objectives(one, outcome)).unwrap_or_default();
        let mut observations: Vec<Value> =
            outcome.findings().map(observation).chain(questions.map(unanswered)).chain(passes).collect();
        observations.iter_mut().for_each(|one| one["collected"] = json!(moment));
        add("observations", observations);
        add("risks", outcome.findings().map(risk).collect());
        add("findings", outcome.findings().map(finding).chain(objectives).collect());
        if !devices.is_empty() {
            result["local-definitions"] = json!({ "components": devices });
        }
        let plan = id("plan", "exports");
        let document = json!({ "assessment-results": {
            "uuid": id("document", &all),
            "metadata": {
                "title": "Audit of exported configurations",
                "last-modified": moment,
                "version": env!("CARGO_PKG_VERSION"),
                "oscal-version": VERSION,
            },
            "import-ap": { "href": format!("#{plan}") },
            "results": [result],
            "back-matter": { "resources": [{
                "uuid": plan,
                "title": "Assessment plan",
                "description": "Exports were read and judged by Trevlin; no device was connected to.",
            }] },
        } });
        crate::json::write(&document, out)
    }
}

/// The catalogue whose controls OSCAL's own catalogue has.
fn catalogue() -> Option<&'static Catalogue> {
    catalogues::all().into_iter().find(|one| one.name == "nist-sp800-53-r5")
}

/// The id of a control in OSCAL's catalogue: an enhancement follows a dot there.
fn control_id(id: &str) -> String {
    id.to_lowercase().replace('(', ".").replace(')', "")
}

/// Controls of SP 800-53 of which a part was judged: those of checks with a subject. The other controls were not reviewed.
fn reviewed(outcome: &Outcome) -> Value {
    let judged: BTreeSet<&str> =
        outcome.tested.iter().filter(|one| one.counts.judged() > 0).map(|one| one.check).collect();
    let controls = catalogue().into_iter().flat_map(|one| &one.controls);
    let met = controls.filter(|control| control.checks.iter().any(|check| judged.contains(check.as_str())));
    let ids: Vec<Value> = met.map(|one| json!({ "control-id": control_id(&one.id) })).collect();
    if ids.is_empty() {
        return json!({ "description": "No control was reviewed: the exports have nothing to judge." });
    }
    json!({
        "description": "Parts of controls of SP 800-53 that the exported configurations show.",
        "include-controls": ids,
    })
}

/// Subjects that are right, with what proves them: one observation for each check and system.
fn passes(coverage: &Coverage) -> Vec<Value> {
    let mut found = Vec::new();
    for one in &coverage.checks {
        for row in one.rows.iter().filter(|row| row.counts.passed > 0) {
            let system = &coverage.systems[row.system];
            if !system.counts_in() {
                continue;
            }
            let proved: Vec<String> = row.quoted.iter().map(crate::coverage::proof).collect();
            let subjects = crate::counted(row.counts.passed, "subject");
            let verb = if row.counts.passed == 1 { "is" } else { "are" };
            let mut made = json!({
                "uuid": id("pass", &format!("{}\n{}", one.check.id, system.name)),
                "title": marked(&format!("Passed: {}", one.check.title)),
                "description": marked(&format!("{subjects} {verb} in order. {}", proved.join("; "))),
                "props": [property("check", one.check.id), property("area", one.check.area.word()), property("passed", &row.counts.passed.to_string())],
                "methods": ["EXAMINE"],
                "types": ["control-objective"],
                "subjects": subject(&system.name),
            });
            let lines: Vec<Evidence> =
                row.quoted.iter().flat_map(|one| one.evidence.iter().take(1)).cloned().collect();
            close(&mut made, &lines);
            found.push(made);
        }
    }
    found
}

/// The objectives of controls: satisfied, or not and why. Those of which nothing was judged have none.
fn objectives(coverage: &Coverage, outcome: &Outcome) -> Vec<Value> {
    let Some(catalogue) = catalogue() else { return Vec::new() };
    let sheet = coverage.controls(catalogue);
    let of_control = |row: &ControlRow<'_>| -> Option<Value> {
        let (state, reason) = match row.state {
            State::Met => ("satisfied", "pass"),
            State::NotMet => ("not-satisfied", "fail"),
            State::PartlyJudged => ("not-satisfied", "other"),
            State::NotJudged => return None,
        };
        let checks: BTreeSet<&str> = row.checks.iter().map(|one| one.check).collect();
        let failed = outcome
            .findings()
            .filter(|one| checks.contains(one.check))
            .map(|one| id("observation", &one.fingerprint));
        let passed = coverage.checks.iter().filter(|one| checks.contains(one.check.id)).flat_map(|one| {
            let rows = one
                .rows
                .iter()
                .filter(|row| row.counts.passed > 0 && coverage.systems[row.system].counts_in());
            rows.map(|row| id("pass", &format!("{}\n{}", one.check.id, coverage.systems[row.system].name)))
        });
        let observations: Vec<Value> =
            failed.chain(passed).map(|uuid| json!({ "observation-uuid": uuid })).collect();
        let control = control_id(&row.control.id);
        let mut made = json!({
            "uuid": id("objective", &control),
            "title": marked(&format!("{}: {}", row.control.id, row.state.words())),
            "description": marked(&format!("{} Judged part: {}.", row.control.says, row.control.shows)),
            "props": [property("state", row.state.words())],
            "target": {
                "type": "objective-id",
                "target-id": format!("{control}_obj"),
                "status": { "state": state, "reason": reason, "remarks": marked(&justification(row, coverage)) },
            },
        });
        if !observations.is_empty() {
            made["related-observations"] = Value::Array(observations);
        }
        Some(made)
    };
    sheet.rows.iter().filter_map(of_control).collect()
}

fn component(device: &trevlin_audit::DeviceSummary) -> Value {
    json!({
        "uuid": id("device", &device.name),
        "type": "network-device",
        "title": marked(&device.name),
        "description": format!("{}, known from {} exports", device.kind.word(), device.exports.len()),
        "status": { "state": "operational" },
    })
}

fn property(name: &str, value: &str) -> Value {
    json!({ "name": name, "ns": NAMESPACE, "value": said(value) })
}

/// A text for a string of OSCAL, which may not be empty or begin or end with a blank.
fn said(text: &str) -> String {
    match sanitize(text).trim() {
        "" => "-".to_owned(),
        text => text.to_owned(),
    }
}

/// The same for one that holds marks.
fn marked(text: &str) -> String {
    oscal(&said(text))
}

fn subject(device: &str) -> Value {
    json!([{ "subject-uuid": id("device", device), "type": "component", "title": marked(device) }])
}

fn relevant(evidence: &[Evidence]) -> Vec<Value> {
    let one = |place: &Evidence| {
        let excerpt: Vec<_> = place.excerpt.lines().map(sanitize).collect();
        let about = format!("{}, line {}: {}", said(&place.path), place.line, excerpt.join(" / "));
        json!({ "description": oscal(about.trim_end()), "props": [property("path", &place.path), property("line", &place.line.to_string())] })
    };
    evidence.iter().map(one).collect()
}

fn observation(one: &Finding) -> Value {
    let mut made = json!({
        "uuid": id("observation", &one.fingerprint),
        "title": marked(&one.title),
        "description": marked(&one.detail),
        "props": [property("check", one.check), property("area", one.area.word()), property("fingerprint", &one.fingerprint)],
        "methods": ["EXAMINE"],
        "types": ["finding"],
        "subjects": subject(&one.device),
    });
    close(&mut made, &one.evidence);
    made
}

/// Information that is missing from the exports is an observation.
fn unanswered((number, one): (usize, &InformationRequest)) -> Value {
    let mut made = json!({
        "uuid": id("question", &format!("{}\n{}\n{number}", one.check, one.device)),
        "title": "Information requests",
        "description": marked(&one.question),
        "props": [property("check", one.check), property("area", one.area.word()), property("open-question", "yes")],
        "methods": ["EXAMINE"],
        "types": ["control-objective"],
        "subjects": subject(&one.device),
    });
    close(&mut made, &one.evidence);
    made
}

fn close(observation: &mut Value, evidence: &[Evidence]) {
    let relevant = relevant(evidence);
    if !relevant.is_empty() {
        observation["relevant-evidence"] = Value::Array(relevant);
    }
}

fn risk(one: &Finding) -> Value {
    // The states of a risk are a closed list: an accepted one is a deviation that was approved.
    let status = if one.status == Status::Accepted { "deviation-approved" } else { "open" };
    let mut properties = vec![property("severity", one.severity.word())];
    properties.extend(one.acceptance.iter().flat_map(|one| acceptance(one)));
    json!({
        "uuid": id("risk", &one.fingerprint),
        "title": marked(&one.title),
        "description": marked(one.why),
        "statement": marked(&one.why_this_severity),
        "props": properties,
        "status": status,
        "characterizations": [{
            "origin": { "actors": [{ "type": "tool", "actor-uuid": id("tool", "trevlin") }] },
            "facets": [{
                "name": "severity",
                "system": "https://www.first.org/cvss/v3-1",
                "value": one.severity.word(),
            }],
        }],
        "remediations": [{
            "uuid": id("remedy", &one.fingerprint),
            "lifecycle": "recommendation",
            "title": "Remedy",
            "description": marked(one.remedy),
        }],
        "related-observations": [{ "observation-uuid": id("observation", &one.fingerprint) }],
    })
}

fn acceptance(one: &Acceptance) -> [Value; 3] {
    [
        property("accepted-by", &one.owner),
        property("accepted-because", &one.reason),
        property(if one.expired { "accepted-until-passed" } else { "accepted-until" }, &one.until),
    ]
}

fn finding(one: &Finding) -> Value {
    json!({
        "uuid": id("finding", &one.fingerprint),
        "title": marked(&one.title),
        "description": marked(&one.detail),
        "props": [property("fingerprint", &one.fingerprint), property("device", &one.device)],
        "target": {
            "type": "objective-id",
            "target-id": one.check.replace('/', "."),
            "title": marked(one.check),
            "status": { "state": "not-satisfied", "reason": "fail" },
        },
        "related-observations": [{ "observation-uuid": id("observation", &one.fingerprint) }],
        "related-risks": [{ "risk-uuid": id("risk", &one.fingerprint) }],
    })
}
