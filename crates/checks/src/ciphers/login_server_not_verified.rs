//! A host logs people in by a server whose identity it does not verify.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::ciphers::login_source_unencrypted::unknown;
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::login_sources::{asked_by, unused};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::prose::capitalized;
use trevlin_model::Device;
use trevlin_model::login_source::{LoginServer, LoginSource, LoginSourceUse, ServerProof, ServerProofKind};
use trevlin_model::served::TransportSecurity;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/login-server-not-verified",
    area: Area::Ciphers,
    title: "Identity of a login server not verified",
    severity: Severity::Medium,
    why: "An attacker in place of the server decides which logins succeed, and receives the passwords of users. Encryption does not help where \
          the other end is not verified.",
    fix: "Demand a certificate of the organisation's own authority (`ldap_tls_reqcert = demand` with `ldap_tls_cacert`; `tls_reqcert demand` \
          for nslcd). For Kerberos give the host a key of its own, and set `krb5_validate = true` or `verify_ap_req_nofail = true`.",
    judged: "Fails where certificates of a directory are not verified (`never` and `allow`), if TLS is used at all: high where passwords of \
             users are sent to it, low for `ldap.conf`, which programs of users read. Fails where tickets of Kerberos are not verified by \
             the host's own key: for SSSD, which does not by default, and for `pam_krb5`. Passes otherwise; the authority's own certificate \
             is not judged. Undetermined for providers whose settings are elsewhere.",
    references: &[
        "sssd-ldap(5), ldap_tls_reqcert",
        "sssd-krb5(5), krb5_validate",
        "ldap.conf(5), TLS_REQCERT",
        "RFC 4120, 3.1.5",
    ],
    needs: &[Need::Accounts],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for source in device.facts.login_sources.iter().filter(|one| unused(device, one).is_none()) {
            for proof in &source.proofs {
                let kind = match proof.kind {
                    ServerProofKind::Certificate => "certificate",
                    ServerProofKind::Ticket => "ticket",
                };
                let subject = Subject::of(SubjectKind::LoginSource).with(&source.name).with(kind);
                answers.extend(judge(device, source, proof).map(|verdict| Answer::new(at, subject, verdict)));
            }
            if source.proofs.is_empty() {
                let subject = Subject::of(SubjectKind::LoginSource).with(&source.name);
                let verdict = unknown(source, "whether the server is verified");
                answers.extend(verdict.map(|verdict| Answer::new(at, subject, verdict)));
            }
        }
    }
    answers
}

/// Nothing where the proof is of no use: without TLS, or where no user logs in by the server.
fn judge(device: &Device, source: &LoginSource, proof: &ServerProof) -> Option<Verdict> {
    let asked = asked_by(device, source);
    let needed = match proof.kind {
        ServerProofKind::Certificate => source.servers.is_empty() || source.servers.iter().any(by_tls),
        ServerProofKind::Ticket => match source.gives {
            LoginSourceUse::Passwords => asked.is_some(),
            LoginSourceUse::AccountsAndPasswords => true,
            LoginSourceUse::Accounts | LoginSourceUse::Lookups => false,
        },
    };
    if !needed {
        return None;
    }
    if proof.demanded.value() != Some(&false) {
        return Some(Verdict::pass_setting(&proof.demanded, source.origin));
    }
    let line = proof.demanded.origin().unwrap_or(source.origin);
    let name = capitalized(&source.name);
    let (rating, title, detail) = match proof.kind {
        ServerProofKind::Ticket => (
            CHECK.rated("an attacker has to answer in place of the Kerberos server"),
            format!("{name} accepts tickets of any Kerberos server"),
            "Logins are accepted without a check by the host's own key.".to_owned(),
        ),
        ServerProofKind::Certificate => {
            let passwords = source.servers.iter().any(|one| by_tls(one) && one.passwords.is_some());
            let rating = match source.gives {
                LoginSourceUse::Lookups => {
                    CHECK.rated_at(Severity::Low, "programs of users read this setting")
                }
                _ if passwords => CHECK.rated_at(Severity::High, "passwords of users are sent to the server"),
                _ => CHECK.rating(),
            };
            let verb = if source.gives == LoginSourceUse::Lookups { "accept" } else { "accepts" };
            (
                rating,
                format!("{name} {verb} any certificate"),
                "A certificate that is invalid, or of an unknown authority, does not end the connection."
                    .to_owned(),
            )
        }
    };
    let evidence = [Some(line), asked].into_iter().flatten().collect();
    Some(Verdict::Fail(Fail { rating, title: title.into(), detail: detail.into(), evidence }))
}

