//! An iSCSI target requires no login.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{APPLIANCE, AuthRequirement, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/iscsi-unauthenticated",
    area: Area::Logins,
    title: "iSCSI target without CHAP or open to any initiator",
    severity: Severity::High,
    why: "An initiator that mounts the target reads and writes raw blocks, regardless of file permissions, including deleted \
          data. The initiator name is set by the client and proves nothing.",
    fix: "Require mutual CHAP with a secret of at least 12 characters for each initiator, list initiators by name \
          (`generate_node_acls=0`), and keep the portal on a dedicated network.",
    judged: "Fails for each target without CHAP, and one level lower for a target that accepts any initiator with CHAP. \
             Passes where only named initiators log in, where no login is possible (CHAP without a secret), and where the \
             portal is limited to the device itself.",
    references: &["RFC 7143, 9.2", "RFC 1994", "NIST SP 800-209, 4.3"],
    needs: &[Need::Services],
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
        _ if one.served.is_local() => return one.holds_by_limit(part),
        (Some(AuthRequirement::Nothing), Some(_)) => (CHECK.rating(), "accepts any initiator without CHAP"),
        (Some(AuthRequirement::Nothing), None) if one.served.program == APPLIANCE => {
            (CHECK.rating(), "accepts initiators without CHAP")
        }
        (Some(AuthRequirement::Nothing), None) => (CHECK.rating(), "accepts named initiators without CHAP"),
        (Some(AuthRequirement::Proof), Some(_)) => (
            CHECK.rating().lowered("a CHAP secret is required"),
            "accepts any initiator that knows one common CHAP secret",
        ),
        _ => return one.holds_by_login(part),
    };
    // A device sheet may leave them out.
    let disks = match (&part.path, one.served.program) {
        (Some(path), _) => format!("Backstores of {}: {path}. ", part.name),
        (None, APPLIANCE) => format!("It belongs to {}. ", one.served.name),
        (None, _) => format!("Backstores of {}: no LUN. ", part.name),
    };
    let name = one.target(part);
    let access = match (part.is_written(), one.served.program) {
        (true, _) => "Access is read-write.",
        // A device sheet may leave that out.
        (false, APPLIANCE) => "",
        (false, _) => "Access is read-only.",
    };
    one.fail(
        base,
        part,
        format!("{name} {title}"),
        format!("{disks}{access}").trim_end().to_owned(),
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
        let sheet = "sheet = \"trevlin-sheet/2\"\n[[services]]\nname = \"discs\"\nkind = \"iSCSI\"\n\
                     parts = [{ name = \"silo\", kind = \"target\", login = \"none\" }]\n";
        run(&CHECK, &[("of an appliance", &[("d/sheet.toml", sheet)], &["fail high d sheet.toml:5"])]);
        run(&CHECK, &[("none", &[("d/etc/exports", "/a *(rw)\n")], &[])]);
    }
}
