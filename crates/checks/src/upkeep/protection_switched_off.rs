//! A protection is configured and switched off.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::name_of;
use std::collections::BTreeSet;
use trevlin_analysis::authentication::is_further_factor;
use trevlin_analysis::filter_review::temporary;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::housekeeping::{ProtectionKind, SwitchedOff};
use trevlin_model::policy::Demand;
use trevlin_model::{Device, Setting, Tunnel};
use trevlin_packets::jumps::table_blocks;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/protection-switched-off",
    area: Area::Upkeep,
    title: "Protection switched off",
    severity: Severity::Medium,
    why: "A filter, a rule or a second factor is switched off for a test or a fault, often with the intention to switch it on \
          again the same day. Reviews find it in the list and count it as present.",
    fix: "Switch it on again, or remove it, and record who decided that and when. A test afterwards shows that it takes \
          effect.",
    judged: "Fails for a packet filter, a rule that denies traffic and an inspection that are switched off in their own \
             list, and for a PAM module for a second factor in a line that is commented out where the stack has no other. High for a \
             whole filter, which does not count where another filter is in force; low for a rule without a remark that it is temporary. A second factor of a sheet that is off \
             counts where its remark marks that as temporary; otherwise the single factor is the finding. \
             Passes for a second factor of a sheet that is required.",
    references: &["NIST SP 800-41 Rev. 1, 5.2.2", "NIST SP 800-53 Rev. 5, CM-3"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut seen = BTreeSet::new();
        for one in &device.facts.switched_off {
            // What one stack has twice is one subject.
            if counts(device, one) && seen.insert((one.kind, &one.name, &one.within)) {
                let kind: &'static str = one.kind.into();
                let subject = Subject::of(SubjectKind::SwitchedOff)
                    .with(kind)
                    .with(&one.name)
                    .with(one.within.as_deref().unwrap_or_default());
                let fail = judge(one, baseline);
                answers.push(Answer::new(at, subject, Verdict::Fail(fail)));
            }
        }
        for tunnel in device.facts.tunnels.iter().filter(|one| one.accepts_clients()) {
            answers.extend(second_factor(tunnel, baseline).map(|fail| {
                let subject = Subject::of(SubjectKind::SwitchedOff)
                    .with(<&str>::from(ProtectionKind::SecondFactor))
                    .with(&tunnel.name);
                Answer::new(at, subject, Verdict::Fail(fail))
            }));
            let subject = Subject::of(SubjectKind::SwitchedOff)
                .with(<&str>::from(ProtectionKind::SecondFactor))
                .with(&tunnel.name);
            answers.extend(tunnel.code_required().map(|line| Answer::new(at, subject, Verdict::pass(line))));
        }
    }
    answers
}

/// Whether it is a protection that is missing: a module counts where it proves a further factor and nothing else in its stack does.
fn counts(device: &Device, one: &SwitchedOff) -> bool {
    match one.kind {
        ProtectionKind::PamModule => {}
        // Another filter may have taken its place.
        ProtectionKind::Filter => {
            return !device
                .facts
                .filters
                .iter()
                .any(|filter| filter.origin.export != one.origin.export && table_blocks(filter));
        }
        _ => return true,
    }
    let inside = |line: &trevlin_model::pam::PamLine| line.origin.export == one.origin.export;
    let live = device.facts.pam_services.iter().flat_map(|service| &service.lines);
    is_further_factor(&one.name)
        && !live.filter(|line| inside(line)).any(|line| is_further_factor(&line.module))
}

fn judge(one: &SwitchedOff, baseline: &Baseline) -> Fail {
    let marked = one.note.iter().chain([&one.name]).any(|text| temporary(text, baseline.as_of).is_some());
    let (what, severity, why) = match one.kind {
        ProtectionKind::Filter => ("Packet filter", Severity::High, "nothing is filtered"),
        ProtectionKind::SecondFactor | ProtectionKind::PamModule => {
            ("Second factor", CHECK.severity, "logins are accepted without it")
        }
        ProtectionKind::DenyRule if marked => {
            ("Deny rule", CHECK.severity, "its remark marks that as temporary")
        }
        ProtectionKind::DenyRule => ("Deny rule", Severity::Low, "no remark marks it as temporary"),
        ProtectionKind::Other => ("Protection", CHECK.severity, "it has no effect"),
    };
    let note = one.note.as_ref().map(|note| format!(" Remark: \"{note}\".")).unwrap_or_default();
    let stack = one.within.as_ref().filter(|_| one.kind == ProtectionKind::PamModule);
    let place = stack.map(|name| format!(" in the PAM stack `{name}`")).unwrap_or_default();
    let state = match one.kind {
        ProtectionKind::PamModule => "Its line is commented out.",
        _ => "It is in the configuration and switched off.",
    };
    Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{what} `{}` is switched off{place}", one.name).into(),
        detail: format!("{state}{note}").into(),
        evidence: vec![one.origin],
    }
}

