//! A secret is used in several places.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_pass;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::secret::{SecretKind, group_letter, reuse_groups};
use trevlin_model::{Origin, SecretRecord};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/secret-reused",
    area: Area::Secrets,
    title: "Secret reused",
    severity: Severity::Medium,
    why: "Disclosure of a reused secret opens every place where it is used. The weakest device determines the protection of \
          all, and a change in one place leaves the others open.",
    fix: "Give every account and device its own generated secret. Change all copies, beginning with the most exposed one.",
    judged: "Fails where two accounts, or an account and another secret, have equal secrets, and where one private key is on \
             two devices. Variants by capitals or trailing digits count as equal. Keys that both ends of a tunnel must \
             share, and the password of one user in two lists of a device or at both ends of a dial-out, pass, \
             and so does a device whose secrets are equal to no others.",
    references: &["NIST SP 800-63B, 5.1.1.2", "NIST SP 800-57 Part 1 Rev. 5, 5.2"],
    needs: &[Need::SavedLogins, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut held: Vec<(usize, &Arc<SecretRecord>)> = Vec::new();
    let mut places = BTreeSet::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let opens = of_logins(estate, at, baseline.day());
        for one in &device.facts.secrets {
            // A file that another reads in is met twice.
            if in_use(one, &opens) && places.insert(one.origin) {
                held.push((at, one));
            }
        }
    }
    let secrets: Vec<_> = held.iter().map(|(_, one)| Arc::clone(one)).collect();
    let groups = reuse_groups(&secrets).into_iter().map(|group| {
        let members: Vec<_> = group.members.iter().map(|at| held[*at]).collect();
        (members, group.exact)
    });
    let reused: Vec<_> = groups.filter(|(group, _)| !equal_by_design(group)).collect();
    let found = reused.iter().enumerate();
    let mut answers: Vec<Answer> = found
        .map(|(number, (group, exact))| answer(estate, group, *exact, &group_letter(number)))
        .chain(not_comparable(estate))
        .collect();
    let affected: BTreeSet<usize> =
        reused.iter().flat_map(|(group, _)| group.iter().map(|(at, _)| *at)).collect();
    let mut others: BTreeMap<usize, Vec<Origin>> = BTreeMap::new();
    for (at, one) in &held {
        if !affected.contains(at) {
            others.entry(*at).or_default().push(one.origin);
        }
    }
    others_pass(&mut answers, others);
    answers
}

/// Passwords in files that were not exported, and therefore cannot be compared.
fn not_comparable(estate: &EstateMap) -> Vec<Answer> {
    let mut found = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in &device.facts.credentials {
            if let trevlin_model::Setting::Unknown { why } = &one.secret {
                let ask = format!(
                    "Please state whether the password of {} is used elsewhere: it is not visible here ({why}).",
                    one.client
                );
                found.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::Login).with(&one.client),
                    Verdict::ask(ask, vec![one.origin]),
                ));
            }
        }
    }
    found
}

/// Places of passwords that permit a login, or that the device uses at other services.
fn of_logins(estate: &EstateMap, device: usize, day: i64) -> BTreeSet<Origin> {
    let device = &estate.devices[device];
    let live = device.logins.iter().filter(|login| !login.has_expired(day));
    let logins = live.filter_map(|login| Some(login.secret.as_ref()?.origin));
    // A line without addresses is a password for dialling out (pppd(8), AUTHENTICATION).
    let out = device.facts.credentials.iter().filter_map(|line| match &line.secret {
        trevlin_model::Setting::Stated { value: Some(secret), .. }
            if line.addresses == trevlin_model::AllowedAddresses::None =>
        {
            Some(secret.origin)
        }
        _ => None,
    });
    logins.chain(out).collect()
}

/// Whether a secret grants access: a line of a list without effect does not.
fn in_use(one: &SecretRecord, of_logins: &BTreeSet<Origin>) -> bool {
    // Seeds of one-time codes have a check of their own.
    let judged = !one.secret.is_placeholder() && one.kind != SecretKind::CodeSeed;
    judged && (one.kind != SecretKind::LoginPassword || of_logins.contains(&one.origin))
}

