//! A second account has user ID 0.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::authentication::Passwords;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/additional-superuser",
    area: Area::Logins,
    title: "Additional account with user ID 0",
    severity: Severity::High,
    why: "Every account with user ID 0 is root, whatever its name. Rules for root (`PermitRootLogin`, reviews, alerts) are \
          often written for the name, and an additional account is a common way to keep access after a break-in.",
    fix: "Determine the use of the account. Remove it, and give administrators personal accounts with sudo.",
    judged: "Fails for every account other than root with user ID 0: high where it may log in, medium where it is locked or \
             has no shell. Passes where root is the only one. The account `toor` is judged like any other.",
    references: &["passwd(5)", "sshd_config(5), PermitRootLogin"],
    needs: &[Need::Accounts],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let passwords = Passwords::of(device);
        let root = device.facts.accounts.iter().find(|one| one.uid == 0 && one.name == "root");
        for account in device.facts.accounts.iter().filter(|one| one.uid == 0) {
            let subject = Subject::of(SubjectKind::Account).with(&account.name);
            if account.name == "root" {
                answers.push(Answer::new(at, subject, Verdict::pass(account.origin)));
                continue;
            }
            let rating = if passwords.may_use(&account.name) {
                CHECK.rated("the account may log in")
            } else {
                CHECK.rated_at(
                    Severity::Medium,
                    "the account is locked or has no shell; keys and programs may use it",
                )
            };
            answers.push(Answer::new(
                at,
                subject,
                Verdict::Fail(Fail {
                    rating,
                    title: format!("Account `{}` has user ID 0 like root", account.name).into(),
                    detail: format!("`{}` has the rights of root under another name.", account.name).into(),
                    evidence: [account.origin].into_iter().chain(root.map(|one| one.origin)).collect(),
                }),
            ));
        }
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const ROOT: &str = "root:x:0:0:root:/root:/bin/bash\n";
        for (more, shadow, wanted) in [
            ("", "", &["pass d"][..]),
            ("toor:x:0:0::/root:/bin/sh\n", "", &["pass d", "fail high d passwd:2 passwd:1"]),
            (
                "aid:x:0:100::/root:/bin/sh\n",
                "aid:!:1::::::\n",
                &["pass d", "fail medium d passwd:2 passwd:1"],
            ),
            ("aid:x:0:100::/root:/usr/sbin/nologin\n", "", &["pass d", "fail medium d passwd:2 passwd:1"]),
            ("aid:x:1000:0::/home/aid:/bin/sh\n", "", &["pass d"]),
            ("#aid:x:0:0::/home/aid:/bin/sh\n", "", &["pass d"]),
        ] {
            let passwd = format!("{ROOT}{more}");
            let mut files = vec![("d/etc/passwd", passwd.as_str())];
            files.extend((!shadow.is_empty()).then_some(("d/etc/shadow", shadow)));
            run(&CHECK, &[(more, &files, wanted)]);
        }
    }
}
