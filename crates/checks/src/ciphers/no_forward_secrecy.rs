//! New keys of a connection come from old ones.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::name_of;
use crate::tunnels::ipsec;
use trevlin_analysis::crypto::algorithms::lookup;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::{IkeDaemon, IkeVersions, IpsecConnection};
use trevlin_model::offer::{AlgorithmRole, Offer, Offered};
use trevlin_model::{Origin, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/no-forward-secrecy",
    area: Area::Ciphers,
    title: "No perfect forward secrecy",
    severity: Severity::Low,
    why: "Without a separate key exchange, all data keys derive from the initial exchange of the connection. An attacker who \
          obtains that one secret can decrypt all traffic until the connection is set up again.",
    fix: "Name a group in every data proposal (`aes256gcm16-ecp384`), or keep `pfs=yes` where the daemon has it.",
    judged: "Fails for IPsec data proposals without a group, and for Libreswan with `pfs=no`; one level lower where it is \
             the default of strongSwan. In IKEv2 the first data keys always derive from the initial exchange; groups take \
             effect from the first rekeying on.",
    references: &[
        "RFC 7296, 2.12 and 2.17",
        "RFC 2409, 5.5",
        "NIST SP 800-77 Rev. 1, 3.2",
        "BSI TR-02102-3, 3.2",
    ],
    needs: &[Need::Services, Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    ipsec(estate, |_, _, tunnel, connection| judge(tunnel, connection))
}

/// Whether a suite of an offer names a key exchange, with the place and whether it is the program's own.
fn suites(offer: &Offer) -> Vec<(bool, Origin, bool)> {
    let mut found: Vec<(usize, bool, Origin, bool)> = Vec::new();
    for one in &offer.algorithms {
        let exchange = |one: &Offered| match one.role {
            Some(role) => role == AlgorithmRole::KeyExchange,
            None => lookup(offer.spelling, None, &one.name)
                .is_some_and(|known| known.role() == AlgorithmRole::KeyExchange),
        };
        match found.iter_mut().find(|(suite, ..)| *suite == one.suite) {
            Some((_, has, ..)) => *has |= exchange(one),
            None => found.push((one.suite, exchange(one), one.origin, one.default.is_some())),
        }
    }
    found.into_iter().map(|(_, has, origin, default)| (has, origin, default)).collect()
}

fn judge(tunnel: &Tunnel, connection: &IpsecConnection) -> Verdict {
    if !connection.negotiates() || connection.children.is_empty() {
        return Verdict::DoesNotApply;
    }
    let mut without: Vec<(&str, Origin, bool)> = Vec::new();
    for child in connection.children.iter().filter(|child| child.wraps()) {
        match (connection.daemon, child.forward_secrecy.value()) {
            // The group of the connection is used where a proposal names none.
            (IkeDaemon::Libreswan, Some(true)) => continue,
            (IkeDaemon::Libreswan, _) => {
                let origin = child.forward_secrecy.origin().unwrap_or(child.origin);
                without.push((&child.name, origin, false));
                continue;
            }
            (IkeDaemon::Appliance, Some(true)) => continue,
            (IkeDaemon::Appliance, Some(false)) => {
                without.push((&child.name, child.forward_secrecy.origin().unwrap_or(child.origin), false));
                continue;
            }
            (IkeDaemon::Appliance, None) if child.offers.is_empty() => {
                let question = format!(
                    "Please state whether {} uses perfect forward secrecy for `{}`.",
                    name_of(tunnel),
                    child.name
                );
                return Verdict::ask(question, vec![child.origin]);
            }
            (IkeDaemon::StrongSwan | IkeDaemon::Appliance, _) => {}
        }
        let all = child.offers.iter().filter_map(|number| tunnel.offers.get(*number)).flat_map(suites);
        let mut weak: Vec<_> = all.filter(|(has, ..)| !has).collect();
        // A line that states it counts before the program's own list.
        weak.sort_by_key(|(_, _, default)| *default);
        without.extend(weak.first().map(|(_, origin, default)| (child.name.as_str(), *origin, *default)));
    }
    let Some((_, _, default)) = without.iter().min_by_key(|(_, _, default)| *default) else {
        let offers = connection.children.iter().flat_map(|child| &child.offers);
        let mut open =
            offers.filter_map(|number| tunnel.offers.get(*number)).filter(|offer| offer.open.is_some());
        return match open.find_map(|offer| Some((offer.open.as_ref()?.1.clone(), offer.origin))) {
            Some((question, origin)) => Verdict::ask(format!("{question}."), vec![origin]),
            None => {
                let offers = connection.children.iter().flat_map(|child| &child.offers);
                let lines = offers.filter_map(|number| Some(tunnel.offers.get(*number)?.origin));
                Verdict::pass_by(lines, tunnel.origin)
            }
        };
    };
    let first = connection.versions.possible().all(|one| *one == IkeVersions::First);
    let severity = match (first, default) {
        (true, _) => Severity::Medium,
        (false, false) => CHECK.severity,
        (false, true) => Severity::Info,
    };
    let names: Vec<_> = without.iter().map(|(name, ..)| format!("`{name}`")).collect();
    let mut evidence: Vec<Origin> = without.iter().map(|(_, origin, _)| *origin).collect();
    evidence.dedup();
    let how = match (connection.daemon, default) {
        (IkeDaemon::Libreswan, _) => "`pfs=no` is set",
        (IkeDaemon::Appliance, _) => "no separate key exchange takes place",
        (_, true) => "the default proposals without a group may be negotiated",
        (_, false) => "a proposal names no group",
    };
    let advice = connection.daemon.advice("aes256gcm16-ecp384", "pfs=yes");
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            severity,
            match (first, default) {
                (true, _) => "with IKEv1 one secret then reveals all keys of a connection",
                (false, false) => "the initial secret of the connection must be compromised first",
                (false, true) => "it is the default of the program",
            },
        ),
        title: format!("{} may rekey without perfect forward secrecy", name_of(tunnel)).into(),
        detail: format!("For {} {how}.{advice}", names.join(", ")).into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("a group", "esp=aes256gcm16-ecp384!", "pass d"),
            ("none", "keyexchange=ikev2\n\tesp=aes256gcm16!", "fail low d ipsec.conf:4"),
            ("none among those with one", "esp=aes256gcm16-ecp384,aes256-sha256!", "fail low d ipsec.conf:3"),
            ("the daemon's own", "closeaction=none", "fail info d ipsec.conf:1"),
            ("of a daemon that nothing shows", "", "ask d"),
            (
                "its own beside what is stated",
                "esp=aes256gcm16-ecp384\n\tcloseaction=none",
                "fail info d ipsec.conf:3",
            ),
            ("version 1", "keyexchange=ikev1\n\tesp=aes256-sha256!", "fail medium d ipsec.conf:4"),
            ("Libreswan", "ikev2=insist\n\tphase2alg=aes256-sha2", "pass d"),
            ("Libreswan without", "ikev2=insist\n\tpfs=no", "fail low d ipsec.conf:4"),
            ("packets that pass by", "type=passthrough", "none d"),
        ] {
            let text = format!("conn c\n\tauto=add\n\t{lines}\n");
            run(&CHECK, &[(name, &[("d/ipsec.conf", &text)], &[wanted])]);
        }
    }
}
