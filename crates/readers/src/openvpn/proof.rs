//! Authentication of clients, and passwords stored in files.

use super::lines::Directive;
use crate::reader::ReadContext;
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, PasswordSource, Secret, SecretRecord};

/// Who decides about passwords when a plug-in is loaded; `None` for plug-ins that have no part in it.
pub(super) fn plugin(path: &str, directive: &Directive<'_>) -> Option<PasswordSource> {
    let name = path.rsplit('/').next().unwrap_or(path);
    let says = |word: &str| name.contains(word);
    if says("down-root") {
        return None;
    }
    Some(if says("pam") {
        // The first word of the plug-in's arguments is the PAM service (README.auth-pam).
        let arguments =
            directive.args.iter().skip(1).map(|(text, _)| text.as_str()).collect::<Vec<_>>().join(" ");
        PasswordSource::Pam(arguments.split_whitespace().next().unwrap_or("login").to_owned())
    } else if says("radius") {
        PasswordSource::Radius
    } else if says("ldap") {
        PasswordSource::Directory
    } else {
        PasswordSource::PlugIn(name.to_owned())
    })
}

/// The password in a file of user name and password, one a line (openvpn(8), `--auth-user-pass`), or of a
/// password alone (`--askpass`, `--management`).
pub(super) fn saved_password(
    path: &str,
    alone: bool,
    named_in: &Export,
    around: &ReadContext<'_>,
) -> Option<Arc<SecretRecord>> {
    let file = around.find(path, named_in)?;
    let owner = format!("{} (named in {})", file.file_name(), named_in.file_name());
    // A file with the name alone leaves the password to be typed.
    if alone {
        hold(file, file.text().lines().next()?, &owner)
    } else {
        second_line(file, file.text(), &owner)
    }
}

/// The second line of a text as a password, of the user in the first.
pub(super) fn second_line(export: &Export, text: &str, owner: &str) -> Option<Arc<SecretRecord>> {
    let mut lines = text.lines();
    let user = lines.next().map(str::trim).filter(|user| !user.is_empty() && !user.contains(' '));
    let owner = user.map_or_else(|| owner.to_owned(), |user| format!("{user} ({owner})"));
    hold(export, lines.next()?, &owner)
}

fn hold(export: &Export, line: &str, owner: &str) -> Option<Arc<SecretRecord>> {
    let value = line.trim_end_matches('\r');
    if value.is_empty() {
        return None;
    }
    let (secret, origin) = (Secret::new(value), export.origin_of(value));
    Some(Arc::new(SecretRecord { secret, kind: SecretKind::OwnPassword, owner: owner.to_owned(), origin }))
}
