//! A stored packet filter that nothing loads.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::housekeeping::UnitState;
use trevlin_model::{ExportState, Facts};
use trevlin_packets::jumps::table_blocks;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/filter-not-loaded",
    area: Area::Upkeep,
    title: "Stored packet filter not loaded",
    severity: Severity::High,
    why: "The rules exist on disk only: the device starts without them, and every service is open to whatever reaches the \
          device. Reviews of the file show a protection that is not in force.",
    fix: "Enable the unit that loads the rules (`systemctl enable --now nftables`), and verify the loaded rules after a \
          restart. Remove files that are no longer used.",
    judged: "Fails where the unit that loads a stored filter is disabled or masked, no unit of another packet filter is \
             enabled, and the filter blocks anything; one level lower where the exports show a running filter, which the next \
             start loses. Does not apply without a list of units.",
    references: &["nft(8)", "systemctl(1), is-enabled", "NIST SP 800-41 Rev. 1, 5.3"],
    needs: &[Need::Filter],
    run: Run::Map(run),
};

/// Units that load a packet filter.
const LOADERS: [&str; 8] =
    ["nftables", "netfilter-persistent", "iptables", "ip6tables", "firewalld", "ufw", "shorewall", "ferm"];

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let idle = &device.facts.idle_filters;
        for (number, (filter, unit)) in idle.iter().enumerate() {
            // One unit may load several tables.
            if idle[..number].iter().any(|(_, known)| known.name == unit.name) {
                continue;
            }
            let own = || idle.iter().filter(|(_, known)| known.name == unit.name).map(|(filter, _)| filter);
            let export = estate.export(filter.origin.export);
            let subject = Subject::of(SubjectKind::Filter).with(export.file_name()).with(&filter.table);
            let verdict = if another_loads(&device.facts) || !own().any(table_blocks) {
                Verdict::pass(filter.origin)
            } else {
                let state = match unit.state {
                    UnitState::Masked => "masked",
                    _ => "disabled",
                };
                let running = device.facts.filters.iter().any(|one| one.state == ExportState::Running);
                let (severity, why) = match running {
                    true => (Severity::Medium, "a filter runs at present, and the next start loses it"),
                    false => (CHECK.severity, "no running filter was exported"),
                };
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(severity, why),
                    title: format!("Unit {} of a stored packet filter is {state}", unit.name).into(),
                    detail: format!(
                        "`{}` loads the rules of {} at the start and is {state}; a script may load them in its place.",
                        unit.name,
                        export.file_name()
                    )
                    .into(),
                    evidence: own().map(|filter| filter.origin).chain([unit.origin]).collect(),
                })
            };
            answers.push(Answer::new(at, subject, verdict));
        }
    }
    answers
}

/// Whether a unit of a packet filter is enabled: what it loads is another question.
fn another_loads(facts: &Facts) -> bool {
    let loads = |name: &str| LOADERS.contains(&name.split('.').next().unwrap_or(name));
    facts.units.iter().any(|unit| unit.state == UnitState::Enabled && loads(&unit.name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const RULES: &str =
            "table inet t {\nchain c {\ntype filter hook input priority 0; policy drop;\n}\n}\n";
        const STOCK: &str = "table inet t {\nchain c {\ntype filter hook input priority 0;\n}\n}\n";
        let units = |state: &str, more: &str| {
            format!(
                "UNIT FILE STATE PRESET\nnftables.service {state} enabled\nssh.service enabled enabled\n{more}"
            )
        };
        let (off, on, masked, other) = (
            units("disabled", ""),
            units("enabled", ""),
            units("masked", ""),
            units("disabled", "ufw.service enabled enabled\n"),
        );
        let file = ("d/etc/nftables.conf", RULES);
        run(
            &CHECK,
            &[
                ("disabled", &[file, ("d/units.txt", &off)], &["fail high d nftables.conf:1 units.txt:2"]),
                ("masked", &[file, ("d/units.txt", &masked)], &["fail high d nftables.conf:1 units.txt:2"]),
                (
                    "and one that runs",
                    &[file, ("d/units.txt", &off), ("d/nft.txt", RULES)],
                    &["fail medium d nftables.conf:1 units.txt:2"],
                ),
                ("enabled", &[file, ("d/units.txt", &on)], &[]),
                ("another filter", &[file, ("d/units.txt", &other)], &["pass d"]),
                (
                    "as the package has it",
                    &[("d/etc/nftables.conf", STOCK), ("d/units.txt", &off)],
                    &["pass d"],
                ),
                (
                    "ufw, on by its settings alone",
                    &[
                        (
                            "d/etc/ufw/user.rules",
                            "*filter\n:ufw-user-input - [0:0]\n-A ufw-user-input -p tcp --dport 23 -j DROP\nCOMMIT\n",
                        ),
                        ("d/etc/ufw/ufw.conf", "ENABLED=yes\n"),
                        ("d/etc/default/ufw", "DEFAULT_INPUT_POLICY=\"DROP\"\nIPV6=no\n"),
                        ("d/units.txt", "UNIT FILE STATE PRESET\nufw.service disabled enabled\n"),
                    ],
                    &["fail high d ufw.conf:1 ufw:2 units.txt:2"],
                ),
                ("no list of units", &[file], &[]),
            ],
        );
    }
}
