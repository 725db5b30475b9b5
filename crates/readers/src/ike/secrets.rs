//! Keys and passwords of swanctl.conf (swanctl.conf(5), secrets).

use super::settings::{Value, View};
use crate::reader::{ReadContext, Reading};
use std::sync::Arc;
use trevlin_model::ike::PreSharedKey;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Login, LoginList, Origin, Secret, SecretRecord};

/// Keys and passwords. `0x` and `0s` begin a value that is encoded, where the kind has such values.
pub(super) fn take(whole: &View<'_, '_>, around: &ReadContext<'_>, export: &Export, reading: &mut Reading) {
    let Some(all) = whole.section("secrets") else { return };
    for name in all.names() {
        let Some(section) = all.section(name) else { continue };
        let values = section.values();
        let ids: Vec<&&Value<'_>> = values.iter().filter(|one| one.key.starts_with("id")).collect();
        let Some(secret) = values.iter().find(|one| one.key == "secret" || one.key == "pin") else {
            continue;
        };
        let kept = match name {
            _ if name.starts_with("ike") => SecretKind::PreSharedKey,
            _ if name.starts_with("ppk") => SecretKind::SharedKey,
            _ if name.starts_with("eap") || name.starts_with("xauth") => SecretKind::LoginPassword,
            _ if name.starts_with("ntlm") => SecretKind::PasswordHash,
            _ => SecretKind::Passphrase,
        };
        let names: Vec<String> = ids.iter().map(|one| one.text.clone()).collect();
        let value = if kept == SecretKind::Passphrase {
            Secret::new(secret.text.as_str())
        } else {
            Secret::from_prefixed(&secret.text)
        };
        let held = Arc::new(SecretRecord {
            secret: value,
            kind: kept,
            owner: if names.is_empty() { name.to_owned() } else { names.join(" and ") },
            origin: secret.place,
        });
        reading.facts.secrets.push(Arc::clone(&held));
        match kept {
            SecretKind::PreSharedKey => reading.facts.pre_shared_keys.push(PreSharedKey {
                identities: names,
                held,
                origin: secret.origin,
            }),
            SecretKind::LoginPassword | SecretKind::PasswordHash => {
                let holder = around.exports.iter().find(|one| one.id() == secret.origin.export);
                let path = holder.map_or(export.path(), |one| one.path());
                let by = if name.starts_with("xauth") {
                    "XAUTH"
                } else if name.starts_with("ntlm") {
                    "NTLM"
                } else {
                    "EAP"
                };
                for (user, origin) in logins(&ids, secret.origin) {
                    reading.facts.logins.push(Login {
                        user,
                        list: LoginList::LocalFile(path.to_owned()),
                        service: format!("IKE, by {by}"),
                        daemon: Some(trevlin_model::LoginDaemon::Ike),
                        secret: Some(Arc::clone(&held)),
                        certain: true,
                        expires: None,
                        origin,
                    });
                }
            }
            _ => {}
        }
    }
}

/// Users of a password; without an identity it is valid for any user.
fn logins(ids: &[&&Value<'_>], origin: Origin) -> Vec<(String, Origin)> {
    if ids.is_empty() {
        return vec![("*".to_owned(), origin)];
    }
    ids.iter().map(|one| (one.text.clone(), one.origin)).collect()
}
