//! The server that lines of Exim make: where it listens, whom it relays for, and its login.

use super::acl::{self, Kind, List, Lists};
use super::text::{Line, list};
use crate::reader::ReadContext;
use crate::serving::{self, unquoted};
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    TransportSecurity,
};
use trevlin_model::{Export, Families, Origin, Protocol, Setting};

/// Options of the main section, lists, and authenticators.
pub(super) struct Server<'l> {
    options: BTreeMap<&'l str, (&'l str, Origin)>,
    lists: Lists,
    /// Options of each authenticator, with the line of its name.
    logins: Vec<(BTreeMap<&'l str, &'l str>, Origin)>,
    /// Whether it delivers mail to other hosts.
    pub(super) delivers: bool,
    origin: Origin,
}

impl<'l> Server<'l> {
    /// The server of these lines.
    pub(super) fn of(lines: &'l [Line], top: Origin) -> Self {
        let mut found = Self {
            options: BTreeMap::new(),
            lists: Lists::new(),
            logins: Vec::new(),
            delivers: true,
            origin: lines.first().map_or(top, |line| line.origin),
        };
        let mut section = "";
        for line in lines {
            let text = line.text.as_str();
            let text = text.strip_prefix("hide ").unwrap_or(text).trim();
            if let Some(name) = text.strip_prefix("begin ") {
                section = name.trim();
                continue;
            }
            let (name, value) =
                text.split_once('=').map_or((text, "true"), |(name, value)| (name.trim(), value.trim()));
            match section {
                "" => {
                    let mut words = name.split_whitespace();
                    match (words.next(), words.next()) {
                        (Some("domainlist"), Some(own)) => {
                            found.lists.insert((Kind::Domains, own.to_owned()), listed(line, value));
                        }
                        (Some("hostlist"), Some(own)) => {
                            found.lists.insert((Kind::Hosts, own.to_owned()), listed(line, value));
                        }
                        (Some(name), None) => {
                            match name.strip_prefix("no_").or_else(|| name.strip_prefix("not_")) {
                                Some(name) => {
                                    found.options.insert(name, ("false", line.origin));
                                }
                                None => {
                                    found.options.insert(name, (unquoted(value), line.origin));
                                }
                            }
                        }
                        _ => {}
                    }
                }
                "authenticators" if text.ends_with(':') && !text.contains('=') => {
                    found.logins.push((BTreeMap::new(), line.origin));
                }
                "authenticators" => {
                    if let Some((options, _)) = found.logins.last_mut() {
                        options.insert(name, value);
                    }
                }
                _ => {}
            }
        }
        found
    }

    /// The service; none where no listener is started.
    pub(super) fn served(&self, lines: &[Line], export: &Export, around: &ReadContext<'_>) -> Option<Served> {
        let name = "SMTP server (Exim)";
        let mut served = Served::new(ServedKind::Mail, "Exim", name, &["exim4", "exim"], self.origin);
        // STARTTLS is offered unless the list is empty, with a certificate of its own where none is named (since version 4.88).
        let offers = self.options.get("tls_advertise_hosts").is_none_or(|(hosts, _)| !hosts.is_empty());
        served.endpoints = self.places(
            if offers { TransportSecurity::Optional } else { TransportSecurity::Plain },
            export,
            around,
        )?;
        let rules = self.options.get("acl_smtp_rcpt").copied();
        let relay = match rules {
            // What it accepts stays where nothing is delivered to other hosts.
            _ if !self.delivers => acl::Relay::default(),
            Some((name, _)) => acl::relaying(lines, name, &self.lists),
            // Without rules no recipient is accepted (Exim specification, 44.3).
            None => acl::Relay::default(),
        };
        for line in relay.open.iter().take(1) {
            let question = "Please state which clients may send mail to other domains: `exim -bh ADDRESS` shows whether a recipient is accepted.";
            served.open.push((question.to_owned(), *line));
        }
        let line = relay.sources.origins.first().copied().or(rules.map(|one| one.1)).unwrap_or(self.origin);
        let mut part = ServiceResource::new(PartKind::Relaying, "mail to other domains", line);
        part.sources = relay.sources;
        let login =
            if part.sources.is_nobody() { AuthRequirement::Refused } else { AuthRequirement::Address };
        part.login = Setting::Stated { value: login, origin: line };
        served.parts.push(part);
        served.parts.extend(self.login(name, offers));
        Some(served)
    }

