//! A service runs that gives nothing out.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{ServedKind, Sources};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/service-unused",
    area: Area::Exposure,
    title: "Service without content",
    severity: Severity::Info,
    why: "An unused program is rarely updated. Its faults are exploited like those of one in use.",
    fix: "Stop and disable it (`systemctl disable --now NAME`), or uninstall the package.",
    judged: "Fails for each file, database, iSCSI, DNS or SNMP service that listens beyond the device and has no share, \
             export, module, target, rule or community with permitted clients; one level higher where its socket is shown. \
             Passes for a disabled one. Undetermined where its content may be defined outside the exports.",
    references: &["CIS Controls 8, 4.8", "NIST SP 800-123, 4.2"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let kinds = [
        ServedKind::Shares,
        ServedKind::Exports,
        ServedKind::Modules,
        ServedKind::Transfers,
        ServedKind::Disks,
        ServedKind::Monitoring,
        ServedKind::Names,
    ];
    of_kinds(estate, &kinds)
        .map(|one| Answer::new(one.device, Subject::served(one.served), judge(one)))
        .collect()
}

fn judge(one: ServiceCase<'_>) -> Verdict {
    let used = one.served.parts.iter().any(|part| !part.sources.is_nobody());
    if used || !one.is_met() || one.served.endpoints.is_empty() {
        return one.holds();
    }
    if let Some(verdict) = one.open() {
        return verdict;
    }
    // A sheet that lists no resources does not state that there are none.
    if let Some(described) = one.estate.described(one.device) {
        let about = format!("what {} offers and to whom (`services.parts`)", one.title());
        return Verdict::ask(described.request(&about), vec![one.served.origin]);
    }
    let seen = one.estate.internet().services[one.device].iter().any(|service| {
        service.observed.is_some()
            && service
                .configured
                .is_some_and(|line| one.served.endpoints.iter().any(|place| place.origin == line))
    });
    one.fail_of(
        if seen { CHECK.rating().raised("its socket is in the export") } else { CHECK.rating() },
        &Sources::default(),
        format!("{} has no content or permitted clients", one.title()),
        if seen { "Its socket is in the export." } else { "The exports do not show whether it runs." }.into(),
        vec![one.served.origin],
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const EMPTY: (&str, &str) = ("d/etc/samba/smb.conf", "[global]\nserver role = standalone\n");
        const OFF: (&str, &str) = ("d/units.txt", "UNIT FILE STATE PRESET\nsmbd.service disabled enabled\n");
        run(
            &CHECK,
            &[
                ("no share", &[EMPTY], &["fail info d smb.conf:1"]),
                (
                    "seen",
                    &[EMPTY, ("d/ss.txt", "tcp LISTEN 0 9 0.0.0.0:445 0.0.0.0:*\n")],
                    &["fail low d smb.conf:1"],
                ),
                ("switched off", &[EMPTY, OFF], &["pass d"]),
                ("a share", &[("d/etc/samba/smb.conf", "[global]\n[a]\npath = /a\n")], &["pass d"]),
                (
                    "a zone that is asked about",
                    &[(
                        "d/etc/bind/named.conf",
                        "options { recursion no; allow-transfer { none; }; };\nzone \"a\" { type primary; };\n",
                    )],
                    &["pass d"],
                ),
                ("kept elsewhere", &[("d/etc/samba/smb.conf", "[global]\ninclude = registry\n")], &["ask d"]),
                (
                    "nobody reads",
                    &[("d/etc/snmp/snmpd.conf", "agentaddress udp:161\nsyslocation quay\n")],
                    &["fail info d snmpd.conf:1"],
                ),
            ],
        );
    }
}
