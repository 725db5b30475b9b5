use super::*;
use crate::testing::run;

const OATH: (&str, &str) = ("d/etc/pam.d/sshd", "auth required pam_oath.so\nauth required pam_unix.so\n");
const COMMENTED: (&str, &str) =
    ("d/etc/pam.d/sshd", "# auth required pam_oath.so\nauth required pam_unix.so\n");
const WRONG_STACK: (&str, &str) =
    ("d/etc/pam.d/sshd", "session required pam_oath.so\nauth required pam_unix.so\n");
const RADIUS: (&str, &str) = ("d/etc/pam.d/sshd", "auth required pam_radius_auth.so\n");
const PAM_ONLY: &str = "UsePAM yes\nAuthenticationMethods keyboard-interactive\nPermitRootLogin no\n";

#[test]
fn conditions_of_a_stack() {
    const STACK: &str = "auth [success=1 default=ignore] pam_access.so accessfile=/etc/security/no-code.conf\nauth required \
                         pam_oath.so\nauth required pam_unix.so\n";
    // Who meets the condition: nobody, private addresses, one public address, a whole network, everybody.
    for (rules, wanted) in [
        ("- : ALL : ALL\n", "pass d"),
        (
            "+ : ALL : 10.4.0.0/16\n- : ALL : ALL\n",
            "fail low d sshd_config:2 sshd:3 sshd:1 no-code.conf:1 sshd:2",
        ),
        (
            "+ : ALL : 203.0.113.9\n- : ALL : ALL\n",
            "fail low d sshd_config:2 sshd:3 sshd:1 no-code.conf:1 sshd:2",
        ),
        (
            "+ : ALL : 203.0.113.0/24\n- : ALL : ALL\n",
            "fail medium d sshd_config:2 sshd:3 sshd:1 no-code.conf:1 sshd:2",
        ),
        ("- : ALL : 203.0.113.0/24\n", "fail medium d sshd_config:2 sshd:3 sshd:1 sshd:2"),
        ("+ : ALL : LOCAL tty1\n- : ALL : ALL\n", "pass d"),
        ("# + : ALL : ALL\n- : ALL : ALL\n", "pass d"),
        (
            "+ : (crew) bo : ALL\n- : ALL : ALL\n",
            "fail medium d sshd_config:2 sshd:3 sshd:1 no-code.conf:1 sshd:2",
        ),
    ] {
        let files = [
            ("d/etc/ssh/sshd_config", PAM_ONLY),
            ("d/etc/pam.d/sshd", STACK),
            ("d/etc/security/no-code.conf", rules),
        ];
        run(&CHECK, &[(rules, &files, &[wanted])]);
    }
    // Accounts that meet it.
    const PASSWD: &str = "root:x:0:0::/root:/bin/sh\nann:x:1000:1000::/home/ann:/bin/sh\nbackup:x:34:34::/b:/usr/sbin/nologin\n";
    const GROUP: &str = "root:x:0:\nann:x:1000:\nempty:x:2000:\ncrew:x:2001:ann\n";
    for (asked, wanted) in [
        ("user ingroup empty", "pass d"),
        ("user ingroup crew", "fail medium d sshd_config:2 sshd:3 sshd:1 sshd:2"),
        ("user = backup", "pass d"),
        ("uid < 1000", "fail medium d sshd_config:2 sshd:3 sshd:1 sshd:2"),
        ("uid < 1000 user != root", "pass d"),
        ("service = login", "pass d"),
        ("uid >= 0", "fail medium d sshd_config:2 sshd:3 sshd:2"),
    ] {
        let stack = format!(
            "auth [success=1 default=ignore] pam_succeed_if.so quiet {asked}\nauth required pam_oath.so\nauth required pam_unix.so\n"
        );
        let files = [
            ("d/etc/ssh/sshd_config", PAM_ONLY),
            ("d/etc/pam.d/sshd", stack.as_str()),
            ("d/etc/passwd", PASSWD),
            ("d/etc/group", GROUP),
        ];
        run(&CHECK, &[(asked, &files, &[wanted])]);
    }
}

