//! Every tunnel, as one table: protocol, users and authentication, negotiable algorithms, and routes.
//!
//! Long because each kind of tunnel has details of its own.

use crate::run::Outcome;
use serde::Serialize;
use std::collections::BTreeMap;
use std::fmt;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::crypto::algorithms::{Algorithm, lookup};
use trevlin_analysis::logins::{LoginPath, listener_from, logins};
use trevlin_analysis::verdicts::TunnelVerdict;
use trevlin_checks::secrets::weak_pre_shared_key;
use trevlin_checks::subject::Subject;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::DeviceId;
use trevlin_estate::baseline::Baseline;
use trevlin_estate::evidence::Evidence;
use trevlin_model::certificate::CertificateUse;
use trevlin_model::housekeeping::UnitState;
use trevlin_model::ipsec::{IkeProof, IkeVersions, IpsecConnection};
use trevlin_model::offer::{AlgorithmRole, Offer};
use trevlin_model::plan::AddressPlan;
use trevlin_model::{
    Family, IdleReason, IdleTunnel, IpRange, Origin, Setting, Tunnel, TunnelFamily, TunnelRole,
};

/// One row of the table.
#[derive(Debug, Clone, Serialize)]
pub struct TunnelRow {
    /// Device.
    pub device: String,
    /// Name within the device.
    pub name: String,
    /// Protocol.
    pub protocol: &'static str,
    /// Role of the device: `accepts clients`, `client`, `site-to-site`.
    pub role: &'static str,
    /// The other end: clients of a list, or an address; empty where it is not known.
    pub who: String,
    /// Factors of the other end on the weakest login path; empty where none is required, or they are not known.
    pub factors: Vec<String>,
    /// From where it can be reached, as far as forwards and interfaces tell; empty where that is not known.
    pub from: String,
    /// The weakest negotiable algorithm, with its strength; empty where none was read.
    pub weakest: String,
    /// The grade of the shared key, or the type of the server's own certificate; empty where none was read.
    pub key: TunnelKey,
    /// Traffic that clients send through it: `everything`, `some networks`, or empty where it is not stated.
    pub sends: &'static str,
    /// Addresses assigned to clients.
    pub pools: Vec<String>,
    /// The highest severity of its findings in the areas tunnels, ciphers and logins, `information request`, `no finding`, or `not started`.
    pub verdict: TunnelVerdict,
    /// Path of the export.
    pub path: String,
    /// Line, from 1.
    pub line: u32,
    /// Everything that was read, each with its place.
    pub detail: Vec<Detail>,
}

/// State of a tunnel's key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TunnelKey {
    /// Nothing was read.
    Unknown,
    /// In a file that was not exported.
    NotExported,
    /// A key pair of the one kind that the protocol has.
    Fixed(&'static str),
    /// Both ends share it; its grade.
    Shared(&'static str),
    /// The certificate of this end; what its key is made of.
    Own(String),
}

impl fmt::Display for TunnelKey {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unknown => Ok(()),
            Self::NotExported => out.write_str("not exported"),
            Self::Fixed(kind) => out.write_str(kind),
            Self::Shared(grade) => write!(out, "shared, {grade}"),
            Self::Own(kind) => out.write_str(kind),
        }
    }
}

impl Serialize for TunnelKey {
    fn serialize<S: serde::Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        out.collect_str(self)
    }
}

/// Something that was read of a tunnel.
#[derive(Debug, Clone, Serialize)]
pub struct Detail {
    /// Topic: `version`, `local authentication`, `peer authentication`, `rekeying`, `dead-peer detection`, `child`, `peer`, `listens on`,
    /// `offers`, `pool`, `fixed address`, `remote network`, `routed into it`, `excluded`, `DNS server`, `domain`, `NetBIOS`, `setting`,
    /// `does not start`, `not started`, `finding`.
    pub what: &'static str,
    /// Value.
    pub text: String,
    /// Where, as `path:line`.
    pub place: String,
}

