//! Conditions of a rule (iptables(8) "PARAMETERS", iptables-extensions(8) "MATCH EXTENSIONS").

use super::ipset::Sets;
use super::rule::Words;
use super::services;
use crate::addresses;
pub(super) use crate::iptables::numbers::protocol;
use trevlin_model::{
    AddressKind, ConnectionStates, Family, IcmpRange, IpRange, Match, MatchKind, PortRange, Protocol,
    Residual,
};

/// Modules that have no condition of their own and whose options are known here.
const PLAIN_MODULES: [&str; 20] = [
    "tcp",
    "udp",
    "udplite",
    "sctp",
    "dccp",
    "icmp",
    "icmp6",
    "icmpv6",
    "ipv6-icmp",
    "multiport",
    "iprange",
    "state",
    "conntrack",
    "comment",
    "addrtype",
    "owner",
    "policy",
    "set",
    "esp",
    "ah",
];

/// Known modules (iptables-extensions(8)), besides those above.
const MODULES: [&str; 46] = [
    "bpf",
    "cgroup",
    "cluster",
    "connbytes",
    "connlabel",
    "connlimit",
    "connmark",
    "cpu",
    "devgroup",
    "dscp",
    "dst",
    "ecn",
    "eui64",
    "frag",
    "hashlimit",
    "hbh",
    "helper",
    "hl",
    "ipv6header",
    "ipvs",
    "length",
    "limit",
    "mac",
    "mark",
    "mh",
    "nfacct",
    "osf",
    "physdev",
    "pkttype",
    "quota",
    "rateest",
    "realm",
    "recent",
    "rpfilter",
    "rt",
    "socket",
    "srh",
    "statistic",
    "string",
    "tcpmss",
    "time",
    "tos",
    "ttl",
    "u32",
    "geoip",
    "account",
];

/// Options whose meaning is analysed.
const KNOWN: [&str; 45] = [
    "!",
    "-p",
    "--protocol",
    "--proto",
    "-s",
    "--source",
    "--src",
    "-d",
    "--destination",
    "--dst",
    "-i",
    "--in-interface",
    "-o",
    "--out-interface",
    "--sport",
    "--source-port",
    "--dport",
    "--destination-port",
    "--sports",
    "--source-ports",
    "--dports",
    "--destination-ports",
    "--ports",
    "--src-range",
    "--dst-range",
    "--icmp-type",
    "--icmpv6-type",
    "--state",
    "--ctstate",
    "--ctdir",
    "--ctorigdst",
    "--ctorigdstport",
    "--ctproto",
    "--src-type",
    "--dst-type",
    "--uid-owner",
    "--gid-owner",
    "--match-set",
    "--tcp-flags",
    "--syn",
    "--comment",
    "-f",
    "--fragment",
    "-m",
    "-j",
];

/// Conditions gathered so far.
pub(super) struct Conditions<'a> {
    family: Family,
    sets: &'a Sets,
    named: Vec<String>,
    /// Whether `-m policy` looks at what will happen to a packet.
    policy_out: bool,
    matches: Vec<Match>,
    comment: Option<String>,
    strange: bool,
    negated: bool,
    module: String,
    /// The condition that further options of the module belong to.
    open: Option<usize>,
}

/// Conditions gathered from a line.
pub(super) struct Gathered {
    pub(super) matches: Vec<Match>,
    pub(super) comment: Option<String>,
    /// Whether something in it is of no module that there is, so that it may have been anything.
    pub(super) strange: bool,
    /// Sets that it names.
    pub(super) sets: Vec<String>,
}

impl<'a> Conditions<'a> {
    pub(super) fn new(family: Family, sets: &'a Sets) -> Self {
        Self {
            family,
            sets,
            named: Vec::new(),
            policy_out: false,
            matches: Vec::new(),
            comment: None,
            strange: false,
            negated: false,
            module: String::new(),
            open: None,
        }
    }

    pub(super) fn finish(self) -> Gathered {
        Gathered { matches: self.matches, comment: self.comment, sets: self.named, strange: self.strange }
    }

    /// Whether an option belongs to the conditions even after a target was named.
    pub(super) fn knows(&self, name: &str) -> bool {
        KNOWN.contains(&name)
    }

    /// `-m module`
    pub(super) fn load(&mut self, module: &str) {
        self.module = module.to_owned();
        self.open = None;
        self.strange |= !PLAIN_MODULES.contains(&module) && !MODULES.contains(&module);
        if !PLAIN_MODULES.contains(&module) {
            self.matches.push(Match {
                negated: self.negated,
                kind: MatchKind::NotAnalysed(Residual::as_written(module)),
            });
            self.open = Some(self.matches.len() - 1);
        }
        self.negated = false;
    }

