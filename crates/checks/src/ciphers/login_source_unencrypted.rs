//! A host takes its accounts from another system without encryption.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::login_sources::unused;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::prose::capitalized;
use trevlin_model::Origin;
use trevlin_model::login_source::{LoginServer, LoginSource, LoginSourceUse};
use trevlin_model::served::TransportSecurity;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/login-source-unencrypted",
    area: Area::Ciphers,
    title: "Accounts of a directory fetched without encryption",
    severity: Severity::Medium,
    why: "The host believes what the reply says: which accounts there are, and which group they are in. An attacker on the path changes the \
          reply, becomes a member of the administrators' group, and reads passwords that are sent.",
    fix: "Use `ldaps://`, or StartTLS (`ldap_id_use_start_tls = true` for SSSD, `ssl start_tls` for nslcd), and verify the certificate. \
          Replace NIS by a directory, since it has no encryption.",
    judged: "Judged for domains of SSSD, nslcd and NIS that the list of name services names, or where this list was not exported. Fails where \
             accounts travel in clear text: high where passwords of users do as well. SSSD sends passwords by TLS alone, unless \
             `ldap_auth_disable_tls_never_use_in_production` is set. Passes with TLS, with Kerberos as SASL mechanism, and for a server \
             on the host itself. Undetermined for providers whose settings are elsewhere.",
    references: &["sssd-ldap(5), ldap_id_use_start_tls", "nslcd.conf(5), ssl", "RFC 4513, 6"],
    needs: &[Need::Accounts],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let asked =
            |one: &&LoginSource| one.gives != LoginSourceUse::Lookups && unused(device, one).is_none();
        for source in device.facts.login_sources.iter().filter(asked) {
            let subject = Subject::of(SubjectKind::LoginSource).with(&source.name);
            answers.extend(judge(source).map(|verdict| Answer::new(at, subject, verdict)));
        }
    }
    answers
}

/// The request for settings of a system that the exports do not hold; nothing where they hold all.
pub(super) fn unknown(source: &LoginSource, about: &str) -> Option<Verdict> {
    let (what, line) = source.open.first()?;
    Some(Verdict::provide(format!("Please provide {what}"), Reason::decides(about.to_owned()), vec![*line]))
}

/// Nothing for systems to which neither accounts nor passwords go.
fn judge(source: &LoginSource) -> Option<Verdict> {
    let carrying: Vec<&LoginServer> =
        source.servers.iter().filter(|one| one.accounts.or(one.passwords).is_some()).collect();
    if carrying.is_empty() {
        return unknown(source, "how accounts reach the host");
    }
    let plain = Some(TransportSecurity::Plain);
    let far = |one: &&&LoginServer| !one.is_local();
    let open: Vec<&LoginServer> = carrying
        .iter()
        .filter(far)
        .filter(|one| one.accounts == plain || one.passwords == plain)
        .copied()
        .collect();
    let Some(first) = open.first() else {
        return Some(Verdict::pass_by(carrying.iter().map(|one| one.decided_origin), source.origin));
    };
    let passwords = open.iter().any(|one| one.passwords == plain);
    let rating = if passwords {
        CHECK.rated_at(Severity::High, "passwords of users travel as well")
    } else {
        CHECK.rating()
    };
    let host = if first.host.is_empty() { "a server that it finds in the network" } else { &first.host };
    let what = if passwords { "accounts and passwords" } else { "accounts" };
    let own = match source.own_password {
        Some(_) => format!(" The password by which {} itself logs in is sent as well.", source.program),
        None => String::new(),
    };
    let mut evidence: Vec<Origin> = Vec::new();
    for line in open.iter().flat_map(|one| [one.decided_origin, one.origin]).chain(source.own_password) {
        if !evidence.contains(&line) {
            evidence.push(line);
        }
    }
    Some(Verdict::Fail(Fail {
        rating,
        title: format!("{} fetches {what} without encryption", capitalized(&source.name)).into(),
        detail: format!("The exchange with {host} is in clear text.{own}").into(),
        evidence,
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const NAMES: (&str, &str) = ("d/etc/nsswitch.conf", "passwd: files sss\n");
        const NONE: (&str, &str) = ("d/etc/nsswitch.conf", "passwd: files\n");
        for (lines, names, wanted) in [
            ("ldap_uri = ldap://10.4.0.9\n", NAMES, &["fail medium d sssd.conf:5"][..]),
            (
                "ldap_uri = ldap://10.4.0.9\nldap_default_bind_dn = cn=r\nldap_default_authtok = Wn7kq2Lx\n",
                NAMES,
                &["fail medium d sssd.conf:5 sssd.conf:7"],
            ),
            (
                "ldap_uri = ldap://10.4.0.9\nldap_auth_disable_tls_never_use_in_production = true\n",
                NAMES,
                &["fail high d sssd.conf:6 sssd.conf:5"],
            ),
            ("ldap_uri = ldap://10.4.0.9\nldap_id_use_start_tls = true\n", NAMES, &["pass d"]),
            (
                "ldap_uri = ldap://10.4.0.9\n#ldap_id_use_start_tls = true\n",
                NAMES,
                &["fail medium d sssd.conf:5"],
            ),
            ("ldap_uri = ldaps://10.4.0.9\n", NAMES, &["pass d"]),
            ("ldap_uri = ldap://127.0.0.1\n", NAMES, &["pass d"]),
            ("ldap_uri = ldap://10.4.0.9\nldap_sasl_mech = GSSAPI\n", NAMES, &["pass d"]),
            // Nothing asks it for accounts.
            ("ldap_uri = ldap://10.4.0.9\n", NONE, &[]),
        ] {
            let text = format!("[sssd]\ndomains = quay\n[domain/quay]\nid_provider = ldap\n{lines}");
            run(&CHECK, &[(lines, &[("d/etc/sssd/sssd.conf", &text), names], wanted)]);
        }
        for (path, text, wanted) in [
            (
                "d/etc/nslcd.conf",
                "uri ldap://10.4.0.9\nssl off\n",
                &["fail high d nslcd.conf:2 nslcd.conf:1"][..],
            ),
            ("d/etc/nslcd.conf", "uri ldap://10.4.0.9\nssl start_tls\n", &["pass d"]),
            ("d/etc/yp.conf", "ypserver 10.4.0.9\n", &["fail high d yp.conf:1"]),
            ("d/etc/ldap/ldap.conf", "URI ldap://10.4.0.9\n", &[]),
            ("d/etc/krb5.conf", "[libdefaults]\ndefault_realm = Q\n[realms]\nQ = {\nkdc = k\n}\n", &[]),
        ] {
            run(&CHECK, &[(text, &[(path, text)], wanted)]);
        }
    }
}
