//! Options of pppd for clients that a tunnel server passes to it.

use crate::assemble::Estate;
pub use crate::assemble::estate::DialIn;
use trevlin_model::{
    Origin, PasswordCheck, PasswordSource, PoolPlacement, PppProfile, Reference, Setting, Tunnel,
    TunnelFamily, TunnelRole,
};

/// Where pppd always looks first (pppd(8), FILES).
const SYSTEM_OPTIONS: &str = "/etc/ppp/options";

/// Plug-ins of pppd that have no part in authentication (pppd(8), plugin; the packages that ship them).
const QUIET_PLUGINS: [&str; 9] = [
    "rp-pppoe",
    "pppoe",
    "pppoatm",
    "pppol2tp",
    "openl2tp",
    "pptpd-logwtmp",
    "minconn",
    "passprompt",
    "passwordfd",
];

/// Resolves the options of every PPP tunnel, and completes the tunnel with them.
pub(super) fn settle(estate: &mut Estate) {
    let mut settled = Vec::new();
    for (device, one) in estate.devices.iter().enumerate() {
        for (at, tunnel) in one.facts.tunnels.iter().enumerate() {
            if matches!(tunnel.family, TunnelFamily::Pptp | TunnelFamily::L2tp)
                && tunnel.role == TunnelRole::Server
            {
                settled.push(((device, at), of(estate, device, at)));
            }
        }
    }
    for ((device, at), dial_in) in settled {
        let tunnel = &mut estate.devices[device].facts.tunnels[at];
        // Where a sheet leaves the options open, it states the placement itself.
        let left_open =
            dial_in.profile.proxy_arp.is_none() && Reference::left_open(&dial_in.missing).is_some();
        for pool in tunnel.addresses.pools.iter_mut().filter(|_| !left_open) {
            pool.placement = placement(&dial_in);
        }
        tunnel.local_name =
            dial_in.profile.name.clone().map(|(value, origin)| Setting::Stated { value, origin });
        let missing: Vec<_> = dial_in
            .missing
            .iter()
            .filter(|one| !tunnel.missing.iter().any(|known| known.path == one.path))
            .cloned()
            .collect();
        tunnel.missing.extend(missing);
        // A sheet may say already what follows from the options.
        let known = |source: &PasswordSource| tunnel.proof.passwords.iter().any(|one| one.source == *source);
        let elsewhere: Vec<_> = dial_in.elsewhere.iter().filter(|(source, _)| !known(source)).collect();
        tunnel.proof.passwords.extend(elsewhere.into_iter().map(|(source, origin)| PasswordCheck {
            source: source.clone(),
            optional: false,
            origin: *origin,
        }));
        estate.dial_in.insert((device, at), dial_in);
    }
}

fn placement(dial_in: &DialIn) -> Setting<PoolPlacement> {
    match dial_in.profile.proxy_arp {
        Some((true, origin)) => Setting::Stated { value: PoolPlacement::ProxyArp, origin },
        Some((false, origin)) => Setting::Stated { value: PoolPlacement::Routed, origin },
        None if dial_in.missing.is_empty() => {
            Setting::default_of(PoolPlacement::Routed, "pppd", "pppd(8), proxyarp")
        }
        None => Setting::Unknown { why: "the ppp options are not among the exports".into() },
    }
}

fn of(estate: &Estate, device: usize, at: usize) -> DialIn {
    let tunnel = &estate.devices[device].facts.tunnels[at];
    let named = tunnel.options_file.as_ref();
    let path = named.and_then(Setting::value).map_or(SYSTEM_OPTIONS, String::as_str);
    let said_at = named.and_then(Setting::origin).unwrap_or(tunnel.origin);
    let mut paths = vec![(SYSTEM_OPTIONS, tunnel.origin)];
    if path != SYSTEM_OPTIONS {
        paths.push((path, said_at));
    }
    let (mut profile, mut missing) = (None::<PppProfile>, Vec::new());
    for (number, (path, origin)) in paths.into_iter().enumerate() {
        // Options of the L2TP daemon on pppd's command line precede the file that it names.
        if number == 1
            && let Some(said) = by_daemon(tunnel)
        {
            profile = Some(match profile {
                Some(earlier) => earlier.followed_by(&said),
                None => said,
            });
        }
        match self::profile(estate, device, path, said_at) {
            Some(found) => {
                profile = Some(match profile {
                    Some(earlier) => earlier.followed_by(found),
                    None => found.clone(),
                });
            }
            // An appliance has no such file; what is missing is what its sheet does not state.
            None if Reference::left_open(&tunnel.missing).is_some() => {}
            None => {
                missing.push(Reference { path: path.to_owned(), configuration: true, unsaid: None, origin })
            }
        }
    }
    let profile = profile.unwrap_or_else(|| PppProfile::new(path, said_at));
    missing.extend(profile.missing.iter().map(|(path, origin)| Reference {
        path: path.clone(),
        configuration: true,
        unsaid: None,
        origin: *origin,
    }));
    missing.extend(tunnel.missing.iter().filter(|one| one.unsaid.is_some()).cloned());
    let elsewhere = elsewhere(&profile);
    DialIn { profile, missing, elsewhere }
}

/// Authentication options that xl2tpd itself passes to pppd (xl2tpd.conf(5): `require`, `refuse`, `name`).
fn by_daemon(tunnel: &Tunnel) -> Option<PppProfile> {
    let yes = |key: &str| tunnel.stated(key).filter(|(value, _)| *value == "yes").map(|(_, origin)| origin);
    let mut profile = PppProfile::new("", tunnel.origin);
    if let Some(origin) = yes("refuse authentication") {
        profile.auth = Some((false, origin));
    }
    if let Some(origin) = yes("require authentication") {
        profile.auth = Some((true, origin));
    }
    for (key, method) in [("require chap", "chap"), ("require pap", "pap")] {
        if let Some(origin) = yes(key) {
            profile.auth = Some((true, origin));
            profile.require.push((method, origin));
        }
    }
    profile.name = tunnel.stated("name").map(|(name, origin)| (name.to_owned(), origin));
    (tunnel.family == TunnelFamily::L2tp).then_some(profile)
}

fn profile<'a>(estate: &'a Estate, device: usize, path: &str, named_at: Origin) -> Option<&'a PppProfile> {
    let profiles = &estate.devices[device].facts.ppp_profiles;
    let found = estate.find(device, path, named_at.export);
    // Those of an appliance have the name of their service, and no file.
    let path = found.as_ref().map_or(path, |file| file.path);
    let by_name = || estate.devices[device].facts.described.map(|_| path);
    let path = found.is_some().then_some(path).or_else(by_name)?;
    profiles.iter().find(|profile| profile.path == path)
}

fn elsewhere(profile: &PppProfile) -> Vec<(PasswordSource, Origin)> {
    let mut found = Vec::new();
    for (path, origin) in &profile.plugins {
        let name = path.rsplit('/').next().unwrap_or(path).trim_end_matches(".so");
        if QUIET_PLUGINS.contains(&name) {
            continue;
        }
        let source = match name {
            "radius" => PasswordSource::Radius,
            // It adds attributes to what the RADIUS plug-in decides.
            "radattr" | "radrealms" => continue,
            "winbind" => PasswordSource::Directory,
            _ => PasswordSource::PlugIn(format!("{name}.so")),
        };
        found.push((source, *origin));
    }
    if let Some(origin) = profile.login {
        // pppd's PAM service (pppd(8), login).
        found.push((PasswordSource::Pam("ppp".into()), origin));
    }
    found
}
