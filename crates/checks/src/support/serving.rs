//! Configured services, with the properties that affect the severity of a fault: whether they run, and who reaches them.

use crate::check::{Answer, Fail, HeldBy, Verdict};
use crate::rating::Rating;
use crate::subject::Subject;
use crate::support::relays::{lines as lines_of_relay, strongest_login};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::{Exposure, Reachable};
use trevlin_analysis::own_filter::limited_to_named;
use trevlin_analysis::relays::{RelayTarget, Relayed};
use trevlin_analysis::services::{What, switched_off};
use trevlin_analysis::ways::{cited, some_ranges};
use trevlin_estate::area::Severity;
use trevlin_estate::baseline::Thresholds;
use trevlin_estate::special::public_ranges;
use trevlin_model::served::{
    APPLIANCE, AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, Sources,
};
use trevlin_model::{Family, IpRange, IpRangeSet, Origin, Setting};

/// A service of a device.
#[derive(Clone, Copy)]
pub(crate) struct ServiceCase<'a> {
    pub(crate) estate: &'a Analyses,
    pub(crate) device: usize,
    number: usize,
    pub(crate) served: &'a Served,
}

/// Services of one device that their program would start with.
pub(crate) fn of_device(estate: &Analyses, device: usize) -> impl Iterator<Item = ServiceCase<'_>> {
    let all = estate.devices[device].facts.served.iter().enumerate();
    all.filter(|(_, served)| served.refused.is_none()).map(move |(number, served)| ServiceCase {
        estate,
        device,
        number,
        served,
    })
}

/// Services of some kinds, of every device.
pub(crate) fn of_kinds<'a>(
    estate: &'a Analyses,
    kinds: &'a [ServedKind],
) -> impl Iterator<Item = ServiceCase<'a>> + 'a {
    (0..estate.devices.len())
        .flat_map(move |device| of_device(estate, device))
        .filter(move |one| kinds.contains(&one.served.kind))
}

