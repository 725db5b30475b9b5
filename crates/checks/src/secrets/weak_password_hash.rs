//! A password is kept with a hash that is cheap to guess against.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeSet;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::account::{HashScheme, StoredPassword};
use trevlin_model::{Device, Origin, SecretRecord};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/weak-password-hash",
    area: Area::Secrets,
    title: "Weak password hash",
    severity: Severity::Medium,
    why: "An attacker with a copy of the file tries passwords offline without limit. Legacy schemes permit millions or \
          billions of attempts per second, so most passwords are found within days. Users often reuse them elsewhere.",
    fix: "Set yescrypt (or SHA-512 crypt with many rounds) for new passwords, and have these users change theirs: existing \
          hashes cannot be converted.",
    judged: "Fails where an active hash is of type DES, MD5, NT or SHA-1, is SHA-2 without iterations, is a digest for a web server, or was created below the default cost of its \
             scheme (bcrypt under 10, SHA crypt under 5000 rounds). Passes for locked hashes and current schemes. Undetermined where a web site \
             names a password list that was not exported.",
    references: &["crypt(5)", "NIST SP 800-63B, 5.1.1.2", "BSI TR-02102-1, 5"],
    needs: &[Need::Accounts, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let hidden = |one: &&trevlin_model::account::Account| {
            one.has_shell() && matches!(one.password, StoredPassword::Elsewhere)
        };
        if let Some(account) = device
            .facts
            .accounts
            .iter()
            .find(hidden)
            .filter(|_| device.facts.shadow.is_empty() && !estate.is_appliance(at))
        {
            let ask = "Please provide the first characters, up to the second `$`, of each second field in `/etc/shadow`: \
                       they show the password hash scheme.";
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Accounts),
                Verdict::ask(ask, vec![account.origin]).wanting("/etc/shadow"),
            ));
        }
        for (path, origin, site) in lists(estate, at) {
            let ask = format!(
                "Please provide `{path}`, with each hash cut after its first characters (up to the second `$`): it lists the accounts of \
                 {site}."
            );
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::File).with(path),
                Verdict::ask(ask, vec![origin]).wanting(path),
            ));
        }
        for (name, held, origin, services) in hashes(device, baseline.day()) {
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Account).with(name),
                judge(name, held, origin, &services),
            ));
        }
    }
    answers
}

/// Password lists that web sites name and that were not exported, each with the first line and site.
fn lists(estate: &EstateMap, device: usize) -> impl Iterator<Item = (&str, Origin, &str)> {
    let mut seen = BTreeSet::new();
    let sites = estate.devices[device].facts.served.iter().filter(|site| site.refused.is_none());
    let named = sites.flat_map(|site| {
        site.parts.iter().filter_map(|part| Some((part.accounts.as_ref()?, site.name.as_str())))
    });
    named.filter_map(move |((path, origin), site)| {
        let missing = seen.insert(path.as_str()) && estate.find(device, path, origin.export).is_none();
        missing.then_some((path.as_str(), *origin, site))
    })
}

/// Hashes of accounts that have not expired, with the service of those in lists of their own.
fn hashes(device: &Device, day: i64) -> impl Iterator<Item = (&str, &SecretRecord, Origin, Vec<&str>)> {
    let accounts = device.facts.accounts.iter().map(|one| (one.name.as_str(), &one.password, one.origin));
    let shadow = device
        .facts
        .shadow
        .iter()
        .filter(move |one| !one.has_expired(day))
        .map(|one| (one.name.as_str(), &one.password, one.origin));
    let accounts = accounts.chain(shadow).filter_map(|(name, password, origin)| match password {
        StoredPassword::Hash { held, .. } => Some((name, &**held, origin, Vec::new())),
        _ => None,
    });
    let live = device.logins.iter().filter(move |login| !login.has_expired(day));
    let logins = super::by_password(live).into_iter().filter_map(|logins| {
        let login = logins.first()?;
        let held = login.secret.as_ref().filter(|held| held.hash_scheme().is_some())?;
        let services = logins.iter().filter(|login| login.certain).map(|login| login.service.as_str());
        Some((login.user.as_str(), &**held, login.origin, services.collect()))
    });
    accounts.chain(logins)
}

fn judge(name: &str, held: &SecretRecord, origin: Origin, services: &[&str]) -> Verdict {
    let opens = match services {
        [] => String::new(),
        all => format!(" It is for {}.", super::listed(all)),
    };
    let scheme = held.hash_scheme().unwrap_or(HashScheme::Other);
    if scheme.is_weak() {
        return fail(name, scheme, origin, &opens);
    }
    match held.secret.hash_cost() {
        Some(cost) if cost.is_low() => Verdict::Fail(Fail {
            rating: CHECK.rated_at(Severity::Low, "the scheme is sound, and its cost is below the default"),
            title: format!("Password of `{name}` has a low-cost {}", scheme.name()).into(),
            detail: format!("The hash of `{name}` is {} with {}.{opens}", scheme.name(), cost.words()).into(),
            evidence: vec![origin],
        }),
        _ => Verdict::pass(origin),
    }
}

