//! A service lets clients in by outdated or unsafe means.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::of_kinds;
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::served::{ServedKind, ServiceWeakness, Sources};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/weak-service-login",
    area: Area::Logins,
    title: "Service accepts an outdated or unsafe login",
    severity: Severity::Medium,
    why: "Old forms of proof are cracked from one recorded login, and settings for the convenience of old clients remain when \
          the clients are gone. Each of them lets an attacker in where the usual login would not.",
    fix: "Remove the setting: the defaults of current versions are safe. Where an old client still needs it, move the client \
          to a server of its own. For a Kerberos realm set `default_principal_flags = +preauth`, and the flag for existing accounts.",
    judged: "Fails for each of these settings of a running service: OpenLDAP's `allow bind_anon_dn` and `bind_v2`; Samba's `lanman auth`, `ntlm auth` with version 1, `null \
             passwords`, `encrypt passwords = no`, `server schannel` below `yes` on a domain controller, and wide links with \
             `allow insecure wide links`; ProFTPD's `RootLogin`; `AllowRootLogin` of xrdp; a Cockpit whose \
             `disallowed-users` does not name root; keys of BIND with HMAC-MD5; a Kerberos realm without `default_principal_flags = +preauth`. Passes where none is set.",
    references: &[
        "smb.conf(5), ntlm auth",
        "CVE-2020-1472",
        "RFC 8945, 6",
        "mod_auth of ProFTPD, RootLogin",
        "RFC 4120, 5.2.7; kdc.conf(5), default_principal_flags",
    ],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

/// Programs whose settings are looked at.
const PROGRAMS: [&str; 7] = ["BIND", "Cockpit", "OpenLDAP", "ProFTPD", "Samba", "krb5kdc", "xrdp"];

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(
        estate,
        &[
            ServedKind::Shares,
            ServedKind::Transfers,
            ServedKind::Names,
            ServedKind::Directory,
            ServedKind::RemoteDesktop,
            ServedKind::Pages,
        ],
    ) {
        if one.served.is_local() {
            continue;
        }
        // Other programs have none of these settings.
        if one.served.weaknesses.is_empty() && !PROGRAMS.contains(&one.served.program) {
            continue;
        }
        if one.served.weaknesses.is_empty() {
            answers.push(Answer::new(
                one.device,
                Subject::served(one.served),
                Verdict::pass(one.served.origin),
            ));
            continue;
        }
        let mut lines: BTreeMap<ServiceWeakness, Vec<Origin>> = BTreeMap::new();
        for (weakness, line) in &one.served.weaknesses {
            lines.entry(*weakness).or_default().push(*line);
        }
        for (weakness, lines) in lines {
            let (severity, why, title, detail) = case(weakness);
            let verdict = one.fail_of(
                CHECK.rated_at(severity, why),
                &Sources::everybody(),
                format!("{} {title}", one.title()),
                detail.to_owned(),
                lines,
            );
            answers.push(Answer::new(
                one.device,
                Subject::served(one.served).with(<&'static str>::from(weakness)),
                verdict,
            ));
        }
    }
    answers
}