/// Who reaches something.
pub(crate) enum Who<'a> {
    /// No client, since it is disabled.
    Off(Origin),
    /// Any Internet address.
    Outside(&'a Reachable),
    /// Some Internet addresses.
    SomeOutside(&'a Reachable),
    /// Internet addresses, through a relay whose address is permitted.
    Relayed(&'a Relayed),
    /// RemoteClients of a tunnel, by its name.
    RemoteClients(&'a str, &'a Reachable),
    /// Internal networks, as far as the exports show.
    Inside,
}

impl<'a> ServiceCase<'a> {
    /// Whether hosts other than the device may reach it: it is not disabled, and not limited to the device.
    pub(crate) fn is_met(&self) -> bool {
        trevlin_analysis::services::is_met(&self.estate.devices[self.device], self.served)
    }

    /// The device's name.
    pub(crate) fn device_name(&self) -> &'a str {
        &self.estate.devices[self.device].name
    }

    /// Its name with that of the device.
    pub(crate) fn title(&self) -> String {
        self.served.name.clone()
    }

    /// It is right by the login that a resource requires.
    pub(crate) fn holds_by_login(&self, part: &ServiceResource) -> Verdict {
        Verdict::pass_setting(&part.login, part.origin)
    }

    /// It is right by a limit on who reaches a resource: its own sources, the packet filter of the device, or the place where it listens.
    pub(crate) fn holds_by_limit(&self, part: &ServiceResource) -> Verdict {
        let sources = part.sources.origins.iter().copied();
        let local = self.served.endpoints.iter().filter(|one| one.is_local()).map(|one| one.origin);
        // Looking through the filter takes long, and is of no use where the service itself names its sources.
        let filter = part.sources.is_everybody().then(|| self.filter_limit()).flatten();
        Verdict::pass_by(sources.chain(local).chain(filter), part.origin).by(HeldBy::Sources)
    }

    /// It is right by the encryption of a resource, or of the places where it listens.
    pub(crate) fn holds_on_the_way(&self, part: &ServiceResource) -> Verdict {
        let encryption = part.encryption.as_ref().and_then(Setting::origin);
        let places = self.served.endpoints.iter().map(|one| one.origin);
        Verdict::pass_by(encryption.into_iter().chain(places), part.origin)
    }

    /// It is right by the places where it listens.
    pub(crate) fn holds(&self) -> Verdict {
        Verdict::pass_by(self.served.endpoints.iter().map(|one| one.origin), self.served.origin)
    }

    /// An iSCSI target with its name. An appliance states one service for all its targets, so that the name of the service is none.
    pub(crate) fn target(&self, part: &ServiceResource) -> String {
        match self.served.program {
            APPLIANCE if !part.name.is_empty() => format!("iSCSI target {}", part.name),
            _ => self.served.name.clone(),
        }
    }

    /// A resource with its service; the service alone where the resource is all of it.
    pub(crate) fn part(&self, part: &ServiceResource) -> String {
        match part.title() {
            title if title == self.served.name => title,
            title => format!("{title} of {}", self.served.name),
        }
    }

    /// Reachability of one of its resources in a list of results.
    fn reached_in<'e>(&self, exposure: &'e Exposure, sources: &Sources) -> Option<&'e Reachable> {
        let services = &self.estate.internet().services[self.device];
        let mine = |one: &&Reachable| {
            let same_place = |number: usize, kind: ServedKind| {
                let other = &self.estate.devices[self.device].facts.served[number];
                let place = &services[one.service];
                kind == self.served.kind
                    && other.program == self.served.program
                    && self
                        .served
                        .endpoints
                        .iter()
                        .any(|at| at.port == place.port && at.address == place.address)
            };
            let of_it = match services[one.service].what {
                What::Served(number, kind) => number == self.number || same_place(number, kind),
                _ => false,
            };
            of_it && admits(sources, &one.sources)
        };
        exposure.reached_of(self.device).filter(mine).min_by_key(|one| (!one.certain, !one.everybody))
    }

    /// The relay by which Internet addresses reach it. Pages are left out: a relay passes some paths only.
    fn relayed(&self, sources: &Sources) -> Option<&'a Relayed> {
        let internet = self.estate.internet();
        let of_it = |one: &&Relayed| match one.target {
            RelayTarget::Service { device, service } if device == self.device => {
                match internet.services[device][service].what {
                    What::Served(number, _) => number == self.number,
                    _ => false,
                }
            }
            _ => false,
        };
        let open = |one: &&Relayed| {
            strongest_login(self.estate, one).is_none_or(|login| login <= AuthRequirement::Password)
        };
        let fitting = internet.relayed.iter().filter(of_it).filter(open);
        fitting
            .filter(|one| {
                self.served.kind != ServedKind::Pages && one.certain && admits(sources, &one.seen_as)
            })
            .min_by_key(|one| !one.everybody)
    }

    /// Clients that reach a resource open to these sources.
    pub(crate) fn who(&self, sources: &Sources) -> Who<'a> {
        if let Some(line) = switched_off(&self.estate.devices[self.device], self.served) {
            return Who::Off(line);
        }
        if let Some(reached) = self.reached_in(&self.estate.internet().outside, sources) {
            return if reached.everybody && sources.is_everybody() {
                Who::Outside(reached)
            } else {
                Who::SomeOutside(reached)
            };
        }
        if let Some(relayed) = self.relayed(sources) {
            return Who::Relayed(relayed);
        }
        let all = &self.estate.shape().clients;
        let by = self.estate.internal().coming_to(self.device).filter_map(|(number, exposure)| {
            Some((all[number].tunnel.as_str(), self.reached_in(exposure, sources)?))
        });
        by.min_by_key(|one| !one.1.certain)
            .map_or(Who::Inside, |(tunnel, reached)| Who::RemoteClients(tunnel, reached))
    }

    /// The line by which the device's own packet filter limits every port of it to named sources.
    pub(crate) fn filter_limit(&self) -> Option<Origin> {
        let mut line = None;
        let reached = |one: &&Endpoint| !one.address.is_some_and(|address| address.is_loopback());
        for endpoint in self.served.endpoints.iter().filter(reached) {
            let (protocol, port) = (endpoint.protocol.0?, endpoint.port);
            line = Some(limited_to_named(self.estate, self.device, protocol, port)?);
        }
        line
    }

    /// A rating for resources limited to these sources: one level lower, but not where they are as many as a site has, nor where VPN
    /// clients are among them.
    pub(crate) fn limited(&self, base: Rating, sources: &Sources) -> Rating {
        let wide =
            |range: &IpRange| range.size() >= if range.family() == Family::V4 { SITE_V4 } else { SITE_V6 };
        if sources.is_everybody()
            || sources.ranges.iter().any(wide)
            || matches!(self.who(sources), Who::RemoteClients(..))
        {
            return base;
        }
        base.lowered("not every source address is permitted")
    }

    /// Severity of a fault that affects clients from these sources: one level higher for any Internet address, at most low for disabled
    /// services; with the lines that prove it.
    pub(crate) fn rate(&self, base: Rating, sources: &Sources) -> (Rating, Vec<Origin>) {
        let lines = |reached: &Reachable| -> Vec<Origin> {
            reached.forward.into_iter().chain(cited(&reached.steps)).collect()
        };
        match self.who(sources) {
            Who::Off(line) => (base.at_most(Severity::Low, "the service is disabled"), vec![line]),
            Who::Outside(reached) if reached.certain => {
                (base.raised("reachable from the Internet"), lines(reached))
            }
            Who::Outside(reached) => (
                base.because("a condition not analysed decides whether it is reachable from the Internet"),
                lines(reached),
            ),
            Who::SomeOutside(reached) => {
                let some = some_ranges(&reached.sources);
                (base.because(format!("reachable from the Internet by {some}")), lines(reached))
            }
            Who::Relayed(relayed) => {
                let relay = &relayed.last(self.estate).name;
                let rating = if relayed.everybody {
                    base.raised(format!("reachable from the Internet through {relay}"))
                } else {
                    let some = some_ranges(&relayed.clients);
                    base.because(format!("reachable from the Internet by {some} through {relay}"))
                };
                (rating, lines_of_relay(self.estate, relayed))
            }
            Who::RemoteClients(tunnel, reached) => {
                (base.because(format!("reachable by VPN clients of {tunnel}")), lines(reached))
            }
            Who::Inside if sources.is_everybody() => match self.filter_limit() {
                Some(line) => (
                    base.lowered("the packet filter of the device blocks sources that no rule names"),
                    vec![line],
                ),
                None => (base.because("reachable from internal networks"), Vec::new()),
            },
            Who::Inside => (base.because(format!("permitted sources: {}", sources.words())), Vec::new()),
        }
    }

    /// A fault in one of its parts.
    pub(crate) fn fail(
        &self,
        base: Rating,
        part: &ServiceResource,
        title: String,
        detail: String,
        lines: Vec<Origin>,
    ) -> Verdict {
        self.fail_of(base, &part.sources, title, detail, lines)
    }

    /// A fault that affects clients from these sources.
    pub(crate) fn fail_of(
        &self,
        base: Rating,
        sources: &Sources,
        title: String,
        detail: String,
        lines: Vec<Origin>,
    ) -> Verdict {
        let (rating, more) = self.rate(base, sources);
        let mut evidence = lines;
        evidence.extend(more);
        // Several statements may share a line.
        let mut seen = Vec::new();
        evidence.retain(|origin| {
            let place = (origin.export, self.estate.export(origin.export).line_of(origin.start));
            let new = !seen.contains(&place);
            seen.push(place);
            new
        });
        Verdict::Fail(Fail { rating, title: title.into(), detail: detail.into(), evidence })
    }

    /// A request for the authentication of a resource, where its files do not determine it: the version decides, or another program.
    pub(crate) fn ask_login(&self, part: &ServiceResource) -> Verdict {
        let why = match &part.login {
            Setting::Unknown { why } => why.clone(),
            Setting::Default(rows) => {
                let told: Vec<String> =
                    rows.iter().map(|row| format!("{} ({})", row.value.words(), row.versions)).collect();
                format!("it depends on the version: {}", told.join(", "))
            }
            Setting::Stated { .. } => String::new(),
        };
        let question = format!(
            "Please state the authentication that {} requires ({why}): provide the version in use or the result of a test.",
            self.part(part)
        );
        Verdict::ask(question, vec![part.origin])
    }

    /// A question about what its files leave open, where there is one.
    pub(crate) fn open(&self) -> Option<Verdict> {
        let (question, line) = self.served.open.first()?;
        Some(Verdict::ask(format!("{}: {question}", self.title()), vec![*line]))
    }

    /// The request for a requirement that the description of an appliance does not state: no default of a program applies there.
    pub(crate) fn unsaid(&self, stated: Option<&Setting<Requirement>>, what: &str) -> Option<Verdict> {
        let described = self.estate.described(self.device)?;
        if stated.is_some_and(|setting| !matches!(setting, Setting::Unknown { .. })) {
            return None;
        }
        let about = format!("whether {} requires {what}", self.title());
        Some(Verdict::ask(described.request(&about), vec![self.served.origin]))
    }

    /// The same as an answer about the whole service, for checks that answer part by part.
    pub(crate) fn open_answer(&self) -> Option<Answer> {
        Some(Answer::new(self.device, Subject::served(self.served), self.open()?))
    }
}

