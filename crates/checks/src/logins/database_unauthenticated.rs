//! A database lets people in without asking who they are.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::Setting;
use trevlin_model::served::{AuthRequirement, PartKind, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/database-unauthenticated",
    area: Area::Logins,
    title: "Database accepts connections without authentication",
    severity: Severity::High,
    why: "A client that reaches the port may log in as any database user, including the owner of all data. Many databases \
          also allow such a user to run programs on the server.",
    fix: "Require `scram-sha-256` or a certificate in every network line of `pg_hba.conf`. Remove `skip-grant-tables` and \
          restart the server. For InfluxDB set `auth-enabled = true` and keep the port of its backups on the loopback address; for etcd \
          require client certificates on both ports (`client-cert-auth`, `peer-client-cert-auth`).",
    judged: "Fails for each rule that trusts network connections, and for a server that requires no login as a whole; one level lower \
             where only some networks are trusted. Passes for trust limited to the device itself or a few named hosts, for ports without a login that their program keeps to the device, and \
             for rules behind an earlier rejecting rule. Undetermined where accounts are stored in the database itself.",
    references: &[
        "PostgreSQL manual, 21.4 (trust)",
        "MariaDB documentation, skip-grant-tables",
        "CIS Controls 8, 6.1",
    ],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Databases]) {
        answers.extend(one.open_answer());
        for part in &one.served.parts {
            answers.extend(judge(one, part, baseline.at(one.device)).map(|verdict| {
                Answer::new(one.device, Subject::part(one.served, part).limited_to(&part.sources), verdict)
            }));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Option<Verdict> {
    let whole = part.kind == PartKind::Whole;
    match part.login.value() {
        // The server's authentication is requested once, for the server as a whole.
        None => None,
        Some(AuthRequirement::Nothing)
            if !whole && (is_few(&part.sources, thresholds) || part.sources.is_local()) =>
        {
            Some(one.holds_by_limit(part))
        }
        Some(AuthRequirement::Nothing) if !whole && one.served.is_local() => Some(one.holds_by_limit(part)),
        // A port that the program keeps to the device by itself is as it is meant to be.
        Some(AuthRequirement::Nothing)
            if one.served.is_local() && matches!(part.login, Setting::Default(_)) =>
        {
            Some(one.holds_by_limit(part))
        }
        Some(AuthRequirement::Nothing) => {
            let base = match one.served.is_local() {
                true => CHECK.rating().lowered("reachable from the device itself only"),
                false => CHECK.rating(),
            };
            let detail = if whole {
                match one.served.program {
                    "MariaDB" => {
                        "The server runs without grant tables: every client has all rights.".to_owned()
                    }
                    _ => "Every client that reaches it has all rights.".to_owned(),
                }
            } else {
                format!("Permitted without a password: {} from {}.", part.name, part.sources.words())
            };
            Some(one.fail(
                one.limited(base, &part.sources),
                part,
                format!("{} requires no authentication", one.title()),
                detail,
                part.lines(),
            ))
        }
        Some(_) => Some(one.holds_by_login(part)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const WIDE: (&str, &str) = ("d/etc/postgresql/15/main/postgresql.conf", "listen_addresses = '*'\n");
        const NEAR: (&str, &str) =
            ("d/etc/postgresql/15/main/postgresql.conf", "listen_addresses = 'localhost'\n");
        for (settings, text, wanted) in [
            (WIDE, "host all all 0.0.0.0/0 trust\n", &["fail high d pg_hba.conf:1"][..]),
            (WIDE, "host all all 10.4.0.0/20 trust\n", &["fail medium d pg_hba.conf:1"]),
            (WIDE, "host all all 10.4.0.9/32 trust\n", &["pass d"]),
            (WIDE, "host all all 127.0.0.1/32 trust\n", &["pass d"]),
            (WIDE, "local all all trust\n", &["pass d"]),
            (WIDE, "host all all all reject\nhost all all 0.0.0.0/0 trust\n", &[]),
            (WIDE, "host all all all scram-sha-256\n", &["pass d"]),
            // It does not listen beyond the device.
            (NEAR, "host all all 0.0.0.0/0 trust\n", &["pass d"]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/postgresql/15/main/pg_hba.conf", text), settings], wanted)]);
        }
        run(
            &CHECK,
            &[
                (
                    "no rights",
                    &[("d/etc/mysql/my.cnf", "[mysqld]\nskip-grant-tables\n")],
                    &["fail high d my.cnf:2"],
                ),
                ("accounts inside", &[("d/etc/mysql/my.cnf", "[mysqld]\nport=3306\n")], &["ask d"]),
                ("no list", &[WIDE], &["ask d"]),
                (
                    "measurements",
                    &[("d/etc/influxdb/influxdb.conf", "[http]\n  auth-enabled = false\n")],
                    &["pass d", "fail high d influxdb.conf:1 influxdb.conf:2"],
                ),
                (
                    "measurements with a login",
                    &[(
                        "d/etc/influxdb/influxdb.conf",
                        "bind-address = \"10.4.0.9:8088\"\n[http]\n  auth-enabled = true\n",
                    )],
                    &["fail high d influxdb.conf:1", "pass d"],
                ),
                (
                    "a cluster",
                    &[("d/etc/default/etcd", "ETCD_LISTEN_PEER_URLS=http://10.4.0.9:2380\n")],
                    &["fail high d etcd:1"],
                ),
                (
                    "certificates",
                    &[(
                        "d/etc/default/etcd",
                        "ETCD_LISTEN_PEER_URLS=https://10.4.0.9:2380\nETCD_PEER_CLIENT_CERT_AUTH=true\n",
                    )],
                    &["pass d"],
                ),
                // Users may be in the database itself.
                (
                    "clients",
                    &[("d/etc/default/etcd", "ETCD_LISTEN_CLIENT_URLS=http://10.4.0.9:2379\n")],
                    &["ask d", "pass d"],
                ),
            ],
        );
    }
}
