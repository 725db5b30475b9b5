use super::*;
use trevlin_model::secret::SecretKind;
use trevlin_model::{
    CertificateRequirement, ExportId, LineClass, PasswordSource, Setting, Tunnel, TunnelRole,
};

fn export(id: u32, path: &str, text: &str) -> Export {
    Export::new(ExportId(id), path, text.into())
}

fn tunnel(text: &str) -> (Tunnel, Reading) {
    let export = export(0, "d/etc/openvpn/server.conf", text);
    let mut reading = read(&export, &ReadContext::of(vec![&export]));
    (reading.facts.tunnels.pop().expect("a tunnel"), reading)
}

#[test]
fn pools_follow_topology_and_helper_directives() {
    for (text, wanted) in [
        ("dev tun\nserver 10.8.0.0 255.255.255.0\ntopology net30", "10.8.0.0/24 10.8.0.4-10.8.0.251"),
        ("dev tun\nserver 10.8.0.0 255.255.255.0\ntopology subnet", "10.8.0.0/24 10.8.0.2-10.8.0.254"),
        ("dev tun\nserver 10.8.0.0 255.255.255.248\ntopology net30", "10.8.0.0/29 10.8.0.4-10.8.0.7"),
        ("dev tap\nserver 10.8.0.0 255.255.255.0", "10.8.0.0/24 10.8.0.2-10.8.0.254"),
        ("dev tun\nserver 10.8.0.0 255.255.255.0 nopool", "10.8.0.0/24"),
        (
            "dev tun\nserver 10.8.0.0 255.255.255.0 nopool\nifconfig-pool 10.8.0.9 10.8.0.20",
            "10.8.0.0/24 10.8.0.9-10.8.0.20",
        ),
        ("dev tap\nserver-bridge 10.4.0.1 255.255.0.0 10.4.9.1 10.4.9.99", "- 10.4.9.1-10.4.9.99"),
        (
            "dev tun\nmode server\ntls-server\ntopology subnet\nifconfig 10.8.1.1 255.255.255.0\nifconfig-pool 10.8.1.9 10.8.1.20",
            "10.8.1.0/24 10.8.1.9-10.8.1.20",
        ),
        (
            "dev tun\nserver-ipv6 2001:db8:9::/64",
            "2001:db8:9::/64 2001:db8:9::1000-2001:db8:9:0:ffff:ffff:ffff:ffff",
        ),
        (
            "dev tun\nserver 10.8.0.0 255.255.255.0\nserver 10.9.0.0 255.255.255.0\ntopology subnet",
            "10.9.0.0/24 10.9.0.2-10.9.0.254",
        ),
    ] {
        let (tunnel, _) = tunnel(text);
        let pool = &tunnel.addresses.pools[0];
        let mut told = vec![pool.network.map_or("-".into(), |net| net.to_string())];
        told.extend(pool.ranges.iter().map(|(range, _)| range.to_string()));
        assert_eq!(told.join(" "), wanted, "{text}");
        assert_eq!(tunnel.refused, None, "{text}");
    }
}