/// The table, in order of device. The outcome is that of an audit of the same estate, of the areas [`AREAS`] at least.
#[must_use]
pub fn tunnels(estate: &Analyses, baseline: &Baseline, outcome: &Outcome) -> Vec<TunnelRow> {
    let judged = judged(outcome);
    let access = logins(estate);
    let mut by_service: BTreeMap<(&str, &str), &LoginPath> = BTreeMap::new();
    for one in access.iter().rev() {
        by_service.insert((&one.device, &one.service), one);
    }
    let mut rows = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in &device.facts.tunnels {
            let login = by_service.get(&(device.name.as_str(), tunnel.name.as_str()));
            let export = estate.export(tunnel.origin.export);
            let known = judged.get(&(DeviceId(at), Subject::tunnel(tunnel)));
            let mut detail = details(estate, tunnel);
            detail.extend(known.into_iter().flat_map(|known| known.findings.iter().cloned()));
            let (key, grade) = key(estate, at, tunnel, baseline);
            let verdict = known.map_or(TunnelVerdict::NoFinding, |known| known.verdict);
            // The finding about the key is about the key, which other connections may have as well.
            let verdict = grade.map_or(verdict, |grade| verdict.max(TunnelVerdict::Finding(grade)));
            let factors = match login {
                Some(login) => login.factors.iter().map(|one| one.words().to_owned()).collect(),
                None => shown(tunnel),
            };
            rows.push(TunnelRow {
                device: device.name.clone(),
                name: estate.masker().mask(&tunnel.name),
                protocol: tunnel.family.name(),
                role: role(tunnel),
                who: estate.masker().mask(&login.map_or_else(|| other_end(tunnel), |one| one.who.clone())),
                factors,
                from: match login {
                    Some(login) => login.from.clone(),
                    None => tunnel
                        .listeners
                        .first()
                        .map(|listener| listener_from(estate, at, listener))
                        .unwrap_or_default(),
                },
                weakest: weakest(&tunnel.offers)
                    .map(|one| format!("{} ({})", one.name, one.status.word()))
                    .unwrap_or_default(),
                key,
                sends: sends(&tunnel.addresses),
                pools: pools(&tunnel.addresses),
                verdict,
                path: export.path().to_owned(),
                line: export.line_of(tunnel.origin.start),
                detail,
            });
        }
        rows.extend(device.facts.idle_tunnels.iter().map(|idle| not_started(estate, at, idle)));
    }
    rows
}

/// The row of a tunnel that nothing starts.
fn not_started(estate: &Analyses, at: usize, idle: &IdleTunnel) -> TunnelRow {
    let tunnel = &idle.tunnel;
    let export = estate.export(tunnel.origin.export);
    let (state, place) = match &idle.why {
        IdleReason::Unit(unit) => {
            let state = match unit.state {
                UnitState::Masked | UnitState::Disabled => unit.words(),
                UnitState::Enabled | UnitState::Static => {
                    format!("no unit starts it; `{}` starts another one", unit.name)
                }
            };
            (state, unit.origin)
        }
        IdleReason::NotIncluded => {
            ("the configuration in force does not include this file".to_owned(), tunnel.origin)
        }
        IdleReason::Profile => {
            ("a profile for clients of this device, which nothing starts here".to_owned(), tunnel.origin)
        }
        IdleReason::Retired => ("no program reads a file of this name".to_owned(), tunnel.origin),
    };
    let mut detail = vec![Detail { what: "not started", text: state, place: estate.place(place) }];
    detail.extend(details(estate, tunnel));
    TunnelRow {
        device: estate.devices[at].name.clone(),
        name: estate.masker().mask(&tunnel.name),
        protocol: tunnel.family.name(),
        role: role(tunnel),
        who: estate.masker().mask(&other_end(tunnel)),
        factors: Vec::new(),
        from: String::new(),
        weakest: String::new(),
        key: TunnelKey::Unknown,
        sends: sends(&tunnel.addresses),
        pools: pools(&tunnel.addresses),
        verdict: TunnelVerdict::NotStarted,
        path: export.path().to_owned(),
        line: export.line_of(tunnel.origin.start),
        detail,
    }
}

fn role(tunnel: &Tunnel) -> &'static str {
    match tunnel.role {
        TunnelRole::Server => "accepts clients",
        TunnelRole::Client => "client",
        TunnelRole::PointToPoint => "site-to-site",
    }
}

/// The other end of a tunnel that is not for remote access.
fn other_end(tunnel: &Tunnel) -> String {
    if let Some(ipsec) = &tunnel.ipsec {
        let named =
            ipsec.remote.iter().filter(|round| !round.anybody()).find_map(|round| round.identity.as_ref());
        return match (named, ipsec.remote_addresses.first()) {
            (Some((name, _)), _) | (None, Some((name, _))) => name.clone(),
            (None, None) => "any user".into(),
        };
    }
    if let Some((remote, _)) =
        tunnel.stated("remote").or_else(|| tunnel.stated("connect")).or_else(|| tunnel.stated("lns"))
    {
        return remote.split(' ').next().unwrap_or(remote).to_owned();
    }
    let peers: Vec<&str> = tunnel.peers.iter().map(|peer| peer.who.as_str()).collect();
    match peers.as_slice() {
        [] => String::new(),
        [only] => (*only).to_owned(),
        [first, rest @ ..] => format!("{first} and {} more", rest.len()),
    }
}

