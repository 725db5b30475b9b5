//! Targets of a rule (iptables(8) "TARGETS", iptables-extensions(8) "TARGET EXTENSIONS").

use super::rule::Words;
use serde::Deserialize;
use std::net::IpAddr;
use trevlin_model::{Family, IpRange, PortRange, Target, Translation, TranslationKind};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Targets {
    goes_on: Vec<String>,
    ends: Vec<String>,
    logs: Vec<String>,
}

trevlin_model::table! { static TARGETS: Targets = "../../tables/iptables-targets.toml"; }

/// The target with this name. A name that is no target is a chain.
pub(super) fn named(name: &str, goto: bool) -> Target {
    let translate = |kind| Target::Translate(Translation::of(kind));
    if goto {
        return Target::Goto(name.into());
    }
    match name {
        "ACCEPT" => Target::Accept,
        "DROP" => Target::Drop,
        "REJECT" => Target::Reject,
        "RETURN" => Target::Return,
        "DNAT" => translate(TranslationKind::Destination),
        "REDIRECT" => translate(TranslationKind::Redirect),
        "SNAT" => translate(TranslationKind::Source),
        "MASQUERADE" => translate(TranslationKind::Masquerade),
        "NETMAP" => translate(TranslationKind::NetworkMap),
        _ if TARGETS.logs.iter().any(|one| one == name) => Target::Log,
        _ if TARGETS.goes_on.iter().any(|one| one == name) => {
            Target::NotAnalysed { name: name.into(), ends: false }
        }
        _ if TARGETS.ends.iter().any(|one| one == name) => {
            Target::NotAnalysed { name: name.into(), ends: true }
        }
        _ => Target::Jump(name.into()),
    }
}

/// Whether a target has this option. All options of targets that are not analysed are accepted.
pub(super) fn takes(target: &Target, name: &str) -> bool {
    match target {
        Target::Accept
        | Target::Drop
        | Target::Return
        | Target::Jump(_)
        | Target::Goto(_)
        | Target::Continue => false,
        Target::Reject => name == "--reject-with",
        Target::Log | Target::NotAnalysed { .. } => true,
        Target::Translate(_) => {
            name.starts_with("--to") || matches!(name, "--random" | "--random-fully" | "--persistent")
        }
    }
}

/// Takes one option of a target.
pub(super) fn option(
    target: &mut Target,
    name: &str,
    words: &mut Words<'_>,
    family: Family,
) -> Result<(), String> {
    let value = words.values();
    let value = value.trim();
    if let Target::NotAnalysed { name: own, .. } = target
        && own == "CT"
        && name == "--notrack"
    {
        // The older name of the same.
        "NOTRACK".clone_into(own);
    }
    let Target::Translate(translation) = target else { return Ok(()) };
    let wrong = || format!("`{value}` is not a value that `{name}` takes");
    match name {
        "--to-destination" | "--to-source" => {
            let (addresses, ports) = destination(value, family).ok_or_else(wrong)?;
            translation.shifted_from =
                value.rsplit_once('/').and_then(|(_, base)| base.parse().ok()).or(translation.shifted_from);
            translation.addresses = addresses.or(translation.addresses);
            translation.ports = ports.or(translation.ports);
        }
        "--to-ports" | "--to-port" => translation.ports = Some(ports(value).ok_or_else(wrong)?),
        "--to" => {
            translation.addresses =
                Some(crate::addresses::network(value, family).map(IpRange::from).ok_or_else(wrong)?);
        }
        _ => {}
    }
    Ok(())
}

/// `address[-address][:port[-port[/base]]]`, `:port`, and the same with an IPv6 address in brackets.
fn destination(value: &str, family: Family) -> Option<(Option<IpRange>, Option<PortRange>)> {
    let (addresses, port) = match family {
        Family::V4 => match value.split_once(':') {
            Some((addresses, port)) => (addresses, Some(port)),
            None => (value, None),
        },
        Family::V6 => match value.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            Some((addresses, "")) => (addresses, None),
            Some((addresses, port)) => (addresses, Some(port.strip_prefix(':')?)),
            None => (value, None),
        },
    };
    let addresses = match addresses.split_once('-') {
        None if addresses.is_empty() => None,
        None => Some(IpRange::from(addresses.parse::<IpAddr>().ok()?)),
        Some((first, last)) => Some(IpRange::new(first.parse().ok()?, last.parse().ok()?).ok()?),
    };
    if addresses.is_some_and(|range| range.family() != family) {
        return None;
    }
    Some((addresses, port.map(ports).map_or(Some(None), |ports| ports.map(Some))?))
}

/// `port[-port[/base]]`
fn ports(text: &str) -> Option<PortRange> {
    let (text, _) = text.split_once('/').unwrap_or((text, ""));
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let range = PortRange { first: first.parse().ok()?, last: last.parse().ok()? };
    (range.first <= range.last).then_some(range)
}
