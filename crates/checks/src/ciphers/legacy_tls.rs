//! A tunnel may speak an early version of TLS.

use crate::check::{Answer, Check, Need, Run};
use crate::ciphers::judge;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::offer::AlgorithmRole;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/legacy-tls",
    area: Area::Ciphers,
    title: "SSL, TLS 1.0 or TLS 1.1 offered",
    severity: Severity::Medium,
    why: "TLS 1.0 and 1.1 depend on broken hash functions and are no longer maintained; SSL is worse. An attacker on the \
          path who forces a downgrade can read or change the traffic.",
    fix: "Permit TLS 1.2 and later only: `tls-version-min 1.2` (OpenVPN), `-VERS-TLS1.0:-VERS-TLS1.1:-VERS-DTLS1.0` in \
          `tls-priorities` (ocserv), `sslVersionMin = TLSv1.2` (stunnel).",
    judged: "Fails where SSL, or a version of TLS or DTLS deprecated by RFC 8996, may be negotiated; one level lower where \
             it is a default of the program. Undetermined where nothing is set and the version of the program decides.",
    references: &["RFC 8996, 4 to 6", "RFC 7568, 3", "RFC 9325, 3.1", "NIST SP 800-52 Rev. 2, 3.1"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    judge(&CHECK, estate, &[AlgorithmRole::Protocol], "key negotiation", false)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("stated", "tls-version-min 1.2", "pass d"),
            ("too low", "tls-version-min 1.0", "fail medium d s.conf:3"),
            ("a later line", "tls-version-min 1.0\ntls-version-min 1.2", "pass d"),
            ("in a comment", ";tls-version-min 1.2", "ask d"),
            ("as an old version", "compat-mode 2.3.2", "fail medium d s.conf:3"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(name, &[("d/s.conf", &text)], &[wanted])]);
        }
        for (name, line, wanted) in [
            ("the library's own list", "tls-priorities = \"NORMAL\"", "fail low d ocserv.conf:3"),
            ("nothing stated", "", "fail low d ocserv.conf:1"),
            ("asked for by name", "tls-priorities = \"NORMAL:+VERS-SSL3.0\"", "fail high d ocserv.conf:3"),
            ("taken away", "tls-priorities = \"NORMAL:-VERS-TLS1.0:-VERS-TLS1.1:-VERS-DTLS1.0\"", "pass d"),
            ("the system's", "tls-priorities = \"@SYSTEM\"", "ask d"),
        ] {
            let text = format!(
                "auth = \"plain[passwd=p]\"\nipv4-network = 10.9.0.0/24\n{line}\nmax-same-clients = 2\n"
            );
            run(&CHECK, &[(name, &[("d/ocserv.conf", &text)], &[wanted])]);
        }
        for (line, wanted) in [
            ("sslVersionMin = TLSv1.2", "pass d"),
            ("sslVersion = SSLv3", "fail high d stunnel.conf:1"),
            ("", "ask d"),
        ] {
            let text = format!("{line}\n[a]\naccept = 443\nconnect = 10.4.0.9:80\n");
            run(&CHECK, &[(line, &[("d/stunnel.conf", &text)], &[wanted])]);
        }
        // The versions that methods with TLS accept (FreeRADIUS, mods-available/eap).
        for (lines, wanted) in [
            ("tls_min_version = \"1.0\"", "fail medium d eap:3"),
            ("tls_min_version = \"1.2\"", "pass d"),
            ("tls_min_version = \"1.0\"\ndisable_tlsv1 = yes\ndisable_tlsv1_1 = yes", "pass d"),
            ("tls_min_version = \"1.0\"\ndisable_tlsv1 = yes", "fail medium d eap:3"),
            ("# tls_min_version = \"1.0\"", "pass d"),
        ] {
            let text =
                format!("eap {{\n tls-config common {{\n{lines}\n }}\n tls {{\n tls = common\n }}\n}}\n");
            run(&CHECK, &[(lines, &[("d/mods-enabled/eap", &text)], &[wanted])]);
        }
        let old = "eap {\n tls {\n private_key_file = k.pem\n tls_min_version = 1.1\n }\n}\n";
        run(&CHECK, &[("in the method itself", &[("d/mods-enabled/eap", old)], &["fail medium d eap:4"])]);
        let without = "eap {\n md5 {\n }\n}\n";
        run(&CHECK, &[("no method with TLS", &[("d/mods-enabled/eap", without)], &[])]);
        let sites = "http {\n    ssl_protocols TLSv1 TLSv1.2;\n    server { listen 443 ssl; server_name a.example; }\n    server { listen 443 ssl; \
                     server_name b.example; }\n    server { listen 443 ssl; server_name c.example; ssl_protocols TLSv1.2; }\n}\n";
        let wanted = &["fail medium d nginx.conf:2", "pass d"];
        run(&CHECK, &[("one line for two sites", &[("d/etc/nginx/nginx.conf", sites)], wanted)]);
        run(&CHECK, &[("no TLS", &[("d/ipsec.conf", "conn c\n\tauto=add\n")], &["none d"])]);
    }
}
