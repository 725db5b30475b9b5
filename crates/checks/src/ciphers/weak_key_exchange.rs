//! A tunnel may agree on keys in a weak group.

use crate::check::{Answer, Check, Run};
use crate::ciphers::judge;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::offer::AlgorithmRole;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/weak-key-exchange",
    area: Area::Ciphers,
    title: "Weak key-exchange group offered",
    severity: Severity::High,
    why: "An attacker who records traffic and breaks the key exchange can decrypt all of it, current and past. Groups of \
          1024 bits and less are within reach of well-funded attackers through precomputation.",
    fix: "Offer elliptic curves of 256 bits or more, Curve25519, or MODP groups of 3072 bits or more.",
    judged: "Fails where a group or curve that may be negotiated is broken, deprecated or being phased out according to the \
             algorithm table, even among stronger ones. Does not apply to tunnels whose key exchange is not analysed.",
    references: &[
        "RFC 8247, 2.4",
        "NIST SP 800-77 Rev. 1, 3.2",
        "NIST SP 800-131A Rev. 2, 5",
        "BSI TR-02102-3",
    ],
    controls: &[],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    judge(&CHECK, estate, &[AlgorithmRole::KeyExchange], "key exchange", false)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let openvpn = (
            "d/s.conf",
            "dev tun
server 10.88.0.0 255.255.255.0
data-ciphers AES-256-GCM
",
        );
        run(&CHECK, &[("not stated here", &[openvpn], &["none d"])]);
        for (name, text, wanted) in [
            (
                "1024 bits",
                "conn c\n\tauto=add\n\tike=aes256-sha256-modp1024!\n",
                &["fail medium d ipsec.conf:3"][..],
            ),
            (
                "768 bits among better ones",
                "conn c\n\tauto=add\n\tike=aes256-sha256-ecp384,aes256-sha256-modp768\n",
                &["fail high d ipsec.conf:3"],
            ),
            ("current", "conn c\n\tauto=add\n\tike=aes256-sha256-ecp384-ke1_mlkem768\n", &["pass d"]),
        ] {
            run(&CHECK, &[(name, &[("d/ipsec.conf", text)], wanted)]);
        }
    }
}
