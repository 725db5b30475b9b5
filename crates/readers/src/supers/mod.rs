//! Super-servers: they listen for other programs and start them for each connection (xinetd.conf(5), inetd(8)).

pub(crate) mod inetd;
pub(crate) mod xinetd;

use crate::files::hosts_access;
use crate::iptables::services;
use crate::programs::options::{Word, file_name};
use crate::programs::{tftpd, vnc};
use crate::reader::{ReadContext, Reading};
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Families, Family, Origin, Protocol, Setting};

/// Services that a super-server answers by itself (RFC 862, 863, 864, 867, 868).
const INTERNAL: [(&str, &str); 5] = [
    ("echo", "echo service"),
    ("discard", "discard service"),
    ("chargen", "character generator"),
    ("daytime", "daytime service"),
    ("time", "time service (RFC 868)"),
];

/// Ports of services that a super-server starts, by their name (services(5)), beside those that rules use.
const PORTS: [(&str, u16); 26] = [
    ("tcpmux", 1),
    ("echo", 7),
    ("discard", 9),
    ("systat", 11),
    ("daytime", 13),
    ("netstat", 15),
    ("qotd", 17),
    ("chargen", 19),
    ("finger", 79),
    ("pop2", 109),
    ("auth", 113),
    ("ident", 113),
    ("imaps", 993),
    ("pop3s", 995),
    ("exec", 512),
    ("login", 513),
    ("shell", 514),
    ("talk", 517),
    ("ntalk", 518),
    ("rsync", 873),
    ("swat", 901),
    ("cvspserver", 2401),
    ("nrpe", 5666),
    ("git", 9418),
    ("amanda", 10080),
    ("svn", 3690),
];

/// The port of a service by its name or number.
fn port(name: &str) -> Option<u16> {
    let listed = || PORTS.iter().find(|(known, _)| *known == name).map(|(_, port)| *port);
    name.parse().ok().or_else(listed).or_else(|| services().get(name).copied())
}

/// Adds a service; one that differs in its transport protocol alone is the same.
fn add(served: Served, reading: &mut Reading) {
    let same = |one: &&mut Served| {
        let both = one.parts.iter().zip(&served.parts);
        one.name == served.name
            && one.kind == served.kind
            && one.parts.len() == served.parts.len()
            && both.into_iter().all(|(one, two)| one.sources == two.sources && one.path == two.path)
    };
    match reading.facts.served.iter_mut().find(same) {
        Some(one) => one.endpoints.extend(served.endpoints),
        None => reading.facts.served.push(served),
    }
}

/// A service of a super-server.
struct Started<'a> {
    /// The super-server.
    program: &'static str,
    /// Units that start it.
    units: &'static [&'static str],
    /// Name of the service.
    name: &'a str,
    /// Transport protocol.
    protocol: Protocol,
    /// IP versions.
    families: Families,
    /// Addresses that it listens at; every one where there is none.
    addresses: Vec<std::net::IpAddr>,
    /// Port.
    port: u16,
    /// The program with its arguments; none for services that the super-server answers by itself.
    words: Vec<Word<'a>>,
    /// Clients that the super-server accepts.
    sources: Sources,
    /// Name that lists of clients have for it; none where they are not asked.
    listed: Option<&'a str>,
    /// The line.
    origin: Origin,
}

impl<'a> Started<'a> {
    fn places(&self) -> Vec<Endpoint> {
        let place = Endpoint {
            families: self.families,
            ..Endpoint::everywhere(self.protocol, self.port, TransportSecurity::Plain, self.origin)
        };
        if self.addresses.is_empty() {
            return vec![place];
        }
        let fits = |address: &&std::net::IpAddr| self.families.has(Family::of(**address));
        self.addresses.iter().filter(fits).map(|address| place.clone().at(*address)).collect()
    }

    /// The service; none where another file of the device describes it.
    fn served(self, export: &Export, around: &ReadContext<'_>) -> Option<Served> {
        let places = self.places();
        let program = self.words.first().map(|word| file_name(&word.text).to_owned()).unwrap_or_default();
        let place = places.first()?.clone();
        let own_file = |names: &[&str]| names.iter().any(|name| around.find(name, export).is_some());
        let mut served = match program.as_str() {
            "in.tftpd" | "tftpd" => tftpd::behind(&self.words[1..], place, export, around, self.origin),
            "Xvnc" | "Xtigervnc" => vnc::behind(&self.words[1..], place, self.origin),
            "rsync" if own_file(&["/etc/rsyncd.conf"]) => return None,
            "proftpd" if own_file(&["/etc/proftpd/proftpd.conf", "/etc/proftpd.conf"]) => return None,
            "smbd" | "nmbd" if own_file(&["/etc/samba/smb.conf"]) => return None,
            _ => self.plain(&program),
        };
        served.program = self.program;
        served.units = self.units;
        served.origin = self.origin;
        served.endpoints = places
            .into_iter()
            .map(|place| Endpoint {
                carried: served.endpoints.first().map_or(place.carried, |one| one.carried),
                ..place
            })
            .collect();
        let listed = self.listed.and_then(|daemon| hosts_access::admitted(around, export, daemon));
        for part in &mut served.parts {
            part.sources = part.sources.and(&self.sources);
            if let Some(listed) = &listed {
                part.sources = part.sources.and(listed);
            }
        }
        Some(served)
    }

    fn plain(&self, program: &str) -> Served {
        let internal = INTERNAL.iter().find(|(name, _)| self.words.is_empty() && *name == self.name);
        let (kind, name, login, remark) = match program.trim_start_matches("in.") {
            "" => {
                let name = internal.map_or_else(|| format!("service {}", self.name), |one| one.1.to_owned());
                (ServedKind::Other, name, Some(AuthRequirement::Nothing), None)
            }
            "telnetd" | "utelnetd" => (
                ServedKind::Telnet,
                "Telnet server".into(),
                Some(AuthRequirement::Password),
                Some(Remark::ClearPassword),
            ),
            "ftpd" | "vsftpd" | "proftpd" | "pure-ftpd" | "tnftpd" => {
                (ServedKind::Transfers, "FTP server".into(), None, Some(Remark::ClearPassword))
            }
            "rshd" => (
                ServedKind::Other,
                "remote shell (rsh)".into(),
                Some(AuthRequirement::Address),
                Some(Remark::Administration),
            ),
            "rlogind" => (
                ServedKind::Other,
                "remote login (rlogin)".into(),
                Some(AuthRequirement::Address),
                Some(Remark::Administration),
            ),
            "rexecd" => (
                ServedKind::Other,
                "remote execution (rexec)".into(),
                Some(AuthRequirement::Password),
                Some(Remark::ClearPassword),
            ),
            "fingerd" => (ServedKind::Other, "finger service".into(), Some(AuthRequirement::Nothing), None),
            "rsync" => (ServedKind::Modules, "rsync server".into(), None, None),
            other => (ServedKind::Other, format!("service {} ({other})", self.name), None, None),
        };
        let mut served = Served::new(kind, self.program, name, self.units, self.origin);
        served.endpoints = self.places();
        let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), self.origin);
        if let Some(login) = login {
            part.login = Setting::default_of(login, "the service", "its protocol");
        }
        part.writes = Setting::Stated { value: remark == Some(Remark::Administration), origin: self.origin };
        part.remarks.extend(remark.map(|remark| (remark, self.origin)));
        served.parts.push(part);
        served
    }
}

#[cfg(test)]
mod tests;
