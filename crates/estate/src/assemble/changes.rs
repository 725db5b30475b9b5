//! Commands of scripts that change stored packet filters: carried out in the order in which a start comes to them.

use crate::assemble::containers;
use crate::assemble::input::Input;
use std::collections::BTreeMap;
use trevlin_model::housekeeping::{Unit, off_unit};
use trevlin_model::{
    CommandMoment, ExportState, Facts, Family, FilterChange, FilterFormat, IptablesTable, NotAnalysed,
    TableChange, forwards,
};

/// Leaves out what the commands of units would do that are off.
pub(super) fn set_aside(inputs: &mut [Input]) {
    let by_command = |input: &Input| {
        input.format == Some("unit-file")
            && (!input.facts.filter_changes.is_empty() || !input.facts.kernel.is_empty())
    };
    for at in (0..inputs.len()).filter(|at| by_command(&inputs[*at])).collect::<Vec<_>>() {
        let own = inputs.iter().filter(|one| one.folder == inputs[at].folder);
        let units: Vec<Unit> = own.flat_map(|one| one.facts.units.iter().cloned()).collect();
        let file = inputs[at].export.file_name();
        let name = file.strip_suffix(".service").unwrap_or(file);
        if off_unit(&units, |unit| unit == name).is_some() {
            let facts = &mut inputs[at].facts;
            facts.filter_changes.clear();
            facts.kernel.clear();
            facts.stored_routes.clear();
        }
    }
}

/// Carries out the commands on the tables that files of the device load. A table of which only the running form was exported shows what
/// they did already.
pub(super) fn carry_out(facts: &mut Facts) {
    let mut changes = std::mem::take(&mut facts.filter_changes);
    if changes.is_empty() {
        return;
    }
    changes.sort_by_key(|one| (one.moment, one.origin));
    // Rules that come and go by the clock are there at some times.
    let by_clock = |one: &&FilterChange| one.moment == CommandMoment::Clock && !one.change.adds();
    if let Some(one) = changes.iter().find(by_clock) {
        let what = "commands that change the packet filter by the clock";
        facts.not_analysed.push(NotAnalysed::beside(what, one.origin));
        changes.retain(|one| one.moment != CommandMoment::Clock);
    }
    apply(facts, changes, true);
}

/// Carries out what engines of containers change for the ports that they publish. What they set is no filter of the device.
pub(super) fn publish(facts: &mut Facts) {
    let changes = containers::changes(facts);
    apply(facts, changes, false);
}

