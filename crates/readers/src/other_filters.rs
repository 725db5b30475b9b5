//! Packet filters that are recognised and not read yet. They are kept as a fact, because no judgement about
//! what the device lets through is sound while one of them is present.

use crate::reader::{Bookkeeper, Reader, Reading, Recognition, Surroundings, TELLING_LINES};
use trevlin_model::{Export, NotModelled};

/// nftables rulesets, native text or JSON.
pub(crate) const READER: Reader = Reader {
    name: "nftables",
    title: "nftables ruleset (recognised, not read yet)",
    manual: "nft(8)",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    const FAMILIES: [&str; 6] = ["ip", "ip6", "inet", "arp", "bridge", "netdev"];
    let opens_table = |text: &str| {
        let mut words = text.split_whitespace();
        if words.next() != Some("table") {
            return false;
        }
        let second = words.next().unwrap_or_default();
        let name = if FAMILIES.contains(&second) { words.next() } else { Some(second) };
        name.is_some_and(|name| !name.is_empty()) && text.trim_end().ends_with('{')
    };
    let content = export.lines().take(TELLING_LINES).any(|line| {
        let text = line.text.trim_start();
        opens_table(text) || text.starts_with("flush ruleset") || text.starts_with("add table ")
    }) || export.text().trim_start().starts_with("{\"nftables\"");
    let name = matches!(export.file_name(), "nftables.conf") || export.file_name().ends_with(".nft");
    if content {
        Recognition::Content
    } else if name {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export, _: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut opening = None;
    for line in
        export.lines().filter(|line| !matches!(line.text.trim_start().as_bytes().first(), None | Some(b'#')))
    {
        let origin = export.origin_of(line.text);
        opening.get_or_insert(origin);
        Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere)
            .class(origin, trevlin_model::LineClass::NotUnderstood);
    }
    if let Some(origin) = opening {
        let what = "an nftables ruleset".to_owned();
        Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere).note(
            origin,
            "nftables rulesets are recognised and not read yet: no line of this file was judged; review it by hand",
        );
        reading.facts.not_modelled.push(NotModelled { what, filters_packets: true, origin });
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn rulesets_are_kept_as_not_modelled() {
        for (name, text, wanted, lines) in [
            ("x", "#!/usr/sbin/nft -f\nflush ruleset\ntable inet filter {\n}\n", Recognition::Content, 3),
            ("x", "table ip6 nat {\n}\n", Recognition::Content, 2),
            ("x", "{\"nftables\": [{}]}\n", Recognition::Content, 1),
            ("nftables.conf", "# nothing\n", Recognition::Name, 0),
            ("x", "table of contents\n", Recognition::No, 1),
        ] {
            let export = Export::new(ExportId(0), name, text.into());
            assert_eq!(recognise(&export), wanted, "{text}");
            let reading = read(&export, &Surroundings::default());
            assert_eq!(reading.ledger.count(trevlin_model::LineClass::NotUnderstood), lines, "{text}");
            assert_eq!(reading.facts.not_modelled.len(), usize::from(lines > 0), "{text}");
        }
    }
}
