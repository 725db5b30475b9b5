//! A tunnel login has one factor only.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::logins::{holds_where, only_from};
use crate::subject::{Subject, SubjectKind};
use crate::support::rated::rated_by_tunnel;
use crate::support::{accounts_of, each_once, name_of, opening, the};
use trevlin_analysis::authentication::{
    PppAuthentication, Undecided, login_paths, of_source, of_tls_based, server_names,
};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::l2tp;
use trevlin_analysis::l2tp::UnprotectedAccess;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::DialIn;
use trevlin_estate::baseline::Baseline;
use trevlin_model::{FactorKind, Login, Origin, PasswordSource, Reference, Setting, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/single-factor-vpn",
    area: Area::Logins,
    title: "Remote access with a single factor",
    severity: Severity::High,
    why: "A VPN login gives access to internal networks. A password can be guessed, phished or reused from a breach, and a \
          certificate is lost with the device. Two factors of different kinds must be compromised together.",
    fix: "Require two factors of different kinds: a client certificate and a password, or a password and a one-time code. \
          Begin with the accounts that reach most.",
    judged: "Fails where the exports show that one factor or none is sufficient. Passes where a certificate and a password \
             are both required. PAM stacks and RADIUS servers of the estate are followed. Undetermined where a system \
             outside the exports decides: a RADIUS server, a directory, a script or a plug-in.",
    references: &["NIST SP 800-63B, 4.2", "NIST SP 800-46 Rev. 2, 3.2", "PCI DSS 4.0, 8.4.3"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

/// Lines of logins shown in addition to the deciding line.
const SHOWN_LOGINS: usize = 4;

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (number, tunnel) in device.facts.tunnels.iter().enumerate() {
            let mut open = None;
            let mut by_paths = || {
                let (verdict, undecided) = openconnect(estate, at, tunnel);
                open = undecided;
                verdict
            };
            let verdict = match (&tunnel.refused, tunnel.family, estate.dial_in(at, number)) {
                (
                    Some((why, origin)),
                    TunnelFamily::OpenVpn | TunnelFamily::OpenConnect | TunnelFamily::Tls,
                    _,
                ) => refused(tunnel, why, *origin),
                _ if !tunnel.accepts_clients() => Verdict::DoesNotApply,
                (_, TunnelFamily::OpenVpn, _) => openvpn(estate, at, tunnel),
                (_, TunnelFamily::OpenConnect | TunnelFamily::Tls, _) => by_paths(),
                // L2TP users log in there.
                (_, TunnelFamily::Ipsec, _) if l2tp::carries_l2tp(tunnel) => Verdict::DoesNotApply,
                (_, TunnelFamily::Ipsec, _) => by_paths(),
                (_, TunnelFamily::WireGuard, _) => keys(tunnel),
                (_, TunnelFamily::Pptp, Some(dial_in)) => pptp(estate, at, tunnel, dial_in),
                (_, TunnelFamily::L2tp, Some(dial_in)) => {
                    inside_ipsec(estate, at, tunnel, pptp(estate, at, tunnel, dial_in))
                }
                _ => Verdict::DoesNotApply,
            };
            answers.push(Answer::new(
                at,
                Subject::tunnel(tunnel),
                rated_by_tunnel(estate, at, tunnel, verdict),
            ));
            answers.extend(open.map(|open| {
                Answer::new(
                    at,
                    Subject::of(SubjectKind::LoginDecider).with(&tunnel.name),
                    ask_factors(tunnel, &open),
                )
            }));
        }
    }
    answers
}

fn not_exported(tunnel: &Tunnel, missing: &Reference) -> Verdict {
    Verdict::ask_reference(missing, &format!("which factors {} requires", name_of(tunnel)))
}

/// A configuration with which the daemon would not start is not in force.
fn refused(tunnel: &Tunnel, why: &str, origin: Origin) -> Verdict {
    let question = format!(
        "Please provide the configuration in use of {}, and the output of `ss -lntup`: the daemon rejects the exported \
         configuration ({why}).",
        name_of(tunnel)
    );
    Verdict::ask(question, vec![origin, tunnel.origin])
}

