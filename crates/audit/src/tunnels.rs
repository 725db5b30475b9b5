//! Every tunnel, as one table: which protocol, who comes in and how, what may be agreed on, what goes through it.

use crate::access::logins;
use crate::algorithms::{Algorithm, lookup};
use crate::checks::CHECKS;
use crate::{Area, Estate, Severity, Verdict, Yardstick};
use serde::Serialize;
use std::collections::BTreeMap;
use trevlin_model::offer::Offer;
use trevlin_model::plan::AddressPlan;
use trevlin_model::{Family, IpRange, Origin, Tunnel, TunnelRole};

/// One row of the table.
#[derive(Debug, Clone, Serialize)]
pub struct TunnelRow {
    /// Device.
    pub device: String,
    /// Name within the device.
    pub name: String,
    /// Protocol.
    pub protocol: &'static str,
    /// What the device is in it: `answers callers`, `calls`, `joins sites`, or `not known`.
    pub role: &'static str,
    /// Factors of the easiest way in; empty where none is asked for, or they are not known.
    pub factors: Vec<&'static str>,
    /// From where it can be reached, as far as forwards and interfaces tell; empty where that is not known.
    pub from: String,
    /// The weakest algorithm that may be agreed on, with what is known of it; empty where none was read.
    pub weakest: String,
    /// What callers send through it: `everything`, `some networks`, or empty where nothing is stated.
    pub sends: &'static str,
    /// What callers are given.
    pub pools: Vec<String>,
    /// The gravest finding about it in the areas tunnels, ciphers and logins, `open question`, or `no finding`.
    pub verdict: String,
    /// Path of the export.
    pub path: String,
    /// Line, from 1.
    pub line: u32,
    /// Everything that was read, each with its place.
    pub detail: Vec<Detail>,
}

/// Something that was read of a tunnel.
#[derive(Debug, Clone, Serialize)]
pub struct Detail {
    /// What it is about: `offers`, `pool`, `fixed address`, `behind it`, `sent through it`, `name server`, `finding`.
    pub what: &'static str,
    /// What was read.
    pub text: String,
    /// Where, as `path:line`.
    pub place: String,
}

/// The table, in order of device.
#[must_use]
pub fn tunnels(estate: &Estate, yardstick: &Yardstick) -> Vec<TunnelRow> {
    let judged = judged(estate, yardstick);
    let access = logins(estate);
    let mut rows = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut row = |name: &str,
                       protocol,
                       role,
                       plan: &AddressPlan,
                       offers: &[Offer],
                       origin: Origin,
                       whole: bool| {
            let login = access.iter().find(|one| one.device == device.name && one.service == name);
            let export = estate.export(origin.export);
            let known = judged.get(&(at, name.to_owned()));
            let mut detail = details(estate, plan, offers);
            detail.extend(known.into_iter().flat_map(|known| known.findings.iter().cloned()));
            rows.push(TunnelRow {
                device: device.name.clone(),
                name: estate.masker().mask(name),
                protocol,
                role,
                factors: login.map(|one| one.factors.clone()).unwrap_or_default(),
                from: login.map(|one| one.from.clone()).unwrap_or_default(),
                weakest: weakest(offers)
                    .map(|one| format!("{} ({})", one.name, one.status.word()))
                    .unwrap_or_default(),
                sends: sends(plan),
                pools: pools(plan),
                verdict: match known {
                    Some(known) => known.verdict.clone(),
                    None if whole => "no finding".to_owned(),
                    // What is read in part only is not judged as a whole.
                    None => "open question".to_owned(),
                },
                path: export.path().to_owned(),
                line: export.position(origin.start).line,
                detail,
            });
        };
        for tunnel in &device.facts.tunnels {
            row(
                &tunnel.name,
                tunnel.family.name(),
                role(tunnel),
                &tunnel.addresses,
                &tunnel.offers,
                tunnel.origin,
                true,
            );
        }
        for one in &device.facts.tunnel_plans {
            let role = if !one.plan.pools.is_empty() {
                "answers callers"
            } else if !one.plan.remote.is_empty() {
                "joins sites"
            } else if !one.plan.sent_through.is_empty() {
                "calls"
            } else {
                "not known"
            };
            row(&one.name, one.family.name(), role, &one.plan, &one.offers, one.origin, false);
        }
    }
    rows
}

fn role(tunnel: &Tunnel) -> &'static str {
    match tunnel.role {
        TunnelRole::Server => "answers callers",
        TunnelRole::Client => "calls",
        TunnelRole::PointToPoint => "joins sites",
    }
}

/// What the checks say of one tunnel.
struct Judged {
    severity: Option<Severity>,
    verdict: String,
    findings: Vec<Detail>,
}

