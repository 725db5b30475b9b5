//! A directory shows its entries to clients without a login.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{AuthRequirement, PartKind, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/directory-unauthenticated",
    area: Area::Logins,
    title: "Directory readable without a login",
    severity: Severity::Medium,
    why: "A client that reaches the port reads names, mail addresses, groups and hosts of the organisation. An attacker then knows \
          every account to guess passwords for, and whose mail to forge.",
    fix: "Let users and named service accounts read (`by users read`), and clients without a login nothing but what a login needs (`by \
          anonymous auth`). Where a client cannot log in, limit its rule to its address and to the attributes that it needs.",
    judged: "Fails where the rules of access, evaluated in their order, let a client without a login search and read entries: medium for \
             all attributes, low for named ones and for the monitor database. Passes where a login is required, where only a few named \
             addresses are permitted, and for servers that listen on the device alone. `disallow bind_anon` alone does not prevent it, since a client \
             need not log in at all.",
    references: &["slapd.access(5)", "RFC 4513, 5.1.1", "CIS Controls 8, 6.1"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Directory]).filter(|one| !one.served.is_local()) {
        for part in &one.served.parts {
            if part.kind == PartKind::Entries && !part.is_written() {
                let verdict = match judge(one, part, baseline.at(one.device)) {
                    // What is missing may permit more, and not less.
                    pass @ Verdict::Pass(_) => one.open().unwrap_or(pass),
                    other => other,
                };
                let subject = Subject::part(one.served, part).limited_to(&part.sources);
                answers.push(Answer::new(one.device, subject, verdict));
            }
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    match part.login.value() {
        None => one.open().unwrap_or_else(|| one.ask_login(part)),
        Some(AuthRequirement::Nothing) if part.sources.is_local() || is_few(&part.sources, thresholds) => {
            one.holds_by_limit(part)
        }
        Some(AuthRequirement::Nothing) => {
            let whole = part.own_name() == part.name;
            let base = if part.remark(Remark::Status).is_some() {
                CHECK.rated_at(Severity::Low, "the entries are about the server itself")
            } else if whole {
                CHECK.rating()
            } else {
                CHECK.rated_at(Severity::Low, "some attributes only are shown")
            };
            one.fail(
                one.limited(base, &part.sources),
                part,
                format!("{} shows entries without a login", one.title()),
                format!("Clients without a login read {} from {}.", part.name, part.sources.words()),
                part.lines(),
            )
        }
        Some(_) => one.holds_by_login(part),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const FILE: &str = "d/etc/ldap/slapd.conf";

    #[test]
    fn cases() {
        for (rules, wanted) in [
            (
                "access to attrs=userPassword by anonymous auth\naccess to * by * read\n",
                &["fail medium d slapd.conf:4"][..],
            ),
            ("", &["fail medium d slapd.conf:1"]),
            ("access to * by users read by anonymous auth\n", &["pass d"]),
            ("access to * by peername.ip=10.4.0.9 read\n", &["pass d"]),
            ("access to * by peername.ip=10.4.0.0%255.255.240.0 read\n", &["fail low d slapd.conf:3"]),
            (
                "access to attrs=mail by * read\naccess to attrs=entry by * read\naccess to * by * search\n",
                &["fail low d slapd.conf:3 slapd.conf:4"],
            ),
            // An earlier rule decides.
            ("access to * by users read\naccess to * by * read\n", &["pass d"]),
        ] {
            let text = format!("database mdb\nsuffix dc=quay,dc=example\n{rules}");
            run(&CHECK, &[(rules, &[(FILE, &text)], wanted)]);
        }
        let open = "disallow bind_anon\ndatabase mdb\nsuffix dc=a\naccess to * by * read\n";
        run(&CHECK, &[("no login is needed", &[(FILE, open)], &["fail medium d slapd.conf:4"])]);
        let closed = "require authc\ndatabase mdb\nsuffix dc=a\naccess to * by * read\n";
        run(&CHECK, &[("a login is demanded", &[(FILE, closed)], &["pass d"])]);
        let local = ("d/etc/default/slapd", "SLAPD_SERVICES=\"ldap://127.0.0.1/ ldapi:///\"\n");
        run(&CHECK, &[("local", &[(FILE, open), local], &[])]);
        let part = "include /etc/ldap/rules.conf\ndatabase mdb\nsuffix dc=a\naccess to * by users read\n";
        run(&CHECK, &[("a part is missing", &[(FILE, part)], &["ask d"])]);
        const NIS: (&str, &str) = ("d/etc/ypserv.conf", "files: 30\n");
        let nets = ("d/var/yp/securenets", "255.255.240.0 10.4.0.0\n");
        run(&CHECK, &[("maps", &[NIS, nets], &["fail low d ypserv.conf:1 securenets:1"])]);
        run(&CHECK, &[("the clients are not known", &[NIS], &["ask d"])]);
        let monitor = "database monitor\naccess to * by * read\n";
        run(&CHECK, &[("the server itself", &[(FILE, monitor)], &["fail low d slapd.conf:2"])]);
    }
}