fn pptp(estate: &Analyses, at: usize, tunnel: &Tunnel, dial_in: &DialIn) -> Verdict {
    let device = &estate.devices[at];
    let ask = |question: String, origin: Origin| Verdict::ask(question, vec![origin, tunnel.origin]);
    let name = &name_of(tunnel);
    match server_names(device, tunnel, dial_in) {
        PppAuthentication::NotExported(missing) => not_exported(tunnel, missing),
        PppAuthentication::Nobody(why, origin) => nobody_asked(tunnel, why, vec![origin, tunnel.origin]),
        PppAuthentication::Elsewhere(source, origin) => by_somebody(estate, at, tunnel, source, origin),
        PppAuthentication::Eap(origin) => ask(
            format!(
                "Please provide `/etc/ppp/eaptls-server` and a description of the login: {name} requires EAP, and the \
                 exports do not show the method."
            ),
            origin,
        ),
        PppAuthentication::NoList(origin) => ask(
            accounts_of(estate, at, name).unwrap_or_else(|| {
                format!(
                    "Please provide `/etc/ppp/chap-secrets`: {name} requires a password, and no list of its accounts is \
                     among the exports."
                )
            }),
            origin,
        ),
        PppAuthentication::List(..) if tunnel.code_required().is_some() => {
            Verdict::pass_by(tunnel.code_required(), tunnel.origin)
        }
        PppAuthentication::List(logins, origin) => {
            let evidence =
                [origin].into_iter().chain(logins.iter().take(SHOWN_LOGINS).map(|login| login.origin));
            let (count, verb) =
                (logins.len(), if logins.len() == 1 { "account requires" } else { "accounts require" });
            Verdict::Fail(Fail {
                rating: CHECK.rated_at(Severity::High, "a password alone is required"),
                title: format!("{count} {verb} only a password at {}", the(tunnel)).into(),
                detail: format!(
                    "{} checks a password from a local list and nothing else; accounts in the list: {}.",
                    opening(tunnel),
                    names(&logins)
                )
                .into(),
                evidence: evidence.collect(),
            })
        }
    }
}

fn names(logins: &[&Login]) -> String {
    let shown: Vec<_> = logins.iter().take(6).map(|login| format!("`{}`", login.user)).collect();
    let more = logins.len().saturating_sub(shown.len());
    if more == 0 { shown.join(", ") } else { format!("{} and {more} more", shown.join(", ")) }
}

fn nobody_asked(tunnel: &Tunnel, why: &str, evidence: Vec<Origin>) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(Severity::Critical, "no authentication is required"),
        title: format!("{} requires no authentication", name_of(tunnel)).into(),
        detail: format!("Clients of {} are not authenticated: {why}.", the(tunnel)).into(),
        evidence,
    })
}

/// A certificate that IPsec requires around L2TP is a factor of its own, where clients without IPsec are rejected.
fn inside_ipsec(estate: &Analyses, at: usize, tunnel: &Tunnel, alone: Verdict) -> Verdict {
    let Verdict::Fail(fail) = &alone else { return alone };
    let Some(around) = l2tp::certificate_around(estate, at, tunnel) else { return alone };
    match l2tp::access(estate, at, tunnel) {
        // Nothing at all inside leaves the certificate alone.
        UnprotectedAccess::Protected if fail.rating.severity() == Severity::Critical => Verdict::Fail(Fail {
            rating: CHECK
                .rated_at(Severity::Medium, "only the certificate that IPsec requires grants access"),
            ..fail.clone()
        }),
        UnprotectedAccess::Protected => Verdict::pass_by([around.origin, tunnel.origin], tunnel.origin),
        UnprotectedAccess::Open(_) | UnprotectedAccess::Inside(_) => alone,
        // Missing authentication is reported, whichever clients are permitted.
        _ if fail.rating.severity() == Severity::Critical => alone,
        UnprotectedAccess::Depends(_) | UnprotectedAccess::NoFilter => {
            let question = format!(
                "Please provide the packet filter: {} requires a certificate and {} a password, and the exports do not show \
                 whether the second is reachable without the first.",
                around.name,
                name_of(tunnel)
            );
            Verdict::ask(question, vec![tunnel.origin, around.origin])
        }
    }
}

