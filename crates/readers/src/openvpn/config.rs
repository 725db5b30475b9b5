//! Settings of the directives, before defaults and helper directives are applied.

use super::lines::Directive;
use super::proof;
use crate::addresses;
use crate::pem;
use crate::reader::Reading;
use ipnet::{Ipv4Net, Ipv6Net};
use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;
use trevlin_model::certificate::{CertificateFile, CertificateUse};
use trevlin_model::secret::SecretKind;
use trevlin_model::{
    CertificateRequirement, Export, Facts, MalformedAddress, Origin, PasswordCheck, PasswordSource,
    Reference, Secret, SecretRecord, Setting,
};

/// A value and the directive that set it last.
pub(super) type Said<T> = Option<(T, Origin)>;

/// Directives that the block of a connection takes (openvpn(8), INLINE FILE SUPPORT).
const OF_CONNECTION: [&str; 29] = [
    "bind",
    "connect-retry",
    "connect-retry-max",
    "connect-timeout",
    "explicit-exit-notify",
    "float",
    "fragment",
    "http-proxy",
    "http-proxy-option",
    "key-direction",
    "link-mtu",
    "local",
    "lport",
    "mssfix",
    "mtu-disc",
    "nobind",
    "port",
    "proto",
    "remote",
    "rport",
    "server-poll-timeout",
    "socks-proxy",
    "tls-auth",
    "tls-crypt",
    "tls-crypt-v2",
    "tun-mtu",
    "tun-mtu-extra",
    "tun-mtu-max",
    "max-packet-size",
];

/// Address layout inside the tunnel (openvpn(8), `--topology`).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Topology {
    Net30,
    PointToPoint,
    Subnet,
}

/// `server-bridge gateway mask first last`, or one of its forms without addresses.
#[derive(Debug, Clone, Copy)]
pub(super) struct Bridge {
    pub(super) gateway: Ipv4Addr,
    pub(super) first: Ipv4Addr,
    pub(super) last: Ipv4Addr,
}

/// The directives of a file and of those it reads in.
#[derive(Debug, Default)]
pub(super) struct Config {
    pub(super) dev: Said<String>,
    pub(super) dev_type: Said<String>,
    pub(super) mode_server: Said<()>,
    pub(super) client: Said<()>,
    pub(super) pull: Said<()>,
    pub(super) tls_server: Said<()>,
    pub(super) tls_client: Said<()>,
    pub(super) remote: Said<String>,
    pub(super) no_bind: Said<()>,
    pub(super) proto: Said<String>,
    pub(super) port: Said<u16>,
    pub(super) local: Said<String>,
    pub(super) topology: Said<Topology>,
    pub(super) server: Said<(Ipv4Net, bool)>,
    /// A server directive is present, valid or not.
    pub(super) meant_as_server: Said<()>,
    pub(super) server_ipv6: Said<Ipv6Net>,
    pub(super) bridge: Said<Option<Bridge>>,
    pub(super) ifconfig: Said<(Ipv4Addr, String)>,
    pub(super) ifconfig_ipv6: Said<String>,
    pub(super) pool: Said<(Ipv4Addr, Ipv4Addr)>,
    pub(super) pool_ipv6: Said<Ipv6Net>,
    pub(super) certificate: Said<CertificateRequirement>,
    pub(super) passwords: Vec<PasswordCheck>,
    pub(super) password_optional: Said<()>,
    pub(super) name_from_user: Said<()>,
    pub(super) shared_key: Said<()>,
    pub(super) secrets: Vec<Arc<SecretRecord>>,
    /// Certificates and keys embedded in the configuration.
    pub(super) inline: Facts,
    pub(super) certificates: Vec<CertificateFile>,
    /// Files with a password, and whether the file contains it alone, without a user name before it.
    pub(super) files_with_passwords: Vec<(String, bool)>,
    pub(super) missing: Vec<Reference>,
    pub(super) malformed: Vec<MalformedAddress>,
    pub(super) settings: Vec<(String, Setting<String>)>,
    pub(super) ignored: Vec<String>,
    /// An inline block that is not closed: the daemon does not start.
    pub(super) broken: Said<String>,
    pub(super) first: Option<Origin>,
}

