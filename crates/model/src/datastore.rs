//! The datastore that a document of standard models shows (RFC 8342).

use crate::{Export, ExportState};

/// Datastores whose content is not in force while the device runs: `startup` is read at the next start, `candidate` has not been committed
/// (RFC 8342, 5.1).
const STORED: [&str; 2] = ["startup", "candidate"];

/// How much of a document is searched for the datastore: it is named before the data (RFC 9195, 2.1).
const HEADER: usize = 4_096;

/// Whether a document of standard models shows what runs, by the datastore that it names (RFC 9195) or, where it names none, by its file
/// name: `startup-config.json`, `startup.xml`.
#[must_use]
pub fn datastore_state(export: &Export) -> ExportState {
    let text = export.text();
    let mut end = text.len().min(HEADER);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    let header: String = text[..end].split_whitespace().collect();
    if let Some(at) = header.find("\"datastore\":\"").map(|at| at + 13).or_else(|| {
        let at = header.find("<datastore")?;
        Some(at + header[at..].find('>')? + 1)
    }) {
        let named = header[at..].split(['"', '<']).next().unwrap_or_default();
        let named = named.rsplit(':').next().unwrap_or_default();
        return if STORED.contains(&named) { ExportState::Stored } else { ExportState::Running };
    }
    let name = export.file_name().to_ascii_lowercase();
    let mut words = name.split(|one: char| !one.is_ascii_alphanumeric());
    if words.any(|word| STORED.contains(&word)) { ExportState::Stored } else { ExportState::Running }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ExportId;

    #[test]
    fn datastores() {
        let data = r#"{"ietf-yang-instance-data:instance-data-set":{"name":"a","datastore": "ietf-datastores:startup","content-data":{}}}"#;
        let xml = "<instance-data-set xmlns=\"urn:ietf:params:xml:ns:yang:ietf-yang-instance-data\">\n <datastore xmlns:ds=\"urn:x\">ds:startup</datastore>\n";
        for (path, text, wanted) in [
            ("r/startup-config.json", "{}", ExportState::Stored),
            ("r/Startup.xml", "<data/>", ExportState::Stored),
            ("r/candidate.json", "{}", ExportState::Stored),
            ("r/running-config.json", "{}", ExportState::Running),
            ("startup/all.json", "{}", ExportState::Running),
            ("r/all.json", data, ExportState::Stored),
            ("r/all.xml", xml, ExportState::Stored),
            ("r/startup.json", &data.replace("startup\"", "running\""), ExportState::Running),
        ] {
            let export = Export::new(ExportId(0), path, text.to_owned());
            assert_eq!(datastore_state(&export), wanted, "{path} {text}");
        }
    }
}
