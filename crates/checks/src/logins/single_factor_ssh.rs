//! A shell login has one factor only.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::logins::{holds_where, only_from};
use crate::rating::Rating;
use crate::subject::{Subject, SubjectKind};
use crate::support::{each_once, without_effect};
use trevlin_analysis::authentication::{
    METHODS, ShellCondition, SshLoginPath, Undecided, all_locked, conditions, ssh_login_paths, weakest_path,
};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::ssh_key::SshKeyUse;
use trevlin_model::{Device, FactorKind, Origin, total_addresses};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/single-factor-ssh",
    area: Area::Logins,
    title: "SSH login with a single factor",
    severity: Severity::Medium,
    why: "SSH access to a server is a base for reaching other systems. Passwords are attacked continuously wherever the port \
          is open, and a stolen key works for an attacker as for its owner. Two factors must be compromised together.",
    fix: "Require two methods (`AuthenticationMethods publickey,keyboard-interactive` with a one-time code in PAM). At least \
          disable passwords, and permit keys from internal networks only.",
    judged: "Fails where the weakest accepted login requires one factor or none; one level lower where that is a key. Passes \
             where every login requires two factors of different kinds, and where every account is locked. A password that \
             the file enables counts although the PAM stack was not exported; the stack is requested. Undetermined where \
             PAM alone decides and its files were not exported, or delegate the decision. Commented modules, and modules \
             outside the `auth` stack, are not factors. A `Match` block with a weaker login is judged separately, by its \
             sources. Conditions of a stack (`pam_succeed_if`, `pam_access`) are followed as far as accounts, groups and lists \
             were exported. One level lower each where a command is forced, where only a few addresses or private ones are accepted, and where the \
             keys of the user are limited.",
    references: &["NIST SP 800-63B, 4.2", "PCI DSS 4.0, 8.4.1", "sshd_config(5), AuthenticationMethods"],
    needs: &[Need::Accounts, Need::Ssh],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let few = baseline.at(at).few_addresses;
        for server in &device.facts.ssh_servers {
            if let Some(verdict) = not_in_force(server) {
                answers.push(Answer::new(at, Subject::ssh(), verdict));
                continue;
            }
            let stack = || Subject::of(SubjectKind::PamStack).with("sshd");
            let general = ssh_login_paths(estate, at, server, &SshConnection::default());
            let (verdict, open) = judge(estate, at, server, None, &general, few);
            answers.push(Answer::new(at, Subject::ssh(), verdict));
            answers.extend(open.map(|open| Answer::new(at, stack(), ask(&open))));
            // Conditions are judged where they are weaker than the general login.
            for condition in conditions(device, server, &METHODS).into_iter().filter(|one| !one.barred) {
                let paths = ssh_login_paths(estate, at, server, &condition.connection());
                if weakness(&paths) < weakness(&general) {
                    let (verdict, open) = judge(estate, at, server, Some(&condition), &paths, few);
                    answers.push(Answer::new(at, Subject::ssh().with(condition.key()), verdict));
                    let stack = || stack().with(condition.key());
                    answers.extend(open.map(|open| Answer::new(at, stack(), ask(&open))));
                }
            }
        }
    }
    answers
}

/// The request for the configuration in force, where the exported one is not, or not all of it.
fn not_in_force(server: &SshServer) -> Option<Verdict> {
    if let Some((why, origin)) = &server.refused {
        let ask = format!(
            "Please provide the output of `sshd -T` and the files in use: sshd rejects this configuration ({why}), so it is \
             not the running one."
        );
        return Some(Verdict::ask(ask, vec![*origin]));
    }
    let missing = server.missing_configuration()?;
    // A sheet that states both has the methods.
    let connection = SshConnection::default();
    let unsaid = |keyword: &&str| server.stated(keyword, &connection).is_none();
    let open: Vec<String> = ["passwordauthentication", "pubkeyauthentication"]
        .into_iter()
        .filter(unsaid)
        .map(|keyword| format!("`{keyword}`"))
        .collect();
    if missing.unsaid.is_none() {
        return Some(Verdict::ask_reference(missing, "how users log in over SSH"));
    }
    let about = format!("how users log in over SSH ({} in `settings`)", open.join(" and "));
    (!open.is_empty()).then(|| Verdict::ask_reference(missing, &about))
}

