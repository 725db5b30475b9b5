//! From where a service is reached, with the reason and the lines that prove it.

use crate::authentication::ShellCondition;
use crate::context::Analyses;
use crate::exposure::Reachable;
use crate::ways::{cited, some_ranges};
use trevlin_estate::assemble::Estate;
use trevlin_estate::special;
use trevlin_model::served::ClientLists;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Device, IpRangeSet, Origin, PortForward, Protocol};
use trevlin_packets::way::StepKind;

/// From where a service is reached, as far as the exports tell.
#[derive(Debug, Clone)]
pub enum Reachability<'a> {
    /// Reachable from any address of an untrusted network.
    Everybody(&'a Reachable),
    /// Reachable from some Internet addresses.
    Some(&'a Reachable),
    /// Reachable from some Internet addresses, to which the service itself limits it.
    Named(&'a Reachable, IpRangeSet, Option<&'a ClientLists>),
    /// Packets from the Internet reach it, and its lists of clients accept internal addresses only.
    Listed(&'a ClientLists),
    /// Packets from the Internet reach it; lists of clients would limit it, and the program may not consult them, or names decide.
    Unsure(&'a Reachable, &'a ClientLists),
    /// The Internet interface is known, and nothing there reaches it.
    Inside,
    /// The Internet interface is not known, but a device forwards to it.
    Forwarded(&'a Device, &'a PortForward),
    /// Not known.
    NotKnown,
}

impl<'a> Reachability<'a> {
    /// From where a port of a device is reached.
    pub fn of(estate: &'a Analyses, device: usize, protocol: Protocol, port: u16) -> Self {
        if let Some(reached) = estate.internet().from_outside(device, protocol, port) {
            return match (reached.everybody, reached.certain) {
                (true, true) => Self::Everybody(reached),
                (false, true) => Self::Some(reached),
                // A condition that is not analysed decides.
                (_, false) => Self::NotKnown,
            };
        }
        let placed = estate.devices[device].facts.has_interfaces;
        if placed && !estate.shape().outside.is_empty() {
            return Self::Inside;
        }
        match estate.forwards_of_port(device, protocol, port).first() {
            Some((front, forward)) => Self::Forwarded(front, forward),
            None => Self::NotKnown,
        }
    }

    /// From where an SSH server is reached, by the connections of a condition where one is given.
    pub fn of_ssh(
        estate: &'a Analyses,
        device: usize,
        server: &'a SshServer,
        condition: Option<&ShellCondition>,
    ) -> Self {
        let connection = condition.map_or_else(SshConnection::default, ShellCondition::connection);
        let found = Self::of(estate, device, Protocol::TCP, server.port(&connection))
            .limited_to(condition.and_then(|condition| condition.addresses.as_ref()));
        match &server.lists {
            Some(lists) => found.listed(lists),
            None => found,
        }
    }

    /// The same for a service with lists of the clients that it accepts.
    fn listed(self, lists: &'a ClientLists) -> Self {
        if !lists.certain || !lists.sources.names.is_empty() {
            return match self {
                Self::Everybody(reached) | Self::Some(reached) | Self::Named(reached, ..) => {
                    Self::Unsure(reached, lists)
                }
                other => other,
            };
        }
        let ranges: IpRangeSet = lists.sources.ranges.iter().copied().collect();
        let internal = ranges.intersection(&special::public_ranges()).is_empty();
        match self {
            Self::Inside => Self::Inside,
            Self::NotKnown if internal => Self::Listed(lists),
            other => match other.limited_to(Some(&ranges)) {
                Self::Inside => Self::Listed(lists),
                Self::Named(reached, both, _) => Self::Named(reached, both, Some(lists)),
                other => other,
            },
        }
    }

    /// Whether nothing on the Internet reaches it.
    pub fn is_inside(&self) -> bool {
        matches!(self, Self::Inside | Self::Listed(_))
    }

    /// The same for a login that the service limits to sources: public addresses among them count as Internet addresses.
    #[must_use]
    fn limited_to(self, sources: Option<&IpRangeSet>) -> Self {
        let Some(sources) = sources else { return self };
        let public = sources.intersection(&special::public_ranges());
        match self {
            Self::Everybody(reached) | Self::Some(reached) => {
                let both = public.intersection(&reached.sources);
                if both.is_empty() { Self::Inside } else { Self::Named(reached, both, None) }
            }
            Self::Forwarded(..) if public.is_empty() => Self::Inside,
            other => other,
        }
    }

    /// Why that weighs, as a phrase.
    pub fn phrase(&self, estate: &Estate) -> Option<String> {
        Some(match self {
            Self::Everybody(reached) => format!("reachable from the Internet{}", by_way_of(estate, reached)),
            Self::Some(reached) if admitted(reached).is_some() => {
                format!("reachable from the Internet {}", admitted(reached).unwrap_or_default())
            }
            Self::Some(reached) => {
                format!("reachable from the Internet by {}", some_ranges(&reached.sources))
            }
            Self::Named(_, sources, _) => {
                format!("reachable from the Internet by {}", some_ranges(sources))
            }
            Self::Inside => "reachable from internal networks only".to_owned(),
            Self::Listed(_) => "its list of clients accepts internal networks only".to_owned(),
            Self::Unsure(_, lists) if lists.certain => {
                "reachable from the Internet by the host names on its list of clients".to_owned()
            }
            Self::Unsure(..) => {
                "reachable from the Internet unless the server consults `hosts.allow` and `hosts.deny`"
                    .to_owned()
            }
            Self::Forwarded(front, _) => format!("{} forwards connections to it", front.name),
            Self::NotKnown => return None,
        })
    }

    /// Whether unknown sources reach it.
    pub fn is_open(&self) -> bool {
        matches!(self, Self::Everybody(_) | Self::Forwarded(..))
    }

    /// Lines that prove it.
    pub fn evidence(&self) -> Vec<Origin> {
        let (reached, lists) = match self {
            Self::Everybody(reached) | Self::Some(reached) => (Some(reached), None),
            Self::Named(reached, _, lists) => (Some(reached), lists.as_ref()),
            Self::Unsure(reached, lists) => (Some(reached), Some(lists)),
            Self::Listed(lists) => (None, Some(lists)),
            Self::Forwarded(_, forward) => return vec![forward.origin],
            Self::Inside | Self::NotKnown => (None, None),
        };
        let way = reached.into_iter().flat_map(|one| one.forward.into_iter().chain(cited(&one.steps)));
        way.chain(lists.into_iter().flat_map(|lists| lists.sources.origins.iter().copied())).collect()
    }
}

/// The limit of a rule on the way to some users.
fn admitted(reached: &Reachable) -> Option<&str> {
    reached.steps.iter().find_map(|step| match &step.kind {
        StepKind::Admitted { limit, users: true } => Some(limit.as_str()),
        _ => None,
    })
}

/// The devices in front of a service, as a phrase.
fn by_way_of(estate: &Estate, reached: &Reachable) -> String {
    let mut names: Vec<&str> = reached
        .steps
        .iter()
        .filter(|step| step.device != reached.device)
        .filter_map(|step| estate.devices.get(step.device))
        .map(|device| device.name.as_str())
        .collect();
    names.dedup();
    if names.is_empty() { String::new() } else { format!(" via {}", names.join(" and ")) }
}
