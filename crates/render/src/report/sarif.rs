//! Findings as a SARIF log (Static Analysis Results Interchange Format 2.1.0, an OASIS standard).

use super::markup::{braces, capitalized, sarif, ticked_markdown};
use crate::Renderer;
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use trevlin_audit::coverage::{CheckCoverage, CheckRow, Coverage};
use trevlin_audit::{
    Acceptance, Catalogue, Check, Control, Evidence, Finding, InformationRequest, Outcome, Severity, Status,
    catalogues, checks,
};

/// SARIF 2.1.0.
#[derive(Debug, Clone, Copy, Default)]
pub struct Sarif<'a> {
    /// Coverage, for results of the kinds `pass` and `notApplicable`.
    pub coverage: Option<&'a Coverage>,
}

const SCHEMA: &str =
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// Base of all paths.
const BASE: &str = "ESTATE";

impl Renderer for Sarif<'_> {
    fn render(&self, outcome: &Outcome, out: &mut dyn io::Write) -> io::Result<()> {
        let used: BTreeSet<&str> = outcome
            .findings
            .iter()
            .map(|one| one.check)
            .chain(outcome.open_questions.iter().map(|one| one.check))
            .chain(tested(self.coverage).map(|(_, check, _)| check.id))
            .collect();
        let rules: Vec<&Check> = checks::CHECKS.iter().copied().filter(|one| used.contains(one.id)).collect();
        let places = Places {
            rules: rules.iter().enumerate().map(|(at, one)| (one.id, at)).collect(),
            files: files(outcome),
        };
        let taxonomies = Taxonomies::of(&rules);
        let results = outcome.findings().map(|one| places.finding(one));
        let open = outcome.open_questions.iter().map(|one| places.question(one));
        let right = tested(self.coverage).filter_map(|(system, check, row)| places.right(system, check, row));
        let driver = json!({
            "name": "trevlin",
            "version": env!("CARGO_PKG_VERSION"),
            "semanticVersion": env!("CARGO_PKG_VERSION"),
            "shortDescription": { "text": "Audit of exported configurations of network devices" },
            "supportedTaxonomies": taxonomies.references(),
            "rules": rules.iter().map(|one| rule(one, &taxonomies)).collect::<Vec<_>>(),
        });
        let run = json!({
            "tool": { "driver": driver },
            "originalUriBaseIds": { BASE: { "description": { "text": "The estate given on the command line" } } },
            "columnKind": "unicodeCodePoints",
            "invocations": [{
                "executionSuccessful": true,
                "properties": { "as_of": outcome.as_of },
                "toolExecutionNotifications": notifications(outcome, &places),
            }],
            "artifacts": artifacts(outcome),
            "taxonomies": taxonomies.tables(),
            "results": results.chain(open).chain(right).collect::<Vec<_>>(),
        });
        crate::json::write(&json!({ "$schema": SCHEMA, "version": "2.1.0", "runs": [run] }), out)
    }
}

/// Checks and their subjects on each system in scope.
fn tested<'a>(
    coverage: Option<&'a Coverage>,
) -> impl Iterator<Item = (&'a str, &'static Check, &'a CheckRow)> {
    let rows = coverage.into_iter().flat_map(|coverage| {
        let of = move |one: &'a CheckCoverage| one.rows.iter().map(move |row| (coverage, one.check, row));
        coverage.checks.iter().flat_map(of)
    });
    let rows = rows.filter(|(coverage, _, row)| coverage.systems[row.system].counts_in());
    let rows = rows.filter(|(_, _, row)| row.counts.passed > 0 || row.counts.judged() == 0);
    rows.map(|(coverage, check, row)| (&*coverage.systems[row.system].name, check, row))
}

/// Levels are fewer than severities, which are kept among the properties (SARIF 3.27.10).
fn level(severity: Severity) -> &'static str {
    match severity {
        Severity::Critical | Severity::High => "error",
        Severity::Medium => "warning",
        Severity::Low | Severity::Info => "note",
    }
}

fn rule(check: &Check, taxonomies: &Taxonomies) -> Value {
    let name: String = check.id.split(['/', '-']).map(capitalized).collect();
    json!({
        "id": check.id,
        "name": name,
        "shortDescription": { "text": sarif(check.title) },
        "fullDescription": { "text": sarif(check.why) },
        "help": {
            "text": sarif(&format!("{} {} {}", check.why, check.fix, check.cited())),
            "markdown": format!(
                "{}\n\n**Fix:** {}\n\n**See:** {}",
                braces(&ticked_markdown(check.why)),
                braces(&ticked_markdown(check.fix)),
                braces(&ticked_markdown(&check.cited().to_string()))
            ),
        },
        "defaultConfiguration": { "level": level(check.severity) },
        "relationships": taxonomies.relationships(check),
        "properties": { "tags": [check.area.word()], "severity": check.severity.word(), "references": check.cited() },
    })
}