fn fail(name: &str, scheme: HashScheme, origin: Origin, opens: &str) -> Verdict {
    let (severity, why) = match scheme {
        HashScheme::Nt | HashScheme::Des | HashScheme::Digest | HashScheme::PlainSha1 => {
            (Severity::High, "billions of attempts per second are affordable")
        }
        HashScheme::SaltedSha1 | HashScheme::PlainMd5 | HashScheme::PlainSha2 => {
            (CHECK.severity, "billions of attempts per second are affordable, for each account by itself")
        }
        _ => (CHECK.severity, "millions of attempts per second are affordable"),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Password of `{name}` is stored as {}", scheme.name()).into(),
        detail: format!("The hash of `{name}` is of type {}.{opens}", scheme.name()).into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (field, wanted) in [
            ("$1$salt$abcdefgh", &["fail medium d shadow:1"][..]),
            ("abJnggxhB/yWI", &["fail high d shadow:1"]),
            ("$y$j9T$abc$def", &["pass d"]),
            ("$6$salt$abc", &["pass d"]),
            ("$6$rounds=1000$salt$abc", &["fail low d shadow:1"]),
            ("$6$rounds=80000$salt$abc", &["pass d"]),
            ("$2b$04$abcdefghijklmnopqrstuv", &["fail low d shadow:1"]),
            ("$2b$12$abcdefghijklmnopqrstuv", &["pass d"]),
            ("!$1$salt$abc", &[]),
            ("*", &[]),
            ("", &[]),
        ] {
            let text = format!("ann:{field}:19000:0:99999:7:::\n");
            run(&CHECK, &[(field, &[("d/etc/shadow", &text)], wanted)]);
        }
    }

    #[test]
    fn lists_that_sites_name() {
        let site = |line: &str| {
            format!("server {{\nlisten 80;\nserver_name quay.example;\nauth_basic x;\n{line}\n}}\n")
        };
        let named = site("auth_basic_user_file /etc/nginx/portal;");
        let nginx = ("d/etc/nginx/conf.d/quay.conf", named.as_str());
        run(
            &CHECK,
            &[
                ("not exported", &[nginx], &["ask d"]),
                (
                    "under any name",
                    &[nginx, ("d/etc/nginx/portal", "ann:abJnggxhB/yWI\n")],
                    &["fail high d portal:1"],
                ),
                ("a current scheme", &[nginx, ("d/etc/nginx/portal", "ann:$6$salt$abc\n")], &["pass d"]),
            ],
        );
        let off = site("auth_basic_user_file /etc/nginx/portal;\nauth_basic off;");
        run(&CHECK, &[("no login", &[("d/etc/nginx/conf.d/quay.conf", off.as_str())], &[])]);
        let apache = "<VirtualHost *:80>\nDocumentRoot /var/www\n<Directory /var/www>\nAuthUserFile /etc/apache2/portal\nRequire valid-user\n</Directory>\n</VirtualHost>\n";
        run(&CHECK, &[("Apache", &[("d/etc/apache2/sites-enabled/a.conf", apache)], &["ask d"])]);
    }

    #[test]
    fn lists_of_other_services() {
        for (path, text, wanted) in [
            ("d/ocpasswd", "ann:*:$1$a$bcd\n", &["fail medium d ocpasswd:1"][..]),
            ("d/ocpasswd", "ann:*:$5$a$bcd\n", &["pass d"]),
            ("d/ocpasswd", "ann:*:!$1$a$bcd\n", &[]),
            (
                "d/raddb/users",
                "ann NT-Password := 0x0123456789abcdef0123456789abcdef\n",
                &["fail high d users:1"],
            ),
            ("d/.htpasswd", "ann:$apr1$abcd$0123456789abcdefghijkl\n", &["fail medium d .htpasswd:1"]),
            ("d/.htpasswd", "ann:{SHA}0DPiKuNIrrVmD8IUCuw1hQxNqZc=\n", &["fail high d .htpasswd:1"]),
            ("d/.htpasswd", "ann:$2y$12$abcdefghijklmnopqrstuv\n", &["pass d"]),
            ("d/.htpasswd", "ann:$2y$05$abcdefghijklmnopqrstuv\n", &["fail low d .htpasswd:1"]),
            ("d/.htdigest", "ann:quay:939e7578ed9e3c518a452acee763bce9\n", &["fail high d .htdigest:1"]),
            ("d/raddb/users", "ann Crypt-Password := \"$y$j9T$a$b\"\n", &["pass d"]),
        ] {
            run(&CHECK, &[(text, &[(path, text)], wanted)]);
        }
    }

    #[test]
    fn hashes_that_were_not_exported_are_a_question() {
        const ACCOUNT: (&str, &str) = ("d/etc/passwd", "ann:x:1000:1000::/home/ann:/bin/bash\n");
        const SERVICE: (&str, &str) = ("d/etc/passwd", "ann:x:1000:1000::/home/ann:/usr/sbin/nologin\n");
        run(&CHECK, &[("not exported", &[ACCOUNT], &["ask d"]), ("no shell", &[SERVICE], &[])]);
    }
}
