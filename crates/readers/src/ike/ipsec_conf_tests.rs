use super::*;
use trevlin_model::ExportId;
use trevlin_model::ipsec::AuthRound;

fn of(text: &str) -> Reading {
    let export = Export::new(ExportId(0), "d/etc/ipsec.conf", text.into());
    assert_eq!(recognise(&export), Recognition::Content);
    read(&export, &ReadContext::of(vec![&export]))
}

#[test]
fn connections() {
    let text = "config setup\n\tuniqueids=no\nconn %default\n\tauto=add\nconn lend\n\tauto=ignore\n\trightdns=10.4.0.53\n\
                conn office # callers\n\talso=lend\n\tauto=add\n\tleftsubnet=0.0.0.0/0\n\trightsourceip=10.9.0.0/24,2001:db8:9::/120\n\
                conn yard\n\tleftsubnet=10.4.0.0/24\n\tright=198.51.100.9\n\trightsubnet=10.7.0.0/16,10.8.0.0/40\n\tike=aes256-sha256-modp2048!\n\
                conn one\n\trightsourceip=10.9.1.7\n";
    let reading = of(text);
    let told: Vec<_> = reading
        .facts
        .tunnels
        .iter()
        .map(|one| {
            let plan = &one.addresses;
            format!(
                "{} {} {} {} {} {}",
                one.name,
                plan.pools.len(),
                plan.fixed.len(),
                plan.remote.len(),
                plan.sent_through.len(),
                plan.name_servers.len()
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            "IPsec connection office 2 0 0 1 1",
            "IPsec connection yard 0 0 1 0 0",
            "IPsec connection one 0 1 0 0 0"
        ]
    );
    assert_eq!(reading.facts.tunnels[1].addresses.malformed.len(), 1);
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 1);
    let names: Vec<_> =
        reading.facts.tunnels[1].offers[0].algorithms.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["aes256", "sha256", "modp2048"]);
}

/// Daemon, versions, what each side shows, seconds until new keys of the child, seconds of silence.
fn told(reading: &Reading) -> String {
    let one = reading.facts.tunnels[0].ipsec.as_ref().unwrap();
    let rounds = |all: &[AuthRound]| {
        let words: Vec<_> = all
            .iter()
            .map(|round| {
                format!(
                    "{}:{}",
                    round.proof.possible().next().unwrap().words(),
                    round.identity.as_ref().map_or("any", |id| &id.0)
                )
            })
            .collect();
        words.join("+")
    };
    let versions: Vec<_> = one.versions.possible().map(|one| format!("{one:?}")).collect();
    format!(
        "{} {} {}<{} {} {}",
        one.daemon.name(),
        versions.join("/"),
        rounds(&one.local),
        rounds(&one.remote),
        one.children[0].rekey.value().map_or("?".into(), u64::to_string),
        one.liveness.value().unwrap()
    )
}

#[test]
fn both_daemons() {
    for (lines, wanted) in [
        ("", "strongSwan Both certificate:any<certificate:any 3600 0"),
        (
            "keyexchange=ikev2\nleftauth=pubkey\nrightauth=eap-mschapv2\neap_identity=%any\ndpdaction=clear",
            "strongSwan Second certificate:any<EAP-MSCHAPV2:any 3600 30",
        ),
        (
            "authby=xauthpsk\nxauth=server\nkeyexchange=ikev1",
            "strongSwan First shared key:any<shared key:any+XAuth:any 3600 0",
        ),
        (
            "left=192.0.2.1\nright=198.51.100.9\nauthby=secret\nrightid=@b.example\nlifetime=20m\nike=aes256-sha1-modp1024!",
            "strongSwan Both shared key:192.0.2.1<shared key:@b.example 1200 0",
        ),
        (
            "rightauth=pubkey\nrightauth2=xauth\nleftauth=pubkey",
            "strongSwan Both certificate:any<certificate:any+XAuth:any 3600 0",
        ),
        (
            "ikev2=insist\nauthby=secret\nsalifetime=1h\ndpddelay=30",
            "Libreswan Second shared key:any<shared key:any 3600 30",
        ),
        ("phase2alg=aes256\nauthby=null", "Libreswan Second/First nothing:any<nothing:any ? 0"),
        (
            "ikev2=no\nauthby=secret\nleftxauthserver=yes\nrightxauthclient=yes\nrightaddresspool=10.9.0.10-10.9.0.50",
            "Libreswan First shared key:any<shared key:any+XAuth:any ? 0",
        ),
    ] {
        let indented: String = lines.lines().map(|line| format!("\t{line}\n")).collect();
        assert_eq!(told(&of(&format!("conn c\n\tauto=add\n{indented}"))), wanted, "{lines}");
    }
}

