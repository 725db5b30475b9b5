//! Events that decided about a packet, in order, as data. Texts are generated from them at the end, and are never parsed.

use crate::program::Ending;
use ipnet::IpNet;
use std::fmt;
use std::net::IpAddr;
use trevlin_model::{Family, Origin};

/// One thing that decided, in the order in which the packet met them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// The device where it happened.
    pub device: usize,
    /// The event.
    pub kind: StepKind,
    /// The deciding line, if there is one.
    pub origin: Option<Origin>,
}

/// An event on the path of a packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StepKind {
    /// It enters a device by this interface.
    Enters(String),
    /// It is for the device itself, which has this address.
    Local(IpAddr),
    /// The device has a route to its destination.
    Routed {
        /// The destination.
        destination: IpAddr,
        /// The interface by which it is reached.
        interface: String,
    },
    /// The device does not send it on.
    NoRoute(IpAddr, NoRoute),
    /// Where the device sends it is not known.
    RouteUnknown(IpAddr, RouteUnknown),
    /// The device forwards nothing of this IP version.
    NotForwarding(Family),
    /// Its source is an address of the device itself.
    OwnSource(IpAddr),
    /// The source check refuses it.
    SourceRefused {
        /// The source.
        source: IpAddr,
        /// The interface by which it entered, and by which the source is not reached.
        interface: String,
    },
    /// The rule that accepts it does so for some users, or after an inspection.
    Admitted {
        /// The limit, as a phrase.
        limit: String,
        /// Whether it names users.
        users: bool,
    },
    /// A rule of this chain ended its way through the filter.
    Ruled(String, Ending),
    /// No rule of this chain did, and the chain's policy decides.
    Policy(String, Ending),
    /// A rule looks it up in a map, an element of which decides.
    LookedUp(String),
    /// A file that the firewall includes in this chain has the rule that decides.
    Included(String),
    /// A rule sends it to another chain.
    Jumps {
        /// The chain of the rule.
        chain: String,
        /// The other one.
        to: String,
        /// Whether a program sets the jump by itself, for every packet.
        always: bool,
    },
    /// Whether a rule of this chain holds for it is not known.
    RuleUnknown(String),
    /// The effect of a rule's target is not known; name of the target.
    TargetUnknown(String),
    /// The chain that a rule sends it to is not in the export.
    ChainMissing(String),
    /// A missing or unanalysed part that affects packets, with its name.
    NotWhole(String),
    /// More rules may or may not hold than are followed.
    TooManyWays,
    /// An address of it was translated.
    Translated {
        /// Whether it is the destination, otherwise the source.
        destination: bool,
        /// The new address.
        address: IpAddr,
        /// The new port, where it is another one.
        port: Option<u16>,
    },
    /// A translation may choose among very many addresses.
    TranslationOpen,
    /// A translation chooses among several addresses or ports.
    TranslationChoice,
    /// A device translated a packet of its own, and where it goes then is not known.
    OwnTranslated,
    /// It is wrapped into IPsec.
    IntoIpsec,
    /// It comes to a device where it has been before.
    Circle,
    /// A link does not take it.
    Refused(Refusal),
    /// It is delivered, and the answer does not come back.
    AnswerLost,
    /// It is delivered and answered, and what follows does not come through.
    FollowUpLost,
    /// The answer comes to this device, which did not ask.
    AnswerToDevice,
    /// The answer comes from another address than was asked.
    AnswerFromElsewhere,
    /// The answer leaves by another way than to who asked.
    AnswerElsewhere,
    /// Source and destination are of different IP versions.
    VersionsDiffer,
    /// Both ends are on one network, without a device between them.
    SameNetwork(IpAddr),
    /// No traffic from untrusted networks is delivered there.
    NothingDelivered,
    /// It may set out at any of several places, named here, which differ in what becomes of it.
    SeveralPlaces(String),
    /// The source may be next to the device: a statement that was not understood has this address on its network.
    AddressNotUnderstood(IpNet),
}

/// Why a device does not send a packet on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoRoute {
    /// A loopback address, from elsewhere.
    Loopback,
    /// A route that refuses (ip-route(8): `unreachable`, `blackhole`, `prohibit`).
    Refusing,
    /// No route at all.
    Missing,
}

/// Why it is not known where a device sends a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RouteUnknown {
    /// The device's addresses were not exported.
    NoAddresses,
    /// Multicast is not followed.
    Multicast,
    /// The interface of its route is not known.
    NoInterface,
    /// No route of this IP version was exported.
    NoRoutes,
}

/// Why a link does not take a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// The Internet does not route its destination (RFC 1918, section 3; RFC 6890).
    NotCarried,
    /// The other end of a tunnel takes no packets of its source (wg(8), AllowedIPs).
    SourceNotTaken,
}

