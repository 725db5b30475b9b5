use super::*;
use trevlin_model::ssh::SshConnection;
use trevlin_model::{ExportId, Setting};

fn export(id: u32, path: &str, text: &str) -> Export {
    Export::new(ExportId(id), path, text.into())
}

fn server(exports: &[Export]) -> (SshServer, Reading) {
    let around = ReadContext::of(exports.iter().collect());
    let mut reading = read(&exports[0], &around);
    (reading.facts.ssh_servers.pop().expect("a server"), reading)
}

fn effective(text: &str, keyword: &str, connection: &SshConnection<'_>) -> String {
    let (server, _) = server(&[export(0, "d/etc/ssh/sshd_config", text)]);
    match server.effective(keyword, connection) {
        Setting::Stated { value, .. } => value.join(" "),
        Setting::Default(rows) => {
            format!("default {}", rows.iter().map(|row| row.value.join(" ")).collect::<Vec<_>>().join("/"))
        }
        Setting::Unknown { why } => why,
    }
}

#[test]
fn the_first_value_wins_and_match_wins_over_it() {
    let groups = ["wheel".to_owned()];
    let ann = SshConnection {
        user: Some("ann"),
        groups: &groups,
        address: "192.0.2.9".parse().ok(),
        ..SshConnection::default()
    };
    let nobody = SshConnection::default();
    for (text, keyword, connection, wanted) in [
        ("PermitRootLogin no\nPermitRootLogin yes\n", "permitrootlogin", &nobody, "no"),
        ("permitrootlogin=prohibit-password # x\n", "permitrootlogin", &nobody, "without-password"),
        ("#PermitRootLogin no\n", "permitrootlogin", &nobody, "default yes/without-password"),
        (
            "PasswordAuthentication yes\nMatch User ann\nPasswordAuthentication no\n",
            "passwordauthentication",
            &ann,
            "no",
        ),
        (
            "PasswordAuthentication yes\nMatch User ann\nPasswordAuthentication no\n",
            "passwordauthentication",
            &nobody,
            "yes",
        ),
        (
            "Match Group wheel\nX11Forwarding yes\nMatch User ann\nX11Forwarding no\n",
            "x11forwarding",
            &ann,
            "yes",
        ),
        ("Match Address 192.0.2.0/24 User !ann,*\nMaxAuthTries 2\n", "maxauthtries", &ann, "default 6"),
        ("AllowUsers bob\nAllowUsers ann cid\n", "allowusers", &nobody, "bob ann cid"),
        ("AllowUsers bob\nMatch all\nAllowUsers ann\n", "allowusers", &nobody, "ann"),
        (
            "AuthenticationMethods publickey,password\nAuthenticationMethods any\n",
            "authenticationmethods",
            &nobody,
            "publickey,password",
        ),
        ("ChallengeResponseAuthentication no\n", "kbdinteractiveauthentication", &nobody, "no"),
        ("ForceCommand /x \"a b\" # c\n", "forcecommand", &nobody, "/x \"a b\" # c"),
        ("LoginGraceTime 1m30s\n", "logingracetime", &nobody, "90"),
        ("Ciphers aes256-ctr,aes128-ctr\n", "ciphers", &nobody, "aes256-ctr aes128-ctr"),
        ("HostKeyAlgorithms rsa-sha2-???\n", "hostkeyalgorithms", &nobody, "rsa-sha2-256 rsa-sha2-512"),
        (
            "MACs -*sha1*,umac*,hmac-sha2-256*\n",
            "macs",
            &nobody,
            "hmac-sha2-512-etm@openssh.com hmac-sha2-512",
        ),
    ] {
        assert_eq!(effective(text, keyword, connection), wanted, "{text}");
    }
}

#[test]
fn files_are_read_in_at_their_place() {
    let main = "Include /etc/ssh/sshd_config.d/*.conf\nPermitRootLogin yes\nMatch User ann\nInclude more\nMaxSessions 3\n";
    let exports = [
        export(0, "d/etc/ssh/sshd_config", main),
        export(1, "d/etc/ssh/sshd_config.d/10-a.conf", "PermitRootLogin no\nMatch User bob\nMaxSessions 1\n"),
        export(2, "d/etc/ssh/more", "MaxAuthTries 2\nMatch User zoe\nMaxSessions 9\n"),
    ];
    let (server, _) = server(&exports);
    let value = |keyword: &str, user| match server
        .effective(keyword, &SshConnection { user, ..SshConnection::default() })
    {
        Setting::Stated { value, origin } => format!("{} in {}", value.join(" "), origin.export.0),
        _ => "default".into(),
    };
    assert_eq!(value("permitrootlogin", None), "no in 1");
    assert_eq!(value("maxsessions", Some("bob")), "1 in 1");
    assert_eq!(value("maxsessions", Some("ann")), "3 in 0");
    assert_eq!(value("maxauthtries", Some("ann")), "2 in 2");
    assert_eq!(value("maxsessions", Some("zoe")), "default", "a block under ann's is never zoe's");
    let around = ReadContext::of(exports.iter().collect());
    assert!(read(&exports[1], &around).facts.ssh_servers.is_empty(), "a drop-in is no server of its own");
}

#[test]
fn what_is_wrong_is_told() {
    for (text, part, refused) in [
        ("PermitRootLogin perhaps\n", "takes one of", true),
        ("Ciphers aes*\n", "` takes names only, not patterns", true),
        ("UsePAM\n", "a value is missing", true),
        ("MaxAuthTries many\n", "takes a number", true),
        (
            "Match Colour red\n",
            "` is not a criterion; expected user, group, host, address, localaddress or localport",
            true,
        ),
        ("Match User ann\nPort 22\n", "` is not permitted after `Match`", true),
        ("Banner \"open\n", "not closed", true),
        ("PermitRootLogins no\n", "not a keyword of sshd_config", false),
        ("UsePrivilegeSeparation sandbox\n", "ignored by current versions", false),
    ] {
        let (server, reading) = server(&[export(0, "d/etc/ssh/sshd_config", text)]);
        assert!(reading.ledger.notes[0].text.contains(part), "{text}: {}", reading.ledger.notes[0].text);
        assert_eq!(server.refused.is_some(), refused, "{text}");
    }
    let (server, _) =
        server(&[export(0, "d/etc/ssh/sshd_config", "Include /etc/ssh/sshd_config.d/*.conf\n")]);
    assert_eq!(server.missing[0].path, "/etc/ssh/sshd_config.d/*.conf");
}
