//! A device has no time source.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::upkeep::no_remote_logging::ask;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{IdleConfiguration, IdleProgram};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/no-time-source",
    area: Area::Upkeep,
    title: "No time source configured",
    severity: Severity::Low,
    why: "Certificates, one-time codes and Kerberos tickets depend on correct time. Logs of devices with different clocks \
          cannot be correlated.",
    fix: "Configure two or more NTP servers, with keys or NTS where available (`server time.example nts`), the same for all \
          devices.",
    judged: "Fails for each device whose time configuration was exported and names no server, pool or reference clock, or whose program is not started by its unit. \
             Passes where one is named. Undetermined where the program may have a built-in server, and, once for all, for \
             devices without an exported time configuration.",
    references: &["RFC 8633, 3", "RFC 8915", "CIS Controls 8, 8.4"],
    needs: &[Need::Clock],
    run: Run::Map(run),
};

fn clock(idle: &IdleProgram) -> bool {
    matches!(idle.configured, IdleConfiguration::Clock(_))
}

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    let mut silent: Vec<usize> = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let keepers = &device.facts.clock_keepers;
        let idle: Vec<&IdleProgram> = device.facts.idle_programs.iter().filter(|one| clock(one)).collect();
        if keepers.is_empty() && idle.is_empty() {
            silent.push(at);
            continue;
        }
        let open = keepers.iter().find_map(|keeper| keeper.open.first());
        let verdict = if let Some((_, source)) = keepers.iter().find_map(|keeper| keeper.sources.first()) {
            Verdict::pass(*source)
        } else if let Some((question, line)) = open {
            Verdict::ask(format!("Time synchronisation of {}: {question}", device.name), vec![*line])
        } else {
            let own = keepers.first().map(|first| {
                format!("No server, pool or reference clock is configured for {}.", first.program)
            });
            let off = idle.iter().map(|one| format!("{}, which keeps the clock.", one.unit.words()));
            let title = if keepers.is_empty() {
                "The time service is disabled"
            } else {
                "No time source is configured"
            };
            Verdict::Fail(Fail {
                rating: CHECK.rated("only its local clock is available"),
                title: title.into(),
                detail: own.into_iter().chain(off).collect::<Vec<_>>().join(" ").into(),
                evidence: keepers
                    .iter()
                    .map(|keeper| keeper.origin)
                    .chain(idle.iter().map(|one| one.unit.origin))
                    .collect(),
            })
        };
        answers.push(Answer::new(at, Subject::of(SubjectKind::Clock), verdict));
    }
    answers.extend(ask(
        estate,
        &silent,
        "which time source is used by",
        ("`chrony.conf`, `ntp.conf`, `timesyncd.conf`", "clock-keepers"),
    ));
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "alone",
                    &[("d/etc/chrony/chrony.conf", "driftfile /x\nlocal stratum 8\n")],
                    &["fail low d chrony.conf:1"],
                ),
                ("its own clock", &[("d/etc/ntp.conf", "server 127.127.1.0\n")], &["fail low d ntp.conf:1"]),
                (
                    "not started",
                    &[
                        ("d/etc/chrony/chrony.conf", "pool time.example\n"),
                        ("d/units.txt", "UNIT FILE STATE PRESET\nchrony.service disabled enabled\n"),
                    ],
                    &["fail low d units.txt:2"],
                ),
                ("a pool", &[("d/etc/chrony/chrony.conf", "pool time.example\n")], &["pass d"]),
                (
                    "in a comment",
                    &[("d/etc/chrony/chrony.conf", "! pool time.example\ndriftfile /x\n")],
                    &["fail low d chrony.conf:2"],
                ),
                (
                    "in a folder",
                    &[("d/etc/chrony/chrony.conf", "driftfile /x\nsourcedir /run/chrony-dhcp\n")],
                    &["ask d"],
                ),
                (
                    "in a file",
                    &[
                        ("d/etc/chrony/chrony.conf", "include /srv/clocks\ndriftfile /x\n"),
                        ("d/srv/clocks", "pool a.example\n"),
                    ],
                    &["pass d"],
                ),
                ("missing", &[("d/etc/ntp.conf", "includefile clocks\n")], &["ask d"]),
                ("built in", &[("d/etc/systemd/timesyncd.conf", "[Time]\n#NTP=\n")], &["ask d"]),
                (
                    "not exported",
                    &[("d/etc/chrony/chrony.conf", "pool a.example\n"), ("e/etc/exports", "/a *(ro)\n")],
                    &["pass d", "ask e"],
                ),
            ],
        );
    }
}