/// Authentication of the other end of a tunnel that is not for remote access.
fn shown(tunnel: &Tunnel) -> Vec<String> {
    if let Some(ipsec) = &tunnel.ipsec {
        let rounds = ipsec.remote.iter().filter_map(|round| round.proof.possible().next());
        return rounds.map(IkeProof::words).collect();
    }
    match tunnel.family {
        TunnelFamily::WireGuard => vec!["key of the peer".into()],
        _ if tunnel.proof.shared_key.is_some() => vec!["shared key".into()],
        _ if tunnel.encrypts_nothing() => vec!["none".into()],
        TunnelFamily::OpenVpn => vec!["certificate".into()],
        _ => Vec::new(),
    }
}

/// The grade of the shared key of both ends, with the severity of a weak one; or the type of the certificate of this end.
fn key(estate: &Analyses, at: usize, tunnel: &Tunnel, baseline: &Baseline) -> (TunnelKey, Option<Severity>) {
    if tunnel.family == TunnelFamily::WireGuard {
        return (TunnelKey::Fixed("Curve25519"), None);
    }
    if let Some(ipsec) = tunnel.ipsec.as_ref().filter(|one| one.shared_key().is_some()) {
        let keys = trevlin_analysis::crypto::shared_keys::keys_of(estate, at, ipsec);
        let worst = keys
            .iter()
            .map(|key| weak_pre_shared_key::grade(estate, at, key, baseline))
            .min_by_key(|(rank, _)| *rank);
        let severity = worst.and_then(|(rank, _)| weak_pre_shared_key::severity(rank));
        return (worst.map_or(TunnelKey::NotExported, |(_, word)| TunnelKey::Shared(word)), severity);
    }
    let own = match trevlin_analysis::crypto::certificates::of_tunnel(estate, at, tunnel, CertificateUse::Own)
    {
        Ok(found) => found.first().map_or(TunnelKey::Unknown, |(one, _)| TunnelKey::Own(one.key.words())),
        Err(_) => TunnelKey::NotExported,
    };
    (own, None)
}

/// Results of the checks on one tunnel.
struct Judged {
    verdict: TunnelVerdict,
    findings: Vec<Detail>,
}

/// The areas whose checks are about tunnels.
pub const AREAS: [Area; 3] = [Area::Logins, Area::Tunnels, Area::Ciphers];

/// Results of an audit by subject, in the order of its checks.
fn judged(outcome: &Outcome) -> BTreeMap<&(DeviceId, Subject), Judged> {
    struct Said<'a> {
        check: &'static str,
        about: &'a (DeviceId, Subject),
        verdict: TunnelVerdict,
        text: String,
        evidence: &'a [Evidence],
    }
    let mut all = Vec::new();
    for one in outcome.findings().filter(|one| AREAS.contains(&one.area)) {
        let Some(about) = &one.about else { continue };
        let text = format!("{}: {}", one.severity.word(), one.title);
        let verdict = TunnelVerdict::Finding(one.severity);
        all.push(Said { check: one.check, about, verdict, text, evidence: &one.evidence });
    }
    for one in outcome.open_questions.iter().filter(|one| AREAS.contains(&one.area)) {
        let text = format!("information request: {}", one.question);
        let verdict = TunnelVerdict::Undetermined;
        all.push(Said { check: one.check, about: &one.about, verdict, text, evidence: &one.evidence });
    }
    all.sort_by_key(|one| one.check);
    let mut found: BTreeMap<&(DeviceId, Subject), Judged> = BTreeMap::new();
    for Said { about, verdict, text, evidence, .. } in all {
        let place = evidence.first().map(|one| format!("{}:{}", one.path, one.line)).unwrap_or_default();
        let known = found.entry(about).or_insert_with(|| Judged { verdict, findings: Vec::new() });
        known.verdict = known.verdict.max(verdict);
        known.findings.push(Detail { what: "finding", text, place });
    }
    found
}

