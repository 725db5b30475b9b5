//! Units that systemd starts: links in `*.wants` and `*.requires`, masked units, and the output of `systemctl list-unit-files`
//! (systemd.unit(5), systemctl(1)).
//!
//! A link is read as an export whose text is where it leads.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use trevlin_model::Export;
use trevlin_model::housekeeping::{Unit, UnitState};

/// The reader of links.
pub(crate) const LINKS: Reader = Reader {
    name: "unit-link",
    title: "unit enablement (systemd)",
    manual: "systemd.unit(5)",
    recognise: |export| {
        if link_state(export).is_some() { Recognition::Content } else { Recognition::No }
    },
    read: read_link,
};

/// The reader of lists.
pub(crate) const LIST: Reader = Reader {
    name: "unit-files",
    title: "unit files and their state (systemctl)",
    manual: "systemctl(1), list-unit-files",
    recognise: |export| {
        let mut lines = export.lines().filter(|line| !line.text.trim().is_empty());
        let head = lines
            .next()
            .is_some_and(|line| line.text.starts_with("UNIT FILE") && line.text.contains("STATE"));
        if head || export.lines().take(20).filter(|line| row(line.text).is_some()).count() > 2 {
            Recognition::Content
        } else {
            Recognition::No
        }
    },
    read: read_list,
};

fn is_unit(name: &str) -> bool {
    [".service", ".socket", ".timer", ".target", ".path", ".mount"]
        .iter()
        .any(|ending| name.ends_with(ending))
}

fn link_state(export: &Export) -> Option<UnitState> {
    let mut parts = export.path().rsplit('/');
    let name = parts.next().filter(|name| is_unit(name))?;
    let folder = parts.next()?;
    if folder.ends_with(".wants") || folder.ends_with(".requires") {
        return Some(UnitState::Enabled);
    }
    let masked = folder == "system" && export.text().trim() == "/dev/null" && !name.is_empty();
    masked.then_some(UnitState::Masked)
}

fn read_link(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let whole = export.origin(0..export.text().len().max(1));
    LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere).understood(whole);
    reading.facts.units.extend(link_state(export).map(|state| Unit {
        name: export.file_name().to_owned(),
        state,
        origin: whole,
    }));
    reading
}

/// `name state [preset]`.
fn row(text: &str) -> Option<(&str, UnitState)> {
    let mut words = text.split_whitespace();
    let name = words.next().filter(|name| is_unit(name))?;
    let state = match words.next()? {
        "enabled" | "enabled-runtime" | "linked" | "linked-runtime" => UnitState::Enabled,
        "disabled" => UnitState::Disabled,
        "masked" | "masked-runtime" => UnitState::Masked,
        "static" | "indirect" | "generated" | "alias" | "transient" => UnitState::Static,
        _ => return None,
    };
    Some((name, state))
}

/// Whether a row is of an irrelevant kind of unit, or has an irrelevant state (systemctl(1), UnitFileState).
fn is_of_another_kind(text: &str) -> bool {
    const KINDS: [&str; 9] =
        [".automount", ".device", ".mount", ".path", ".scope", ".slice", ".swap", ".target", ".timer"];
    let mut words = text.split_whitespace();
    let (name, state) = (words.next().unwrap_or_default(), words.next());
    state.is_some() && (KINDS.iter().any(|kind| name.ends_with(kind)) || state == Some("bad"))
}

fn read_list(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with("UNIT FILE") || text.ends_with("listed.") {
            continue;
        }
        let origin = export.origin_of(text);
        match row(text) {
            Some((name, state)) => {
                book.understood(origin);
                reading.facts.units.push(Unit { name: name.to_owned(), state, origin });
            }
            // Slices, devices and scopes say nothing about services.
            None if is_of_another_kind(text) => {}
            None => book.not_understood(origin, "expected a unit and its state, as `nginx.service enabled`"),
        }
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn links() {
        for (path, text, wanted) in [
            (
                "d/etc/systemd/system/multi-user.target.wants/nginx.service",
                "/lib/systemd/system/nginx.service",
                Some(UnitState::Enabled),
            ),
            ("d/etc/systemd/system/nginx.service", "/dev/null", Some(UnitState::Masked)),
            ("d/etc/systemd/system/nginx.service", "[Unit]\n", None),
            ("d/etc/nginx.service.txt", "x", None),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            assert_eq!(link_state(&export), wanted, "{path}");
            assert_eq!(
                read_link(&export, &ReadContext::default()).facts.units.len(),
                usize::from(wanted.is_some())
            );
        }
    }

    #[test]
    fn lists() {
        let text = "UNIT FILE STATE PRESET\nnginx.service enabled enabled\nsmbd.service disabled enabled\nvsftpd.service masked enabled\n\
                    system.slice static -\nwobble\n\n4 unit files listed.\n";
        let export = Export::new(ExportId(0), "d/units.txt", text.into());
        assert_eq!((LIST.recognise)(&export), Recognition::Content);
        let reading = read_list(&export, &ReadContext::default());
        let states: Vec<UnitState> = reading.facts.units.iter().map(|one| one.state).collect();
        assert_eq!(states, [UnitState::Enabled, UnitState::Disabled, UnitState::Masked]);
        assert_eq!(reading.ledger.notes.len(), 1);
    }
}
