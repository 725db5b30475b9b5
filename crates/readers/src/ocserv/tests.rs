use super::*;
use trevlin_model::ExportId;

fn of(text: &str) -> Reading {
    let export = Export::new(ExportId(0), "d/etc/ocserv/ocserv.conf", text.into());
    read(&export, &ReadContext::default())
}

const NETWORK: &str = "ipv4-network = 10.9.0.0/24\n";

#[test]
fn who_is_asked_for_what() {
    for (lines, wanted) in [
        ("auth = \"plain[passwd=/etc/ocserv/ocpasswd]\"", "NotAsked [LocalList(\"/etc/ocserv/ocpasswd\")] 0"),
        ("auth = \"plain[passwd=./a,otp=./b]\"", "NotAsked [LocalListAndCode(\"./a\")] 0"),
        ("auth = certificate", "Required [] 0"),
        ("auth = certificate\nauth = pam[gid-min=1000]", "Required [Pam(\"ocserv\")] 0"),
        ("auth = certificate\n  pam", "Required [Pam(\"ocserv\")] 0"),
        (
            "auth = radius[config=/etc/radiusclient/radiusclient.conf]\nenable-auth = certificate",
            "NotAsked [Radius] 1",
        ),
        ("auth = \"oidc[config=/x]\"", "NotAsked [IdentityProvider] 0"),
        ("#auth = certificate\nauth = gssapi", "NotAsked [Directory] 0"),
    ] {
        let reading = of(&format!("{NETWORK}{lines}\n"));
        let tunnel = &reading.facts.tunnels[0];
        assert!(tunnel.refused.is_none(), "{lines}: {:?}", tunnel.refused);
        let sources: Vec<_> = tunnel.proof.passwords.iter().map(|check| &check.source).collect();
        let certificate = tunnel.proof.certificate.as_ref().unwrap().value().unwrap();
        assert_eq!(
            format!("{certificate:?} {sources:?} {}", tunnel.proof.alternatives.len()),
            wanted,
            "{lines}"
        );
    }
}

#[test]
fn what_the_daemon_refuses() {
    for text in [
        "auth = pam\n",
        "ipv4-network = 10.9.0.0/24\nudp-port = 443\n",
        "ipv4-network = 10.9.0.0/24\nauth = pam\nauth = plain\n",
        "ipv4-network = 10.9.0.0/24\nauth = telepathy\n",
        "ipv4-network = 10.9.0.0/24\nauth = pam\n  bogus = 3\n",
    ] {
        assert!(of(text).facts.tunnels[0].refused.is_some(), "{text}");
    }
    let reading = of("ipv4-network = 10.9.0.0/24\nauth = pam\nwobble = 3\nno sign here\n");
    assert!(reading.facts.tunnels[0].refused.is_none());
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 2);
}

#[test]
fn pools_and_listeners() {
    for (lines, ranges, listeners) in [
        ("ipv4-network = 10.9.0.0/24", "10.9.0.2-10.9.0.254", 1),
        ("ipv4-network = 10.9.0.0\nipv4-netmask = 255.255.255.0\nudp-port = 443", "10.9.0.2-10.9.0.254", 2),
        ("ipv4-network = 10.8.0.0/24\nipv4-network = 10.9.0.77/29\nudp-port = 0", "10.9.0.74-10.9.0.78", 1),
        ("ipv6-network = 2001:db8:9::/64", "2001:db8:9::-2001:db8:9:0:ffff:ffff:ffff:ffff", 1),
        ("ipv4-network = 10.9.0.300/24", "", 1),
    ] {
        let reading = of(&format!("auth = pam\n{lines}\n"));
        let tunnel = &reading.facts.tunnels[0];
        let told: Vec<_> = tunnel
            .addresses
            .pools
            .iter()
            .flat_map(|pool| &pool.ranges)
            .map(|(range, _)| range.to_string())
            .collect();
        assert_eq!((told.join(" ").as_str(), tunnel.listeners.len()), (ranges, listeners), "{lines}");
        assert_eq!(ranges.is_empty(), !tunnel.addresses.pools[0].malformed.is_empty());
    }
}

#[test]
fn another_host_takes_over_what_it_does_not_state() {
    let reading = of(
        "auth = pam\ntcp-port = 4443\nipv4-network = 10.9.0.0/24\n[vhost:yard.example]\nauth = certificate\nkey-pin = sesame9\n",
    );
    let tunnels = &reading.facts.tunnels;
    assert_eq!(tunnels[1].name, "OpenConnect server (yard.example)");
    assert_eq!(tunnels[1].listeners[0].port.value(), Some(&4443));
    assert_eq!(
        tunnels[1].proof.certificate.as_ref().unwrap().value(),
        Some(&CertificateRequirement::Required)
    );
    assert_eq!(reading.facts.secrets.len(), 1);
    assert!(!format!("{reading:?}").contains("sesame9"));
}

#[test]
fn password_lists() {
    let text = "ann:staff:$5$sa1t$abcdefghijk\nbob:*:!$5$sa1t$abcdefghijk\nbroken\n";
    let export = Export::new(ExportId(0), "d/etc/ocserv/ocpasswd", text.into());
    let reader = crate::recognise(&export).reader.unwrap();
    assert_eq!(reader.name, "ocpasswd");
    let reading = (reader.read)(&export, &ReadContext::default());
    assert_eq!((reading.facts.logins.len(), reading.facts.secrets.len()), (1, 2));
    assert_eq!((reading.ledger.count(LineClass::NotUnderstood), reading.facts.masked_places.len()), (1, 1));
}

#[test]
fn users_with_files_of_their_own() {
    let main = Export::new(
        ExportId(0),
        "d/etc/ocserv/ocserv.conf",
        "auth = \"plain[passwd=p]\"\nipv4-network = 10.9.0.0/24\nroute = 10.4.0.0/16\nno-route = 10.4.9.0/24\nnbns = 10.4.0.9\n\
         tls-priorities = \"NORMAL:-VERS-TLS1.0\"\nconfig-per-user = /etc/ocserv/users/\n"
            .into(),
    );
    let ann = Export::new(
        ExportId(1),
        "d/etc/ocserv/users/ann",
        "explicit-ipv4 = 10.9.0.77\nroute = 10.7.0.0/24\nwobble = 1\n".into(),
    );
    let reading = read(&main, &ReadContext::of(vec![&main, &ann]));
    let tunnel = &reading.facts.tunnels[0];
    let plan = &tunnel.addresses;
    let through: Vec<_> = plan.sent_through.iter().map(|(range, _)| range.short()).collect();
    assert_eq!(through, ["10.4.0.0/16", "10.7.0.0/24"]);
    assert_eq!((plan.fixed[0].who.as_str(), plan.kept_out.len(), plan.netbios.len()), ("ann", 1, 1));
    let names: Vec<_> = tunnel.offers[0].algorithms.iter().map(|one| one.name.as_str()).collect();
    assert!(names.contains(&"VERS-TLS1.1") && !names.contains(&"VERS-TLS1.0"));
    assert_eq!(reading.elsewhere.len(), 3);
}
