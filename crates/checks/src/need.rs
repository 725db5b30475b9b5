//! Exports without which a check cannot judge a device.

use serde::Serialize;

/// An export of a device that a check judges by. Without it the check finds nothing on the device, whatever the device is like.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Need {
    /// Accounts with their passwords.
    Accounts,
    /// Addresses of interfaces.
    Addresses,
    /// Where the clock is set from.
    Clock,
    /// Packet filter.
    Filter,
    /// Settings of the kernel.
    Kernel,
    /// Where the log goes.
    Log,
    /// Routes.
    Routes,
    /// Logins to other systems that programs and users keep.
    SavedLogins,
    /// Listening sockets, and a configuration for each program that has one.
    Services,
    /// SSH server.
    Ssh,
    /// Rules of sudo.
    Sudo,
    /// Wi-Fi networks.
    Wireless,
}

impl Need {
    /// Every need.
    pub const ALL: [Self; 12] = [
        Self::Accounts,
        Self::Addresses,
        Self::Clock,
        Self::Filter,
        Self::Kernel,
        Self::Log,
        Self::Routes,
        Self::SavedLogins,
        Self::Services,
        Self::Ssh,
        Self::Sudo,
        Self::Wireless,
    ];

    /// What to export, as a phrase with the command or the files.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Accounts => "accounts (`/etc/passwd`, `/etc/shadow`)",
            Self::Addresses => "addresses of its interfaces (`ip -j addr show`)",
            Self::Clock => {
                "time synchronisation (`/etc/chrony`, `/etc/ntp.conf` or `/etc/systemd/timesyncd.conf`)"
            }
            Self::Filter => "packet filter (`nft list ruleset`, or `iptables-save` and `ip6tables-save`)",
            Self::Kernel => "kernel settings (`sysctl -a`)",
            Self::Log => "logging (`/etc/rsyslog.conf` or `/etc/systemd/journald.conf`)",
            Self::Routes => "routes (`ip -j route show table all`)",
            Self::SavedLogins => "saved logins (`~/.netrc`, `~/.pgpass`, scripts, dynamic DNS clients)",
            Self::Services => "listening sockets (`ss -tulpn`), with the configuration of each program",
            Self::Ssh => "SSH server (`/etc/ssh`)",
            Self::Sudo => "rules of sudo (`/etc/sudoers`)",
            Self::Wireless => "Wi-Fi networks (`hostapd.conf`)",
        }
    }

    /// The same without command and files, as the name of a column.
    #[must_use]
    pub fn short(self) -> &'static str {
        let words = self.words();
        words.split_once(" (").map_or(words, |(short, _)| short)
    }

    /// Formats of which one is enough, where the export is files of its own.
    #[must_use]
    pub fn formats(self) -> &'static [&'static str] {
        match self {
            Self::Accounts => &["passwd", "shadow"],
            Self::Clock => &["chrony", "ntp", "timesyncd"],
            Self::Kernel => &["sysctl"],
            Self::Log => &["journald", "rsyslog"],
            Self::SavedLogins => &["ddclient", "inadyn", "netrc", "pgpass", "ssh-client", "start-script"],
            Self::Ssh => &["dropbear", "sshd"],
            Self::Sudo => &["sudoers"],
            Self::Wireless => &["hostapd"],
            Self::Addresses | Self::Filter | Self::Routes | Self::Services => &[],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_columns_are_short() {
        for need in Need::ALL {
            assert!(need.short().len() < 30 && !need.short().contains('`'), "{}", need.short());
        }
        assert_eq!(Need::Ssh.short(), "SSH server");
    }
}
