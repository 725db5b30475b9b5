//! `apache2.conf`, `httpd.conf` and the files they read in (httpd.apache.org, "Configuration Sections", "Access Control").
//!
//! For a page the sections of folders count from the shortest path to the longest, then those of locations in their order; a later
//! one replaces who may come in, and adds to the options that have a sign. What the main server says of folders and locations holds
//! for every virtual host.

use super::{Way, both, page, parts_of};
use crate::angles::{Directive, directives};
use crate::reader::{Bookkeeper, Reader, Reading, Recognition, Surroundings, TELLING_LINES};
use crate::serving::{self, is_known, truth};
use crate::tls;
use trevlin_model::offer::{AlgorithmRole, Offer, Offered};
use trevlin_model::served::{Asked, Carried, Endpoint, Part, Remark, Served, ServedKind, Sources};
use trevlin_model::{Export, Facts, Families, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "apache",
    title: "web server (Apache)",
    manual: "httpd.apache.org, documentation of directives",
    recognise,
    read,
};

/// How deep files that read in others are followed.
const DEPTH: usize = 8;

const UNITS: &[&str] = &["apache2", "httpd"];

/// Modules that are part of the program as distributions build it.
const BUILT_IN: [&str; 8] =
    ["core", "so", "http_core", "log_config", "logio", "version", "unixd", "watchdog"];

fn recognise(export: &Export) -> Recognition {
    const TELLING: [&str; 9] = [
        "<virtualhost",
        "documentroot",
        "loadmodule",
        "<directory",
        "<location",
        "sslengine",
        "serverroot",
        "setenvif",
        "require",
    ];
    let path = export.path();
    let named = matches!(export.file_name(), "apache2.conf" | "httpd.conf")
        || path.contains("apache2/")
        || path.contains("httpd/conf");
    let tells = export.lines().take(TELLING_LINES).any(|line| {
        let word = line.text.split_whitespace().next().unwrap_or_default().to_ascii_lowercase();
        TELLING.contains(&word.as_str())
    });
    let listen =
        export.lines().any(|line| line.text.trim_start().to_ascii_lowercase().starts_with("listen "));
    match (tells || (listen && named), named) {
        (true, true) => Recognition::Content,
        (true, false) if export.text().to_ascii_lowercase().contains("<virtualhost") => Recognition::Content,
        (false, true) if path.ends_with(".conf") || path.ends_with(".load") => Recognition::Name,
        _ => Recognition::No,
    }
}

fn included<'a>(line: &str, named_in: &Export, around: &Surroundings<'a>) -> Vec<&'a Export> {
    let mut words = line.split_whitespace();
    match words.next() {
        Some(word)
            if word.eq_ignore_ascii_case("include") || word.eq_ignore_ascii_case("includeoptional") =>
        {
            words.next().map_or_else(Vec::new, |path| files(path, named_in, around))
        }
        _ => Vec::new(),
    }
}

/// The files that a path means; of a folder those in it.
fn files<'a>(path: &str, named_in: &Export, around: &Surroundings<'a>) -> Vec<&'a Export> {
    let path = path.trim_matches(['"', '\'']);
    let path = path.trim_end_matches('/');
    let found = around.find_all(path, named_in);
    if found.is_empty() && !path.contains(['*', '?']) {
        around.find_all(&format!("{path}/*"), named_in)
    } else {
        found
    }
}

/// Whether a file is nobody's: the main file was exported and does not read it in, or it lies where sites, settings and modules
/// wait to be enabled.
fn waits(export: &Export, around: &Surroundings<'_>) -> bool {
    let enabled = |one: &&&Export| one.path().contains("apache2/sites-enabled/");
    let available = ["sites-available/", "conf-available/", "mods-available/"];
    (around.has_main(&["apache2.conf", "httpd.conf"], export) && !around.reads_in(export, included))
        || (available.iter().any(|folder| export.path().contains(folder))
            && around.exports.iter().any(|one| enabled(&one)))
}

struct Loader<'a> {
    around: &'a Surroundings<'a>,
    modules: Vec<String>,
    defined: Vec<(String, String)>,
    open: Vec<(String, Origin)>,
}