impl Config {
    /// Whether the tunnel has neither TLS nor a key, so that it protects nothing.
    pub(super) fn is_clear(&self) -> bool {
        let by_tls = self.meant_as_server.is_some()
            || self.mode_server.is_some()
            || self.client.is_some()
            || self.tls_client.is_some()
            || self.tls_server.is_some();
        !by_tls && self.shared_key.is_none()
    }

    /// Whether the directives make a tunnel: every one names its device.
    pub(super) fn is_tunnel(&self) -> bool {
        self.dev.is_some()
            && (self.meant_as_server.is_some()
                || self.mode_server.is_some()
                || self.client.is_some()
                || self.tls_client.is_some()
                || self.tls_server.is_some()
                || self.remote.is_some()
                || self.shared_key.is_some()
                || self.port.is_some()
                || self.proto.is_some())
            || self.meant_as_server.is_some()
    }

    pub(super) fn missing_include(&mut self, path: &str, origin: Origin) {
        self.missing.push(Reference { path: path.to_owned(), configuration: true, unsaid: None, origin });
    }

    /// Processes one directive. Returns the error, if any.
    pub(super) fn take(&mut self, directive: &Directive<'_>, export: &Export, keep: bool) -> Option<String> {
        let at = directive.origin;
        self.first.get_or_insert(at);
        if let Some(inline) = directive.inline {
            self.inline(directive, inline, export);
        }
        let first = directive.arg(0);
        match directive.name.as_str() {
            "dev" => self.dev = first.map(|name| (name.to_owned(), at)),
            "dev-type" => self.dev_type = first.map(|name| (name.to_owned(), at)),
            "mode" if first == Some("server") => self.mode_server = Some(((), at)),
            "mode" => self.mode_server = None,
            "client" => self.client = Some(((), at)),
            "pull" => self.pull = Some(((), at)),
            "tls-server" => self.tls_server = Some(((), at)),
            "tls-client" => self.tls_client = Some(((), at)),
            "remote" => self.remote = first.map(|host| (host.to_owned(), at)),
            // A block states another way to the server, with settings of its own.
            "connection" => {
                let lines = directive.inline.unwrap_or_default().lines();
                let mut unknown = None;
                for line in lines.filter(|line| !line.trim_start().starts_with(['#', ';'])) {
                    let word = line.split_whitespace().next();
                    unknown = unknown.or(word.filter(|word| !OF_CONNECTION.contains(word)));
                    if let Some(host) = line.trim().strip_prefix("remote ") {
                        let origin = export.origin_of(line.trim());
                        self.remote.get_or_insert_with(|| (host.trim().to_owned(), origin));
                        let value = host.split_whitespace().collect::<Vec<_>>().join(" ");
                        self.settings.push(("remote".into(), Setting::Stated { value, origin }));
                    }
                }
                if let Some(word) = unknown {
                    return Some(format!("`{word}` is not a directive of a connection block"));
                }
            }
            "nobind" => self.no_bind = Some(((), at)),
            "proto" => self.proto = first.map(|name| (name.to_owned(), at)),
            "port" | "lport" => match first.and_then(|port| port.parse().ok()) {
                Some(port) => self.port = Some((port, at)),
                None => return Some("expected a port number".into()),
            },
            "local" => self.local = first.map(|address| (address.to_owned(), at)),
            "topology" => match first {
                Some("net30") => self.topology = Some((Topology::Net30, at)),
                Some("p2p") => self.topology = Some((Topology::PointToPoint, at)),
                Some("subnet") => self.topology = Some((Topology::Subnet, at)),
                _ => return Some("expected net30, p2p or subnet".into()),
            },
            "ca" | "cert" => {
                let purpose =
                    if directive.name == "ca" { CertificateUse::Authority } else { CertificateUse::Own };
                let path = directive.inline.is_none().then(|| first.unwrap_or_default().to_owned());
                // The last one of a kind wins.
                self.certificates.retain(|one| one.purpose != purpose);
                self.certificates.push(CertificateFile { purpose, path, origin: at });
            }
            "setenv"
            | "push"
            | "tls-auth"
            | "tls-crypt"
            | "tls-crypt-v2"
            | "key"
            | "pkcs12"
            | "config"
            | "auth-gen-token-secret" => {}
            "server" | "server-ipv6" | "server-bridge" | "ifconfig" | "ifconfig-ipv6" | "ifconfig-pool"
            | "ifconfig-ipv6-pool" => return self.addresses(directive, export),
            "verify-client-cert" => match first {
                None | Some("require") => self.certificate = Some((CertificateRequirement::Required, at)),
                Some("none") => self.certificate = Some((CertificateRequirement::NotAsked, at)),
                Some("optional") => self.certificate = Some((CertificateRequirement::Optional, at)),
                Some(_) => return Some("expected none, optional or require".into()),
            },
            "client-cert-not-required" => self.certificate = Some((CertificateRequirement::NotAsked, at)),
            "auth-user-pass-verify" => self.password(PasswordSource::Script, at),
            "management-client-auth" => self.password(PasswordSource::Management, at),
            "plugin" => {
                if let Some(source) = proof::plugin(first.unwrap_or_default(), directive) {
                    self.password(source, at);
                }
            }
            "auth-user-pass-optional" => self.password_optional = Some(((), at)),
            "username-as-common-name" => self.name_from_user = Some(((), at)),
            "secret" => self.shared_key = Some(((), at)),
            "auth-user-pass" | "askpass" | "http-proxy-user-pass" => {
                let alone = directive.name == "askpass";
                self.files_with_passwords.extend(first.map(|path| (path.to_owned(), alone)));
            }
            "management" => {
                self.files_with_passwords.extend(directive.arg(2).map(|path| (path.to_owned(), true)))
            }
            "ignore-unknown-option" => {
                self.ignored.extend(directive.args.iter().map(|(name, _)| name.clone()))
            }
            _ => {}
        }
        if keep
            || matches!(
                directive.name.as_str(),
                "push"
                    | "remote"
                    | "tls-auth"
                    | "tls-crypt"
                    | "tls-crypt-v2"
                    | "management"
                    | "auth-user-pass"
            )
        {
            self.settings
                .push((directive.name.clone(), Setting::Stated { value: directive.joined(), origin: at }));
        }
        None
    }

