//! Files that were put aside under another name beside those in force, and that no program reads: their secrets remain secrets, and nothing
//! else of them is in force.

use crate::assemble::input::Input;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::secret::SecretRecord;
use trevlin_model::{Facts, IdleReason, IdleTunnel};

/// Endings that administrators and package tools put behind a name (dpkg(1), "conffile"; rpm(8)).
const ENDINGS: [&str; 24] = [
    "off",
    "disabled",
    "inactive",
    "unused",
    "old",
    "bak",
    "backup",
    "orig",
    "save",
    "saved",
    "copy",
    "template",
    "tmpl",
    "sample",
    "example",
    "dist",
    "dpkg-old",
    "dpkg-dist",
    "dpkg-new",
    "dpkg-bak",
    "ucf-old",
    "ucf-dist",
    "rpmsave",
    "rpmnew",
];

/// Last versions of lists of accounts.
const ACCOUNT_LISTS: [&str; 6] = ["passwd-", "shadow-", "group-", "gshadow-", "subuid-", "subgid-"];

/// Folders whose programs read every name.
const EVERY_NAME: [&str; 3] = ["/sites-enabled/", "/mods-enabled/", "/client-config-dir/"];

/// Sets aside what no program reads: a file with such an ending, in a folder that has files without one.
pub(super) fn set_aside(inputs: &mut [Input]) {
    // What readers found not to be read is put aside as well.
    let aside = |one: &Input| one.ledger.aside || retired(one.export.path()).is_some();
    if !inputs.iter().any(aside) {
        return;
    }
    let live: BTreeSet<(String, String)> = inputs
        .iter()
        .filter(|one| !aside(one))
        .map(|one| (one.folder.clone(), folder(one.export.path()).to_owned()))
        .collect();
    let mut in_force: BTreeMap<String, Vec<Arc<SecretRecord>>> = BTreeMap::new();
    for one in inputs.iter().filter(|one| !aside(one)) {
        for secret in &one.facts.secrets {
            in_force.entry(one.folder.clone()).or_default().push(Arc::clone(secret));
        }
    }
    let named: Vec<bool> = (0..inputs.len()).map(|at| is_named(inputs, at)).collect();
    for (input, named) in inputs.iter_mut().zip(named) {
        let path = input.export.path().to_owned();
        let known = input.ledger.aside;
        let ending = retired(&path).unwrap_or_default();
        let put_aside = !ending.is_empty()
            && !named
            && input.format.is_some()
            && live.contains(&(input.folder.clone(), folder(&path).to_owned()));
        if !known && !put_aside {
            continue;
        }
        let mut facts = std::mem::take(&mut *input.facts);
        // A secret that is in force as well is no second use of it.
        let kept = |one: &Arc<SecretRecord>| {
            let known = in_force.get(&input.folder);
            !known
                .into_iter()
                .flatten()
                .any(|other| other.kind == one.kind && other.secret.same_as(&one.secret))
        };
        facts.secrets.retain(kept);
        let idle = |tunnel| IdleTunnel { tunnel, why: IdleReason::Retired };
        *input.facts = Facts {
            secrets: facts.secrets,
            announced: facts.announced,
            masked_places: facts.masked_places,
            idle_tunnels: facts.tunnels.into_iter().map(idle).collect(),
            ..Facts::default()
        };
        // Its reader said why.
        if known {
            continue;
        }
        let text = format!(
            "not in force: no program reads a name that ends in `{ending}`; only the secrets of the file were taken"
        );
        input.ledger.put_aside(input.export.origin(0..0), text);
    }
}

/// Whether a file in force names one that looks put aside, so that it is read after all.
fn is_named(inputs: &[Input], at: usize) -> bool {
    let own = &inputs[at];
    let path = own.export.path();
    let name = path.rsplit('/').next().unwrap_or(path);
    retired(path).is_some()
        && inputs.iter().any(|other| {
            other.folder == own.folder
                && retired(other.export.path()).is_none()
                && other.export.text().contains(name)
        })
}

