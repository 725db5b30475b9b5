//! Clients get in without the login that a service has.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, BypassKind, LoginBypass, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/login-bypass",
    area: Area::Logins,
    title: "Login can be bypassed",
    severity: Severity::Medium,
    why: "A login that one path or one condition lifts protects only what is left. Such exceptions are made for one program or \
          one test, and everything below the path, and everyone who meets the condition, comes in as well.",
    fix: "Remove the exception, or limit it to the addresses of the program that needs it. Where several conditions are set, \
          require all of them (`satisfy all`, `RequireAll`).",
    judged: "Fails where pages within a protected site require no login (`auth_basic off`, a `Location` with its own `Require`, \
             an exception of `http-request auth`), and where one of several conditions is enough and any client meets it, as an \
             address that clients state in a header. Low where another server behind the page may require a login; \
             not judged for redirects, and for paths that are public by nature (`/.well-known`, `robots.txt`, style sheets). \
             Undetermined where an included file is missing.",
    references: &["mod_authz_core, AuthMerging", "ngx_http_core_module, satisfy", "CWE-288"],
    needs: &[Need::Services, Need::Ssh],
    run: Run::Analyses(run),
};

/// Parts of paths that are public by nature.
const PUBLIC: [&str; 16] = [
    ".well-known",
    "robots.txt",
    "favicon.ico",
    "css",
    "js",
    "img",
    "images",
    "fonts",
    "static",
    "assets",
    "icons",
    "health",
    "healthz",
    "healthcheck",
    "ping",
    "acme-challenge",
];

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Pages]).filter(|one| !one.served.is_local()) {
        let has_login = |part: &ServiceResource| {
            part.bypass.is_some() || part.login.value() >= Some(&AuthRequirement::Password)
        };
        if !one.served.parts.iter().any(has_login) {
            continue;
        }
        answers.extend(one.open_answer());
        let mut seen = Vec::new();
        for part in one.served.parts.iter().filter(|part| has_login(part)) {
            // The lines of a site hold for its pages as well, and are one finding.
            if part.bypass.is_some() && seen.contains(&part.bypass) {
                continue;
            }
            seen.push(part.bypass);
            let verdict = match part.bypass.filter(|_| is_judged(part)) {
                Some(bypass) => judge(one, part, bypass),
                None => one.holds_by_login(part),
            };
            answers.push(Answer::new(one.device, Subject::part(one.served, part), verdict));
        }
    }
    answers
}

