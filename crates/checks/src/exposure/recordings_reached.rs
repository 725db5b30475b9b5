//! Maintenance clients reach recorded files without need.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_device};
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::intents::is_meant;
use trevlin_analysis::services::What;
use trevlin_analysis::ways::cited;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, Served, ServiceResource};

/// Words in names and folders of what cameras and other machines record.
const RECORDED: [&str; 12] = [
    "camera",
    "cameras",
    "cctv",
    "footage",
    "kamera",
    "record",
    "recorded",
    "recorder",
    "recording",
    "recordings",
    "surveillance",
    "video",
];

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/recordings-reached",
    area: Area::Exposure,
    title: "Recorded files reachable by VPN clients without need",
    severity: Severity::High,
    why: "Maintenance users do not need the recordings of cameras and loggers. Recordings are personal data, and they are \
          evidence that an intruder may want to delete.",
    fix: "Restrict the tunnel to the access that the estate file intends, and limit the share to the hosts that display \
          recordings.",
    judged: "Reports every share, export, module, folder and target with a name or path of recordings that VPN clients \
             reach. Fails where the estate file states an intent for these clients that does not include it; undetermined \
             where it states no intent for them. Passes where the permitted sources exclude them.",
    references: &["NIST SP 800-46 Rev. 2, 3.3", "NIST SP 800-209, 4.2", "GDPR, article 32"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    let internet = estate.internet();
    let mut recorded: BTreeMap<usize, Vec<(ServiceCase<'_>, Vec<&ServiceResource>)>> = BTreeMap::new();
    for device in 0..estate.devices.len() {
        for one in of_device(estate, device).filter(|one| one.served.kind.holds_files() && one.is_met()) {
            let parts: Vec<&ServiceResource> =
                one.served.parts.iter().filter(|part| is_recorded(part)).collect();
            if !parts.is_empty() {
                recorded.entry(device).or_default().push((one, parts));
            }
        }
    }
    for (clients, exposure) in estate.shape().clients.iter().zip(&estate.internal().clients) {
        // A service that clients do not reach is not affected.
        for (device, met) in exposure.reached_by_device() {
            for (one, recorded) in recorded.get(&device).into_iter().flatten() {
                let subject = Subject::served(one.served).with(&clients.tunnel);
                let mine = |number: usize| matches!(internet.services[device][number].what, What::Served(at, _) if std::ptr::eq(served(estate, device, at), one.served));
                let reached = met.iter().filter(|reached| mine(reached.service)).find(|reached| {
                    recorded.iter().any(|part| {
                        !part.sources.names.is_empty()
                            || part.sources.ranges.iter().any(|range| {
                                reached.sources.iter().any(|other| range.intersection(other).is_some())
                            })
                    })
                });
                let Some(reached) = reached else {
                    answers.push(Answer::new(device, subject, Verdict::pass(one.served.origin)));
                    continue;
                };
                let port = internet.services[device][reached.service].port;
                if is_meant(estate, &clients.tunnel, reached.address, reached.protocol, port) {
                    answers.push(Answer::new(device, subject, Verdict::pass(one.served.origin)));
                    continue;
                }
                let names: Vec<String> = recorded.iter().map(|part| part.title()).collect();
                let mut evidence: Vec<_> = recorded.iter().map(|part| part.origin).collect();
                evidence.extend(cited(&reached.steps));
                evidence.push(clients.origin);
                let intended = estate.intents.iter().any(|intent| intent.from == clients.tunnel);
                let verdict = if intended && reached.certain {
                    let open =
                        recorded.iter().any(|part| part.login.value() == Some(&AuthRequirement::Nothing));
                    Verdict::Fail(Fail {
                        rating: CHECK.rated(if open {
                            "no login is required"
                        } else {
                            "only a login protects it"
                        }),
                        title: format!(
                            "Clients of {} reach recorded files on {}",
                            clients.tunnel,
                            one.device_name()
                        )
                        .into(),
                        detail: format!(
                            "They reach {}: {}.",
                            one.served.name,
                            crate::support::some_names(&names)
                        )
                        .into(),
                        evidence,
                    })
                } else {
                    Verdict::ask(
                        format!(
                            "Please state the intended access for clients of {}: they reach {} of {} ({}), and the estate \
                             file contains no intent for them.",
                            clients.tunnel,
                            one.served.name,
                            one.device_name(),
                            crate::support::some_names(&names)
                        ),
                        evidence,
                    )
                };
                answers.push(Answer::new(device, subject, verdict));
            }
        }
    }
    answers
}

fn served(estate: &Analyses, device: usize, at: usize) -> &Served {
    &estate.devices[device].facts.served[at]
}

fn is_recorded(part: &ServiceResource) -> bool {
    let words = part.name.split(|letter: char| !letter.is_alphanumeric());
    let path = part.path.iter().flat_map(|path| path.split(|letter: char| !letter.is_alphanumeric()));
    words.chain(path).any(|word| RECORDED.contains(&word.to_lowercase().as_str()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::reach::testing::on_gate_with;

    #[test]
    fn cases() {
        let open = "-A INPUT -i wg0 -p tcp --dport 445 -j ACCEPT\n";
        let lift = "[[intent]]\nfrom = \"WireGuard wg0\"\nto = \"gate\"\nservices = \"tcp 22\"\n";
        let files = "[[intent]]\nfrom = \"WireGuard wg0\"\nto = \"gate\"\nservices = \"tcp 445\"\n";
        let share = |text| [("gate/etc/samba/smb.conf", text)];
        for (text, rules, intents, wanted) in [
            (
                "[global]\n[a]\npath = /srv/camera\n",
                open,
                lift,
                &["fail high gate smb.conf:2 iptables-save.txt:5 wg0.conf:1"][..],
            ),
            ("[global]\n[a]\npath = /srv/camera\n", open, "", &["ask gate"]),
            ("[global]\n[a]\npath = /srv/camera\n", open, files, &["pass gate"]),
            ("[global]\n[a]\npath = /srv/camera\n", "", lift, &[]),
            ("[global]\n[recordings]\nhosts allow = 192.168.77.0/24\n", open, lift, &["pass gate"]),
            ("[global]\n[a]\npath = /srv/plans\n", open, lift, &[]),
        ] {
            assert_eq!(on_gate_with(&CHECK, rules, &share(text), intents), wanted, "{text} {intents}");
        }
    }
}
