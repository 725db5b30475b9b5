//! The keys of a tunnel are kept too long.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::listed;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::ipsec::IpsecConnection;
use trevlin_model::{Origin, Setting, Tunnel, TunnelFamily, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/long-key-lifetime",
    area: Area::Ciphers,
    title: "Key lifetime too long",
    severity: Severity::Low,
    why: "The longer a key is used, the more data its compromise reveals, and the more ciphertext supports an attack on \
          legacy ciphers. A tunnel that never rekeys also never re-authenticates its peer.",
    fix: "Limit IKE keys to one day and data keys to some hours.",
    judged: "Fails where IKE keys live longer than the baseline permits (24 hours), where data keys live longer than 8 \
             hours, where rekeying is off, and for OpenVPN servers with `reneg-sec 0` or more than 8 hours. The defaults of \
             the daemons are within these limits.",
    references: &[
        "NIST SP 800-77 Rev. 1",
        "BSI TR-02102-3",
        "swanctl.conf(5), rekey_time",
        "openvpn(8), --reneg-sec",
    ],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running() {
            let found = match &tunnel.ipsec {
                Some(connection) if connection.negotiates() => of_connection(connection, baseline.at(at)),
                Some(_) => continue,
                None if tunnel.family == TunnelFamily::OpenVpn && tunnel.role == TunnelRole::Server => {
                    of_server(tunnel, baseline.at(at))
                }
                None => continue,
            };
            answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict(tunnel, &found)));
        }
    }
    answers
}

/// The setting that is too long, with its line; a length of 0 is unlimited.
fn too_long(what: &str, setting: &Setting<u64>, most: u64) -> Option<(String, Origin)> {
    let (seconds, origin) = setting.stated()?;
    match seconds {
        0 => Some((format!("never renews {what}"), origin)),
        seconds if *seconds > most => {
            Some((format!("uses {what} for {} hours (maximum {})", hours(*seconds), hours(most)), origin))
        }
        _ => None,
    }
}

fn hours(seconds: u64) -> String {
    let tenths = (seconds * 10).div_ceil(60 * 60);
    if tenths.is_multiple_of(10) {
        (tenths / 10).to_string()
    } else {
        format!("{}.{}", tenths / 10, tenths % 10)
    }
}

fn of_connection(connection: &IpsecConnection, thresholds: &Thresholds) -> Vec<(String, Origin)> {
    let mut found: Vec<_> =
        too_long("IKE keys", &connection.rekey, thresholds.ike_lifetime).into_iter().collect();
    for child in &connection.children {
        let what = format!("data keys of `{}`", child.name);
        found.extend(too_long(&what, &child.rekey, thresholds.data_lifetime));
    }
    found
}

fn of_server(tunnel: &Tunnel, thresholds: &Thresholds) -> Vec<(String, Origin)> {
    let stated = tunnel.stated("reneg-sec").and_then(|(value, origin)| {
        let value = value.split(' ').next()?.parse().ok()?;
        Some(Setting::Stated { value, origin })
    });
    stated.and_then(|setting| too_long("keys", &setting, thresholds.data_lifetime)).into_iter().collect()
}

fn verdict(tunnel: &Tunnel, found: &[(String, Origin)]) -> Verdict {
    let Some((first, _)) = found.first() else { return Verdict::pass(tunnel.origin) };
    let (detail, evidence) = listed(found);
    Verdict::Fail(Fail {
        rating: CHECK.rated("an attacker must obtain the key first"),
        title: format!("{} {first}", name_of(tunnel)).into(),
        detail: format!("{} {detail}", name_of(tunnel)).into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("the daemon's own", "", "pass d"),
            ("a day", "ikelifetime=24h", "pass d"),
            ("two days", "ikelifetime=48h\n\tlifetime=12h", "fail low d ipsec.conf:3 ipsec.conf:4"),
            ("in a comment", "#ikelifetime=48h", "pass d"),
        ] {
            let text = format!("conn c\n\tauto=add\n\t{lines}\n");
            run(&CHECK, &[(name, &[("d/ipsec.conf", &text)], &[wanted])]);
        }
        let never =
            "connections {\n c {\n  rekey_time = 0\n  children {\n   n { rekey_time = 1h }\n  }\n }\n}\n";
        run(&CHECK, &[("never", &[("d/swanctl.conf", never)], &["fail low d swanctl.conf:3"])]);
        let again = "connections {\n c {\n  rekey_time = 0\n  reauth_time = 3h\n }\n}\n";
        run(&CHECK, &[("set up anew instead", &[("d/swanctl.conf", again)], &["pass d"])]);
        for (line, wanted) in
            [("reneg-sec 0", "fail low d s.conf:3"), ("reneg-sec 3600", "pass d"), ("", "pass d")]
        {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{line}\n");
            run(&CHECK, &[(line, &[("d/s.conf", &text)], &[wanted])]);
        }
    }
}
