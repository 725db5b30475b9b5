//! A shell login has one factor only.

use crate::check::{Answer, Check, Control, Fail, Reason, Run, Verdict};
use crate::subject::Subject;
use trevlin_analysis::authentication::{Factors, conditions, ssh_login_paths, weakest_path};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{FactorKind, Origin, Protocol, Setting};

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
             where every login requires two factors of different kinds. Undetermined where PAM decides and its files were \
             not exported, or delegate the decision. Commented modules, and modules outside the `auth` stack, are not \
             factors. A `Match` block with a weaker login is judged separately.",
    references: &["NIST SP 800-63B, 4.2", "PCI DSS 4.0, 8.4.1", "sshd_config(5), AuthenticationMethods"],
    controls: &[Control::grundschutz("SYS.1.3.A8")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for server in &device.facts.ssh_servers {
            answers.push(Answer::new(at, Subject::ssh(), judge(estate, at, server)));
            answers.extend(conditional(estate, at, server));
        }
    }
    answers
}

fn judge(estate: &Analyses, at: usize, server: &SshServer) -> Verdict {
    if let Some((why, origin)) = &server.refused {
        let ask = format!(
            "Please provide the output of `sshd -T` and the files in use: sshd rejects this configuration ({why}), so it is \
             not the running one."
        );
        return Verdict::ask(ask, vec![*origin]);
    }
    if let Some(missing) = server.missing_configuration() {
        return Verdict::ask_reference(missing, "how users log in over SSH");
    }
    judge_connection(estate, at, server, &SshConnection::default(), None)
}

/// Login paths under a condition, where they are weaker than the general one.
fn conditional(estate: &Analyses, at: usize, server: &SshServer) -> Vec<Answer> {
    if server.refused.is_some() || server.missing_configuration().is_some() {
        return Vec::new();
    }
    let ease = |connection: &SshConnection<'_>| {
        let ways = ssh_login_paths(estate, at, server, connection);
        match weakest_path(&ways).map(|way| &way.factors) {
            Some(Factors::Known(kinds, _)) if kinds.is_empty() => 0,
            Some(Factors::Known(kinds, _)) if kinds.len() == 1 && kinds.contains(&FactorKind::Knowledge) => 1,
            Some(Factors::Known(kinds, _)) if kinds.len() == 1 => 2,
            Some(Factors::Unknown { .. }) => 3,
            _ => 4,
        }
    };
    let everybody = ease(&SshConnection::default());
    let mut found = Vec::new();
    for condition in conditions(server) {
        let connection = condition.connection();
        if ease(&connection) < everybody {
            let who = match (&condition.who, condition.sources.is_empty()) {
                (Some(who), true) => who.clone(),
                (Some(who), false) => format!("{who} from {}", condition.sources.join(", ")),
                (None, _) => format!("users from {}", condition.sources.join(", ")),
            };
            let verdict = judge_connection(estate, at, server, &connection, Some((&who, condition.origin)));
            found.push(Answer::new(at, Subject::ssh().with(who), verdict));
        }
    }
    found
}

