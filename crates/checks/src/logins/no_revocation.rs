//! A VPN server accepts client certificates without checking whether they were revoked.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::client_rules::{ClientRule, client_rule};
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{CertificateRequirement, Origin, Setting, Tunnel, TunnelFamily, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/no-revocation",
    area: Area::Logins,
    title: "Revoked client certificates are not recognised",
    severity: Severity::Low,
    why: "A certificate is valid until its date, whatever happens to the device that holds it. Without a revocation list the \
          certificate of a lost or sold device, or of a former employee, keeps granting access.",
    fix: "Publish a revocation list (CRL) and let the server check it: `crl-verify` (OpenVPN), `crl` (ocserv), `CRLfile` \
          (stunnel), `revocation = strict` or `strictcrlpolicy=yes` (strongSwan).",
    judged: "Fails where a VPN server authenticates clients by certificate and neither a revocation list nor a responder is \
             configured; lower where a password is required as well, since removing the account then locks the client out. \
             strongSwan by default consults only the addresses that certificates contain, and accepts a certificate if none of \
             them answers: this is a finding as well. Passes where certificates are pinned one by one, and where only clients with a \
             file of their own are accepted (`ccd-exclusive`). Undetermined where a script decides (`tls-verify`).",
    references: &["RFC 5280, 5 and 6.3", "NIST SP 800-77 Rev. 1, 4.3.2", "swanctl.conf(5), revocation"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let servers = device.facts.tunnels.iter().filter(|one| {
            one.role == TunnelRole::Server
                && one.accepts_clients()
                && one.ipsec.as_deref().is_none_or(|ipsec| ipsec.negotiates())
        });
        for tunnel in servers {
            if asks(tunnel) || tunnel.proof.alternatives.iter().any(|one| one.certificate) {
                answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(estate, at, tunnel)));
            }
        }
    }
    answers
}

/// Whether the main login path requires a certificate.
fn asks(tunnel: &Tunnel) -> bool {
    let demand = tunnel.proof.certificate.as_ref().and_then(Setting::value);
    demand.is_some_and(|one| *one != CertificateRequirement::NotAsked)
}

fn judge(estate: &EstateMap, at: usize, tunnel: &Tunnel) -> Verdict {
    let set = |name: &str| {
        tunnel.settings.iter().rev().find(|(key, _)| key == name).and_then(|(_, said)| said.origin())
    };
    let pinned = || {
        let rounds = &tunnel.ipsec.as_deref()?.remote;
        let pinned = rounds.iter().all(|round| !round.certificates.is_empty() && round.narrowed.is_some());
        pinned.then(|| rounds.iter().find_map(|round| round.narrowed).unwrap_or(tunnel.origin))
    };
    if let Some(origin) = set("peer-fingerprint").or(set("ccd-exclusive")).or_else(pinned) {
        return Verdict::pass(origin);
    }
    if let Some(revocation) = &tunnel.proof.revocation {
        return match (revocation.strict, tunnel.ipsec.is_some()) {
            (true, _) => Verdict::pass(revocation.origin),
            (false, ipsec) => lenient(tunnel, revocation.origin, ipsec),
        };
    }
    let about = format!("whether {} checks a revocation list", name_of(tunnel));
    match client_rule(tunnel, |policy| &policy.revocation, &about) {
        ClientRule::Stated(true, origin) => return Verdict::pass(origin),
        ClientRule::Stated(false, _) | ClientRule::Native => {}
        ClientRule::Open(ask) => return ask,
    }
    if let Some(missing) = tunnel.missing_file() {
        return Verdict::ask_reference(missing, &about);
    }
    if let Some(script) = set("tls-verify") {
        let ask = format!(
            "Please state whether the script of `tls-verify` refuses revoked certificates: {} has no other way to recognise them.",
            name_of(tunnel)
        );
        return Verdict::ask(ask, vec![script]);
    }
    // charon loads every list in its folders.
    let list = estate.devices[at].exports.iter().find(|export| {
        let path = format!("/{}", estate.export(**export).path());
        path.contains("/swanctl/x509crl/") || path.contains("/ipsec.d/crls/")
    });
    if let Some(list) = list.filter(|_| tunnel.ipsec.is_some()) {
        return Verdict::pass(estate.export(*list).origin(0..0));
    }
    // Each way in that a certificate opens.
    let own = asks(tunnel).then_some(&tunnel.proof.passwords);
    let others = tunnel.proof.alternatives.iter().filter(|one| one.certificate).map(|one| &one.passwords);
    let twice = own.into_iter().chain(others).all(|passwords| !passwords.is_empty());
    let (severity, why) = if twice {
        (Severity::Info, "a password is required as well, so an account can be locked")
    } else {
        (CHECK.severity, "a certificate alone grants access until it expires")
    };
    let (verb, detail) = match tunnel.family {
        TunnelFamily::Ipsec => (
            "may not",
            "Neither a policy nor the address of a list or responder is configured: charon only contacts addresses that the \
             certificates themselves contain, and accepts a certificate if none answers.",
        ),
        _ => ("does not", "Neither a revocation list nor a responder is configured."),
    };
    let stated = tunnel.rule(|policy| &policy.revocation).and_then(Setting::origin);
    let certificate = stated.or_else(|| tunnel.proof.certificate.as_ref().and_then(Setting::origin));
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{} {verb} recognise revoked client certificates", name_of(tunnel)).into(),
        detail: detail.into(),
        evidence: vec![certificate.unwrap_or(tunnel.origin)],
    })
}