/// The request for the part that decides.
fn ask(undecided: &Undecided) -> Verdict {
    let reason = Reason::decides("which factors SSH requires");
    Verdict::provide(undecided.ask.clone(), reason, undecided.evidence.clone()).wanting_all(&undecided.file)
}

/// Rank of the weakest login path: the lower, the weaker; the highest where there is none.
fn weakness(paths: &[SshLoginPath]) -> (usize, u8) {
    weakest_path(paths).map_or((usize::MAX, 0), |path| {
        let (kinds, guessable, _) = path.factors.weakness();
        (kinds, guessable)
    })
}

/// The verdict, and the part that may require more.
fn judge(
    estate: &Analyses,
    at: usize,
    server: &SshServer,
    condition: Option<&ShellCondition>,
    paths: &[SshLoginPath],
    few: u64,
) -> (Verdict, Option<Undecided>) {
    let Some(weakest) = weakest_path(paths) else { return (Verdict::pass(server.origin), None) };
    let open = weakest.factors.undecided.clone();
    // A password that the file itself switches on counts, whatever the stack may require beside it; otherwise another login path
    // with a single factor makes the finding certain.
    let path = match &open {
        Some(_) if weakest.methods == ["password"] && !weakest.factors.kinds.is_empty() => weakest,
        Some(undecided) => {
            let single = paths.iter().filter(|path| path.factors.is_single());
            match single.min_by_key(|path| path.factors.weakness()) {
                Some(path) => path,
                None => return (ask(undecided), None),
            }
        }
        None => weakest,
    };
    if path.factors.kinds.len() > 1 {
        return (Verdict::pass_by(path.factors.lines.iter().copied(), server.origin), None);
    }
    let connection = condition.map_or_else(SshConnection::default, ShellCondition::connection);
    // Where the stack was not exported at all, its login counts as a password, which it is unless it was changed (pam_unix(8)).
    let unseen = open.as_ref().is_some_and(|undecided| undecided.file.is_some())
        && !all_locked(&estate.devices[at], server, &connection);
    let kind = match path.factors.kinds.first() {
        Some(_) if unseen => Some(FactorKind::Knowledge),
        kind => kind.copied(),
    };
    let from = Reachability::of_ssh(estate, at, server, condition);
    let forced = server
        .stated("forcecommand", &connection)
        .filter(|(words, _)| words.first().is_some_and(|word| word != "none"));
    let methods = server.stated("authenticationmethods", &connection).map(|(_, origin)| origin);
    let switch =
        if path.methods == ["password"] { "passwordauthentication" } else { "authenticationmethods" };
    let void = if condition.is_none() { server.without_effect(switch) } else { Vec::new() };

    let mut rating = rating(estate, kind, &from);
    let words = kind.map_or("nothing", |kind| kind.words());
    let unless = if unseen { ", unless the PAM stack requires more" } else { "" };
    let mut detail = match methods {
        _ if unseen => "The PAM stack `sshd` decides about the login and was not exported; unless it was changed, it requires \
                        the password of the account and nothing else."
            .to_owned(),
        Some(_) => by_path(path, "as listed in AuthenticationMethods"),
        None => by_path(
            path,
            "any one enabled method is sufficient; methods not set are at the default of the daemon",
        ),
    };
    if let Some((command, _)) = &forced {
        rating = rating.lowered("the login is limited to a forced command");
        detail.push_str(&format!(" The login starts `{}`.", command.join(" ")));
    }
    let from_few = condition.and_then(|condition| condition.addresses.as_ref());
    if from_few.is_some_and(|addresses| total_addresses(&**addresses) <= u128::from(few)) {
        rating = rating.lowered("it is accepted from a few addresses only");
    }
    if path.methods == ["publickey"]
        && let Some(why) = condition.and_then(|one| limited_keys(&estate.devices[at], one.who.as_deref()?))
    {
        rating = rating.lowered(why);
    }
    if !path.factors.bypassed.is_empty() {
        detail.push_str(" The stack grants access without its module for a further factor (cited).");
    }
    detail.push_str(&holds_where(&path.factors.conditions));
    if let Some(from) = only_from(&path.factors.conditions, few) {
        rating = rating.lowered(from);
    }
    detail.push_str(without_effect(&void));

    let deciding = condition.map(|condition| condition.origin).into_iter().chain(methods);
    let undecided = open.iter().flat_map(|_| &weakest.factors.lines).copied();
    let mut lines: Vec<Origin> =
        deciding.chain(undecided).chain(path.factors.lines.iter().copied()).collect();
    if lines.is_empty() {
        // Defaults stand nowhere: the line that switches passwords off decides, or else the file.
        let off = server.stated("passwordauthentication", &connection).map(|(_, origin)| origin);
        lines.push(off.unwrap_or(server.origin));
    }
    let met = path.factors.conditions.iter().flat_map(|one| one.lines.iter().copied());
    let more = met.chain(path.factors.bypassed.iter().copied()).chain(void).chain(from.evidence());
    let who = condition.map(|condition| format!(" {} with", condition.words()));
    let on = if path.factors.conditions.is_empty() { "" } else { " on a condition" };
    let verdict = Verdict::Fail(Fail {
        rating,
        title: format!("SSH accepts{} a single factor{on}: {words}{unless}", who.unwrap_or_default()).into(),
        detail: detail.into(),
        evidence: each_once(lines.into_iter().chain(more)),
    });
    (verdict, open)
}

