//! A cache or message broker accepts clients without authentication.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{AuthRequirement, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/broker-unauthenticated",
    area: Area::Logins,
    title: "Cache or message broker without authentication",
    severity: Severity::High,
    why: "Caches and brokers hold sessions, queues and measurements. Any client that connects reads them, injects its own \
          and triggers the systems that subscribe to them. A cache that accepts every command can also write files, and so \
          run programs, on its server.",
    fix: "Bind the service to the addresses that need it and require a password or certificate (`requirepass` or an ACL; \
          `allow_anonymous false` with a password file). Memcached keeps to the loopback address by `-l 127.0.0.1` and \
          requires a login with `-S`. Enable TLS where other hosts connect.",
    judged: "Fails for each cache and message broker that requires no authentication and listens beyond the device itself. \
             Passes on the loopback address and where a password or certificate is required. Undetermined where users are in \
             a file that was not exported, or where a plug-in or the version decides.",
    references: &["redis.conf, protected-mode", "mosquitto.conf(5), allow_anonymous", "OASIS MQTT 5.0, 5.4"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Cache, ServedKind::Broker]) {
        answers.extend(one.open_answer());
        for part in &one.served.parts {
            answers.push(Answer::new(
                one.device,
                Subject::part(one.served, part),
                judge(one, part, baseline.at(one.device)),
            ));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    match part.login.value() {
        _ if one.served.is_local() || is_few(&part.sources, thresholds) => one.holds_by_limit(part),
        None => one.ask_login(part),
        Some(AuthRequirement::Nothing) => one.fail(
            one.limited(CHECK.rating(), &part.sources),
            part,
            format!("{} requires no authentication", one.title()),
            format!(
                "Any client that reaches it may {} its content.",
                if part.is_written() { "read and change" } else { "read some of" }
            ),
            part.lines(),
        ),
        Some(_) => one.holds_by_login(part),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (file, text, wanted) in [
            (
                "redis/redis.conf",
                "bind 0.0.0.0\nprotected-mode no\n",
                &["fail high d redis.conf:1 redis.conf:2"][..],
            ),
            ("redis/redis.conf", "bind 127.0.0.1\nprotected-mode no\n", &["pass d"]),
            ("redis/redis.conf", "bind 0.0.0.0\nprotected-mode no\nrequirepass x\n", &["pass d"]),
            ("redis/redis.conf", "bind 10.4.0.9\nappendonly yes\n", &["ask d"]),
            ("redis/redis.conf", "appendonly yes\n", &["pass d"]),
            (
                "mosquitto/mosquitto.conf",
                "listener 1883\nallow_anonymous true\n",
                &["fail high d mosquitto.conf:1 mosquitto.conf:2"],
            ),
            ("mosquitto/mosquitto.conf", "listener 1883 127.0.0.1\nallow_anonymous true\n", &["pass d"]),
            ("mosquitto/mosquitto.conf", "listener 1883\nallow_anonymous false\n", &["pass d"]),
            ("mosquitto/mosquitto.conf", "listener 1883\n", &["ask d"]),
            ("memcached.conf", "-d\n-m 64\n-l 10.4.0.9\n", &["fail high d memcached.conf:3"]),
            ("memcached.conf", "-l 127.0.0.1\n", &["pass d"]),
            ("memcached.conf", "-l 10.4.0.9\n-S\n", &["pass d"]),
            // It would not start.
            ("memcached.conf", "-l 0.0.0.0\n-l 10.4.0.9\n", &[]),
        ] {
            run(&CHECK, &[(text, &[(&format!("d/etc/{file}"), text)], wanted)]);
        }
    }
}