/// Positions of rules and files in their lists.
struct Places<'a> {
    rules: BTreeMap<&'a str, usize>,
    files: BTreeMap<&'a str, usize>,
}

impl Places<'_> {
    fn finding(&self, one: &Finding) -> Value {
        let mut result = json!({
            "ruleId": one.check,
            "ruleIndex": self.rules.get(one.check),
            "kind": "fail",
            "level": level(one.severity),
            "message": { "text": sarif(&format!("{}: {}. {}", one.device, one.title, one.detail)) },
            "locations": one.evidence.iter().take(1).map(|place| self.location(place)).collect::<Vec<_>>(),
            "partialFingerprints": { "trevlin/1": one.fingerprint },
            "suppressions": suppressions(one.acceptance.as_deref()),
            "properties": {
                "severity": one.severity.word(),
                "severityReason": one.why_this_severity,
                "area": one.area.word(),
                "device": one.device,
                "status": if one.status == Status::Accepted { "accepted" } else { "open" },
                "remedy": one.remedy,
            },
        });
        let others: Vec<Value> = one
            .evidence
            .iter()
            .enumerate()
            .skip(1)
            .map(|(number, place)| {
                let mut location = self.location(place);
                location["id"] = json!(number);
                location
            })
            .collect();
        if !others.is_empty() {
            result["relatedLocations"] = Value::Array(others);
        }
        result
    }

    /// Subjects that are right: a result of the kind `pass`, or `notApplicable` where there is nothing to judge (SARIF 3.27.9).
    fn right(&self, system: &str, check: &Check, row: &CheckRow) -> Option<Value> {
        let (passed, kind) = match row.counts.passed {
            0 if row.counts.not_applicable == 0 => return None,
            0 => (0, "notApplicable"),
            passed => (passed, "pass"),
        };
        let text = match passed {
            0 => format!("{system}: does not apply to what was exported: {}.", check.title),
            1 => format!("{system}: 1 subject is in order: {}.", check.title),
            passed => format!("{system}: {passed} subjects are in order: {}.", check.title),
        };
        let mut places =
            row.quoted.iter().filter_map(|one| one.evidence.first()).map(|one| self.location(one));
        let first: Vec<Value> = places.next().into_iter().collect();
        let mut result = json!({
            "ruleId": check.id,
            "ruleIndex": self.rules.get(check.id),
            "kind": kind,
            "level": "none",
            "message": { "text": sarif(&text) },
            "locations": first,
            "properties": { "area": check.area.word(), "device": system, "subjects": row.counts },
        });
        let others: Vec<Value> = places
            .enumerate()
            .map(|(number, mut location)| {
                location["id"] = json!(number + 1);
                location
            })
            .collect();
        if !others.is_empty() {
            result["relatedLocations"] = Value::Array(others);
        }
        Some(result)
    }

    /// An information request: a result of the kind `open` (SARIF 3.27.9).
    fn question(&self, one: &InformationRequest) -> Value {
        json!({
            "ruleId": one.check,
            "ruleIndex": self.rules.get(one.check),
            "kind": "open",
            "level": "none",
            "message": { "text": sarif(&format!("{}: {}", one.device, one.question)) },
            "locations": one.evidence.iter().take(1).map(|place| self.location(place)).collect::<Vec<_>>(),
            "properties": { "area": one.area.word(), "device": one.device },
        })
    }

    fn location(&self, place: &Evidence) -> Value {
        json!({ "physicalLocation": {
            "artifactLocation": self.artifact(&place.path),
            "region": {
                "startLine": place.line,
                "endLine": place.end_line,
                "snippet": { "text": place.excerpt },
            },
        } })
    }

    fn artifact(&self, path: &str) -> Value {
        let mut location = Map::new();
        location.insert("uri".into(), json!(uri(path)));
        location.insert("uriBaseId".into(), json!(BASE));
        if let Some(at) = self.files.get(path) {
            location.insert("index".into(), json!(at));
        }
        Value::Object(location)
    }
}

/// An accepted finding is suppressed; an expired acceptance is not, and is reported as rejected (SARIF 3.35.3).
fn suppressions(acceptance: Option<&Acceptance>) -> Value {
    let all = acceptance.into_iter().map(|one| {
        json!({
            "kind": "external",
            "status": if one.expired { "rejected" } else { "accepted" },
            "justification": crate::text::answered(one),
        })
    });
    all.collect()
}

fn exports(outcome: &Outcome) -> impl Iterator<Item = &trevlin_audit::ExportSummary> {
    outcome.devices.iter().flat_map(|device| &device.exports)
}

