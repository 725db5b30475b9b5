//! A service shows the certificate that came with the device or with its software.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::secrets::shown::{Bearer, each_bearer};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::certificate::CertificateFile;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/certificate-factory-default",
    area: Area::Secrets,
    title: "Factory-default certificate",
    severity: Severity::Medium,
    why: "A certificate that comes with a device or a package proves nothing about the server. On some devices its private \
          key is the same in every unit and can be taken from the firmware. Users learn to accept the warning, also when \
          another machine answers.",
    fix: "Issue a certificate with the names that clients connect to, from a CA that they trust. Remove the default one from \
          every service.",
    judged: "Fails where a VPN server or a service shows a certificate that a device sheet marks as the factory default, or \
             one at a path where packages create a placeholder. Other certificates pass.",
    references: &["NIST SP 800-52 Rev. 2, 3.2", "CWE-1392"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// Placeholders that packages create: by make-ssl-cert(8), by the web server packages of several distributions, and by the web server of
/// OpenWrt.
const PLACEHOLDERS: [&str; 4] = [
    "/etc/ssl/certs/ssl-cert-snakeoil.pem",
    "/etc/pki/tls/certs/localhost.crt",
    "/etc/uhttpd.crt",
    "/etc/ssl/certs/dovecot.pem",
];

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    each_bearer(estate, judge)
}

fn judge(estate: &EstateMap, at: usize, bearer: &Bearer<'_>) -> Option<Verdict> {
    let placeholder =
        |file: &CertificateFile| file.path.as_deref().is_some_and(|path| PLACEHOLDERS.contains(&path));
    let files = bearer.files();
    let (detail, evidence) = if let Some(file) = files.iter().find(|file| placeholder(file)) {
        let path = file.path.as_deref().unwrap_or_default();
        (format!("`{path}` is a placeholder that a package creates."), vec![file.origin])
    } else {
        let (one, origin) = bearer.first(estate, at).ok()??;
        if !one.factory {
            return Some(Verdict::pass_by([one.origin, origin], origin));
        }
        (format!("`{}` came with the device.", one.subject), vec![one.origin, origin])
    };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated("another machine can show the same certificate"),
        title: format!("{} shows a factory-default certificate", bearer.name()).into(),
        detail: detail.into(),
        evidence,
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{certificate as pem, run};

    #[test]
    fn cases() {
        let site = |path: &str| {
            format!(
                "server {{\n  listen 443 ssl;\n  server_name desk.example;\n  ssl_certificate {path};\n}}\n"
            )
        };
        let (placeholder, own) = (site("/etc/ssl/certs/ssl-cert-snakeoil.pem"), site("/etc/nginx/desk.pem"));
        let commented =
            own.replace("  ssl", "  #ssl_certificate /etc/ssl/certs/ssl-cert-snakeoil.pem;\n  ssl");
        let at = "d/etc/nginx/nginx.conf";
        let held = ("d/etc/nginx/desk.pem", pem("server"));
        run(
            &CHECK,
            &[
                ("a placeholder", &[(at, &placeholder)], &["fail medium d nginx.conf:4"]),
                ("its own", &[(at, &own), held], &["pass d"]),
                ("not exported", &[(at, &own)], &[]),
                ("in a comment", &[(at, &commented), held], &["pass d"]),
            ],
        );
        for (factory, wanted) in [("true", &["fail medium d s.toml:9 s.toml:8"][..]), ("false", &["pass d"])]
        {
            let text = format!(
                "sheet = \"trevlin-sheet/2\"\n[[services]]\nname = \"portal\"\nkind = \"pages\"\nprogram = \
                 \"appliance\"\nendpoints = [{{ protocol = \"tcp\", port = 443, carried = \"encrypted\" \
                 }}]\nhost-names = [\"desk.example\"]\ncertificates = [\"web\"]\n[[certificates]]\nfile = \
                 \"web\"\nsubject = \"gate\"\nfactory = {factory}\n"
            );
            run(&CHECK, &[(factory, &[("d/s.toml", &text)], wanted)]);
        }
    }
}
