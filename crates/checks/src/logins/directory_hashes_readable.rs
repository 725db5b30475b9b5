//! A directory shows the passwords that it stores.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::support::directories::{each_right, holders};
use crate::support::serving::ServiceCase;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, PartKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/directory-hashes-readable",
    area: Area::Logins,
    title: "Directory shows password hashes",
    severity: Severity::High,
    why: "Passwords of a directory open servers, mail and tunnels at once. By their hashes they are guessed offline without limit, and NT hashes and Kerberos keys are used without any guessing.",
    fix: "Put a rule for the password attributes before all others: `access to attrs=userPassword by self =xw by anonymous auth by * none`. \
          For NIS name single clients in `securenets`, and move the accounts to a directory with TLS. \
          Have all users change their passwords where the hashes could be read.",
    judged: "Fails where the rules of access, evaluated in their order, let clients without a login or any user read password attributes of \
             other entries; one level lower where a login is required, or where not every address is permitted. NIS gives its maps to every client of \
             `securenets` that no rule of `ypserv.conf` denies; ports below 1024 are no proof. Passes where only the \
             user and named accounts read them. Undetermined where a file that is included was not exported.",
    references: &["slapd.access(5)", "ypserv(8), securenets", "RFC 4519, 2.41", "NIST SP 800-63B, 5.1.1.2"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_right(estate, |part| part.kind == PartKind::PasswordHashes, judge)
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    if part.sources.is_local() {
        return one.holds_by_limit(part);
    }
    let base = match part.login.value() {
        Some(AuthRequirement::Nothing) => CHECK.rating(),
        _ => CHECK.rating().lowered("a login is required"),
    };
    one.fail(
        one.limited(base, &part.sources),
        part,
        format!("{} shows password hashes to {}", one.title(), holders(part)),
        format!("Passwords of other users below {} are read from {}.", part.name, part.sources.words()),
        part.lines(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const FILE: &str = "d/etc/ldap/slapd.conf";
        for (rules, wanted) in [
            ("access to * by * read\n", &["fail high d slapd.conf:3"][..]),
            ("", &["fail high d slapd.conf:1"]),
            ("access to * by users read by anonymous auth\n", &["fail medium d slapd.conf:3"]),
            (
                "access to attrs=userPassword by self =xw by anonymous auth\naccess to * by * read\n",
                &["pass d"],
            ),
            // The rule comes too late.
            (
                "access to * by * read\naccess to attrs=userPassword by anonymous auth\n",
                &["fail high d slapd.conf:3"],
            ),
            // The rule is for a part of the tree.
            (
                "access to dn.subtree=\"ou=people,dc=quay,dc=example\" attrs=userPassword by anonymous auth\naccess to * by * read\n",
                &["fail high d slapd.conf:4"],
            ),
            (
                "access to attrs=userPassword by dn.children=\"ou=services,dc=quay,dc=example\" read by * auth\naccess to * by users read\n",
                &["fail medium d slapd.conf:3 slapd.conf:4"],
            ),
            (
                "access to attrs=userPassword by dn.exact=\"cn=sync,dc=quay,dc=example\" read by * auth\naccess to * by users read\n",
                &["pass d"],
            ),
            (
                "access to attrs=userPassword by peername.ip=10.4.0.9 read by * auth\naccess to attrs=entry by * read\n",
                &["fail medium d slapd.conf:3 slapd.conf:4"],
            ),
        ] {
            let text = format!("database mdb\nsuffix dc=quay,dc=example\n{rules}");
            run(&CHECK, &[(rules, &[(FILE, &text)], wanted)]);
        }
        const RULES: (&str, &str) = ("d/etc/ypserv.conf", "files: 30\n");
        for (nets, wanted) in [
            ("0.0.0.0 0.0.0.0\n", &["fail high d ypserv.conf:1 securenets:1"][..]),
            ("255.255.240.0 10.4.0.0\n", &["fail medium d ypserv.conf:1 securenets:1"]),
            ("255.0.0.0 127.0.0.0\n", &["pass d"]),
        ] {
            run(&CHECK, &[(nets, &[RULES, ("d/var/yp/securenets", nets)], wanted)]);
        }
        run(&CHECK, &[("the clients are not known", &[RULES], &["ask d"])]);
        let part = "include /etc/ldap/rules.conf\ndatabase mdb\nsuffix dc=a\naccess to attrs=userPassword by * auth\n";
        run(&CHECK, &[("a part is missing", &[(FILE, part)], &["ask d"])]);
    }
}
