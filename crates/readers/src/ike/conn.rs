//! Settings of one connection of an `ipsec.conf`, with the defaults of the daemon that reads the file.

use super::proposals::{authentication_alone, offer, strongswan_line};
use super::{certificate_file, pool, seconds, selectors, swanctl};
use crate::addresses;
use std::collections::BTreeMap;
use trevlin_model::Revocation;
use trevlin_model::certificate::{CertificateFile, CertificateUse};
use trevlin_model::ipsec::{AuthRound, Child, ChildMode, IkeDaemon, IkeProof, IkeVersions, IpsecConnection};
use trevlin_model::offer::{Offer, OfferPart};
use trevlin_model::plan::{AddressPlan, FixedAddress};
use trevlin_model::{DefaultValue, Origin, Pool, Setting};

/// How far `also` is followed.
const DEPTH: usize = 16;

/// A section of the kind `conn`, or `config setup` under the name of a keyword that no connection can have.
pub(super) struct Conn<'a> {
    pub(super) name: &'a str,
    pub(super) lines: Vec<(&'a str, &'a str, Origin)>,
    pub(super) origin: Origin,
}

/// Sections by their names, in the order of the files: those of one name add to each other.
pub(super) type ByName<'s, 'a> = BTreeMap<&'a str, Vec<&'s Conn<'a>>>;

/// Under which name `config setup` is kept.
pub(super) const SETUP: &str = "config setup";

/// Under which name the sections of authorities are kept.
pub(super) const AUTHORITY: &str = "ca section";

/// Settings of one connection.
#[derive(Clone, Copy)]
pub(super) struct Said<'s, 'a> {
    pub(super) all: &'s ByName<'s, 'a>,
    pub(super) name: &'s str,
    pub(super) daemon: IkeDaemon,
}

