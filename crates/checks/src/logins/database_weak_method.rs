//! A database uses a weak authentication method.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/database-weak-method",
    area: Area::Logins,
    title: "Weak database authentication method",
    severity: Severity::Medium,
    why: "With `ident`, the client host states its own user name and can be configured to state any. With `md5`, a stolen \
          hash is enough to log in, and MD5 can be attacked offline at high speed.",
    fix: "Set `password_encryption = scram-sha-256`, have all users set their password again, and replace `md5` and `ident` \
          by `scram-sha-256`.",
    judged: "Fails for each network rule with `ident`, and at a lower severity with `md5`. Passes for all other methods that \
             authenticate, and for local rules. Clear-text passwords are reported in the area ciphers. Undetermined where \
             rules or accounts were not exported.",
    references: &["RFC 1413, 6", "RFC 6151, 2", "PostgreSQL manual, 21.5"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Databases]).filter(|one| !one.served.is_local()) {
        answers.extend(one.open_answer());
        // Without a login there is no method.
        let has_method = |part: &&ServiceResource| {
            let login = part.login.value();
            !part.sources.is_local() && login.is_some() && login != Some(&AuthRequirement::Nothing)
        };
        for part in one.served.parts.iter().filter(has_method) {
            answers.push(Answer::new(
                one.device,
                Subject::part(one.served, part).limited_to(&part.sources),
                judge(one, part),
            ));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    let (base, method, why) = if part.login.value() == Some(&AuthRequirement::Address) {
        (CHECK.rating(), "ident", "The server trusts the user name that the client host reports.")
    } else if part.remark(Remark::Md5Password).is_some() {
        (
            CHECK.rating().lowered("a password hash must be stolen or cracked first"),
            "md5",
            "Where stored passwords already use SCRAM, SCRAM replaces MD5; otherwise the stored hash is equivalent to the \
             password.",
        )
    } else {
        return one.holds_by_login(part);
    };
    one.fail(
        one.limited(base, &part.sources),
        part,
        format!("{} accepts `{method}` for {}", one.title(), part.name),
        why.to_owned(),
        part.lines(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const WIDE: (&str, &str) = ("d/etc/postgresql/15/main/postgresql.conf", "listen_addresses = '*'\n");
        run(&CHECK, &[("no rules", &[WIDE], &["ask d"])]);
        for (text, wanted) in [
            ("host all all all ident\n", &["fail medium d pg_hba.conf:1"][..]),
            ("host all all 10.4.0.0/20 md5\n", &["fail info d pg_hba.conf:1"]),
            ("host all all all md5\n", &["fail low d pg_hba.conf:1"]),
            ("host all all 127.0.0.1/32 ident\n", &[]),
            ("host all all all scram-sha-256\n", &["pass d"]),
            ("host all all 10.4.0.0/20 trust\n", &[]),
            ("# host all all all md5\nhost all all all cert\n", &["pass d"]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/postgresql/15/main/pg_hba.conf", text), WIDE], wanted)]);
        }
    }
}
