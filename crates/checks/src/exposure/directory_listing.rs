//! A web server lists what its folders hold.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/directory-listing",
    area: Area::Exposure,
    title: "Directory listing enabled",
    severity: Severity::Low,
    why: "Visitors and search engines find copies, archives and unpublished files without guessing a name. Such files often contain credentials.",
    fix: "Disable listings (`autoindex off`, `Options -Indexes`), and keep downloads in a separate folder.",
    judged: "Fails for each path with directory listings open to any address; one level lower where only some networks are \
             permitted. Passes where listings are off, or off again for the folder. Undetermined where an included file is \
             missing.",
    references: &["ngx_http_autoindex_module", "mod_autoindex", "CIS Controls 8, 4.8"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Pages]).filter(|one| !one.served.is_local()) {
        answers.extend(one.open_answer());
        for part in &one.served.parts {
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
    match part.remark(Remark::Listing).filter(|_| !is_few(&part.sources, thresholds)) {
        Some(line) => one.fail(
            one.limited(CHECK.rating(), &part.sources),
            part,
            format!("{} lists the content of {}", one.title(), part.name),
            part.path.as_ref().map_or_else(String::new, |path| format!("Its path is {path}.")),
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
        for (inner, wanted) in [
            ("autoindex on;", &["fail low d nginx.conf:4 nginx.conf:2"][..]),
            ("autoindex on; allow 10.4.0.0/24; deny all;", &["fail info d nginx.conf:4 nginx.conf:2"]),
            ("autoindex on; allow 10.4.0.9; deny all;", &["pass d"]),
            ("autoindex off;", &["pass d"]),
            ("autoindex on;\nlocation / { autoindex off; }", &["pass d"]),
        ] {
            let text = format!("http {{\nserver {{\nlisten 80;\n{inner}\n}}\n}}\n");
            run(&CHECK, &[(inner, &[("d/etc/nginx/nginx.conf", &text)], wanted)]);
        }
        let off = "server {\nlisten 80;\nautoindex on;\n}\n";
        let main = ("d/etc/nginx/nginx.conf", "events {}\nhttp {\ninclude sites-enabled/*;\n}\n");
        run(&CHECK, &[("a site that is not enabled", &[main, ("d/etc/nginx/sites-available/a", off)], &[])]);
        let missing = "http {\nserver {\nlisten 80;\nautoindex off;\ninclude extra.conf;\n}\n}\n";
        run(&CHECK, &[("missing", &[("d/etc/nginx/nginx.conf", missing)], &["ask d", "pass d"])]);
        let apache = "Listen 80\nDocumentRoot /a\n<Directory /a>\nOptions +Indexes\n</Directory>\n";
        run(
            &CHECK,
            &[(
                "apache",
                &[("d/etc/apache2/apache2.conf", apache)],
                &["fail low d apache2.conf:4 apache2.conf:1"],
            )],
        );
    }
}