/// Whether a login would protect something there.
fn is_judged(part: &ServiceResource) -> bool {
    let is_public = |word: &str| PUBLIC.contains(&word.to_ascii_lowercase().as_str());
    // A pattern has its names behind signs of its own.
    let signs = ['/', '^', '$', '~', '(', ')', '|', '=', ' ', '\\', '?', '*', '+'];
    let is_named = |word: &str| is_public(word) || is_public(word.trim_start_matches('.'));
    let public = part.name.split(signs).any(is_named) && part.remark(Remark::Administration).is_none();
    let refused = part.login.value() == Some(&AuthRequirement::Refused) || part.sources.is_local();
    part.remark(Remark::Redirect).is_none() && !refused && !public
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, bypass: LoginBypass) -> Verdict {
    let base = match part.login.value() {
        // A certificate or a login of another kind is asked for instead.
        Some(asked) if *asked >= AuthRequirement::Password => return one.holds_by_login(part),
        Some(_) if part.remark(Remark::Administration).is_some() => {
            CHECK.rated_at(Severity::High, "administration pages require no login")
        }
        Some(_) if !part.sources.is_everybody() => {
            CHECK.rated_at(Severity::Low, "only some addresses are permitted")
        }
        Some(_) => CHECK.rated("the login protects nothing there"),
        None => CHECK.rated_at(Severity::Low, "the server behind it may require a login of its own"),
    };
    let (title, detail) = match bypass.kind {
        BypassKind::Section => (
            format!("{} serves {} without the login of the pages around it", one.title(), part.name),
            "The login is set up for the pages around it and lifted for this path.",
        ),
        BypassKind::Condition => (
            format!("{} serves {} to any client without its login", one.title(), part.name),
            "One of several conditions is enough, and any client meets one that is not the login.",
        ),
    };
    let lines = [bypass.origin, bypass.login_origin]
        .into_iter()
        .chain(part.remark(Remark::HandedOn))
        .chain(part.lines());
    one.fail(base, part, title, detail.to_owned(), lines.collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn nginx() {
        for (name, outer, inner, wanted) in [
            ("a login for all", "auth_basic x;", "root /a;", &["pass d"][..]),
            (
                "taken away",
                "auth_basic x;",
                "auth_basic off; root /a;",
                &["fail medium d nginx.conf:5 nginx.conf:4", "pass d"],
            ),
            ("taken away in a comment", "auth_basic x;", "# auth_basic off;\nroot /a;", &["pass d"]),
            (
                "a server behind it",
                "auth_basic x;",
                "auth_basic off; proxy_pass http://10.4.0.9;",
                &["fail low d nginx.conf:5 nginx.conf:4", "pass d"],
            ),
            ("a certificate instead", "auth_basic x;", "auth_basic off; ssl_verify_client on;", &["pass d"]),
            (
                "near addresses are enough",
                "auth_basic x; satisfy any; allow 10.4.0.0/16; deny all;",
                "root /a;",
                &["pass d"],
            ),
            (
                "any address is enough",
                "auth_basic x; satisfy any; allow all;",
                "root /a;",
                &["fail medium d nginx.conf:4 nginx.conf:2"],
            ),
            (
                "an address that clients state",
                "auth_basic x; satisfy any; allow 10.4.0.0/16; deny all; set_real_ip_from 0.0.0.0/0;",
                "root /a;",
                &["fail medium d nginx.conf:4 nginx.conf:2"],
            ),
            ("both are required", "auth_basic x; allow 10.4.0.0/16; deny all;", "root /a;", &["pass d"]),
            ("no login", "allow all;", "root /a;", &[]),
        ] {
            let text =
                format!("http {{\nserver {{\nlisten 80;\n{outer}\nlocation /data {{ {inner} }}\n}}\n}}\n");
            let answers = crate::testing::answers(
                &CHECK,
                &crate::testing::estate(&[("d/etc/nginx/nginx.conf", &text)]),
            );
            let mut answers: Vec<String> = answers;
            answers.sort();
            answers.dedup();
            assert_eq!(answers, wanted, "{name}");
        }
        let text = "http {\nserver {\nlisten 80;\nauth_basic x;\nlocation /.well-known/acme-challenge { auth_basic off; } location ~ \\.(css|js)$ { auth_basic off; }\nlocation /admin { auth_basic off; }\n}\n}\n";
        run(
            &CHECK,
            &[(
                "public by nature, and administration",
                &[("d/etc/nginx/nginx.conf", text)],
                &["pass d", "pass d", "pass d", "fail high d nginx.conf:6 nginx.conf:4"],
            )],
        );
        let text = "http {\nserver {\nlisten 80;\nauth_basic x;\ninclude /etc/nginx/gone.conf;\n}\n}\n";
        run(&CHECK, &[("a file is missing", &[("d/etc/nginx/nginx.conf", text)], &["ask d", "pass d"])]);
    }

    #[test]
    fn apache() {
        const FOLDER: &str = "<Directory /var/www>\nAuthType Basic\nRequire valid-user\n</Directory>\n";
        for (name, more, wanted) in [
            ("a login", "", &["pass d"][..]),
            (
                "a location takes it away",
                "<Location /data>\nRequire all granted\n</Location>\n",
                &["pass d", "fail medium d site.conf:8 site.conf:5 site.conf:7"],
            ),
            (
                "a location limits it",
                "<Location /data>\nRequire ip 10.4.0.0/16\n</Location>\n",
                &["pass d", "fail low d site.conf:8 site.conf:5 site.conf:7"],
            ),
            (
                "a location with a login",
                "<Location /data>\nRequire user ann\n</Location>\n",
                &["pass d", "pass d"],
            ),
            ("a location that refuses", "<Location /data>\nRequire all denied\n</Location>\n", &["pass d"]),
            (
                "any client is enough",
                "<Location /data>\nSatisfy any\nOrder allow,deny\nAllow from all\nRequire valid-user\n</Location>\n",
                &["pass d", "fail medium d site.conf:9 site.conf:11 site.conf:7 site.conf:10"],
            ),
        ] {
            let text = format!("<VirtualHost *:80>\nDocumentRoot /var/www\n{FOLDER}{more}</VirtualHost>\n");
            run(&CHECK, &[(name, &[("d/etc/apache2/sites-enabled/site.conf", &text)], wanted)]);
        }
    }

    #[test]
    fn haproxy() {
        for (name, rule, wanted) in [
            ("a login", "http-request auth unless { http_auth(u) }", &["pass d"][..]),
            (
                "near addresses",
                "http-request auth unless { http_auth(u) } or { src 10.4.0.0/16 }",
                &["pass d"],
            ),
            (
                "a header",
                "http-request auth unless { http_auth(u) } or { hdr(x-tool) -m found }",
                &["fail low d haproxy.cfg:5 haproxy.cfg:6 haproxy.cfg:3"],
            ),
            (
                "a path",
                "http-request auth unless { http_auth(u) } or { path_beg /api }",
                &["pass d", "fail low d haproxy.cfg:5 haproxy.cfg:6 haproxy.cfg:3"],
            ),
            ("for one path alone", "http-request auth if { path_beg /yard } !{ http_auth(u) }", &["pass d"]),
            ("in a comment", "# http-request auth unless { http_auth(u) } or { path_beg /api }", &[]),
        ] {
            let text = format!(
                "defaults\n mode http\nfrontend f\n bind :80\n {rule}\n default_backend x\nbackend x\n server a 10.4.0.9:80\n"
            );
            run(&CHECK, &[(name, &[("d/etc/haproxy/haproxy.cfg", &text)], wanted)]);
        }
    }
}