/// The weakest algorithm that may be agreed on; of one kind of strength the first.
fn weakest(offers: &[Offer]) -> Option<&'static Algorithm> {
    let all = offers.iter().flat_map(|offer| offer.algorithms.iter().map(move |one| (offer.spelling, one)));
    // A protocol version is reported where it is weak, and the choice of algorithms otherwise.
    let telling = |one: &&Algorithm| one.role() != AlgorithmRole::Protocol || one.status.severity().is_some();
    let known = all.filter_map(|(spelling, one)| lookup(spelling, one.role, &one.name)).filter(telling);
    known.min_by_key(|algorithm| algorithm.status)
}

fn sends(plan: &AddressPlan) -> &'static str {
    let everything = |family| plan.sent_through.iter().any(|(range, _)| *range == IpRange::all(family));
    if everything(Family::V4) || everything(Family::V6) {
        "all traffic"
    } else if plan.sent_through.is_empty() && plan.remote.is_empty() {
        ""
    } else {
        "some networks"
    }
}

fn pools(plan: &AddressPlan) -> Vec<String> {
    let whole = |pool: &trevlin_model::Pool| match pool.network {
        _ if !pool.malformed.is_empty() => vec!["malformed".to_owned()],
        Some(net) => vec![net.to_string()],
        None => pool.ranges.iter().map(|(range, _)| range.short()).collect(),
    };
    plan.pools.iter().flat_map(whole).collect()
}

/// Everything that was read, with its places.
fn details(estate: &Analyses, tunnel: &Tunnel) -> Vec<Detail> {
    let mut found = Vec::new();
    let mut add = |what, text: String, origin: Origin| {
        found.push(Detail { what, text: estate.masker().mask_sentence(&text), place: estate.place(origin) });
    };
    if let Some((why, origin)) = &tunnel.refused {
        add("does not start", why.clone(), *origin);
    }
    for listener in &tunnel.listeners {
        let address = match listener.address.value() {
            Some(Some(address)) => address.to_string(),
            Some(None) => "any address".into(),
            None => "an unknown address".into(),
        };
        let port = listener.port.value().map_or_else(|| "an unknown port".into(), u16::to_string);
        let stated = listener.port.origin().or(listener.address.origin()).unwrap_or(tunnel.origin);
        add("listens on", format!("{address}, {} {port}", listener.protocol.name()), stated);
    }
    if let Some(ipsec) = &tunnel.ipsec {
        ike(ipsec, tunnel.origin, &mut add);
    }
    for peer in &tunnel.peers {
        let allowed: Vec<_> = peer.allowed.iter().map(|(range, _)| range.short()).collect();
        let where_to = peer.endpoint.as_ref().map_or(String::new(), |end| format!(", connected to at {end}"));
        let more = if peer.shared_key.is_some() { ", with an additional pre-shared key" } else { "" };
        add("peer", format!("{}: {}{where_to}{more}", peer.who, allowed.join(", ")), peer.origin);
    }
    for offer in &tunnel.offers {
        for one in &offer.algorithms {
            let known = match lookup(offer.spelling, one.role, &one.name) {
                Some(algorithm) => {
                    format!("{}, {} ({})", algorithm.name, algorithm.status.word(), algorithm.source)
                }
                None => "not in the table".to_owned(),
            };
            let versions = one.versions.map(|versions| format!(", {versions}")).unwrap_or_default();
            let default = one.default.map(|source| format!(", by default ({source})")).unwrap_or_default();
            add(
                "offers",
                format!("{} for {}: {known}{versions}{default}", one.name, offer.part.words()),
                one.origin,
            );
        }
    }
    let plan = &tunnel.addresses;
    for (range, origin) in plan.pools.iter().flat_map(trevlin_model::Pool::allocations) {
        add("pool", range.short(), origin);
    }
    for fixed in &plan.fixed {
        add("fixed address", format!("{} for {}", fixed.range.short(), fixed.who), fixed.origin);
    }
    for (what, list) in [
        ("remote network", &plan.remote),
        ("routed into it", &plan.sent_through),
        ("excluded", &plan.kept_out),
        ("DNS server", &plan.name_servers),
    ] {
        for (range, origin) in list {
            add(what, range.short(), *origin);
        }
    }
    for (what, list) in [("domain", &plan.domains), ("NetBIOS", &plan.netbios)] {
        for (text, origin) in list {
            add(what, text.clone(), *origin);
        }
    }
    for (name, setting) in &tunnel.settings {
        if let Some((value, origin)) = setting.stated() {
            add("setting", format!("{name} {value}"), origin);
        }
    }
    found
}

