//! Factors that a RADIUS server requires, where it is a device of the estate.

use crate::authentication::factors::{Factors, Undecided};
use crate::authentication::pam;
use serde::Deserialize;
use std::collections::BTreeSet;
use std::net::IpAddr;
use trevlin_estate::assemble::Estate;
use trevlin_model::radius::{RadiusAsker, RadiusSite, RadiusTarget};
use trevlin_model::ssh::matches;
use trevlin_model::{FactorKind, Origin};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Modules {
    knowledge: Vec<String>,
    quiet: Vec<String>,
}

trevlin_model::table! { static MODULES: Modules = "../../tables/radius-modules.toml"; }

/// Realms for requests without a known realm (realms(5) in proxy.conf).
const EVERYBODY: [&str; 3] = ["DEFAULT", "NULL", "~.*"];

/// Factors that the RADIUS servers of a service require.
#[must_use]
pub fn of_radius(estate: &Estate, device: usize, asker: RadiusAsker, asked_at: Origin) -> Factors {
    let targets: Vec<&RadiusTarget> = estate.devices[device]
        .facts
        .radius_targets
        .iter()
        .filter(|target| target.asked_by == asker)
        .collect();
    if targets.is_empty() {
        let list = match asker {
            RadiusAsker::Pam => "/etc/pam_radius_auth.conf",
            RadiusAsker::Library => "/etc/radiusclient/radiusclient.conf",
            RadiusAsker::OpenVpn => "radiusplugin.cnf",
            RadiusAsker::Ike => "/etc/strongswan.conf",
        };
        return Factors::undecided(Undecided {
            ask: format!(
                "Please provide `{list}`, and the policy of the RADIUS server for these users, including any second factor"
            ),
            evidence: vec![asked_at],
            file: None,
        });
    }
    // Each may be the one that answers, so the weakest counts.
    let all = targets.iter().map(|target| of_target(estate, device, target, asked_at));
    all.min_by_key(Factors::weakness).unwrap_or_else(|| Factors::known(BTreeSet::new(), vec![asked_at]))
}

fn of_target(estate: &Estate, device: usize, target: &RadiusTarget, asked_at: Origin) -> Factors {
    let outside = |ask: String| {
        Factors::undecided(Undecided { ask, evidence: vec![target.origin, asked_at], file: None })
    };
    let Some(server) = device_of(estate, device, target.address) else {
        return outside(format!(
            "Please provide the policy of the RADIUS server `{}` for these users, including any second factor",
            target.server
        ));
    };
    of_server(estate, server, vec![target.origin, asked_at])
}

/// The device of the estate that has this address and is a RADIUS server.
fn device_of(estate: &Estate, asker: usize, address: Option<IpAddr>) -> Option<usize> {
    let address = address?;
    let serves = |device: &usize| {
        let facts = &estate.devices[*device].facts;
        !facts.radius_clients.is_empty() || !facts.radius_sites.is_empty() || !facts.radius_entries.is_empty()
    };
    if address.is_loopback() {
        return Some(asker).filter(serves);
    }
    estate.holders(address).iter().copied().find(serves)
}

/// Factors that a RADIUS server requires of requests without a realm.
fn of_server(estate: &Estate, server: usize, lines: Vec<Origin>) -> Factors {
    let device = &estate.devices[server];
    let name = &device.name;
    let unknown = |ask: String, more: Option<Origin>| {
        let evidence = lines.iter().copied().chain(more).collect();
        Factors::undecided(Undecided { ask, evidence, file: None })
    };
    let everybody = |realm: &String| EVERYBODY.contains(&realm.as_str());
    if let Some(upstream) = device.facts.radius_upstreams.iter().find(|one| one.realms.iter().any(everybody))
    {
        let ask = format!(
            "Please provide the policy of the RADIUS server `{}`, to which {name} forwards requests, including any second factor",
            upstream.server
        );
        return unknown(ask, Some(upstream.origin));
    }
    if let Some(open) = device
        .facts
        .radius_entries
        .iter()
        .find(|one| one.accepts && one.user == "DEFAULT" && !one.conditional)
    {
        return Factors::known(BTreeSet::new(), [open.origin].into_iter().chain(lines).collect());
    }
    let sites = &device.facts.radius_sites;
    let Some(site) = sites.iter().find(|site| site.name == "default").or_else(|| sites.first()) else {
        let ask = format!("Please provide `/etc/freeradius/3.0/sites-enabled/` of the RADIUS server {name}");
        return unknown(ask, None);
    };
    of_site(estate, server, site, lines)
}

fn of_site(estate: &Estate, server: usize, site: &RadiusSite, lines: Vec<Origin>) -> Factors {
    let device = &estate.devices[server];
    let one_of = |names: &[String], module: &str| names.iter().any(|name| matches(module, name));
    let quiet = |module: &str| one_of(&MODULES.quiet, module);
    let knowledge = |module: &str| one_of(&MODULES.knowledge, module);
    let told_apart = |module: &str| quiet(module) || knowledge(module) || matches!(module, "eap" | "pam");
    let steps = || site.authorize.iter().chain(&site.authenticate).chain(&site.post_auth);
    if let Some(step) = steps().find(|step| !told_apart(&step.module)) {
        return Factors::undecided(Undecided {
            ask: format!(
                "Please provide the settings of `{}` in the site `{}` of the RADIUS server {}",
                step.module, site.name, device.name
            ),
            evidence: lines.into_iter().chain([step.origin]).collect(),
            file: None,
        });
    }
    let known = |kind: FactorKind, origin: Origin, lines: Vec<Origin>| {
        Factors::known(BTreeSet::from([kind]), lines.into_iter().chain([origin]).collect())
    };
    if let Some(step) = site.authenticate.iter().find(|step| knowledge(&step.module)) {
        return known(FactorKind::Knowledge, step.origin, lines);
    }
    if let Some(step) = site.authenticate.iter().find(|step| step.module == "eap") {
        let methods: Vec<&str> = device
            .facts
            .eap_settings
            .iter()
            .flat_map(|settings| &settings.methods)
            .map(|(method, _)| method.as_str())
            .collect();
        let password = methods.iter().any(|method| *method != "tls");
        return match (methods.is_empty(), password) {
            (true, _) => Factors::undecided(Undecided {
                ask: format!("Please provide `mods-enabled/eap` of the RADIUS server {}", device.name),
                evidence: lines.into_iter().chain([step.origin]).collect(),
                file: None,
            }),
            (_, true) => known(FactorKind::Knowledge, step.origin, lines),
            (_, false) => known(FactorKind::Certificate, step.origin, lines),
        };
    }
    if let Some(step) = site.authenticate.iter().find(|step| step.module == "pam") {
        // The service's name is the module's default (rlm_pam).
        return pam::of_stack(estate, server, "radiusd", step.origin, &|origin| {
            of_radius(estate, server, RadiusAsker::Pam, origin)
        })
        .unwrap_or_else(|| Factors::no_path("radiusd", step.origin));
    }
    Factors::undecided(Undecided {
        ask: format!(
            "Please state how users are authenticated in the site `{}` of the RADIUS server {}, which uses no known source",
            site.name, device.name
        ),
        evidence: lines.into_iter().chain([site.origin]).collect(),
        file: None,
    })
}