/// What limits every key of a user, where all are listed in an export.
fn limited_keys(device: &Device, user: &str) -> Option<&'static str> {
    let mut keys = device
        .facts
        .ssh_keys
        .iter()
        .filter(|key| key.purpose != SshKeyUse::Host && key.user.as_deref() == Some(user))
        .peekable();
    keys.peek()?;
    let (command, from) =
        keys.fold((true, true), |(command, from), key| (command && key.limited, from && key.from.is_some()));
    match (command, from) {
        (true, _) => Some("each of the user's keys is limited to one command"),
        (false, true) => Some("each of the user's keys is accepted from named addresses only"),
        _ => None,
    }
}

/// The login path in a sentence, with the reason why it suffices.
fn by_path(path: &SshLoginPath, why: &str) -> String {
    format!("The weakest accepted login is by {} ({why}).", path.methods.join(" and "))
}

/// The rating of a login with one factor or none.
fn rating(estate: &Analyses, kind: Option<FactorKind>, from: &Reachability<'_>) -> Rating {
    let what = match kind {
        None => "no authentication is required",
        Some(FactorKind::Knowledge) => "a password alone is required",
        Some(FactorKind::OneTimeCode) => "a one-time code alone is required, which can be phished",
        Some(_) => "a key alone is required, which cannot be guessed",
    };
    let guessable = matches!(kind, Some(FactorKind::Knowledge | FactorKind::OneTimeCode));
    let severity = match (kind, from) {
        (None, from) if from.is_inside() => Severity::High,
        (None, _) => Severity::Critical,
        _ if guessable && from.is_open() => Severity::High,
        _ if guessable || from.is_open() => Severity::Medium,
        _ => Severity::Low,
    };
    let reached =
        from.phrase(estate).unwrap_or_else(|| "no port forward from the Internet was found".to_owned());
    CHECK.rated_at(severity, format!("{what}; {reached}"))
}

#[cfg(test)]
#[path = "single_factor_ssh_tests.rs"]
mod tests;