/// WireGuard requires the stored key of a peer, and nothing else.
fn keys(tunnel: &Tunnel) -> Verdict {
    let clients: Vec<_> = tunnel.peers.iter().filter(|peer| peer.endpoint.is_none()).collect();
    let shown: Vec<_> = clients.iter().take(6).map(|peer| format!("`{}`", peer.who)).collect();
    let more = clients.len().saturating_sub(shown.len());
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(Severity::Medium, "the single factor is a key, which cannot be guessed"),
        title: format!("A stored key alone grants access at {}", name_of(tunnel)).into(),
        detail: format!(
            "WireGuard requires only the private key of the peer: a copy of the file, or use of the device, grants access. \
             Remote-access peers: {}{more}.",
            shown.join(", ")
        ).into(),
        evidence: [tunnel.origin]
            .into_iter()
            .chain(clients.iter().take(SHOWN_LOGINS).map(|peer| peer.origin))
            .collect(),
    })
}

/// The weakest of several login paths decides. Where the exports do not show what it requires, it is asked about; where another path
/// accepts one factor, that is certain besides.
fn openconnect(estate: &Analyses, at: usize, tunnel: &Tunnel) -> (Verdict, Option<Undecided>) {
    let ways = login_paths(estate, at, tunnel);
    let Some((weakest, opened)) = ways.iter().min_by_key(|(factors, _)| factors.weakness()) else {
        return (Verdict::DoesNotApply, None);
    };
    let single = ways.iter().filter(|(factors, _)| factors.is_single());
    let certain = match &weakest.undecided {
        None if weakest.kinds.len() > 1 => {
            return (Verdict::pass_by(weakest.lines.iter().copied(), tunnel.origin), None);
        }
        None => weakest,
        Some(undecided) => match single.min_by_key(|(factors, _)| factors.weakness()) {
            Some((factors, _)) => factors,
            None => return (ask_factors(tunnel, undecided), None),
        },
    };
    let by_key = tunnel.proof.shared_key.is_some() && tunnel.proof.passwords.is_empty();
    let kind = certain.kinds.first().copied();
    let words = match kind {
        Some(FactorKind::Knowledge) if by_key => "a shared key".to_owned(),
        None => "nothing".to_owned(),
        Some(kind) => kind.words().to_owned(),
    };
    // A password that another system verifies is no stronger than one, as far as the exports show.
    let words = match weakest.undecided {
        Some(_) if !matches!(kind, None | Some(FactorKind::Knowledge)) => {
            format!("{words}, or the login that another system verifies")
        }
        _ => words,
    };
    let (severity, why) = match kind {
        None => (Severity::Critical, "no authentication is required"),
        Some(FactorKind::Knowledge | FactorKind::OneTimeCode) => {
            (CHECK.severity, "the factor can be guessed or phished")
        }
        Some(_) if weakest.undecided.is_some() => (
            CHECK.severity,
            "a second system verifies a login, and the exports do not show that it requires two factors",
        ),
        Some(_) => (Severity::Medium, "the single factor cannot be guessed"),
    };
    let evidence = [*opened]
        .into_iter()
        .chain(weakest.lines.iter().copied())
        .chain(certain.lines.iter().copied())
        .chain(certain.conditions.iter().flat_map(|one| one.lines.iter().copied()))
        .chain(certain.bypassed.iter().copied());
    let on = if certain.conditions.is_empty() { "" } else { " on a condition" };
    let verdict = Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Single factor is sufficient{on} at {}: {words}", the(tunnel)).into(),
        detail: format!(
            "The weakest login accepted by {} requires one factor: {words}.{}",
            the(tunnel),
            holds_where(&certain.conditions)
        )
        .into(),
        evidence: each_once(evidence),
    });
    (verdict, weakest.undecided.clone())
}

/// The request where another service decides about the factors of a tunnel.
fn ask_factors(tunnel: &Tunnel, undecided: &Undecided) -> Verdict {
    let Undecided { ask, evidence, file } = undecided.clone();
    let reason = Reason::decides(format!("which factors {} requires", name_of(tunnel)));
    Verdict::provide(ask, reason, evidence).wanting_all(file)
}

