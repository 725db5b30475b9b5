//! Data is copied to another system without encryption.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::net::IpAddr;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_public;
use trevlin_model::outgoing::OutgoingCopy;
use trevlin_model::served::TransportSecurity;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/copy-unencrypted",
    area: Area::Ciphers,
    title: "Replication or backup without encryption",
    severity: Severity::Medium,
    why: "A replication carries all data of a device, and often its password, past every network in between. Anyone who can \
          observe one of these networks obtains a complete copy.",
    fix: "Enable encryption for the task, or send it through a tunnel between the sites. Then change the password of the \
          account at the destination.",
    judged: "Judged for copies that a device sheet states and that are not switched off. Fails where the data is not encrypted: \
             medium, and low where the destination is an internal address. An enclosing tunnel is not judged.",
    references: &["NIST SP 800-209, 4.7", "ISO/IEC 27002:2022, 8.24"],
    needs: &[Need::SavedLogins],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in device.facts.outgoing_copies.iter().filter(|one| !one.off) {
            let subject = Subject::of(SubjectKind::Service).with(&one.name).with(&one.to);
            let unsaid = device.facts.described.filter(|_| one.carried == TransportSecurity::Optional);
            let verdict = unsaid.map_or_else(
                || judge(one),
                |described| {
                    let about = format!("whether the copy {} is encrypted (`carried`)", one.name);
                    Verdict::ask(described.request(&about), vec![one.origin])
                },
            );
            answers.push(Answer::new(at, subject, verdict));
        }
    }
    answers
}

fn judge(one: &OutgoingCopy) -> Verdict {
    if one.carried != TransportSecurity::Plain {
        return Verdict::pass(one.origin);
    }
    let inside = one.to.parse::<IpAddr>().is_ok_and(|address| !is_public(address));
    let rating = if inside {
        CHECK.rated_at(Severity::Low, "the destination is an internal address")
    } else {
        CHECK.rating()
    };
    let port = one.port.map(|port| format!(" port {port}")).unwrap_or_default();
    Verdict::Fail(Fail {
        rating,
        title: format!("Copy {} is sent to {} without encryption", one.name, one.to).into(),
        detail: format!("The task {} sends data to {}{port}, unencrypted.", one.name, one.to).into(),
        evidence: vec![one.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("to = \"barn.example\"\ncarried = \"plain\"", &["fail medium d sheet.toml:2"][..]),
            ("to = \"198.51.100.7\"\nport = 873\ncarried = \"plain\"", &["fail medium d sheet.toml:2"]),
            ("to = \"10.20.4.9\"\ncarried = \"plain\"", &["fail low d sheet.toml:2"]),
            ("to = \"barn.example\"\ncarried = \"encrypted\"", &["pass d"]),
            ("to = \"barn.example\"", &["ask d"]),
            ("to = \"barn.example\"\ncarried = \"plain\"\noff = true", &[]),
        ] {
            let sheet =
                format!("sheet = \"trevlin-sheet/2\"\n[[outgoing-copies]]\nname = \"nightly\"\n{lines}\n");
            run(&CHECK, &[(lines, &[("d/sheet.toml", &sheet)], wanted)]);
        }
    }
}