fn judge_connection(
    estate: &Analyses,
    at: usize,
    server: &SshServer,
    connection: &SshConnection<'_>,
    about: Option<(&str, Origin)>,
) -> Verdict {
    let ways = ssh_login_paths(estate, at, server, connection);
    let Some(way) = weakest_path(&ways) else { return Verdict::Pass };
    let (kinds, lines) = match &way.factors {
        Factors::Known(kinds, lines) => (kinds, lines),
        Factors::Unknown { ask, evidence, file } => {
            let reason = Reason::decides("which factors SSH requires");
            return Verdict::provide(ask.clone(), reason, evidence.clone()).wanting_all(file);
        }
    };
    if kinds.len() > 1 {
        return Verdict::Pass;
    }
    let port = server.port(connection);
    let reachability_from = Reachability::of(estate, at, Protocol::TCP, port);
    let only_key = kinds.iter().next() == Some(&FactorKind::Possession);
    let what = match (kinds.is_empty(), only_key) {
        (true, _) => "no authentication is required",
        (_, true) => "a key alone is required, which cannot be guessed",
        (_, false) => "a password alone is required",
    };
    let severity = match (kinds.is_empty(), only_key, &reachability_from) {
        (true, _, Reachability::Inside) => Severity::High,
        (true, ..) => Severity::Critical,
        (_, false, reachability_from) if reachability_from.is_open() => Severity::High,
        (_, false, _) => Severity::Medium,
        (_, true, reachability_from) if reachability_from.is_open() => Severity::Medium,
        (_, true, _) => Severity::Low,
    };
    let from = reachability_from
        .phrase(estate)
        .unwrap_or_else(|| "no port forward from the Internet was found".to_owned());
    let why = format!("{what}; {from}");
    let words = kinds.iter().next().map_or("nothing", |kind| kind.words());
    let condition = about.map(|(_, origin)| origin);
    let evidence = condition
        .into_iter()
        .chain(lines.iter().copied())
        .chain(reachability_from.evidence())
        .chain([server.origin]);
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: match about {
            Some((who, _)) => format!("SSH accepts {who} with a single factor: {words}"),
            None => format!("SSH accepts a single factor: {words}"),
        }
        .into(),
        detail: format!(
            "The weakest accepted login is by {} ({}).",
            way.methods.join(" and "),
            if matches!(server.effective("authenticationmethods", connection), Setting::Stated { .. }) {
                "as listed in AuthenticationMethods"
            } else {
                "any one enabled method is sufficient; methods not set are at the default of the daemon"
            }
        )
        .into(),
        evidence: evidence.collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const OATH: (&str, &str) = ("d/etc/pam.d/sshd", "auth required pam_oath.so\nauth required pam_unix.so\n");
    const COMMENTED: (&str, &str) =
        ("d/etc/pam.d/sshd", "# auth required pam_oath.so\nauth required pam_unix.so\n");
    const WRONG_STACK: (&str, &str) =
        ("d/etc/pam.d/sshd", "session required pam_oath.so\nauth required pam_unix.so\n");
    const RADIUS: (&str, &str) = ("d/etc/pam.d/sshd", "auth required pam_radius_auth.so\n");
    const PAM_ONLY: &str = "UsePAM yes\nAuthenticationMethods keyboard-interactive\nPermitRootLogin no\n";

    #[test]
    fn cases() {
        for (name, config, more, wanted) in [
            ("defaults", "PermitRootLogin no\n", None, "fail medium d sshd_config:1"),
            ("keys only", "PasswordAuthentication no\nMaxAuthTries 3\n", None, "fail low d sshd_config:1"),
            ("two methods", "AuthenticationMethods publickey,password\nMaxAuthTries 3\n", None, "pass d"),
            ("a code and a password", PAM_ONLY, Some(OATH), "pass d"),
            ("the code is in comments", PAM_ONLY, Some(COMMENTED), "fail medium d sshd:2 sshd_config:1"),
            (
                "the code is in the wrong stack",
                PAM_ONLY,
                Some(WRONG_STACK),
                "fail medium d sshd:2 sshd_config:1",
            ),
            ("RADIUS alone is a question", PAM_ONLY, Some(RADIUS), "ask d"),
            ("PAM not exported", PAM_ONLY, None, "ask d"),
            ("would not start", "MaxAuthTries x\n", None, "ask d"),
            ("an include that is missing", "Include more.conf\nMaxAuthTries 3\n", None, "ask d"),
        ] {
            let mut files = vec![("d/etc/ssh/sshd_config", config)];
            files.extend(more);
            run(&CHECK, &[(name, &files, &[wanted])]);
        }
    }

    #[test]
    fn conditions_under_which_it_is_easier() {
        const TWO: &str = "AuthenticationMethods publickey,password\nUsePAM no\nPermitRootLogin no\n";
        for (lines, wanted) in [
            (
                "Match User ann\nAuthenticationMethods password\n",
                &["pass d", "fail medium d sshd_config:5 sshd_config:1"][..],
            ),
            (
                "Match Address 10.4.0.0/24\nAuthenticationMethods publickey\n",
                &["pass d", "fail low d sshd_config:5 sshd_config:1"],
            ),
            ("Match User ann\nAuthenticationMethods publickey,password\n", &["pass d"]),
            ("Match User ann\nBanner none\n", &["pass d"]),
            ("#Match User ann\n#AuthenticationMethods password\n", &["pass d"]),
        ] {
            run(&CHECK, &[(lines, &[("d/etc/ssh/sshd_config", &format!("{TWO}{lines}"))], wanted)]);
        }
    }
}
