//! Files whose rules the firewall puts into its chains: `config include` of the type `nftables` (OpenWrt, firewall4).

use super::text::{self, Section};
use crate::reader::ReadContext;
use std::collections::BTreeSet;
use std::sync::Arc;
use trevlin_model::Export;

/// Their paths.
#[derive(Debug)]
pub(crate) struct RulesOfChains(pub(crate) BTreeSet<String>);

/// Paths of such files of a device.
pub(crate) fn rules_of_chains(around: &ReadContext<'_>) -> Arc<RulesOfChains> {
    around.once(|| {
        let mut paths = BTreeSet::new();
        for export in around.exports.iter().filter(|one| one.text().contains("config include")) {
            let parsed = text::parse(export);
            let firewall = parsed.packages.iter().filter(|package| package.name == "firewall");
            for section in firewall.flat_map(|package| package.of("include")) {
                let found = rules_of_chain(section, export, around);
                paths.extend(found.map(|(file, ..)| file.path().to_owned()));
            }
        }
        RulesOfChains(paths)
    })
}

/// The file of an `include` section whose rules are added to a chain, the chain's name, and whether they precede the existing ones
/// (firewall4, fw4.uc, parse_include); only where it is among the exports.
pub(super) fn rules_of_chain<'a>(
    section: &Section,
    named_in: &Export,
    around: &ReadContext<'a>,
) -> Option<(&'a Export, String, bool)> {
    let before = match section.text("position")? {
        "chain-pre" | "chain-prepend" => true,
        "chain-post" | "chain-append" => false,
        _ => return None,
    };
    if section.text("type") != Some("nftables") || section.is_on("enabled") == Some(false) {
        return None;
    }
    Some((around.find(section.text("path")?, named_in)?, section.text("chain")?.to_owned(), before))
}
