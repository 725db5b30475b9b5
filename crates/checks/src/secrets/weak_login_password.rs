//! A login's password is weak.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::each_device;
use rayon::prelude::*;
use std::collections::BTreeSet;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::words;
use trevlin_model::secret::Grade;
use trevlin_model::{AllowedAddresses, Login, LoginDaemon, SecretsFile, Setting};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/weak-login-password",
    area: Area::Secrets,
    title: "Weak login password",
    severity: Severity::High,
    why: "VPN logins are exposed to guessing from any address that reaches the service. Common passwords, names and their \
          variants are tried first, including the name of the organisation. One guessed password gives internal access.",
    fix: "Replace it by a generated password of at least 15 characters, or better by a certificate with a second factor. \
          Inform the user, and check the logs for unauthorised logins.",
    judged: "Fails where a password is easier to guess than the baseline permits, considering the names of user, device and \
             organisation, or shorter than 8 characters. Undetermined where the secret is in a file that was not exported. \
             Entries that grant no access, and accounts that have expired at the date of the audit, do not apply, and hashes are not judged here.",
    references: &["NIST SP 800-63B, 5.1.1", "OWASP ASVS 4.0.3, 2.1"],
    needs: &[Need::Accounts, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    each_device(estate, |at| {
        let device = &estate.devices[at];
        let mut answers = Vec::new();
        // A list may be long, and guessing takes long.
        let live = |login: &&Login| !login.has_expired(baseline.day());
        let by_password = super::by_password(device.logins.iter().filter(live));
        answers.par_extend(by_password.par_iter().filter_map(|logins| {
            let (login, verdict) = worst(logins, |login| judge(estate, at, login, baseline))?;
            let subject = Subject::of(SubjectKind::Login).with(&login.user).with(&login.service);
            Some(Answer::new(at, subject, verdict))
        }));
        for one in device.facts.credentials.iter().filter(|one| one.addresses != AllowedAddresses::None) {
            if let Setting::Unknown { why } = &one.secret {
                let question = format!(
                    "Please have the password of {} graded on the device: it is not visible here ({why}).",
                    one.client
                );
                answers.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::Login).with(&one.client).with(&one.path),
                    Verdict::ask(question, vec![one.origin]),
                ));
            }
        }
        answers
    })
}

/// The most severe verdict on a password, with the login to the service that makes it so. The others are named.
fn worst<'a>(
    logins: &[&'a Login],
    judge: impl Fn(&Login) -> Option<Verdict>,
) -> Option<(&'a Login, Verdict)> {
    let weight = |verdict: &Verdict| match verdict {
        Verdict::Fail(fail) => Some(fail.rating.severity()),
        _ => None,
    };
    let mut found: Option<(&Login, Verdict)> = None;
    for login in logins {
        let Some(verdict) = judge(login) else { continue };
        if found.as_ref().is_none_or(|(_, known)| weight(&verdict) > weight(known)) {
            found = Some((login, verdict));
        }
    }
    let (login, mut verdict) = found?;
    let others = logins.iter().filter(|one| one.service != login.service).map(|one| one.service.as_str());
    let others: Vec<&str> = others.collect::<BTreeSet<_>>().into_iter().collect();
    if let Verdict::Fail(fail) = &mut verdict
        && !others.is_empty()
    {
        fail.detail = format!("{} It opens {} too.", fail.detail, super::listed(&others)).into();
    }
    Some((login, verdict))
}

