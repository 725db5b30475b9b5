//! The distribution of a Linux system, where its files state it: some settings have other defaults there, and programs other parts.

use crate::reader::ReadContext;
use trevlin_model::Export;

/// A distribution with its release, as far as its files state it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Distribution {
    /// Debian, by the number of its release; none for one in preparation.
    Debian(Option<u32>),
    /// A distribution made from Debian, such as Ubuntu.
    LikeDebian,
    /// Fedora and its relatives, by the number of the release of Red Hat's or Fedora's that it follows.
    RedHat(Option<u32>),
    /// Another.
    Other,
    /// No file states it.
    NotKnown,
}

impl Distribution {
    /// The distribution by `/etc/os-release` (os-release(5)), or by the file with the release that each has.
    pub(crate) fn of(around: &ReadContext<'_>, export: &Export) -> Self {
        let release =
            ["/etc/os-release", "/usr/lib/os-release"].iter().find_map(|path| around.find(path, export));
        if let Some(file) = release {
            let value = |key: &str| {
                let mut lines = file.lines().filter_map(|line| line.text.trim().split_once('='));
                lines
                    .find(|(name, _)| *name == key)
                    .map(|(_, value)| value.trim_matches(['"', '\'']).to_owned())
            };
            let id = value("ID").unwrap_or_default();
            let like = value("ID_LIKE").unwrap_or_default();
            let is = |name: &str| id == name || like.split_whitespace().any(|one| one == name);
            let number = value("VERSION_ID").and_then(|text| whole(&text));
            return match id.as_str() {
                "debian" => Self::Debian(number),
                "fedora" | "rhel" => Self::RedHat(number),
                _ if is("debian") || is("ubuntu") => Self::LikeDebian,
                _ if is("rhel") => Self::RedHat(number),
                "" => Self::NotKnown,
                _ => Self::Other,
            };
        }
        if let Some(file) = around.find("/etc/debian_version", export) {
            return Self::Debian(whole(file.text().trim()));
        }
        match around.find("/etc/redhat-release", export) {
            Some(file) => Self::RedHat(file.text().split_whitespace().find_map(whole)),
            None => Self::NotKnown,
        }
    }

    /// Whether Debian's packages are those of the system, or made from them.
    pub(crate) fn is_debian(self) -> bool {
        matches!(self, Self::Debian(_) | Self::LikeDebian)
    }

    /// Whether its daemons are known to be built with libwrap: those of Debian are, up to release 12 at least.
    pub(crate) fn is_with_libwrap(self) -> bool {
        matches!(self, Self::LikeDebian | Self::Debian(Some(..=12)))
    }

    /// Whether it has no libwrap at all: Fedora since release 28, and Red Hat's distribution with its relatives since release 8.
    pub(crate) fn is_without_libwrap(self) -> bool {
        // Numbers of Fedora were beyond 20 when those of the other were at 7.
        matches!(self, Self::RedHat(Some(8..=19 | 28..)))
    }
}

/// The number before the first dot.
fn whole(text: &str) -> Option<u32> {
    text.split('.').next()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn by_the_files_of_each() {
        for (path, text, wanted) in [
            ("etc/os-release", "ID=debian\nVERSION_ID=\"12\"\n", Distribution::Debian(Some(12))),
            ("etc/os-release", "ID=debian\n", Distribution::Debian(None)),
            ("etc/os-release", "ID=ubuntu\nID_LIKE=debian\nVERSION_ID=\"24.04\"\n", Distribution::LikeDebian),
            ("etc/os-release", "ID='mint'\nID_LIKE='ubuntu debian'\n", Distribution::LikeDebian),
            (
                "etc/os-release",
                "ID=\"rocky\"\nID_LIKE=\"rhel centos fedora\"\nVERSION_ID=\"9.3\"\n",
                Distribution::RedHat(Some(9)),
            ),
            ("usr/lib/os-release", "ID=fedora\nVERSION_ID=40\n", Distribution::RedHat(Some(40))),
            ("etc/os-release", "ID=alpine\nVERSION_ID=3.20.1\n", Distribution::Other),
            ("etc/debian_version", "12.8\n", Distribution::Debian(Some(12))),
            ("etc/debian_version", "trixie/sid\n", Distribution::Debian(None)),
            (
                "etc/redhat-release",
                "Enterprise Linux release 8.9 (Invented)\n",
                Distribution::RedHat(Some(8)),
            ),
            ("etc/hostname", "door\n", Distribution::NotKnown),
        ] {
            let file = Export::new(ExportId(0), format!("d/{path}"), text.to_owned());
            let around = ReadContext::of(vec![&file]);
            let own = Export::new(ExportId(1), "d/etc/ssh/sshd_config", String::new());
            assert_eq!(Distribution::of(&around, &own), wanted, "{path} {text}");
        }
        assert!(Distribution::Debian(Some(12)).is_with_libwrap());
        assert!(!Distribution::Debian(None).is_with_libwrap());
        for (release, without) in [(7, false), (8, true), (10, true), (27, false), (28, true), (41, true)] {
            assert_eq!(Distribution::RedHat(Some(release)).is_without_libwrap(), without, "{release}");
        }
    }
}