impl StepKind {
    /// Whether it only describes the route to a device, and no decision of the device.
    #[must_use]
    pub fn is_route(&self) -> bool {
        matches!(self, Self::Routed { .. })
    }

    /// Whether a rule or a policy let it through.
    #[must_use]
    pub fn accepts(&self) -> bool {
        matches!(self, Self::Ruled(_, Ending::Accept) | Self::Policy(_, Ending::Accept))
    }
}

impl fmt::Display for StepKind {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Enters(interface) => write!(out, "enters at {interface}"),
            Self::Local(destination) => write!(out, "{destination} is the device itself"),
            Self::Routed { destination, interface } => {
                write!(out, "{destination} is reached through {interface}")
            }
            Self::NoRoute(destination, why) => write!(out, "{destination}: {why}"),
            Self::RouteUnknown(destination, why) => write!(out, "{destination}: {why}"),
            Self::NotForwarding(family) => write!(out, "forwarding of {family} is switched off"),
            Self::OwnSource(source) => {
                write!(out, "{source} is an address of the device itself, and cannot come from another host")
            }
            Self::SourceRefused { source, interface } => {
                write!(out, "the source check refuses {source} on {interface}")
            }
            Self::Admitted { limit, .. } => write!(out, "the following rule accepts {limit}"),
            Self::Ruled(chain, ending) => {
                let does = match ending {
                    Ending::Accept => "accepts",
                    Ending::Drop => "drops",
                    Ending::Reject => "rejects",
                    Ending::NotAnalysed => "may end",
                };
                write!(out, "chain {chain} {does} it")
            }
            Self::Policy(chain, Ending::Accept) => write!(out, "default policy of chain {chain}: accept"),
            Self::Policy(chain, _) => write!(out, "default policy of chain {chain}: drop"),
            Self::LookedUp(chain) => write!(out, "chain {chain} looks it up in a map"),
            Self::Included(chain) => write!(out, "chain {chain} includes a file"),
            Self::Jumps { chain, to, .. } => write!(out, "chain {chain} continues in {to}"),
            Self::RuleUnknown(chain) => {
                write!(out, "a rule of chain {chain} whose conditions are not fully analysed")
            }
            Self::TargetUnknown(name) => write!(out, "the target {name} is not analysed"),
            Self::ChainMissing(name) => write!(out, "chain {name} is not in the export"),
            Self::NotWhole(what) => write!(out, "{what} may decide otherwise"),
            Self::TooManyWays => out.write_str("too many rules with conditions not analysed"),
            Self::Translated { destination, address, port } => {
                let what = if *destination { "destination" } else { "source" };
                write!(out, "its {what} becomes {address}")?;
                port.map_or(Ok(()), |port| write!(out, " port {port}"))
            }
            Self::TranslationOpen => out.write_str("which address this translation chooses"),
            Self::TranslationChoice => out.write_str("which address or port this translation chooses"),
            Self::OwnTranslated => out.write_str("where a translated packet of the device itself goes"),
            Self::IntoIpsec => out.write_str("it enters an IPsec tunnel"),
            Self::Circle => out.write_str("it returns to a device it has passed, and loops"),
            Self::Refused(why) => write!(out, "{why}"),
            Self::AnswerLost => out.write_str("it is delivered, but the reply does not return"),
            Self::FollowUpLost => {
                out.write_str("it is delivered and answered, but later packets of the connection are blocked")
            }
            Self::AnswerToDevice => out.write_str("the reply comes to this device and not to the client"),
            Self::AnswerFromElsewhere => {
                out.write_str("the reply comes from another address than the client connected to")
            }
            Self::AnswerElsewhere => {
                out.write_str("the reply takes another path than the client's connection")
            }
            Self::VersionsDiffer => out.write_str("source and destination are of different IP versions"),
            Self::SameNetwork(address) => {
                write!(out, "{address} is on the same network, and no device lies between")
            }
            Self::NothingDelivered => out.write_str("no packet from the Internet is delivered there"),
            Self::AddressNotUnderstood(net) => {
                write!(out, "{net} is not understood; it may be an address on the network of the source")
            }
            Self::SeveralPlaces(places) => {
                write!(
                    out,
                    "the source may be in several places ({places}); choose one with `--entering DEVICE:INTERFACE`"
                )
            }
        }
    }
}

impl fmt::Display for NoRoute {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::Loopback => "a loopback address is not reachable from other hosts",
            Self::Refusing => "a route marks it unreachable",
            Self::Missing => "no route leads there",
        })
    }
}

impl fmt::Display for RouteUnknown {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::NoAddresses => "the device's addresses were not exported",
            Self::Multicast => "multicast is not analysed",
            Self::NoInterface => "the interface of its route is not known",
            Self::NoRoutes => "no route of this IP version was exported",
        })
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::NotCarried => "it leaves to the Internet, which does not route this address",
            Self::SourceNotTaken => "the remote end of the tunnel does not accept this source from here",
        })
    }
}
