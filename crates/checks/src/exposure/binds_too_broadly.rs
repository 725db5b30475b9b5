//! A database listens on networks whose clients it rejects.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, ServedKind, Sources};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/binds-too-broadly",
    area: Area::Exposure,
    title: "Service listens on more networks than it serves",
    severity: Severity::Low,
    why: "A client that reaches the port reaches the code that runs before authentication, where faults are most severe. If \
          no remote client is permitted, the open port serves attackers only.",
    fix: "Bind it to the addresses that its clients use (`listen_addresses`, `bind-address`, `bind`), or to the loopback \
          address where all of them are local.",
    judged: "Fails where the service listens beyond the device and every permitting rule applies to the device itself. \
             Passes where remote sources are permitted, and where it listens on the device only. Databases with internal \
             accounts are not judged. Undetermined where an included file is missing.",
    references: &["PostgreSQL manual, listen_addresses", "redis.conf, bind", "CIS Controls 8, 4.8"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let kinds = [ServedKind::Databases, ServedKind::Cache, ServedKind::Broker];
    of_kinds(estate, &kinds)
        .filter(|one| !one.served.endpoints.is_empty())
        .filter_map(|one| Some(Answer::new(one.device, Subject::served(one.served), judge(one)?)))
        .collect()
}

fn judge(one: ServiceCase<'_>) -> Option<Verdict> {
    let parts = &one.served.parts;
    if one.served.is_local() {
        return Some(one.holds());
    }
    if parts.iter().any(|part| part.login.value().is_none()) {
        return None;
    }
    let from_afar = parts.iter().any(|part| {
        !part.sources.is_local()
            && !part.sources.is_nobody()
            && part.login.value() != Some(&AuthRequirement::Refused)
    });
    if from_afar {
        return Some(one.holds());
    }
    if let Some(verdict) = one.open() {
        return Some(verdict);
    }
    let place = one.served.endpoints.iter().find(|place| !place.is_local())?;
    Some(one.fail_of(
        CHECK.rating(),
        &Sources::everybody(),
        format!("{} listens beyond the device but permits local clients only", one.title()),
        "All permitted sources are on the device itself.".into(),
        [place.origin].into_iter().chain(parts.first().map(|part| part.origin)).collect(),
    ))
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
                "host all all 127.0.0.1/32 md5\n",
                &["fail low d postgresql.conf:1 pg_hba.conf:1"][..],
            ),
            ("listen_addresses = '*'\n", "host all all 10.4.0.0/24 md5\n", &["pass d"]),
            ("listen_addresses = '*'\ninclude 'more.conf'\n", "host all all 127.0.0.1/32 md5\n", &["ask d"]),
            ("listen_addresses = 'localhost'\n", "host all all 127.0.0.1/32 md5\n", &["pass d"]),
        ] {
            run(&CHECK, &[(rules, &[(HBA, rules), (PG, settings)], wanted)]);
        }
        run(
            &CHECK,
            &[
                (
                    "protected",
                    &[("d/etc/redis/redis.conf", "appendonly yes\n")],
                    &["fail low d redis.conf:1"],
                ),
                ("a password", &[("d/etc/redis/redis.conf", "requirepass x\n")], &["pass d"]),
                ("accounts inside", &[("d/etc/mysql/my.cnf", "[mysqld]\nport=3306\n")], &[]),
            ],
        );
    }
}
