//! A tunnel may use weak encryption.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::ciphers::judge;
use crate::subject::Subject;
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::offer::AlgorithmRole;
use trevlin_model::{Reference, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/weak-encryption",
    area: Area::Ciphers,
    title: "Weak encryption offered",
    severity: Severity::High,
    why: "A tunnel is as strong as the weakest cipher that both ends accept, since an attacker on the path can often force \
          it. Ciphers with 64-bit blocks leak content after some gigabytes, and older ones can be broken by brute force.",
    fix: "Offer only AES-GCM and ChaCha20-Poly1305. Where a legacy device needs a legacy cipher, give it a separate \
          connection until it is replaced. For Kerberos permit kinds with AES alone, then change the passwords of accounts that have other keys.",
    judged: "Fails where an algorithm that may be negotiated is broken, deprecated or being phased out according to the \
             algorithm table, even among stronger ones; a deprecated one is graded high where it is the first choice of the end whose order decides. Undetermined where a name is not in the table, and where the version \
             decides the default. Commented lines, and lists that a later line replaces, do not count.",
    references: &[
        "RFC 8221, 5",
        "RFC 8247, 2.1",
        "NIST SP 800-77 Rev. 1, 3.2",
        "NIST SP 800-131A Rev. 2",
        "BSI TR-02102-3",
    ],
    needs: &[Need::Services, Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = judge(&CHECK, estate, &[AlgorithmRole::Encryption], "encryption", true);
    for (at, device) in estate.devices.iter().enumerate() {
        answers.extend(device.facts.running().filter_map(|tunnel| {
            Some(Answer::new(at, Subject::tunnel(tunnel).with("offers"), unstated(tunnel)?))
        }));
    }
    answers.sort_by_key(|answer| answer.device);
    answers
}

/// The request for the algorithms of a tunnel of a sheet that states none, or names a list whose content no screen shows.
fn unstated(tunnel: &Tunnel) -> Option<Verdict> {
    let negotiates = matches!(
        tunnel.family,
        TunnelFamily::Ipsec | TunnelFamily::Tls | TunnelFamily::OpenVpn | TunnelFamily::TlsRelay
    );
    if !negotiates || tunnel.offers.iter().any(|offer| !offer.algorithms.is_empty()) {
        return None;
    }
    let missing = Reference::left_open(&tunnel.missing)?;
    let name = &name_of(tunnel);
    Some(match tunnel.policy.as_ref().and_then(|policy| policy.standard_proposals.as_ref()) {
        Some((list, origin)) => Verdict::ask(
            format!(
                "Please list the algorithms in `{list}`, which {name} negotiates: their list is not shown."
            ),
            vec![*origin],
        ),
        None => Verdict::ask_reference(missing, &format!("which algorithms {name} negotiates (`offers`)")),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            (
                "Blowfish from old callers",
                "data-ciphers AES-256-GCM\ndata-ciphers-fallback BF-CBC",
                &["fail medium d s.conf:4"][..],
            ),
            ("in a comment", "data-ciphers AES-256-GCM\n#data-ciphers-fallback BF-CBC", &["pass d"]),
            ("first in the server's order", "data-ciphers BF-CBC:AES-256-GCM", &["fail high d s.conf:3"]),
            ("none at all", "data-ciphers AES-256-GCM:none", &["fail high d s.conf:3"]),
            ("stated, for versions up to 2.5", "cipher BF-CBC", &["fail medium d s.conf:3"]),
            (
                "a later line replaces an earlier one",
                "data-ciphers BF-CBC\ndata-ciphers AES-256-GCM",
                &["pass d"],
            ),
            ("nothing stated", "", &["ask d"]),
            ("a name of no table", "data-ciphers AES-256-GCM:WOBBLE-256", &["ask d"]),
        ] {
            let text = format!("dev tun\nserver 10.88.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(name, &[("d/s.conf", &text)], wanted)]);
        }
        for (path, text, wanted) in [
            (
                "d/etc/krb5.conf",
                "[libdefaults]\npermitted_enctypes = aes256-cts rc4\n",
                &["fail medium d krb5.conf:2"][..],
            ),
            ("d/etc/krb5.conf", "[libdefaults]\nallow_weak_crypto = true\n", &["fail medium d krb5.conf:2"]),
            ("d/etc/krb5.conf", "[libdefaults]\npermitted_enctypes = aes256-sha2 aes256-cts\n", &["pass d"]),
            ("d/etc/krb5.conf", "[libdefaults]\n# permitted_enctypes = rc4\ndefault_realm = Q\n", &[]),
            (
                "d/etc/krb5kdc/kdc.conf",
                "[realms]\nQ = {\nsupported_enctypes = aes256-cts:normal des3-hmac-sha1:normal\n}\n",
                &["fail medium d kdc.conf:3"],
            ),
        ] {
            run(&CHECK, &[(text, &[(path, text)], wanted)]);
        }
        // The server's order counts where it says so, and version 1.3 has suites of its own.
        for (order, versions, wanted) in [
            ("on", "TLSv1.2", "fail high d nginx.conf:4"),
            ("off", "TLSv1.2", "fail medium d nginx.conf:4"),
            ("on", "TLSv1.2 TLSv1.3", "fail medium d nginx.conf:4"),
        ] {
            let text = format!(
                "http {{\n ssl_protocols {versions};\n ssl_prefer_server_ciphers {order};\n ssl_ciphers \
                 DES-CBC3-SHA:ECDHE-RSA-AES128-GCM-SHA256;\n server {{ listen 443 ssl; }}\n}}\n"
            );
            run(&CHECK, &[(order, &[("d/etc/nginx/nginx.conf", &text)], &[wanted])]);
        }
        for (name, line, wanted) in [
            ("added to the shell's own list", "Ciphers +3des-cbc", &["fail medium d sshd_config:2"][..]),
            ("the shell's own list", "PermitRootLogin no", &[]),
            ("a list of the shell", "Ciphers aes256-gcm@openssh.com,aes256-ctr", &["pass d"]),
            ("taken away from the shell's list", "Ciphers -aes128-ctr", &["pass d"]),
        ] {
            run(&CHECK, &[(name, &[("d/etc/ssh/sshd_config", &format!("Port 22\n{line}\n"))], wanted)]);
        }
        for (name, text, wanted) in [
            (
                "among better ones",
                "conn c\n\tauto=add\n\tike=aes256-sha256-ecp256,3des-sha1-modp1024\n",
                &["fail medium d ipsec.conf:3"][..],
            ),
            (
                "before better ones",
                "conn c\n\tauto=add\n\tike=3des-sha1-modp1024,aes256-sha256-ecp256!\n",
                &["fail high d ipsec.conf:3"],
            ),
            (
                "the second of its proposal",
                "conn c\n\tauto=add\n\tike=aes256-3des-sha1-ecp256!\n",
                &["fail medium d ipsec.conf:3"],
            ),
            ("integrity alone", "conn c\n\tauto=add\n\tesp=aes128gmac!\n", &["fail high d ipsec.conf:3"]),
            ("no encryption", "conn c\n\tauto=add\n\tesp=null-sha256\n", &["fail high d ipsec.conf:3"]),
            (
                "inherited and replaced",
                "conn %default\n\tesp=3des-md5\n\tike=aes256gcm16-prfsha384-ecp384!\nconn c\n\tauto=add\n\tesp=aes256gcm16!\n",
                &["pass d"],
            ),
            (
                "inherited",
                "conn %default\n\tesp=3des-md5\n\tike=aes256gcm16-prfsha384-ecp384!\nconn c\n\tauto=add\n",
                &["fail high d ipsec.conf:2"],
            ),
            (
                "the daemon's own list",
                "conn c\n\tauto=add\n\tcloseaction=none\n",
                &["fail low d ipsec.conf:1"],
            ),
            ("the list of a daemon that nothing shows", "conn c\n\tauto=add\n", &["ask d"]),
            (
                "its own list is added to what is stated",
                "conn c\n\tauto=add\n\tike=aes256gcm16-prfsha384-ecp384\n\tcloseaction=none\n",
                &["fail low d ipsec.conf:3"],
            ),
            ("Libreswan's own list", "conn c\n\tauto=add\n\tikev2=insist\n", &["pass d"]),
            (
                "Libreswan's own list of version 1",
                "conn c\n\tauto=add\n\tikev2=no\n",
                &["fail low d ipsec.conf:1"],
            ),
            (
                "Libreswan's names",
                "conn c\n\tauto=add\n\tikev2=insist\n\tike=aes_gcm256-sha2;dh19,3des-sha1;dh5\n",
                &["fail medium d ipsec.conf:4"],
            ),
            ("switched off", "conn c\n\tauto=ignore\n\tesp=3des-md5\n", &[]),
        ] {
            run(&CHECK, &[(name, &[("d/ipsec.conf", text)], wanted)]);
        }
    }
}