#[test]
fn whose_file_it_is_may_be_said() {
    let export = Export::new(ExportId(0), "d/etc/ipsec.conf", "conn c\n\tauto=add\n".into());
    let around = ReadContext::with_ike_daemon(vec![&export], Some(IkeDaemon::Libreswan));
    assert!(told(&read(&export, &around)).starts_with("Libreswan"));
}

#[test]
fn sections_taken_the_other_way_round() {
    let reading = of(
        "conn b\n\tleft=%defaultroute\n\tleftsubnet=10.4.0.0/24\n\tright=192.0.2.9\n\trightsubnet=10.7.0.0/24\n\tikev2=insist\n\
         conn a\n\talsoflip=b\n\tauto=add\n\tleftid=@a\n",
    );
    let one = reading.facts.tunnels[0].ipsec.as_ref().unwrap();
    assert_eq!(one.children[0].local.texts.join(" "), "10.7.0.0/24");
    assert_eq!(one.children[0].remote.texts.join(" "), "10.4.0.0/24");
    assert!(reading.ledger.notes.is_empty());
}

#[test]
fn where_nothing_shows_the_daemon_its_defaults_are_not_taken() {
    let conn = |lines: &str| format!("conn c\n\tauto=add\n\tright=192.0.2.9\n\tauthby=secret\n{lines}");
    for (lines, path, text, open) in [
        ("", "d/etc/hostname", "gate", true),
        ("\tike=aes256-sha256-modp2048\n", "d/etc/hostname", "gate", true),
        ("\tike=aes256-sha256-modp2048!\n", "d/etc/hostname", "gate", false),
        ("", "d/etc/strongswan.conf", "charon {\n}\n", false),
        ("", "d/units.txt", "UNIT FILE STATE\nlibreswan.service enabled\n", false),
        ("", "d/notes.txt", "# libreswan was removed\n", true),
        ("\tauto=ondemand\n", "d/etc/hostname", "gate", false),
        ("\trightsourceip=10.9.0.0/24\n", "d/etc/hostname", "gate", false),
    ] {
        let exports = [
            Export::new(ExportId(0), "d/etc/ipsec.conf", conn(lines)),
            Export::new(ExportId(1), path, text.to_owned()),
        ];
        let reading = read(&exports[0], &ReadContext::of(exports.iter().collect()));
        assert_eq!(reading.facts.tunnels[0].offers[0].open.is_some(), open, "{lines} {path}");
    }
}

#[test]
fn the_default_proposal_has_what_the_loaded_plug_ins_provide() {
    const LIST: &str = "charon {\n load = aes sha1 sha2 hmac gmp random nonce\n}\n";
    const WHOLE: &str =
        "charon {\n load_modular = yes\n plugins {\n  include strongswan.d/charon/*.conf\n }\n}\n";
    for (settings, parts, wanted) in [
        ("charon {\n}\n", &[][..], "3des aes128 aes128gcm16 modp2048 x25519"),
        (LIST, &[], "aes128 modp2048"),
        (
            "charon {\n load = aes gcm des sha2 hmac openssl\n}\n",
            &[],
            "3des aes128 aes128gcm16 modp2048 x25519",
        ),
        ("charon {\n load = aes gcm sha1 hmac curve25519\n}\n", &[], "aes128 aes128gcm16 x25519"),
        ("charon {\n load = gcm sha1 hmac curve25519\n}\n", &[], ""),
        (
            WHOLE,
            &[
                ("aes", "aes {\n load = yes\n}\n"),
                ("des", "des {\n load = no\n}\n"),
                ("gmp", "gmp {\n load = 10\n}\n"),
            ],
            "aes128 modp2048",
        ),
        // The folder was not exported.
        (WHOLE, &[], "3des aes128 aes128gcm16 modp2048 x25519"),
    ] {
        let conn = "conn c\n\tauto=add\n\tleftauth=psk\n\trightsourceip=10.9.0.0/24\n";
        let mut exports = vec![
            Export::new(ExportId(0), "d/etc/ipsec.conf", conn.to_owned()),
            Export::new(ExportId(1), "d/etc/strongswan.conf", settings.to_owned()),
        ];
        for (number, (name, text)) in parts.iter().enumerate() {
            let path = format!("d/etc/strongswan.d/charon/{name}.conf");
            exports.push(Export::new(ExportId(2 + number as u32), path, (*text).to_owned()));
        }
        let reading = read(&exports[0], &ReadContext::of(exports.iter().collect()));
        let offered = &reading.facts.tunnels[0].offers[0].algorithms;
        let has = |word: &&str| offered.iter().any(|one| one.name == **word);
        let told: Vec<&str> = ["3des", "aes128", "aes128gcm16", "modp2048", "x25519"]
            .iter()
            .filter(|word| has(word))
            .copied()
            .collect();
        assert_eq!(told.join(" "), wanted, "{settings}");
        // Without the plug-in that answers ARP for clients, a pool is routed.
        let routed = reading.facts.tunnels[0].addresses.pools[0].placement.value().is_some();
        assert_eq!(
            routed,
            wanted.is_empty() || !wanted.contains("3des") || settings.contains("openssl"),
            "{settings}"
        );
    }
}