    fn password(&mut self, source: PasswordSource, origin: Origin) {
        self.passwords.push(PasswordCheck { source, optional: false, origin });
    }

    /// Secrets embedded in the configuration.
    fn inline(&mut self, directive: &Directive<'_>, inline: &str, export: &Export) {
        let origin = export.origin_of(inline);
        let kind = match directive.name.as_str() {
            "key" | "pkcs12" => SecretKind::PrivateKey,
            "secret" | "tls-auth" | "tls-crypt" | "tls-crypt-v2" | "auth-gen-token-secret" => {
                SecretKind::SharedKey
            }
            "auth-user-pass" | "http-proxy-user-pass" => SecretKind::OwnPassword,
            "ca" | "cert" | "extra-certs" => {
                let mut reading = Reading::of(export);
                pem::take(export, inline, "", &mut reading);
                self.inline.absorb(*reading.facts);
                return;
            }
            _ => return,
        };
        let owner = format!("{} in {}", directive.name, export.file_name());
        if kind == SecretKind::PrivateKey {
            let mut reading = Reading::of(export);
            pem::take(export, inline, &owner, &mut reading);
            if !reading.facts.private_keys.is_empty() {
                self.inline.absorb(*reading.facts);
                return;
            }
        }
        if kind == SecretKind::OwnPassword {
            self.secrets.extend(proof::second_line(export, inline, &owner));
            return;
        }
        let value: Vec<_> =
            inline.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#')).collect();
        self.secrets.push(Arc::new(SecretRecord {
            secret: Secret::new(value.join("\n")),
            kind,
            owner,
            origin,
        }));
    }