/// Whether a group has to be equal: a key shared by both ends, or one user's password in two places.
fn equal_by_design(group: &[(usize, &Arc<SecretRecord>)]) -> bool {
    if group.iter().all(|(_, one)| one.kind == SecretKind::SharedKey) {
        return true;
    }
    // The two ends of one tunnel hold one key each.
    if group.len() == 2
        && group[0].0 != group[1].0
        && group.iter().all(|(_, one)| one.kind == SecretKind::PreSharedKey)
    {
        return true;
    }
    // A RADIUS server and its client hold one secret each; a server as its own client is no third place.
    if group.iter().all(|(_, one)| one.kind == SecretKind::RadiusSecret) {
        // One server asked for logins and told of sessions is one place.
        let host = |owner: &str| owner.rsplit_once(':').map_or(owner, |(host, _)| host).to_owned();
        let local = |owner: &str| owner.starts_with("localhost") || owner.starts_with("127.");
        let others: BTreeSet<_> = group
            .iter()
            .filter(|(_, one)| !local(&one.owner))
            .map(|(at, one)| (*at, host(&one.owner)))
            .collect();
        let on: BTreeSet<usize> = others.iter().map(|(at, _)| *at).collect();
        if others.len() < 2 || others.len() == 2 && on.len() == 2 {
            return true;
        }
    }
    // The client of a login holds its password, and the server does.
    let kinds: BTreeSet<_> = group.iter().map(|(_, one)| one.kind).collect();
    let both_ends = kinds == BTreeSet::from([SecretKind::LoginPassword, SecretKind::OwnPassword]);
    if both_ends && group.len() == 2 && group[0].0 != group[1].0 {
        let named: Vec<_> = group.iter().filter_map(|(_, one)| user(one)).collect();
        if named.len() == 2 && named[0] == named[1] {
            return true;
        }
    }
    let owners: BTreeSet<_> = group.iter().map(|(_, one)| user(one).unwrap_or(&one.owner)).collect();
    let people = group.iter().all(|(_, one)| one.kind.chosen_by_people());
    let devices: BTreeSet<_> = group.iter().map(|(device, _)| device).collect();
    // One community for both versions of IP, or for reading and for notifications, is one secret.
    let community = |kind| matches!(kind, SecretKind::Community | SecretKind::TrapCommunity);
    if devices.len() == 1 && group.iter().all(|(_, one)| community(one.kind)) {
        return true;
    }
    // A device may keep its key in two files; a key of two WireGuard interfaces is one of two peers.
    if devices.len() == 1 && group.iter().all(|(_, one)| one.kind == SecretKind::PrivateKey) {
        return owners.len() == 1 || group.iter().any(|(_, one)| one.secret.wireguard_public_key().is_none());
    }
    people && owners.len() == 1 && (devices.len() == 1 || group.len() == 2)
}

/// The user that a password is for, where its owner is one: `ann`, `ann at backup.example`, `ann (auth-user-pass in c.conf)`. Passwords of programs name none.
fn user(one: &SecretRecord) -> Option<&str> {
    let name = [" at ", " ("]
        .iter()
        .find_map(|sign| one.owner.split_once(sign))
        .map_or(one.owner.as_str(), |one| one.0);
    (!name.contains(' ')).then_some(name)
}