fn files(outcome: &Outcome) -> BTreeMap<&str, usize> {
    exports(outcome).enumerate().map(|(at, export)| (&*export.path, at)).collect()
}

fn artifacts(outcome: &Outcome) -> Value {
    let of = |device: &trevlin_audit::DeviceSummary| -> Vec<Value> {
        let one = |export: &trevlin_audit::ExportSummary| {
            json!({
                "location": { "uri": uri(&export.path), "uriBaseId": BASE },
                "properties": {
                    "device": device.name,
                    "format": export.format,
                    "lines": export.lines,
                    "understood": export.understood,
                    "not_understood": export.not_understood,
                },
            })
        };
        device.exports.iter().map(one).collect()
    };
    outcome.devices.iter().flat_map(of).collect()
}

/// Messages of readers about lines that no check judged.
fn notifications(outcome: &Outcome, places: &Places<'_>) -> Value {
    let of = |export: &trevlin_audit::ExportSummary| -> Vec<Value> {
        let one = |note: &trevlin_audit::NoteSummary| {
            json!({
                "level": "warning",
                "message": { "text": sarif(&note.text) },
                "locations": [{ "physicalLocation": {
                    "artifactLocation": places.artifact(&export.path),
                    "region": { "startLine": note.line },
                } }],
            })
        };
        export.notes.iter().map(one).collect()
    };
    exports(outcome).flat_map(of).collect()
}

/// A path as a URI reference (RFC 3986, 2): everything but unreserved characters and slashes is escaped.
fn uri(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => {
                out.push(char::from(byte))
            }
            _ => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}

/// Catalogues, each with the controls that the rules judge a part of.
struct Taxonomies(Vec<(&'static Catalogue, Vec<&'static Control>)>);

impl Taxonomies {
    fn of(rules: &[&Check]) -> Self {
        let ids: BTreeSet<&str> = rules.iter().map(|check| check.id).collect();
        let of = |catalogue: &'static Catalogue| {
            let judged = |control: &&Control| control.checks.iter().any(|check| ids.contains(&**check));
            (catalogue, catalogue.controls.iter().filter(judged).collect::<Vec<_>>())
        };
        Self(catalogues::all().into_iter().map(of).filter(|(_, controls)| !controls.is_empty()).collect())
    }

    fn references(&self) -> Value {
        let all = self.0.iter().enumerate();
        all.map(|(index, (one, _))| json!({ "name": one.title, "index": index })).collect()
    }

    fn tables(&self) -> Value {
        let taxon =
            |one: &&Control| json!({ "id": one.id, "shortDescription": { "text": sarif(&one.says) } });
        let table = |(one, controls): &(&Catalogue, Vec<&Control>)| {
            let taxa: Vec<Value> = controls.iter().map(taxon).collect();
            json!({ "name": one.title, "organization": one.publisher, "taxa": taxa })
        };
        self.0.iter().map(table).collect()
    }

    fn relationships(&self, check: &Check) -> Value {
        let mut found = Vec::new();
        for (number, (catalogue, controls)) in self.0.iter().enumerate() {
            for (index, control) in controls.iter().enumerate() {
                if control.checks.iter().any(|one| one == check.id) {
                    found.push(json!({
                        "target": {
                            "id": control.id,
                            "index": index,
                            "toolComponent": { "name": catalogue.title, "index": number },
                        },
                        "kinds": ["relevant"],
                    }));
                }
            }
        }
        Value::Array(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_references() {
        assert_eq!(uri("a b/c#d?e%.conf"), "a%20b/c%23d%3Fe%25.conf");
        assert_eq!(uri("ü/=x"), "%C3%BC/%3Dx");
    }

    #[test]
    fn controls_are_told_apart() {
        let all: Vec<&Check> = checks::CHECKS.to_vec();
        let taxonomies = Taxonomies::of(&all);
        assert!(taxonomies.0.len() == 8 && taxonomies.0.iter().all(|(_, controls)| controls.len() > 10));
        let check = checks::find("upkeep/no-time-source").unwrap();
        let found = taxonomies.relationships(check);
        let ids: Vec<&str> =
            found.as_array().unwrap().iter().filter_map(|one| one["target"]["id"].as_str()).collect();
        // Every control that a rule refers to is in the taxonomy at its place.
        let tables = taxonomies.tables();
        for check in &all {
            for one in taxonomies.relationships(check).as_array().unwrap() {
                let target = &one["target"];
                let number = target["toolComponent"]["index"].as_u64().unwrap() as usize;
                let taxon = &tables[number]["taxa"][target["index"].as_u64().unwrap() as usize];
                assert_eq!(taxon["id"], target["id"], "{}", check.id);
            }
        }
        assert!(ids.contains(&"OPS.1.1.5.A4") && ids.contains(&"8.17") && ids.contains(&"SC-45"), "{ids:?}");
    }
}
