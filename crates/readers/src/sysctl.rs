//! Settings of the kernel: `sysctl.conf`, files of `sysctl.d`, and what `sysctl -a` prints.
//!
//! Format: sysctl.conf(5), sysctl.d(5), sysctl(8).

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use trevlin_model::kernel::KernelSetting;
use trevlin_model::{Export, ExportState};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "sysctl",
    title: "kernel settings",
    manual: "sysctl.conf(5), sysctl.d(5), sysctl(8)",
    recognise,
    read,
};

/// Where names of settings begin (the folders of /proc/sys).
const TREES: [&str; 9] = ["abi", "crypto", "debug", "dev", "fs", "kernel", "net", "user", "vm"];

fn recognise(export: &Export) -> Recognition {
    let path = export.path();
    let named = export.file_name() == "sysctl.conf"
        || export.file_name().starts_with("sysctl-a")
        || (path.contains("sysctl.d/") && path.ends_with(".conf"));
    let mut settings = 0;
    for line in export.lines().take(TELLING_LINES).filter(|line| !ignored(line.text)) {
        match setting(line.text) {
            Some(_) => settings += 1,
            None if named => {}
            None => return Recognition::No,
        }
    }
    match (settings, named) {
        (0, false) => Recognition::No,
        (0, true) => Recognition::Name,
        _ => Recognition::Content,
    }
}

fn ignored(text: &str) -> bool {
    matches!(text.trim_start().as_bytes().first(), None | Some(b'#' | b';'))
}

/// Name of a setting with dots between its parts. The separator that comes first is the one between parts; the other then belongs to a name
/// (sysctl.d(5)).
pub(crate) fn dotted(name: &str) -> String {
    let slashes = name.find('/').is_some_and(|slash| name.find('.').is_none_or(|dot| slash < dot));
    let swap = |letter| match letter {
        '/' => '.',
        '.' => '/',
        other => other,
    };
    if slashes { name.chars().map(swap).collect() } else { name.to_owned() }
}

/// Name and value of a line.
fn setting(text: &str) -> Option<(String, &str)> {
    let (name, value) = text.split_once('=')?;
    // A minus says that it is no harm if the kernel does not know it.
    let name = name.trim();
    let name = name.strip_prefix('-').unwrap_or(name).trim_start();
    let plain = |letter: char| letter.is_ascii_alphanumeric() || "._/-*@:".contains(letter);
    if name.is_empty() || !name.chars().all(plain) {
        return None;
    }
    let name = dotted(name);
    let tree = name.split('.').next().unwrap_or_default();
    (TREES.contains(&tree) && name.contains('.')).then_some((name, value.trim()))
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    // ufw applies a file of its own when it starts, after the others (ufw-framework(8), `IPT_SYSCTL`).
    let by_filter = crate::ufw::applies(export, around);
    if by_filter == Some(false) {
        reading.waits = true;
        return reading;
    }
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let stored = export.path().split('/').any(|part| part == "etc" || part == "sysctl.d")
        || export.file_name() == "sysctl.conf";
    let state = if stored { ExportState::Stored } else { ExportState::Running };
    for line in export.lines().filter(|line| !ignored(line.text)) {
        let origin = export.origin_of(line.text.trim());
        match setting(line.text) {
            // Only the network settings are relevant here.
            Some((name, value)) if name.starts_with("net.") => {
                book.understood(origin);
                reading.facts.kernel.push(KernelSetting {
                    name,
                    value: value.to_owned(),
                    state,
                    by_command: by_filter == Some(true),
                    origin,
                });
            }
            Some(_) => {}
            // A name alone with a minus keeps a pattern from applying to it (sysctl.d(5)).
            None if line.text.trim_start().starts_with("-net") => book.understood(origin),
            None => book.not_understood(origin, "expected a kernel setting, as `name = value`"),
        }
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(path: &str, text: &str) -> (Recognition, Reading) {
        let export = Export::new(ExportId(0), path, text.into());
        (recognise(&export), read(&export, &ReadContext::default()))
    }

    #[test]
    fn settings() {
        for (text, wanted) in [
            ("net.ipv4.ip_forward=1", Some("net.ipv4.ip_forward 1")),
            ("  net.ipv4.ip_forward =  0  ", Some("net.ipv4.ip_forward 0")),
            ("net/ipv4/conf/eth0.5/rp_filter = 2", Some("net.ipv4.conf.eth0/5.rp_filter 2")),
            ("-net.ipv6.conf.all.forwarding = 1", Some("net.ipv6.conf.all.forwarding 1")),
            ("net.ipv4.ping_group_range = 0\t2147483647", Some("net.ipv4.ping_group_range 0\t2147483647")),
            ("# net.ipv4.ip_forward=1", None),
            ("; net.ipv4.ip_forward=1", None),
            ("kernel.sysrq = 0", None),
        ] {
            let (_, reading) = of("etc/sysctl.conf", text);
            let found = reading.facts.kernel.first().map(|one| format!("{} {}", one.name, one.value));
            assert_eq!(found.as_deref(), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}");
        }
        assert_eq!(of("etc/sysctl.conf", "net.ipv4.ip_forward").1.ledger.notes.len(), 1);
    }

    #[test]
    fn files_are_known() {
        for (path, text, wanted) in [
            ("etc/sysctl.d/10-x.conf", "# nothing\n", Recognition::Name),
            ("etc/sysctl.d/10-x.conf", "net.ipv4.ip_forward = 1\nbroken\n", Recognition::Content),
            ("running/sysctl.txt", "abi.vsyscall32 = 1\nnet.ipv4.ip_forward = 1\n", Recognition::Content),
            ("etc/x.conf", "name = value\n", Recognition::No),
            ("etc/x.conf", "dev = tun\n", Recognition::No),
            ("etc/x.conf", "net.ipv4.ip_forward = 1\nand more\n", Recognition::No),
        ] {
            assert_eq!(of(path, text).0, wanted, "{path} {text}");
        }
        assert_eq!(of("running/sysctl.txt", "net.a.b = 1\n").1.facts.kernel[0].state, ExportState::Running);
        assert_eq!(of("etc/sysctl.conf", "net.a.b = 1\n").1.facts.kernel[0].state, ExportState::Stored);
    }
}
