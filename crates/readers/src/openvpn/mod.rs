//! Configuration of the OpenVPN daemon (openvpn(8), versions 2.3 to 2.7).
//!
//! A file is a list of directives; the last of several directives that set one value wins; `config` includes another file in place; files
//! can be embedded in the configuration between `<name>` and `</name>`. Unset values follow the daemon's defaults, which differ between
//! versions.

mod config;
mod daemon;
mod directives;
mod evaluate;
mod lines;
mod offers;
mod plan;
mod proof;
mod refusal;

use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use config::Config;
use daemon::DAEMON;
use directives::{Class, class};
use lines::{Directive, split};
use trevlin_model::Export;

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "openvpn", title: "OpenVPN configuration", manual: "openvpn(8)", recognise, read };

/// How deep `config` is followed (the daemon: 10).
const DEPTH: usize = 10;

/// Whether a line has words that no other format writes.
fn tells(line: &str) -> bool {
    let mut words = line.split_whitespace();
    let (first, second) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
    match first.trim_start_matches("--") {
        "dev" => ["tun", "tap", "ovpn"].iter().any(|kind| second.starts_with(kind)),
        "proto" => ["udp", "tcp"].iter().any(|kind| second.starts_with(kind)),
        "server" => {
            second.parse::<std::net::Ipv4Addr>().is_ok()
                && words.next().is_some_and(|mask| mask.starts_with("255."))
        }
        "push" => second.starts_with(['"', '\'']),
        "server-bridge"
        | "server-ipv6"
        | "ifconfig-push"
        | "ifconfig-pool"
        | "iroute"
        | "tls-auth"
        | "tls-crypt"
        | "tls-crypt-v2"
        | "remote-cert-tls"
        | "persist-tun"
        | "verify-client-cert"
        | "client-cert-not-required"
        | "data-ciphers"
        | "ncp-ciphers"
        | "<ca>"
        | "<tls-auth>"
        | "<tls-crypt>"
        | "<connection>" => true,
        _ => false,
    }
}

fn recognise(export: &Export) -> Recognition {
    let (mut known, mut all, mut telling) = (0u32, 0u32, false);
    let mut block = false;
    for line in export.lines().take(TELLING_LINES) {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with(['#', ';']) {
            continue;
        }
        telling |= tells(text);
        if text.starts_with('<') && text.ends_with('>') {
            block = !text.starts_with("</");
            continue;
        }
        if !block {
            all += 1;
            let first = text.split_whitespace().next().unwrap_or_default();
            known += u32::from(class(first.trim_start_matches("--")).is_some());
        }
    }
    if telling && known * 3 >= all * 2 {
        return Recognition::Content;
    }
    let name = export.file_name();
    let named = name.ends_with(".ovpn") || (name.ends_with(".conf") && export.path().contains("openvpn/"));
    if named { Recognition::Name } else { Recognition::No }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut config = Config::default();
    take(export, around, &mut config, &mut book, &mut vec![export.path()]);
    finish(config, export, around, &mut reading);
    reading
}

/// Directives that are switches: without arguments.
pub(crate) fn is_switch(name: &str) -> bool {
    directives::is_switch(name)
}

/// Reads a configuration from lines of another file: names of directives, their arguments, and their places.
pub(crate) fn read_lines(
    lines: Vec<(String, String, trevlin_model::Origin)>,
    export: &Export,
    around: &ReadContext<'_>,
    reading: &mut Reading,
) {
    let mut config = Config::default();
    for (name, rest, origin) in lines {
        let range = origin.start as usize..origin.end as usize;
        let args = rest.split_whitespace().map(|word| (word.to_owned(), range.clone())).collect();
        let directive = Directive { name, args, inline: None, optional: false, origin };
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        match class(&directive.name) {
            None => book.not_understood(origin, unknown(&directive)),
            Some(known) => {
                if let Some(why) = config.take(&directive, export, known == Class::Kept) {
                    book.not_understood(origin, why);
                }
            }
        }
    }
    finish(config, export, around, reading);
}

/// Result of the directives of a configuration.
fn finish(mut config: Config, export: &Export, around: &ReadContext<'_>, reading: &mut Reading) {
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for (path, alone) in &config.files_with_passwords {
        if let Some(held) = proof::saved_password(path, *alone, export, around) {
            book.understood(held.origin);
            reading.facts.secrets.push(held);
        }
    }
    reading.facts.secrets.append(&mut config.secrets);
    reading.facts.absorb(std::mem::take(&mut config.inline));
    // A piece that another file reads in is part of that file's tunnel, and a piece without a device is none.
    if config.is_tunnel() && !around.reads_in(export, included) {
        let folder = config.settings.iter().rev().find(|(name, _)| name == "client-config-dir");
        let pattern =
            folder.and_then(|(_, setting)| Some(format!("{}/*", setting.value()?.trim_end_matches('/'))));
        let per_client = pattern.map(|pattern| around.find_all(&pattern, export)).unwrap_or_default();
        reading.facts.tunnels.push(evaluate::tunnel(config, &per_client, export));
    }
}

/// Reads one file into the configuration.
fn take<'a>(
    export: &'a Export,
    around: &ReadContext<'a>,
    config: &mut Config,
    book: &mut LineRecorder<'_>,
    open: &mut Vec<&'a str>,
) {
    let (directives, problems) = split(export);
    for (origin, why) in problems {
        book.not_understood(origin, why);
    }
    for directive in directives {
        let Some(known) = class(&directive.name) else {
            if !directive.optional && !config.ignored.contains(&directive.name) {
                book.not_understood(directive.origin, unknown(&directive));
            }
            continue;
        };
        book.class(directive.origin, known.ledger());
        if let Some(version) = directives::removed(&directive.name) {
            book.note(
                directive.origin,
                format!(
                    "`{}` was removed in version {version}: newer daemons refuse to start with it",
                    directive.name
                ),
            );
        }
        if let Some(why) = config.take(&directive, export, known == Class::Kept) {
            book.not_understood(directive.origin, why);
        }
        if directive.name == "config" {
            include(&directive, export, around, config, book, open);
        }
    }
}

fn include<'a>(
    directive: &Directive<'_>,
    export: &'a Export,
    around: &ReadContext<'a>,
    config: &mut Config,
    book: &mut LineRecorder<'_>,
    open: &mut Vec<&'a str>,
) {
    let Some(path) = directive.arg(0) else { return };
    match around.find(path, export) {
        Some(found) => {
            if book.may_read_in(directive.origin, found, Open::of(open, found), DEPTH) {
                open.push(found.path());
                take(found, around, config, book, open);
                open.pop();
            }
        }
        None => config.missing_include(path, directive.origin),
    }
}

/// The export that a line of `other` reads in, where that is a configuration of this kind.
fn included<'a>(line: &str, other: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let mut words = line.split_whitespace();
    match (words.next().map(|first| first.trim_start_matches("--")), words.next()) {
        (Some("config"), Some(path)) if recognise(other) != Recognition::No => {
            around.find(path.trim_matches(['"', '\'']), other).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

fn unknown(directive: &Directive<'_>) -> String {
    // A stray piece of an inline block may be key material, so only something that looks like a name is repeated.
    let name = &directive.name;
    let plain = name.len() <= 32
        && name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-');
    if plain && !directive.args.is_empty() {
        format!("`{name}` is not a directive of openvpn(8); the daemon refuses to start with it")
    } else {
        "not a directive of openvpn(8); the daemon refuses to start with it".into()
    }
}

#[cfg(test)]
mod tests;
