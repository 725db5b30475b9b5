//! A Wi-Fi network uses a broken encryption method.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::housekeeping::{Radio, WifiProtection};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/legacy-wifi-encryption",
    area: Area::Ciphers,
    title: "WEP, WPA or TKIP enabled",
    severity: Severity::High,
    why: "A WEP key is recovered within minutes of listening, whatever its length. WPA and TKIP were interim solutions of \
          2003, are withdrawn from the standard, and permit packet forgery.",
    fix: "Use WPA3, or WPA2 with AES (CCMP) and protected management frames (`wpa=2`, `rsn_pairwise=CCMP`, \
          `wpa_key_mgmt=SAE` or `WPA-EAP`, `ieee80211w=2`), and replace devices that do not support it.",
    judged: "Fails for WEP; one level lower for WPA of the first generation and for TKIP beside CCMP. Passes for WPA2 with \
             CCMP and for WPA3. Open networks are reported in the area logins.",
    references: &["IEEE 802.11-2016, 12.3", "RFC 7465 (RC4)", "NIST SP 800-153, 2"],
    needs: &[Need::Wireless],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in device.facts.radios.iter().filter(|one| one.protection != WifiProtection::Open) {
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Wifi).with(&one.interface).with(&one.name),
                judge(one),
            ));
        }
    }
    answers
}

fn judge(one: &Radio) -> Verdict {
    let fail = |severity, what: &str, why: &str, evidence| {
        Verdict::Fail(Fail {
            rating: CHECK.rated_at(severity, why),
            title: format!("Wi-Fi network `{}` uses {what}", one.name).into(),
            detail: format!("Interface: {}.", one.interface).into(),
            evidence,
        })
    };
    match (one.protection, one.tkip) {
        (WifiProtection::Wep, _) => fail(
            CHECK.severity,
            "WEP",
            "the key is recovered by listening",
            vec![one.protection_origin, one.origin],
        ),
        (WifiProtection::Wpa, tkip) => fail(
            CHECK.severity.lower(),
            "first-generation WPA",
            "a withdrawn protocol is accepted as well",
            [one.protection_origin].into_iter().chain(tkip).collect(),
        ),
        (_, Some(line)) => {
            fail(CHECK.severity.lower(), "TKIP", "a withdrawn cipher is accepted", vec![line, one.origin])
        }
        _ => Verdict::pass(one.protection_origin),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("wep_key0=123456789a\n", &["fail high d hostapd.conf:3 hostapd.conf:2"][..]),
            ("wpa=1\nwpa_pairwise=CCMP\n", &["fail medium d hostapd.conf:3"]),
            (
                "wpa=3\nrsn_pairwise=CCMP\nwpa_pairwise=TKIP\n",
                &["fail medium d hostapd.conf:3 hostapd.conf:5"],
            ),
            ("wpa=2\nrsn_pairwise=CCMP TKIP\n", &["fail medium d hostapd.conf:4 hostapd.conf:2"]),
            ("wpa=2\nrsn_pairwise=CCMP\nwpa_key_mgmt=SAE\n", &["pass d"]),
            ("wpa=2\n#wpa_pairwise=TKIP\nrsn_pairwise=CCMP\n", &["pass d"]),
            ("", &[]),
        ] {
            let text = format!("interface=wlan0\nssid=quay\n{lines}");
            run(&CHECK, &[(lines, &[("d/etc/hostapd/hostapd.conf", &text)], wanted)]);
        }
    }
}
