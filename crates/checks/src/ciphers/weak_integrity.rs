//! A tunnel may use a weak digest.

use crate::check::{Answer, Check, Need, Run};
use crate::ciphers::judge;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::offer::AlgorithmRole;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/weak-integrity",
    area: Area::Ciphers,
    title: "Weak integrity algorithm offered",
    severity: Severity::Medium,
    why: "The integrity algorithm detects changes and is used to derive keys. A weak or missing one lets an attacker on the \
          path change encrypted data and, with some protocols, read it.",
    fix: "Offer SHA-256 or longer, or ciphers with built-in integrity (AES-GCM, ChaCha20-Poly1305).",
    judged: "Fails where a hash or key-derivation function is broken, deprecated or being phased out according to the \
             algorithm table, including defaults. Hashes do not count where only ciphers with built-in integrity may be \
             negotiated.",
    references: &["RFC 8221, 6", "RFC 8247, 2.2 and 2.3", "RFC 6151", "NIST SP 800-131A Rev. 2"],
    needs: &[Need::Services, Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    judge(&CHECK, estate, &[AlgorithmRole::Integrity, AlgorithmRole::Prf], "integrity", false)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("MD5", "data-ciphers AES-256-CBC\nauth MD5", &["fail medium d s.conf:4"][..]),
            ("none", "data-ciphers AES-256-CBC\nauth none", &["fail high d s.conf:4"]),
            (
                "the default beside a cipher that needs it",
                "data-ciphers AES-256-CBC",
                &["fail info d s.conf:2"],
            ),
            ("not needed", "data-ciphers AES-256-GCM\nauth MD5", &["none d"]),
            ("current", "data-ciphers AES-256-CBC\nauth SHA256", &["pass d"]),
        ] {
            let text = format!("dev tun\nserver 10.88.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(name, &[("d/s.conf", &text)], wanted)]);
        }
        for (name, text, wanted) in [
            (
                "MD5 among better ones",
                "conn c\n\tauto=add\n\tesp=aes256-sha256,aes256-md5\n",
                &["fail medium d ipsec.conf:3"][..],
            ),
            ("SHA-1", "conn c\n\tauto=add\n\tike=aes256-sha1-ecp256\n", &["fail low d ipsec.conf:3"]),
            (
                "current",
                "conn c\n\tauto=add\n\tike=aes256gcm16-prfsha384-ecp384!\n\tesp=aes256gcm16!\n",
                &["pass d"],
            ),
            (
                "Libreswan, cut short",
                "conn c\n\tauto=add\n\tikev2=insist\n\tsha2-truncbug=yes\n",
                &["fail low d ipsec.conf:4"],
            ),
            (
                "the daemon's own list",
                "conn c\n\tauto=add\n\tcloseaction=none\n",
                &["fail info d ipsec.conf:1"],
            ),
        ] {
            run(&CHECK, &[(name, &[("d/ipsec.conf", text)], wanted)]);
        }
    }
}
