//! The text form of UCI: `package`, `config`, `option` and `list` lines (OpenWrt, the UCI system).

use trevlin_model::{Export, LineClass, Origin};

/// A value and its line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Said {
    pub(super) text: String,
    /// The value itself, quotes included.
    pub(super) value: Origin,
    /// The whole line.
    pub(super) line: Origin,
    /// Whether it is from a `list` line.
    pub(super) listed: bool,
}

/// A section.
#[derive(Debug, Clone)]
pub(super) struct Section {
    /// Its type.
    pub(super) kind: String,
    /// Its name; anonymous ones have none.
    pub(super) name: Option<String>,
    /// The `config` line.
    pub(super) origin: Origin,
    /// Options in order.
    pub(super) options: Vec<(String, Said)>,
}

impl Section {
    /// An option; the last line of several counts, as `uci` takes them.
    pub(super) fn get(&self, name: &str) -> Option<&Said> {
        self.options.iter().rev().find(|(key, _)| key == name).map(|(_, said)| said)
    }

    /// The text of an option.
    pub(super) fn text(&self, name: &str) -> Option<&str> {
        self.get(name).map(|said| said.text.as_str())
    }

    /// Every value of a list; an option holds several with blanks between them.
    pub(super) fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = (&'a str, &'a Said)> {
        let said = self.options.iter().filter(move |(key, _)| key == name).map(|(_, said)| said);
        said.flat_map(|said| {
            let whole = said.listed.then_some(said.text.as_str());
            let words = (!said.listed).then(|| said.text.split_whitespace());
            whole.into_iter().chain(words.into_iter().flatten()).map(move |word| (word, said))
        })
    }

    /// A switch (`uci` takes 1, on, true, yes and enabled for on).
    pub(super) fn is_on(&self, name: &str) -> Option<bool> {
        self.text(name).map(|text| matches!(text, "1" | "on" | "true" | "yes" | "enabled"))
    }

    /// The section with its options, as one place.
    pub(super) fn whole(&self) -> Origin {
        let end = self.options.iter().map(|(_, said)| said.line.end).max().unwrap_or(self.origin.end);
        Origin { end: end.max(self.origin.end), ..self.origin }
    }
}

/// A package: one file below `/etc/config`.
#[derive(Debug, Clone)]
pub(super) struct Package {
    pub(super) name: String,
    pub(super) sections: Vec<Section>,
}

impl Package {
    /// Sections of a type, in order.
    pub(super) fn of<'a>(&'a self, kind: &'a str) -> impl Iterator<Item = &'a Section> {
        self.sections.iter().filter(move |section| section.kind == kind)
    }
}

/// Content of a file, and lines without relevance.
#[derive(Debug, Default)]
pub(super) struct Parsed {
    pub(super) packages: Vec<Package>,
    pub(super) broken: Vec<(Origin, &'static str)>,
    pub(super) classes: Vec<(Origin, LineClass)>,
}

/// Reads a file. Without a `package` line the file's name is the package's.
pub(super) fn parse(export: &Export) -> Parsed {
    let mut parsed = Parsed::default();
    let own = export.file_name().split('.').next().unwrap_or_default().to_owned();
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let Some(words) = words(export, text) else {
            parsed.broken.push((origin, "a quote is not closed; the rest of the line is not read"));
            continue;
        };
        let texts: Vec<&str> = words.iter().map(|(text, _)| text.as_str()).collect();
        match texts.as_slice() {
            ["package", name] => {
                parsed.packages.push(Package { name: (*name).to_owned(), sections: Vec::new() });
                parsed.classes.push((origin, LineClass::Ignored));
            }
            ["config", kind, rest @ ..] if rest.len() <= 1 => {
                if parsed.packages.is_empty() {
                    parsed.packages.push(Package { name: own.clone(), sections: Vec::new() });
                }
                let name = rest.first().filter(|name| !name.is_empty()).map(|name| (*name).to_owned());
                let section = Section { kind: (*kind).to_owned(), name, origin, options: Vec::new() };
                if let Some(package) = parsed.packages.last_mut() {
                    package.sections.push(section);
                }
            }
            [how @ ("option" | "list"), name, value] => {
                let section = parsed.packages.last_mut().and_then(|package| package.sections.last_mut());
                let said = Said {
                    text: (*value).to_owned(),
                    value: words[2].1,
                    line: origin,
                    listed: *how == "list",
                };
                match section {
                    Some(section) => section.options.push(((*name).to_owned(), said)),
                    None => parsed.broken.push((
                        origin,
                        "this line is outside any section; expected a `config` line before it",
                    )),
                }
            }
            _ => parsed.broken.push((
                origin,
                "expected `package NAME`, `config TYPE [NAME]`, `option NAME VALUE` or `list NAME VALUE`",
            )),
        }
    }
    parsed
}

/// Words of a line; quotes of either kind group words, and a backslash makes the next character literal outside of single quotes.
fn words(export: &Export, text: &str) -> Option<Vec<(String, Origin)>> {
    let mut found: Vec<(String, Origin)> = Vec::new();
    let base = export.origin_of(text).start;
    let mut signs = text.char_indices().peekable();
    let mut open: Option<(String, usize)> = None;
    let mut quote = None;
    let place = |from: usize, to: usize| Origin {
        export: export.id(),
        start: base + from as u32,
        end: base + to as u32,
    };
    while let Some((at, sign)) = signs.next() {
        match (quote, sign) {
            (Some(closing), sign) if sign == closing => quote = None,
            (Some('\''), sign) => open.get_or_insert_with(|| (String::new(), at)).0.push(sign),
            (_, '\\') => {
                let (_, next) = signs.next()?;
                open.get_or_insert_with(|| (String::new(), at)).0.push(next);
            }
            (None, '"' | '\'') => {
                quote = Some(sign);
                open.get_or_insert_with(|| (String::new(), at));
            }
            (None, sign) if sign.is_whitespace() => {
                found.extend(open.take().map(|(word, from)| (word, place(from, at))));
            }
            (None, '#') if open.is_none() => break,
            (_, sign) => open.get_or_insert_with(|| (String::new(), at)).0.push(sign),
        }
    }
    if quote.is_some() {
        return None;
    }
    found.extend(open.take().map(|(word, from)| (word, place(from, text.len()))));
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn sections_and_options() {
        let text = "package network\n\nconfig interface 'lan'\n\toption device 'br-lan'\n\tlist dns '10.4.0.1'\n\tlist dns '10.4.0.2'\n\
                    config rule\n\toption name \"it's \\\"x\\\"\"\n\toption key 'a'\\''b' # c\n";
        let export = Export::new(ExportId(0), "x.txt", text.into());
        let parsed = parse(&export);
        assert!(parsed.broken.is_empty());
        let [interface, rule] = parsed.packages[0].sections.as_slice() else { panic!() };
        assert_eq!((interface.name.as_deref(), interface.text("device")), (Some("lan"), Some("br-lan")));
        assert_eq!(interface.all("dns").map(|one| one.0).collect::<Vec<_>>(), ["10.4.0.1", "10.4.0.2"]);
        assert_eq!((rule.text("name"), rule.text("key")), (Some("it's \"x\""), Some("a'b")));
    }

    #[test]
    fn a_file_is_the_package_of_its_name() {
        let export =
            Export::new(ExportId(0), "d/etc/config/firewall", "config zone\n\toption name lan\n".into());
        assert_eq!(parse(&export).packages[0].name, "firewall");
        let broken = Export::new(ExportId(0), "x", "option a b\nconfig\nconfig a 'b\nwhat is this\n".into());
        assert_eq!(parse(&broken).broken.len(), 4);
    }
}
