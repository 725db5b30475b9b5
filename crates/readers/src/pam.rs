//! Files of `pam.d` (pam.d(5)).

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use trevlin_model::pam::{PamAction, PamControl, PamFacility, PamLine, PamService};
use trevlin_model::{Export, Origin};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "pam", title: "PAM stack", manual: "pam.d(5)", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let tells = export.lines().take(TELLING_LINES).any(|line| {
        let mut words = line.text.split_whitespace();
        words.next().and_then(facility).is_some() && line.text.contains("pam_") && !line.text.starts_with('#')
    });
    if tells {
        Recognition::Content
    } else if export.path().split('/').rev().nth(1) == Some("pam.d") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn facility(word: &str) -> Option<PamFacility> {
    // A leading dash keeps a missing module out of the log.
    Some(match word.trim_start_matches('-').to_ascii_lowercase().as_str() {
        "auth" => PamFacility::Auth,
        "account" => PamFacility::Account,
        "password" => PamFacility::Password,
        "session" => PamFacility::Session,
        _ => return None,
    })
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut lines = Vec::new();
    for (text, origin) in joined(export) {
        match line(&text, origin) {
            Ok(Some(line)) => {
                book.understood(origin);
                lines.push(line);
            }
            Ok(None) => {}
            Err(why) => book.not_understood(origin, why),
        }
    }
    let origin = lines.first().map_or(export.origin(0..0), |line| line.origin);
    let name = export.file_name().trim_end_matches(".txt").to_owned();
    reading.facts.pam_services.push(PamService { name, lines, origin });
    reading
}

/// Lines without comments, those that end in a backslash joined with the next.
fn joined(export: &Export) -> Vec<(String, Origin)> {
    let mut found: Vec<(String, Origin)> = Vec::new();
    let mut open = false;
    for line in export.lines() {
        let text = line.text.split('#').next().unwrap_or_default();
        let (text, goes_on) = text.trim_end().strip_suffix('\\').map_or((text, false), |text| (text, true));
        let place = export.origin_of(line.text.trim());
        match found.last_mut() {
            Some((all, origin)) if open => {
                all.push(' ');
                all.push_str(text);
                origin.end = place.end;
            }
            _ => found.push((text.to_owned(), place)),
        }
        open = goes_on;
    }
    found.retain(|(text, _)| !text.trim().is_empty());
    found
}

fn line(text: &str, origin: Origin) -> Result<Option<PamLine>, String> {
    let mut words = words(text).into_iter();
    let Some(first) = words.next() else { return Ok(None) };
    if first == "@include" {
        let service = words.next().ok_or("a file is missing after `@include`")?;
        return Ok(Some(PamLine {
            facility: None,
            control: PamControl::Include(service),
            module: String::new(),
            arguments: Vec::new(),
            origin,
        }));
    }
    let facility = facility(&first).ok_or("expected auth, account, password, session or @include")?;
    let control = words.next().ok_or("a control such as `required` is missing")?;
    let target = words.next().ok_or("a module is missing")?;
    let control = match control.to_ascii_lowercase().as_str() {
        "include" => PamControl::Include(target.clone()),
        "substack" => PamControl::Substack(target.clone()),
        word => actions(word).ok_or_else(|| format!("`{control}` is not a control"))?,
    };
    let takes_over = !matches!(control, PamControl::Actions { .. });
    let module = if takes_over {
        String::new()
    } else {
        target.rsplit('/').next().unwrap_or(&target).trim_end_matches(".so").to_owned()
    };
    Ok(Some(PamLine { facility: Some(facility), control, module, arguments: words.collect(), origin }))
}

/// Words; a text in brackets is one word.
fn words(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut rest = text.trim();
    while !rest.is_empty() {
        let (word, after) = match rest.strip_prefix('[') {
            Some(inside) => {
                let (inside, after) = inside.split_once(']').unwrap_or((inside, ""));
                (format!("[{inside}]"), after)
            }
            None => {
                let end = rest.find(char::is_whitespace).unwrap_or(rest.len());
                (rest[..end].to_owned(), &rest[end..])
            }
        };
        found.push(word);
        rest = after.trim_start();
    }
    found
}

/// The actions of a control: a word, or pairs in brackets.
fn actions(word: &str) -> Option<PamControl> {
    let (success, failure) = match word {
        "required" => (PamAction::Ok, PamAction::Bad),
        "requisite" => (PamAction::Ok, PamAction::Die),
        "sufficient" => (PamAction::Done, PamAction::Ignore),
        "optional" => (PamAction::Ok, PamAction::Ignore),
        _ => {
            let inside = word.strip_prefix('[')?.strip_suffix(']')?;
            // Unnamed results count as failure (pam.conf(5)): `default` covers them where it is stated.
            let mut default = PamAction::Bad;
            let (mut success, mut failure) = (None, None);
            for pair in inside.split_whitespace() {
                let (answer, action) = pair.split_once('=')?;
                let action = match action {
                    "ok" => PamAction::Ok,
                    "done" => PamAction::Done,
                    "bad" => PamAction::Bad,
                    "die" => PamAction::Die,
                    "ignore" => PamAction::Ignore,
                    "reset" => PamAction::Reset,
                    number => PamAction::Jump(number.parse().ok()?),
                };
                match answer {
                    "success" => success = Some(action),
                    "auth_err" => failure = Some(action),
                    "default" => default = action,
                    _ => {}
                }
            }
            (success.unwrap_or(default), failure.unwrap_or(default))
        }
    };
    Some(PamControl::Actions { success, failure })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, LineClass};

    #[test]
    fn lines() {
        for (text, wanted) in [
            ("auth required pam_unix.so nullok", "Some(Auth) Ok/Bad pam_unix nullok"),
            ("-auth  sufficient /lib/security/pam_oath.so", "Some(Auth) Done/Ignore pam_oath "),
            ("auth [success=1 default=ignore] pam_unix.so", "Some(Auth) Jump(1)/Ignore pam_unix "),
            ("auth [success=ok auth_err=die default=bad] pam_x.so", "Some(Auth) Ok/Die pam_x "),
            ("AUTH requisite \\\npam_deny.so # no", "Some(Auth) Ok/Die pam_deny "),
            ("@include common-auth", "None include common-auth"),
            ("auth substack system-auth", "Some(Auth) substack system-auth"),
            ("auth perhaps pam_x.so", "?"),
            ("auth", "?"),
        ] {
            let export = Export::new(ExportId(0), "d/etc/pam.d/x", text.into());
            let reading = read(&export, &ReadContext::default());
            let told = match reading.facts.pam_services[0].lines.first() {
                None => "?".into(),
                Some(line) => match &line.control {
                    PamControl::Actions { success, failure } => {
                        format!(
                            "{:?} {success:?}/{failure:?} {} {}",
                            line.facility,
                            line.module,
                            line.arguments.join(" ")
                        )
                    }
                    PamControl::Include(name) => format!("{:?} include {name}", line.facility),
                    PamControl::Substack(name) => format!("{:?} substack {name}", line.facility),
                },
            };
            assert_eq!(told, wanted, "{text}");
            assert_eq!(reading.ledger.count(LineClass::NotUnderstood), u32::from(wanted == "?"), "{text}");
        }
    }
}