    /// Directives that assign addresses.
    fn addresses(&mut self, directive: &Directive<'_>, export: &Export) -> Option<String> {
        let at = directive.origin;
        if directive.name.starts_with("server") {
            self.meant_as_server = Some(((), at));
        }
        let mut v4 = |position: usize| -> Option<Ipv4Addr> {
            let (text, span) = directive.args.get(position)?;
            match text.parse() {
                Ok(address) => Some(address),
                Err(_) => {
                    let origin = export.origin(span.clone());
                    self.malformed.push(MalformedAddress { why: addresses::what_is_wrong(text), origin });
                    None
                }
            }
        };
        match directive.name.as_str() {
            "server" => {
                let (Some(network), Some(mask)) = (v4(0), v4(1)) else {
                    self.broken = Some(("`server` needs a network and a mask".into(), at));
                    return Some(
                        self.wrong("expected `server network mask`, such as `server 10.4.0.0 255.255.255.0`"),
                    );
                };
                match addresses::v4_with_mask(&network.to_string(), &mask.to_string()) {
                    Some(net) if net.network() == network => {
                        self.server = Some(((net, directive.arg(2) == Some("nopool")), at));
                    }
                    _ => {
                        let why = format!("`{network} {mask}` is not a network with its mask");
                        self.malformed.push(MalformedAddress { why: why.clone(), origin: at });
                        self.broken = Some((why.clone(), at));
                        return Some(why);
                    }
                }
            }
            "server-bridge" => match directive.args.len() {
                4 => {
                    let (Some(gateway), Some(_), Some(first), Some(last)) = (v4(0), v4(1), v4(2), v4(3))
                    else {
                        self.broken = Some(("`server-bridge` has a malformed address".into(), at));
                        return Some(self.wrong("expected `server-bridge gateway mask first last`"));
                    };
                    self.bridge = Some((Some(Bridge { gateway, first, last }), at));
                }
                0 | 1 => self.bridge = Some((None, at)),
                _ => return Some("expected `server-bridge gateway mask first last`".into()),
            },
            "ifconfig" => {
                let local = v4(0)?;
                self.ifconfig = Some(((local, directive.arg(1).unwrap_or_default().to_owned()), at));
            }
            "ifconfig-ipv6" => self.ifconfig_ipv6 = directive.arg(0).map(|address| (address.to_owned(), at)),
            "ifconfig-pool" => {
                let (Some(first), Some(last)) = (v4(0), v4(1)) else {
                    return Some(self.wrong("expected `ifconfig-pool first last`"));
                };
                if first > last {
                    let why = format!("`{first} {last}` is a reversed range");
                    self.malformed.push(MalformedAddress { why: why.clone(), origin: at });
                    self.broken = Some((why.clone(), at));
                    return Some(why);
                }
                self.pool = Some(((first, last), at));
            }
            "server-ipv6" | "ifconfig-ipv6-pool" => {
                let net = directive.arg(0).and_then(|text| text.parse::<Ipv6Net>().ok());
                let Some(net) = net else {
                    return Some(format!(
                        "expected an IPv6 prefix, such as `{} 2001:db8::/64`",
                        directive.name
                    ));
                };
                let said = Some((net, at));
                if directive.name == "server-ipv6" { self.server_ipv6 = said } else { self.pool_ipv6 = said }
            }
            _ => {}
        }
        None
    }

    /// The mistake found last, or the form that was expected.
    fn wrong(&self, expected: &str) -> String {
        self.malformed.last().map_or_else(|| expected.to_owned(), |bad| format!("{}; {expected}", bad.why))
    }

    /// The address that `local` names, where it is one.
    pub(super) fn local_address(&self) -> Setting<Option<IpAddr>> {
        match &self.local {
            None => Setting::default_of(None, super::DAEMON, "openvpn(8), --local"),
            Some((text, origin)) => match text.parse::<IpAddr>() {
                Ok(address) if address.is_unspecified() => Setting::Stated { value: None, origin: *origin },
                Ok(address) => Setting::Stated { value: Some(address), origin: *origin },
                Err(_) => Setting::Unknown { why: format!("`local {text}` is a host name") },
            },
        }
    }
}
