//! Checks of the area `ciphers`.

pub(super) mod weak_encryption;
pub(super) mod weak_integrity;
pub(super) mod weak_key_exchange;

use crate::algorithms::{Algorithm, lookup};
use crate::{Answer, Estate, Fail, Severity, Verdict};
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};

/// An algorithm that is offered, and what is known of it.
struct Known<'a> {
    offer: &'a Offer,
    offered: &'a Offered,
    algorithm: &'static Algorithm,
}

/// Judges what every tunnel offers of some roles: the weakest that may be agreed on counts. `open` is whether what the
/// exports leave open is asked here.
fn judge(estate: &Estate, roles: &[AlgorithmRole], what: &str, open: bool) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (name, offers) in device.facts.offers().filter(|(_, offers)| !offers.is_empty()) {
            answers.push(Answer::new(at, name, tunnel(estate, name, offers, roles, what, open)));
        }
    }
    answers
}

fn tunnel(
    estate: &Estate,
    name: &str,
    offers: &[Offer],
    roles: &[AlgorithmRole],
    what: &str,
    open: bool,
) -> Verdict {
    let mut known: Vec<Known<'_>> = Vec::new();
    let mut unknown: Vec<(&Offer, &Offered)> = Vec::new();
    for offer in offers {
        for offered in &offer.algorithms {
            match lookup(offer.spelling, offered.role, &offered.name) {
                Some(algorithm) if roles.contains(&algorithm.role()) => {
                    known.push(Known { offer, offered, algorithm });
                }
                Some(_) => {}
                // What no table knows is asked once, where encryption is judged.
                None if open => unknown.push((offer, offered)),
                None => {}
            }
        }
    }
    let weak: Vec<&Known<'_>> =
        known.iter().filter(|one| one.algorithm.status.severity().is_some()).collect();
    if let Some(worst) = weak.iter().min_by_key(|one| one.algorithm.status) {
        return fail(estate, name, what, worst, &weak, &known);
    }
    if let Some((offer, offered)) = unknown.first() {
        let question = format!(
            "`{}` is no algorithm that the table knows in the names of {}; ask what it stands for in the version that runs",
            offered.name,
            program(offer.spelling)
        );
        return Verdict::ask(question, vec![offered.origin]);
    }
    match offers.iter().find_map(|offer| Some((offer.open.as_ref()?, offer.origin))).filter(|_| open) {
        Some((question, origin)) => {
            let question = format!("{name}: {question}; ask which version runs");
            Verdict::ask(question, vec![origin])
        }
        None if known.is_empty() => Verdict::DoesNotApply,
        None => Verdict::Pass,
    }
}

fn program(spelling: Spelling) -> &'static str {
    match spelling {
        Spelling::OpenVpn => "OpenVPN",
        Spelling::StrongSwan => "strongSwan",
    }
}

fn fail(
    estate: &Estate,
    name: &str,
    what: &str,
    worst: &Known<'_>,
    weak: &[&Known<'_>],
    known: &[Known<'_>],
) -> Verdict {
    let severity = worst.algorithm.status.severity().unwrap_or(Severity::Low);
    let told: Vec<_> = weak
        .iter()
        .map(|one| {
            let versions = one.offered.versions.map(|versions| format!(", {versions}")).unwrap_or_default();
            let default =
                one.offered.default.map(|source| format!(", by default: {source}")).unwrap_or_default();
            let block = match one.algorithm.block {
                Some(64) => ", with blocks of 64 bits",
                _ => "",
            };
            format!(
                "`{}` is {}{block} and {} ({}, {}; {}{versions}{default})",
                one.offered.name,
                one.algorithm.name,
                one.algorithm.status.word(),
                one.algorithm.source,
                one.algorithm.year,
                estate.place(one.offered.origin)
            )
        })
        .collect();
    let better = known.len() > weak.len();
    let why = match (better, worst.offered.default) {
        (_, Some(_)) => "it is what the program takes where nothing is stated",
        (true, None) => "it stands among better ones, and the other end may choose it",
        (false, None) => "nothing better is offered",
    };
    let mut evidence: Vec<_> = weak.iter().map(|one| one.offered.origin).collect();
    evidence.dedup();
    Verdict::Fail(Fail {
        severity,
        why_this_severity: format!("{} is {}; {why}", worst.algorithm.name, worst.algorithm.status.word()),
        title: format!("{name} may use {} for {what}", worst.algorithm.name),
        detail: format!("{}. In this file's language: `{}`.", told.join("; "), instead(worst.offer)),
        evidence,
    })
}

/// A line that offers what standards recommend, in the program's own language.
fn instead(offer: &Offer) -> &'static str {
    match (offer.spelling, offer.part) {
        (Spelling::OpenVpn, _) => "data-ciphers AES-256-GCM:AES-128-GCM:CHACHA20-POLY1305",
        (Spelling::StrongSwan, OfferPart::Control) => "aes256gcm16-prfsha384-ecp384",
        (Spelling::StrongSwan, OfferPart::Data) => "aes256gcm16-ecp384",
    }
}
