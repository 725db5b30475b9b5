//! Plug-ins that charon loads (strongswan.conf(5), charon.load, charon.load_modular, and `load` of each plug-in), and what follows:
//! its own proposal holds the algorithms of those alone.

use super::settings::{View, parse};
use super::strongswan_conf::{READER, is_complete};
use crate::reader::{LineRecorder, ReadContext, Reading};
use serde::Deserialize;
use std::collections::BTreeSet;
use trevlin_model::offer::OfferPart;
use trevlin_model::{PoolPlacement, Setting, Tunnel};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    plugins: Vec<Row>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Row {
    name: String,
    #[serde(default)]
    needs: Vec<String>,
    #[serde(default)]
    words: Vec<String>,
    #[serde(default)]
    every: bool,
}

trevlin_model::table! { static TABLE: Table = "../../tables/charon-plugins.toml"; }

/// Names of the plug-ins, where the exports state all of them.
struct Loaded(Option<BTreeSet<String>>);

/// Leaves only those algorithms among the defaults of IKE that a loaded plug-in provides. The proposals for data are fixed.
pub(super) fn apply(tunnels: &mut [Tunnel], around: &ReadContext<'_>) {
    let loaded = around.once(|| Loaded(loaded(around)));
    let Some(loaded) = &loaded.0 else { return };
    let provided = provided(loaded);
    for tunnel in tunnels {
        if !loaded.contains("farp") {
            for pool in &mut tunnel.addresses.pools {
                pool.placement = Setting::default_of(
                    PoolPlacement::Routed,
                    "strongSwan",
                    "strongswan.conf(5), charon.plugins.farp",
                );
            }
        }
        let Some(provided) = &provided else { continue };
        for offer in tunnel.offers.iter_mut().filter(|offer| offer.part == OfferPart::Control) {
            offer.algorithms.retain(|one| one.default.is_none() || provided.contains(one.name.as_str()));
            // A suite without a cipher is not offered (proposal_create_default).
            let ciphers: BTreeSet<usize> =
                offer.algorithms.iter().filter(|one| is_cipher(&one.name)).map(|one| one.suite).collect();
            offer.algorithms.retain(|one| one.default.is_none() || ciphers.contains(&one.suite));
        }
    }
}

/// Whether a word of the table is a cipher.
fn is_cipher(word: &str) -> bool {
    ["aes1", "aes2", "camellia", "3des", "chacha"].iter().any(|start| word.starts_with(start))
}

/// Algorithms that these plug-ins provide; `None` where one may provide any.
fn provided(loaded: &BTreeSet<String>) -> Option<BTreeSet<&'static str>> {
    let rows: Vec<&Row> = TABLE.plugins.iter().filter(|row| loaded.contains(&row.name)).collect();
    if rows.iter().any(|row| row.every) {
        return None;
    }
    let words = |rows: &[&'static Row]| -> BTreeSet<&str> {
        rows.iter().flat_map(|row| row.words.iter().map(String::as_str)).collect()
    };
    let (own, building): (Vec<&Row>, Vec<&Row>) = rows.into_iter().partition(|row| row.needs.is_empty());
    let base = words(&own);
    let met: Vec<&Row> = building
        .into_iter()
        .filter(|row| row.needs.iter().all(|need| base.contains(need.as_str())))
        .collect();
    Some(base.iter().copied().chain(words(&met)).collect())
}

/// The plug-ins of charon and of charon-systemd, either of which may run.
fn loaded(around: &ReadContext<'_>) -> Option<BTreeSet<String>> {
    let main: Vec<_> = around
        .of_format(&READER)
        .map(|(export, _)| export)
        .filter(|export| export.file_name() == "strongswan.conf")
        .collect();
    let first = *main.first()?;
    let mut reading = Reading::of(first);
    let mut book = LineRecorder::new(first, &mut reading.ledger, &mut reading.elsewhere);
    let root = parse(&main, around, &mut book);
    // Included parts that were not exported may state more.
    if !is_complete(around) {
        return None;
    }
    let whole = View::of(&root);
    let mut all: Option<BTreeSet<String>> = None;
    for name in ["charon", "charon-systemd"] {
        let Some(daemon) = whole.section(name) else { continue };
        // Settings of charon count for charon-systemd where that has none of its own.
        let charon = whole.section("charon");
        let stated =
            |key: &str| daemon.get(key).or_else(|| charon.as_ref()?.get(key)).map(|value| value.text.clone());
        let list = stated("load").map(|list| {
            list.split_whitespace().map(|one| one.trim_end_matches('!').to_owned()).collect::<BTreeSet<_>>()
        });
        let modular = stated("load_modular").is_some_and(|value| is_on(&value));
        let plugins: Vec<View<'_, '_>> = [Some(&daemon), charon.as_ref()]
            .into_iter()
            .flatten()
            .filter_map(|one| one.section("plugins"))
            .collect();
        let says = |plugin: &str| {
            let section = plugins.iter().find_map(|one| one.section(plugin))?;
            section.get("load").map(|value| is_on(&value.text))
        };
        let found: Option<BTreeSet<String>> = if modular {
            let names = plugins.iter().flat_map(View::names).map(str::to_owned);
            Some(names.filter(|one| says(one) == Some(true)).collect())
        } else {
            list.map(|list| list.into_iter().filter(|one| says(one) != Some(false)).collect())
        };
        match (found, &mut all) {
            (Some(found), Some(all)) => all.extend(found),
            (Some(found), none) => *none = Some(found),
            // The list that it was built with is not known.
            (None, _) => return None,
        }
    }
    all.filter(|all| !all.is_empty())
}

/// Whether a value is a number other than 0, which is a priority, or a word for yes (settings.c, get_int and get_bool).
fn is_on(value: &str) -> bool {
    value.parse::<i64>().map_or_else(
        |_| ["1", "yes", "true", "enabled"].iter().any(|word| value.eq_ignore_ascii_case(word)),
        |number| number != 0,
    )
}