fn judge(estate: &Analyses, at: usize, login: &Login, baseline: &Baseline) -> Option<Verdict> {
    let device = &estate.devices[at];
    let Some(held) = &login.secret else {
        let line = device.facts.credentials.iter().find(|one| one.origin == login.origin)?;
        let empty = matches!(line.secret, Setting::Stated { value: None, .. });
        return if empty { empty_password(estate, at, login, line.file) } else { None };
    };
    if held.hash_scheme().is_some() {
        return None;
    }
    if let Some(question) =
        super::withheld(held, &format!("the password of {} for {}", login.user, login.service))
    {
        return Some(question);
    }
    let words = words::against(estate, device, &[&login.user, &login.service]);
    let grade = held.secret.grade(&words.iter().map(String::as_str).collect::<Vec<_>>());
    let length = held.secret.length_class();
    let thresholds = baseline.at(at);
    let short = held.secret.is_shorter_than(thresholds.login_password_length);
    if grade >= thresholds.login_password_grade && !short {
        return Some(Verdict::pass(held.origin));
    }
    let (severity, why) = match grade {
        _ if held.secret.known_default().is_some() => (Severity::Critical, "it is published"),
        Grade::Trivial => (Severity::Critical, "it is among the first that attackers try"),
        Grade::Weak => (Severity::High, "it can be guessed over the network"),
        _ if short => (Severity::Medium, "it is too short rather than easy to guess"),
        _ => (Severity::Medium, "it withstands online attempts, and not an offline attack"),
    };
    let reachability_from = reachability_from(estate, at, login);
    let rating = CHECK.rated_at(severity, why);
    let rating = match (&reachability_from, reachability_from.phrase(estate)) {
        (Reachability::Everybody(_), Some(from)) if severity == Severity::High => {
            rating.at(Severity::Critical, from)
        }
        (Reachability::Everybody(_) | Reachability::Unsure(..), Some(from)) => rating.because(from),
        (inside, Some(from)) if inside.is_inside() => rating.lowered(from),
        _ => rating,
    };
    let unsure = if login.certain { "" } else { " The exports do not show which server uses it." };
    Some(Verdict::Fail(Fail {
        rating,
        title: format!("Password of {} is {}", shown(&login.user), grade.words()).into(),
        detail: format!(
            "Login {} to {} on {}: graded {} ({}); the baseline requires at least {}, {} characters.{unsure}",
            shown(&login.user),
            login.service,
            device.name,
            grade.words(),
            length.words(),
            thresholds.login_password_grade.words(),
            thresholds.login_password_length,
        )
        .into(),
        evidence: [login.origin].into_iter().chain(reachability_from.evidence()).collect(),
    }))
}

/// From where the service that a login is for is reached.
fn reachability_from<'e>(estate: &'e Analyses, at: usize, login: &Login) -> Reachability<'e> {
    let facts = &estate.devices[at].facts;
    let tunnel = facts.tunnels.iter().find(|tunnel| tunnel.name == login.service);
    let listener = tunnel.and_then(|tunnel| tunnel.listeners.first());
    let place = listener.and_then(|one| Some((one.protocol, one.port.value().copied()?)));
    let is_web = login.daemon == Some(LoginDaemon::Web);
    let served = || facts.served.iter().find(|one| is_web && one.name == login.service)?.endpoints.first();
    match place.or_else(|| served().map(|one| (one.protocol, one.port))) {
        Some((protocol, port)) => Reachability::of(estate, at, protocol, port),
        None => Reachability::NotKnown,
    }
}

/// An empty third column. In the list for PAP it accepts any password (pppd(8), AUTHENTICATION).
///
/// Packages ship such a line for use with pppd's `login`, which checks the system's own accounts; it has no effect unless a server of the
/// device uses the list without `login`.
fn empty_password(estate: &Analyses, at: usize, login: &Login, file: SecretsFile) -> Option<Verdict> {
    let device = &estate.devices[at];
    if file == SecretsFile::Pap {
        let number = device.facts.tunnels.iter().position(|tunnel| tunnel.name == login.service)?;
        if estate.dial_in(at, number).is_some_and(|dial_in| dial_in.profile.login.is_some()) {
            return None;
        }
        if !login.certain {
            let ask = format!(
                "Please state the authentication methods and the `name` option of {1}: with PAP, {0} would be accepted with \
                 any password.",
                shown(&login.user),
                login.service
            );
            return Some(Verdict::ask(ask, vec![login.origin]));
        }
    }
    let (title, detail) = match file {
        SecretsFile::Chap => ("has an empty password", "the password is empty"),
        SecretsFile::Pap => ("is accepted with any password", "no password is set, so any is accepted"),
    };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated_at(Severity::Critical, "no guessing is needed"),
        title: format!("Account {} {title}", shown(&login.user)).into(),
        detail: format!("Login {} to {} on {}: {detail}.", shown(&login.user), login.service, device.name)
            .into(),
        evidence: vec![login.origin],
    }))
}