impl<'a> Said<'_, 'a> {
    /// The value of a key: in the section itself, in those that it includes, or in the default section. An empty value counts as unset.
    pub(super) fn get(&self, key: &str) -> Option<(&'a str, Origin)> {
        let found = lookup(self.all, self.name, key, 0).or_else(|| lookup(self.all, "%default", key, 0));
        found.filter(|(value, _)| !value.is_empty())
    }

    fn first(&self, keys: &[&str]) -> Option<(&'a str, Origin)> {
        keys.iter().find_map(|key| self.get(key))
    }

    fn yes(&self, keys: &[&str]) -> Option<Origin> {
        self.first(keys).filter(|(value, _)| *value == "yes").map(|(_, origin)| origin)
    }

    /// A length of time that is stated, or the defaults of the daemon's versions.
    fn time(&self, keys: &[&str], strongswan: u64, libreswan: &[(u64, &'static str)]) -> Setting<u64> {
        if let Some((value, origin)) =
            self.first(keys).and_then(|(text, origin)| Some((seconds(text)?, origin)))
        {
            return Setting::Stated { value, origin };
        }
        let source = "ipsec.conf(5)";
        match self.daemon {
            IkeDaemon::StrongSwan | IkeDaemon::Appliance => {
                Setting::default_of(strongswan, "strongSwan", source)
            }
            IkeDaemon::Libreswan => Setting::Default(
                libreswan
                    .iter()
                    .map(|(value, versions)| DefaultValue {
                        value: *value,
                        daemon: "Libreswan",
                        versions,
                        source,
                    })
                    .collect(),
            ),
        }
    }

    fn versions(&self) -> Setting<IkeVersions> {
        let stated = |value, origin| Setting::Stated { value, origin };
        match (self.daemon, self.get("ikev2"), self.get("keyexchange")) {
            (_, _, Some(("ikev1", origin))) => stated(IkeVersions::First, origin),
            (_, _, Some(("ikev2", origin))) => stated(IkeVersions::Second, origin),
            (IkeDaemon::StrongSwan | IkeDaemon::Appliance, _, Some((_, origin))) => {
                stated(IkeVersions::Both, origin)
            }
            (IkeDaemon::StrongSwan | IkeDaemon::Appliance, _, None) => {
                Setting::default_of(IkeVersions::Both, "strongSwan", "ipsec.conf(5), keyexchange")
            }
            // `permit` and `propose` meant either up to version 3; later versions take them for `no` and `yes`.
            (IkeDaemon::Libreswan, Some(("no" | "never" | "permit", origin)), _) => {
                stated(IkeVersions::First, origin)
            }
            (IkeDaemon::Libreswan, Some((_, origin)), _) => stated(IkeVersions::Second, origin),
            (IkeDaemon::Libreswan, None, _) => Setting::Default(
                [(IkeVersions::Second, "from 4.0"), (IkeVersions::First, "before 4.0")]
                    .into_iter()
                    .map(|(value, versions)| DefaultValue {
                        value,
                        daemon: "Libreswan",
                        versions,
                        source: "ipsec.conf(5) of Libreswan, ikev2",
                    })
                    .collect(),
            ),
        }
    }

    /// Rounds of one side.
    fn rounds(&self, side: &str) -> Vec<AuthRound> {
        let key = |rest: &str| format!("{side}{rest}");
        let get = |rest: &str| self.get(&key(rest));
        let narrowed = |keys: &[&str]| {
            let mut found =
                keys.iter().filter_map(|rest| get(rest)).filter(|(value, _)| !value.starts_with('%'));
            found.next().map(|(_, origin)| origin)
        };
        let identity = |rest: &str| {
            let stated = get(rest).map(|(value, origin)| (value.to_owned(), origin));
            // Without an identity the address stands for it.
            let address = get("").filter(|(value, _)| !value.starts_with('%') && !value.contains(['/', ',']));
            stated.or_else(|| {
                address.filter(|_| rest == "id").map(|(value, origin)| (value.to_owned(), origin))
            })
        };
        let mut rounds = Vec::new();
        let method = get("auth").or_else(|| self.get("authby"));
        let proof = match method {
            Some((text, origin)) => Setting::Stated { value: self.proof(text), origin },
            None => Setting::default_of(IkeProof::PublicKey, self.daemon.name(), "ipsec.conf(5), authby"),
        };
        let certificate = ["cert", "ca", "groups", "certpolicy", "sigkey", "rsasigkey", "ecdsakey", "ckaid"];
        rounds.push(AuthRound {
            proof,
            identity: identity("id"),
            narrowed: narrowed(&certificate),
            certificates: self.certificates(&key("cert")),
        });
        if let Some((text, origin)) = get("auth2") {
            rounds.push(AuthRound {
                proof: Setting::Stated { value: self.proof(text), origin },
                identity: identity("id2"),
                narrowed: narrowed(&["cert2", "ca2", "groups2"]),
                certificates: self.certificates(&key("cert2")),
            });
        }
        // The login of IKEv1: the requiring side is stated by `xauth` (strongSwan) or by the side itself (Libreswan).
        let other = if side == "left" { "right" } else { "left" };
        let old = method.filter(|(text, _)| text.starts_with("xauth")).map(|(_, origin)| origin);
        let logs_in = match self.daemon {
            IkeDaemon::StrongSwan | IkeDaemon::Appliance => {
                let serves = self.get("xauth").is_some_and(|(value, _)| value == "server");
                old.filter(|_| serves == (side == "right"))
            }
            IkeDaemon::Libreswan => {
                self.yes(&[&key("xauthclient")]).or_else(|| self.yes(&[&format!("{other}xauthserver")]))
            }
        };
        if let Some(origin) = logs_in {
            let by = match self.daemon {
                IkeDaemon::StrongSwan | IkeDaemon::Appliance => "",
                IkeDaemon::Libreswan => self.get("xauthby").map_or("file", |(by, _)| by),
            };
            let value = IkeProof::Xauth(by.to_owned());
            rounds.push(AuthRound {
                proof: Setting::Stated { value, origin },
                identity: None,
                narrowed: None,
                certificates: Vec::new(),
            });
        }
        if let Some((value, origin)) = get("autheap").filter(|(value, _)| *value != "none") {
            let value = IkeProof::Eap(value.to_owned());
            rounds.push(AuthRound {
                proof: Setting::Stated { value, origin },
                identity: None,
                narrowed: None,
                certificates: Vec::new(),
            });
        }
        rounds
    }

    /// Files of certificates that a key names; the daemon looks for a bare name in its own folder, and a name that begins with `%` is on a
    /// smartcard. Libreswan keeps certificates in a database, and the key names them there.
    fn certificates(&self, key: &str) -> Vec<CertificateFile> {
        let Some((text, origin)) = self.get(key).filter(|_| self.daemon != IkeDaemon::Libreswan) else {
            return Vec::new();
        };
        let files = text.split(',').map(str::trim).filter(|name| !name.is_empty() && !name.starts_with('%'));
        files.map(|name| certificate_file(CertificateUse::Own, name, "/etc/ipsec.d/certs", origin)).collect()
    }

    /// How the daemon recognises revoked certificates: the policy of the daemon as a whole, or addresses of lists and responders (ipsec.conf(5),
    /// strictcrlpolicy, crluri, ocspuri).
    pub(super) fn revocation(&self) -> Option<Revocation> {
        let policies = ["strictcrlpolicy", "crl-strict", "ocsp-strict"].into_iter();
        let strict = policies
            .filter_map(|key| lookup(self.all, SETUP, key, 0))
            .find(|(value, _)| matches!(*value, "yes" | "ifuri"))
            .map(|(_, origin)| Revocation { strict: true, origin });
        // A section of an authority counts where it is loaded.
        strict.or_else(|| {
            let sections = self.all.get(AUTHORITY)?.iter();
            let mut loaded = sections
                .filter(|one| one.lines.iter().any(|(key, value, _)| *key == "auto" && *value != "ignore"));
            loaded
                .find_map(|one| {
                    let named = |key: &str| ["crluri", "ocspuri"].iter().any(|begin| key.starts_with(begin));
                    one.lines.iter().find(|(key, ..)| named(key))
                })
                .map(|(_, _, origin)| Revocation { strict: false, origin: *origin })
        })
    }

    fn proof(&self, text: &str) -> IkeProof {
        match (self.daemon, text) {
            (_, "xauthpsk") => IkeProof::SharedKey,
            (IkeDaemon::Libreswan, "null" | "none") => IkeProof::Nothing,
            // Either is taken: the weaker counts.
            (IkeDaemon::Libreswan, text) if text.split(['|', ',']).any(|one| one.trim() == "secret") => {
                IkeProof::SharedKey
            }
            (IkeDaemon::Libreswan, _) => IkeProof::PublicKey,
            (IkeDaemon::StrongSwan | IkeDaemon::Appliance, text) => swanctl::proof(text),
        }
    }

    fn addresses(&self, side: &str) -> Vec<(String, Origin)> {
        let Some((text, origin)) = self.get(side) else { return Vec::new() };
        if self.yes(&[&format!("{side}allowany")]).is_some() {
            return Vec::new();
        }
        let named = text.split(',').map(str::trim).filter(|text| !text.starts_with('%') && !text.is_empty());
        named.map(|text| (text.to_owned(), origin)).collect()
    }

    /// The connection, its offers, its pools, and whether this end requests an address.
    pub(super) fn connection(&self, origin: Origin) -> (IpsecConnection, Vec<Offer>, AddressPlan, bool) {
        let versions = self.versions();
        let mut plan = AddressPlan::default();
        let esp = self.first(&["phase2alg", "esp"]);
        let ah = self.get("ah");
        let mut offers: Vec<Offer> = match self.daemon {
            IkeDaemon::StrongSwan | IkeDaemon::Appliance => {
                let data = ah.filter(|_| esp.is_none()).or(esp);
                let control = strongswan_line(OfferPart::Control, self.get("ike"), origin);
                let by_ah = esp.is_none() && ah.is_some();
                let data = strongswan_line(OfferPart::Data, data, origin);
                vec![control, if by_ah { authentication_alone(data) } else { data }]
            }
            IkeDaemon::Libreswan => {
                let old = versions.stated().is_some_and(|(versions, _)| *versions == IkeVersions::First);
                let data = ah.filter(|_| esp.is_none()).or(esp);
                let by_ah = self.get("phase2").is_some_and(|(value, _)| value == "ah")
                    || esp.is_none() && ah.is_some();
                let [control, data] = [(OfferPart::Control, self.get("ike")), (OfferPart::Data, data)]
                    .map(|(part, stated)| offer(self.daemon, part, stated, old, origin));
                vec![control, if by_ah { authentication_alone(data) } else { data }]
            }
        };
        let subnet = |side: &str| self.first(&[&format!("{side}subnet"), &format!("{side}subnets")]);
        // A virtual address that is requested, or assigned statically.
        let asks = match self.daemon {
            IkeDaemon::StrongSwan | IkeDaemon::Appliance => self.get("leftsourceip").is_some(),
            IkeDaemon::Libreswan => self.yes(&["leftmodecfgclient"]).is_some(),
        };
        let mode = match self.get("type") {
            Some(("tunnel", origin)) => Setting::Stated { value: ChildMode::Tunnel, origin },
            Some(("passthrough", origin)) => Setting::Stated { value: ChildMode::Pass, origin },
            Some(("drop" | "reject", origin)) => Setting::Stated { value: ChildMode::Drop, origin },
            Some((_, origin)) => Setting::Stated { value: ChildMode::Transport, origin },
            None => Setting::default_of(ChildMode::Tunnel, self.daemon.name(), "ipsec.conf(5), type"),
        };
        let forward_secrecy = match (self.daemon, self.get("pfs")) {
            // charon takes no notice of it: the groups of the proposals decide.
            (IkeDaemon::StrongSwan | IkeDaemon::Appliance, _) => {
                Setting::default_of(false, "strongSwan", "ipsec.conf(5), esp")
            }
            (IkeDaemon::Libreswan, Some((value, origin))) => Setting::Stated { value: value != "no", origin },
            (IkeDaemon::Libreswan, None) => {
                Setting::default_of(true, "Libreswan", "ipsec.conf(5) of Libreswan, pfs")
            }
        };
        let side = |side: &str, plan: &mut AddressPlan| {
            let mut found = selectors(subnet(side), &mut plan.malformed);
            if let Some((text, _)) = self.get(&format!("{side}protoport")) {
                let port = protocol_and_port(text);
                found.texts.iter_mut().for_each(|one| one.push_str(&port));
            }
            found
        };
        let child = Child {
            name: self.name.to_owned(),
            local: side("left", &mut plan),
            remote: side("right", &mut plan),
            mode,
            rekey: self.time(
                &["salifetime", "keylife", "lifetime"],
                60 * 60,
                &[(8 * 60 * 60, "from 4.2"), (60 * 60, "before 4.2")],
            ),
            compression: self.yes(&["compress"]),
            forward_secrecy,
            by_interface_origin: ["mark", "mark_out", "vti-interface", "ipsec-interface"]
                .iter()
                .find_map(|name| self.get(name))
                .filter(|(value, _)| !matches!(*value, "no" | "0"))
                .map(|(_, origin)| origin),
            offers: (1..offers.len()).collect(),
            origin,
        };
        // Both ends then cut the digest as a draft had it (ipsec.conf(5) of Libreswan).
        if let Some(origin) = self.yes(&["sha2-truncbug"]) {
            let cut = Some(("hmac_sha2_256_truncbug", origin));
            let mut cut = offer(self.daemon, OfferPart::Data, cut, false, origin);
            cut.algorithms.retain(|one| one.default.is_none());
            cut.algorithms.iter_mut().for_each(|one| one.role = None);
            offers.push(cut);
        }
        let liveness = match (self.daemon, self.get("dpdaction"), self.get("dpddelay")) {
            (IkeDaemon::StrongSwan | IkeDaemon::Appliance, None | Some(("none", _)), _) => {
                match self.get("dpdaction") {
                    Some((_, origin)) => Setting::Stated { value: 0, origin },
                    None => Setting::default_of(0, "strongSwan", "ipsec.conf(5), dpdaction"),
                }
            }
            (IkeDaemon::StrongSwan | IkeDaemon::Appliance, Some((_, origin)), delay) => {
                let value = delay.and_then(|(text, _)| seconds(text)).unwrap_or(30);
                Setting::Stated { value, origin: delay.map_or(origin, |(_, origin)| origin) }
            }
            (IkeDaemon::Libreswan, _, Some((text, origin))) => {
                Setting::Stated { value: seconds(text).unwrap_or(0), origin }
            }
            (IkeDaemon::Libreswan, _, None) => {
                Setting::default_of(0, "Libreswan", "ipsec.conf(5) of Libreswan, dpddelay")
            }
        };
        let connection = IpsecConnection {
            name: self.name.to_owned(),
            daemon: self.daemon,
            sides_by_address: true,
            aggressive: self.yes(&["aggressive", "aggrmode"]),
            local_addresses: self.addresses("left"),
            remote_addresses: self.addresses("right"),
            local: self.rounds("left"),
            remote: self.rounds("right"),
            rekey: self.time(
                &["ikelifetime"],
                3 * 60 * 60,
                &[(8 * 60 * 60, "from 4.2"), (60 * 60, "before 4.2")],
            ),
            liveness,
            quantum_key: self
                .get("ppk")
                .filter(|(value, _)| *value != "no" && *value != "never")
                .map(|(value, origin)| (value == "insist", origin)),
            children: vec![child],
            versions,
        };
        (connection, offers, plan, asks)
    }

    /// Addresses assigned to clients.
    pub(super) fn plan(&self, mut plan: AddressPlan) -> AddressPlan {
        let title = format!("IPsec connection {}", self.name);
        let pools = match self.daemon {
            IkeDaemon::StrongSwan | IkeDaemon::Appliance => self.get("rightsourceip"),
            IkeDaemon::Libreswan => self.get("rightaddresspool"),
        };
        if let Some((value, origin)) = pools {
            for text in value.split(',').map(str::trim) {
                match addresses::single(text) {
                    // One address alone is kept for the one who calls.
                    Some(range) => plan.fixed.push(FixedAddress { who: self.name.to_owned(), range, origin }),
                    // A pool that is kept elsewhere (`%dhcp`, `%radius`).
                    None if text.starts_with('%') => {
                        if text != "%config" && text != "%modeconfig" {
                            plan.pools.push(trevlin_model::Pool::new(title.as_str(), origin));
                        }
                    }
                    None => {
                        // Pools of equal ranges are one (strongSwan, stroke_attribute.c; Libreswan, addresspool.c).
                        let leases = Some(format!("{}, {text}", self.daemon.name()));
                        plan.pools.push(Pool { leases, ..pool(&title, text, origin) });
                    }
                }
            }
        }
        let servers = match self.daemon {
            IkeDaemon::StrongSwan | IkeDaemon::Appliance => vec!["rightdns"],
            IkeDaemon::Libreswan => vec!["modecfgdns", "modecfgdns1", "modecfgdns2"],
        };
        for (value, origin) in servers.iter().filter_map(|key| self.get(key)) {
            for text in value.split([',', ' ']).map(str::trim).filter(|text| !text.is_empty()) {
                let server = addresses::take(text, origin, &mut plan.malformed, addresses::single);
                plan.name_servers.extend(server.map(|server| (server, origin)));
            }
        }
        if let Some((value, origin)) = self.get("modecfgdomains") {
            let names = value.split([',', ' ']).filter(|name| !name.is_empty());
            plan.domains.extend(names.map(|name| (name.to_owned(), origin)));
        }
        plan
    }
}

/// A protocol and a port as a selector has them: `17/1701` is `[udp/1701]`, `17/%any` is `[udp]`.
fn protocol_and_port(text: &str) -> String {
    let (protocol, port) = text.split_once('/').unwrap_or((text, ""));
    let protocol = match protocol {
        "6" => "tcp",
        "17" => "udp",
        "47" => "gre",
        other => other,
    };
    match (protocol, port) {
        ("%any" | "0", _) => String::new(),
        (protocol, "" | "%any" | "0") => format!("[{protocol}]"),
        (protocol, "l2tp" | "l2f") => format!("[{protocol}/1701]"),
        (protocol, port) => format!("[{protocol}/{port}]"),
    }
}

/// The last line of a key in a section, otherwise in those it includes with `also`.
fn lookup<'a>(all: &ByName<'_, 'a>, name: &str, key: &str, depth: usize) -> Option<(&'a str, Origin)> {
    if depth > DEPTH {
        return None;
    }
    let named = || all.get(name).into_iter().flatten().flat_map(|conn| &conn.lines);
    let of = |wanted: &'static str| named().filter(move |line| line.0 == wanted);
    let mut own = named().filter(|line| line.0 == key);
    own.next_back()
        .map(|line| (line.1, line.2))
        .or_else(|| of("also").find_map(|line| lookup(all, line.1, key, depth + 1)))
        .or_else(|| of("alsoflip").find_map(|line| lookup(all, line.1, &flipped(key), depth + 1)))
}

/// The keyword of the other side: `alsoflip` takes a section over with its sides exchanged (ipsec.conf(5) of Libreswan).
fn flipped(key: &str) -> String {
    let other = |from: &str, to: &str| key.strip_prefix(from).map(|rest| format!("{to}{rest}"));
    other("left", "right").or_else(|| other("right", "left")).unwrap_or_else(|| key.to_owned())
}
