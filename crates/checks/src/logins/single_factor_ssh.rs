//! A shell login has one factor only.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::Subject;
use trevlin_analysis::authentication::{Factors, conditions, easiest_way, of_shell};
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
    why: "A shell on a server is the place from which everything else is reached. Passwords for it are guessed all day \
          wherever the port is open, and a key that somebody copied from a laptop works as well for the thief. Two factors \
          have to be lost together.",
    fix: "Ask for two methods (`AuthenticationMethods publickey,keyboard-interactive` with a one-time code behind PAM), or \
          at the least switch passwords off and let keys alone in from inside.",
    judged: "Fails where the easiest way in that the server accepts asks for one factor or none; milder where that is a key. \
             Passes where every way asks for two of different kinds. Undetermined where PAM decides and its files were not \
             exported, or hand the decision on. A module in comments, or in another stack than `auth`, is no factor. A \
             condition (`Match`) under which the way in is easier than everybody's is judged by itself.",
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
            "sshd would refuse this configuration ({why}), so it is not what runs; ask for `sshd -T` and the files in use"
        );
        return Verdict::ask(ask, vec![*origin]);
    }
    if let Some(missing) = server.missing_configuration() {
        return Verdict::ask_reference(missing, "how callers log in");
    }
    judge_connection(estate, at, server, &SshConnection::default(), None)
}

/// Ways in under a condition, as far as they are easier than everybody's.
fn conditional(estate: &Analyses, at: usize, server: &SshServer) -> Vec<Answer> {
    if server.refused.is_some() || server.missing_configuration().is_some() {
        return Vec::new();
    }
    let ease = |connection: &SshConnection<'_>| {
        let ways = of_shell(estate, at, server, connection);
        match easiest_way(&ways).map(|way| &way.factors) {
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
                (None, _) => format!("callers from {}", condition.sources.join(", ")),
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
    let ways = of_shell(estate, at, server, connection);
    let Some(way) = easiest_way(&ways) else { return Verdict::Pass };
    let (kinds, lines) = match &way.factors {
        Factors::Known(kinds, lines) => (kinds, lines),
        Factors::Unknown { ask, evidence, file } => {
            return Verdict::ask(format!("secure shell: {ask}"), evidence.clone()).wanting_all(file);
        }
    };
    if kinds.len() > 1 {
        return Verdict::Pass;
    }
    let port = server.port(connection);
    let reachability_from = Reachability::of(estate, at, Protocol::TCP, port);
    let only_key = kinds.iter().next() == Some(&FactorKind::Possession);
    let what = match (kinds.is_empty(), only_key) {
        (true, _) => "nothing is asked for",
        (_, true) => "a key alone lets in, which cannot be guessed",
        (_, false) => "a password alone lets in",
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
        .unwrap_or_else(|| "no forward from outside to it was found".to_owned());
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
            Some((who, _)) => format!("secure shell lets {who} in with one factor: {words}"),
            None => format!("secure shell lets in with one factor: {words}"),
        }.into(),
        detail: format!(
            "The easiest way in is by {} ({}).",
            way.methods.join(" and "),
            if matches!(server.effective("authenticationmethods", connection), Setting::Stated { .. }) {
                "as AuthenticationMethods lists it"
            } else {
                "any one method that is switched on is enough; what the configuration does not state is at the daemon's default"
            }
        ).into(),
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