/// Carries out changes in their order; `own` where they may state a whole table.
fn apply(facts: &mut Facts, changes: Vec<FilterChange>, own: bool) {
    let mut tables: BTreeMap<(Family, String), Vec<FilterChange>> = BTreeMap::new();
    for one in changes {
        tables.entry((one.family, one.table.clone())).or_default().push(one);
    }
    for ((family, table), changes) in tables {
        let stored = facts.filters.iter().position(|filter| {
            filter.format == FilterFormat::Iptables
                && filter.state == ExportState::Stored
                && filter.families.has(family)
                && filter.table == table
        });
        let runs = |filter: &trevlin_model::Filter| {
            filter.state == ExportState::Running && filter.families.has(family)
        };
        if facts.filters.iter().any(runs) && (stored.is_none() || !own) {
            continue;
        }
        let settled = own && changes.iter().any(|one| one.change.settles());
        let mut building = match stored {
            Some(at) => {
                let filter = facts.filters.remove(at);
                let old: Vec<_> = forwards::of(&filter).into_iter().map(|forward| forward.origin).collect();
                facts.forwards.retain(|forward| !old.contains(&forward.origin));
                IptablesTable::of(filter)
            }
            None => {
                let Some(origin) = changes.first().map(|one| one.origin) else { continue };
                let mut new = IptablesTable::new(&table, family, ExportState::Stored, origin);
                new.filter.complete = true;
                new.filter.gaps_placed = true;
                new.filter.additions = !settled;
                new
            }
        };
        let open = NotAnalysed::beside(
            "rules that commands put into chains of other programs",
            building.filter.origin,
        );
        let mut lost = false;
        for FilterChange { change, sets, origin, .. } in changes {
            for set in sets {
                match building.filter.sets.iter_mut().find(|known| known.name == set.name) {
                    Some(known) => known.used_at.extend(set.used_at),
                    None => building.filter.sets.push(set),
                }
            }
            // A rule that is not there to be taken away is no loss.
            let needed = !matches!(change, TableChange::Delete { .. } | TableChange::DeleteAt { .. });
            lost |= building.change(change, origin).is_err() && needed;
        }
        facts.not_analysed.extend(lost.then_some(open));
        facts.forwards.extend(forwards::of(&building.filter));
        facts.filters.push(building.filter);
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::estate;
    use trevlin_model::Family;

    const STORED: &str = "*filter\n:INPUT DROP [0:0]\n-A INPUT -i lo -j ACCEPT\nCOMMIT\n";
    const RUNNING: &str =
        "# Generated by iptables-save v1\n*filter\n:INPUT DROP [0:0]\nCOMMIT\n# Completed on x\n";
    const UNIT: &str = "[Service]\nType=oneshot\nExecStart=/usr/local/sbin/fw start\nExecStartPost=-/sbin/sysctl -w net.ipv4.ip_forward=1\n";
    const SCRIPT: &str = "#!/bin/sh\niptables -A INPUT -p tcp --dport 22 -j ACCEPT\n";

    /// The chains in force, each with its policy and how many rules it has, then what is not analysed.
    fn shown(files: &[(&str, &str)]) -> String {
        let estate = estate(files);
        let tables = estate.tables(0, Family::V4);
        let chains = tables.iter().flat_map(|table| table.chains.iter().map(move |chain| (table, chain)));
        let chains = chains.map(|(table, chain)| {
            let more = if table.additions { " more" } else { "" };
            format!("{} {:?} {}{more}", chain.name, chain.policy.as_ref().unwrap(), chain.rules.len())
        });
        let facts = &estate.devices[0].facts;
        let apart = facts.not_analysed.iter().filter(|one| one.apart).map(|one| one.what.clone());
        let forwards = facts.forwards.iter().map(|_| "a forward".to_owned());
        let kernel = facts.kernel.iter().map(|one| one.name.clone());
        chains.chain(forwards).chain(kernel).chain(apart).collect::<Vec<_>>().join("; ")
    }

    #[test]
    fn commands_come_after_the_files_that_are_loaded() {
        let (rules, rc, crontab) = ("d/etc/iptables/rules.v4", "d/etc/rc.local", "d/etc/crontab");
        let (up, unit) = ("d/etc/network/if-up.d/x", "d/etc/systemd/system/fw.service");
        for (name, files, wanted) in [
            ("alone", &[(rc, SCRIPT)][..], "INPUT Accept 1 more"),
            ("on top", &[(rules, STORED), (rc, SCRIPT)], "INPUT Drop 2"),
            ("in order", &[(rc, "iptables -F\n"), (up, SCRIPT), (rules, STORED)], "INPUT Drop 0"),
            ("its own", &[(rc, "iptables -P INPUT DROP\n")], "INPUT Drop 0"),
            ("what runs shows it", &[("d/iptables-save.txt", RUNNING), (rc, SCRIPT)], "INPUT Drop 0"),
            (
                "a forward",
                &[(rc, "iptables -t nat -A PREROUTING -p tcp --dport 80 -j DNAT --to 10.4.0.9\n")],
                "PREROUTING Accept 1 more; a forward",
            ),
            (
                "a chain of others",
                &[(rc, "iptables -A DOCK -j DROP\n")],
                "rules that commands put into chains of other programs",
            ),
            (
                "every night",
                &[(crontab, "1 1 * * * root iptables -A INPUT -j DROP\n")],
                "INPUT Accept 1 more",
            ),
            (
                "by day alone",
                &[(
                    crontab,
                    "1 8 * * * root iptables -I INPUT -j DROP\n1 9 * * * root iptables -D INPUT -j DROP\n",
                )],
                "commands that change the packet filter by the clock",
            ),
            (
                "a unit",
                &[(unit, UNIT), ("d/usr/local/sbin/fw", SCRIPT)],
                "INPUT Accept 1 more; net.ipv4.ip_forward",
            ),
            (
                "a unit that is off",
                &[
                    (unit, UNIT),
                    ("d/usr/local/sbin/fw", SCRIPT),
                    ("d/units.txt", "UNIT FILE STATE PRESET\nfw.service disabled enabled\n"),
                ],
                "",
            ),
        ] {
            assert_eq!(shown(files), wanted, "{name}");
        }
    }
}
