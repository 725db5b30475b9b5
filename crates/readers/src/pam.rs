//! Files of `pam.d` (pam.d(5)).

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::collections::BTreeMap;
use trevlin_model::housekeeping::{ProtectionKind, SwitchedOff};
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
            Ok(Some((line, None))) => {
                book.understood(origin);
                lines.push(line);
            }
            Ok(Some((line, Some(why)))) => {
                book.not_understood(origin, why);
                lines.push(line);
            }
            Ok(None) => {}
            Err(why) => book.not_understood(origin, why),
        }
    }
    let stack = export.file_name().trim_end_matches(".txt");
    let off = export.lines().filter_map(|one| left_off(one.text, export.origin_of(one.text.trim())));
    reading.facts.switched_off.extend(off.map(|one| SwitchedOff { within: Some(stack.to_owned()), ..one }));
    let origin = lines.first().map_or(export.origin(0..0), |line| line.origin);
    let name = export.file_name().trim_end_matches(".txt").to_owned();
    reading.facts.pam_services.push(PamService { name, lines, origin });
    reading
}

/// A whole line behind a comment sign, with the remark behind it.
fn left_off(text: &str, origin: Origin) -> Option<SwitchedOff> {
    let text = text.trim().strip_prefix('#')?.trim_start_matches('#').trim();
    let (text, note) = text.split_once('#').map_or((text, None), |(text, note)| (text, Some(note.trim())));
    let (line, fault) = line(text, origin).ok()??;
    let is_whole =
        fault.is_none() && line.module.starts_with("pam_") && line.facility == Some(PamFacility::Auth);
    is_whole.then(|| SwitchedOff {
        kind: ProtectionKind::PamModule,
        name: line.module,
        within: None,
        note: note.filter(|note| !note.is_empty()).map(str::to_owned),
        origin,
    })
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

/// A line, with the fault that libpam answers by counting every result as a failure.
type Parsed = (PamLine, Option<String>);

fn line(text: &str, origin: Origin) -> Result<Option<Parsed>, String> {
    let mut words = words(text).into_iter();
    let Some(first) = words.next() else { return Ok(None) };
    if first == "@include" {
        let service = words.next().ok_or("a file is missing after `@include`")?;
        let line = PamLine {
            facility: None,
            control: PamControl::Include(service),
            module: String::new(),
            arguments: Vec::new(),
            origin,
        };
        return Ok(Some((line, None)));
    }
    let facility = facility(&first).ok_or("expected auth, account, password, session or @include")?;
    let control = words.next().ok_or("a control such as `required` is missing")?;
    let target = words.next().ok_or("a module is missing")?;
    let mut fault = None;
    let control = match control.to_ascii_lowercase().as_str() {
        "include" => PamControl::Include(target.clone()),
        "substack" => PamControl::Substack(target.clone()),
        word => actions(word).unwrap_or_else(|| {
            fault = Some(format!("`{control}` is not a control: libpam counts every result as a failure"));
            PamControl::Actions { success: PamAction::Bad, failure: PamAction::Bad, others: Vec::new() }
        }),
    };
    let takes_over = !matches!(control, PamControl::Actions { .. });
    let module = if takes_over {
        String::new()
    } else {
        target.rsplit('/').next().unwrap_or(&target).trim_end_matches(".so").to_owned()
    };
    let line = PamLine { facility: Some(facility), control, module, arguments: words.collect(), origin };
    Ok(Some((line, fault)))
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

/// Results that a module may have (pam.conf(5)).
const RESULTS: [&str; 31] = [
    "success",
    "open_err",
    "symbol_err",
    "service_err",
    "system_err",
    "buf_err",
    "perm_denied",
    "auth_err",
    "cred_insufficient",
    "authinfo_unavail",
    "user_unknown",
    "maxtries",
    "new_authtok_reqd",
    "acct_expired",
    "session_err",
    "cred_unavail",
    "cred_expired",
    "cred_err",
    "no_module_data",
    "conv_err",
    "authtok_err",
    "authtok_recover_err",
    "authtok_lock_busy",
    "authtok_disable_aging",
    "try_again",
    "ignore",
    "abort",
    "authtok_expired",
    "module_unknown",
    "bad_item",
    "conv_again",
];

/// The pairs that a control stands for, where it is a word (pam.conf(5)).
fn pairs(word: &str) -> Option<&str> {
    match word {
        "required" => Some("success=ok new_authtok_reqd=ok ignore=ignore default=bad"),
        "requisite" => Some("success=ok new_authtok_reqd=ok ignore=ignore default=die"),
        "sufficient" => Some("success=done new_authtok_reqd=done default=ignore"),
        "optional" => Some("success=ok new_authtok_reqd=ok default=ignore"),
        _ => word.strip_prefix('[')?.strip_suffix(']'),
    }
}

/// The actions of a control: a word, or pairs in brackets.
fn actions(word: &str) -> Option<PamControl> {
    // Spaces around the equals sign are permitted.
    let spaced = pairs(word)?.replace('=', " = ");
    let mut words = spaced.split_whitespace();
    let mut default = None;
    let mut stated: BTreeMap<&str, PamAction> = BTreeMap::new();
    while let Some(result) = words.next() {
        if words.next()? != "=" {
            return None;
        }
        let action = match words.next()? {
            "ok" => PamAction::Ok,
            "done" => PamAction::Done,
            "bad" => PamAction::Bad,
            "die" => PamAction::Die,
            "ignore" => PamAction::Ignore,
            "reset" => PamAction::Reset,
            number => PamAction::Jump(number.parse().ok().filter(|count| *count > 0)?),
        };
        if result == "default" {
            // A second one finds no result without an action.
            default.get_or_insert(action);
        } else if RESULTS.contains(&result) {
            stated.insert(result, action);
        } else {
            return None;
        }
    }
    let of = |result: &str| stated.get(result).copied().or(default).unwrap_or(PamAction::Bad);
    let (success, failure) = (of("success"), of("auth_err"));
    let others = RESULTS.iter().filter(|name| !matches!(**name, "success" | "auth_err"));
    let others = others.map(|name| ((*name).to_owned(), of(name))).filter(|(_, action)| *action != failure);
    Some(PamControl::Actions { success, failure, others: others.collect() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, LineClass};

    #[test]
    fn lines() {
        for (text, wanted) in [
            (
                "auth required pam_unix.so nullok",
                "Some(Auth) Ok/Bad new_authtok_reqd:Ok ignore:Ignore pam_unix nullok",
            ),
            (
                "-auth  sufficient /lib/security/pam_oath.so",
                "Some(Auth) Done/Ignore new_authtok_reqd:Done pam_oath ",
            ),
            ("auth [success=1 default=ignore] pam_unix.so", "Some(Auth) Jump(1)/Ignore pam_unix "),
            (
                "auth [success=ok user_unknown=ignore default=die] pam_x.so",
                "Some(Auth) Ok/Die user_unknown:Ignore pam_x ",
            ),
            ("auth [ success = 2  default=ok default=die ] pam_x.so", "Some(Auth) Jump(2)/Ok pam_x "),
            (
                "AUTH requisite \\\npam_deny.so # no",
                "Some(Auth) Ok/Die new_authtok_reqd:Ok ignore:Ignore pam_deny ",
            ),
            ("@include common-auth", "None include common-auth"),
            ("auth substack system-auth", "Some(Auth) substack system-auth"),
            ("auth perhaps pam_x.so", "Some(Auth) Bad/Bad pam_x "),
            ("auth", "?"),
        ] {
            let export = Export::new(ExportId(0), "d/etc/pam.d/x", text.into());
            let reading = read(&export, &ReadContext::default());
            let told = match reading.facts.pam_services[0].lines.first() {
                None => "?".into(),
                Some(line) => match &line.control {
                    PamControl::Actions { success, failure, others } => {
                        let others: String =
                            others.iter().map(|(name, action)| format!(" {name}:{action:?}")).collect();
                        format!(
                            "{:?} {success:?}/{failure:?}{others} {} {}",
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
            assert_eq!(
                reading.ledger.count(LineClass::NotUnderstood),
                u32::from(wanted == "?" || wanted.contains("Bad/Bad")),
                "{text}"
            );
        }
    }
}
