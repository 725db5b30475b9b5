//! Readers of web servers and reverse proxies.

pub(crate) mod apache;
mod exemptions;
pub(crate) mod haproxy;
pub(crate) mod nginx;

use trevlin_model::certificate::{CertificateFile, CertificateUse};
use trevlin_model::served::{
    AuthRequirement, BypassKind, LoginBypass, PartKind, Remark, ServiceResource, Sources,
};
use trevlin_model::{Origin, Setting};

/// Words in a path that indicate administration pages of a server, a device or its data.
const ADMINISTRATION: [&str; 17] = [
    "admin",
    "administrator",
    "manage",
    "manager",
    "management",
    "console",
    "setup",
    "phpmyadmin",
    "adminer",
    "pgadmin",
    "webadmin",
    "config",
    "configuration",
    "controller",
    "dashboard",
    "wp-admin",
    "cgi-bin",
];

/// Whether a path is that of pages for looking after something.
fn is_administration(path: &str) -> bool {
    path.split(['/', '.', '_', '^', '$', '~', '(', ')', '|', '?', '*'])
        .any(|word| ADMINISTRATION.contains(&word.to_ascii_lowercase().as_str()))
}

/// A certificate file that a site shows, as a directive names it.
fn shown(path: &str, origin: Origin) -> CertificateFile {
    CertificateFile { purpose: CertificateUse::Own, path: Some(path.to_owned()), origin }
}

/// One way to obtain access: the sources, and the authentication required of them.
#[derive(Debug, Clone)]
struct Way {
    sources: Sources,
    asked: AuthRequirement,
    origin: Origin,
}

/// The requirements of both ways together.
fn both(one: &Way, other: &Way) -> Way {
    let stronger = if one.asked >= other.asked { one } else { other };
    Way { sources: one.sources.and(&other.sources), asked: stronger.asked, origin: stronger.origin }
}

/// A part for each thing that is asked: where an address alone is enough, it is one part, and the login for all others another.
fn parts_of(part: &ServiceResource, ways: &[Way]) -> Vec<ServiceResource> {
    let mut asked: Vec<AuthRequirement> = ways.iter().map(|way| way.asked).collect();
    asked.sort();
    asked.dedup();
    let mut found: Vec<ServiceResource> = Vec::new();
    let mut taken: Vec<trevlin_model::IpRange> = Vec::new();
    for asked in asked {
        let mut sources = Sources::default();
        let mut origin = None;
        for way in ways.iter().filter(|way| way.asked == asked) {
            sources.ranges.extend(way.sources.ranges.iter().copied());
            sources.names.extend(way.sources.names.iter().cloned());
            sources.origins.extend(way.sources.origins.iter().copied());
            origin.get_or_insert(way.origin);
        }
        sources = sources.without(&taken);
        if sources.is_nobody() {
            continue;
        }
        taken.extend(sources.ranges.iter().copied());
        let mut one = part.clone();
        one.login = Setting::Stated { value: asked, origin: origin.unwrap_or(part.origin) };
        // A login beside a condition that any client meets protects nothing.
        let login = ways.iter().find(|way| way.asked >= AuthRequirement::Password);
        if let Some(login) = login.filter(|_| asked == AuthRequirement::Nothing && sources.is_everybody()) {
            one.bypass = Some(LoginBypass {
                kind: BypassKind::Condition,
                login_origin: login.origin,
                origin: origin.unwrap_or(part.origin),
            });
        }
        one.sources = sources;
        found.push(one);
    }
    found
}

/// A page without authentication and open to any address, until a statement restricts it.
fn page(path: &str, origin: Origin) -> ServiceResource {
    let mut part = ServiceResource::new(PartKind::Page, path, origin);
    if is_administration(path) {
        part.remarks.push((Remark::Administration, origin));
    }
    part
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_of_administration() {
        for (path, wanted) in [
            ("/admin/", true),
            ("/phpMyAdmin", true),
            ("~ ^/manager/", true),
            ("/administrative", false),
            ("/", false),
            ("/tickets", false),
        ] {
            assert_eq!(is_administration(path), wanted, "{path}");
        }
    }
}
