//! Log messages never leave a device.

use crate::check::{Addressee, Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::housekeeping::{LogKeeper, Unit};
use trevlin_model::served::APPLIANCE;
use trevlin_model::{Described, IdleConfiguration, IdleProgram, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/no-remote-logging",
    area: Area::Upkeep,
    title: "No remote logging",
    severity: Severity::Low,
    why: "Attackers delete the log of a compromised device first. A copy on another host preserves the evidence.",
    fix: "Forward messages to a log server over TCP with TLS (`*.* action(type=\"omfwd\" …)`, systemd-journal-upload), and \
          retain them as long as policy requires.",
    judged: "Fails for each device whose log configuration was exported and names no log server, or whose logging program is not started by its unit; one level higher for \
             firewalls and for devices with VPN clients. Passes where one is named. Undetermined, once for all, for devices \
             without an exported log configuration, and where an included file is missing.",
    references: &["NIST SP 800-92, 3.1", "CIS Controls 8, 8.9", "ISO/IEC 27002:2022, 8.15"],
    needs: &[Need::Log],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    let mut silent: Vec<usize> = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let keepers = &device.facts.log_keepers;
        let idle: Vec<(&LogKeeper, &Unit)> = device.facts.idle_programs.iter().filter_map(log).collect();
        if keepers.is_empty() && idle.is_empty() {
            silent.push(at);
            continue;
        }
        let verdict = if let Some(target) = keepers.iter().find_map(|keeper| keeper.targets.first()) {
            Verdict::pass(target.origin)
        } else if let Some((question, line)) = keepers.iter().find_map(|keeper| keeper.open.first()) {
            Verdict::ask(format!("Logging of {}: {question}", device.name), vec![*line])
        } else {
            let clients = !estate.shape().clients_at(at).is_empty();
            let weighs = clients || device.kind == trevlin_model::DeviceKind::Firewall;
            let programs: Vec<&str> = keepers.iter().map(|keeper| keeper.program).collect();
            let own = (!programs.is_empty()).then(|| match programs.as_slice() {
                // A sheet names no program.
                [APPLIANCE] => "No log server is configured.".to_owned(),
                _ => format!("No log server is configured for {}.", programs.join(" and ")),
            });
            let telling =
                |(keeper, _): &&(&LogKeeper, &Unit)| programs.is_empty() || !keeper.targets.is_empty();
            let idle: Vec<&(&LogKeeper, &Unit)> = idle.iter().filter(telling).collect();
            let off = idle.iter().map(|(keeper, unit)| match keeper.targets.first() {
                Some(target) => format!("{}, which would forward to {}.", unit.words(), target.host),
                None => format!("{}, and {} names no log server.", unit.words(), keeper.program),
            });
            let mut evidence: Vec<Origin> = keepers.iter().map(|keeper| keeper.origin).collect();
            for (keeper, unit) in &idle {
                evidence
                    .extend([unit.origin, keeper.targets.first().map_or(keeper.origin, |one| one.origin)]);
            }
            Verdict::Fail(Fail {
                rating: CHECK.rated_at(
                    if weighs { CHECK.severity.raise() } else { CHECK.severity },
                    if weighs {
                        "the device accepts external connections"
                    } else {
                        "the device has no special role"
                    },
                ),
                title: "Log messages are not forwarded to another host".into(),
                detail: own.into_iter().chain(off).collect::<Vec<_>>().join(" ").into(),
                evidence,
            })
        };
        answers.push(Answer::new(at, Subject::of(SubjectKind::Log), verdict));
    }
    answers.extend(ask(
        estate,
        &silent,
        "whether logs leave",
        ("`rsyslog.conf` with `rsyslog.d`, `journal-upload.conf`", "log-keepers"),
    ));
    answers
}

fn log(idle: &IdleProgram) -> Option<(&LogKeeper, &Unit)> {
    match &idle.configured {
        IdleConfiguration::Log(keeper) => Some((keeper, &idle.unit)),
        _ => None,
    }
}

/// One request for all devices without an exported file of the kind.
pub(super) fn ask(
    estate: &EstateMap,
    silent: &[usize],
    what: &str,
    (files, section): (&str, &str),
) -> Option<Answer> {
    let first = silent.first()?;
    let names: Vec<String> = silent.iter().map(|at| estate.devices[*at].name.clone()).collect();
    let of = if names.len() > 1 && names.len() == estate.devices.len() {
        "every device".to_owned()
    } else {
        names.join(", ")
    };
    let question = if silent.iter().all(|at| estate.described(*at) == Some(Described::Sheet)) {
        format!("Please state {what} {of} in its device sheet (`{section}`).")
    } else if silent.iter().all(|at| estate.is_appliance(*at)) {
        format!("Please show {what} {of}, in an export or on screen.")
    } else {
        format!("Please show {what} {of}: {files}, or the page of an appliance that sets it.")
    };
    Some(Answer::new(
        *first,
        Subject::of(SubjectKind::Device),
        Verdict::ask(question, Vec::new()).addressed_to(Addressee::Estate),
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const GATE: (&str, &str) = ("g/etc/iptables/rules.v4", "*filter\n:INPUT DROP [0:0]\nCOMMIT\n");
        run(
            &CHECK,
            &[
                ("stays", &[("d/etc/rsyslog.conf", "*.* /var/log/all\n")], &["fail low d rsyslog.conf:1"]),
                ("leaves", &[("d/etc/rsyslog.conf", "*.* @10.4.0.9\n")], &["pass d"]),
                (
                    "in a comment",
                    &[("d/etc/rsyslog.conf", "# *.* @10.4.0.9\n*.* /x\n")],
                    &["fail low d rsyslog.conf:2"],
                ),
                (
                    "by the journal",
                    &[("d/etc/systemd/journal-upload.conf", "[Upload]\nURL=https://log.example\n")],
                    &["pass d"],
                ),
                ("not exported", &[("d/etc/rsyslog.conf", "*.* @10.4.0.9\n"), GATE], &["pass d", "ask g"]),
                ("missing", &[("d/etc/rsyslog.conf", "$IncludeConfig /etc/out.conf\n")], &["ask d"]),
                (
                    "a folder with nothing",
                    &[("d/etc/rsyslog.conf", "include(file=\"/etc/rsyslog.d/*.conf\")\n")],
                    &["fail low d rsyslog.conf:1"],
                ),
                ("exported by none", &[GATE], &["ask g"]),
                (
                    "not started",
                    &[
                        ("d/etc/rsyslog.conf", "*.* @10.4.0.9\n"),
                        ("d/units.txt", "UNIT FILE STATE PRESET\nrsyslog.service disabled enabled\n"),
                    ],
                    &["fail low d units.txt:2 rsyslog.conf:1"],
                ),
            ],
        );
    }
}
