//! A directory lets users change entries that are not theirs, or what their own account may do.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::support::directories::{each_right, holders};
use crate::support::serving::ServiceCase;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{PartKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/directory-broad-write",
    area: Area::Logins,
    title: "Directory writable by ordinary users",
    severity: Severity::High,
    why: "Servers take accounts, their numbers and their groups from the directory. A user who changes entries of others, or the number of \
          the own account, becomes another user on these servers, up to an administrator.",
    fix: "Grant `write` to named accounts or to a group of administrators. Let users change attributes that decide nothing, by a rule of \
          their own before the others: `access to attrs=userPassword,telephoneNumber by self write`. In `kadm5.acl` name administrators alone.",
    judged: "Fails where the rules of access, evaluated in their order, let clients without a login, any user, or all users below a part of \
             the tree write entries of others; and, one level lower, where users may write `uidNumber` or `gidNumber` of their own entry \
             in a directory with accounts of servers. Fails where any account of a Kerberos realm may manage others (`kadm5.acl`, whose first line \
             that fits decides). Passes where named accounts, groups and users in their own entry write.",
    references: &["slapd.access(5)", "kadm5.acl(5)", "RFC 2307, 2", "CIS Controls 8, 6.8"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let writes = |part: &ServiceResource| {
        part.kind == PartKind::OwnAccount || (part.kind == PartKind::Entries && part.is_written())
    };
    each_right(estate, writes, judge)
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    if part.sources.is_local() {
        return one.holds_by_limit(part);
    }
    if part.kind == PartKind::OwnAccount {
        return one.fail(
            one.limited(CHECK.rating().lowered("servers may refuse low numbers"), &part.sources),
            part,
            format!("{} lets users change the numbers of their own account", one.title()),
            own_entry(&part.name),
            part.lines(),
        );
    }
    one.fail(
        one.limited(CHECK.rating(), &part.sources),
        part,
        format!("{} lets {} write entries", one.title(), holders(part)),
        format!("Entries of others below {} are written from {}.", part.name, part.sources.words()),
        part.lines(),
    )
}

/// The rights of users on their own entry; the name of the part has the attributes in brackets.
fn own_entry(name: &str) -> String {
    match name.trim_end_matches(')').split_once(" (") {
        Some((place, attributes)) => {
            format!("Users below {place} may change these attributes of their own entry: {attributes}.")
        }
        None => format!("Users below {name} may change the attributes of their own entry."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const FILE: &str = "d/etc/ldap/slapd.conf";
        const ACCOUNTS: &str = "include /etc/ldap/schema/nis.schema\n";
        for (head, rules, wanted) in [
            ("", "access to * by users write\n", &["fail high d slapd.conf:3"][..]),
            ("", "access to * by * write\n", &["fail high d slapd.conf:3"]),
            (ACCOUNTS, "access to * by self write by users read\n", &["fail medium d slapd.conf:4"]),
            // Without numbers of accounts an own entry decides nothing.
            ("", "access to * by self write by users read\n", &["pass d"]),
            (
                ACCOUNTS,
                "access to attrs=uidNumber,gidNumber by users read\naccess to * by self write by users read\n",
                &["pass d"],
            ),
            (
                "",
                "access to * by dn.subtree=\"ou=people,dc=quay,dc=example\" write by * read\n",
                &["fail high d slapd.conf:3"],
            ),
            (
                "",
                "access to * by group.exact=\"cn=admins,dc=quay,dc=example\" write by users read\n",
                &["pass d"],
            ),
            ("readonly on\n", "access to * by users write\n", &["fail high d slapd.conf:4"]),
            ("", "readonly on\naccess to * by users write\n", &["pass d"]),
        ] {
            let text = format!("{head}database mdb\nsuffix dc=quay,dc=example\n{rules}");
            run(&CHECK, &[(&text, &[(FILE, &text)], wanted)]);
        }
        const KDC: (&str, &str) =
            ("d/etc/krb5kdc/kdc.conf", "[realms]\nQ = {\nacl_file = /etc/krb5kdc/kadm5.acl\n}\n");
        for (list, wanted) in [
            ("*@Q *\n", &["fail high d kadm5.acl:1"][..]),
            ("*/admin@Q *\n", &["pass d"]),
            ("*@Q ci *1@Q\n", &["pass d"]),
            ("*@R *\n", &["pass d"]),
        ] {
            run(&CHECK, &[(list, &[KDC, ("d/etc/krb5kdc/kadm5.acl", list)], wanted)]);
        }
        run(&CHECK, &[("no list of rights", &[KDC], &["ask d"])]);
        let part = "include /etc/ldap/rules.conf\ndatabase mdb\nsuffix dc=a\naccess to * by users read\n";
        run(&CHECK, &[("a part is missing", &[(FILE, part)], &["ask d"])]);
    }
}
