//! A Wi-Fi network is open.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::housekeeping::WifiProtection;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/wifi-open",
    area: Area::Logins,
    title: "Open Wi-Fi network",
    severity: Severity::Medium,
    why: "Anyone in radio range can join the network and read unencrypted traffic. A captive portal is not access control.",
    fix: "Use WPA3 or WPA2 with individual logins (802.1X) for staff, and encryption without a login (OWE) for guests in a \
          network that leads to the Internet only.",
    judged: "Fails for each network without encryption; one level higher where its clients reach each other. Passes for all \
             others; legacy encryption is reported in the area ciphers.",
    references: &["RFC 8110", "NIST SP 800-153, 2"],
    needs: &[Need::Wireless],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in &device.facts.radios {
            let verdict = if one.protection == WifiProtection::Open {
                let severity = if one.clients_apart { CHECK.severity } else { CHECK.severity.raise() };
                let apart = if one.clients_apart { "isolated from" } else { "able to reach" };
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(severity, format!("its clients are {apart} each other")),
                    title: format!("Wi-Fi network `{}` is open", one.name).into(),
                    detail: format!("Interface {} uses no passphrase, login or encryption.", one.interface)
                        .into(),
                    evidence: vec![one.origin, one.protection_origin],
                })
            } else {
                Verdict::pass(one.protection_origin)
            };
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Wifi).with(&one.interface).with(&one.name),
                verdict,
            ));
        }
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (text, wanted) in [
            ("interface=wlan0\nssid=quay\n", &["fail high d hostapd.conf:2 hostapd.conf:2"][..]),
            (
                "interface=wlan0\nssid=quay\nap_isolate=1\nwpa=0\n",
                &["fail medium d hostapd.conf:2 hostapd.conf:4"],
            ),
            ("interface=wlan0\nssid=quay\nwpa=2\nwpa_key_mgmt=OWE\n", &["pass d"]),
            ("interface=wlan0\nssid=quay\nwpa=2\nwpa_passphrase=12345678\n", &["pass d"]),
            (
                "interface=wlan0\nssid=quay\nwpa=2\nbss=w1\nssid=guests\n",
                &["pass d", "fail high d hostapd.conf:5 hostapd.conf:5"],
            ),
        ] {
            run(&CHECK, &[(text, &[("d/etc/hostapd/hostapd.conf", text)], wanted)]);
        }
    }
}
