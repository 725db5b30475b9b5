//! Kinds of firewalld files.

use trevlin_model::Export;

/// Kind of a firewalld file, by its root element or its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum FileKind {
    Zone,
    Policy,
    Service,
    IpSet,
    /// Rules that are handed to the kernel as they are (firewalld.direct(5)).
    Direct,
    Settings,
    /// Modules, ICMP types and programs that may request changes: no rules.
    Other,
}

pub(super) fn kind(export: &Export) -> Option<FileKind> {
    if export.file_name() == "firewalld.conf" {
        return Some(FileKind::Settings);
    }
    // The first element, behind a declaration and remarks.
    let mut rest = export.text().trim_start();
    loop {
        rest = match rest.get(..2) {
            Some("<?") => rest.split_once("?>")?.1.trim_start(),
            Some("<!") if rest.starts_with("<!--") => rest.split_once("-->")?.1.trim_start(),
            _ => break,
        };
    }
    let name: String = rest.strip_prefix('<')?.chars().take_while(char::is_ascii_alphabetic).collect();
    match name.as_str() {
        "zone" => Some(FileKind::Zone),
        "policy" => Some(FileKind::Policy),
        // Other programs have files that begin so; those of firewalld lie in its folders.
        "service" if export.path().contains("services/") => Some(FileKind::Service),
        "ipset" => Some(FileKind::IpSet),
        "direct" => Some(FileKind::Direct),
        "helper" | "icmptype" | "whitelist" if export.path().contains("firewalld/") => Some(FileKind::Other),
        _ => None,
    }
}
