//! `ietf-i2nsf-ike` (RFC 9061), `ietf-key-chain` (RFC 8177), `ietf-keystore` and `ietf-truststore` (RFC 9642, RFC 9641), and servers of
//! SSH and TLS wherever their groupings are used (RFC 9644, RFC 9645).

use super::device::Reader;
use super::filters::address;
use super::tree::Item;
use crate::serving::hold;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::certificate::PrivateKey;
use trevlin_model::ike::PreSharedKey;
use trevlin_model::ipsec::{
    AuthRound, Child, ChildMode, IkeDaemon, IkeProof, IkeVersions, IpsecConnection, Selectors,
};
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Served, ServedKind, ServiceResource, TransportSecurity,
};
use trevlin_model::ssh::SshServer;
use trevlin_model::{
    Described, IpRange, Listener, NotAnalysed, Origin, Protocol, Reference, Setting, Tunnel, TunnelFamily,
    TunnelRole,
};

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
#[serde(deny_unknown_fields)]
struct Numbers {
    encryption: BTreeMap<String, String>,
    integrity: BTreeMap<String, String>,
    key_exchange: BTreeMap<String, String>,
}

trevlin_model::table! { static NUMBERS: Numbers = "../../tables/iana-ike.toml"; }

impl Reader<'_> {
    pub(super) fn ike(&mut self, root: &Item) {
        let entries: BTreeMap<&str, &Item> = root
            .each(&["pad", "pad-entry"])
            .into_iter()
            .filter_map(|one| Some((one.leaf("name", self.seen)?.0, one)))
            .collect();
        for entry in entries.values() {
            self.shared_key(entry);
        }
        for one in root.all("conn-entry") {
            self.connection(one, &entries);
        }
    }

    fn shared_key(&mut self, entry: &Item) {
        let Some(leaf) = entry.at(&["peer-authentication", "pre-shared", "secret"]) else { return };
        self.seen.borrow_mut().push(leaf.origin);
        let name = entry.leaf("name", self.seen).map_or("a peer", |(name, _)| name).to_owned();
        let identity = identity(entry).map(|(text, _)| text).unwrap_or_else(|| name.clone());
        let held = hold(
            self.export,
            &mut self.reading.facts,
            self.export.text_at(leaf.value),
            SecretKind::PreSharedKey,
            &name,
        );
        if let Some(held) = held {
            self.reading.facts.pre_shared_keys.push(PreSharedKey {
                identities: vec![identity],
                held,
                origin: leaf.origin,
            });
        }
    }

    fn connection(&mut self, one: &Item, entries: &BTreeMap<&str, &Item>) {
        let Some((name, origin)) = one.leaf("name", self.seen) else { return };
        let mut tunnel =
            Tunnel::new(format!("IPsec {name}"), TunnelFamily::Ipsec, TunnelRole::PointToPoint, origin);
        let seen = self.seen;
        let pad = |side: &str, leaf: &str| {
            let (name, _) = one.get(side)?.leaf(leaf, seen)?;
            entries.get(name).copied()
        };
        let round = |entry: Option<&Item>| {
            let method =
                entry.and_then(|entry| entry.get("peer-authentication")?.identity("auth-method", seen));
            let proof = match method {
                Some(("pre-shared", origin)) => Setting::Stated { value: IkeProof::SharedKey, origin },
                Some(("digital-signature", origin)) => Setting::Stated { value: IkeProof::PublicKey, origin },
                Some(("eap", origin)) => Setting::Stated { value: IkeProof::Eap(String::new()), origin },
                Some(("null", origin)) => Setting::Stated { value: IkeProof::Nothing, origin },
                _ => Setting::Unknown { why: "the data does not state how this side authenticates".into() },
            };
            AuthRound { proof, identity: entry.and_then(identity), narrowed: None, certificates: Vec::new() }
        };
        let (local, remote) = (pad("local", "local-pad-entry-name"), pad("remote", "remote-pad-entry-name"));
        let versions = match one.identity("version", seen) {
            Some(("ikev1", origin)) => Setting::Stated { value: IkeVersions::First, origin },
            Some((_, origin)) => Setting::Stated { value: IkeVersions::Second, origin },
            // The module has no other (RFC 9061, auth-protocol-type).
            None => {
                Setting::default_of(IkeVersions::Second, "ietf-i2nsf-ike", "RFC 9061, conn-entry/version")
            }
        };
        let rekey = one.get("ike-sa-lifetime-soft").and_then(|one| one.leaf("rekey-time", seen));
        let mut connection = IpsecConnection {
            name: name.to_owned(),
            daemon: IkeDaemon::Appliance,
            sides_by_address: false,
            versions,
            aggressive: None,
            local_addresses: Vec::new(),
            remote_addresses: Vec::new(),
            local: vec![round(local)],
            remote: vec![round(remote)],
            rekey: seconds(rekey),
            liveness: Setting::Unknown { why: "the data model does not cover it".into() },
            quantum_key: None,
            children: Vec::new(),
        };
        let mut algorithms = Vec::new();
        for leaf in one.all("ike-sa-intr-alg") {
            algorithms.extend(self.algorithm(leaf, &NUMBERS.integrity, AlgorithmRole::Integrity));
        }
        for entry in one.all("ike-sa-encr-alg") {
            algorithms.extend(self.encryption(entry));
        }
        for leaf in one.all("dh-group").chain(one.all("fs-group")) {
            algorithms.extend(self.algorithm(leaf, &NUMBERS.key_exchange, AlgorithmRole::KeyExchange));
        }
        if !algorithms.is_empty() {
            tunnel.offers.push(Offer {
                part: OfferPart::Control,
                spelling: Spelling::Trade,
                algorithms,
                own_order: false,
                open: None,
                origin,
            });
        }
        let groups: Vec<&Item> = one.each(&["child-sa-info", "fs-groups"]);
        for entry in one.each(&["spd", "spd-entry"]) {
            self.child(entry, &groups, &mut connection, &mut tunnel);
        }
        for port in [500, 4500] {
            let bound =
                connection.local_addresses.first().and_then(|(text, origin)| Some((address(text)?, *origin)));
            let at = match bound {
                Some((at, origin)) => Setting::Stated { value: Some(at), origin },
                None => Setting::default_of(None, "ietf-i2nsf-ike", "RFC 7296, 2"),
            };
            let port = Setting::default_of(port, "ietf-i2nsf-ike", "RFC 7296, 2");
            tunnel.listeners.push(Listener { protocol: Protocol::UDP, address: at, port });
        }
        tunnel.addresses.remote =
            connection.children.iter().flat_map(|child| child.remote.networks.clone()).collect();
        tunnel.ipsec = Some(Box::new(connection));
        self.reading.facts.tunnels.push(tunnel);
    }

    fn algorithm(
        &self,
        leaf: &Item,
        names: &BTreeMap<String, String>,
        role: AlgorithmRole,
    ) -> Option<Offered> {
        self.seen.borrow_mut().push(leaf.origin);
        let number = leaf.text.as_deref()?;
        let name = names.get(number).cloned().unwrap_or_else(|| format!("number {number}"));
        Some(Offered { name, role: Some(role), versions: None, suite: 0, origin: leaf.origin, default: None })
    }

    fn encryption(&self, entry: &Item) -> Option<Offered> {
        entry.leaf("id", self.seen);
        let length = entry.leaf("key-length", self.seen).map(|(text, _)| text.to_owned());
        let mut found =
            self.algorithm(entry.get("algorithm-type")?, &NUMBERS.encryption, AlgorithmRole::Encryption)?;
        // Ciphers with keys of several lengths are named with theirs.
        if let Some(rest) = found.name.strip_prefix("aes-") {
            let length = length.unwrap_or_else(|| "128".into());
            found.name = if rest == "cbc" { format!("aes{length}") } else { format!("aes{length}{rest}") };
        }
        Some(found)
    }

    fn child(
        &mut self,
        entry: &Item,
        groups: &[&Item],
        connection: &mut IpsecConnection,
        tunnel: &mut Tunnel,
    ) {
        let Some((name, origin)) = entry.leaf("name", self.seen) else { return };
        let seen = self.seen;
        let policy = entry.get("ipsec-policy-config");
        let selector = policy.and_then(|one| one.get("traffic-selector"));
        let side = |leaf: &str| {
            let mut found = Selectors::default();
            if let Some((text, origin)) = selector.and_then(|one| one.leaf(leaf, seen)) {
                found.texts.push(text.to_owned());
                found.origin = Some(origin);
                found.networks.extend(crate::addresses::prefix(text).map(|net| (IpRange::from(net), origin)));
            }
            found
        };
        let processing = policy.and_then(|one| one.get("processing-info"));
        let action =
            processing.and_then(|one| one.identity("action", seen)).map_or("discard", |(word, _)| word);
        let settings = processing.and_then(|one| one.get("ipsec-sa-cfg"));
        let mode = settings.and_then(|one| one.identity("mode", seen));
        let mode = match (action, mode) {
            ("bypass", _) => Setting::Stated { value: ChildMode::Pass, origin },
            ("discard", _) => Setting::Stated { value: ChildMode::Drop, origin },
            (_, Some(("tunnel", origin))) => Setting::Stated { value: ChildMode::Tunnel, origin },
            (_, Some((_, origin))) => Setting::Stated { value: ChildMode::Transport, origin },
            (_, None) => {
                Setting::default_of(ChildMode::Transport, "ietf-i2nsf-ike", "RFC 9061, ipsec-sa-cfg/mode")
            }
        };
        let mut algorithms = Vec::new();
        if let Some(esp) = settings.and_then(|one| one.get("esp-algorithms")) {
            for leaf in esp.all("integrity") {
                algorithms.extend(self.algorithm(leaf, &NUMBERS.integrity, AlgorithmRole::Integrity));
            }
            for one in esp.all("encryption") {
                algorithms.extend(self.encryption(one));
            }
        }
        let mut offers = Vec::new();
        if !algorithms.is_empty() {
            for leaf in groups {
                algorithms.extend(self.algorithm(leaf, &NUMBERS.key_exchange, AlgorithmRole::KeyExchange));
            }
            tunnel.offers.push(Offer {
                part: OfferPart::Data,
                spelling: Spelling::Trade,
                algorithms,
                own_order: false,
                open: None,
                origin,
            });
            offers.push(tunnel.offers.len() - 1);
        }
        for (leaf, into) in
            [("local", &mut connection.local_addresses), ("remote", &mut connection.remote_addresses)]
        {
            let said = settings.and_then(|one| one.get("tunnel")?.leaf(leaf, seen));
            into.extend(said.map(|(text, origin)| (text.to_owned(), origin)));
        }
        let keys = groups.first().map(|leaf| leaf.origin);
        connection.children.push(Child {
            name: name.to_owned(),
            local: side("local-prefix"),
            remote: side("remote-prefix"),
            mode,
            rekey: Setting::Unknown { why: "the data does not state when keys are renewed".into() },
            compression: None,
            forward_secrecy: match keys {
                Some(origin) => Setting::Stated { value: true, origin },
                None => Setting::Stated { value: false, origin },
            },
            by_interface_origin: None,
            offers,
            origin,
        });
    }

    pub(super) fn key_chains(&mut self, root: &Item) {
        for chain in root.all("key-chain") {
            let name = chain.leaf("name", self.seen).map_or("a key chain", |(name, _)| name).to_owned();
            for key in chain.all("key") {
                key.leaf("key-id", self.seen);
                key.identity("crypto-algorithm", self.seen);
                let leaf = key
                    .at(&["key-string", "keystring"])
                    .or_else(|| key.at(&["key-string", "hexadecimal-string"]));
                if let Some(leaf) = leaf {
                    self.seen.borrow_mut().push(leaf.origin);
                    let owner = format!("the key chain {name}");
                    hold(
                        self.export,
                        &mut self.reading.facts,
                        self.export.text_at(leaf.value),
                        SecretKind::SharedKey,
                        &owner,
                    );
                }
            }
        }
    }

    /// Keys that the device keeps. A private key in clear is one; one that is hidden or encrypted is protected.
    pub(super) fn keystore(&mut self, root: &Item) {
        for key in root.each(&["asymmetric-keys", "asymmetric-key"]) {
            let name = key.leaf("name", self.seen).map_or("a key", |(name, _)| name).to_owned();
            let Some(leaf) = key.get("cleartext-private-key") else { continue };
            self.seen.borrow_mut().push(leaf.origin);
            let held = hold(
                self.export,
                &mut self.reading.facts,
                self.export.text_at(leaf.value),
                SecretKind::PrivateKey,
                &name,
            );
            if let Some(held) = held {
                self.reading.facts.private_keys.push(PrivateKey {
                    encrypted: false,
                    held: Arc::clone(&held),
                    origin: leaf.origin,
                });
            }
        }
        for key in root.each(&["symmetric-keys", "symmetric-key"]) {
            let name = key.leaf("name", self.seen).map_or("a key", |(name, _)| name).to_owned();
            if let Some(leaf) = key.get("cleartext-symmetric-key") {
                self.seen.borrow_mut().push(leaf.origin);
                hold(
                    self.export,
                    &mut self.reading.facts,
                    self.export.text_at(leaf.value),
                    SecretKind::SharedKey,
                    &name,
                );
            }
        }
    }

    /// Servers with the parameters of the groupings, in any module.
    pub(super) fn servers(&mut self, one: &Item) {
        let named = |part: &str| one.children.iter().find(|child| child.name == part);
        let tcp = named("tcp-server-parameters");
        if let Some(ssh) = named("ssh-server-parameters") {
            self.secure_shell(ssh, tcp);
        }
        if let Some(tls) = named("tls-server-parameters") {
            self.pages(one, tls, tcp);
        }
        for child in &one.children {
            self.servers(child);
        }
    }

    fn place(&self, tcp: Option<&Item>) -> Option<(Option<String>, u16, Origin)> {
        let tcp = tcp?;
        let local = tcp.get("local-bind").unwrap_or(tcp);
        let at = local.leaf("local-address", self.seen).map(|(text, _)| text.to_owned());
        let (port, origin) = local.leaf("local-port", self.seen)?;
        Some((at, port.parse().ok()?, origin))
    }

    fn secure_shell(&mut self, ssh: &Item, tcp: Option<&Item>) {
        let (at, port, origin) = self.place(tcp).unwrap_or((None, 22, ssh.origin));
        let users = ssh.each(&["client-authentication", "users", "user"]);
        let with = |part: &str| users.iter().find_map(|user| user.get(part));
        let (passwords, keys) = (with("password"), with("public-keys"));
        let word = |on: bool| if on { "yes" } else { "no" };
        let mut statements = vec![("port", port.to_string(), origin)];
        statements.extend(at.map(|at| ("listenaddress", format!("{at}:{port}"), origin)));
        if !users.is_empty() {
            let line = |one: Option<&Item>| one.map_or(ssh.origin, |one| one.origin);
            statements.push(("passwordauthentication", word(passwords.is_some()).into(), line(passwords)));
            statements.push(("pubkeyauthentication", word(keys.is_some()).into(), line(keys)));
        }
        for (list, keyword) in [
            (["encryption", "encryption-alg"], "ciphers"),
            (["mac", "mac-alg"], "macs"),
            (["key-exchange", "key-exchange-alg"], "kexalgorithms"),
        ] {
            let found = ssh.each(&["transport-params", list[0], list[1]]);
            let names: Vec<&str> = found
                .iter()
                .filter_map(|leaf| leaf.text.as_deref())
                .map(|text| text.rsplit(':').next().unwrap_or(text))
                .collect();
            if let Some(first) = found.first() {
                self.seen.borrow_mut().extend(found.iter().map(|leaf| leaf.origin));
                statements.push((keyword, names.join(","), first.origin));
            }
        }
        self.reading.facts.ssh_servers.push(SshServer {
            missing: vec![Reference::unsaid(Described::Export, ssh.origin)],
            ..crate::sshd::stated("the device", ssh.origin, statements)
        });
    }

    fn pages(&mut self, around: &Item, tls: &Item, tcp: Option<&Item>) {
        let (at, port, origin) = self.place(tcp).unwrap_or((None, 443, tls.origin));
        let mut served =
            Served::new(ServedKind::Pages, "the device", format!("{} by TLS", around.name), &[], tls.origin)
                .labelled(around.name.as_str());
        let place = Endpoint::everywhere(Protocol::TCP, port, TransportSecurity::Encrypted, origin);
        served
            .endpoints
            .push(at.and_then(|at| address(&at)).map_or_else(|| place.clone(), |at| place.clone().at(at)));
        let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), tls.origin);
        if let Some(clients) = tls.get("client-authentication") {
            part.login = Setting::Stated { value: AuthRequirement::Certificate, origin: clients.origin };
        }
        part.remarks.push((Remark::Administration, tls.origin));
        let versions = tls.each(&["hello-params", "tls-versions", "tls-version"]);
        let names = |text: &str| {
            let word = text.rsplit(':').next().unwrap_or(text);
            match word {
                "tls10" | "tls-1.0" => "TLSv1".to_owned(),
                "tls11" | "tls-1.1" => "TLSv1.1".to_owned(),
                "tls12" | "tls-1.2" => "TLSv1.2".to_owned(),
                "tls13" | "tls-1.3" => "TLSv1.3".to_owned(),
                other => other.to_owned(),
            }
        };
        let algorithms: Vec<Offered> = versions
            .iter()
            .filter_map(|leaf| {
                self.seen.borrow_mut().push(leaf.origin);
                let name = names(leaf.text.as_deref()?);
                let role = Some(AlgorithmRole::Protocol);
                Some(Offered { name, role, versions: None, suite: 0, origin: leaf.origin, default: None })
            })
            .collect();
        if !algorithms.is_empty() {
            served.offers.push(Offer {
                part: OfferPart::Control,
                spelling: Spelling::Trade,
                algorithms,
                own_order: false,
                open: None,
                origin: tls.origin,
            });
        }
        served.parts.push(part);
        self.reading.facts.served.push(served);
    }

    /// Names the subtrees of a module that is not read.
    pub(super) fn unknown(&mut self, root: &Item) {
        let what = format!("data of the module `{}`", root.module);
        self.reading.facts.not_analysed.push(NotAnalysed {
            what,
            may_serve: None,
            filters_packets: false,
            apart: false,
            only_blocks: false,
            origin: root.origin,
        });
    }
}

/// The identity of the peer in an entry.
fn identity(entry: &Item) -> Option<(String, Origin)> {
    const NAMES: [&str; 6] =
        ["ipv4-address", "ipv6-address", "fqdn-string", "rfc822-address-string", "dnx509", "gnx509"];
    let leaf = entry.children.iter().find(|one| NAMES.contains(&one.name.as_str()))?;
    Some((leaf.text.clone()?, leaf.origin))
}

fn seconds(said: Option<(&str, Origin)>) -> Setting<u64> {
    match said.and_then(|(text, origin)| Some((text.parse().ok()?, origin))) {
        Some((value, origin)) => Setting::Stated { value, origin },
        None => Setting::Unknown { why: "the data does not state when keys are renewed".into() },
    }
}
