//! Fragments of rulesets that the firewall puts into its own: those that `config include` of the type `nftables` names, and those in its
//! folders (OpenWrt, firewall4: fw4.uc, parse_include; ruleset.uc).

use super::text::{self, Section};
use crate::reader::ReadContext;
use memchr::memmem;
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::Export;

/// Where a fragment is put.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Place {
    /// Among the rules of a chain, before or behind those of the firewall.
    Chain {
        /// Its name.
        name: String,
        /// Whether it precedes them.
        before: bool,
    },
    /// Into the firewall's table, beside its chains.
    Table,
    /// Before or behind the table: a ruleset of its own.
    Ruleset,
}

impl Place {
    fn of(position: &str, chain: Option<&str>) -> Option<Self> {
        let (what, where_to) = position.rsplit_once('-')?;
        let before = match where_to {
            "pre" | "prepend" => true,
            "post" | "append" => false,
            _ => return None,
        };
        match what {
            "chain" => Some(Self::Chain { name: chain?.to_owned(), before }),
            "table" => Some(Self::Table),
            "ruleset" => Some(Self::Ruleset),
            _ => None,
        }
    }
}

/// Fragments of a device, by their paths.
#[derive(Debug)]
pub(crate) struct Fragments(pub(crate) BTreeMap<String, Place>);

/// The fragments of a device.
pub(crate) fn fragments(around: &ReadContext<'_>) -> Arc<Fragments> {
    around.once(|| {
        let mut found = BTreeMap::new();
        // Most devices have no such firewall, and every file of each is looked at.
        let heads = ["config zone", "config defaults", "config include"].map(memmem::Finder::new);
        let is_firewall =
            |one: &&&Export| heads.iter().any(|head| head.find(one.text().as_bytes()).is_some());
        for export in around.exports.iter().filter(is_firewall) {
            let parsed = text::parse(export);
            for package in parsed.packages.iter().filter(|package| package.name == "firewall") {
                for section in package.of("include") {
                    let one = named(section, export, around);
                    found.extend(one.map(|(file, place)| (file.path().to_owned(), place)));
                }
                let automatic = package.of("defaults").all(|one| one.is_on("auto_includes") != Some(false));
                let all = around.exports.iter().filter(|_| automatic);
                found.extend(all.filter_map(|one| Some((one.path().to_owned(), in_folder(one.path())?))));
            }
        }
        Fragments(found)
    })
}

/// The place of a file in one of the firewall's own folders.
fn in_folder(path: &str) -> Option<Place> {
    let inside = |folder: &str| -> Option<&str> {
        let at = path.find(folder).filter(|at| *at == 0 || path[..*at].ends_with('/'))?;
        path[at + folder.len()..].strip_suffix(".nft")
    };
    if let Some(name) = inside("etc/nftables.d/") {
        return (!name.contains('/')).then_some(Place::Table);
    }
    match inside("usr/share/nftables.d/")?.split('/').collect::<Vec<_>>().as_slice() {
        [position, chain, _] => {
            Place::of(position, Some(chain)).filter(|place| matches!(place, Place::Chain { .. }))
        }
        [position, _] => Place::of(position, None),
        _ => None,
    }
}

/// The file of an `include` section and its place; only where it is among the exports.
pub(super) fn named<'a>(
    section: &Section,
    named_in: &Export,
    around: &ReadContext<'a>,
) -> Option<(&'a Export, Place)> {
    if section.text("type") != Some("nftables") || section.is_on("enabled") == Some(false) {
        return None;
    }
    let place = Place::of(section.text("position").unwrap_or("table-append"), section.text("chain"))?;
    Some((around.find(section.text("path")?, named_in)?, place))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_of_the_firewall() {
        let chain = |name: &str, before| Some(Place::Chain { name: name.into(), before });
        for (path, wanted) in [
            ("d/etc/nftables.d/10-own.nft", Some(Place::Table)),
            ("etc/nftables.d/README", None),
            ("d/usr/share/nftables.d/chain-pre/input_wan/a.nft", chain("input_wan", true)),
            ("d/usr/share/nftables.d/chain-post/forward/a.nft", chain("forward", false)),
            ("d/usr/share/nftables.d/table-post/a.nft", Some(Place::Table)),
            ("d/usr/share/nftables.d/ruleset-pre/a.nft", Some(Place::Ruleset)),
            ("d/usr/share/nftables.d/other/a.nft", None),
            ("d/myetc/nftables.d/a.nft", None),
        ] {
            assert_eq!(in_folder(path), wanted, "{path}");
        }
    }
}
