//! Accounts of a device, and whether a password can be right for them.

use trevlin_estate::identities::People;
use trevlin_model::account::{Account, StoredPassword};
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Device, Setting};

/// State of an account's password.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum PasswordState {
    /// A hash, or an empty field.
    Usable,
    /// No password fits (shadow(5): `!` and `*`).
    Locked,
    /// The file that holds it was not exported.
    NotKnown,
}

fn password(device: &Device, account: &Account) -> PasswordState {
    let state = |stored: &StoredPassword| match stored {
        StoredPassword::Locked => PasswordState::Locked,
        StoredPassword::Empty | StoredPassword::Hash { .. } => PasswordState::Usable,
        StoredPassword::Elsewhere => PasswordState::NotKnown,
    };
    match &account.password {
        StoredPassword::Elsewhere => device
            .facts
            .shadow
            .iter()
            .find(|one| one.name == account.name)
            .map_or(PasswordState::NotKnown, |one| state(&one.password)),
        stored => state(stored),
    }
}

/// Whether a name could log in to a shell with a password, as far as the exports show: it is not locked, and has a shell.
#[must_use]
pub fn may_use_password(device: &Device, name: &str) -> bool {
    device
        .facts
        .accounts
        .iter()
        .find(|one| one.name == name)
        .is_none_or(|one| one.has_shell() && password(device, one) != PasswordState::Locked)
}

/// Whether the exports show that no account that an SSH server permits for a connection has a password: every one of them is locked.
#[must_use]
pub fn all_locked(device: &Device, server: &SshServer, connection: &SshConnection<'_>) -> bool {
    let people = People::of(device);
    let permits_root = |account: &Account| {
        let connection = SshConnection { user: Some(&account.name), ..connection.clone() };
        match server.effective("permitrootlogin", &connection) {
            Setting::Stated { value, .. } => value.first().is_some_and(|word| word == "yes"),
            _ => false,
        }
    };
    let mut candidates = device
        .facts
        .accounts
        .iter()
        .filter(|one| connection.user.is_none_or(|user| user == one.name) && one.has_shell())
        .filter(|one| one.uid != 0 || permits_root(one))
        .filter(|one| {
            let groups = people.groups_of(&one.name);
            let listed =
                connection.groups.is_empty() || connection.groups.iter().any(|group| groups.contains(group));
            listed && server.excluded_by(&one.name, &groups).is_none()
        })
        .peekable();
    candidates.peek().is_some() && candidates.all(|one| password(device, one) == PasswordState::Locked)
}
