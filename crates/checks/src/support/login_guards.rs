//! Whether a program that bans addresses, or a module that locks accounts, limits failed logins to a service.

use trevlin_analysis::services::endpoint;
use trevlin_model::login_guard::{Jail, LoginGuard};
use trevlin_model::pam::{PamFacility, PamLine};
use trevlin_model::{Device, Origin, PortRange, Protocol};

/// A service with logins.
pub(crate) struct Guarded<'a> {
    /// Its name.
    pub(crate) what: &'a str,
    /// Words in the names of the patterns that find its failures.
    pub(crate) filters: &'a [&'a str],
    /// Where it listens.
    pub(crate) ports: &'a [(Protocol, u16)],
}

/// Result of the settings of the programs.
pub(crate) enum Guarding {
    /// Failed logins lead to bans.
    Banned(Vec<Origin>),
    /// They do not, with the reason.
    NotBanned {
        /// The program.
        program: String,
        /// The reason, as a sentence.
        why: String,
        /// Lines.
        lines: Vec<Origin>,
    },
}

/// Patterns that find failures of every service.
const EVERY: [&str; 2] = ["pam-generic", "sshguard"];

/// Reaction of a device's programs to failed logins; none where the exports have no settings of such a program. `runs` states whether the
/// unit of a program may be on.
pub(crate) fn guarding(
    device: &Device,
    service: &Guarded<'_>,
    runs: impl Fn(&str) -> bool,
) -> Option<Guarding> {
    let mut first = None;
    for guard in device.facts.login_guards.iter().filter(|guard| runs(&guard.program)) {
        let watches = |jail: &&Jail| {
            let filter = jail.filter.to_ascii_lowercase();
            EVERY.contains(&filter.as_str()) || service.filters.iter().any(|word| filter.contains(word))
        };
        let mut jails = guard.jails.iter().filter(watches).peekable();
        if jails.peek().is_none() {
            first.get_or_insert_with(|| unwatched(guard, service));
        }
        for jail in jails {
            match reason(guard, jail, service) {
                None => return Some(Guarding::Banned(vec![jail.origin])),
                Some((why, line)) => {
                    let mut lines = vec![line];
                    lines.extend(Some(jail.origin).filter(|origin| *origin != line));
                    first.get_or_insert(Guarding::NotBanned { program: guard.program.clone(), why, lines });
                }
            }
        }
    }
    first
}

fn unwatched(guard: &LoginGuard, service: &Guarded<'_>) -> Guarding {
    let off = guard
        .switched_off
        .iter()
        .find(|(name, _)| service.filters.iter().any(|word| name.to_ascii_lowercase().contains(word)));
    let (why, line) = match off {
        Some((name, line)) => (format!("The jail `{name}` of {} is switched off.", guard.program), *line),
        None => (format!("{} has no enabled jail for {}.", guard.program, service.what), guard.origin),
    };
    Guarding::NotBanned { program: guard.program.clone(), why, lines: vec![line] }
}

/// Reason for which a jail bans no address from a service, with the line; none where it does.
fn reason(guard: &LoginGuard, jail: &Jail, service: &Guarded<'_>) -> Option<(String, Origin)> {
    let name = format!("The jail `{}` of {}", jail.name, guard.program);
    if let Some((fault, line)) = &jail.fault {
        return Some((format!("{name} does not start: {fault}."), *line));
    }
    let Some(ban) = jail.bans.first() else {
        return Some((format!("{name} blocks nothing: its actions only report."), jail.origin));
    };
    if jail.banned_for == Some(0) {
        return Some((format!("{name} ends each ban at once: `bantime` is 0."), jail.origin));
    }
    if let Some((network, line)) = jail.exempt.iter().find(|(network, _)| network.prefix_len() == 0) {
        return Some((format!("{name} exempts every address: {network}."), *line));
    }
    let open = service.ports.iter().find(|(protocol, port)| jail.ban_of(*protocol, *port).is_none())?;
    let (protocol, port) = *open;
    let at = endpoint(protocol.0.unwrap_or_default(), PortRange { first: port, last: port });
    Some((format!("{name} does not block {at}, where {} listens.", service.what), ban.origin))
}

/// Treatment of failed logins by the modules of a stack.
pub(crate) enum Counting {
    /// A module locks accounts, with its line.
    Locks(Origin),
    /// One that is there and does not lock, with the reason.
    No(String, Origin),
    /// No module counts.
    Nothing,
}

/// `pam_faillock` records failures where it is called with `authfail`, and locks where it is called before the password or
/// with `authsucc`; `pam_tally2` and `pam_tally` lock with `deny` only (pam_faillock(8), pam_tally2(8)).
pub(crate) fn counting(device: &Device, lines: &[&PamLine]) -> Counting {
    let asked = || lines.iter().filter(|line| line.facility == Some(PamFacility::Auth));
    let of =
        |names: &'static [&'static str]| asked().filter(move |line| names.contains(&line.module.as_str()));
    if let Some(line) = asked().find(|line| line.module == "pam_abl" || line.module.starts_with("pam_radius"))
    {
        return Counting::Locks(line.origin);
    }
    let has = |line: &PamLine, word: &str| line.arguments.iter().any(|one| one == word);
    let deny = |line: &PamLine| {
        line.arguments.iter().rev().find_map(|one| one.strip_prefix("deny=")?.parse::<u32>().ok())
    };
    if let Some(line) = of(&["pam_tally2", "pam_tally"]).next() {
        return match deny(line) {
            Some(0) | None => Counting::No(
                format!("`{}` counts failures and locks no account, since `deny` is not set.", line.module),
                line.origin,
            ),
            Some(_) => Counting::Locks(line.origin),
        };
    }
    let faillock: Vec<&&PamLine> = of(&["pam_faillock"]).collect();
    let Some(first) = faillock.first() else { return Counting::Nothing };
    let Some(records) = faillock.iter().find(|line| has(line, "authfail")) else {
        let why = "`pam_faillock` is not called with `authfail`, so that it records no failure.";
        return Counting::No(why.to_owned(), first.origin);
    };
    let Some(locks) = faillock.iter().find(|line| !has(line, "authfail")) else {
        let why = "`pam_faillock` is called with `authfail` only, so that it locks no account.";
        return Counting::No(why.to_owned(), records.origin);
    };
    let own = device.facts.lockout_settings.iter().find_map(|one| one.attempts);
    let stated = deny(locks).map(|number| (number, locks.origin)).or(own);
    match stated {
        Some((0, line)) => {
            Counting::No("`deny` of `pam_faillock` is 0, so that it locks no account.".to_owned(), line)
        }
        _ => Counting::Locks(locks.origin),
    }
}