    fn push(&mut self, kind: MatchKind, negated: bool) {
        self.matches.push(Match { negated, kind });
    }

    /// Keeps a condition as written, since it is not analysed.
    fn keep_as_written(&mut self, text: String, negated: bool) {
        self.push(MatchKind::NotAnalysed(Residual::as_written(text)), negated);
    }

    /// One option. `Err` describes the error; the condition is then kept as not analysed.
    pub(super) fn option(&mut self, name: &str, words: &mut Words<'_>) -> Result<(), String> {
        if name == "!" {
            self.negated = true;
            return Ok(());
        }
        let negated = std::mem::take(&mut self.negated) | words.late_negation();
        match name {
            "--comment" => {
                self.comment = words.value().map(|text| crate::announced::masked(&text));
                return Ok(());
            }
            "--syn" => {
                // SYN set; RST, ACK and FIN clear (iptables-extensions(8), tcp).
                self.push(MatchKind::TcpFlags { looked_at: 0b1_0111, set: 0b0_0010 }, negated);
                return Ok(());
            }
            "-f" | "--fragment" => {
                self.keep_as_written("fragment".into(), negated);
                return Ok(());
            }
            "--tcp-flags" => {
                let (looked_at, set) = (words.value(), words.value());
                let kind = looked_at.as_deref().and_then(flags).zip(set.as_deref().and_then(flags));
                return match kind {
                    Some((looked_at, set)) => {
                        self.push(MatchKind::TcpFlags { looked_at, set }, negated);
                        Ok(())
                    }
                    None => {
                        self.keep_as_written("tcp-flags".into(), negated);
                        Err("`--tcp-flags` needs two lists of flags, such as `SYN,ACK SYN`".into())
                    }
                };
            }
            "--dir" if self.module == "policy" => {
                self.policy_out = words.value().as_deref() == Some("out");
                return Ok(());
            }
            "--pol" if self.module == "policy" => {
                let none = words.value().as_deref() == Some("none");
                self.push(MatchKind::Ipsec { leaving: self.policy_out }, negated != none);
                return Ok(());
            }
            "--match-set" => {
                let (set, directions) = (words.value(), words.value());
                let (Some(set), Some(directions)) = (set, directions) else {
                    self.keep_as_written("set".into(), negated);
                    return Err("`--match-set` needs a set and its directions, such as `office src`".into());
                };
                let kind = self.sets.get(&set).and_then(|held| held.condition(self.family, &directions));
                let unknown = || {
                    MatchKind::NotAnalysed(Residual::as_written(format!(
                        "set --match-set {set} {directions}"
                    )))
                };
                self.push(kind.unwrap_or_else(unknown), negated);
                self.named.push(set);
                return Ok(());
            }
            _ if !KNOWN.contains(&name) => {
                self.unknown(name, words, negated);
                return Ok(());
            }
            _ => {}
        }
        let value = words.value().unwrap_or_default();
        match self.known(name, &value) {
            Some(Some(kind)) => {
                self.push(kind, negated);
                Ok(())
            }
            Some(None) => Ok(()),
            None => {
                self.keep_as_written(format!("{} {value}", name.trim_start_matches('-')), negated);
                Err(format!("`{value}` is not a value that `{name}` takes here"))
            }
        }
    }

    /// The condition of a known option; `Some(None)` where it always holds.
    fn known(&self, name: &str, value: &str) -> Option<Option<MatchKind>> {
        Some(Some(match name {
            "-p" | "--protocol" | "--proto" => match protocol(value)? {
                Protocol(None) => return Some(None),
                protocol => MatchKind::Protocol(protocol),
            },
            "-s" | "--source" | "--src" => MatchKind::Source(self.networks(value)?),
            "-d" | "--destination" | "--dst" => MatchKind::Destination(self.networks(value)?),
            "-i" | "--in-interface" if !value.is_empty() => MatchKind::Entering(value.to_owned()),
            "-o" | "--out-interface" if !value.is_empty() => MatchKind::Leaving(value.to_owned()),
            "--sport" | "--source-port" | "--sports" | "--source-ports" => {
                MatchKind::SourcePorts(ports(value)?)
            }
            "--dport" | "--destination-port" | "--dports" | "--destination-ports" => {
                MatchKind::DestinationPorts(ports(value)?)
            }
            "--ports" => MatchKind::EitherPorts(ports(value)?),
            "--src-range" => MatchKind::Source(vec![addresses::range(value)?]),
            "--dst-range" => MatchKind::Destination(vec![addresses::range(value)?]),
            "--icmp-type" | "--icmpv6-type" if value == "any" || value == "255" => return Some(None),
            "--icmp-type" | "--icmpv6-type" => MatchKind::Icmp(icmp(value, self.family)?),
            "--state" | "--ctstate" => MatchKind::States(states(value)?),
            "--ctdir" if value.eq_ignore_ascii_case("reply") => MatchKind::Reply,
            "--ctdir" if value.eq_ignore_ascii_case("original") => {
                // Not against the direction.
                return Some(Some(MatchKind::AnyOf(vec![vec![Match {
                    negated: true,
                    kind: MatchKind::Reply,
                }]])));
            }
            "--ctproto" => MatchKind::Protocol(protocol(value)?),
            "--ctorigdst" => MatchKind::OriginalDestination(self.networks(value)?),
            "--ctorigdstport" => MatchKind::OriginalDestinationPorts(ports(value)?),
            "--src-type" | "--dst-type" => {
                MatchKind::AddressIs { destination: name == "--dst-type", kinds: kinds(value)? }
            }
            "--uid-owner" | "--gid-owner" => {
                let (first, last) = value.split_once('-').unwrap_or((value, value));
                match (first.parse(), last.parse()) {
                    (Ok(first), Ok(last)) if name == "--uid-owner" => MatchKind::User(first, last),
                    (Ok(first), Ok(last)) => MatchKind::Group(first, last),
                    // A name: which number it has, the file does not tell.
                    _ if !value.is_empty() => {
                        MatchKind::NotAnalysed(Residual::as_written(format!("owner {name} {value}")))
                    }
                    _ => return None,
                }
            }
            _ => return None,
        }))
    }