/// Properties of IKE and IPsec.
fn ike(ipsec: &IpsecConnection, line: Origin, add: &mut impl FnMut(&'static str, String, Origin)) {
    let versions = |one: &IkeVersions| match one {
        IkeVersions::First => "IKEv1",
        IkeVersions::Second => "IKEv2",
        IkeVersions::Both => "IKEv1 or IKEv2",
    };
    let told: Vec<_> = ipsec.versions.possible().map(versions).collect();
    let stated = if ipsec.versions.origin().is_some() { "" } else { ", by default" };
    let aggressive = if ipsec.aggressive.is_some() { ", aggressive mode" } else { "" };
    let origin = ipsec.aggressive.or(ipsec.versions.origin()).unwrap_or(line);
    add("version", format!("{}: {}{aggressive}{stated}", ipsec.daemon.name(), told.join(" or ")), origin);
    for (what, rounds) in [("local authentication", &ipsec.local), ("peer authentication", &ipsec.remote)] {
        for round in rounds {
            let proof = round.proof.possible().next().map(IkeProof::words).unwrap_or_default();
            let who = round.identity.as_ref().map_or("any peer", |(name, _)| name);
            let narrowed = if round.narrowed.is_some() { ", pinned" } else { "" };
            let origin = round.proof.origin().or(round.identity.as_ref().map(|(_, at)| *at)).unwrap_or(line);
            add(what, format!("{proof} of {who}{narrowed}"), origin);
        }
    }
    let seconds = |setting: &Setting<u64>| match setting.value() {
        Some(0) => "never".to_owned(),
        Some(value) => format!("every {value} s"),
        None => "after the default time of the version".to_owned(),
    };
    add("rekeying", format!("{} for IKE", seconds(&ipsec.rekey)), ipsec.rekey.origin().unwrap_or(line));
    let liveness = match ipsec.liveness.value() {
        Some(0) | None => "none".to_owned(),
        Some(value) => format!("after {value} s of silence"),
    };
    add("dead-peer detection", liveness, ipsec.liveness.origin().unwrap_or(line));
    for child in &ipsec.children {
        let mode = child.mode.value().map_or("", |mode| mode.word());
        add(
            "child",
            format!(
                "{} {mode}: {} to {}, rekeying {}",
                child.name,
                child.local.texts.join(", "),
                child.remote.texts.join(", "),
                seconds(&child.rekey)
            ),
            child.origin,
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_analysis::testing::estate;

    #[test]
    fn rows() {
        let estate = estate(&[
            (
                "a/s.conf",
                "dev tun\nserver 10.8.0.0 255.255.255.0\ndata-ciphers AES-256-GCM:BF-CBC\nauth SHA256\npush \"redirect-gateway def1\"\ntls-crypt k\n",
            ),
            (
                "a/ipsec.conf",
                "conn yard\n\tauto=start\n\tkeyexchange=ikev2\n\tright=198.51.100.9\n\trightsubnet=10.7.0.0/16\n\tike=aes256gcm16-prfsha384-ecp384!\n\tesp=aes256gcm16-ecp384!\n",
            ),
            (
                "b/wg0.conf",
                "[Interface]\nPrivateKey=k\nAddress=10.9.0.1/24\n[Peer]\nAllowedIPs=10.9.0.2/32\n",
            ),
        ]);
        let baseline = Baseline::on(jiff::civil::date(2026, 11, 25));
        let rows = tunnels(&estate, &baseline, &crate::audit(&estate, &baseline));
        let told: Vec<_> = rows
            .iter()
            .map(|row| {
                format!(
                    "{} {} {} [{}] {} [{}] {}",
                    row.device,
                    row.protocol,
                    row.role,
                    row.weakest,
                    row.sends,
                    row.pools.join(" "),
                    row.verdict.word()
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "a OpenVPN accepts clients [Blowfish (deprecated)] all traffic [10.8.0.0/24] medium",
                "a IPsec site-to-site [AES-GCM, 256 bits (recommended)] some networks [] low",
                "b WireGuard accepts clients [BLAKE2 (acceptable)]  [10.9.0.0/24] medium",
            ]
        );
        let detail = |row: usize, what: &str| rows[row].detail.iter().filter(|one| one.what == what).count();
        assert_eq!(
            (detail(0, "offers"), detail(0, "pool"), detail(1, "remote network"), detail(2, "fixed address")),
            (3, 1, 1, 1)
        );
        assert!(rows[0].detail.iter().any(|one| one.what == "finding" && one.place == "a/s.conf:3"));
    }
}
