//! Pages are served over HTTP without a redirect to HTTPS.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{Remark, Served, ServedKind, Sources, TransportSecurity};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/http-not-redirected",
    area: Area::Ciphers,
    title: "HTTP not redirected to HTTPS",
    severity: Severity::Low,
    why: "A user who enters the name without `https` stays on HTTP. An attacker on the path can then show any content, such as \
          a false login page.",
    fix: "Let the HTTP site do nothing but redirect (`return 301 https://$host$request_uri`, `Redirect permanent / \
          https://…`, `redirect scheme https`).",
    judged: "Fails for each HTTP site without a complete redirect where the same program also serves HTTPS. Passes where \
             every request is redirected. Undetermined where an unsupported condition decides. A server without TLS is \
             reported where it requires a password.",
    references: &["RFC 6797, 7.2", "RFC 9325, 3.2"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    // Whether a program of a device serves with TLS, asked once for all its pages.
    let mut with_tls: BTreeMap<(usize, &str), bool> = BTreeMap::new();
    for one in of_kinds(estate, &[ServedKind::Pages]).filter(|one| !one.served.is_local()) {
        let plain = one
            .served
            .endpoints
            .iter()
            .find(|place| place.carried == TransportSecurity::Plain && !place.is_local());
        let Some(plain) = plain else { continue };
        if !*with_tls.entry((one.device, one.served.program)).or_insert_with(|| has_tls(one)) {
            continue;
        }
        let mut whole = one.served.parts.iter().filter(|part| part.name == "/");
        let sends = whole.find_map(|part| part.remark(Remark::Redirect));
        let shut = one.served.parts.iter().all(|part| part.sources.is_local());
        let some = one.served.parts.iter().find_map(|part| part.remark(Remark::RedirectSometimes));
        let verdict = if sends.is_some() || shut {
            Verdict::pass_by(sends, plain.origin)
        } else if let Some(line) = some {
            let question = format!(
                "Please review the redirect of {} by hand: it depends on a condition that is not analysed.",
                one.title()
            );
            Verdict::ask(question, vec![line, plain.origin])
        } else {
            one.fail_of(
                CHECK.rating(),
                &widest(one.served),
                format!("{} is served over HTTP on port {}, beside HTTPS sites", one.title(), plain.port),
                "HTTP requests are not redirected to HTTPS.".into(),
                vec![plain.origin, one.served.origin],
            )
        };
        let subject = Subject::served(one.served).with(plain.port);
        answers.push(Answer::new(one.device, subject, verdict));
    }
    answers
}

/// Whether the same program of the device serves with TLS.
fn has_tls(one: ServiceCase<'_>) -> bool {
    let all = &one.estate.devices[one.device].facts.served;
    let same =
        all.iter().filter(|other| other.program == one.served.program && other.kind == ServedKind::Pages);
    same.flat_map(|other| &other.endpoints).any(|place| place.carried == TransportSecurity::Encrypted)
}

/// Sources of the part that most may use.
fn widest(served: &Served) -> Sources {
    let wide = served.parts.iter().find(|part| part.sources.is_everybody());
    wide.or(served.parts.first()).map_or_else(Sources::everybody, |part| part.sources.clone())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const TLS: &str = "server {\n listen 443 ssl;\n ssl_protocols TLSv1.3;\n}\n";
        for (text, wanted) in [
            (
                format!("http {{\nserver {{\n listen 80;\n root /a;\n}}\n{TLS}}}\n"),
                &["fail low d nginx.conf:3 nginx.conf:2"][..],
            ),
            (
                format!(
                    "http {{\nserver {{\n listen 80;\n return 301 https://$host$request_uri;\n}}\n{TLS}}}\n"
                ),
                &["pass d"],
            ),
            (
                "http {\nserver {\n listen 80;\n listen 443 ssl;\n if ($x) { return 301 https://a.example; }\n}\n}\n".into(),
                &["ask d"],
            ),
            (
                "http {\nserver {\n listen 80;\n listen 443 ssl;\n if ($scheme = http) { return 301 https://a.example; }\n}\n}\n".into(),
                &["pass d"],
            ),
            (
                "http {\nserver {\n listen 80;\n listen 443 ssl;\n}\n}\n".into(),
                &["fail low d nginx.conf:3 nginx.conf:2"],
            ),
            ("http {\nserver {\n listen 80;\n}\n}\n".into(), &[]),
            (format!("http {{\nserver {{\n listen 127.0.0.1:80;\n}}\n{TLS}}}\n"), &[]),
        ] {
            run(&CHECK, &[(&text, &[("d/etc/nginx/nginx.conf", &text)], wanted)]);
        }
    }
}