fn openvpn(estate: &Analyses, at: usize, tunnel: &Tunnel) -> Verdict {
    if let Some(missing) = tunnel.missing_file() {
        return not_exported(tunnel, missing);
    }
    let Some(certificate) = &tunnel.proof.certificate else { return Verdict::DoesNotApply };
    let required = tunnel.requires_certificate();
    let stated = match certificate {
        Setting::Stated { origin, .. } => Some(*origin),
        _ => None,
    };
    let evidence: Vec<Origin> = stated.into_iter().chain([tunnel.origin]).collect();
    match (
        required,
        tunnel.proof.passwords.iter().find(|check| !check.optional),
        tunnel.proof.passwords.first(),
    ) {
        // The password is required besides the certificate, whoever verifies it, unless the exports show that it is not verified.
        (true, Some(_), _) if of_tls_based(estate, at, tunnel).is_none_or(|kinds| kinds.len() > 1) => {
            let asked = tunnel.proof.passwords.iter().map(|check| check.origin);
            Verdict::pass_by(stated.into_iter().chain(asked), tunnel.origin)
        }
        (true, asked, first) => Verdict::Fail(Fail {
            rating: CHECK
                .rated_at(Severity::Medium, "the single factor is a certificate, which cannot be guessed"),
            title: format!("A certificate alone is sufficient at {}", the(tunnel)).into(),
            detail: match (asked, first) {
                (Some(_), _) => format!(
                    "{} requires a client certificate, and the password check accepts any user.",
                    opening(tunnel)
                ),
                (None, None) => format!(
                    "{} requires a client certificate (the default) and no password.",
                    opening(tunnel)
                ),
                (None, Some(_)) => format!(
                    "{} requires a client certificate, and accepts clients without a password.",
                    opening(tunnel)
                ),
            }
            .into(),
            evidence: first.map(|check| check.origin).into_iter().chain(evidence).collect(),
        }),
        (false, _, Some(check)) => by_somebody(estate, at, tunnel, &check.source, check.origin),
        (false, _, None) => Verdict::ask(
            format!("Please state which factors {} requires: the exports do not show it.", name_of(tunnel)),
            evidence,
        ),
    }
}

/// Factors that another service requires, followed through the exports.
fn by_somebody(
    estate: &Analyses,
    at: usize,
    tunnel: &Tunnel,
    source: &PasswordSource,
    asked_at: Origin,
) -> Verdict {
    let mut found = of_source(estate, at, tunnel, source, asked_at);
    if let Some(undecided) = &mut found.undecided {
        undecided.evidence.insert(0, asked_at);
        undecided.evidence.push(tunnel.origin);
        return ask_factors(tunnel, undecided);
    }
    if found.kinds.len() > 1 {
        return Verdict::pass_by([asked_at].into_iter().chain(found.lines.iter().copied()), asked_at);
    }
    let words = found.kinds.first().map_or("nothing", |kind| kind.words());
    let severity = if found.kinds.is_empty() { Severity::Critical } else { CHECK.severity };
    let who = match source {
        PasswordSource::Pam(service) => format!("the PAM stack of `{service}`"),
        PasswordSource::Radius => "the RADIUS server".into(),
        _ => "the password check".into(),
    };
    let bypassed = if found.bypassed.is_empty() {
        ""
    } else {
        " The stack grants access without its module for a further factor (cited)."
    };
    let on = if found.conditions.is_empty() { "" } else { " on a condition" };
    let holds = holds_where(&found.conditions);
    let met = found.conditions.iter().flat_map(|one| one.lines.iter().copied()).collect::<Vec<_>>();
    let rating = CHECK.rated_at(severity, format!("{who} requires one factor only: {words}"));
    let rating = match only_from(&found.conditions, 0) {
        Some(from) => rating.lowered(from),
        None => rating,
    };
    let lines = found.lines.into_iter().chain(met).chain(found.bypassed).filter(|line| *line != asked_at);
    Verdict::Fail(Fail {
        rating,
        title: format!("Single factor is sufficient{on} at {}: {words}", the(tunnel)).into(),
        detail: format!(
            "{} requires no certificate, and {who} requires one factor: {words}.{bypassed}{holds}",
            opening(tunnel)
        )
        .into(),
        evidence: [asked_at].into_iter().chain(lines).chain([tunnel.origin]).collect(),
    })
}

#[cfg(test)]
#[path = "single_factor_vpn_tests.rs"]
mod tests;