    fn networks(&self, list: &str) -> Option<Vec<IpRange>> {
        list.split(',').map(|one| addresses::network(one, self.family).map(IpRange::from)).collect()
    }

    /// An option of a module that is not analysed.
    fn unknown(&mut self, name: &str, words: &mut Words<'_>, negated: bool) {
        let values = words.values();
        let text = format!("{}{name}{values}", if negated { "! " } else { "" });
        match self.open.and_then(|at| self.matches.get_mut(at)) {
            Some(Match { kind: MatchKind::NotAnalysed(all), .. }) => {
                // What it selects may follow from its options.
                *all = Residual::as_written(format!("{} {text}", all.text));
            }
            _ => {
                self.strange = true;
                let module = if self.module.is_empty() { String::new() } else { format!("{} ", self.module) };
                self.keep_as_written(format!("{module}{text}"), false);
            }
        }
    }
}

fn port(text: &str) -> Option<u16> {
    text.parse().ok().or_else(|| services().get(text).copied())
}

/// `22`, `1000:2000`, `:1023`, `1024:` and lists of these. A reversed range is refused by the program too.
fn ports(list: &str) -> Option<Vec<PortRange>> {
    list.split(',')
        .map(|one| {
            let (first, last) = match one.split_once(':') {
                None => (port(one)?, port(one)?),
                Some(("", "")) => (0, u16::MAX),
                Some(("", last)) => (0, port(last)?),
                Some((first, "")) => (port(first)?, u16::MAX),
                Some((first, last)) => (port(first)?, port(last)?),
            };
            (first <= last).then_some(PortRange { first, last })
        })
        .collect()
}

/// Types of addresses that `addrtype` distinguishes; rare types make the condition one that is not analysed.
fn kinds(list: &str) -> Option<Vec<AddressKind>> {
    list.split(',')
        .map(|word| {
            Some(match word.to_ascii_uppercase().as_str() {
                "LOCAL" => AddressKind::Local,
                "BROADCAST" => AddressKind::Broadcast,
                "MULTICAST" => AddressKind::Multicast,
                "UNICAST" => AddressKind::Unicast,
                _ => return None,
            })
        })
        .collect()
}

/// `8`, `3/4` or a name of iptables-extensions(8).
fn icmp(value: &str, family: Family) -> Option<Vec<IcmpRange>> {
    crate::icmp::range(value, family).map(|range| vec![range])
}

fn states(list: &str) -> Option<ConnectionStates> {
    let mut states = ConnectionStates::default();
    for word in list.split(',') {
        let field = match word.to_ascii_uppercase().as_str() {
            "NEW" => &mut states.new,
            "ESTABLISHED" => &mut states.established,
            "RELATED" => &mut states.related,
            "INVALID" => &mut states.invalid,
            "UNTRACKED" => &mut states.untracked,
            "SNAT" => &mut states.snat,
            "DNAT" => &mut states.dnat,
            _ => return None,
        };
        *field = true;
    }
    Some(states)
}

fn flags(list: &str) -> Option<u8> {
    list.split(',').try_fold(0, |all, word| {
        Some(
            all | match word.to_ascii_uppercase().as_str() {
                "FIN" => 1,
                "SYN" => 2,
                "RST" => 4,
                "PSH" => 8,
                "ACK" => 16,
                "URG" => 32,
                "ALL" => 63,
                "NONE" => 0,
                _ => return None,
            },
        )
    })
}
