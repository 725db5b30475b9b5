//! Files in one folder that look like those of several devices.

use crate::assemble::Estate;
use std::collections::BTreeMap;
use trevlin_model::{ExportState, Filter};

impl Estate {
    /// Devices with two of something that a device has once, with the two files that show it: most likely two devices in one folder, for
    /// which findings would be meaningless.
    #[must_use]
    pub fn mixed(&self) -> Vec<String> {
        let mut told = Vec::new();
        for device in &self.devices {
            let mut first: BTreeMap<_, &Filter> = BTreeMap::new();
            let running = device.facts.filters.iter().filter(|one| one.state == ExportState::Running);
            let twice = running.clone().find_map(|one| {
                let key = (one.format as u8, one.families, one.table.as_str());
                let known = *first.entry(key).or_insert(one);
                let differ = known.origin.export != one.origin.export && !known.says_the_same(one);
                differ.then_some(("each a complete dump of one filter table", known.origin, one.origin))
            });
            // In a folder of their own programs may well have two configurations.
            let flat = |path: &str| !path.split_once('/').is_some_and(|(_, below)| below.contains('/'));
            let mut servers = device.facts.ssh_servers.iter().map(|one| one.origin);
            let shells = servers
                .next()
                .zip(servers.next())
                .filter(|(a, b)| [a, b].iter().all(|origin| flat(self.export(origin.export).path())));
            let shells = shells.map(|(a, b)| ("each a complete SSH server configuration", a, b));
            if let Some((what, one, other)) = twice.or(shells) {
                let path = |origin: trevlin_model::Origin| self.export(origin.export).path().to_owned();
                told.push(format!(
                    "{}: {} and {} are {what}, and differ; if they belong to two devices, put the files of each into a \
                     folder of its own",
                    device.name,
                    path(one),
                    path(other)
                ));
            }
        }
        told
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::estate;

    const SHELL: &str =
        "Port 22\nPermitRootLogin no\nPasswordAuthentication no\nSubsystem sftp internal-sftp\n";

    #[test]
    fn two_devices_in_one_folder() {
        let filter = |policy: &str| format!("*filter\n:INPUT {policy} [0:0]\nCOMMIT\n");
        let (drops, accepts) = (filter("DROP"), filter("ACCEPT"));
        for (name, files, told) in [
            ("two filters", &[("all/edge.txt", drops.as_str()), ("all/inner.txt", &accepts)][..], 1),
            ("the same twice", &[("d/a.txt", &drops), ("d/b.txt", &drops)], 0),
            (
                "what runs and what is stored",
                &[("d/running/a.txt", &drops), ("d/etc/iptables/rules.v4", &accepts)],
                0,
            ),
            ("two devices", &[("a/a.txt", &drops), ("b/a.txt", &accepts)], 0),
            ("two shells", &[("all/one.txt", SHELL), ("all/two.txt", SHELL)], 1),
            ("a second shell", &[("d/etc/ssh/sshd_config", SHELL), ("d/etc/ssh/inner", SHELL)], 0),
        ] {
            let mixed = estate(files).mixed();
            assert_eq!(mixed.len(), told, "{name}: {mixed:?}");
            assert!(mixed.iter().all(|text| text.starts_with("all: all/")), "{mixed:?}");
        }
    }
}