/// Addresses of a whole site: a /16 of IPv4, a /48 of IPv6 (RFC 6177).
const SITE_V4: u128 = 1 << 16;
const SITE_V6: u128 = 1 << 80;

/// Whether the permitted hosts are so few that the limit is an effective protection.
pub(crate) fn is_few(sources: &Sources, thresholds: &Thresholds) -> bool {
    sources.names.is_empty()
        && trevlin_model::total_addresses(&sources.ranges) <= u128::from(thresholds.few_addresses)
}

/// Answers of a check about each part that relays for clients, of services of a kind beyond the device itself.
pub(crate) fn each_relaying(
    estate: &Analyses,
    kind: ServedKind,
    judge: impl Fn(ServiceCase<'_>, &ServiceResource) -> Verdict,
) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[kind]).filter(|one| !one.served.is_local()) {
        for part in one.served.parts.iter().filter(|part| part.kind == PartKind::Relaying) {
            let verdict = match judge(one, part) {
                // What is missing may permit more, and not less.
                pass @ Verdict::Pass(_) => one.open().unwrap_or(pass),
                fail => fail,
            };
            answers.push(Answer::new(one.device, Subject::part(one.served, part), verdict));
        }
    }
    answers
}

/// Public addresses among these, where those of IPv4 are more than the servers of an organisation.
pub(crate) fn wide_public(ranges: &[IpRange]) -> Option<Vec<IpRange>> {
    const MOST: u128 = 65_536;
    let all: IpRangeSet = ranges.iter().copied().collect();
    let public = all.intersection(&public_ranges()).into_ranges();
    let of_v4 = public.iter().filter(|range| range.family() == Family::V4).map(IpRange::size).sum::<u128>();
    (of_v4 > MOST).then_some(public)
}

