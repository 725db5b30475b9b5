//! Exports of OpenWrt: `uci export`, and files below `/etc/config`.

mod firewall;
pub(crate) mod included;
mod network;
mod services;
#[cfg(test)]
mod tests;
mod text;
mod tunnels;

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use network::Networks;
use std::collections::{BTreeMap, BTreeSet};
use text::Package;
use trevlin_model::{Export, Filter, LineClass, NotAnalysed};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "uci",
    title: "configuration of OpenWrt (UCI)",
    manual: "OpenWrt, the UCI system; firewall4; netifd",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    let (mut sections, mut options, mut others) = (0, 0, 0);
    for line in export.lines().take(TELLING_LINES) {
        let text = line.text.trim();
        let words: Vec<&str> = text.split_whitespace().take(4).collect();
        match words.as_slice() {
            [] => {}
            [first, ..] if first.starts_with('#') => {}
            ["package", _] => {}
            ["config", _] | ["config", _, _] => sections += 1,
            ["option" | "list", _, _, ..] => options += 1,
            _ => others += 1,
        }
    }
    if sections > 0 && options > 0 && others * 10 <= options { Recognition::Content } else { Recognition::No }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let parsed = text::parse(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for (origin, why) in &parsed.broken {
        book.not_understood(*origin, *why);
    }
    for (origin, class) in &parsed.classes {
        book.class(*origin, *class);
    }
    let networks = Networks::of(&parsed.packages, around, &READER);
    // The program ends each line, in its files as in what it prints.
    let cut = !parsed.packages.is_empty() && !export.ends_with_line();
    if cut {
        let last = export.last_line();
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        book.note(last, "the export is truncated here; please export it again");
    }
    let odd = |name: &str| !name.bytes().all(|one| one.is_ascii_alphanumeric() || matches!(one, b'_' | b'-'));
    let nameless = parsed.packages.iter().any(|package| odd(&package.name));
    let firewall =
        parsed.packages.iter().any(|package| package.name == "firewall" && !package.sections.is_empty());
    if (cut || nameless) && !firewall {
        reading
            .facts
            .not_analysed
            .push(NotAnalysed::beside("a firewall that this export may not contain", export.origin(0..0)));
    }
    for package in &parsed.packages {
        take(package, export, around, &networks, &mut reading, !cut && parsed.broken.is_empty());
    }
    reading
}

trevlin_model::table! {
    /// Options by package.
    static OPTIONS: BTreeMap<String, BTreeSet<String>> = "../../tables/uci-options.toml";
}

fn take(
    package: &Package,
    export: &Export,
    around: &ReadContext<'_>,
    networks: &Networks,
    reading: &mut Reading,
    whole: bool,
) {
    let mut told = Vec::new();
    let mut known = true;
    match package.name.as_str() {
        "firewall" => {
            let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
            if let Some(compiled) = firewall::compile(package, networks, (export, around), &mut book) {
                reading.facts.forwards.extend(trevlin_model::forwards::of(&compiled.filter));
                // The lost part may have had any effect.
                let filter = Filter { complete: compiled.filter.complete && whole, ..compiled.filter };
                reading.facts.filters.push(filter);
                reading.facts.not_analysed.extend(compiled.not_analysed);
                reading.facts.switched_off.extend(compiled.switched_off);
            }
            tell_unknown(
                package,
                &mut LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere),
            );
            return;
        }
        "network" => network::read(package, export, reading, networks),
        "dhcp" => services::addresses_and_names(package, networks, reading, &mut told),
        "dropbear" => services::dropbear(package, networks, reading),
        "uhttpd" => services::pages(package, reading),
        "rpcd" => services::administrators(package, export, reading),
        "upnpd" => services::ports_on_request(package, reading),
        "ddns" => services::dynamic_names(package, export, reading),
        "samba" | "samba4" | "ksmbd" => services::shares(package, networks, reading),
        "snmpd" => services::monitoring(package, export, reading),
        "system" => services::system(package, reading),
        "openvpn" => tunnels::openvpn(package, export, around, reading),
        "ipsec" => tunnels::ipsec(package, export, reading),
        "wireless" => tunnels::radios(package, export, reading),
        _ => known = false,
    }
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for section in &package.sections {
        if known {
            book.class(section.origin, LineClass::Understood);
            section.options.iter().for_each(|(_, said)| book.class(said.line, LineClass::Understood));
        } else {
            let text = format!("the package `{}` is not supported; please review it by hand", package.name);
            book.not_understood(section.whole(), text);
        }
    }
    for (origin, text) in told {
        book.not_understood(origin, text);
    }
    tell_unknown(package, &mut book);
}

/// Reports unknown options in a section of the package.
fn tell_unknown(package: &Package, book: &mut LineRecorder<'_>) {
    let Some(known) = OPTIONS.get(&package.name) else { return };
    // Settings of a section apply to its content.
    let known_sections = package.sections.iter().filter(|section| !book.is_told(section.origin));
    let options: Vec<_> = known_sections.flat_map(|section| &section.options).collect();
    for (name, said) in options {
        if !book.is_told(said.line) && !crate::settings::is_among(known, name) {
            book.not_understood(
                said.line,
                format!(
                    "`{name}` is not a known option of `{}`; check its spelling, and review its effect",
                    package.name
                ),
            );
        }
    }
}