/// A list or responder is named, and a certificate is accepted if it cannot be reached.
fn lenient(tunnel: &Tunnel, origin: Origin, ipsec: bool) -> Verdict {
    let setting = if ipsec { "`revocation = relaxed`, the default" } else { "`OCSPrequire = no`" };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            Severity::Info,
            "a revoked certificate is accepted only while the list cannot be fetched",
        ),
        title: format!(
            "{} accepts client certificates when the revocation list cannot be fetched",
            name_of(tunnel)
        )
        .into(),
        detail: format!("The list or responder is named, and its absence is accepted ({setting}).").into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("no list", "", "fail low d s.conf:2"),
            ("a list", "crl-verify crl.pem", "pass d"),
            ("a list in a comment", ";crl-verify crl.pem", "fail low d s.conf:2"),
            ("a password as well", "plugin /x/openvpn-plugin-auth-pam.so vpn", "fail info d s.conf:2"),
            ("only clients with a file", "client-config-dir ccd\nccd-exclusive", "pass d"),
            ("pinned", "peer-fingerprint AA:BB", "pass d"),
            ("a script", "tls-verify /x/check", "ask d"),
            ("a part is missing", "config gone.conf", "ask d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(name, &[("d/s.conf", &text)], &[wanted])]);
        }
        let without =
            "dev tun\nserver 10.8.0.0 255.255.255.0\nverify-client-cert none\nmanagement-client-auth\n";
        run(&CHECK, &[("no certificates", &[("d/s.conf", without)], &[])]);
        for (name, lines, wanted) in [
            ("certificates", "auth = certificate", &["fail low d ocserv.conf:2"][..]),
            ("a list of ocserv", "auth = certificate\ncrl = /etc/ocserv/crl.pem", &["pass d"]),
            (
                "beside passwords",
                "auth = plain[passwd=p]\nenable-auth = certificate",
                &["fail low d ocserv.conf:2"],
            ),
            ("passwords alone", "auth = plain[passwd=p]", &[]),
        ] {
            let text = format!("ipv4-network = 10.9.0.0/24\n{lines}\n");
            run(&CHECK, &[(name, &[("d/ocserv.conf", &text)], wanted)]);
        }
    }

    #[test]
    fn of_ipsec() {
        let conn = |setup: &str, own: &str| {
            format!("{setup}conn c\n\tauto=add\n\tright=%any\n\trightsourceip=10.9.0.0/24\n{own}")
        };
        let setup = "config setup\n\tstrictcrlpolicy=yes\n";
        for (name, text, wanted) in [
            ("nothing set", conn("", ""), &["fail low d ipsec.conf:1"][..]),
            ("strict", conn(setup, ""), &["pass d"]),
            ("not strict", conn("config setup\n\tstrictcrlpolicy=no\n", ""), &["fail low d ipsec.conf:3"]),
            (
                "an authority with a list",
                conn("ca x\n\tauto=add\n\tcrluri=http://192.0.2.9/c.crl\n", ""),
                &["fail info d ipsec.conf:3"],
            ),
            (
                "an authority that is not loaded",
                conn("ca x\n\tcrluri=http://192.0.2.9/c.crl\n", ""),
                &["fail low d ipsec.conf:3"],
            ),
            ("pinned", conn("", "\trightcert=c.pem\n"), &["pass d"]),
            ("a shared key", conn("", "\tauthby=secret\n"), &[]),
        ] {
            run(&CHECK, &[(name, &[("d/ipsec.conf", &text)], wanted)]);
        }
        let swanctl = |round: &str, rest: &str| {
            format!(
                "connections {{\n c {{\n pools = p\n remote {{\n auth = pubkey\n {round}\n }}\n children {{ a {{ }} }}\n }}\n}}\npools {{ p {{ addrs = \
                 10.9.0.0/24 }} }}\n{rest}"
            )
        };
        for (round, rest, wanted) in [
            ("", "", "fail low d swanctl.conf:5"),
            ("revocation = relaxed", "", "fail low d swanctl.conf:5"),
            ("revocation = strict", "", "pass d"),
            ("", "authorities { a { crl_uris = http://192.0.2.9/c.crl } }\n", "fail info d swanctl.conf:12"),
            ("certs = a.pem, b.pem", "", "pass d"),
        ] {
            let text = swanctl(round, rest);
            run(&CHECK, &[(round, &[("d/etc/swanctl/swanctl.conf", &text)], &[wanted])]);
        }
    }
}