/// Whether TLS is, or may be, used with a server of another host.
fn by_tls(server: &LoginServer) -> bool {
    let used = |one: Option<TransportSecurity>| one.is_some_and(|one| one != TransportSecurity::Plain);
    !server.is_local() && (used(server.accounts) || used(server.passwords))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const PAM: (&str, &str) =
            ("d/etc/pam.d/sshd", "auth sufficient pam_krb5.so\nauth required pam_unix.so\n");
        for (lines, wanted) in [
            ("ldap_uri = ldaps://a\nldap_tls_reqcert = never\n", &["fail high d sssd.conf:6"][..]),
            ("ldap_uri = ldap://a\nldap_tls_reqcert = allow\n", &["fail high d sssd.conf:6"]),
            (
                "ldap_uri = ldaps://a\nldap_tls_reqcert = never\nauth_provider = none\n",
                &["fail medium d sssd.conf:6"],
            ),
            ("ldap_uri = ldaps://a\nldap_tls_reqcert = demand\n", &["pass d"]),
            ("ldap_uri = ldaps://a\n", &["pass d"]),
            ("ldap_uri = ldaps://127.0.0.1\nldap_tls_reqcert = never\n", &[]),
            (
                "ldap_uri = ldaps://a\nauth_provider = krb5\nkrb5_server = k\n",
                &["pass d", "fail medium d sssd.conf:3"],
            ),
            ("ldap_uri = ldaps://a\nauth_provider = krb5\nkrb5_validate = true\n", &["pass d", "pass d"]),
        ] {
            let text = format!("[sssd]\ndomains = quay\n[domain/quay]\nid_provider = ldap\n{lines}");
            run(&CHECK, &[(lines, &[("d/etc/sssd/sssd.conf", &text)], wanted)]);
        }
        let other = "[sssd]\ndomains = quay\n[domain/quay]\nid_provider = proxy\nproxy_lib_name = x\n";
        run(&CHECK, &[("another provider", &[("d/etc/sssd/sssd.conf", other)], &["ask d"])]);
        for (path, text, wanted) in [
            ("d/etc/nslcd.conf", "uri ldaps://a\ntls_reqcert never\n", &["fail high d nslcd.conf:2"][..]),
            ("d/etc/nslcd.conf", "uri ldap://a\ntls_reqcert never\n", &[]),
            ("d/etc/ldap/ldap.conf", "URI ldap://a\nTLS_REQCERT never\n", &["fail low d ldap.conf:2"]),
            ("d/etc/ldap/ldap.conf", "TLS_REQCERT allow\n", &["fail low d ldap.conf:1"]),
            ("d/etc/krb5.conf", "[libdefaults]\ndefault_realm = Q\n", &[]),
        ] {
            run(&CHECK, &[(text, &[(path, text)], wanted)]);
        }
        for (line, wanted) in
            [("", "fail medium d krb5.conf:2 sshd:1"), ("verify_ap_req_nofail = true\n", "pass d")]
        {
            let text = format!("[libdefaults]\ndefault_realm = Q\n{line}");
            run(&CHECK, &[(line, &[("d/etc/krb5.conf", &text), PAM], &[wanted])]);
        }
    }
}
