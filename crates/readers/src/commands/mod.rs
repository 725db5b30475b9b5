//! Commands that run when the machine starts, when an interface comes up and by the clock: `rc.local`, scripts of ifupdown, pppd and init,
//! and the tables of cron, as far as plain commands go. What they change in the packet filter, in the kernel's settings and in the routes
//! becomes facts; everything else in them is passed over.
//!
//! Format: POSIX.1-2017 (Shell Command Language), interfaces(5), pppd(8), wg-quick(8), crontab(5).

mod effects;
mod programs;
mod run;
mod script;
mod shell;
mod values;

use crate::iptables::ipset;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use effects::Effects;
use run::{Shell, Source};
use shell::is_shell;
use trevlin_model::{CommandMoment, Export, Origin};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "start-script",
    title: "commands at the start or by the clock",
    manual: "sh(1), crontab(5), interfaces(5), pppd(8)",
    recognise,
    read,
};

/// A place whose files run.
struct Place {
    /// When its commands run.
    moment: CommandMoment,
    /// Names with their values there.
    values: &'static [(&'static str, &'static str)],
    /// Whether its lines begin with times; whether a user follows them.
    times: Option<bool>,
}

/// The interface of a connection of pppd, whichever number it has.
const PPP: &[(&str, &str)] = &[("1", "ppp+"), ("PPP_IFACE", "ppp+"), ("IFNAME", "ppp+")];

/// The place of a file, where its path is one whose files run.
fn place(path: &str) -> Option<Place> {
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let parent = folder.rsplit('/').next().unwrap_or_default();
    let of = |moment, values| Some(Place { moment, values, times: None });
    match (parent, name) {
        (_, "rc.local" | "rc.firewall" | "firewall.user") => of(CommandMoment::Boot, &[]),
        ("local.d", _) if name.ends_with(".start") => of(CommandMoment::Boot, &[]),
        ("init.d", _) | ("ufw", "before.init" | "after.init") => of(CommandMoment::Boot, &[("1", "start")]),
        ("if-up.d" | "if-pre-up.d", _) => of(CommandMoment::Interface, &[("MODE", "start")]),
        ("dispatcher.d" | "pre-up.d", _) if folder.contains("NetworkManager/") => {
            of(CommandMoment::Interface, &[("2", "up")])
        }
        ("routable.d" | "configured.d", _) => of(CommandMoment::Interface, &[]),
        ("ppp", "ip-up" | "ipv6-up" | "ip-up.local") | ("ip-up.d" | "ipv6-up.d", _) => {
            of(CommandMoment::Interface, PPP)
        }
        ("cron.hourly" | "cron.daily" | "cron.weekly" | "cron.monthly", _) => of(CommandMoment::Clock, &[]),
        ("etc", "crontab") | ("cron.d", _) => {
            Some(Place { moment: CommandMoment::Clock, values: &[], times: Some(true) })
        }
        ("crontabs", _) => Some(Place { moment: CommandMoment::Clock, values: &[], times: Some(false) }),
        _ => None,
    }
}

/// Whether a file is one of commands that run by themselves. Where its place may hold any script, it must name a program that is read.
pub(crate) fn recognise(export: &Export) -> Recognition {
    const SIGNS: [&str; 7] =
        ["iptables", "ip6tables", "sysctl ", "/proc/sys/net/", "ip route ", "route add ", "nft "];
    let Some(place) = place(export.path()) else { return Recognition::No };
    let name = export.file_name();
    let open = ["rc.local", "ip-up.local", "firewall.user", "before.init", "after.init"].contains(&name);
    let calls = |text: &str| {
        text.split_whitespace().any(|word| word.starts_with("/usr/local/") || word.starts_with("/root/"))
    };
    let signs = || {
        export
            .lines()
            .map(|line| line.text.trim())
            .filter(|text| !text.starts_with('#'))
            .any(|text| SIGNS.iter().any(|sign| text.contains(sign)) || calls(text))
    };
    let packaged = name == "README" || name.starts_with('.');
    let fits = !packaged && (place.times.is_some() || is_shell(export)) && (open || signs());
    if fits { Recognition::Content } else { Recognition::No }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let Some(place) = place(export.path()) else { return reading };
    let sets = around.once(|| ipset::of(around));
    let book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut effects = Effects::new(&mut reading.facts, book, sets, place.moment, export.file_name());
    let Some(user) = place.times else {
        let mut shell = Shell::new(around, &mut effects, place.values, export.path());
        shell.run(export.text(), Source::Part { export, start: 0 });
        return reading;
    };
    let mut values: Vec<(&str, &str)> = Vec::new();
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let first = text.split_whitespace().next().unwrap_or_default();
        if let Some((name, value)) =
            text.split_once('=').filter(|_| first.starts_with(|one: char| one.is_ascii_alphabetic()))
        {
            values.push((name.trim(), value.trim().trim_matches(['"', '\''])));
            continue;
        }
        let (fields, moment) = match first {
            "@reboot" => (1, CommandMoment::Boot),
            _ if first.starts_with('@') => (1, CommandMoment::Clock),
            _ => (5, CommandMoment::Clock),
        };
        let Some(command) = behind(text, fields + usize::from(user)) else { continue };
        // A percent sign ends the command (crontab(5)).
        let command = command.split('%').next().unwrap_or_default();
        let start = export.origin_of(command).start as usize;
        effects.at(moment);
        let mut shell = Shell::new(around, &mut effects, &values, export.path());
        shell.run(command, Source::Part { export, start });
    }
    reading
}

/// The rest of a line behind so many words.
fn behind(text: &str, words: usize) -> Option<&str> {
    let mut rest = text;
    for _ in 0..words {
        let end = rest.find([' ', '\t'])?;
        rest = rest[end..].trim_start();
    }
    (!rest.is_empty()).then_some(rest)
}

/// Whether a program changes the packet filter or settings of the kernel.
pub(crate) fn changes_packets(program: &str) -> bool {
    programs::is_filter_program(program) || program == "sysctl"
}

/// Commands that another format has in a setting, with its place and when they run: `PostUp` of wg-quick(8), `post-up` of interfaces(5),
/// `ExecStart` of systemd.service(5).
pub(crate) fn of_setting(
    text: &str,
    (origin, moment): (Origin, CommandMoment),
    values: &[(&str, &str)],
    export: &Export,
    around: &ReadContext<'_>,
    reading: &mut Reading,
) {
    if !["tables", "sysctl", "nft", "/"].iter().any(|sign| text.contains(sign)) {
        return;
    }
    let sets = around.once(|| ipset::of(around));
    let book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut effects = Effects::new(&mut reading.facts, book, sets, moment, export.file_name());
    let mut shell = Shell::new(around, &mut effects, values, export.path());
    shell.run(text, Source::Elsewhere { export, origin });
}

#[cfg(test)]
mod tests;
