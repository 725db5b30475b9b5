//! Systems elsewhere by which people log in to a device: whether they are used, and which of their accounts they admit.

use crate::services::switched_off_units;
use trevlin_model::login_source::{Admission, LoginSource, LoginSourceUse};
use trevlin_model::pam::PamFacility;
use trevlin_model::{Device, Origin};

/// The module of PAM that uses a program, and the unit that starts it.
fn parts(source: &LoginSource) -> (&'static str, &'static str) {
    match source.program.as_str() {
        "SSSD" => ("pam_sss", "sssd"),
        "nslcd" => ("pam_ldap", "nslcd"),
        "Kerberos" => ("pam_krb5", ""),
        "ypbind" => ("", "ypbind"),
        _ => ("", ""),
    }
}

/// The line that shows that a device does not take accounts from a system, where one does: one that keeps the program from starting, a list
/// of name services without it, or a unit that is off.
#[must_use]
pub fn unused(device: &Device, source: &LoginSource) -> Option<Origin> {
    let (_, unit) = parts(source);
    let off = || (!unit.is_empty()).then(|| switched_off_units(device, |name| name == unit)).flatten();
    let unlisted = || {
        let word = source.name_service.as_ref()?;
        let list = device.facts.name_services.iter().rfind(|one| one.database == "passwd")?;
        // The compatible notation asks NIS for its lines.
        let named = list.systems.iter().any(|system| system == word || (word == "nis" && system == "compat"));
        (!named).then_some(list.origin)
    };
    let refused = source.refused.as_ref().map(|(_, line)| *line);
    refused.or_else(off).or_else(unlisted)
}

/// The line of PAM by which a system proves passwords, where one was exported.
#[must_use]
pub fn asked_by(device: &Device, source: &LoginSource) -> Option<Origin> {
    let (module, _) = parts(source);
    let lines = device.facts.pam_services.iter().flat_map(|service| &service.lines);
    let mut asks = lines.filter(|line| matches!(line.facility, None | Some(PamFacility::Auth)));
    asks.find(|line| !module.is_empty() && line.module == module).map(|line| line.origin)
}

/// Systems whose accounts log in to a device as its own do, each with those that it admits; nothing for the accounts that are not known.
pub fn of_accounts(device: &Device) -> impl Iterator<Item = (&LoginSource, Option<&Admission>)> {
    let gives = |one: &&LoginSource| {
        matches!(one.gives, LoginSourceUse::Accounts | LoginSourceUse::AccountsAndPasswords)
    };
    let used = device.facts.login_sources.iter().filter(gives).filter(|one| unused(device, one).is_none());
    used.map(|one| (one, one.admits.value()))
}

/// The accounts of a device's systems in words, for a list of who may log in; empty where it has none.
#[must_use]
pub fn admitted(device: &Device) -> String {
    let words = |(source, admits): (&LoginSource, Option<&Admission>)| {
        let name = &source.name;
        Some(match admits {
            None => format!("some of {name}"),
            Some(Admission::Everybody) => format!("every account of {name}"),
            Some(Admission::Named(names)) => format!("{} of {name}", names.join(", ")),
            Some(Admission::Condition(_) | Admission::ByServer) => format!("some of {name}"),
            Some(Admission::Nobody) => return None,
        })
    };
    of_accounts(device).filter_map(words).collect::<Vec<_>>().join("; ")
}
