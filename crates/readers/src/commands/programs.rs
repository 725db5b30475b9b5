//! Programs whose commands are read.

use trevlin_model::Family;

/// Programs that set up a packet filter in other ways than by rules of iptables, with what shows that they only list.
pub(super) const OTHER_FILTERS: [(&str, &[&str]); 5] = [
    ("nft", &["list", "-f", "monitor", "-c"]),
    ("ufw", &["status", "show", "version"]),
    ("firewall-cmd", &["--state", "--list-all", "--reload"]),
    ("ipset", &["list", "save", "restore", "test"]),
    ("ebtables", &["-L"]),
];

/// The IP version of a program that changes tables, where it is one.
pub(super) fn family(program: &str) -> Option<Family> {
    match program.trim_end_matches("-legacy").trim_end_matches("-nft") {
        "iptables" => Some(Family::V4),
        "ip6tables" => Some(Family::V6),
        _ => None,
    }
}

/// Whether a program sets up a packet filter.
pub(super) fn is_filter_program(program: &str) -> bool {
    family(program.trim_end_matches("-restore")).is_some()
        || OTHER_FILTERS.iter().any(|(name, _)| *name == program)
}

/// Whether a program is one whose commands are read, so that it is there.
pub(super) fn is_read(path: &str) -> bool {
    let program = path.rsplit('/').next().unwrap_or_default();
    is_filter_program(program) || matches!(program, "sysctl" | "ip" | "sh" | "bash")
}
