use super::*;
use trevlin_model::ExportId;
use trevlin_model::secret::SecretKind;

const TEXT: &str = "connections {\n  office { # callers\n    pools = office4, office6\n    local { auth = pubkey }\n    children {\n      net {\n        \
                    local_ts = 10.4.0.0/24, 10.5.0.0/16[tcp/443]\n      }\n    }\n  }\n  yard {\n    remote_addrs = 198.51.100.9\n    \
                    children { lan { remote_ts = 10.7.0.0/16,dynamic } }\n  }\n}\npools {\n  office4 {\n    addrs = 10.9.0.0/24\n    dns = 10.4.0.53\n    nbns = 10.4.0.9\n  }\n  \
                    office6 { addrs = 2001:db8:9::10-2001:db8:9::90 }\n}\nsecrets {\n  ike-yard {\n    id-1 = yard.example\n    secret = \"open # sesame\"\n  }\n  eap-ann { id = ann\n secret = s3same }\n  ppk-1 { secret = 0s00\n }\n  rsa-k { file = k.pem\n secret = opens }\n}\ninclude conf.d/*.conf\n";

fn of(text: &str) -> Reading {
    let export = Export::new(ExportId(0), "d/etc/swanctl/swanctl.conf", text.into());
    assert_eq!(recognise(&export), Recognition::Content);
    read(&export, &ReadContext::of(vec![&export]))
}

#[test]
fn connections_pools_and_secrets() {
    let reading = of(TEXT);
    let tunnels = &reading.facts.tunnels;
    let office = &tunnels[0].addresses;
    let ranges: Vec<_> =
        office.pools.iter().flat_map(|pool| &pool.ranges).map(|(range, _)| range.to_string()).collect();
    assert_eq!(ranges, ["10.9.0.1-10.9.0.254", "2001:db8:9::10-2001:db8:9::90"]);
    assert_eq!(
        (office.sent_through.len(), office.name_servers.len(), office.remote.len(), office.netbios.len()),
        (2, 1, 0, 1)
    );
    assert_eq!(tunnels[1].addresses.remote[0].0.short(), "10.7.0.0/16");
    let kinds: Vec<_> = reading.facts.secrets.iter().map(|one| one.kind).collect();
    assert_eq!(
        kinds,
        [SecretKind::PreSharedKey, SecretKind::LoginPassword, SecretKind::SharedKey, SecretKind::Passphrase]
    );
    assert_eq!(reading.facts.pre_shared_keys[0].identities, ["yard.example"]);
    assert_eq!(reading.facts.logins[0].user, "ann");
    assert!(!format!("{reading:?}").contains("sesame"));
    assert_eq!(reading.ledger.notes.len(), 0);
}

/// A connection in a line: versions, rounds of both sides, children with their modes, seconds until new keys.
fn told(reading: &Reading) -> Vec<String> {
    let round = |round: &AuthRound| {
        let proof = round.proof.value().map(IkeProof::words).unwrap_or_default();
        format!(
            "{proof}:{}{}",
            round.identity.as_ref().map_or("any", |one| &one.0),
            if round.narrowed.is_some() { "!" } else { "" }
        )
    };
    let rounds = |all: &[AuthRound]| all.iter().map(round).collect::<Vec<_>>().join("+");
    let connections = reading.facts.tunnels.iter().filter_map(|tunnel| tunnel.ipsec.as_ref());
    connections
        .map(|one| {
            let children: Vec<_> = one
                .children
                .iter()
                .map(|child| format!("{}={}", child.name, child.mode.value().unwrap().word()))
                .collect();
            format!(
                "{} {:?} {}>{} [{}] {}",
                one.name,
                one.versions.value().unwrap(),
                rounds(&one.remote),
                rounds(&one.local),
                children.join(" "),
                one.rekey.value().unwrap()
            )
        })
        .collect()
}

#[test]
fn inheritance_and_rounds() {
    for (text, wanted) in [
        (
            "base {\n version = 1\n proposals = 3des-md5-modp1024\n remote { auth = psk }\n}\nconnections {\n a : base {\n  version = 2\n }\n}\n",
            "a Second shared key:any>anything:any [] 14400",
        ),
        (
            "connections {\n a {\n  remote-2 { round = 2\n auth = eap-mschapv2\n eap_id = %any }\n  remote-1 { round = 1\n auth = pubkey\n cacerts = ca.pem }\n  reauth_time = 2h\n }\n}\n",
            "a Both certificate:any!+EAP-MSCHAPV2:%any>anything:any [] 7200",
        ),
        (
            "connections {\n a {\n  aggressive = yes\n  rekey_time = 0s\n  remote { id = b.example }\n  local { auth = xauth }\n  children {\n   n { mode = transport }\n   p { mode = pass }\n  }\n }\n}\n",
            "a Both certificate:b.example>XAuth:any [n=TRANSPORT p=PASS] 0",
        ),
    ] {
        assert_eq!(told(&of(text)), [wanted], "{text}");
    }
}

#[test]
fn a_value_that_is_replaced_does_not_count() {
    let reading = of(
        "base {\n proposals = 3des-md5-modp1024\n}\nconnections {\n a : base {\n  proposals = aes256gcm16-prfsha384-ecp384\n }\n}\n",
    );
    let names: Vec<_> =
        reading.facts.tunnels[0].offers[0].algorithms.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["aes256gcm16", "prfsha384", "ecp384"]);
}

#[test]
fn several_files_make_one_configuration() {
    let export = |number, path: &str, text: &str| Export::new(ExportId(number), path, text.into());
    let pool = "pools {\n p { addrs = 10.9.0.9-10.9.0.300 }\n}\n";
    let asks = "connections {\n c { pools = p\n }\n}\n";
    // Read in by the main file, and side by side without it.
    for (main, other) in [
        ("d/etc/swanctl/swanctl.conf", "d/etc/swanctl/conf.d/p.conf"),
        ("d/etc/swanctl/conf.d/a.conf", "d/etc/swanctl/conf.d/p.conf"),
    ] {
        let main = export(0, main, &format!("{asks}include conf.d/*.conf\n"));
        let other = export(1, other, pool);
        let around = ReadContext::of(vec![&main, &other]);
        let reading = read(&main, &around);
        assert!(reading.facts.tunnels[0].addresses.pools[0].malformed[0].why.contains("300"));
        assert!(read(&other, &around).facts.tunnels.is_empty());
    }
}

#[test]
fn what_is_no_key() {
    for line in [
        "connections {\n a { colour = red\n }\n}\n",
        "secrets {\n ike { word = x\n }\n}\n",
        "connections {\n a : gone { }\n}\n",
    ] {
        assert_eq!(of(line).ledger.notes.len(), 1, "{line}");
    }
}