#[test]
fn cases() {
    for (name, config, more, wanted) in [
        ("defaults", "PermitRootLogin no\n", None, "fail medium d sshd_config:1"),
        ("keys only", "PasswordAuthentication no\nMaxAuthTries 3\n", None, "fail low d sshd_config:1"),
        ("two methods", "AuthenticationMethods publickey,password\nMaxAuthTries 3\n", None, "pass d"),
        ("a code and a password", PAM_ONLY, Some(OATH), "pass d"),
        ("the code is in comments", PAM_ONLY, Some(COMMENTED), "fail medium d sshd_config:2 sshd:2"),
        ("the code is in the wrong stack", PAM_ONLY, Some(WRONG_STACK), "fail medium d sshd_config:2 sshd:2"),
        ("RADIUS alone is a question", PAM_ONLY, Some(RADIUS), "ask d"),
        ("PAM not exported", PAM_ONLY, None, "ask d"),
        // A switch for passwords counts, whatever the stack may require beside it; a key that is enough makes it certain too.
        (
            "a password behind PAM",
            "PasswordAuthentication yes\nUsePAM yes\n",
            None,
            "fail medium d sshd_config:1 | ask d",
        ),
        (
            "a key beside PAM",
            "PasswordAuthentication no\nKbdInteractiveAuthentication yes\nUsePAM yes\n",
            None,
            "fail medium d sshd_config:2 | ask d",
        ),
        (
            "a key beside a RADIUS server",
            "PasswordAuthentication no\nKbdInteractiveAuthentication yes\nUsePAM yes\n",
            Some(RADIUS),
            "fail low d sshd_config:2 sshd:1 | ask d",
        ),
        (
            "a code alone",
            PAM_ONLY,
            Some(("d/etc/pam.d/sshd", "auth required pam_oath.so\n")),
            "fail medium d sshd_config:2 sshd:1",
        ),
        (
            "a code that is bypassed",
            PAM_ONLY,
            Some((
                "d/etc/pam.d/sshd",
                "auth sufficient pam_unix.so\nauth required pam_oath.so\n@include common-account\n",
            )),
            "fail medium d sshd_config:2 sshd:1 sshd:2",
        ),
        (
            "a code that is skipped for a group",
            PAM_ONLY,
            Some((
                "d/etc/pam.d/sshd",
                "auth [success=1 default=ignore] pam_succeed_if.so quiet user ingroup crew\nauth required pam_oath.so\nauth required pam_unix.so\n",
            )),
            "fail medium d sshd_config:2 sshd:3 sshd:1 sshd:2",
        ),
        (
            "a code that is skipped by a list that was not exported",
            PAM_ONLY,
            Some((
                "d/etc/pam.d/sshd",
                "auth [success=1 default=ignore] pam_access.so accessfile=/etc/security/no-code.conf\nauth required pam_oath.so\nauth required pam_unix.so\n",
            )),
            "ask d",
        ),
        (
            "a list that only keeps users off",
            PAM_ONLY,
            Some((
                "d/etc/pam.d/sshd",
                "auth required pam_access.so\nauth required pam_oath.so\nauth required pam_unix.so\n",
            )),
            "pass d",
        ),
        (
            "a user without any proof",
            PAM_ONLY,
            Some((
                "d/etc/pam.d/sshd",
                "auth sufficient pam_succeed_if.so user = backup\nauth required pam_oath.so\nauth required pam_unix.so\n",
            )),
            "fail critical d sshd_config:2 sshd:1 sshd:2",
        ),
        (
            "an included stack",
            PAM_ONLY,
            Some(("d/etc/pam.d/sshd", "@include common-auth\n@include common-session\n")),
            "ask d",
        ),
        (
            "the first value wins",
            "UsePAM no\nPasswordAuthentication yes\nPasswordAuthentication no\n",
            None,
            "fail medium d sshd_config:2 sshd_config:3",
        ),
        (
            "every account is locked",
            "UsePAM no\nPasswordAuthentication yes\nPubkeyAuthentication no\n",
            Some(("d/etc/passwd", "ann:!:1000:1000::/home/ann:/bin/sh\n")),
            "pass d",
        ),
        (
            "every account is locked, with a stack",
            "UsePAM yes\nPasswordAuthentication yes\nPubkeyAuthentication no\n",
            Some(("d/etc/pam.d/sshd", "auth required pam_unix.so\nsession required pam_limits.so\n")),
            "pass d",
        ),
        (
            "one account is not locked",
            "UsePAM no\nPasswordAuthentication yes\n",
            Some(("d/etc/passwd", "ann:!:1000:1000::/home/ann:/bin/sh\nbo:x:1001:1001::/home/bo:/bin/sh\n")),
            "fail medium d sshd_config:2",
        ),
        ("would not start", "MaxAuthTries x\n", None, "ask d"),
        ("an include that is missing", "Include more.conf\nMaxAuthTries 3\n", None, "ask d"),
    ] {
        let mut files = vec![("d/etc/ssh/sshd_config", config)];
        files.extend(more);
        if name.ends_with("with a stack") {
            files.push(("d/etc/passwd", "ann:!:1000:1000::/home/ann:/bin/sh\n"));
        }
        let wanted: Vec<&str> = wanted.split(" | ").collect();
        run(&CHECK, &[(name, &files, &wanted)]);
    }
}

