//! PAM stacks against libpam itself: generated stacks, each asked by `pamtester` for users that are enrolled for codes or not, with
//! every combination of a right and a wrong password and code. The factors that the analysis names must be those that suffice.
//! Needs root, pamtester, oathtool and the modules; `scripts/conformance.sh` installs them and runs this test.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::fs;
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use trevlin_analysis::authentication::{Factors, of_service};
use trevlin_estate::testing::estate_with;
use trevlin_model::FactorKind;

/// Numbers, the same in every run.
struct Seeded(u64);

impl Seeded {
    fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % limit as u64) as usize
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.below(from.len())]
    }
}

/// Base32 and hexadecimal form of the secret that every enrolled user has.
const SECRET: (&str, &str) = ("GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ", "3132333435363738393031323334353637383930");

/// Users: the condition of `pam_succeed_if` holds for the first half; then enrolled nowhere, with oath, with the other module, with both.
const USERS: [(&str, bool, bool); 8] = [
    ("ann0", false, false),
    ("ann1", true, false),
    ("ann2", false, true),
    ("ann3", true, true),
    ("bob0", false, false),
    ("bob1", true, false),
    ("bob2", false, true),
    ("bob3", true, true),
];

const CONTROLS: [&str; 13] = [
    "required",
    "required",
    "requisite",
    "sufficient",
    "optional",
    "[success=1 default=ignore]",
    "[success=2 default=ignore]",
    "[success=ok default=die]",
    "[success=done new_authtok_reqd=done default=bad]",
    "[success=ok user_unknown=ignore default=bad]",
    "[success=ok ignore=ignore default=bad]",
    "[success=ignore default=die]",
    "[ success = ok ignore=2 default=bad ]",
];

const MODULES: [&str; 15] = [
    "pam_unix.so nodelay",
    "pam_unix.so nodelay",
    "pam_unix.so nodelay nullok",
    "pam_oath.so usersfile=TMP/run/oath window=5 digits=6",
    "pam_oath.so usersfile=TMP/run/oath window=5 digits=6",
    "pam_google_authenticator.so secret=TMP/codes/${USER} user=root no_increment_hotp",
    "pam_google_authenticator.so secret=TMP/codes/${USER} user=root no_increment_hotp",
    "pam_google_authenticator.so secret=TMP/codes/${USER} user=root nullok",
    "pam_permit.so",
    "pam_permit.so",
    "pam_deny.so",
    "pam_env.so",
    "pam_faillock.so preauth silent deny=100000 dir=TMP/lock",
    "pam_faillock.so authfail deny=100000 dir=TMP/lock",
    "pam_faillock.so authsucc deny=100000 dir=TMP/lock",
];

/// Conditions: of names, groups and numbers, and lists of who may log in from where.
const CONDITIONS: [&str; 8] = [
    "pam_succeed_if.so quiet user =~ ann*",
    "pam_succeed_if.so quiet user in ann0:bob3",
    "pam_succeed_if.so quiet user ingroup trevlin-crew",
    "pam_succeed_if.so quiet uid < 4000",
    "pam_succeed_if.so quiet uid >= 4000 user != root",
    "pam_access.so accessfile=TMP/network.conf",
    "pam_access.so accessfile=TMP/none.conf",
    "pam_access.so accessfile=TMP/some.conf",
];

/// Their lists.
const LISTS: [(&str, &str); 3] = [
    ("network.conf", "+ : ALL : 10.4.0.0/16\n- : ALL : ALL\n"),
    ("none.conf", "+ : ALL : LOCAL\n- : ALL : ALL\n"),
    ("some.conf", "- : ann0 ann1 : ALL\n+ : bob0 : 192.0.2.9\n- : ALL EXCEPT ann2 bob2 : ALL\n"),
];

/// Where logins come from: two addresses, of which a list means one.
const FROM: [&str; 2] = ["10.4.0.9", "198.51.100.7"];

const GROUP: &str = "trevlin-crew:x:4900:ann1,bob2\n";

