//! A rule's conditions in words: from where, to where, which service.

use trevlin_model::{
    AddressKind, ConnectionStates, Hook, Match, MatchKind, PortRange, Protocol, Rule, Target, TranslationKind,
};

/// A rule in words.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Described {
    /// Its action.
    pub action: String,
    /// From where.
    pub from: String,
    /// To where.
    pub to: String,
    /// Which service.
    pub service: String,
    /// Further conditions.
    pub more: String,
    /// Unlimited fields.
    pub open: Unlimited,
}

/// Fields that no condition of a rule limits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Unlimited {
    /// From where.
    pub source: bool,
    /// To where.
    pub destination: bool,
    /// Which service.
    pub service: bool,
    /// Any other field, except for an IP version, or the state of new connections.
    pub otherwise: bool,
}

impl Unlimited {
    /// Whether it holds for every new connection of an IP version.
    #[must_use]
    pub fn is_whole(self) -> bool {
        self.source && self.destination && self.service && self.otherwise
    }
}

/// How many addresses or ports of a list are named.
const MOST_NAMED: usize = 4;

/// Puts a rule into words.
#[must_use]
pub fn describe(rule: &Rule) -> Described {
    let mut parts = Parts::default();
    for one in &rule.matches {
        parts.take(one);
    }
    let or_any = |parts: Vec<String>| if parts.is_empty() { "any".to_owned() } else { parts.join(" ") };
    let service = match (parts.protocols.is_empty(), parts.ports.is_empty()) {
        (true, true) => "any".to_owned(),
        (_, true) => parts.protocols.join(" "),
        _ => format!("{} {}", parts.protocols.join(" "), parts.ports.join(" ")).trim().to_owned(),
    };
    let open = Unlimited {
        source: parts.from.is_empty(),
        destination: parts.to.is_empty(),
        service: parts.protocols.is_empty() && parts.ports.is_empty(),
        otherwise: parts.more.is_empty() || (parts.more.len() == 1 && parts.slight),
    };
    Described {
        open,
        action: action(rule),
        from: or_any(parts.from),
        to: or_any(parts.to),
        service,
        more: parts.more.join(", "),
    }
}

fn action(rule: &Rule) -> String {
    let word = match &rule.target {
        Target::Accept => "accept".to_owned(),
        Target::Drop => "drop".to_owned(),
        Target::Reject => "reject".to_owned(),
        Target::Return => "return".to_owned(),
        Target::Jump(name) => format!("jump {name}"),
        Target::Goto(name) => format!("goto {name}"),
        Target::Log => return "log".to_owned(),
        Target::Continue => "count".to_owned(),
        Target::Translate(how) => match how.kind {
            TranslationKind::Destination | TranslationKind::Redirect => "DNAT".to_owned(),
            TranslationKind::Source | TranslationKind::Masquerade => "SNAT".to_owned(),
            TranslationKind::NetworkMap => "map network".to_owned(),
        },
        Target::NotAnalysed { name, .. } => name.clone(),
    };
    if rule.logs { format!("log, {word}") } else { word }
}

#[derive(Default)]
struct Parts {
    from: Vec<String>,
    to: Vec<String>,
    protocols: Vec<String>,
    ports: Vec<String>,
    more: Vec<String>,
    /// Whether one of these is only an IP version, or that a connection is new.
    slight: bool,
}

impl Parts {
    fn take(&mut self, one: &Match) {
        let not = if one.negated { "not " } else { "" };
        let addresses = |all: &[trevlin_model::IpRange]| {
            format!("{not}{}", list(all.iter().map(trevlin_model::IpRange::short)))
        };
        match &one.kind {
            MatchKind::Entering(name) => self.from.insert(0, format!("{not}{}", pattern(name))),
            MatchKind::Leaving(name) => self.to.insert(0, format!("{not}{}", pattern(name))),
            MatchKind::Source(all) => self.from.push(addresses(all)),
            MatchKind::Destination(all) => self.to.push(addresses(all)),
            MatchKind::AddressIs { destination, kinds } => {
                let kinds = list(kinds.iter().map(|kind| address_kind(*kind).to_owned()));
                let side = if *destination { &mut self.to } else { &mut self.from };
                side.push(format!("{not}{kinds}"));
            }
            MatchKind::OriginalDestination(all) => self.more.push(format!("sent to {}", addresses(all))),
            MatchKind::OriginalDestinationPorts(all) => {
                self.more.push(format!("sent to port {not}{}", ports(all)))
            }
            MatchKind::Protocol(Protocol(None)) => {}
            MatchKind::Protocol(protocol) => {
                // Some notations state it twice.
                let name = format!("{not}{}", protocol.name());
                if !self.protocols.contains(&name) {
                    self.protocols.push(name);
                }
            }
            MatchKind::DestinationPorts(all) => self.ports.push(format!("{not}{}", ports(all))),
            MatchKind::SourcePorts(all) => self.ports.push(format!("from port {not}{}", ports(all))),
            MatchKind::EitherPorts(all) => {
                self.ports.push(format!("source or destination {not}{}", ports(all)))
            }
            MatchKind::Icmp(all) => {
                let types = all.iter().map(|one| {
                    let (kind, code) = (one.first >> 8, one.first & 0xff);
                    if one.last == one.first { format!("{kind}/{code}") } else { kind.to_string() }
                });
                self.ports.push(format!("type {not}{}", list(types)));
            }
            MatchKind::Version(family) => {
                self.slight |= !one.negated;
                self.more.push(format!("{not}{family}"));
            }
            MatchKind::States(held) => {
                let new = ConnectionStates { new: true, ..ConnectionStates::default() };
                self.slight |= !one.negated && *held == new;
                self.more.push(format!("{not}{}", states(held)));
            }
            MatchKind::TcpFlags { looked_at, set } => {
                let syn = *looked_at & 0b10 != 0 && *set == 0b10;
                self.more.push(match (syn, one.negated) {
                    (true, false) => "new TCP connections".to_owned(),
                    (true, true) => "no new TCP connections".to_owned(),
                    _ => format!("{not}{}", flags(*looked_at, *set)),
                });
            }
            MatchKind::Reply => self.more.push(format!("{not}answers")),
            MatchKind::Ipsec { leaving: false } => self.more.push(format!("{not}out of IPsec")),
            MatchKind::Ipsec { leaving: true } => self.more.push(format!("{not}into IPsec")),
            MatchKind::User(first, last) => self.more.push(format!("{not}user {}", span(*first, *last))),
            MatchKind::Group(first, last) => self.more.push(format!("{not}group {}", span(*first, *last))),
            MatchKind::AnyOf(alternatives) => self.any_of(one.negated, alternatives),
            MatchKind::ReversePath { .. } => {
                let fits = if one.negated { "not reached" } else { "reached" };
                self.more.push(format!("source {fits} by the incoming interface"));
            }
            MatchKind::NotAnalysed(text) => self.more.push(format!("{not}{text}")),
        }
    }