fn folder(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// The ending by which a name is put aside.
fn retired(path: &str) -> Option<&str> {
    if EVERY_NAME.iter().any(|folder| path.contains(folder)) {
        return None;
    }
    let name = path.rsplit('/').next().unwrap_or(path);
    // The programs of shadow keep the last version of their lists under such names (passwd(5), shadow(5), "FILES").
    if ACCOUNT_LISTS.contains(&name) {
        return Some("-");
    }
    if let Some(plain) = name.strip_suffix('~') {
        return (!plain.is_empty()).then_some("~");
    }
    // The name before it has an ending of its own: `wg0.conf.off`, `rules.v4.old`.
    let (plain, ending) = name.rsplit_once(['.', '_'])?;
    let word = ending.trim_end_matches(|one: char| one.is_ascii_digit()).trim_end_matches('-');
    let dated = ending.len() >= 8 && ending.chars().all(|one| one.is_ascii_digit() || one == '-');
    let known = ENDINGS.contains(&ending.to_ascii_lowercase().as_str())
        || (word.len() < ending.len() && ENDINGS.contains(&word.to_ascii_lowercase().as_str()));
    (plain.contains('.') && (known || dated)).then_some(ending)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names() {
        for (path, wanted) in [
            ("d/etc/wireguard/wg0.conf", None),
            ("d/etc/wireguard/wg0.conf.off", Some("off")),
            ("d/etc/iptables/rules.v4", None),
            ("d/etc/iptables/rules.v4.bak2", Some("bak2")),
            ("d/etc/swanctl/swanctl.conf_old", Some("old")),
            ("d/etc/dnsmasq.conf.2024-03-01", Some("2024-03-01")),
            ("d/etc/dnsmasq.conf.dpkg-dist", Some("dpkg-dist")),
            ("d/etc/ssh/sshd_config~", Some("~")),
            ("d/etc/shadow-", Some("-")),
            ("d/etc/nginx/sites-enabled/shop.conf.bak", None),
            ("d/firewall.bak", None),
            ("d/nft-list-ruleset.txt", None),
        ] {
            assert_eq!(retired(path), wanted, "{path}");
        }
    }

    #[test]
    fn a_file_beside_those_in_force() {
        const LIVE: &str = "[Interface]\nAddress = 10.4.3.1/24\nListenPort = 51820\nPrivateKey = gBA/PIh4lMFtQ3wQd8U1RCCbXGsq5xhM5GcV3c1zO3w=\n";
        let estate = crate::testing::estate(&[
            ("d/etc/wireguard/wg0.conf", LIVE),
            ("d/etc/wireguard/wg9.conf.off", &LIVE.replace("gBA/", "kBA/")),
        ]);
        let facts = &estate.devices[0].facts;
        assert_eq!((facts.tunnels.len(), facts.idle_tunnels.len(), facts.secrets.len()), (1, 1, 2));
        // One that a file in force names is read.
        let unit =
            ("d/etc/wireguard/wg0.conf", &*format!("# wg-quick up /etc/wireguard/wg9.conf.off\n{LIVE}"));
        let named = crate::testing::estate(&[unit, ("d/etc/wireguard/wg9.conf.off", LIVE)]);
        assert_eq!(named.devices[0].facts.tunnels.len(), 2);
        // The last version of the accounts has none of its own, and its hashes are those in force.
        let accounts = crate::testing::estate(&[
            ("d/etc/passwd", "ines:x:1000:1000::/home/ines:/bin/bash\n"),
            (
                "d/etc/passwd-",
                "root:x:0:0:root:/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/bash\nold:x:1001:1001::/home/old:/bin/bash\n",
            ),
            ("d/etc/shadow", "ines:$6$abc$def:19000::::::\n"),
            (
                "d/etc/shadow-",
                "root:*:19000::::::\nines:$6$abc$def:19000::::::\nold:$6$abc$xyz:19000::::::\n",
            ),
        ]);
        let facts = &accounts.devices[0].facts;
        assert_eq!((facts.accounts.len(), facts.shadow.len(), facts.secrets.len()), (1, 1, 2));
        // One that is alone may be what an appliance gives out.
        let alone = crate::testing::estate(&[("d/wg9.conf.off", LIVE)]);
        assert_eq!(alone.devices[0].facts.tunnels.len(), 1);
    }
}
