//! Accounts of a device, and whether a password can be right for them.

use std::collections::BTreeMap;
use trevlin_model::Device;
use trevlin_model::account::{Account, StoredPassword};
use trevlin_model::ssh::{SshConnection, SshServer};

/// Accounts with their passwords, to be asked about many names.
pub struct Passwords<'a> {
    accounts: BTreeMap<&'a str, &'a Account>,
    shadow: BTreeMap<&'a str, &'a StoredPassword>,
}

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

impl<'a> Passwords<'a> {
    /// Those of a device. The first line of a name counts.
    #[must_use]
    pub fn of(device: &'a Device) -> Self {
        let accounts = device.facts.accounts.iter().rev().map(|one| (one.name.as_str(), one));
        let shadow = device.facts.shadow.iter().rev().map(|one| (one.name.as_str(), &one.password));
        Self { accounts: accounts.collect(), shadow: shadow.collect() }
    }

    fn state(&self, account: &Account) -> PasswordState {
        let state = |stored: &StoredPassword| match stored {
            StoredPassword::Locked => PasswordState::Locked,
            StoredPassword::Empty | StoredPassword::Hash { .. } => PasswordState::Usable,
            StoredPassword::Elsewhere => PasswordState::NotKnown,
        };
        match &account.password {
            StoredPassword::Elsewhere => {
                self.shadow.get(account.name.as_str()).map_or(PasswordState::NotKnown, |stored| state(stored))
            }
            stored => state(stored),
        }
    }

    /// Whether a name has a shell, as far as the exports show.
    pub(super) fn has_shell(&self, name: &str) -> bool {
        self.accounts.get(name).is_none_or(|account| account.has_shell())
    }

    /// Whether a name could log in to a shell with a password, as far as the exports show: it is not locked, and has a shell.
    #[must_use]
    pub fn may_use(&self, name: &str) -> bool {
        let account = self.accounts.get(name);
        account.is_none_or(|one| one.has_shell() && self.state(one) != PasswordState::Locked)
    }
}

/// Whether the exports show that no account can log in to a shell with a password over SSH: each one is locked, or root without the
/// permission. Accounts that the server excludes count as well, so that a single one with a password leaves it open.
#[must_use]
pub fn all_locked(device: &Device, server: &SshServer, connection: &SshConnection<'_>) -> bool {
    let permits_root = |account: &Account| {
        let connection = SshConnection { user: Some(&account.name), ..connection.clone() };
        let stated = server.stated("permitrootlogin", &connection);
        stated.is_some_and(|(value, _)| value.first().is_some_and(|word| word == "yes"))
    };
    let passwords = Passwords::of(device);
    let about = |one: &&Account| connection.user.is_none_or(|user| user == one.name) && one.has_shell();
    let mut seen = false;
    for account in device.facts.accounts.iter().filter(about) {
        let locked = passwords.state(account) == PasswordState::Locked;
        if !locked && (account.uid != 0 || permits_root(account)) {
            return false;
        }
        seen = true;
    }
    seen
}
