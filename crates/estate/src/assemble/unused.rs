//! Files that their program would read and no exported configuration uses: the list of `pam_radius_auth` without a PAM stack that has the
//! module, and parameters for key exchanges that the configuration beside them does not name.

use crate::assemble::input::Input;
use std::collections::BTreeSet;
use trevlin_model::Export;
use trevlin_model::radius::RadiusAsker;

/// Module of PAM that reads a list of RADIUS servers (pam_radius_auth(8)).
const RADIUS_MODULE: &str = "pam_radius";

/// Leaves out what is not used, and notes it.
pub(super) fn set_aside(inputs: &mut [Input]) {
    let of_pam: Vec<usize> = (0..inputs.len()).filter(|at| is_list_of_pam(&inputs[*at])).collect();
    for at in of_pam {
        if has_stacks_without_radius(inputs, &inputs[at].folder) {
            let facts = &mut inputs[at].facts;
            facts.radius_targets.retain(|one| one.asked_by != RadiusAsker::Pam);
            put_aside(&mut inputs[at], "not in force: no exported PAM stack has `pam_radius_auth`");
        }
    }
    let of_groups: Vec<usize> = (0..inputs.len()).filter(|at| is_of_groups(&inputs[*at])).collect();
    for at in of_groups {
        if has_configuration_without(inputs, at) {
            inputs[at].facts.dh_parameters.clear();
            put_aside(&mut inputs[at], "not in force: the configuration beside it does not name the file");
        }
    }
}

fn put_aside(input: &mut Input, text: &str) {
    input.ledger.put_aside(input.export.origin(0..0), text);
}

fn is_list_of_pam(input: &Input) -> bool {
    input.facts.radius_targets.iter().any(|one| one.asked_by == RadiusAsker::Pam)
}

/// Whether the stacks of the device are exported, and none has the module: `other` or `common-auth` come with every installation.
fn has_stacks_without_radius(inputs: &[Input], folder: &str) -> bool {
    let services =
        || inputs.iter().filter(|one| one.folder == folder).flat_map(|one| one.facts.pam_services.iter());
    services().any(|one| matches!(one.name.as_str(), "other" | "common-auth" | "system-auth"))
        && !services().flat_map(|one| &one.lines).any(|line| line.module.starts_with(RADIUS_MODULE))
}

/// Whether a file has parameters for key exchanges and nothing else.
fn is_of_groups(input: &Input) -> bool {
    let facts = &input.facts;
    !facts.dh_parameters.is_empty() && facts.certificates.is_empty() && facts.private_keys.is_empty()
}

/// Whether the configuration of the program whose folder the file is in, or the folder around it, is exported, and no file of the device
/// names it in a line that counts.
fn has_configuration_without(inputs: &[Input], at: usize) -> bool {
    let own = &inputs[at];
    let path = own.export.path();
    let Some((folder, name)) = path.rsplit_once('/') else { return false };
    let above = folder.rsplit_once('/').map(|(above, _)| above);
    let places: BTreeSet<&str> =
        [Some(folder), above].into_iter().flatten().filter(|one| has_program(one)).collect();
    let others =
        || inputs.iter().filter(|one| one.folder == own.folder && one.export.id() != own.export.id());
    let is_beside = |one: &Input| {
        let beside = one.export.path().rsplit_once('/').is_some_and(|(place, _)| places.contains(place));
        beside && one.format.is_some_and(|format| format != "pem")
    };
    others().any(is_beside) && !others().any(|one| names(&one.export, name, is_beside(one)))
}

/// Whether a folder is that of a program: below `etc`.
fn has_program(folder: &str) -> bool {
    let mut parts = folder.split('/');
    parts.any(|part| part == "etc") && parts.next().is_some_and(|program| program != "ssl")
}

/// Whether a line that is no comment has the name of a file at the end of a path, or, `beside` it, as a word of its own.
fn names(export: &Export, name: &str, beside: bool) -> bool {
    // What is available and not enabled names nothing.
    if export.path().contains("-available/") {
        return false;
    }
    let is_part = |one: char| one.is_alphanumeric() || matches!(one, '_' | '-' | '.');
    export.text().match_indices(name).any(|(start, _)| {
        let text = export.text();
        let line = text[..start].rsplit('\n').next().unwrap_or_default();
        let comment = line.trim_start().starts_with(['#', ';']) || line.trim_start().starts_with("//");
        let whole = (line.ends_with('/') || beside && !line.ends_with(is_part))
            && !text[start + name.len()..].starts_with(is_part);
        whole && !comment
    })
}

#[cfg(test)]
mod tests {
    use crate::testing::estate;

    #[test]
    fn lists_of_pam_need_the_module() {
        let list = ("d/etc/pam_radius_auth.conf", "radius.example Kiosk-Tern-9 3\n");
        let with = |auth: &str| {
            let stack = format!("auth required {auth}\n");
            estate(&[
                list,
                ("d/etc/pam.d/common-auth", "auth required pam_unix.so\n"),
                ("d/etc/pam.d/sshd", &stack),
            ])
            .devices[0]
                .facts
                .radius_targets
                .len()
        };
        assert_eq!((with("pam_radius_auth.so"), with("pam_unix.so")), (1, 0));
        // Stacks of one service alone show nothing.
        let some = estate(&[list, ("d/etc/pam.d/sshd", "auth required pam_unix.so\n")]);
        assert_eq!(some.devices[0].facts.radius_targets.len(), 1);
    }

    #[test]
    fn groups_need_a_line_that_names_their_file() {
        const GROUP: &str = "-----BEGIN DH PARAMETERS-----\nMEYCQQDaWDwW2YUiidDkr3VvTMqS3UvlM7gE+w/tlO+cikQD7VdGUNNpmdsp13Yn\na6LT1BLiGPTdHghM9tgAPnxHdOgzAgEC\n-----END DH PARAMETERS-----\n";
        let found = |path: &str, text: &str| {
            estate(&[(path, GROUP), ("d/etc/proftpd/proftpd.conf", text)]).devices[0]
                .facts
                .dh_parameters
                .len()
        };
        let own = "d/etc/proftpd/dh.pem";
        for (path, text, wanted) in [
            (own, "Port 21\nTLSDHParamFile /etc/proftpd/dh.pem\n", 1),
            (own, "Port 21\n# TLSDHParamFile /etc/proftpd/dh.pem\n", 0),
            (own, "Port 21\nTLSDHParamFile /etc/proftpd/old-dh.pem\n", 0),
            // Some program that was not exported may use it.
            ("d/etc/other/dh.pem", "Port 21\n", 1),
            ("d/kept/dh.pem", "Port 21\n", 1),
        ] {
            assert_eq!(found(path, text), wanted, "{path}: {text}");
        }
    }
}
