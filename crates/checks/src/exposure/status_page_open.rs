//! The status page of a server is open.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{AuthRequirement, PartKind, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/status-page-open",
    area: Area::Exposure,
    title: "Status page or monitoring agent open to any address",
    severity: Severity::Low,
    why: "The page lists current requests with client addresses, the backend servers and their state; an agent lists programs, users and \
          files of the device. Attackers use them to plan an intrusion or a denial of service.",
    fix: "Permit the monitoring host only (`allow 10.0.0.5; deny all;`, `Require local`, `Server=`, `allowed_hosts=`), on an internal \
          address.",
    judged: "Fails for each server status page without a login that is open to more than a few addresses, and for each monitoring agent \
             that answers them; one level lower where only some networks are permitted. Passes where a login is required. Undetermined \
             where an included file is missing.",
    references: &["ngx_http_stub_status_module", "mod_status", "HAProxy Configuration Manual, stats"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    let kinds = [ServedKind::Pages, ServedKind::Agents];
    for one in of_kinds(estate, &kinds).filter(|one| !one.served.is_local()) {
        answers.extend(one.open_answer());
        let of_agent =
            |part: &ServiceResource| one.served.kind == ServedKind::Agents && part.kind == PartKind::Whole;
        let shows = |part: &&ServiceResource| part.remark(Remark::Status).is_some() || of_agent(part);
        for part in one.served.parts.iter().filter(shows) {
            answers.push(Answer::new(
                one.device,
                Subject::part(one.served, part),
                judge(one, part, baseline.at(one.device)),
            ));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    if part.login.value() != Some(&AuthRequirement::Nothing) {
        return one.holds_by_login(part);
    }
    if is_few(&part.sources, thresholds) || part.sources.is_local() {
        return one.holds_by_limit(part);
    }
    let title = match one.served.kind {
        ServedKind::Agents if part.sources.is_everybody() => format!("{} answers any host", one.title()),
        ServedKind::Agents => format!("{} answers whole networks", one.title()),
        _ => format!("{} shows its status page at {}", one.title(), part.name),
    };
    one.fail(
        one.limited(CHECK.rating(), &part.sources),
        part,
        title,
        format!("Permitted sources: {}.", part.sources.words()),
        part.remark(Remark::Status).into_iter().chain(part.lines()).collect(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (inner, wanted) in [
            ("stub_status;", &["fail low d nginx.conf:5 nginx.conf:4"][..]),
            ("stub_status; allow 10.4.0.0/20; deny all;", &["fail info d nginx.conf:5 nginx.conf:4"]),
            ("stub_status; allow 127.0.0.1; deny all;", &["pass d"]),
            ("stub_status; auth_basic x;", &["pass d"]),
            ("return 200;", &[]),
            ("include extra.conf;", &["ask d"]),
        ] {
            let text = format!("http {{\nserver {{\nlisten 80;\nlocation /s {{\n{inner}\n}}\n}}\n}}\n");
            run(&CHECK, &[(inner, &[("d/etc/nginx/nginx.conf", &text)], wanted)]);
        }
    }

    #[test]
    fn agents() {
        for (file, text, wanted) in [
            ("zabbix/zabbix_agentd.conf", "Server=0.0.0.0/0\n", &["fail low d zabbix_agentd.conf:1"][..]),
            ("zabbix/zabbix_agentd.conf", "Server=10.4.0.0/20\n", &["fail info d zabbix_agentd.conf:1"]),
            ("zabbix/zabbix_agentd.conf", "Server=10.4.0.9\n", &["pass d"]),
            (
                "zabbix/zabbix_agentd.conf",
                "Server=0.0.0.0/0\nTLSAccept=psk\nTLSPSKIdentity=gate\nTLSPSKFile=/etc/zabbix/key\n",
                &["pass d"],
            ),
            ("zabbix/zabbix_agentd.conf", "Server=0.0.0.0/0\nListenIP=127.0.0.1\n", &[]),
            ("nagios/nrpe.cfg", "server_port=5666\n", &["fail low d nrpe.cfg:1"]),
            // The program takes this prefix for one address.
            ("nagios/nrpe.cfg", "server_port=5666\nallowed_hosts=0.0.0.0/0\n", &["pass d"]),
            ("nut/upsd.conf", "LISTEN 0.0.0.0 3493\n", &["fail low d upsd.conf:1"]),
            ("nut/upsd.conf", "MAXAGE 15\n", &[]),
        ] {
            run(&CHECK, &[(text, &[(&format!("d/etc/{file}"), text)], wanted)]);
        }
    }
}
