//! Disks are given out without a login.

use crate::check::{Answer, Check, Control, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/iscsi-unauthenticated",
    area: Area::Logins,
    title: "iSCSI target without CHAP or open to any initiator",
    severity: Severity::High,
    why: "Whoever mounts the disk has every block of it: what was deleted, what permissions were to protect, the files of all \
          machines on it. The name by which a machine introduces itself is typed in by its owner and proves nothing.",
    fix: "Ask for CHAP in both directions with a secret of 12 characters or more for each machine, list the machines by name \
          (`generate_node_acls=0`), and keep the portal on a network of its own.",
    judged: "Fails for each target without CHAP, and for one that takes any machine even with it (a step milder). Passes where \
             named machines log in, where nobody can (CHAP is asked for and no secret set), and where the portal is for the \
             device alone.",
    references: &["RFC 7143, 9.2", "RFC 1994", "NIST SP 800-209, 4.3"],
    controls: &[Control::grundschutz("SYS.1.8.A4")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Disks]) {
        let parts = one.served.parts.iter();
        answers.extend(
            parts.map(|part| Answer::new(one.device, Subject::part(one.served, part), judge(one, part))),
        );
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    let any = part.remark(Remark::AnyInitiator);
    let (base, title) = match (part.login.value(), any) {
        _ if one.served.is_local() => return Verdict::Pass,
        (Some(AuthRequirement::Nothing), Some(_)) => (CHECK.rating(), "to any machine, without a login"),
        (Some(AuthRequirement::Nothing), None) => (CHECK.rating(), "without a login"),
        (Some(AuthRequirement::Proof), Some(_)) => {
            (CHECK.rating().lowered("a secret is asked for"), "to any machine that knows one common secret")
        }
        _ => return Verdict::Pass,
    };
    let disks = part.path.as_deref().unwrap_or("none yet");
    one.fail(
        base,
        part,
        format!("{} gives {} {title}", one.device_name(), one.served.name),
        format!(
            "For {}: {disks}. {}",
            part.name,
            if part.is_written() { "It may be changed." } else { "It is read-only." }
        ),
        part.login.origin().into_iter().chain(any).chain([part.origin]).collect(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const ANN: &str =
            r#"{"node_wwn": "iqn.x:ann", "chap_userid": "a", "chap_password": "Qw7-tuLk-99-vB"}"#;
        for (name, attributes, acls, portal, wanted) in [
            ("no login", "\"authentication\": 0", ANN, "0.0.0.0", &["fail high d saveconfig.json:2"][..]),
            (
                "any machine",
                "\"authentication\": 0,\n\"generate_node_acls\": 1",
                "",
                "10.4.0.9",
                &["fail high d saveconfig.json:2 saveconfig.json:3"],
            ),
            ("a login", "\"authentication\": 1", ANN, "0.0.0.0", &["pass d"]),
            ("no secret set", "\"authentication\": 1", "{\"node_wwn\": \"iqn.x\"}", "0.0.0.0", &["pass d"]),
            ("for itself", "\"authentication\": 0", ANN, "127.0.0.1", &["pass d"]),
            ("nobody listed", "\"authentication\": 0", "", "0.0.0.0", &[]),
        ] {
            let text = format!(
                "{{\"storage_objects\": [], \"targets\": [{{\"fabric\": \"iscsi\", \"wwn\": \"iqn.x:a\", \"tpgs\": [{{\"attributes\": {{\n{attributes}}}, \"portals\": [{{\"ip_address\": \"{portal}\"}}], \"node_acls\": [{acls}]}}]}}]}}"
            );
            run(&CHECK, &[(name, &[("d/etc/saveconfig.json", &text)], wanted)]);
        }
        run(&CHECK, &[("none", &[("d/etc/exports", "/a *(rw)\n")], &[])]);
    }
}
