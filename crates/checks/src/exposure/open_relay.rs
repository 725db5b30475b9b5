//! A mail server sends mail to other domains for clients without a login.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::support::serving::{ServiceCase, each_relaying, wide_public};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::some_ranges;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/open-relay",
    area: Area::Exposure,
    title: "Mail relay without a login",
    severity: Severity::Medium,
    why: "Senders of spam find such a server within hours and use it. Its address and the domain then are on block lists, and the \
          organisation's own mail is rejected.",
    fix: "Let mail to other domains pass for logged-in users and named servers only (`smtpd_relay_restrictions = \
          permit_mynetworks, permit_sasl_authenticated, reject_unauth_destination`). List these servers in `mynetworks`, and no \
          network of others. For Exim list them in `relay_from_hosts`, or in `dc_relay_nets` of Debian's settings.",
    judged: "Fails where a mail server accepts mail to other domains without a login from any address, or from public networks of \
             more than 65,536 addresses: medium, high where the Internet reaches it. Passes where the lists of restrictions, \
             evaluated in their order, permit named networks only. Undetermined where a table that decides was not exported.",
    references: &["RFC 5321, 7.8", "RFC 2505, 2.1", "postconf(5), smtpd_relay_restrictions"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_relaying(estate, ServedKind::Mail, judge)
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    if part.sources.is_everybody() {
        return one.fail(
            CHECK.rating(),
            part,
            format!("{} sends mail to other domains for any client", one.title()),
            "No list of restrictions rejects mail to other domains from clients without a login.".into(),
            part.lines(),
        );
    }
    if let Some(broad) = wide_public(&part.sources.ranges) {
        return one.fail(
            CHECK.rating(),
            part,
            format!("{} sends mail to other domains for {}", one.title(), some_ranges(&broad)),
            "These are public addresses, and their owners need no login. A prefix may be shorter than intended.".into(),
            part.lines(),
        );
    }
    one.holds_by_limit(part)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    const FILE: &str = "gate/etc/postfix/main.cf";
    const HEAD: &str = "compatibility_level = 3.6\nmyhostname = mail.quay.example\n";

    #[test]
    fn cases() {
        let inner = "-A INPUT -i eth1 -j ACCEPT\n";
        let open = "-A INPUT -p tcp --dport 25 -j ACCEPT\n";
        for (text, rules, wanted) in [
            ("mynetworks = 0.0.0.0/0\n", open, "fail high gate main.cf:3 iptables-save.txt:9"),
            ("mynetworks = 0.0.0.0/0\n", inner, "fail medium gate main.cf:3"),
            ("mynetworks = 192.0.0.0/8\n", open, "fail medium gate main.cf:3 iptables-save.txt:9"),
            ("mynetworks = 10.4.0.0/16 203.0.113.0/28\n", open, "pass gate"),
            (
                "mynetworks = 127.0.0.0/8\nsmtpd_relay_restrictions = permit\nsmtpd_recipient_restrictions = reject_unauth_destination\n",
                open,
                "pass gate",
            ),
            (
                "smtpd_relay_restrictions = check_sender_access static:OK, reject_unauth_destination\n",
                open,
                "fail high gate main.cf:3 iptables-save.txt:9",
            ),
            // It accepts no mail at all.
            ("smtpd_relay_restrictions = permit\n", open, ""),
            ("mynetworks = /etc/postfix/networks\n", open, "ask gate"),
            (
                "smtpd_client_restrictions = permit_sasl_authenticated, reject\nmynetworks = 0.0.0.0/0\n",
                open,
                "pass gate",
            ),
            ("inet_interfaces = loopback-only\nmynetworks = 0.0.0.0/0\n", open, ""),
        ] {
            let text = format!("{HEAD}{text}");
            let found = on(&CHECK, &Small { rules, more: &[(FILE, &text)], ..Small::default() });
            assert_eq!(found.join("; "), wanted, "{text} {rules}");
        }
    }

    #[test]
    fn rules_of_exim() {
        const RULES: &str = "acl_smtp_rcpt = check\nbegin acl\ncheck:\n";
        let open = "-A INPUT -p tcp --dport 25 -j ACCEPT\n";
        for (path, text, wanted) in [
            (
                "gate/etc/exim4/exim4.conf",
                &*format!("{RULES}accept\n"),
                "fail high gate exim4.conf:4 iptables-save.txt:9",
            ),
            ("gate/etc/exim4/exim4.conf", &format!("{RULES}accept hosts = 10.4.0.0/16\n"), "pass gate"),
            (
                "gate/etc/exim4/exim4.conf",
                &format!("{RULES}accept condition = ${{lookup{{x}}lsearch{{/y}}}}\n"),
                "ask gate",
            ),
            ("gate/etc/exim4/exim4.conf", "local_interfaces = 127.0.0.1\n", ""),
            (
                "gate/etc/exim4/update-exim4.conf.conf",
                "dc_eximconfig_configtype='internet'\ndc_relay_nets='0.0.0.0/0'\n",
                "fail high gate update-exim4.conf.conf:2 update-exim4.conf.conf:1 iptables-save.txt:9",
            ),
            // Mail stays on the machine.
            (
                "gate/etc/exim4/update-exim4.conf.conf",
                "dc_eximconfig_configtype='local'\ndc_relay_nets='0.0.0.0/0'\n",
                "pass gate",
            ),
        ] {
            let found = on(&CHECK, &Small { rules: open, more: &[(path, text)], ..Small::default() });
            assert_eq!(found.join("; "), wanted, "{text}");
        }
    }

    #[test]
    fn services_with_settings_of_their_own() {
        let main = format!("{HEAD}mynetworks = 10.4.0.0/16\n");
        let master = "smtp inet n - y - - smtpd\n2525 inet n - y - - smtpd\n  -o smtpd_relay_restrictions=permit_mynetworks,permit,reject\n  \
                      -o smtpd_recipient_restrictions=check_client_access,static:OK,reject\n";
        let open = "-A INPUT -p tcp --dport 2525 -j ACCEPT\n";
        let more: &[(&str, &str)] = &[(FILE, &main), ("gate/etc/postfix/master.cf", master)];
        let found = on(&CHECK, &Small { rules: open, more, ..Small::default() });
        assert_eq!(
            found,
            ["pass gate", "fail high gate main.cf:3 master.cf:3 master.cf:4 iptables-save.txt:9"]
        );
    }
}
