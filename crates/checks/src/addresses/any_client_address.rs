//! Dial-in users may take any address.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{AllowedAddresses, Credential, Device};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/any-client-address",
    area: Area::Addresses,
    title: "Dial-in users may use any address",
    severity: Severity::Info,
    why: "The list of secrets states which addresses a user may have at the end of the link. With `*` any is accepted, so \
          rules by address do not tell users apart, and an address that a client brings along may belong to an internal host.",
    fix: "State the pool, or one address for each user, in the fourth column, and keep pppd from accepting the address of the \
          client (`ipcp-accept-remote` not set).",
    judged: "Fails for each list with logins of a tunnel whose addresses are `*`; all of them are one finding. Passes where \
             every login states addresses. Entries without addresses permit no login and do not count.",
    references: &["pppd(8), AUTHENTICATION"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        if !accepts_calls(device) {
            continue;
        }
        let mut lists: BTreeMap<&str, Vec<&Credential>> = BTreeMap::new();
        for one in device.facts.credentials.iter().filter(|one| one.addresses != AllowedAddresses::None) {
            lists.entry(&one.path).or_default().push(one);
        }
        for (path, all) in lists {
            answers.push(Answer::new(at, Subject::of(SubjectKind::File).with(path), judge(path, &all)));
        }
    }
    answers
}

/// Whether a tunnel of the device uses such lists.
fn accepts_calls(device: &Device) -> bool {
    use trevlin_model::TunnelFamily::{L2tp, Pptp};
    device.facts.tunnels.iter().any(|one| matches!(one.family, L2tp | Pptp) && one.accepts_clients())
}

fn judge(path: &str, all: &[&Credential]) -> Verdict {
    let open: Vec<&&Credential> = all.iter().filter(|one| one.addresses == AllowedAddresses::Any).collect();
    if open.is_empty() {
        return Verdict::pass_lines(all.iter().map(|one| one.origin).collect());
    }
    let file = path.rsplit('/').next().unwrap_or(path);
    let few = 4;
    Verdict::Fail(Fail {
        rating: CHECK.rated("the server assigns an address unless the client insists on one"),
        title: format!("{} of {} logins in {file} permit any address", open.len(), all.len()).into(),
        detail: "The address column is `*`.".into(),
        evidence: open.iter().take(few).map(|one| one.origin).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const SERVER: (&str, &str) = ("d/etc/pptpd.conf", "localip 10.9.0.1\nremoteip 10.9.0.10-20\n");
        let at = "d/etc/ppp/chap-secrets";
        run(
            &CHECK,
            &[
                (
                    "any",
                    &[SERVER, (at, "ann * one *\nbob * two 10.9.0.11\ncid * three *\n")],
                    &["fail info d chap-secrets:1 chap-secrets:3"],
                ),
                ("each its own", &[SERVER, (at, "ann * one 10.9.0.10\n#bob * two *\n")], &["pass d"]),
                ("for calls out", &[SERVER, (at, "ann * one\n")], &[]),
                ("without a server", &[(at, "ann * one *\n")], &[]),
            ],
        );
    }
}