/// Severity of a weakness, its reason, and the texts of the finding: title and detail.
fn case(weakness: ServiceWeakness) -> (Severity, &'static str, &'static str, &'static str) {
    match weakness {
        ServiceWeakness::Lanman => (
            Severity::High,
            "any password is found in minutes from one login",
            "accepts LAN Manager authentication",
            "The LAN Manager hash has no case and is cracked in halves of seven characters.",
        ),
        ServiceWeakness::NtlmOne => (
            Severity::Medium,
            "a login must be recorded or provoked first",
            "accepts NTLMv1",
            "The response of NTLMv1 is encrypted with DES and reveals the password hash, which is as good as the password.",
        ),
        ServiceWeakness::NullPasswords => (
            Severity::Medium,
            "it takes effect for accounts without a password",
            "accepts accounts without a password",
            "`null passwords` permits logins to accounts with an empty password.",
        ),
        ServiceWeakness::ClearPasswords => (
            Severity::High,
            "an attacker on the path reads every password",
            "requires passwords in clear text",
            "`encrypt passwords = no` makes clients send the password itself.",
        ),
        ServiceWeakness::EmptyPassword => (
            Severity::Medium,
            "programs that check passwords by a login at the directory accept an empty one",
            "accepts logins with an empty password",
            "With `bind_anon_dn` a login with a user name and no password succeeds, as one without a name.",
        ),
        ServiceWeakness::LdapTwo => (
            Severity::Low,
            "it affects old clients that use it",
            "accepts LDAP version 2",
            "Version 2 has neither TLS nor SASL, and is historic since 2003 (RFC 3494).",
        ),
        ServiceWeakness::NoPreauthentication => (
            Severity::Medium,
            "it holds for accounts that were made without the flag",
            "creates accounts without pre-authentication",
            "For such an account the server gives anyone a reply encrypted with its password, by which the password is guessed offline.",
        ),
        ServiceWeakness::OpenNetlogon => (
            Severity::High,
            "a client without a password can take over the domain",
            "accepts Netlogon without a secure channel",
            "Without `server schannel = yes` a domain controller accepts unprotected Netlogon requests (CVE-2020-1472).",
        ),
        ServiceWeakness::WideLinks => (
            Severity::Medium,
            "a login to the share is required first",
            "follows links that clients make out of the share",
            "A client can create a link in the share to any file that its user may read on the server.",
        ),
        ServiceWeakness::RootLogin => (
            Severity::High,
            "a password alone gives root",
            "permits logins as root",
            "The password of root is accepted, and with it every file of the system can be replaced.",
        ),
        ServiceWeakness::Md5Keys => (
            Severity::Low,
            "no practical attack on HMAC-MD5 is known",
            "uses keys with HMAC-MD5",
            "HMAC-MD5 is no longer to be used for signing DNS messages. Create new keys with `tsig-keygen -a hmac-sha256`.",
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (path, text, wanted) in [
            (
                "d/etc/samba/smb.conf",
                "[global]\nlanman auth = yes\n[a]\npath = /a\n",
                &["fail high d smb.conf:2"][..],
            ),
            (
                "d/etc/samba/smb.conf",
                "[global]\nntlm auth = ntlmv1-permitted\n[a]\npath = /a\n",
                &["fail medium d smb.conf:2"],
            ),
            ("d/etc/samba/smb.conf", "[global]\nntlm auth = ntlmv2-only\n[a]\npath = /a\n", &["pass d"]),
            ("d/etc/samba/smb.conf", "[global]\n# lanman auth = yes\n[a]\npath = /a\n", &["pass d"]),
            (
                "d/etc/samba/smb.conf",
                "[global]\nnull passwords = yes\nencrypt passwords = no\n[a]\npath = /a\n",
                &["fail medium d smb.conf:2", "fail high d smb.conf:3"],
            ),
            (
                "d/etc/samba/smb.conf",
                "[global]\nserver role = active directory domain controller\nserver schannel = auto\n[a]\npath = /a\n",
                &["fail high d smb.conf:3"],
            ),
            (
                "d/etc/samba/smb.conf",
                "[global]\nserver role = standalone server\nserver schannel = auto\n[a]\npath = /a\n",
                &["pass d"],
            ),
            (
                "d/etc/samba/smb.conf",
                "[global]\nallow insecure wide links = yes\n[a]\npath = /a\nwide links = yes\n",
                &["fail medium d smb.conf:2"],
            ),
            (
                "d/etc/samba/smb.conf",
                "[global]\nunix extensions = no\n[a]\npath = /a\nwide links = yes\n",
                &["pass d"],
            ),
            ("d/etc/proftpd/proftpd.conf", "DefaultRoot ~\nRootLogin on\n", &["fail high d proftpd.conf:2"]),
            ("d/etc/proftpd/proftpd.conf", "DefaultRoot ~\nRootLogin off\n", &["pass d"]),
            ("d/etc/cockpit/disallowed-users", "# none\n", &["fail high d disallowed-users:1"]),
            ("d/etc/cockpit/disallowed-users", "root\n", &["pass d"]),
            ("d/etc/xrdp/xrdp.ini", "[Globals]\nport=3389\n", &["pass d"]),
            ("d/etc/krb5kdc/kdc.conf", "[realms]\nQ = {\nmax_life = 1h\n}\n", &["fail medium d kdc.conf:3"]),
            (
                "d/etc/krb5kdc/kdc.conf",
                "[realms]\nQ = {\ndefault_principal_flags = -preauth\n}\n",
                &["fail medium d kdc.conf:3"],
            ),
            (
                "d/etc/krb5kdc/kdc.conf",
                "[realms]\nQ = {\ndefault_principal_flags = +preauth\n}\n",
                &["pass d"],
            ),
            (
                "d/etc/bind/named.conf",
                "key \"k\" {\n algorithm hmac-md5;\n secret \"U2VzYW1lOTk=\";\n};\nzone \"quay.example\" { type primary; file \"/x\"; };\n",
                &["fail low d named.conf:2"],
            ),
            (
                "d/etc/bind/named.conf",
                "key \"k\" {\n algorithm hmac-sha256;\n secret \"U2VzYW1lOTk=\";\n};\nzone \"quay.example\" { type primary; file \"/x\"; };\n",
                &["pass d"],
            ),
        ] {
            run(&CHECK, &[(text, &[(path, text)], wanted)]);
        }
    }
}