impl<'a> Loader<'a> {
    /// The directives in force: files that are read in stand at their places, and conditions are decided.
    fn expand(
        &mut self,
        tree: Vec<Directive<'a>>,
        export: &'a Export,
        open: &mut Vec<&'a str>,
        book: &mut Bookkeeper<'_>,
    ) -> Vec<Directive<'a>> {
        let mut found = Vec::new();
        for mut one in tree {
            match one.name.as_str() {
                "include" | "includeoptional" => {
                    book.understood(one.origin);
                    found.extend(self.include(&one, export, open, book));
                }
                "loadmodule" => {
                    book.understood(one.origin);
                    self.modules.push(one.first().trim_end_matches("_module").to_ascii_lowercase());
                }
                "define" => {
                    book.understood(one.origin);
                    let value = one.words.get(1).copied().unwrap_or_default();
                    self.defined.push((one.first().to_owned(), value.to_owned()));
                }
                "ifmodule" | "ifdefine" | "ifversion" | "if" | "ifdirective" | "iffile" | "ifsection" => {
                    let inside = one.inside.take().unwrap_or_default();
                    if self.holds(&one) {
                        book.understood(one.origin);
                        found.extend(self.expand(inside, export, open, book));
                    } else {
                        passed_over(&one, &inside, book);
                    }
                }
                name => {
                    if JUDGED.contains(&name) {
                        book.understood(one.origin);
                    } else if is_known("apache", name) {
                        book.class(one.origin, LineClass::PassedOver);
                    } else {
                        book.not_understood(
                            one.origin,
                            serving::unknown("the Apache HTTP server, or of a module that is not known here"),
                        );
                    }
                    if let Some(inside) = one.inside.take() {
                        one.inside = Some(self.expand(inside, export, open, book));
                    }
                    found.push(one);
                }
            }
        }
        found
    }

    fn include(
        &mut self,
        one: &Directive<'a>,
        export: &'a Export,
        open: &mut Vec<&'a str>,
        book: &mut Bookkeeper<'_>,
    ) -> Vec<Directive<'a>> {
        let others = files(one.first(), export, self.around);
        if others.is_empty() && one.name == "include" && !one.first().contains(['*', '?']) {
            let text = format!("`{}` is not among the exports; what it states is missing here", one.first());
            book.note(one.origin, text.clone());
            self.open.push((text, one.origin));
        }
        let mut found = Vec::new();
        for other in others {
            if open.contains(&other.path()) || open.len() > DEPTH {
                book.note(one.origin, format!("`{}` reads itself in again; it was read once", one.first()));
                continue;
            }
            open.push(other.path());
            let tree = directives(other, book);
            found.extend(self.expand(tree, other, open, book));
            open.pop();
        }
        found
    }

    /// Whether a condition holds. A module counts as there where nothing was seen to be loaded at all, since it is built in then or
    /// loaded by a file that was not exported.
    fn holds(&self, one: &Directive<'_>) -> bool {
        let (negated, word) = match one.first().strip_prefix('!') {
            Some(word) => (true, word),
            None => (false, one.first()),
        };
        let is = match one.name.as_str() {
            "ifmodule" => {
                let name = word
                    .trim_end_matches(".c")
                    .trim_end_matches("_module")
                    .trim_start_matches("mod_")
                    .to_ascii_lowercase();
                self.modules.is_empty() || self.modules.contains(&name) || BUILT_IN.contains(&name.as_str())
            }
            "ifdefine" => self.defined.iter().any(|(name, _)| name == word),
            _ => return true,
        };
        is != negated
    }

    fn value(&self, word: &str) -> String {
        let mut text = word.to_owned();
        for (name, value) in &self.defined {
            text = text.replace(&format!("${{{name}}}"), value);
        }
        text
    }
}

fn passed_over(one: &Directive<'_>, inside: &[Directive<'_>], book: &mut Bookkeeper<'_>) {
    book.class(one.origin, LineClass::PassedOver);
    for child in inside {
        passed_over(child, child.children(), book);
    }
}

const JUDGED: [&str; 39] = [
    "listen",
    "virtualhost",
    "servername",
    "serveralias",
    "documentroot",
    "directory",
    "directorymatch",
    "location",
    "locationmatch",
    "sslengine",
    "sslprotocol",
    "sslciphersuite",
    "sslverifyclient",
    "options",
    "require",
    "requireany",
    "requireall",
    "requirenone",
    "order",
    "allow",
    "deny",
    "satisfy",
    "authtype",
    "authuserfile",
    "sethandler",
    "proxypass",
    "proxypassmatch",
    "redirect",
    "redirectpermanent",
    "redirectmatch",
    "rewriterule",
    "rewriteengine",
    "dav",
    "alias",
    "scriptalias",
    "proxy",
    "limit",
    "limitexcept",
    "authmerging",
];

fn read(export: &Export, around: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if waits(export, around) {
        book.class(export.origin(0..export.text().len().max(1)), LineClass::PassedOver);
        return reading;
    }
    let mut loader = Loader { around, modules: Vec::new(), defined: Vec::new(), open: Vec::new() };
    let tree = directives(export, &mut book);
    let all = loader.expand(tree, export, &mut vec![export.path()], &mut book);
    mask(export, &all, &mut reading.facts);
    if around.reads_in(export, included) {
        return reading;
    }
    let mut found = servers(&all, &loader);
    if let Some(first) = found.first_mut() {
        first.open.extend(loader.open);
    }
    reading.facts.served.extend(found);
    reading
}