/// A stack with the file that it includes.
fn generate(dice: &mut Seeded) -> (String, String) {
    let (mut condition, mut asked) = (false, BTreeSet::new());
    let mut lines = |dice: &mut Seeded, count: usize, include: bool| {
        let mut text = String::new();
        for _ in 0..count {
            let control = dice.pick(&CONTROLS);
            // One condition a stack: several would depend on each other.
            if !condition && dice.below(5) == 0 {
                condition = true;
                writeln!(text, "auth {control} {}", dice.pick(&CONDITIONS)).unwrap();
            } else if include && dice.below(5) == 0 {
                text.push_str(dice.pick(&[
                    "@include trevlin-part\n",
                    "auth include trevlin-part\n",
                    "auth substack trevlin-part\n",
                ]));
            } else {
                let module = dice.pick(&MODULES);
                // Each credential is asked for once: whoever is asked twice may answer right and wrong, which is not tried here. A
                // file may be included twice.
                let asks =
                    ["pam_unix", "pam_oath", "pam_google"].into_iter().find(|name| module.starts_with(name));
                if asks.is_some_and(|name| !include || !asked.insert(name)) {
                    continue;
                }
                // Counting stands in the stack as its manual page has it (pam_faillock(8)): nobody is locked here.
                let control = match module.split_whitespace().nth(1) {
                    Some("preauth") => dice.pick(&["required", "requisite"]),
                    Some("authfail") => "[default=die]",
                    Some("authsucc") => dice.pick(&["sufficient", "required"]),
                    _ => control,
                };
                writeln!(text, "auth {control} {module}").unwrap();
            }
        }
        text
    };
    let (outer, inner) = (2 + dice.below(5), 1 + dice.below(3));
    (lines(dice, outer, true), lines(dice, inner, false))
}

/// Lines as administrators write them, besides the generated ones.
const WRITTEN: [(&str, &str); 12] = [
    ("auth optional pam_permit.so\nauth [success=reset default=ignore] pam_permit.so\n", ""),
    ("auth required pam_unix.so nodelay\nauth [default=reset] pam_env.so\nauth required pam_permit.so\n", ""),
    (
        "auth [success=1 default=ignore] pam_unix.so nodelay\nauth requisite pam_deny.so\nauth required pam_permit.so\n",
        "",
    ),
    (
        "auth required pam_google_authenticator.so secret=TMP/codes/${USER} user=root nullok\nauth required pam_unix.so nodelay\n",
        "",
    ),
    (
        "auth required pam_google_authenticator.so secret=TMP/codes/${USER} user=root nullok\nauth required pam_permit.so\n",
        "",
    ),
    (
        "auth sufficient pam_unix.so nodelay\nauth required pam_oath.so usersfile=TMP/run/oath digits=6 window=5\n",
        "",
    ),
    (
        "auth [success=2 default=ignore] pam_succeed_if.so quiet user =~ ann*\nauth required pam_oath.so usersfile=TMP/run/oath digits=6 window=5\nauth required pam_unix.so nodelay\n",
        "",
    ),
    (
        "auth [success=1 default=ignore] pam_access.so accessfile=TMP/network.conf\nauth required pam_oath.so usersfile=TMP/run/oath digits=6 window=5\nauth required pam_unix.so nodelay\n",
        "",
    ),
    (
        "auth sufficient pam_succeed_if.so quiet user ingroup trevlin-crew\nauth required pam_oath.so usersfile=TMP/run/oath digits=6 window=5\nauth required pam_unix.so nodelay\n",
        "",
    ),
    (
        "auth required pam_env.so\nauth substack trevlin-part\nauth required pam_oath.so usersfile=TMP/run/oath digits=6 window=5\n",
        "auth sufficient pam_unix.so nodelay\nauth required pam_deny.so\n",
    ),
    (
        "@include trevlin-part\nauth required pam_oath.so usersfile=TMP/run/oath digits=6 window=5\n",
        "auth sufficient pam_unix.so nodelay\nauth required pam_deny.so\n",
    ),
    (
        "auth requisite pam_faillock.so preauth deny=100000 dir=TMP/lock\nauth [success=1 default=bad] pam_unix.so nodelay\nauth [default=die] pam_faillock.so authfail deny=100000 dir=TMP/lock\nauth sufficient pam_faillock.so authsucc deny=100000 dir=TMP/lock\nauth required pam_oath.so usersfile=TMP/run/oath digits=6 window=5\n",
        "",
    ),
];