#[test]
fn keys_that_are_limited() {
    const TWO: &str = "AuthenticationMethods publickey,password\nUsePAM no\nPermitRootLogin no\n";
    const KEY: &str =
        "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKd1PRu2PvbkEQnfsBcsz5Fbzx5c0dLhZBFRBhVbLn4v copy\n";
    let limited = format!("command=\"/bin/copy\" {KEY}");
    let from = format!("from=\"10.4.0.9\" {KEY}");
    let both = format!("{limited}{KEY}");
    for (lines, keys, wanted) in [
        ("Match User copy\nAuthenticationMethods publickey\n", KEY, "fail low d sshd_config:5"),
        ("Match User copy\nAuthenticationMethods publickey\n", &limited, "fail info d sshd_config:5"),
        ("Match User copy\nAuthenticationMethods publickey\n", &from, "fail info d sshd_config:5"),
        ("Match User copy\nAuthenticationMethods publickey\n", &both, "fail low d sshd_config:5"),
        (
            "Match User copy Address 10.4.0.9\nAuthenticationMethods publickey\nForceCommand /bin/copy\n",
            KEY,
            "fail info d sshd_config:5",
        ),
    ] {
        let config = format!("{TWO}{lines}");
        let files = [("d/etc/ssh/sshd_config", config.as_str()), ("d/home/copy/.ssh/authorized_keys", keys)];
        run(&CHECK, &[(&format!("{lines}{keys}"), &files, &["pass d", wanted])]);
    }
}

#[test]
fn conditions_under_which_it_is_easier() {
    const TWO: &str = "AuthenticationMethods publickey,password\nUsePAM no\nPermitRootLogin no\n";
    for (lines, wanted) in [
        ("Match User ann\nAuthenticationMethods password\n", &["pass d", "fail medium d sshd_config:5"][..]),
        (
            "Match Address 10.4.0.0/24\nAuthenticationMethods publickey\n",
            &["pass d", "fail low d sshd_config:5"],
        ),
        ("Match User ann\nAuthenticationMethods publickey,password\n", &["pass d"]),
        (
            "Match Group helpers\nAuthenticationMethods password\nForceCommand /bin/menu\n",
            &["pass d", "fail low d sshd_config:5"],
        ),
        (
            "Match LocalPort 2222\nAuthenticationMethods password\n",
            &["pass d", "fail medium d sshd_config:5"],
        ),
        ("Match User ann\nBanner none\n", &["pass d"]),
        ("DenyUsers ann\nMatch User ann\nAuthenticationMethods password\n", &["pass d"]),
        (
            "AllowUsers bo\nMatch User ann,bo\nAuthenticationMethods password\n",
            &["pass d", "fail medium d sshd_config:6"],
        ),
        ("#Match User ann\n#AuthenticationMethods password\n", &["pass d"]),
    ] {
        run(&CHECK, &[(lines, &[("d/etc/ssh/sshd_config", &format!("{TWO}{lines}"))], wanted)]);
    }
}