/// A user name for output; `*` becomes "any user".
fn shown(user: &str) -> String {
    if user == "*" { "any user (`*`)".into() } else { format!("`{user}`") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, answers_as_of, estate_with, run};

    const SERVER: (&str, &str) = ("d/etc/pptpd.conf", "option /etc/ppp/pptpd-options\nremoteip 10.4.0.9\n");
    const OPTIONS: (&str, &str) = ("d/etc/ppp/pptpd-options", "name pptp\nrequire-mschap-v2\n");

    #[test]
    fn cases() {
        for (secrets, wanted) in [
            ("ann pptp password *", &["fail critical d chap-secrets:1"][..]),
            ("ann pptp vK3!pw9-Zr7_qTx2mL *", &["pass d"]),
            ("ann pptp x7%q *", &["fail high d chap-secrets:1"]),
            ("*  * sesame99 *", &["fail high d chap-secrets:1"]),
            ("# ann pptp password *", &[]),
            ("ann pptp password -", &[]),
            ("ann pptp password", &[]),
            ("ann dial-out password *", &[]),
            ("ann pptp \"\" *", &["fail critical d chap-secrets:1"]),
            ("ann pptp \"\" -", &[]),
            ("ann pptp @/etc/ppp/gone *", &["ask d"]),
            ("ann pptp vK3!pw9-Zr7_qTx2mL *\nann pptp password *", &["pass d"]),
            ("ann * password *\nann pptp vK3!pw9-Zr7_qTx2mL *", &["pass d"]),
        ] {
            run(&CHECK, &[(secrets, &[SERVER, OPTIONS, ("d/etc/ppp/chap-secrets", secrets)], wanted)]);
        }
    }

    #[test]
    fn accounts_that_have_expired_at_the_date_of_the_audit() {
        for (more, wanted) in [
            (", Expiration := \"1 Mar 2026\"", &[][..]),
            (", Expiration := \"Mar 26 2026 10:00:00\"", &["fail critical d users:1"]),
            (", Expiration := \"1 Mar 2027\"", &["fail critical d users:1"]),
            (", Expiration := \"soon\"", &["fail critical d users:1"]),
            ("", &["fail critical d users:1"]),
        ] {
            let list = format!("ann Cleartext-Password := \"password\"{more}\n");
            let estate = estate_with(&[("d/raddb/users", &list)], "");
            assert_eq!(answers_as_of(&CHECK, &estate, jiff::civil::date(2026, 3, 26)), wanted, "{more}");
        }
    }

    #[test]
    fn accounts_of_the_administration() {
        let rpcd = |password: &str| {
            format!(
                "config login\n\toption username 'purser'\n\toption password '{password}'\n\tlist write '*'\n"
            )
        };
        for (password, wanted) in [
            ("sesame", &["fail high d rpcd:3"][..]),
            ("$p$root", &[]),
            ("$6$salt$abcdefgh", &[]),
            ("vK3!pw9-Zr7_qTx2mL", &["pass d"]),
        ] {
            run(&CHECK, &[(password, &[("d/etc/config/rpcd", &rpcd(password))], wanted)]);
        }
    }

    #[test]
    fn one_password_for_several_services() {
        let sheet = "sheet = \"trevlin-sheet/2\"\n[[services]]\nkind = \"SMB\"\nname = \"files\"\n[[services]]\nkind = \"NFS\"\n\
                     name = \"seed\"\n[[logins]]\nuser = \"press\"\nlist = \"people\"\nservice = [\"files\", \"seed\"]\nsecret = \"press\"\n";
        let files = [("d/sheet.toml", sheet)];
        run(&CHECK, &[("two services", &files, &["fail critical d sheet.toml:8"])]);
    }

    #[test]
    fn any_password_by_pap() {
        let list = ("d/etc/ppp/pap-secrets", "* pptp \"\" *\nguest pptp \"*\" -\n");
        for (options, wanted) in [
            ("name pptp\nrequire-pap\n", &["fail critical d pap-secrets:1"][..]),
            ("name pptp\nrequire-pap\nlogin\n", &[]),
            ("name pptp\nauth\n", &["ask d"]),
            ("name other\nrequire-pap\n", &[]),
            ("name pptp\nrequire-mschap-v2\n", &[]),
        ] {
            run(&CHECK, &[(options, &[SERVER, ("d/etc/ppp/pptpd-options", options), list], wanted)]);
        }
        run(&CHECK, &[("as packages ship it, with no server", &[list], &[])]);
    }

    #[test]
    fn the_list_that_is_not_asked_has_no_logins() {
        let pap = ("d/etc/ppp/pap-secrets", "ann pptp password *");
        run(&CHECK, &[("pap", &[SERVER, OPTIONS, pap], &[])]);
        let radius = ("d/etc/ppp/pptpd-options", "name pptp\nrequire-mschap-v2\nplugin radius.so\n");
        run(&CHECK, &[("radius", &[SERVER, radius, ("d/etc/ppp/chap-secrets", "ann pptp password *")], &[])]);
    }

    #[test]
    fn names_count_against_a_password() {
        let files = [SERVER, OPTIONS, ("d/etc/ppp/chap-secrets", "ann pptp Qvintharbel-Zoskamor *")];
        assert_eq!(answers(&CHECK, &estate_with(&files, "")), ["pass d"]);
        let named = estate_with(&files, "organisation = [\"Qvintharbel Zoskamor\"]");
        assert_eq!(answers(&CHECK, &named), ["fail critical d chap-secrets:1"]);
    }
}
