//! Findings as a SARIF log (Static Analysis Results Interchange Format 2.1.0, an OASIS standard).

use super::capitalized;
use crate::Renderer;
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use trevlin_audit::{Acceptance, Check, Evidence, Finding, OpenQuestion, Outcome, Severity, Status, checks};

/// SARIF 2.1.0.
#[derive(Debug, Clone, Copy, Default)]
pub struct Sarif;

const SCHEMA: &str =
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// What paths are relative to.
const BASE: &str = "ESTATE";

impl Renderer for Sarif {
    fn render(&self, outcome: &Outcome, out: &mut dyn io::Write) -> io::Result<()> {
        let used: BTreeSet<&str> = outcome
            .findings
            .iter()
            .map(|one| one.check)
            .chain(outcome.open_questions.iter().map(|one| one.check))
            .collect();
        let rules: Vec<&Check> = checks::CHECKS.iter().copied().filter(|one| used.contains(one.id)).collect();
        let places = Places {
            rules: rules.iter().enumerate().map(|(at, one)| (one.id, at)).collect(),
            files: files(outcome),
        };
        let taxonomies = Taxonomies::of(&rules);
        let results = outcome.findings().map(|one| places.finding(one));
        let open = outcome.open_questions.iter().map(|one| places.question(one));
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
            "results": results.chain(open).collect::<Vec<_>>(),
        });
        crate::json::write(&json!({ "$schema": SCHEMA, "version": "2.1.0", "runs": [run] }), out)
    }
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
        "shortDescription": { "text": check.title },
        "fullDescription": { "text": check.why },
        "help": {
            "text": format!("{} {} {}", check.why, check.fix, check.references.join("; ")),
            "markdown": format!(
                "{}\n\n**Fix:** {}\n\n**See:** {}",
                super::markdown(check.why),
                super::markdown(check.fix),
                super::markdown(&check.references.join("; "))
            ),
        },
        "defaultConfiguration": { "level": level(check.severity) },
        "relationships": taxonomies.relationships(check),
        "properties": { "tags": [check.area.word()], "severity": check.severity.word(), "references": check.references },
    })
}

/// Where rules and files stand in their lists.
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
            "message": { "text": format!("{}: {}. {}", one.device, one.title, one.detail) },
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

    /// What could not be judged: a result of the kind `open` (SARIF 3.27.9).
    fn question(&self, one: &OpenQuestion) -> Value {
        json!({
            "ruleId": one.check,
            "ruleIndex": self.rules.get(one.check),
            "kind": "open",
            "level": "none",
            "message": { "text": format!("{}: {}", one.device, one.question) },
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

/// An accepted finding is suppressed; one whose day has passed is not, and says that it was (SARIF 3.35.3).
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

/// What readers had to say of lines that nobody judged.
fn notifications(outcome: &Outcome, places: &Places<'_>) -> Value {
    let of = |export: &trevlin_audit::ExportSummary| -> Vec<Value> {
        let one = |note: &trevlin_audit::NoteSummary| {
            json!({
                "level": "warning",
                "message": { "text": note.text },
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

/// Catalogues of controls that checks refer to, by the words that such a reference begins with.
const CATALOGUES: [(&str, &str, &str); 2] =
    [("BSI ", "BSI IT-Grundschutz", "BSI"), ("NIST SP 800-53 Rev. 5, ", "NIST SP 800-53 Rev. 5", "NIST")];

/// Controls by catalogue.
struct Taxonomies([BTreeSet<String>; CATALOGUES.len()]);

impl Taxonomies {
    fn of(rules: &[&Check]) -> Self {
        let mut all = Self(Default::default());
        for (catalogue, control) in rules.iter().flat_map(|check| controls(check)) {
            all.0[catalogue].insert(control);
        }
        all
    }

    fn used(&self) -> impl Iterator<Item = (usize, &BTreeSet<String>)> {
        self.0.iter().enumerate().filter(|(_, controls)| !controls.is_empty())
    }

    fn references(&self) -> Value {
        let all = self
            .used()
            .enumerate()
            .map(|(index, (at, _))| json!({ "name": CATALOGUES[at].1, "index": index }));
        all.collect()
    }

    fn tables(&self) -> Value {
        let table = |(at, controls): (usize, &BTreeSet<String>)| {
            let (_, name, organization) = CATALOGUES[at];
            let taxa: Vec<Value> = controls.iter().map(|control| json!({ "id": control })).collect();
            json!({ "name": name, "organization": organization, "taxa": taxa })
        };
        self.used().map(table).collect()
    }

    fn relationships(&self, check: &Check) -> Value {
        let number = |catalogue: usize| self.used().position(|(at, _)| at == catalogue);
        let one = |(catalogue, control): (usize, String)| {
            let index = self.0[catalogue].iter().position(|known| *known == control);
            json!({
                "target": {
                    "id": control,
                    "index": index,
                    "toolComponent": { "name": CATALOGUES[catalogue].1, "index": number(catalogue) },
                },
                "kinds": ["relevant"],
            })
        };
        controls(check).into_iter().map(one).collect()
    }
}

/// The controls that a check refers to, each once.
fn controls(check: &Check) -> Vec<(usize, String)> {
    let mut found = Vec::new();
    for reference in check.references {
        for (at, (beginning, ..)) in CATALOGUES.iter().enumerate() {
            let Some(rest) = reference.strip_prefix(beginning) else { continue };
            // A technical guideline is no catalogue of controls.
            for control in rest
                .split(", ")
                // Read: a citation, whose parts have their punctuation.
                .flat_map(|part| part.split(" and "))
                .filter(|one| !one.starts_with("TR-"))
            {
                let one = (at, control.to_owned());
                if !found.contains(&one) {
                    found.push(one);
                }
            }
        }
    }
    found
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
        let check = checks::find("secrets/weak-shared-secret").unwrap();
        assert_eq!(controls(check), [(0, "ORP.4.A22".to_owned())]);
        let all: Vec<&Check> = checks::CHECKS.to_vec();
        let taxonomies = Taxonomies::of(&all);
        assert!(taxonomies.0.iter().all(|controls| controls.len() > 5));
    }
}
