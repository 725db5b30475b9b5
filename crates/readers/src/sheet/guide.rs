//! Empty sheets to fill in: an interview in the order of the work.

use super::FORM;
use trevlin_model::DeviceKind;

/// Chapters, in the order in which remote access is set up and reviewed. Every kind of device may have each of them; the last one follows from
/// the schema.
const CHAPTERS: [&str; 10] = [
    include_str!("guide/1-logins.toml"),
    include_str!("guide/2-tunnels.toml"),
    include_str!("guide/3-addresses.toml"),
    include_str!("guide/4-certificates.toml"),
    include_str!("guide/5-rules.toml"),
    include_str!("guide/6-forwards.toml"),
    include_str!("guide/7-administration.toml"),
    include_str!("guide/8-services.toml"),
    include_str!("guide/9-upkeep.toml"),
    include_str!("guide/10-everything-else.toml"),
];

const INTRODUCTION: &str = "\
# A device sheet: the settings that an appliance shows only on screen, in the order in which remote access is reviewed.
# Go through the questions with the administrator of the device. To answer, remove the `#` in front of a line that
# begins with `#` and a word; copy a block once for each item of its kind.
# State in `seen` the source of each answer: the screen or page, and the date. An empty list, as `tunnels = []`, states
# that there is none; \"not seen\" as a value states that it was looked for and is on no screen; a line that is left out
# states that it was not reviewed.
# Then run: trevlin sheet check FILE
";

/// A sheet to fill in, for one kind of device.
#[must_use]
pub fn guide(kind: DeviceKind) -> String {
    let mut text = format!(
        "{INTRODUCTION}\nsheet = \"{FORM}\"\nkind = \"{}\"\n#device = \"name of the device\"\n",
        kind.word()
    );
    for chapter in CHAPTERS {
        text.push('\n');
        text.push_str(chapter);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{Export, ExportId};

    fn told(text: String) -> (Vec<String>, super::super::Report) {
        let export = Export::new(ExportId(0), "x.toml", text);
        let report = super::super::check(&export);
        let line =
            |note: &trevlin_model::Note| format!("{}: {}", export.line_of(note.origin.start), note.text);
        (report.unread.iter().chain(&report.contradictions).map(line).collect(), report)
    }

    #[test]
    fn every_answer_can_be_given_as_it_stands() {
        for kind in [DeviceKind::Firewall, DeviceKind::Router, DeviceKind::Server, DeviceKind::Storage] {
            let (notes, report) = told(guide(kind));
            assert!(notes.is_empty(), "{notes:?}");
            assert!(report.missing.len() > 5, "an empty sheet answers nothing: {:?}", report.missing);
            let answered: Vec<String> = guide(kind)
                .lines()
                .map(|line| match line.strip_prefix('#') {
                    Some(rest) if !rest.starts_with(' ') => rest.to_owned(),
                    _ => line.to_owned(),
                })
                .collect();
            let (notes, report) = told(answered.join("\n"));
            assert!(notes.is_empty(), "{kind:?}: {notes:?}");
            assert!(report.missing.is_empty(), "{kind:?}: {:?}", report.missing);
        }
    }
}