/// What the checks of the areas that are about tunnels say, by device and tunnel: the same that an audit says.
fn judged(estate: &Estate, yardstick: &Yardstick) -> BTreeMap<(usize, String), Judged> {
    let mut found: BTreeMap<(usize, String), Judged> = BTreeMap::new();
    let about = |area: Area| matches!(area, Area::Tunnels | Area::Ciphers | Area::Logins);
    for check in CHECKS.iter().filter(|check| about(check.area)) {
        for answer in (check.run)(estate, yardstick) {
            let (severity, verdict, text, evidence) = match answer.verdict {
                Verdict::Fail(fail) => (
                    Some(fail.severity),
                    fail.severity.word().to_owned(),
                    format!("{}: {}", fail.severity.word(), fail.title),
                    fail.evidence,
                ),
                Verdict::Undetermined(asked) => (
                    None,
                    "open question".to_owned(),
                    format!("open question: {}", asked.question),
                    asked.evidence,
                ),
                Verdict::Pass | Verdict::DoesNotApply => continue,
            };
            let place = evidence.first().map(|origin| estate.place(*origin)).unwrap_or_default();
            let finding = Detail { what: "finding", text: estate.masker().mask(&text), place };
            let known = found.entry((answer.device, answer.subject)).or_insert_with(|| Judged {
                severity: None,
                verdict: verdict.clone(),
                findings: Vec::new(),
            });
            if severity > known.severity {
                (known.severity, known.verdict) = (severity, verdict);
            }
            known.findings.push(finding);
        }
    }
    found
}

/// The weakest algorithm that may be agreed on; of one kind of strength the first.
fn weakest(offers: &[Offer]) -> Option<&'static Algorithm> {
    let all = offers.iter().flat_map(|offer| offer.algorithms.iter().map(move |one| (offer.spelling, one)));
    let known = all.filter_map(|(spelling, one)| lookup(spelling, one.role, &one.name));
    known.min_by_key(|algorithm| algorithm.status)
}

fn sends(plan: &AddressPlan) -> &'static str {
    let everything = |family| plan.sent_through.iter().any(|(range, _)| *range == IpRange::all(family));
    if everything(Family::V4) || everything(Family::V6) {
        "everything"
    } else if plan.sent_through.is_empty() && plan.remote.is_empty() {
        ""
    } else {
        "some networks"
    }
}

fn pools(plan: &AddressPlan) -> Vec<String> {
    let whole = |pool: &trevlin_model::Pool| match pool.network {
        _ if !pool.malformed.is_empty() => vec!["mistyped".to_owned()],
        Some(net) => vec![net.to_string()],
        None => pool.ranges.iter().map(|(range, _)| range.short()).collect(),
    };
    plan.pools.iter().flat_map(whole).collect()
}

/// Everything that was read, with its places.
fn details(estate: &Estate, plan: &AddressPlan, offers: &[Offer]) -> Vec<Detail> {
    let mut found = Vec::new();
    let mut add = |what, text: String, origin: Origin| {
        found.push(Detail { what, text: estate.masker().mask(&text), place: estate.place(origin) });
    };
    for offer in offers {
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
    for (range, origin) in plan.pools.iter().flat_map(trevlin_model::Pool::claims) {
        add("pool", range.short(), origin);
    }
    for fixed in &plan.fixed {
        add("fixed address", format!("{} for {}", fixed.range.short(), fixed.who), fixed.origin);
    }
    for (what, list) in [
        ("behind it", &plan.remote),
        ("sent through it", &plan.sent_through),
        ("name server", &plan.name_servers),
    ] {
        for (range, origin) in list {
            add(what, range.short(), *origin);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::estate;

    #[test]
    fn rows() {
        let estate = estate(&[
            (
                "a/s.conf",
                "dev tun\nserver 10.8.0.0 255.255.255.0\ndata-ciphers AES-256-GCM:BF-CBC\nauth SHA256\npush \"redirect-gateway def1\"\ntls-crypt k\n",
            ),
            (
                "a/ipsec.conf",
                "conn yard\n\tauto=start\n\tkeyexchange=ikev2\n\trightsubnet=10.7.0.0/16\n\tike=aes256gcm16-prfsha384-ecp384\n",
            ),
            (
                "b/wg0.conf",
                "[Interface]\nPrivateKey=k\nAddress=10.9.0.1/24\n[Peer]\nAllowedIPs=10.9.0.2/32\n",
            ),
        ]);
        let rows = tunnels(&estate, &Yardstick::on(jiff::civil::date(2026, 11, 25)));
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
                    row.verdict
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "a OpenVPN answers callers [Blowfish (deprecated)] everything [10.8.0.0/24] medium",
                "a IPsec joins sites [AES-GCM, 256 bits (recommended)] some networks [] open question",
                "b WireGuard answers callers []  [10.9.0.0/24] open question",
            ]
        );
        let detail = |row: usize, what: &str| rows[row].detail.iter().filter(|one| one.what == what).count();
        assert_eq!(
            (detail(0, "offers"), detail(0, "pool"), detail(1, "behind it"), detail(2, "fixed address")),
            (3, 1, 1, 1)
        );
        assert!(rows[0].detail.iter().any(|one| one.what == "finding" && one.place == "a/s.conf:3"));
    }
}