/// Logins in addresses of servers behind; those of other files are masked by them.
fn mask(export: &Export, all: &[Directive<'_>], facts: &mut Facts) {
    for one in all {
        one.words.iter().for_each(|word| serving::mask_login(export, facts, word));
        mask(export, one.children(), facts);
    }
}

/// Ports with their addresses that the server listens at.
struct Listen {
    host: Option<String>,
    port: u16,
    tls: bool,
    origin: Origin,
}

fn servers(all: &[Directive<'_>], loader: &Loader<'_>) -> Vec<Served> {
    let listens: Vec<Listen> = all
        .iter()
        .filter(|one| one.name == "listen")
        .filter_map(|one| {
            let text = loader.value(one.first());
            let (host, port) = match text.parse() {
                Ok(port) => (None, port),
                Err(_) => {
                    let (host, port) = serving::host_and_port(&text);
                    (host.map(str::to_owned), port?)
                }
            };
            let tls = one.words.get(1).is_some_and(|word| word.eq_ignore_ascii_case("https"));
            Some(Listen { host, port, tls, origin: one.origin })
        })
        .collect();
    let hosts: Vec<&Directive<'_>> = all.iter().filter(|one| one.name == "virtualhost").collect();
    let mut found: Vec<Served> =
        hosts.iter().filter_map(|host| site(host.children(), Some(host), all, &listens, loader)).collect();
    // What no virtual host takes is answered by the main server.
    let taken = |listen: &Listen| {
        hosts.iter().flat_map(|one| &one.words).any(|word| {
            let text = loader.value(word);
            let (host, port) = serving::host_and_port(&text);
            let port = port.is_none_or(|port| port == listen.port);
            port && (matches!(host, None | Some("_default_")) || host == listen.host.as_deref())
        })
    };
    let left: Vec<Listen> = listens
        .iter()
        .filter(|one| !taken(one))
        .map(|one| Listen { host: one.host.clone(), ..*one })
        .collect();
    if !left.is_empty() {
        found.extend(site(all, None, all, &left, loader));
    }
    found
}

fn site(
    own: &[Directive<'_>],
    host: Option<&Directive<'_>>,
    all: &[Directive<'_>],
    listens: &[Listen],
    loader: &Loader<'_>,
) -> Option<Served> {
    let last = |name: &str| {
        own.iter()
            .rev()
            .find(|one| one.name == name)
            .or_else(|| all.iter().rev().find(|one| one.name == name))
    };
    let engine = last("sslengine").filter(|one| truth(one.first()) == Some(true));
    let mut endpoints = Vec::new();
    for listen in listens {
        let carried = if engine.is_some() || (listen.tls && host.is_none()) {
            Carried::Encrypted
        } else {
            Carried::Plain
        };
        let at = |origin| Endpoint::everywhere(Protocol::TCP, listen.port, carried, origin);
        let Some(host) = host else {
            endpoints.extend(placed(at(listen.origin), listen.host.as_deref()));
            continue;
        };
        for word in &host.words {
            let text = loader.value(word);
            let (name, port) = serving::host_and_port(&text);
            if port.is_some_and(|port| port != listen.port) {
                continue;
            }
            let name = name.filter(|name| *name != "_default_");
            match (name, listen.host.as_deref()) {
                (Some(name), Some(listening)) if name != listening => {}
                (name, listening) => endpoints.extend(placed(at(listen.origin), name.or(listening))),
            }
        }
    }
    // A virtual host at a port where the server does not listen is never asked.
    if endpoints.is_empty() && host.is_some() && !listens.is_empty() {
        return None;
    }
    let origin =
        host.map_or_else(|| own.first().map_or(listens[0].origin, |_| listens[0].origin), |one| one.origin);
    if endpoints.is_empty() {
        // The lines with ports were not exported; the host names its own.
        let carried = if engine.is_some() { Carried::Encrypted } else { Carried::Plain };
        for word in host.iter().flat_map(|one| &one.words) {
            let text = loader.value(word);
            let (name, port) = serving::host_and_port(&text);
            let at = Endpoint::everywhere(Protocol::TCP, port.unwrap_or(80), carried, origin);
            endpoints.extend(placed(at, name.filter(|name| *name != "_default_")));
        }
    }
    let title = match own.iter().rev().find(|one| one.name == "servername") {
        Some(name) => format!("web site {} (Apache)", name.first()),
        None => format!("web site at {} (Apache)", endpoints.first().map_or(80, |one| one.port)),
    };
    let mut served = Served::new(ServedKind::Pages, "Apache", title, UNITS, origin);
    served.endpoints = endpoints;
    if let Some(engine) = engine {
        served.offers.push(offer(last("sslprotocol"), last("sslciphersuite"), engine.origin));
    }
    served.parts = pages(own, host.is_some(), all, origin);
    Some(served)
}

fn placed(at: Endpoint, host: Option<&str>) -> Option<Endpoint> {
    match host {
        None => Some(at),
        Some("0.0.0.0") => Some(Endpoint { families: Families::V4, ..at }),
        // The library takes IPv4 at this address as well, as distributions build it.
        Some("::") => Some(at),
        Some("localhost") => Some(at.at([127, 0, 0, 1].into())),
        Some(host) => Some(host.parse().map_or_else(|_| at.clone(), |address| at.clone().at(address))),
    }
}

fn offer(protocols: Option<&Directive<'_>>, ciphers: Option<&Directive<'_>>, origin: Origin) -> Offer {
    let ciphers = ciphers.map(|one| {
        // A version may stand before the list.
        (one.words.last().copied().unwrap_or_default(), one.origin)
    });
    if let Some(one) = protocols {
        let versions: Vec<(&str, Origin)> = one.words.iter().map(|word| (*word, one.origin)).collect();
        return tls::listed(ciphers, &versions, one.origin);
    }
    let mut offer = tls::listed(ciphers, &[], origin);
    offer.algorithms.extend(["TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"].map(|name| Offered {
        name: name.to_owned(),
        role: Some(AlgorithmRole::Protocol),
        versions: None,
        suite: 0,
        origin,
        default: Some("mod_ssl, SSLProtocol: all -SSLv3"),
    }));
    offer
}

/// Sections of folders and locations that may hold for a page, in the order in which they count.
fn sections<'d, 'a>(
    own: &'d [Directive<'a>],
    is_host: bool,
    all: &'d [Directive<'a>],
) -> Vec<&'d Directive<'a>> {
    let of = |name: &'static str| {
        let main = all.iter().filter(move |one| one.name == name);
        main.chain(own.iter().filter(move |one| is_host && one.name == name))
    };
    let mut folders: Vec<&Directive<'_>> = of("directory").collect();
    folders.sort_by_key(|one| one.first().trim_end_matches('/').len());
    folders.extend(of("directorymatch"));
    folders.extend(of("location"));
    folders.extend(of("locationmatch"));
    folders
}

/// What sections say of one page.
#[derive(Default)]
struct Said<'d, 'a> {
    require: Vec<&'d Directive<'a>>,
    listing: Option<Origin>,
    handler: Option<(&'a str, Origin)>,
    verify: Option<Origin>,
    dav: Option<Origin>,
    any: bool,
}

impl<'d, 'a> Said<'d, 'a> {
    fn take(&mut self, inside: &'d [Directive<'a>]) {
        const AUTHORISING: [&str; 7] =
            ["require", "requireany", "requireall", "requirenone", "order", "allow", "deny"];
        let own: Vec<&Directive<'_>> =
            inside.iter().filter(|one| AUTHORISING.contains(&one.name.as_str())).collect();
        if !own.is_empty() {
            self.require = own;
        }
        for one in inside {
            match one.name.as_str() {
                "options" => self.options(one),
                "sethandler" => self.handler = Some((one.first(), one.origin)),
                "sslverifyclient" => {
                    self.verify = (one.first().eq_ignore_ascii_case("require")).then_some(one.origin);
                }
                "dav" => self.dav = (truth(one.first()) == Some(true)).then_some(one.origin),
                "satisfy" => self.any = one.first().eq_ignore_ascii_case("any"),
                _ => {}
            }
        }
    }

    /// Options without signs replace all; with signs they add and take away (core, Options).
    fn options(&mut self, one: &Directive<'_>) {
        if !one.words.iter().any(|word| word.starts_with(['+', '-'])) {
            let lists = one
                .words
                .iter()
                .any(|word| word.eq_ignore_ascii_case("indexes") || word.eq_ignore_ascii_case("all"));
            self.listing = lists.then_some(one.origin);
            return;
        }
        for word in &one.words {
            let name = word.trim_start_matches(['+', '-']);
            if name.eq_ignore_ascii_case("indexes") || name.eq_ignore_ascii_case("all") {
                self.listing = (!word.starts_with('-')).then_some(one.origin);
            }
        }
    }
}

fn pages(own: &[Directive<'_>], is_host: bool, all: &[Directive<'_>], origin: Origin) -> Vec<Part> {
    let here = |name: &str| own.iter().filter(|one| one.name == name).collect::<Vec<_>>();
    if let Some(line) = redirect(own) {
        let mut part = page("/", line);
        part.login = Setting::Stated { value: Asked::Nothing, origin: line };
        part.remarks.push((Remark::Redirect, line));
        return vec![part];
    }
    let sections = sections(own, is_host, all);
    let root = own
        .iter()
        .rev()
        .chain(all.iter().rev())
        .find(|one| one.name == "documentroot")
        .map_or("", |one| one.first().trim_end_matches('/'));
    let passes = |name: &str| -> Vec<(String, Origin)> {
        let all = here(name);
        all.iter()
            .filter(|one| one.words.get(1).is_some_and(|to| *to != "!"))
            .map(|one| (one.first().to_owned(), one.origin))
            .collect()
    };
    let handed: Vec<(String, Origin)> =
        passes("proxypass").into_iter().chain(passes("proxypassmatch")).collect();
    // Pages by their path on the site, and the folder behind each.
    let mut wanted: Vec<(String, String, Origin)> = vec![("/".into(), root.to_owned(), origin)];
    let mut aliases: Vec<(&str, &str)> = Vec::new();
    for one in all.iter().filter(|_| is_host).chain(own) {
        if matches!(one.name.as_str(), "alias" | "scriptalias")
            && let [url, folder, ..] = one.words.as_slice()
        {
            aliases.push((url, folder));
            wanted.push(((*url).to_owned(), (*folder).to_owned(), one.origin));
        }
    }
    for one in &sections {
        match one.name.as_str() {
            "location" if one.first().starts_with('/') => {
                let folder = behind(one.first(), root, &aliases, &handed);
                wanted.push((one.first().to_owned(), folder, one.origin));
            }
            "location" | "locationmatch" => wanted.push((one.words.join(" "), String::new(), one.origin)),
            "directory" if !root.is_empty() => {
                if let Some(rest) =
                    one.first().strip_prefix(root).filter(|rest| !rest.trim_matches('/').is_empty())
                {
                    wanted.push((rest.to_owned(), one.first().to_owned(), one.origin));
                }
            }
            _ => {}
        }
    }
    wanted.extend(handed.iter().map(|(url, origin)| (url.clone(), String::new(), *origin)));
    let mut seen: Vec<String> = Vec::new();
    let mut parts = Vec::new();
    for (url, folder, line) in wanted {
        let key = if url.len() > 1 { url.trim_end_matches('/').to_owned() } else { url.clone() };
        if seen.contains(&key) {
            continue;
        }
        seen.push(key);
        parts.extend(one_page(&url, &folder, line, &sections, own, &handed));
    }
    parts
}

/// The folder behind a page, whose sections count as well; nothing behind one that is handed on.
fn behind(url: &str, root: &str, aliases: &[(&str, &str)], handed: &[(String, Origin)]) -> String {
    let within = |path: &str| below(url, path.trim_end_matches('/'));
    if handed.iter().any(|(path, _)| within(path)) || root.is_empty() {
        return String::new();
    }
    match aliases.iter().find(|(path, _)| within(path)) {
        Some((path, folder)) => {
            format!("{folder}{}", url.get(path.trim_end_matches('/').len()..).unwrap_or_default())
        }
        None => format!("{root}{url}"),
    }
}

fn one_page(
    url: &str,
    folder: &str,
    line: Origin,
    sections: &[&Directive<'_>],
    own: &[Directive<'_>],
    handed: &[(String, Origin)],
) -> Vec<Part> {
    let mut said = Said::default();
    said.take(own);
    for one in sections {
        let path = one.first().trim_end_matches('/');
        let fits = match one.name.as_str() {
            // A page without a folder of its own is handed on or made by the server.
            "directory" => !folder.is_empty() && below(folder, path),
            "location" => below(url, path),
            _ => one.words.join(" ") == url,
        };
        if fits {
            said.take(one.children());
        }
    }
    let mut part = page(url, line);
    part.path = Some(folder.to_owned()).filter(|folder| !folder.is_empty());
    let made = said.handler.is_some();
    part.remarks
        .extend(said.listing.filter(|_| !folder.is_empty() && !made).map(|origin| (Remark::Listing, origin)));
    match said.handler {
        Some((name, origin)) if name.starts_with("server-") => part.remarks.push((Remark::Status, origin)),
        Some((name, origin)) if name.ends_with("-manager") => {
            part.remarks.push((Remark::Administration, origin))
        }
        Some((name, origin)) if name.starts_with("proxy:") => part.remarks.push((Remark::HandedOn, origin)),
        _ => {}
    }
    let on =
        handed.iter().find(|(path, _)| below(url, path.trim_end_matches('/'))).map(|(_, origin)| *origin);
    let inside = sections.iter().filter(|one| one.first() == url).flat_map(|one| one.children());
    let on = on.or_else(|| inside.filter(|one| one.name == "proxypass").map(|one| one.origin).next());
    part.remarks.extend(on.map(|origin| (Remark::HandedOn, origin)));
    if let Some(origin) = said.dav {
        part.writes = Setting::Stated { value: true, origin };
    }
    let mut ways = said.ways();
    if let Some(origin) = said.verify {
        let certificate = Way { sources: Sources::everybody(), asked: Asked::Certificate, origin };
        ways = Some(ways.map_or_else(
            || vec![certificate.clone()],
            |all| all.iter().map(|way| both(way, &certificate)).collect(),
        ));
    }
    match ways {
        Some(all) => {
            let mut found = parts_of(&part, &all);
            if on.is_some() {
                for one in found.iter_mut().filter(|one| one.asks_nothing()) {
                    one.login = Setting::Unknown { why: "the server that it is handed on to decides".into() };
                }
            }
            found
        }
        None => {
            part.login = match on {
                Some(_) => Setting::Unknown { why: "the server that it is handed on to decides".into() },
                None => Setting::default_of(Asked::Nothing, "Apache", "mod_authz_core, Require"),
            };
            vec![part]
        }
    }
}

/// Whether a path is another or lies below it.
fn below(path: &str, above: &str) -> bool {
    let path = path.trim_end_matches('/');
    path == above || path.strip_prefix(above).is_some_and(|rest| rest.starts_with('/')) || above.is_empty()
}

impl Said<'_, '_> {
    /// Who is let in; nothing where nothing says.
    fn ways(&self) -> Option<Vec<Way>> {
        if self.require.is_empty() {
            return None;
        }
        let modern: Vec<&Directive<'_>> =
            self.require.iter().copied().filter(|one| one.name.starts_with("require")).collect();
        let old: Vec<&Directive<'_>> =
            self.require.iter().copied().filter(|one| !one.name.starts_with("require")).collect();
        let login = (!modern.is_empty()).then(|| any(&modern));
        let address = (!old.is_empty()).then(|| vec![ordered(&old)]);
        match (login, address) {
            (Some(login), Some(address)) if self.any => Some(login.into_iter().chain(address).collect()),
            (Some(login), Some(address)) => Some(all_of(&[login, address])),
            (one, other) => one.or(other),
        }
    }
}

/// Ways of which each is enough. Conditions that forbid take from the others only beside them.
fn any(all: &[&Directive<'_>]) -> Vec<Way> {
    all.iter().flat_map(|one| required(one)).collect()
}

/// Ways that meet every one of some lists.
fn all_of(lists: &[Vec<Way>]) -> Vec<Way> {
    let mut found: Option<Vec<Way>> = None;
    for list in lists {
        found = Some(match found {
            None => list.clone(),
            Some(held) => {
                held.iter().flat_map(|one| list.iter().map(move |other| both(one, other))).collect()
            }
        });
    }
    found.unwrap_or_default().into_iter().filter(|way| !way.sources.is_nobody()).collect()
}

fn required(one: &Directive<'_>) -> Vec<Way> {
    let way = |sources: Sources, asked| Way { sources, asked, origin: one.origin };
    match one.name.as_str() {
        "requireany" => any(&one.children().iter().collect::<Vec<_>>()),
        "requireall" => {
            let mut lists = Vec::new();
            let mut gone = Vec::new();
            for child in one.children() {
                match child.name.as_str() {
                    "requirenone" => {
                        gone.extend(
                            child.children().iter().flat_map(required).flat_map(|way| way.sources.ranges),
                        );
                    }
                    _ if child.first() == "not" => {
                        gone.extend(meant(child, &child.words[1..]).sources.ranges)
                    }
                    _ => lists.push(required(child)),
                }
            }
            let held = all_of(&lists);
            held.into_iter().map(|way| Way { sources: way.sources.clone().without(&gone), ..way }).collect()
        }
        "requirenone" => Vec::new(),
        "require" if one.first() == "not" => Vec::new(),
        "require" => {
            let found = meant(one, &one.words);
            if found.sources.is_nobody() { Vec::new() } else { vec![found] }
        }
        _ => vec![way(Sources::everybody(), Asked::Nothing)],
    }
}

/// What a line of `Require` lets in.
fn meant(one: &Directive<'_>, words: &[&str]) -> Way {
    let kind = words.first().map_or(String::new(), |word| word.to_ascii_lowercase());
    let mut sources = Sources { origins: vec![one.origin], ..Sources::default() };
    let mut asked = Asked::Nothing;
    match kind.as_str() {
        "all" if words.get(1).is_some_and(|word| word.eq_ignore_ascii_case("denied")) => {}
        "all" => sources = Sources::everybody(),
        "local" => sources.ranges.extend(serving::loopback()),
        "ip" => words[1..].iter().for_each(|word| serving::host(&dotted(word), &mut sources)),
        "host" | "forward-dns" => sources.names.extend(words[1..].iter().map(|word| (*word).to_owned())),
        // A page for everybody under a condition on the method or on a variable.
        "method" | "env" | "expr" => sources.names.push(words.join(" ")),
        _ => {
            sources = Sources::everybody();
            asked = Asked::Password;
        }
    }
    Way { sources, asked, origin: one.origin }
}

/// The beginning of an address with its dot: `10.4` stands for `10.4.`.
fn dotted(word: &str) -> String {
    let short = word.bytes().filter(|byte| *byte == b'.').count() < 3 && !word.contains([':', '/']);
    if short && !word.ends_with('.') { format!("{word}.") } else { word.to_owned() }
}

/// `Order`, `Allow from`, `Deny from` (mod_access_compat).
fn ordered(all: &[&Directive<'_>]) -> Way {
    let hosts = |name: &str| {
        let mut found = Sources::default();
        for one in all.iter().filter(|one| one.name == name) {
            found.origins.push(one.origin);
            let words = one.words.iter().filter(|word| !word.eq_ignore_ascii_case("from"));
            words.for_each(|word| {
                serving::host(
                    &if word.starts_with(|letter: char| letter.is_ascii_digit()) {
                        dotted(word)
                    } else {
                        (*word).to_owned()
                    },
                    &mut found,
                )
            });
        }
        found
    };
    let (allow, deny) = (hosts("allow"), hosts("deny"));
    let order = all
        .iter()
        .rev()
        .find(|one| one.name == "order")
        .map_or(String::new(), |one| one.words.concat().to_ascii_lowercase());
    let origins: Vec<Origin> = allow.origins.iter().chain(&deny.origins).copied().collect();
    // `allow,deny` keeps out whom nothing names, and a denial wins; `deny,allow`, the default, lets them in, and an allowance wins.
    let mut sources = if order.starts_with("allow") {
        allow.without(&deny.ranges)
    } else {
        let mut rest = Sources::everybody().without(&deny.ranges).without(&allow.ranges);
        rest.ranges.extend(allow.ranges);
        rest.names = allow.names;
        rest
    };
    if !sources.is_everybody() {
        sources.origins = origins;
    }
    Way { sources, asked: Asked::Nothing, origin: all[0].origin }
}

/// A directive of the site that sends everybody to a place with TLS.
fn redirect(own: &[Directive<'_>]) -> Option<Origin> {
    let to_tls = |one: &Directive<'_>, from: &[&str]| {
        one.words.iter().any(|word| word.to_ascii_lowercase().starts_with("https://"))
            && one.words.iter().any(|word| from.contains(word))
    };
    let fits = |one: &&Directive<'_>| match one.name.as_str() {
        "redirect" | "redirectpermanent" => to_tls(one, &["/"]),
        "redirectmatch" => to_tls(one, &["^", "^/", "^/(.*)", "^/(.*)$", "^(.*)$", ".*", "(.*)"]),
        "rewriterule" => {
            let on = own.iter().any(|one| one.name == "rewriteengine" && truth(one.first()) == Some(true));
            on && to_tls(
                one,
                &["^", "^/", ".*", "^.*$", "^(.*)$", "(.*)", "^/?(.*)", "^/?(.*)$", "^/(.*)$", "^/(.*)"],
            )
        }
        _ => false,
    };
    own.iter().find(fits).map(|one| one.origin)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(files: &[(&str, &str)]) -> Reading {
        let exports: Vec<Export> = files
            .iter()
            .enumerate()
            .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).into()))
            .collect();
        read(&exports[0], &Surroundings::of(exports.iter().collect()))
    }

    fn told(reading: &Reading) -> Vec<String> {
        let line = |part: &Part| {
            let mut remarks: Vec<String> = part.remarks.iter().map(|(one, _)| format!("{one:?}")).collect();
            if part.is_written() {
                remarks.push("writes".into());
            }
            format!("{} {} {:?} {}", part.name, part.sources.words(), part.login.value(), remarks.join(" "))
        };
        let all = reading.facts.served.iter().flat_map(|one| &one.parts).map(line);
        all.map(|line| line.trim_end().to_owned()).collect()
    }

    fn site(inner: &str) -> Vec<String> {
        let text = format!("Listen 80\n<VirtualHost *:80>\nDocumentRoot /var/www\n{inner}</VirtualHost>\n");
        let reading = of(&[("d/etc/apache2/apache2.conf", &text)]);
        assert!(reading.ledger.notes.is_empty(), "{inner}: {:?}", reading.ledger.notes);
        told(&reading)
    }

    #[test]
    fn pages_and_who_may() {
        for (inner, wanted) in [
            ("", &["/ everybody Some(Nothing)"][..]),
            (
                "<Directory /var/www>\nOptions Indexes FollowSymLinks\nRequire all granted\n</Directory>\n",
                &["/ everybody Some(Nothing) Listing"],
            ),
            (
                "<Directory />\nOptions Indexes\n</Directory>\n<Directory /var/www>\nOptions -Indexes\n</Directory>\n",
                &["/ everybody Some(Nothing)"],
            ),
            ("<Directory />\nRequire all denied\n</Directory>\n", &[]),
            (
                "<Location />\nRequire ip 10.4 10.5.0.0/16\n</Location>\n",
                &["/ 10.4.0.0/16, 10.5.0.0/16 Some(Nothing)"],
            ),
            (
                "<Location /a>\nAuthType Basic\nRequire valid-user\n</Location>\n",
                &["/ everybody Some(Nothing)", "/a everybody Some(Password)"],
            ),
            (
                "<Location />\nRequire ip 10.4.0.9\nRequire valid-user\n</Location>\n",
                &["/ 10.4.0.9 Some(Nothing)", "/ everybody Some(Password)"],
            ),
            (
                "<Location />\n<RequireAll>\nRequire ip 10.4.0.9\nRequire valid-user\n</RequireAll>\n</Location>\n",
                &["/ 10.4.0.9 Some(Password)"],
            ),
            (
                "<Location />\n<RequireAll>\nRequire all granted\nRequire not ip 0.0.0.0/0\n</RequireAll>\n</Location>\n",
                &["/ everybody Some(Nothing)"],
            ),
            (
                "<Location />\nOrder deny,allow\nDeny from all\nAllow from 10.4\n</Location>\n",
                &["/ 10.4.0.0/16 Some(Nothing)"],
            ),
            (
                "<Location />\nOrder allow,deny\nAllow from all\nDeny from 10.4\n</Location>\n",
                &["/ everybody Some(Nothing)"],
            ),
            (
                "<Location /server-status>\nSetHandler server-status\nRequire local\n</Location>\n",
                &["/ everybody Some(Nothing)", "/server-status 127.0.0.0/8, ::1 Some(Nothing) Status"],
            ),
            (
                "ProxyPass /admin http://10.4.0.9/\n",
                &["/ everybody Some(Nothing)", "/admin everybody None Administration HandedOn"],
            ),
            ("Redirect permanent / https://yard.example/\n", &["/ everybody Some(Nothing) Redirect"]),
            (
                "RewriteEngine on\nRewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI}\n",
                &["/ everybody Some(Nothing) Redirect"],
            ),
            ("RewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI}\n", &["/ everybody Some(Nothing)"]),
            (
                "<Directory /var/www/drop>\nDav On\n</Directory>\n",
                &["/ everybody Some(Nothing)", "/drop everybody Some(Nothing) writes"],
            ),
        ] {
            assert_eq!(site(inner), wanted, "{inner}");
        }
    }

    #[test]
    fn places_and_conditions() {
        for (text, wanted) in [
            ("Listen 80\nDocumentRoot /a\n", &["web site at 80 (Apache) None/80 Plain"][..]),
            ("Listen 127.0.0.1:8080\n", &["web site at 8080 (Apache) Some(127.0.0.1)/8080 Plain"]),
            // Nobody listens at 8443.
            (
                "Listen 80\n<VirtualHost *:8443>\nServerName a\n</VirtualHost>\n",
                &["web site at 80 (Apache) None/80 Plain"],
            ),
            (
                "Listen 443\n<VirtualHost *:443>\nServerName a\nSSLEngine on\n</VirtualHost>\n",
                &["web site a (Apache) None/443 Encrypted"],
            ),
            (
                "LoadModule dir_module x\n<IfModule mod_ssl.c>\nListen 443\n</IfModule>\n<IfModule !mod_ssl.c>\nListen 80\n</IfModule>\n",
                &["web site at 80 (Apache) None/80 Plain"],
            ),
            (
                "<IfModule ssl_module>\nListen 443\n</IfModule>\n",
                &["web site at 443 (Apache) None/443 Plain"],
            ),
            ("Define P 8088\nListen ${P}\n", &["web site at 8088 (Apache) None/8088 Plain"]),
        ] {
            let reading = of(&[("d/etc/apache2/apache2.conf", text)]);
            let line = |one: &Served| {
                let at = &one.endpoints[0];
                format!("{} {:?}/{} {:?}", one.name, at.address, at.port, at.carried)
            };
            assert_eq!(reading.facts.served.iter().map(line).collect::<Vec<_>>(), wanted, "{text}");
        }
    }

    #[test]
    fn sites_that_are_not_enabled_are_nobodys() {
        const MAIN: (&str, &str) =
            ("d/etc/apache2/apache2.conf", "Include ports.conf\nIncludeOptional sites-enabled/*.conf\n");
        const PORTS: (&str, &str) = ("d/etc/apache2/ports.conf", "Listen 80\n");
        const ON: (&str, &str) =
            ("d/etc/apache2/sites-enabled/a.conf", "<VirtualHost *:80>\nServerName a\n</VirtualHost>\n");
        const OFF: (&str, &str) =
            ("d/etc/apache2/sites-available/b.conf", "<VirtualHost *:80>\nServerName b\n</VirtualHost>\n");
        let names = |files: &[(&str, &str)]| {
            of(files).facts.served.iter().map(|one| one.name.clone()).collect::<Vec<_>>()
        };
        assert_eq!(names(&[MAIN, PORTS, ON, OFF]), ["web site a (Apache)"]);
        assert!(names(&[OFF, MAIN, PORTS, ON]).is_empty() && names(&[ON, MAIN, PORTS]).is_empty());
    }

    #[test]
    fn what_is_wrong_is_told() {
        for (text, notes) in [
            ("Colour red\n", 1),
            ("Include more.conf\n", 1),
            ("<VirtualHost *:80>\n", 1),
            ("</Directory>\n", 1),
        ] {
            assert_eq!(of(&[("d/apache2.conf", text)]).ledger.notes.len(), notes, "{text}");
        }
    }
}
