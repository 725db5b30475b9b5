//! `hostapd.conf` (hostapd(8), hostapd.conf): Wi-Fi networks of a device, and their authentication.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, hold, is_known};
use std::collections::BTreeMap;
use trevlin_model::housekeeping::{Radio, WifiProtection};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::Requirement;
use trevlin_model::{Export, LineClass, Origin, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "hostapd",
    title: "Wi-Fi networks (hostapd)",
    manual: "hostapd(8), hostapd.conf",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    let keys: Vec<&str> = export
        .lines()
        .take(TELLING_LINES * 3)
        .filter_map(|line| line.text.split_once('='))
        .map(|one| one.0)
        .collect();
    let has = |name: &str| keys.contains(&name);
    if has("ssid")
        && (has("hw_mode") || has("wpa") || has("channel") || has("wpa_key_mgmt") || has("interface"))
    {
        Recognition::Content
    } else if export.path().contains("hostapd") && export.file_name().ends_with(".conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

pub(crate) type Values<'a> = BTreeMap<&'a str, (&'a str, Origin)>;

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut networks: Vec<Values<'_>> = vec![Values::new()];
    for line in export.lines() {
        let text = line.text.trim_end();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let Some((key, value)) = text.split_once('=') else {
            book.not_understood(origin, "expected `name=value`; the daemon refuses to start");
            continue;
        };
        if !is_known("hostapd", key) && key != "bss" {
            book.not_understood(origin, serving::unknown("hostapd.conf; the daemon refuses to start"));
            continue;
        }
        book.class(
            origin,
            if JUDGED.contains(&key) || key.starts_with("wep_key") {
                LineClass::Understood
            } else {
                LineClass::Ignored
            },
        );
        // A further network on the same radio.
        if key == "bss" {
            networks.push(Values::from([("interface", (value, origin))]));
        } else if let Some(last) = networks.last_mut() {
            last.insert(key, (value, origin));
        }
        let kind = match key {
            "wpa_passphrase" | "sae_password" => Some(SecretKind::RadioPassphrase),
            "auth_server_shared_secret" | "acct_server_shared_secret" => Some(SecretKind::RadiusSecret),
            "wpa_psk" | "ap_pin" => Some(SecretKind::SharedKey),
            key if key.starts_with("wep_key")
                && key != "wep_key_len_broadcast"
                && key != "wep_key_len_unicast" =>
            {
                Some(SecretKind::SharedKey)
            }
            _ => None,
        };
        if let Some(kind) = kind {
            let value = if key == "sae_password" { value.split('|').next().unwrap_or(value) } else { value };
            hold(export, &mut reading.facts, value, kind, "the Wi-Fi network");
        }
    }
    for values in &networks {
        reading.facts.radios.extend(radio(values));
    }
    reading
}

const JUDGED: [&str; 18] = [
    "interface",
    "bss",
    "ssid",
    "wpa",
    "wpa_key_mgmt",
    "wpa_pairwise",
    "rsn_pairwise",
    "wpa_passphrase",
    "wpa_psk",
    "wpa_psk_file",
    "sae_password",
    "wps_state",
    "ap_pin",
    "ieee80211w",
    "ap_isolate",
    "ieee8021x",
    "auth_server_shared_secret",
    "acct_server_shared_secret",
];

pub(crate) fn radio(values: &Values<'_>) -> Option<Radio> {
    let get = |name: &str| values.get(name).copied();
    let (name, line) = get("ssid").or_else(|| get("ssid2")).or_else(|| get("utf8_ssid"))?;
    let wep = values
        .iter()
        .find(|(key, _)| matches!(**key, "wep_key0" | "wep_key1" | "wep_key2" | "wep_key3"))
        .map(|one| one.1.1);
    let bits: u8 = get("wpa").and_then(|one| one.0.parse().ok()).unwrap_or(0);
    let methods: Vec<&str> =
        get("wpa_key_mgmt").map_or_else(|| vec!["WPA-PSK"], |one| one.0.split_whitespace().collect());
    let any = |wanted: &[&str]| methods.iter().any(|one| wanted.contains(one));
    let (protection, origin) = match (bits, wep) {
        (0, Some(origin)) => (WifiProtection::Wep, origin),
        (0, None) => (WifiProtection::Open, get("wpa").map_or(line, |one| one.1)),
        (bits, _) => {
            let origin = get("wpa_key_mgmt").or_else(|| get("wpa")).map_or(line, |one| one.1);
            let protection = if bits & 1 == 1 {
                WifiProtection::Wpa
            } else if any(&["WPA-PSK", "FT-PSK", "WPA-PSK-SHA256"]) {
                WifiProtection::Wpa2Passphrase
            } else if any(&["SAE", "FT-SAE", "SAE-EXT-KEY"]) {
                WifiProtection::Wpa3Passphrase
            } else if any(&["WPA-EAP-SUITE-B", "WPA-EAP-SUITE-B-192"]) {
                WifiProtection::Wpa3Login
            } else if any(&["OWE"]) {
                WifiProtection::Encrypted
            } else {
                WifiProtection::Wpa2Login
            };
            (protection, if bits & 1 == 1 { get("wpa").map_or(origin, |one| one.1) } else { origin })
        }
    };
    // The pairs for WPA2 are those for WPA where they are not stated, and these are TKIP where they are not (hostapd.conf).
    let first = get("wpa_pairwise");
    let pairs =
        if bits & 1 == 1 { [first, get("rsn_pairwise")] } else { [get("rsn_pairwise").or(first), None] };
    let tkip = pairs
        .into_iter()
        .flatten()
        .find(|one| one.0.split_whitespace().any(|word| word == "TKIP"))
        .map(|one| one.1);
    let none_stated = bits != 0 && pairs.iter().all(Option::is_none);
    let tkip = tkip.or_else(|| none_stated.then_some(get("wpa").map_or(line, |one| one.1)));
    let setup = get("wps_state").filter(|one| one.0 != "0").map(|one| one.1);
    let frames = match get("ieee80211w") {
        Some((word, origin)) => Setting::Stated {
            value: match word {
                "2" => Requirement::Required,
                "1" => Requirement::Offered,
                _ => Requirement::Never,
            },
            origin,
        },
        None => Setting::default_of(Requirement::Never, "hostapd", "hostapd.conf, ieee80211w"),
    };
    Some(Radio {
        name: name.trim_matches('"').to_owned(),
        interface: get("interface").map_or(String::new(), |one| one.0.to_owned()),
        protection,
        protection_origin: origin,
        tkip,
        setup,
        management_frames: frames,
        clients_apart: get("ap_isolate").is_some_and(|one| one.0 == "1"),
        origin: line,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export =
            Export::new(ExportId(0), "d/etc/hostapd/hostapd.conf", format!("interface=wlan0\n{text}"));
        read(&export, &ReadContext::default())
    }

    #[test]
    fn networks() {
        for (text, wanted) in [
            ("ssid=quay\n", &["quay Open  "][..]),
            ("ssid=quay\nwep_key0=123456789a\n", &["quay Wep  "]),
            ("ssid=quay\nwpa=1\nwpa_pairwise=CCMP\nwpa_passphrase=Sesame-9\n", &["quay Wpa  "]),
            ("ssid=quay\nwpa=2\nwpa_passphrase=Sesame-9\n", &["quay Wpa2Passphrase tkip "]),
            ("ssid=quay\nwpa=2\nrsn_pairwise=CCMP\nwps_state=2\n", &["quay Wpa2Passphrase  wps"]),
            (
                "ssid=quay\nwpa=2\nwpa_key_mgmt=SAE\nrsn_pairwise=CCMP\nieee80211w=2\n",
                &["quay Wpa3Passphrase  "],
            ),
            ("ssid=quay\nwpa=2\nwpa_key_mgmt=SAE WPA-PSK\nrsn_pairwise=CCMP\n", &["quay Wpa2Passphrase  "]),
            ("ssid=quay\nwpa=3\nwpa_key_mgmt=WPA-EAP\nwpa_pairwise=CCMP TKIP\n", &["quay Wpa tkip "]),
            (
                "ssid=quay\nwpa=2\nwpa_key_mgmt=WPA-EAP\nrsn_pairwise=CCMP\nbss=wlan0_1\nssid=guests\n",
                &["quay Wpa2Login  ", "guests Open  "],
            ),
        ] {
            let reading = of(text);
            let line = |one: &Radio| {
                format!(
                    "{} {:?} {} {}",
                    one.name,
                    one.protection,
                    if one.tkip.is_some() { "tkip" } else { "" },
                    if one.setup.is_some() { "wps" } else { "" }
                )
            };
            assert_eq!(reading.facts.radios.iter().map(line).collect::<Vec<_>>(), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty() && !format!("{reading:?}").contains("Sesame"), "{text}");
        }
        assert_eq!(of("colour=red\nbare\n").ledger.notes.len(), 2);
    }
}
