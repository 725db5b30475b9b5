//! A management page of a server or a device is open to any address.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{AuthRequirement, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/management-page-open",
    area: Area::Exposure,
    title: "Management page open to any address",
    severity: Severity::Low,
    why: "Administration pages are a common target of exploits and password attacks. Only few people need them, and their \
          networks are known.",
    fix: "Limit the path by source (`allow 10.0.0.0/28; deny all;`, `Require ip 10.0.0.0/28`), or remove it from the public \
          site and provide access through a VPN.",
    judged: "Fails for each path with the name of an administration page (admin, manager, console, setup and the like) that \
             is open to any address; one level higher where no login is required. A backend server may require a login of \
             its own. Passes where sources are limited, by the page or by the packet filter of the device, \
             or a certificate is required. Undetermined where an included file is \
             missing.",
    references: &["NIST SP 800-123, 6.4", "CIS Controls 8, 12.8"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Pages]).filter(|one| !one.served.is_local()) {
        answers.extend(one.open_answer());
        for part in one.served.parts.iter().filter(|part| part.remark(Remark::Administration).is_some()) {
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
    let asked = part.login.value();
    let wide = part.sources.is_everybody() && !is_few(&part.sources, thresholds);
    if !wide
        || matches!(
            asked,
            Some(AuthRequirement::Certificate | AuthRequirement::PasswordAndCode | AuthRequirement::Refused)
        )
        || one.filter_limit().is_some()
    {
        return if wide && one.filter_limit().is_none() {
            one.holds_by_login(part)
        } else {
            one.holds_by_limit(part)
        };
    }
    let (base, asks) = match asked {
        Some(AuthRequirement::Nothing) => {
            (CHECK.rating().raised("no authentication is required"), "The web server requires no login.")
        }
        Some(_) => (CHECK.rating(), "The web server requires a password."),
        None => (CHECK.rating(), "The backend server decides whether a login is required."),
    };
    one.fail(
        base,
        part,
        match one.title() {
            title if title.ends_with(&part.name) => format!("{title} is open to any address"),
            title => format!("{title} serves {} to any address", part.name),
        },
        asks.to_owned(),
        part.remark(Remark::HandedOn).into_iter().chain(part.lines()).collect(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn a_file_that_is_missing_is_a_question() {
        let text = "http {\nserver {\nlisten 80;\ninclude /etc/nginx/more.conf;\n}\n}\n";
        run(&CHECK, &[("missing", &[("d/etc/nginx/nginx.conf", text)], &["ask d"])]);
    }

    #[test]
    fn cases() {
        for (path, inner, wanted) in [
            ("/admin", "proxy_pass http://10.4.0.9;", &["fail low d nginx.conf:5 nginx.conf:4"][..]),
            ("/admin", "root /a;", &["fail medium d nginx.conf:4"]),
            ("/admin", "auth_basic x;", &["fail low d nginx.conf:4 nginx.conf:5"]),
            ("/admin", "allow 10.4.0.0/28; deny all;", &["pass d"]),
            ("/admin", "ssl_verify_client on;", &["pass d"]),
            ("/administrative", "root /a;", &[]),
        ] {
            let text = format!("http {{\nserver {{\nlisten 80;\nlocation {path} {{\n{inner}\n}}\n}}\n}}\n");
            run(&CHECK, &[(inner, &[("d/etc/nginx/nginx.conf", &text)], wanted)]);
        }
        let text = "http {\nserver {\nlisten 80;\nlocation /admin {\nroot /a;\n}\n}\n}\n";
        let addresses =
            ("d/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.9","prefixlen":24}]}]"#);
        for (rules, wanted) in [
            ("-A INPUT -s 10.4.0.5 -p tcp --dport 80 -j ACCEPT", "pass d"),
            ("-A INPUT -p tcp --dport 80 -j ACCEPT", "fail medium d nginx.conf:4"),
        ] {
            let filter = format!("*filter\n:INPUT DROP [0:0]\n{rules}\nCOMMIT\n");
            let files =
                [addresses, ("d/iptables-save.txt", filter.as_str()), ("d/etc/nginx/nginx.conf", text)];
            run(&CHECK, &[(rules, &files, &[wanted])]);
        }
    }
}