    /// Alternatives of one kind become a list; others are counted.
    fn any_of(&mut self, negated: bool, alternatives: &[Vec<Match>]) {
        let not = if negated { "not " } else { "" };
        let single = |wanted: &dyn Fn(&MatchKind) -> Option<String>| -> Option<Vec<String>> {
            let one = |list: &Vec<Match>| match list.as_slice() {
                [one] if !one.negated => wanted(&one.kind),
                _ => None,
            };
            alternatives.iter().map(one).collect::<Option<Vec<_>>>().filter(|all| !all.is_empty())
        };
        let entering = single(&|kind| match kind {
            MatchKind::Entering(name) => Some(pattern(name)),
            _ => None,
        });
        let leaving = single(&|kind| match kind {
            MatchKind::Leaving(name) => Some(pattern(name)),
            _ => None,
        });
        let protocols = single(&|kind| match kind {
            MatchKind::Protocol(protocol) => Some(protocol.name()),
            _ => None,
        });
        match (entering, leaving, protocols) {
            (Some(all), _, _) => self.from.insert(0, format!("{not}{}", list(all.into_iter()))),
            (_, Some(all), _) => self.to.insert(0, format!("{not}{}", list(all.into_iter()))),
            (_, _, Some(all)) => self.protocols.push(format!("{not}{}", list(all.into_iter()))),
            _ if alternatives.is_empty() && !negated => self.more.push("never".to_owned()),
            _ if alternatives.is_empty() => {}
            _ => self.more.push(format!("{not}one of {} combinations", alternatives.len())),
        }
    }
}

fn pattern(name: &str) -> String {
    name.strip_suffix('+').map_or_else(|| name.to_owned(), |beginning| format!("{beginning}*"))
}

fn span(first: u32, last: u32) -> String {
    if first == last { first.to_string() } else { format!("{first}-{last}") }
}

fn list(all: impl Iterator<Item = String>) -> String {
    let all: Vec<String> = all.collect();
    if all.len() <= MOST_NAMED {
        return all.join(", ");
    }
    format!("{} and {} more", all[..MOST_NAMED - 1].join(", "), all.len() - MOST_NAMED + 1)
}

fn ports(all: &[PortRange]) -> String {
    list(all.iter().map(ToString::to_string))
}

fn address_kind(kind: AddressKind) -> &'static str {
    match kind {
        AddressKind::Local => "the device itself",
        AddressKind::Broadcast => "broadcast",
        AddressKind::Multicast => "multicast",
        AddressKind::Unicast => "other hosts",
    }
}

fn states(held: &ConnectionStates) -> String {
    let all = [
        ("new", held.new),
        ("established", held.established),
        ("related", held.related),
        ("invalid", held.invalid),
        ("untracked", held.untracked),
        ("SNAT", held.snat),
        ("DNAT", held.dnat),
    ];
    all.iter().filter(|(_, is)| *is).map(|(word, _)| *word).collect::<Vec<_>>().join(" or ")
}

/// The word for a hook.
#[must_use]
pub fn hook_word(hook: Hook) -> &'static str {
    match hook {
        Hook::Prerouting => "prerouting",
        Hook::Input => "input",
        Hook::Forward => "forward",
        Hook::Output => "output",
        Hook::Postrouting => "postrouting",
    }
}
/// TCP flags in words: those that are set, and those that are not.
fn flags(looked_at: u8, set: u8) -> String {
    const NAMES: [&str; 6] = ["FIN", "SYN", "RST", "PSH", "ACK", "URG"];
    let named = |bits: u8| {
        let all = NAMES.iter().enumerate().filter(|(bit, _)| bits >> bit & 1 == 1);
        all.map(|(_, name)| *name).collect::<Vec<_>>().join(", ")
    };
    match (set, looked_at & !set) {
        (0, 0) => "any TCP flags".to_owned(),
        (0, off) => format!("TCP without {}", named(off)),
        (on, 0) => format!("TCP with {}", named(on)),
        (on, off) => format!("TCP with {}, without {}", named(on), named(off)),
    }
}
