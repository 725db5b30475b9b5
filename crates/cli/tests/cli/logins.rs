//! The logins command.

use crate::common::{demo, folder, run};

fn rows(files: &[(&str, &str)]) -> Vec<serde_json::Value> {
    let folder = folder(files);
    let (out, err, status) = run(&["logins", folder.path().to_str().unwrap(), "--format", "json"]);
    assert_eq!(status, 0, "{err}");
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(document["schema"], "trevlin-logins/1");
    document["logins"].as_array().unwrap().clone()
}

#[test]
fn rows_and_verdicts() {
    const SERVER: &str = "dev tun\nserver 10.8.0.0 255.255.255.0\nmax-clients 9\n";
    const PAM: &str = "plugin /x/openvpn-plugin-auth-pam.so vpn\n";
    let plug_in = format!("{SERVER}{PAM}");
    let no_certificate = format!("{SERVER}{PAM}verify-client-cert none\n");
    for (name, files, factors, verdict) in [
        ("a certificate alone", &[("d/s.conf", SERVER)][..], "certificate", "one factor"),
        (
            "certificate plus password is two",
            &[("d/s.conf", &plug_in)],
            "password certificate",
            "two factors",
        ),
        ("PAM was not exported", &[("d/s.conf", &no_certificate)], "", "undetermined"),
        (
            "a code in comments is none",
            &[
                ("d/s.conf", &no_certificate),
                ("d/etc/pam.d/vpn", "#auth required pam_oath.so\nauth required pam_unix.so\n"),
            ],
            "password",
            "one factor",
        ),
        (
            "password and code",
            &[
                ("d/s.conf", &no_certificate),
                ("d/etc/pam.d/vpn", "auth required pam_oath.so\nauth required pam_unix.so\n"),
            ],
            "password one-time code",
            "two factors",
        ),
        ("PPTP without options", &[("d/etc/pptpd.conf", "remoteip 10.4.0.9\n")], "", "undetermined"),
        ("SSH by default", &[("d/etc/ssh/sshd_config", "MaxAuthTries 3\n")], "password", "one factor"),
        (
            "two methods",
            &[("d/etc/ssh/sshd_config", "AuthenticationMethods publickey,password\nUsePAM no\n")],
            "password possession (key)",
            "two factors",
        ),
    ] {
        let rows = rows(files);
        assert_eq!(rows.len(), 1, "{name}");
        let told: Vec<_> =
            rows[0]["factors"].as_array().unwrap().iter().map(|one| one.as_str().unwrap()).collect();
        assert_eq!(
            (told.join(" ").as_str(), rows[0]["verdict"].as_str().unwrap()),
            (factors, verdict),
            "{name}"
        );
        assert!(rows[0]["evidence"][0]["line"].as_u64().unwrap() >= 1, "{name}");
    }
}

#[test]
fn a_condition_that_changes_the_way_in_is_a_row_of_its_own() {
    let config = "PasswordAuthentication no\nMaxSessions 2\nMatch User ann\nPasswordAuthentication yes\nMatch Group x\nBanner none\n";
    let rows = rows(&[("d/etc/ssh/sshd_config", config)]);
    let told: Vec<_> =
        rows.iter().map(|row| format!("{} {}", row["who"].as_str().unwrap(), row["factors"])).collect();
    assert_eq!(told, ["every account [\"possession (key)\"]", "ann [\"password\"]"]);
    assert_eq!(rows[0]["limits"][0], "2 sessions");
}

/// One line for each row, without the place that proves it.
fn told(files: &[(&str, &str)]) -> Vec<String> {
    let list = |value: &serde_json::Value| {
        value
            .as_array()
            .unwrap()
            .iter()
            .map(|one| one.as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
            .join("+")
    };
    let line = |row: &serde_json::Value| {
        let word = |name: &str| row[name].as_str().unwrap().to_owned();
        let parts = [
            word("kind"),
            word("who"),
            word("list"),
            list(&row["factors"]),
            list(&row["sources"]),
            list(&row["administrators"]),
            word("verdict"),
        ];
        parts.join(" | ")
    };
    rows(files).iter().map(line).collect()
}

#[test]
fn lists_sources_and_administrators() {
    const PASSWD: (&str, &str) =
        ("d/etc/passwd", "root:x:0:0::/root:/bin/bash\nann:x:1000:1000::/home/ann:/bin/bash\n");
    const GROUP: (&str, &str) = ("d/etc/group", "sudo:x:27:ann\n");
    assert_eq!(
        told(&[
            PASSWD,
            GROUP,
            (
                "d/etc/ssh/sshd_config",
                "PasswordAuthentication no\nUsePAM no\nPermitRootLogin prohibit-password\nAllowUsers ann@10.4.0.* root@10.4.0.*\n\
                 Match Address 10.4.0.0/24\nPasswordAuthentication yes\n"
            ),
        ]),
        [
            "shell | ann@10.4.0.*, root@10.4.0.* | keys | possession (key) | 10.4.0.* | ann | one factor",
            "shell | root | keys | possession (key) | 10.4.0.* | root | one factor",
            "shell | ann@10.4.0.*, root@10.4.0.* | accounts, keys | password | 10.4.0.0/24 | ann | one factor",
        ]
    );
    assert_eq!(
        told(&[
            (
                "d/etc/ocserv/ocserv.conf",
                "ipv4-network = 10.9.0.0/24\nauth = plain[passwd=/etc/ocserv/ocpasswd,otp=/x]\nmax-clients = 9\n"
            ),
            ("d/etc/ocserv/ocpasswd", "ann:*:$5$a$b\nbob:*:$5$a$b\n"),
            ("d/etc/ipsec.secrets", "@a @b : PSK \"sesame\"\nann : EAP \"open\"\n"),
        ]),
        [
            "tunnel | 2 named users | local list ocpasswd | password+one-time code |  |  | two factors",
            "tunnel | @a and @b | pre-shared keys | shared key |  |  | one factor",
            "tunnel | ann | local list | password |  |  | undetermined",
        ]
    );
    let server = |line: &str| format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{line}\n");
    for (line, wanted) in [
        ("management 0.0.0.0 7505", "management | any user | none |  |  |  | none"),
        (
            "management 127.0.0.1 7505 pw",
            "management | any local program | password file | password |  |  | one factor",
        ),
    ] {
        assert_eq!(told(&[("d/s.conf", &server(line))])[1], wanted);
    }
}

#[test]
fn the_table_fits_its_width_and_is_as_it_was() {
    let demo = demo();
    let (out, err, status) = run(&["logins", demo.to_str().unwrap()]);
    assert_eq!((status, err.as_str()), (0, ""));
    assert!(out.lines().all(|line| line.chars().count() <= 100), "{out}");
    insta::assert_snapshot!(out);
}

#[test]
fn nothing_to_log_in_to_is_said() {
    let folder = folder(&[("d/rules.v4", "*filter\nCOMMIT\n")]);
    let (out, _, status) = run(&["logins", folder.path().to_str().unwrap()]);
    assert_eq!((out.as_str(), status), ("no login path was found in these exports\n", 0));
}