/// A folder with the accounts, and whether the program lets a user in with these answers.
struct Host(tempfile::TempDir);

impl Host {
    fn new() -> Self {
        let host = Self(tempfile::tempdir().unwrap());
        let at = |name: &str| host.0.path().join(name);
        for folder in ["pam.d", "codes", "lock", "run"] {
            fs::create_dir(at(folder)).unwrap();
        }
        let hash = Command::new("openssl").args(["passwd", "-6", "right"]).output().unwrap();
        let hash = String::from_utf8(hash.stdout).unwrap();
        let (mut passwd, mut shadow) = (fs::read_to_string("/etc/passwd").unwrap(), String::new());
        writeln!(shadow, "root:*:19000::::::").unwrap();
        for (number, (user, _, other)) in USERS.iter().enumerate() {
            writeln!(passwd, "{user}:x:{}:100::/nonexistent:/bin/sh", 4000 + number).unwrap();
            writeln!(shadow, "{user}:{}:19000:0:99999:7:::", hash.trim()).unwrap();
            if *other {
                let file = at("codes").join(user);
                fs::write(&file, format!("{}\n\" TOTP_AUTH\n", SECRET.0)).unwrap();
                fs::set_permissions(&file, fs::Permissions::from_mode(0o600)).unwrap();
            }
        }
        for (name, rules) in LISTS {
            fs::write(at(name), rules).unwrap();
        }
        fs::write(at("group"), fs::read_to_string("/etc/group").unwrap() + GROUP).unwrap();
        fs::write(at("passwd"), passwd).unwrap();
        fs::write(at("shadow"), shadow).unwrap();
        fs::write(at("pam.d/other"), "auth required pam_deny.so\n").unwrap();
        host
    }

    fn path(&self) -> &Path {
        self.0.path()
    }

    /// Whether a user is accepted. Each prompt is answered by its text.
    fn lets_in(&self, user: &str, from: &str, password: bool, code: &str) -> bool {
        // A code is good once: each login has its own file that remembers it.
        let run = tempfile::tempdir_in(self.path()).unwrap();
        let enrolled = USERS.iter().filter(|(_, oath, _)| *oath);
        let oath: String = enrolled.map(|(name, ..)| format!("HOTP/T30/6 {name} - {}\n", SECRET.1)).collect();
        let file = run.path().join("oath");
        fs::write(&file, oath).unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o600)).unwrap();
        let mounts = "mount --bind \"$0/pam.d\" /etc/pam.d && mount --bind \"$0/passwd\" /etc/passwd && \
                      mount --bind \"$0/group\" /etc/group && \
                      mount --bind \"$0/shadow\" /etc/shadow && mount --bind \"$2\" \"$0/run\" && exec pamtester -I rhost=\"$3\" trevlin-stack \"$1\" authenticate";
        let mut child = Command::new("unshare")
            .args(["--mount", "sh", "-c", mounts])
            .arg(self.path())
            .arg(user)
            .arg(run.path())
            .arg(from)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let (mut input, mut prompts) = (child.stdin.take().unwrap(), child.stderr.take().unwrap());
        let (mut said, mut letter) = (String::new(), [0u8]);
        while prompts.read(&mut letter).unwrap() == 1 {
            said.push(char::from(letter[0]));
            let answer = match said.to_lowercase() {
                text if text.ends_with("verification code: ") => code,
                text if text.contains("one-time password") && text.ends_with(": ") => code,
                text if text.ends_with("password: ") => {
                    if password {
                        "right"
                    } else {
                        "wrong"
                    }
                }
                _ => continue,
            };
            said.clear();
            let _ = writeln!(input, "{answer}");
        }
        child.wait().unwrap().success()
    }
}

fn code() -> String {
    let made = Command::new("oathtool").args(["--totp", SECRET.1]).output().unwrap();
    String::from_utf8(made.stdout).unwrap().trim().to_owned()
}