#[test]
fn proposals_without_the_strict_flag_are_added_to() {
    for (line, weak) in [("ike=aes256-sha256-ecp256", true), ("ike=aes256-sha256-ecp256!", false), ("", true)]
    {
        let reading = of(&format!("conn c\n\tauto=add\n\tleftauth=psk\n\t{line}\n"));
        let names: Vec<_> =
            reading.facts.tunnels[0].offers[0].algorithms.iter().map(|one| one.name.as_str()).collect();
        assert_eq!(names.contains(&"3des"), weak, "{line}");
    }
}

#[test]
fn files_that_are_read_in() {
    let main = Export::new(
        ExportId(0),
        "d/etc/ipsec.conf",
        "conn %default\n\tkeyexchange=ikev2\ninclude ipsec.d/*.conf\n".into(),
    );
    let part = Export::new(ExportId(1), "d/etc/ipsec.d/a.conf", "conn a\n\tauto=add\n".into());
    let around = ReadContext::of(vec![&main, &part]);
    let reading = read(&main, &around);
    assert!(told(&reading).starts_with("strongSwan Second"));
    assert!(read(&part, &around).facts.tunnels.is_empty());
}

#[test]
fn what_is_no_keyword() {
    assert_eq!(of("conn c\n\tauto=add\n\twobble=1\n").ledger.notes.len(), 1);
    assert_eq!(of("conn c\n\tauto=add\n\tleftwobble=1\n\tleftid=@a\n").ledger.notes.len(), 1);
}

#[test]
fn networks_in_other_forms() {
    for (lines, wanted) in [
        ("leftsubnets={10.4.0.0/24 10.5.0.0/24}\n\tikev2=no", "10.4.0.0/24 10.5.0.0/24"),
        ("leftsubnets={10.4.0.0/24,10.5.0.0/24,}\n\tikev2=no", "10.4.0.0/24 10.5.0.0/24"),
        ("leftsubnet=vhost:%priv,%no\n\tikev2=no", "vhost:%priv %no"),
        ("leftsubnet=10.4.0.1[tcp/http]\n\tleftauth=psk", "10.4.0.1/32[tcp/http]"),
        ("leftprotoport=17/1701", "dynamic[udp/1701]"),
    ] {
        let reading = of(&format!("conn c\n\tauto=add\n\t{lines}\n"));
        let one = reading.facts.tunnels[0].ipsec.as_ref().unwrap();
        assert_eq!(one.children[0].local.texts.join(" "), wanted, "{lines}");
        assert!(reading.ledger.notes.is_empty(), "{lines}");
    }
}

#[test]
fn a_file_that_is_not_included_is_not_in_force() {
    let conn = "conn yard\n left=192.0.2.9\n right=192.0.2.11\n authby=secret\n auto=start\n";
    for (main, path, running) in [
        ("d/etc/ipsec.conf", "d/etc/ipsec.d/yard.conf", 0),
        // A folder that only collects them says nothing of what includes what.
        ("d/ipsec.conf", "d/yard.conf", 1),
        ("d/etc/else.conf", "d/etc/ipsec.d/yard.conf", 1),
    ] {
        let exports = [
            Export::new(ExportId(0), main, format!("config setup\n{}", conn.replace("yard", "quay"))),
            Export::new(ExportId(1), path, conn.to_owned()),
        ];
        let around = ReadContext::of(exports.iter().collect());
        let facts = read(&exports[1], &around).facts;
        assert_eq!((facts.tunnels.len(), facts.idle_tunnels.len()), (running, 1 - running), "{main} {path}");
    }
}
