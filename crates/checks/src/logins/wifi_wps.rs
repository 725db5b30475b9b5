//! Clients join a Wi-Fi network by button or PIN (WPS).

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/wifi-wps",
    area: Area::Logins,
    title: "Wi-Fi Protected Setup (WPS) enabled",
    severity: Severity::Medium,
    why: "WPS reveals the passphrase to any client with the correct PIN, and the PIN is verified in two halves: 11,000 \
          attempts are enough. With the push button, any client may join within two minutes.",
    fix: "Disable WPS (`wps_state=0`) and distribute the passphrase or login by hand.",
    judged: "Fails for each network with WPS enabled. Passes where it is disabled, which is the default.",
    references: &["CERT VU#723755", "NIST SP 800-153, 2"],
    needs: &[Need::Wireless],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in &device.facts.radios {
            let verdict = one.setup.map_or_else(
                || Verdict::pass(one.origin),
                |line| {
                    Verdict::Fail(Fail {
                        rating: CHECK.rated("usable by anyone in radio range"),
                        title: format!("WPS enabled for Wi-Fi network `{}`", one.name).into(),
                        detail: "Wi-Fi Protected Setup is enabled by this setting.".into(),
                        evidence: vec![line, one.origin],
                    })
                },
            );
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
        for (line, wanted) in [
            ("wps_state=2\n", "fail medium d hostapd.conf:4 hostapd.conf:2"),
            ("wps_state=0\n", "pass d"),
            ("#wps_state=2\n", "pass d"),
            ("", "pass d"),
        ] {
            let text = format!("interface=wlan0\nssid=quay\nwpa=2\n{line}");
            run(&CHECK, &[(line, &[("d/etc/hostapd/hostapd.conf", &text)], &[wanted])]);
        }
    }
}