#[test]
#[ignore = "needs root, pamtester and PAM modules"]
fn the_weakest_path_through_a_stack() {
    let host = Host::new();
    let mut dice = Seeded(0x9E37_79B9_7F4A_7C15);
    let folder = host.path().to_str().unwrap().to_owned();
    let written = WRITTEN.iter().map(|(outer, inner)| ((*outer).to_owned(), (*inner).to_owned()));
    let stacks: Vec<(String, String)> = written.chain((0..64).map(|_| generate(&mut dice))).collect();
    let (mut open, mut wrong, mut logins) = (0, Vec::new(), 0);
    for (outer, inner) in &stacks {
        let (outer, inner) = (outer.replace("TMP", &folder), inner.replace("TMP", &folder));
        fs::write(host.path().join("pam.d/trevlin-stack"), &outer).unwrap();
        fs::write(host.path().join("pam.d/trevlin-part"), &inner).unwrap();
        // What suffices, for any user.
        let mut suffices: BTreeSet<BTreeSet<FactorKind>> = BTreeSet::new();
        let answers = [(false, false), (true, false), (false, true), (true, true)];
        let by_address = outer.contains("pam_access") || inner.contains("pam_access");
        let from = if by_address { &FROM[..] } else { &FROM[..1] };
        let asked = USERS.iter().flat_map(|(user, oath, other)| {
            let codes = *oath || *other;
            let answers = answers.iter().filter(move |(_, right)| codes || !right);
            answers.flat_map(move |answer| from.iter().map(move |from| (*user, *from, *answer)))
        });
        let asked: Vec<_> = asked.collect();
        let right_code = code();
        // A login that fails is answered after some seconds, so that all are asked at once.
        std::thread::scope(|scope| {
            let logins: Vec<_> = asked
                .iter()
                .map(|(user, from, (password, right))| {
                    let code = if *right { right_code.as_str() } else { "000000" };
                    let host = &host;
                    scope.spawn(move || host.lets_in(user, from, *password, code))
                })
                .collect();
            for ((_, _, (password, right)), login) in asked.iter().zip(logins) {
                if login.join().unwrap() {
                    let password = password.then_some(FactorKind::Knowledge);
                    let code = right.then_some(FactorKind::OneTimeCode);
                    suffices.insert(password.into_iter().chain(code).collect());
                }
            }
        });
        logins += asked.len();
        let users = USERS.iter().enumerate();
        let passwd: String = users.fold(String::new(), |text, (number, (user, ..))| {
            text + &format!("{user}:x:{}:100::/nonexistent:/bin/sh\n", 4000 + number)
        });
        let group = format!("users:x:100:\n{GROUP}");
        let lists: Vec<(String, &str)> =
            LISTS.iter().map(|(name, rules)| (format!("d{folder}/{name}"), *rules)).collect();
        let mut files = vec![
            ("d/etc/pam.d/trevlin-stack", outer.as_str()),
            ("d/etc/pam.d/trevlin-part", &inner),
            ("d/etc/passwd", &passwd),
            ("d/etc/group", &group),
        ];
        files.extend(lists.iter().map(|(path, rules)| (path.as_str(), *rules)));
        let estate = estate_with(&files, "");
        let asked_at = estate.devices[0].facts.pam_services[0].origin;
        let found = of_service(&estate, 0, "trevlin-stack", asked_at);
        let least = suffices.iter().map(BTreeSet::len).min();
        let agrees = match &found {
            None => suffices.is_empty(),
            Some(Factors { kinds, undecided: None, .. }) => {
                suffices.contains(kinds) && least == Some(kinds.len())
            }
            Some(_) => false,
        };
        open += usize::from(!suffices.is_empty());
        if !agrees {
            let kinds = found.map(|one| (one.kinds, one.undecided.map(|undecided| undecided.ask)));
            wrong.push(format!("{outer}--\n{inner}suffices: {suffices:?}\nfound: {kinds:?}\n"));
        }
    }
    println!("{} stacks, {open} of which grant access, {logins} logins", stacks.len());
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), stacks.len(), wrong.join("\n"));
    assert!(open > stacks.len() / 3, "too few stacks grant access to tell anything");
}