/// A second factor that a sheet states as off, with a remark that marks it as temporary.
fn second_factor(tunnel: &Tunnel, baseline: &Baseline) -> Option<Fail> {
    let policy = tunnel.policy.as_deref()?;
    let (demand, origin) = policy.one_time_code.as_ref().and_then(Setting::stated)?;
    let (note, note_origin) = policy.note.as_ref()?;
    (*demand != Demand::Required && temporary(note, baseline.as_of).is_some()).then(|| Fail {
        rating: CHECK.rated("logins are accepted without it"),
        title: format!("Second factor of {} is switched off", name_of(tunnel)).into(),
        detail: format!("Remark: \"{note}\".").into(),
        evidence: vec![origin, *note_origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn stacks() {
        for (text, wanted) in [
            (
                "auth required pam_unix.so\n#auth required pam_oath.so usersfile=/etc/users.oath # off until the new phones\n",
                &["fail medium d sshd:2"][..],
            ),
            (
                "auth required pam_unix.so\nauth required pam_oath.so\n#auth required pam_oath.so nullok\n",
                &[],
            ),
            ("auth required pam_unix.so\n# auth required pam_wheel.so\n", &[]),
            ("auth required pam_unix.so\n# the module pam_oath.so asks for a code\n", &[]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/pam.d/sshd", text)], wanted)]);
        }
    }

    #[test]
    fn ufw() {
        let chains = ":ufw-user-input - [0:0]\n:ufw-user-output - [0:0]\n:ufw-user-forward - [0:0]\n";
        let rule = "### tuple ### allow tcp 22 0.0.0.0/0 any 0.0.0.0/0 in\n-A ufw-user-input -p tcp --dport 22 -j ACCEPT\n";
        let (used, unused) =
            (format!("*filter\n{chains}{rule}COMMIT\n"), format!("*filter\n{chains}COMMIT\n"));
        let (rules, settings) = ("d/etc/ufw/user.rules", "d/etc/ufw/ufw.conf");
        let other = "*filter\n:INPUT DROP [0:0]\nCOMMIT\n";
        run(
            &CHECK,
            &[
                (
                    "with rules, and off",
                    &[(rules, &used), (settings, "ENABLED=no\n")],
                    &["fail high d ufw.conf:1"],
                ),
                ("as it is installed", &[(rules, &unused), (settings, "ENABLED=no\n")], &[]),
                ("on", &[(rules, &used), (settings, "ENABLED=yes\n")], &[]),
                (
                    "another filter in its place",
                    &[(rules, &used), (settings, "ENABLED=no\n"), ("d/iptables-save.txt", other)],
                    &[],
                ),
                (
                    "stopped, and on at the next start",
                    &[
                        (rules, &used),
                        (settings, "ENABLED=yes\n"),
                        ("d/ufw-status.txt", "Status: inactive\n"),
                    ],
                    &["fail high d ufw-status.txt:1"],
                ),
            ],
        );
    }

    #[test]
    fn router_packages() {
        for (enabled, target, name, wanted) in [
            ("0", "DROP", "no cameras", &["fail low d firewall:1"][..]),
            ("0", "REJECT", "no cameras, off temporarily", &["fail medium d firewall:1"]),
            ("0", "ACCEPT", "desk", &[]),
            ("1", "DROP", "no cameras", &[]),
        ] {
            let text = format!(
                "config rule\n\toption name '{name}'\n\toption src 'lan'\n\toption dest 'wan'\n\toption target \
                 '{target}'\n\toption enabled '{enabled}'\n"
            );
            run(
                &CHECK,
                &[(&format!("{enabled} {target} {name}"), &[("d/etc/config/firewall", &text)], wanted)],
            );
        }
    }

    #[test]
    fn sheets() {
        let rules = |lines: &str| format!("sheet = \"trevlin-sheet/2\"\n{lines}");
        for (lines, wanted) in [
            ("[rule-list]\noff = true\nnote = \"test\"\n", &["fail high d s.toml:2"][..]),
            ("[rule-list]\nthrough = \"deny\"\n", &[]),
            ("[[rules]]\nname = \"no cameras\"\naction = \"deny\"\noff = true\n", &["fail low d s.toml:2"]),
            (
                "[[rules]]\nname = \"no cameras\"\naction = \"deny\"\noff = true\nnote = \"temporary\"\n",
                &["fail medium d s.toml:2"],
            ),
            ("[[rules]]\nname = \"desk\"\naction = \"allow\"\noff = true\n", &[]),
            (
                "[[tunnels]]\nname = \"vpn\"\nfamily = \"tls\"\nrole = \"server\"\n[tunnels.policy]\none-time-code = \
                 \"off\"\nnote = \"temporarily, until the new phones arrive\"\n",
                &["fail medium d s.toml:7 s.toml:8"],
            ),
            (
                "[[tunnels]]\nname = \"vpn\"\nfamily = \"tls\"\nrole = \"server\"\n[tunnels.policy]\none-time-code = \
                 \"required\"\nnote = \"temporary list of users\"\n",
                &["pass d"],
            ),
            ("[[switched-off]]\nkind = \"other\"\nname = \"antivirus\"\n", &["fail medium d s.toml:2"]),
        ] {
            run(&CHECK, &[(lines, &[("d/s.toml", &rules(lines))], wanted)]);
        }
    }
}
