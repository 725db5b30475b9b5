//! A path of a web server leads out of its folder.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/path-leaves-folder",
    area: Area::Exposure,
    title: "Web path leads out of its folder",
    severity: Severity::Medium,
    why: "The location has no closing slash and its target has one, so a request for `/NAME../` is looked up in the folder \
          above. Source code, copies and configurations with passwords are often served that way.",
    fix: "End the location with a slash (`location /NAME/`), as its `alias` or `proxy_pass` does, or use `root`. Search the \
          access log for requests with two dots behind the name.",
    judged: "Fails for each location whose prefix has no closing slash while its alias, or the path of the server behind it, \
             has one, and for patterns that capture the rest of the path without a slash before it; one level lower where \
             only some networks are permitted. Passes for other locations.",
    references: &["ngx_http_core_module, alias", "CWE-22"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Pages]).filter(|one| !one.served.is_local()) {
        for part in &one.served.parts {
            let verdict = judge(one, part, baseline.at(one.device));
            answers.push(Answer::new(one.device, Subject::part(one.served, part), verdict));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    match part.remark(Remark::LeavesFolder).filter(|_| !is_few(&part.sources, thresholds)) {
        Some(line) => one.fail(
            one.limited(CHECK.rating(), &part.sources),
            part,
            format!("{}: location {} leads out of its folder", one.title(), part.name),
            "A request with two dots behind the name of the location reaches the folder above its target."
                .into(),
            [line].into_iter().chain(part.lines()).collect(),
        ),
        None => Verdict::pass(part.origin),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const FAIL: &[&str] = &["pass d", "fail medium d nginx.conf:5 nginx.conf:4"];
        const PASS: &[&str] = &["pass d", "pass d"];
        for (head, inner, wanted) in [
            ("/files", "alias /srv/files/;", FAIL),
            ("^~ /files", "alias /srv/files/;", FAIL),
            ("/files/", "alias /srv/files/;", PASS),
            ("/files", "alias /srv/files;", PASS),
            ("/files", "root /srv/files/;", PASS),
            ("= /files", "alias /srv/files/;", PASS),
            ("~ ^/files(.*)$", "alias /srv/files/$1;", FAIL),
            ("~ ^/files/(.*)$", "alias /srv/files/$1;", PASS),
            ("/api", "proxy_pass http://10.4.0.9/v1/;", FAIL),
            ("/api", "proxy_pass http://10.4.0.9/;", PASS),
            ("/api", "proxy_pass http://10.4.0.9;", PASS),
            ("/files", "alias /srv/files/; allow 10.4.0.9; deny all;", PASS),
        ] {
            let text = format!("http {{\nserver {{\nlisten 80;\nlocation {head} {{\n{inner}\n}}\n}}\n}}\n");
            run(&CHECK, &[(&format!("{head} {inner}"), &[("d/etc/nginx/nginx.conf", &text)], wanted)]);
        }
    }
}