#[test]
fn callers_proofs() {
    use CertificateRequirement::{NotAsked, Optional, Required};
    for (text, certificate, passwords) in [
        ("", Some(Required), "[]"),
        ("verify-client-cert none\nauth-user-pass-verify /x via-env", Some(NotAsked), "[Script]"),
        ("verify-client-cert none\nverify-client-cert require", Some(Required), "[]"),
        (
            "verify-client-cert optional\nplugin /x/openvpn-plugin-auth-pam.so \"vpn login USERNAME\"",
            Some(Optional),
            "[Pam(\"vpn\")]",
        ),
        ("client-cert-not-required\nplugin /x/radiusplugin.so", Some(NotAsked), "[Radius]"),
        ("plugin /x/openvpn-plugin-down-root.so down", Some(Required), "[]"),
        ("plugin /x/other.so\nmanagement-client-auth", Some(Required), "[PlugIn(\"other.so\"), Management]"),
        ("#verify-client-cert none\n;client-cert-not-required", Some(Required), "[]"),
    ] {
        let (tunnel, _) = tunnel(&format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{text}\n"));
        let sources: Vec<PasswordSource> =
            tunnel.proof.passwords.iter().map(|check| check.source.clone()).collect();
        assert_eq!(tunnel.proof.certificate.unwrap().value().copied(), certificate, "{text}");
        assert_eq!(format!("{sources:?}"), passwords, "{text}");
    }
}

#[test]
fn listeners_and_roles() {
    for (text, role, wanted) in [
        ("dev tun\nserver 10.8.0.0 255.255.255.0", TunnelRole::Server, "udp None 1194"),
        (
            "dev tun\nserver 10.8.0.0 255.255.255.0\nproto tcp\nport 443\nlocal 192.0.2.9",
            TunnelRole::Server,
            "tcp Some(192.0.2.9) 443",
        ),
        ("client\ndev tun\nremote 192.0.2.9 1194\nnobind", TunnelRole::Client, ""),
        (
            "dev tun\nremote 192.0.2.9\nifconfig 10.8.0.1 10.8.0.2\nsecret static.key",
            TunnelRole::PointToPoint,
            "udp None 1194",
        ),
    ] {
        let (tunnel, _) = tunnel(text);
        let told = tunnel.listeners.iter().map(|one| {
            let address = one.address.value().expect("certain");
            format!("{} {address:?} {}", one.protocol.name(), one.port.value().expect("certain"))
        });
        assert_eq!(told.collect::<Vec<_>>().join(", "), wanted, "{text}");
        assert_eq!(tunnel.role, role, "{text}");
    }
}

#[test]
fn what_the_daemon_refuses() {
    for (text, part) in [
        (
            "verify-client-cert none",
            "without a client certificate the daemon requires a script, a plug-in or the management interface",
        ),
        (
            "username-as-common-name",
            "it requires a script, a plug-in or the management interface that checks passwords",
        ),
        ("<secret>\nabc\n</secret>", "a static key cannot serve several clients"),
        (
            "ifconfig-pool 10.8.0.9 10.8.0.20",
            "`server` already sets a pool; `ifconfig-pool` beside it is rejected",
        ),
        ("server 10.0.0.0 255.0.0.0", "must have a mask"),
        ("server 10.8.0.0.0 255.255.255.0", "needs a network"),
        ("server 10.8.0.7 255.255.255.0", "` is not a network with its mask"),
        ("remote 192.0.2.9", "`remote` is not permitted on a server"),
        ("client", "exclude each other"),
    ] {
        let (tunnel, _) = tunnel(&format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{text}\n"));
        let why = tunnel.refused.unwrap_or_else(|| panic!("{text}")).0;
        assert!(why.contains(part), "{text}: {why}");
    }
}

#[test]
fn ledger_and_notes() {
    let (_, reading) = tunnel(
        "dev tun\nserver 10.8.0.0 255.255.255.0\nverb 3\nnice 5\nwobble 1\nport x\nsetenv opt wobble 2\n\
         ignore-unknown-option wibble\nwibble 3\nca \"open\nclient-cert-not-required\nmanagement-client-auth\n",
    );
    use LineClass::{Ignored as P, NotUnderstood as N, Understood as U};
    let classes: Vec<_> = (1..=12).map(|line| reading.ledger.class(line).unwrap()).collect();
    assert_eq!(classes, [U, U, U, P, N, N, P, P, P, N, U, U]);
    assert!(reading.ledger.notes.iter().any(|note| note.text.contains("removed in version 2.5")));
}

#[test]
fn a_mistyped_range_stays_a_mistake() {
    let (tunnel, reading) = tunnel("dev tun\nserver 10.8.0.0.5 255.255.255.0\n");
    assert!(tunnel.addresses.pools[0].ranges.is_empty() && tunnel.addresses.pools[0].network.is_none());
    assert!(tunnel.addresses.pools[0].malformed[0].why.contains("five numbers"));
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 1);
}

#[test]
fn includes_are_part_of_the_tunnel() {
    let main = export(
        0,
        "d/openvpn/server.conf",
        "dev tun\nserver 10.8.0.0 255.255.255.0\nconfig extra.conf\nconfig gone.conf\n",
    );
    let extra =
        export(1, "d/openvpn/extra.conf", "dev tap\nverify-client-cert none\nmanagement-client-auth\n");
    let around = ReadContext::of(vec![&main, &extra]);
    let reading = read(&main, &around);
    let tunnel = &reading.facts.tunnels[0];
    let Some(Setting::Stated { origin, .. }) = &tunnel.proof.certificate else { panic!("stated") };
    assert_eq!(origin.export, ExportId(1));
    assert_eq!(tunnel.missing[0].path, "gone.conf");
    assert!(read(&extra, &around).facts.tunnels.is_empty());
}

#[test]
fn secrets_in_and_beside_the_configuration() {
    let text = "client\ndev tun\nremote 192.0.2.9\n<key>\nKEYLINE\n</key>\n<tls-crypt>\n# c\nSTATIC\n</tls-crypt>\nauth-user-pass up.txt\n";
    let main = export(0, "d/openvpn/client.conf", text);
    let pass = export(1, "d/openvpn/up.txt", "ann\nsesame\n");
    let reading = read(&main, &ReadContext::of(vec![&main, &pass]));
    let mut kinds: Vec<_> =
        reading.facts.secrets.iter().map(|held| (held.kind, held.origin.export.0)).collect();
    kinds.sort();
    assert_eq!(
        kinds,
        [(SecretKind::OwnPassword, 1), (SecretKind::PrivateKey, 0), (SecretKind::SharedKey, 0)]
    );
    assert!(!format!("{reading:?}").contains("KEYLINE"));
}

#[test]
fn recognised_by_content_wherever_it_lies() {
    for (path, text, wanted) in [
        ("x.txt", "dev tun\nproto udp\nserver 10.8.0.0 255.255.255.0\n", Recognition::Content),
        ("ccd/ann", "ifconfig-push 10.8.0.9 10.8.0.10\n", Recognition::Content),
        ("etc/openvpn/x.conf", "# nothing yet\n", Recognition::Name),
        ("x.txt", "user www\nport 80\nlog /x\n", Recognition::No),
        ("x.txt", "dev tun\nsome prose that goes on\nand on\nand on\n", Recognition::No),
    ] {
        assert_eq!(recognise(&export(0, path, text)), wanted, "{text}");
    }
}

#[test]
fn what_callers_are_told_and_where_they_call() {
    let told = |text: &str| {
        let export = Export::new(ExportId(0), "d/etc/openvpn/s.conf", text.into());
        read(&export, &ReadContext::of(vec![&export])).facts.tunnels.remove(0)
    };
    let server = told(
        "dev tun\nserver 10.8.0.0 255.255.255.0\npush \"route 10.4.0.0 255.255.0.0\"\npush \"route 10.4.9.0 255.255.255.0 net_gateway\"\n\
         push \"dhcp-option WINS 10.4.0.9\"\npush \"dhcp-option DOMAIN veyholm.example\"\npush \"dhcp-option NBT 2\"\n",
    );
    let plan = &server.addresses;
    assert_eq!(
        (plan.sent_through.len(), plan.kept_out.len(), plan.netbios.len(), plan.domains.len()),
        (1, 1, 2, 1)
    );
    let client = told(
        "client\ndev tun\n<connection>\nremote gate.example 1194 udp\n</connection>\n<connection>\n#remote old.example\nremote other.example 443 tcp\n</connection>\n",
    );
    let remotes: Vec<_> = client.settings.iter().filter(|(name, _)| name == "remote").collect();
    assert_eq!(remotes.len(), 2);
    assert_eq!(client.stated("remote").unwrap().0, "other.example 443 tcp");
    assert_eq!(client.role, trevlin_model::TunnelRole::Client);
}