/// Whether any of the sources that reach it is permitted; names count as permitted sources.
fn admits(sources: &Sources, reached: &[IpRange]) -> bool {
    !sources.names.is_empty()
        || sources.ranges.iter().any(|one| reached.iter().any(|other| one.intersection(other).is_some()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, small};

    fn told(one: &Small<'_>) -> Vec<String> {
        let estate = small(one);
        let gate = estate.devices.iter().position(|device| device.name == "gate").unwrap();
        of_device(&estate, gate)
            .map(|subject| {
                let sources = &subject.served.parts[0].sources;
                let (rating, lines) = subject.rate(Rating::new(Severity::Medium), sources);
                format!("{} {} {}", rating.severity().word(), rating.sentence(), lines.len())
            })
            .collect()
    }

    #[test]
    fn who_reaches_it_decides_how_grave_it_is() {
        const CACHE: &str = "gate/etc/redis/redis.conf";
        let open = "-A INPUT -p tcp --dport 6379 -j ACCEPT\n";
        let some = "-A INPUT -s 198.51.100.44 -p tcp --dport 6379 -j ACCEPT\n";
        let text = "bind 0.0.0.0\nprotected-mode no\n";
        let inner = "-A INPUT -i eth1 -j ACCEPT\n";
        let clients = "-A INPUT -i wg0 -p tcp --dport 6379 -j ACCEPT\n";
        let tunnel = (
            "gate/wg0.conf",
            "[Interface]\nAddress = 192.168.77.1/24\nListenPort = 51820\n[Peer]\nAllowedIPs = 192.168.77.2/32\n",
        );
        let off = ("gate/units.txt", "UNIT FILE STATE PRESET\nredis-server.service disabled enabled\n");
        let base = Small { rules: open, ..Small::default() };
        for (rules, more, wanted) in [
            (open, &[(CACHE, text)][..], "high base medium; raised: reachable from the Internet 1"),
            (some, &[(CACHE, text)], "medium base medium: reachable from the Internet by 198.51.100.44 1"),
            (inner, &[(CACHE, text)], "medium base medium: reachable from internal networks 0"),
            (
                "",
                &[(CACHE, text)],
                "low base medium; lowered: the packet filter of the device blocks sources that no rule names 1",
            ),
            (
                clients,
                &[(CACHE, text), tunnel],
                "medium base medium: reachable by VPN clients of WireGuard wg0 1",
            ),
            (inner, &[(CACHE, text), tunnel], "medium base medium: reachable from internal networks 0"),
            (open, &[(CACHE, text), off], "low base medium; lowered: the service is disabled 1"),
        ] {
            assert_eq!(told(&Small { rules, more, ..base }), [wanted]);
        }
    }
}
