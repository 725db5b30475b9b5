//! A database is asked without encryption.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::of_kinds;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, Requirement, ServedKind, ServiceResource, Sources};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/database-unencrypted",
    area: Area::Ciphers,
    title: "Database traffic without TLS",
    severity: Severity::Low,
    why: "Queries and results contain the data itself. An attacker on the path can copy or change them unnoticed.",
    fix: "Enable and require TLS: `ssl = on` with `hostssl` lines, `require-secure-transport = ON`, `tls-port` with `port \
          0`, or `certfile` for the listener.",
    judged: "Fails for each database, cache or broker that listens beyond the device and does not require encryption of \
             permitted sources. Passes where TLS is required and where only the device itself is permitted. Undetermined \
             where an included file is missing.",
    references: &[
        "PostgreSQL manual, 19.9",
        "MariaDB documentation, require_secure_transport",
        "RFC 9325, 3",
    ],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    let kinds = [ServedKind::Databases, ServedKind::Cache, ServedKind::Broker];
    for one in
        of_kinds(estate, &kinds).filter(|one| !one.served.is_local() && !one.served.endpoints.is_empty())
    {
        let from_afar = |part: &&ServiceResource| {
            !part.sources.is_local()
                && !part.sources.is_nobody()
                && part.login.value() != Some(&AuthRequirement::Refused)
        };
        let mut met = one.served.parts.iter().filter(from_afar).peekable();
        if met.peek().is_none() {
            continue;
        }
        let bare = met.find(|part| {
            part.encryption.as_ref().and_then(|one| one.value()) != Some(&Requirement::Required)
        });
        let verdict = match bare {
            // A requirement for all users applies whatever accounts exist.
            None if one.served.parts.iter().any(|part| part.login.value().is_none()) => one.holds(),
            None => one.open().unwrap_or_else(|| {
                let lines = one.served.parts.iter().filter_map(|part| part.encryption.as_ref()?.origin());
                Verdict::pass_by(lines, one.served.origin)
            }),
            Some(part) => {
                one.unsaid(part.encryption.as_ref(), "TLS (`encryption` in `parts`)").unwrap_or_else(|| {
                    let line = part.encryption.as_ref().and_then(|one| one.origin()).unwrap_or(part.origin);
                    one.fail_of(
                        CHECK.rating(),
                        &Sources { names: part.sources.names.clone(), ..part.sources.clone() },
                        format!("{} does not require TLS", one.title()),
                        format!("Affected: {}.", part.title()),
                        [line]
                            .into_iter()
                            .chain(one.served.endpoints.first().map(|place| place.origin))
                            .collect(),
                    )
                })
            }
        };
        answers.push(Answer::new(one.device, Subject::served(one.served), verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const PG: &str = "d/etc/postgresql/15/main/postgresql.conf";
        const HBA: &str = "d/etc/postgresql/15/main/pg_hba.conf";
        for (settings, rules, wanted) in [
            (
                "listen_addresses = '*'\n",
                "host all all 10.4.0.0/24 scram-sha-256\n",
                &["fail low d pg_hba.conf:1 postgresql.conf:1"][..],
            ),
            (
                "listen_addresses = '*'\nssl = on\n",
                "host all all 10.4.0.0/24 scram-sha-256\n",
                &["fail low d pg_hba.conf:1 postgresql.conf:1"],
            ),
            (
                "listen_addresses = '*'\nssl = on\n",
                "hostssl all all 10.4.0.0/24 scram-sha-256\n",
                &["pass d"],
            ),
            (
                "listen_addresses = '*'\nssl = on\ninclude 'more.conf'\n",
                "hostssl all all 10.4.0.0/24 scram-sha-256\n",
                &["ask d"],
            ),
            ("listen_addresses = '*'\n", "host all all 127.0.0.1/32 scram-sha-256\n", &[]),
            ("listen_addresses = 'localhost'\n", "host all all all trust\n", &[]),
        ] {
            run(&CHECK, &[(rules, &[(HBA, rules), (PG, settings)], wanted)]);
        }
        for (text, wanted) in [
            ("[mysqld]\nbind-address=10.4.0.9\n", &["fail low d my.cnf:2"][..]),
            ("[mysqld]\nbind-address=127.0.0.1\n", &[]),
            ("[mysqld]\nssl-cert=/x\nrequire-secure-transport\n", &["pass d"]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/mysql/my.cnf", text)], wanted)]);
        }
    }
}