fn answer(estate: &EstateMap, group: &[(usize, &Arc<SecretRecord>)], exact: bool, letter: &str) -> Answer {
    let devices: BTreeSet<_> =
        group.iter().map(|(device, _)| estate.devices[*device].name.as_str()).collect();
    let mut kinds: Vec<_> = group.iter().map(|(_, one)| one.kind.words()).collect();
    kinds.sort_unstable();
    kinds.dedup();
    let list: Vec<_> = group
        .iter()
        .map(|(device, one)| {
            let name = &estate.devices[*device].name;
            format!("{} of `{}` on {name} ({})", one.kind.words(), one.owner, estate.place(one.origin))
        })
        .collect();
    let (severity, why) = if group.iter().any(|(_, one)| one.kind == SecretKind::PrivateKey) {
        (Severity::High, "a private key is among them, and its holder can impersonate the device".to_owned())
    } else if devices.len() > 1 {
        (Severity::High, format!("it opens {} devices", devices.len()))
    } else {
        (Severity::Medium, "all uses are on one device".to_owned())
    };
    let mut subject: Vec<_> =
        group.iter().map(|(device, one)| format!("{} {}", estate.devices[*device].name, one.owner)).collect();
    subject.sort();
    Answer::new(
        group[0].0,
        Subject::of(SubjectKind::Secret).with(subject.join(" ")),
        Verdict::Fail(Fail {
            rating: CHECK.rated_at(severity, why),
            title: format!(
                "{} secret is reused in {} places: {} (group {letter})",
                if exact { "The same" } else { "A similar" },
                group.len(),
                kinds.join(", ")
            )
            .into(),
            detail: format!(
                "{}: {}.",
                if exact { "Equal" } else { "Equal except for capitals or trailing digits" },
                list.join("; ")
            )
            .into(),
            evidence: group.iter().map(|(_, one)| one.origin).collect(),
        }),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const SERVER: (&str, &str) = ("d/pptpd.conf", "option /etc/ppp/options\nremoteip 10.4.0.9\n");
    const OPTIONS: (&str, &str) = ("d/ppp/options", "name pptp\nrequire-mschap-v2\n");
    const WIREGUARD: &str = "[Interface]\nPrivateKey = dwdtCnMYpX08FsFyUbJmRd9ML4frwJkqsXf7pR25LCo=\nAddress = 10.9.0.7/32\n[Peer]\nPublicKey = x=\nEndpoint = 192.0.2.9:51820\nAllowedIPs = 10.4.0.0/24\n";
    const KEY: &str = "client\ndev tun\nremote 192.0.2.9\n<key>\nAAAA\n</key>\n";

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "a pre-shared key and somebody's password on another device, in other encodings",
                    &[
                        SERVER,
                        OPTIONS,
                        ("d/chap-secrets", "ann * sesame *\n"),
                        ("e/ipsec.secrets", "@e @f : PSK 0x736573616d65\n"),
                    ],
                    &["fail high d chap-secrets:1 ipsec.secrets:1"],
                ),
                (
                    "nearly the same",
                    &[SERVER, OPTIONS, ("d/chap-secrets", "ann * sesame *\nbob * Sesame2 *\n")],
                    &["fail medium d chap-secrets:1 chap-secrets:2"],
                ),
                (
                    "a RADIUS server and the one that asks it",
                    &[
                        ("d/clients.conf", "client gate {\n ipaddr = 10.4.0.1\n secret = sesame\n}\n"),
                        ("e/etc/pam_radius_auth.conf", "10.4.0.9 sesame 3\n"),
                    ],
                    &["pass d", "pass e"],
                ),
                (
                    "one seed for two users, which another check judges",
                    &[(
                        "d/etc/users.oath",
                        "HOTP/T30 ann - 00a1b2c3d4e5f6071829\nHOTP/T30 bob - 00a1b2c3d4e5f6071829\n",
                    )],
                    &[],
                ),
                (
                    "one RADIUS server, for logins and for sessions",
                    &[(
                        "d/hostapd.conf",
                        "interface=wlan0\nssid=quay\nauth_server_addr=10.4.0.9\nauth_server_shared_secret=sesame\nacct_server_addr=10.4.0.9\nacct_server_shared_secret=sesame\n",
                    )],
                    &["pass d"],
                ),
                (
                    "the server of a login and its client",
                    &[
                        SERVER,
                        OPTIONS,
                        ("d/chap-secrets", "ann * sesame-4x *\n"),
                        ("e/root/.netrc", "machine gate.example login ann password sesame-4x\n"),
                    ],
                    &["pass d", "pass e"],
                ),
                (
                    "the password of one user, used by another",
                    &[
                        SERVER,
                        OPTIONS,
                        ("d/chap-secrets", "ann * sesame-4x *\n"),
                        ("e/root/.netrc", "machine gate.example login bob password sesame-4x\n"),
                    ],
                    &["fail high d chap-secrets:1 .netrc:1"],
                ),
                (
                    "two RADIUS clients",
                    &[(
                        "d/clients.conf",
                        "client a {\n ipaddr = 10.4.0.1\n secret = sesame\n}\nclient b {\n ipaddr = 10.4.0.2\n secret = sesame\n}\n",
                    )],
                    &["fail medium d clients.conf:3 clients.conf:7"],
                ),
                (
                    "both ends of one tunnel",
                    &[
                        ("d/ipsec.secrets", "@d @e : PSK \"sesame\"\n"),
                        ("e/ipsec.secrets", "@e @d : PSK \"sesame\"\n"),
                    ],
                    &["pass d", "pass e"],
                ),
                (
                    "one key for two tunnels",
                    &[("d/ipsec.secrets", "@d @e : PSK \"sesame\"\n@d @f : PSK \"sesame\"\n")],
                    &["fail medium d ipsec.secrets:1 ipsec.secrets:2"],
                ),
                (
                    "two people",
                    &[SERVER, OPTIONS, ("d/chap-secrets", "ann * sesame *\nbob * other *\ncid * sesame *\n")],
                    &["fail medium d chap-secrets:1 chap-secrets:3"],
                ),
                (
                    "two devices, with a saved password",
                    &[
                        SERVER,
                        OPTIONS,
                        ("d/chap-secrets", "ann * sesame *\n"),
                        (
                            "e/c.conf",
                            "client\ndev tun\nremote 192.0.2.9\n<auth-user-pass>\nbob\nsesame\n</auth-user-pass>\n",
                        ),
                    ],
                    &["fail high d chap-secrets:1 c.conf:6"],
                ),
                (
                    "two devices, with the password that one user saved",
                    &[
                        SERVER,
                        OPTIONS,
                        ("d/chap-secrets", "ann * sesame *\n"),
                        (
                            "e/c.conf",
                            "client\ndev tun\nremote 192.0.2.9\n<auth-user-pass>\nann\nsesame\n</auth-user-pass>\n",
                        ),
                    ],
                    &["pass d", "pass e"],
                ),
                (
                    "a private key on two devices",
                    &[("d/c.conf", KEY), ("e/c.conf", KEY)],
                    &["fail high d c.conf:5 c.conf:5"],
                ),
                (
                    "a shared secret in one format and a login's password in another",
                    &[
                        SERVER,
                        OPTIONS,
                        ("d/chap-secrets", "ann * sesame *\n"),
                        ("e/clients.conf", "client gate {\n ipaddr = 10.4.0.9\n secret = \"sesame\"\n}\n"),
                    ],
                    &["fail high d chap-secrets:1 clients.conf:3"],
                ),
                (
                    "one key for two clients",
                    &[("d/clients/a.conf", WIREGUARD), ("d/clients/b.conf", WIREGUARD)],
                    &["fail high d a.conf:2 b.conf:2"],
                ),
                (
                    "one interface in two files",
                    &[("d/etc/wireguard/wg0.conf", WIREGUARD), ("d/running/wg0.conf", WIREGUARD)],
                    &["pass d"],
                ),
                (
                    "different",
                    &[SERVER, OPTIONS, ("d/chap-secrets", "ann * sesame *\nbob * other *\n")],
                    &["pass d"],
                ),
                (
                    "different in capitals",
                    &[SERVER, OPTIONS, ("d/chap-secrets", "ann * sesame *\nbob * Sesame *\n")],
                    &["fail medium d chap-secrets:1 chap-secrets:2"],
                ),
                (
                    "one person in two lists",
                    &[
                        SERVER,
                        ("d/ppp/options", "name pptp\nauth\n"),
                        ("d/chap-secrets", "ann * sesame *\n"),
                        ("d/pap-secrets", "ann * sesame *\n"),
                    ],
                    &["pass d"],
                ),
                (
                    "both ends of a dial-out",
                    &[
                        SERVER,
                        OPTIONS,
                        ("d/chap-secrets", "yard * sesame *\n"),
                        ("e/chap-secrets", "yard * sesame\n"),
                    ],
                    &["pass d", "pass e"],
                ),
                (
                    "both ends of a tunnel",
                    &[
                        (
                            "d/s.conf",
                            "dev tun\nserver 10.8.0.0 255.255.255.0\n<tls-crypt>\nAAAA\n</tls-crypt>\n",
                        ),
                        ("e/c.conf", "client\ndev tun\nremote 192.0.2.9\n<tls-crypt>\nAAAA\n</tls-crypt>\n"),
                    ],
                    &["pass d", "pass e"],
                ),
                (
                    "a disabled line",
                    &[SERVER, OPTIONS, ("d/chap-secrets", "ann * sesame *\n# bob * sesame *\n")],
                    &["pass d"],
                ),
                (
                    "signs that no password fits",
                    &[("d/pap-secrets", "guest host \"*\" -\nroot host \"*\" -\n")],
                    &[],
                ),
                ("empty twice", &[SERVER, OPTIONS, ("d/chap-secrets", "ann * \"\" *\nbob * \"\" *\n")], &[]),
            ],
        );
    }

    #[test]
    fn a_password_kept_elsewhere_is_a_question() {
        run(&CHECK, &[("elsewhere", &[("d/chap-secrets", "ann pptp @/etc/ppp/gone *\n")], &["ask d"])]);
    }
}
