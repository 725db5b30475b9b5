//! A proxy makes connections to other servers for clients without a login.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::support::serving::{ServiceCase, each_relaying, wide_public};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::some_ranges;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/open-proxy",
    area: Area::Exposure,
    title: "Forward proxy without a login",
    severity: Severity::Medium,
    why: "Attackers use such a proxy to hide their own address, and to reach servers of the internal network behind it. Its address then \
          appears in the logs of others.",
    fix: "Require a login, or permit the organisation's own networks only (`http_access allow` for named networks before `http_access deny \
          all`; `socksmethod: username`; `lt-cred-mech`). Bind the proxy to an internal address.",
    judged: "Fails where an HTTP proxy, a SOCKS proxy or a TURN server makes connections for clients at any address without a login, or for \
             public networks of more than 65,536 addresses: medium, high where the Internet reaches it. Passes where its lists, evaluated in \
             their order, permit named networks or logged-in users only. Undetermined where a list that decides was not exported, or an \
             external program decides.",
    references: &["RFC 9110, 17.1", "RFC 1928, 8", "RFC 8656, 21", "squid.conf.documented, http_access"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_relaying(estate, ServedKind::Proxies, judge)
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    match part.login.value() {
        None => return one.ask_login(part),
        Some(AuthRequirement::Nothing) => {}
        Some(_) => return one.holds_by_login(part),
    }
    let anywhere = part.remark(Remark::AnyTarget);
    let scope = match anywhere {
        Some(_) => "It connects to any port of other servers.",
        None => "It connects to ports that its lists name.",
    };
    let lines = || part.lines().into_iter().chain(anywhere).collect();
    if part.sources.is_everybody() {
        let title = format!("{} requires no login", one.title());
        return one.fail(
            CHECK.rating(),
            part,
            title,
            format!("Clients at any address may use it. {scope}"),
            lines(),
        );
    }
    if let Some(broad) = wide_public(&part.sources.ranges) {
        let title = format!("{} requires no login from {}", one.title(), some_ranges(&broad));
        let detail = format!("These are public addresses. A prefix may be shorter than intended. {scope}");
        return one.fail(CHECK.rating(), part, title, detail, lines());
    }
    one.holds_by_limit(part)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        const SQUID: &str = "gate/etc/squid/squid.conf";
        const DANTE: &str = "gate/etc/danted.conf";
        const TURN: &str = "gate/etc/turnserver.conf";
        const SOCKS: &str = "internal: 0.0.0.0 port = 3128\nexternal: eth0\n";
        const PASS: &str = "client pass { from: 0/0 to: 0/0 }\nsocks pass { from: 0/0 to: 0/0 }\n";
        let open = "-A INPUT -p tcp --dport 3128 -j ACCEPT\n";
        let inner = "-A INPUT -i eth1 -j ACCEPT\n";
        for (file, text, rules, wanted) in [
            (
                SQUID,
                "http_port 3128\nhttp_access allow all\n",
                open,
                "fail high gate squid.conf:1 squid.conf:2 iptables-save.txt:9",
            ),
            (
                SQUID,
                "http_port 3128\nhttp_access allow all\n",
                inner,
                "fail medium gate squid.conf:1 squid.conf:2",
            ),
            // A rule for all behind a login, and one that others shadow.
            (
                SQUID,
                "http_port 3128\nauth_param basic program /x\nacl known proxy_auth REQUIRED\nhttp_access deny !known\nhttp_access allow all\n",
                open,
                "pass gate",
            ),
            (
                SQUID,
                "http_port 3128\nacl lan src 10.4.0.0/16\nhttp_access allow lan\nhttp_access deny all\nhttp_access allow all\n",
                open,
                "pass gate",
            ),
            // The opposite of the last rule holds for the rest.
            (
                SQUID,
                "http_port 3128\nacl bad src 192.0.2.0/24\nhttp_access deny bad\n",
                open,
                "fail high gate squid.conf:1 squid.conf:3 iptables-save.txt:9",
            ),
            (
                SQUID,
                "http_port 3128\nacl lan src 192.0.0.0/8\nhttp_access allow lan\n",
                open,
                "fail medium gate squid.conf:1 squid.conf:3 squid.conf:2 iptables-save.txt:9",
            ),
            (SQUID, "http_port 127.0.0.1:3128\nhttp_access allow all\n", open, ""),
            (
                SQUID,
                "http_port 3128\nacl own src \"/etc/squid/clients\"\nhttp_access allow own\n",
                open,
                "ask gate",
            ),
            (SQUID, "http_port 3128 accel defaultsite=a.example\nhttp_access allow all\n", open, ""),
            (
                DANTE,
                &format!("{SOCKS}socksmethod: none\n{PASS}"),
                open,
                "fail high gate danted.conf:1 danted.conf:5 danted.conf:4 iptables-save.txt:9",
            ),
            (DANTE, &format!("{SOCKS}socksmethod: username\n{PASS}"), open, "pass gate"),
            (
                DANTE,
                &format!(
                    "{SOCKS}socksmethod: none\nclient pass {{ from: 10.4.0.0/16 to: 0/0 }}\nsocks pass {{ from: 0/0 to: 0/0 }}\n"
                ),
                open,
                "pass gate",
            ),
            (
                TURN,
                "listening-port=3128\nno-auth\n",
                open,
                "fail high gate turnserver.conf:1 turnserver.conf:2 iptables-save.txt:9",
            ),
            (TURN, "listening-port=3128\nlt-cred-mech\nuser=ann:Anker-7-Mole\n", open, "pass gate"),
        ] {
            let found = on(&CHECK, &Small { rules, more: &[(file, text)], ..Small::default() });
            assert_eq!(found.join("; "), wanted, "{text} {rules}");
        }
    }
}
