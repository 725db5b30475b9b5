//! Common parts of several checks.

pub(crate) mod ike;
pub(crate) mod rated;
pub(crate) mod serving;

use crate::check::Answer;
use rayon::prelude::*;
use trevlin_analysis::map::EstateMap;

/// Devices that one core is given at a time: few, so that none is left with many while the others wait.
const AT_A_TIME: usize = 16;

/// Applies a function to each device, on every core; the answers are in order of devices.
pub(crate) fn each_device(
    estate: &EstateMap,
    ask: impl Fn(usize) -> Vec<Answer> + Sync + Send,
) -> Vec<Answer> {
    (0..estate.devices.len()).into_par_iter().with_max_len(AT_A_TIME).flat_map_iter(ask).collect()
}

/// The beginning of a request for the packet filter of a device, the same in every check, so that requests can be joined.
pub(crate) fn provide_filter(device: &str) -> String {
    format!("Please provide `nft list ruleset`, or `iptables-save` and `ip6tables-save`, of {device}")
}

/// The beginning of a request for a PAM stack.
pub(crate) fn provide_pam(service: &str) -> String {
    format!("Please provide `/etc/pam.d/{service}`, with the files it includes")
}

/// A few of many names, with the number of the others.
pub(crate) fn some_names(all: &[String]) -> String {
    const MOST: usize = 6;
    match all.len().saturating_sub(MOST) {
        0 => all.join(", "),
        rest => format!("{} and {rest} more", all[..MOST].join(", ")),
    }
}