    /// `local_interfaces` with `daemon_smtp_ports` and `tls_on_connect_ports`, or what the start's options say in their place.
    fn places(
        &self,
        carried: TransportSecurity,
        export: &Export,
        around: &ReadContext<'_>,
    ) -> Option<Vec<Endpoint>> {
        let get = |name: &str| self.options.get(name).copied();
        let wrapped: Vec<String> = get("tls_on_connect_ports").map(|one| list(one.0)).unwrap_or_default();
        let number = |text: &str| match text {
            "smtp" => Some(25),
            "smtps" | "submissions" => Some(465),
            "submission" => Some(587),
            other => other.parse::<u16>().ok(),
        };
        let wrapped: Vec<u16> = wrapped.iter().filter_map(|port| number(port)).collect();
        let ports = get("daemon_smtp_ports").or_else(|| get("daemon_smtp_port"));
        let mut numbers: Vec<u16> = ports
            .map_or_else(|| vec![25], |one| list(one.0).iter().filter_map(|port| number(port)).collect());
        let mut line = ports.map_or(self.origin, |one| one.1);
        // Without its macro the packaged line states nothing.
        let interfaces = get("local_interfaces").filter(|one| one.0 != "MAIN_LOCAL_INTERFACES");
        let mut interfaces = interfaces.map(|one| (one.0.to_owned(), one.1));
        for path in ["/etc/default/exim4", "/etc/sysconfig/exim"] {
            let Some(file) = around.find(path, export) else { continue };
            for text in serving::entries(file) {
                let (name, value) = text.split_once('=').unwrap_or((text, ""));
                let value = unquoted(value.trim());
                match name.trim() {
                    "QUEUERUNNER" if matches!(value, "queueonly" | "no" | "ppp") => return None,
                    "SMTPLISTENEROPTIONS" | "COMMONOPTIONS" => {
                        let mut words = value.split_whitespace();
                        while let Some(word) = words.next() {
                            let Some(own) = word.strip_prefix("-oX") else { continue };
                            let places = if own.is_empty() { words.next().unwrap_or_default() } else { own };
                            // Ports alone take the place of the ports; addresses that of the interfaces (Exim specification, 13.7).
                            let items = list(places);
                            if items.iter().all(|item| number(item).is_some()) {
                                numbers = items.iter().filter_map(|item| number(item)).collect();
                                line = file.origin_of(text);
                            } else {
                                interfaces = Some((places.to_owned(), file.origin_of(text)));
                            }
                        }
                    }
                    _ => {}
                }
            }
        }
        let six = get("disable_ipv6").is_none_or(|one| serving::truth(one.0) != Some(true));
        let families = if six { Families::Both } else { Families::V4 };
        let at = |port: u16, line: Origin| {
            let carried = if wrapped.contains(&port) { TransportSecurity::Encrypted } else { carried };
            Endpoint { families, ..Endpoint::everywhere(Protocol::TCP, port, carried, line) }
        };
        let mut found = Vec::new();
        let (text, origin) = interfaces.unwrap_or_else(|| (String::new(), line));
        for item in list(&text).iter().filter(|item| !item.is_empty()) {
            let (host, own) = placed(item);
            let Ok(address) = host.parse::<IpAddr>() else { continue };
            if !families.has(trevlin_model::Family::of(address)) {
                continue;
            }
            let ports = own.map_or_else(|| numbers.clone(), |port| vec![port]);
            found.extend(ports.into_iter().map(|port| at(port, origin).at(address)));
        }
        if text.is_empty() {
            found.extend(numbers.into_iter().map(|port| at(port, line)));
        }
        Some(found)
    }

    /// The login, where an authenticator serves clients.
    fn login(&self, name: &str, tls: bool) -> Option<ServiceResource> {
        const ONLY_TLS: [&str; 3] = ["tls_in_cipher", "tls_cipher", "tls_in_ver"];
        let needs_tls = |text: &str| ONLY_TLS.iter().any(|word| text.contains(word));
        let advertised = self.options.get("auth_advertise_hosts").copied();
        if advertised.is_some_and(|one| one.0.is_empty()) {
            return None;
        }
        let serves = |options: &BTreeMap<&str, &str>| {
            options.keys().any(|name| name.starts_with("server_") && *name != "server_set_id")
        };
        let all: Vec<_> = self.logins.iter().filter(|(options, _)| serves(options)).collect();
        let whole = advertised.filter(|one| needs_tls(one.0));
        let bare = |options: &BTreeMap<&str, &str>| {
            whole.is_none() && !options.get("server_advertise_condition").is_some_and(|text| needs_tls(text))
        };
        let clear = |options: &BTreeMap<&str, &str>| {
            !matches!(
                options.get("driver").copied(),
                Some("cram_md5" | "gsasl" | "spa" | "heimdal_gssapi" | "tls" | "external")
            )
        };
        let weakest =
            all.iter().max_by_key(|(options, _)| (bare(options) && clear(options), clear(options)))?;
        let (options, line) = (&weakest.0, weakest.1);
        if !tls && !bare(options) {
            return None;
        }
        let mut part = ServiceResource::new(PartKind::Whole, name, line);
        let login = if clear(options) { AuthRequirement::Password } else { AuthRequirement::Proof };
        part.login = Setting::Stated { value: login, origin: line };
        part.writes = Setting::Stated { value: true, origin: line };
        let protection = match (bare(options), tls) {
            (false, _) => Requirement::Required,
            (true, true) => Requirement::Offered,
            (true, false) => Requirement::Never,
        };
        part.encryption =
            Some(Setting::Stated { value: protection, origin: whole.map_or(line, |one| one.1) });
        if options.get("driver") == Some(&"cram_md5") {
            part.remarks.push((Remark::Md5Password, line));
        }
        Some(part)
    }
}

/// A named list with its lines, those of its macros first.
fn listed(line: &Line, value: &str) -> List {
    // Lines of a package that was not exported are at no place of their own.
    let own = Some(line.origin).filter(|origin| origin.end > origin.start || line.stated.is_empty());
    List { text: value.to_owned(), lines: line.stated.iter().copied().chain(own).collect() }
}

/// `192.0.2.9`, `192.0.2.9.587`, `[192.0.2.9]:587`: the address, and its own port (Exim specification, 13.5).
fn placed(item: &str) -> (&str, Option<u16>) {
    if let Some((host, port)) = item.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        return (host, port.trim_start_matches([':', '.']).parse().ok());
    }
    match item.rsplit_once('.') {
        Some((host, port)) if item.parse::<IpAddr>().is_err() => (host, port.parse().ok()),
        _ => (item, None),
    }
}
