//! Callers who send everything through a tunnel still reach the network they are in.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::subject::Subject;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::plan::Sends;
use trevlin_model::{Origin, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/local-lan-access",
    area: Area::Tunnels,
    title: "Local LAN access in a full tunnel",
    severity: Severity::Info,
    why: "A machine that is in the hotel's network and in the inside at once is a bridge between the two: what attacks it there goes on from it here. \
          The routes of a full tunnel leave the local network out, since that route is narrower.",
    fix: "State `push \"redirect-gateway def1 block-local\"`.",
    judged: "Judged for OpenVPN configurations that send everything through the tunnel. Fails without `block-local`; graver where the estate file asks for \
             everything to go through.",
    references: &["openvpn(8), --redirect-gateway", "NIST SP 800-46 Rev. 2, 3.2.3"],
    controls: &[],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let wanted = device.wanted_sends == Some(Sends::Everything);
        for tunnel in device.facts.running().filter(|one| one.family == TunnelFamily::OpenVpn) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(tunnel, wanted)));
        }
    }
    answers
}

/// Lines that send everything, their own or told to callers, with the flags they have.
fn redirects(tunnel: &Tunnel) -> Vec<(String, Origin)> {
    let stated =
        tunnel.settings.iter().filter_map(|(name, setting)| Some((name.as_str(), setting.stated()?)));
    stated
        .filter_map(|(name, (value, origin))| match name {
            "redirect-gateway" => Some((value.clone(), origin)),
            "push" => value.strip_prefix("redirect-gateway").map(|flags| (flags.to_owned(), origin)),
            _ => None,
        })
        .collect()
}

fn judge(tunnel: &Tunnel, wanted: bool) -> Verdict {
    let lines = redirects(tunnel);
    let Some((_, origin)) = lines.first() else { return Verdict::DoesNotApply };
    // Several lines add up.
    if lines.iter().any(|(flags, _)| flags.split_whitespace().any(|flag| flag == "block-local")) {
        return Verdict::Pass;
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            if wanted { Severity::Low } else { CHECK.severity },
            if wanted {
                "the estate file asks for everything to go through"
            } else {
                "it takes an attack where the caller is"
            },
        ),
        title: format!("callers of {} still reach the network they are in", tunnel.name).into(),
        detail: "Everything is sent through the tunnel, and `block-local` is not among the flags.".into(),
        evidence: vec![*origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with};

    #[test]
    fn cases() {
        let all = "[tunnels]\nsends = \"everything\"\n";
        for (line, stated, wanted) in [
            ("push \"redirect-gateway def1\"", "", "fail info d s.conf:3"),
            ("push \"redirect-gateway def1\"", all, "fail low d s.conf:3"),
            ("push \"redirect-gateway def1 block-local\"", all, "pass d"),
            ("push \"redirect-gateway def1\"\npush \"redirect-gateway block-local\"", all, "pass d"),
            ("#push \"redirect-gateway def1\"", all, "none d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{line}\n");
            assert_eq!(answers(&CHECK, &estate_with(&[("d/s.conf", &text)], stated)), [wanted], "{line}");
        }
    }
}
