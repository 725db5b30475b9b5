//! Collection of exports: a shell script for the administrator of a machine, which copies what the readers read and nothing else.
//!
//! The script is POSIX sh (also of BusyBox), reads only, and ends with checksums of all it collected.

mod places;

pub use places::is_collected_place;

use serde::Deserialize;
use std::fmt::Write as _;

/// Name of the file with the checksums of a collected export: lines of sha256sum(1), paths relative to its folder.
pub const MANIFEST: &str = "manifest.sha256";

/// Kind of system that a script is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum System {
    /// Debian and its relatives.
    Debian,
    /// Red Hat and its relatives.
    RedHat,
    /// OpenWrt: BusyBox, settings below `/etc/config`.
    OpenWrt,
    /// The BSDs: programs from ports have their files below `/usr/local/etc`.
    Bsd,
}

impl System {
    /// Its name in the head of the script.
    fn title(self) -> &'static str {
        match self {
            Self::Debian => "Debian and its relatives",
            Self::RedHat => "Red Hat and its relatives",
            Self::OpenWrt => "OpenWrt",
            Self::Bsd => "BSD",
        }
    }
}

/// Purpose of a machine, which decides what is collected from it.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Role {
    /// Name, as the command line takes it. The role `base` is part of every script.
    pub name: String,
    /// Name, as a phrase.
    pub title: String,
    /// Formats of the files.
    pub formats: Vec<String>,
    paths: Vec<String>,
    #[serde(default)]
    linux: Vec<String>,
    #[serde(default)]
    redhat: Vec<String>,
    #[serde(default)]
    openwrt: Vec<String>,
    #[serde(default)]
    bsd: Vec<String>,
    /// Paths below each home.
    #[serde(default)]
    homes: Vec<String>,
    /// Names of outputs and their commands.
    #[serde(default)]
    commands: Vec<(String, String)>,
    /// Beginning of the names of outputs, a command that lists names, and a command to run with each.
    #[serde(default)]
    each: Vec<(String, String, String)>,
}

impl Role {
    /// Its paths on every system.
    fn all_paths(&self) -> impl Iterator<Item = &String> {
        [&self.paths, &self.linux, &self.redhat, &self.openwrt, &self.bsd].into_iter().flatten()
    }

    /// Its paths on a system.
    fn paths(&self, system: System) -> Vec<String> {
        let own: [&[String]; 2] = match system {
            System::Debian => [&self.linux, &[]],
            System::RedHat => [&self.linux, &self.redhat],
            System::OpenWrt => [&self.linux, &self.openwrt],
            System::Bsd => [&[], &self.bsd],
        };
        let mut all: Vec<String> = Vec::new();
        for path in &self.paths {
            all.push(path.clone());
            if let Some(below) = path.strip_prefix("/etc/").filter(|_| system == System::Bsd) {
                all.push(format!("/usr/local/etc/{below}"));
            }
        }
        all.extend(own.into_iter().flatten().cloned());
        all
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    role: Vec<Role>,
}

/// All roles, `base` first.
#[must_use]
pub fn roles() -> Vec<Role> {
    let table: Result<Table, _> = toml::from_str(include_str!("../../tables/collecting.toml"));
    table.map(|table| table.role).unwrap_or_default()
}

/// Role that every script has.
pub const BASE: &str = "base";

/// Width of a line of paths in the script.
const WIDTH: usize = 110;

/// The script for a system: for the roles of these names, all where there are none. Private keys of hosts stay on the machine unless
/// `private_keys`.
#[must_use]
pub fn script(system: System, wanted: &[String], private_keys: bool) -> String {
    let roles: Vec<Role> = roles()
        .into_iter()
        .filter(|role| role.name == BASE || wanted.is_empty() || wanted.contains(&role.name))
        .collect();
    let mut body = String::new();
    for role in &roles {
        let _ = writeln!(body, "# {}: {}", role.name, role.title);
        let mut line = "take".to_owned();
        for path in role.paths(system).iter().map(|path| path.trim_start_matches('/')) {
            if line.len() + path.len() > WIDTH {
                let _ = writeln!(body, "{line} \\");
                line = "   ".to_owned();
            }
            let _ = write!(line, " {path}");
        }
        let _ = writeln!(body, "{line}");
        if !role.homes.is_empty() {
            let paths: Vec<_> = role.homes.iter().map(|path| format!("\"$home\"/{path}")).collect();
            let _ = writeln!(body, "homes | while IFS= read -r home; do\n    take {}\ndone", paths.join(" "));
        }
        for (into, command) in &role.commands {
            let _ = writeln!(body, "run {into} {command}");
        }
        for (into, list, command) in &role.each {
            let _ = writeln!(
                body,
                "for each in $({list} 2> /dev/null); do run \"{into}$each.txt\" {command} \"$each\"; done"
            );
        }
        body.push('\n');
    }
    let names = roles.iter().map(|role| role.name.as_str()).collect::<Vec<_>>().join(" ");
    include_str!("collect.sh")
        .replace("@FOR@", system.title())
        .replace("@NAMES@", if wanted.is_empty() { "all" } else { &names })
        .replace("@KEYS@", if private_keys { "yes" } else { "no" })
        .replace("@ROLES@\n", &body)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::READERS;

    /// Every format has a role that collects it, but for those that no file of a machine is in.
    #[test]
    fn every_format_is_collected() {
        let roles = roles();
        let known = |name: &str| roles.iter().any(|role| role.formats.iter().any(|one| one == name));
        for reader in READERS.iter().filter(|reader| !["sheet", "yang"].contains(&reader.name)) {
            assert!(known(reader.name), "{} is collected by no role of tables/collecting.toml", reader.name);
        }
        for format in roles.iter().flat_map(|role| &role.formats) {
            assert!(READERS.iter().any(|reader| reader.name == format), "{format} is no format");
        }
    }

    #[test]
    fn systems_and_roles_differ() {
        let all = script(System::Debian, &[], false);
        assert!(all.contains("\"roles: all\""), "{all}");
        assert!(all.contains(" etc/netplan") && all.contains(" etc/nginx"), "{all}");
        assert!(!all.contains('@') || !all.contains("@ROLES@"), "{all}");
        let web = script(System::Bsd, &["web".to_owned()], true);
        assert!(web.contains(" usr/local/etc/nginx") && web.contains(" etc/ssh"), "{web}");
        assert!(!web.contains(" etc/netplan") && !web.contains(" etc/openvpn"), "{web}");
        assert!(web.contains("private_keys=yes"), "{web}");
        assert!(web.contains("\"roles: base web\""), "{web}");
        assert!(script(System::OpenWrt, &["names".to_owned()], false).contains(" etc/config"));
    }
}
