//! `nginx.conf` with the files it reads in, and what `nginx -T` prints (nginx.org, "Core functionality" and the modules' pages).
//!
//! A directive holds in the blocks within its block, unless they have it themselves; lists (`allow`, `deny`) are taken over as a
//! whole or not at all.
//!
//! Long because blocks hand their directives down, so that they are read together.

#[cfg(test)]
mod tests;

use super::{Way, both, page, parts_of};
use crate::braces::{Comments, Statement, statements};
use crate::growth::may_grow;
use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::relaying;
use crate::serving::{self, is_known};
use crate::tls;
use crate::web::shown;
use std::cell::OnceCell;
use std::collections::BTreeMap;
use trevlin_model::offer::{AlgorithmRole, Offer, Offered};
use trevlin_model::relay::Relay;
use trevlin_model::served::{
    AuthRequirement, BypassKind, Endpoint, LoginBypass, Remark, Served, ServedKind, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Facts, Families, LineClass, Origin, Protocol, Setting, find_paths};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "nginx",
    title: "web server (nginx)",
    manual: "nginx.org, documentation of directives",
    recognise,
    read,
};

const UNITS: &[&str] = &["nginx"];

fn recognise(export: &Export) -> Recognition {
    let path = export.path();
    let named = export.file_name() == "nginx.conf"
        || path.contains("nginx/sites-")
        || path.contains("nginx/conf.d/")
        || path.contains("nginx/snippets/");
    let mut block = false;
    let mut tells = false;
    for line in export.lines().take(TELLING_LINES) {
        let mut words = line.text.split_whitespace();
        let first = words.next().unwrap_or_default();
        let rest = words.next().unwrap_or_default();
        block |= matches!(first, "server" | "http" | "events" | "server{" | "http{" | "events{")
            && (first.ends_with('{') || rest == "{" || rest.is_empty());
        tells |= line.text.trim_end().ends_with(';')
            && ["listen", "server_name", "proxy_pass", "worker_connections", "worker_processes"]
                .contains(&first);
        tells |= line.text.starts_with("# configuration file /") && line.text.ends_with(':');
    }
    match (block && tells, named) {
        (true, _) => Recognition::Content,
        (false, true) => Recognition::Name,
        _ => Recognition::No,
    }
}

/// One file: of its own, or a piece of what `nginx -T` printed.
#[derive(Clone, Copy)]
struct File<'a> {
    path: &'a str,
    export: &'a Export,
    text: &'a str,
}

/// The pieces of a dump; nothing where it is none.
fn pieces(export: &Export) -> Vec<File<'_>> {
    const MARK: &str = "# configuration file ";
    let text = export.text();
    let mut starts: Vec<(usize, &str, usize)> = Vec::new();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        if let Some(path) = line.trim_end().strip_prefix(MARK).and_then(|rest| rest.strip_suffix(':')) {
            starts.push((at, path, at + line.len()));
        }
        at += line.len();
    }
    let ends = starts.iter().skip(1).map(|one| one.0).chain([text.len()]);
    starts
        .iter()
        .zip(ends)
        .map(|((_, path, from), to)| File { path, export, text: &text[*from..to] })
        .collect()
}

struct World<'a> {
    dump: Vec<File<'a>>,
    around: &'a ReadContext<'a>,
    open: Vec<(String, Origin)>,
}

impl<'a> World<'a> {
    fn find(&self, path: &str, named_in: &File<'a>) -> Vec<File<'a>> {
        if self.dump.is_empty() {
            let found = self.around.find_all(path, named_in.export);
            return found
                .into_iter()
                .map(|one| File { path: one.path(), export: one, text: one.text() })
                .collect();
        }
        let paths: Vec<&str> = self.dump.iter().map(|one| one.path).collect();
        find_paths(path, named_in.path, &paths).into_iter().map(|at| self.dump[at]).collect()
    }

    /// The statements of a file, with those of the files it reads in at their places.
    fn tree(
        &mut self,
        file: File<'a>,
        open: &mut Vec<&'a str>,
        book: &mut LineRecorder<'_>,
    ) -> Vec<Statement<'a>> {
        let own = statements(file.export, file.text, Comments::Hash, book);
        self.expand(own, file, open, book)
    }

    fn expand(
        &mut self,
        all: Vec<Statement<'a>>,
        file: File<'a>,
        open: &mut Vec<&'a str>,
        book: &mut LineRecorder<'_>,
    ) -> Vec<Statement<'a>> {
        let mut found = Vec::new();
        for mut one in all {
            if one.name() != "include" || one.block.is_some() {
                if !matches!(one.name(), "map" | "geo" | "types" | "split_clients") {
                    one.block = one.block.map(|block| self.expand(block, file, open, book));
                }
                found.push(one);
                continue;
            }
            book.understood(one.origin);
            let files = self.find(one.value(), &file);
            let harmless =
                crate::includes::has_no_bearing(one.value()) || one.value().contains("modules-enabled");
            if files.is_empty() && !harmless && !one.value().contains(['*', '?']) {
                let text = crate::reader::missing_note(one.value());
                book.note(one.origin, text.clone());
                self.open.push((text, one.origin));
            }
            for other in files {
                // A dump holds many files as one export, each by its own name.
                let open_now = Open { again: open.contains(&other.path), depth: open.len() };
                if !book.may_read_in_part(one.origin, other.export, open_now, usize::MAX, other.text.len()) {
                    continue;
                }
                open.push(other.path);
                found.extend(self.tree(other, open, book));
                open.pop();
            }
        }
        found
    }
}

/// The exports that a line reads in.
fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let mut words = line.split_whitespace();
    match words.next() {
        Some("include") => words.next().map_or_else(Vec::new, |path| {
            around.find_all(path.trim_end_matches(';').trim_matches(['"', '\'']), named_in)
        }),
        _ => Vec::new(),
    }
}

/// Whether a file is not in force: the main file was exported and does not include it, or it is in a folder of available sites.
fn waits(export: &Export, around: &ReadContext<'_>) -> bool {
    /// Whether the device has sites that are enabled.
    struct Enabled(bool);
    let enabled = || {
        let all = &around.exports;
        around.once(|| Enabled(all.iter().any(|one| one.path().contains("nginx/sites-enabled/")))).0
    };
    let available = export.path().contains("sites-available/");
    (around.has_main(&["nginx.conf"], export)
        && pieces(export).is_empty()
        && !around.reads_in(export, included))
        || (available && enabled())
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let whole = export.origin(0..export.text().len().max(1));
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if waits(export, around) {
        book.class(whole, LineClass::Ignored);
        return reading;
    }
    let mut world = World { dump: pieces(export), around, open: Vec::new() };
    let main =
        world.dump.first().copied().unwrap_or(File { path: export.path(), export, text: export.text() });
    let mut open = vec![main.path];
    let tree = world.tree(main, &mut open, &mut book);
    account(&tree, &mut book);
    mask(export, &tree, &mut reading.facts);
    if around.reads_in(export, included) {
        return reading;
    }
    let mut found = Vec::new();
    servers(&tree, &[], &mut found, false);
    if let Some(first) = found.first_mut() {
        first.served.open.extend(world.open);
    }
    for one in found {
        reading.facts.relays.extend(relaying::placed(one.relays, &one.served));
        reading.facts.served.push(one.served);
    }
    reading
}

/// Logins in addresses of servers behind; those of other files are masked by them.
fn mask(export: &Export, all: &[Statement<'_>], facts: &mut Facts) {
    for one in all {
        one.words.iter().for_each(|word| serving::mask_login(export, facts, word));
        mask(export, one.children(), facts);
    }
}

/// Classification of each statement.
fn account(all: &[Statement<'_>], book: &mut LineRecorder<'_>) {
    for one in all {
        let name = one.name();
        if JUDGED.contains(&name) {
            book.understood(one.origin);
        } else if name.is_empty()
            || is_known("nginx", name)
            || name.starts_with("lua_")
            || name.contains("_by_lua")
        {
            book.class(one.origin, LineClass::Ignored);
        } else {
            book.not_understood(one.origin, serving::unknown("nginx, or of an unknown module"));
        }
        // Lists of values are no directives.
        if !matches!(name, "map" | "geo" | "types" | "upstream" | "split_clients" | "match")
            && !name.contains("_by_lua")
        {
            account(one.children(), book);
        }
    }
}

const JUDGED: [&str; 33] = [
    "ssl_certificate",
    "set_real_ip_from",
    "http",
    "server",
    "location",
    "stream",
    "listen",
    "server_name",
    "ssl",
    "ssl_protocols",
    "ssl_ciphers",
    "ssl_verify_client",
    "auth_basic",
    "auth_basic_user_file",
    "auth_request",
    "auth_jwt",
    "satisfy",
    "allow",
    "deny",
    "autoindex",
    "stub_status",
    "proxy_pass",
    "fastcgi_pass",
    "uwsgi_pass",
    "scgi_pass",
    "grpc_pass",
    "return",
    "rewrite",
    "root",
    "alias",
    "dav_methods",
    "limit_except",
    "ssl_certificate",
];

/// The settings of the blocks that contain a statement, the outermost first.
type Chain<'c, 's, 'a> = [&'c Settings<'s, 'a>];

/// The settings of one block by their names, in the order of the file.
#[derive(Default)]
struct Settings<'s, 'a> {
    by_name: BTreeMap<&'s str, Vec<&'s Statement<'a>>>,
    /// Clients that its address lists permit, on their own and in addition to a login: computed once for all places that inherit them.
    admitted: [OnceCell<Sources>; 2],
}

/// The settings of a block. A main file may include thousands of servers, and inherited settings are not blocks.
fn settings<'s, 'a>(one: &'s Statement<'a>) -> Settings<'s, 'a> {
    let mut settings = Settings::default();
    for one in one.children().iter().filter(|one| one.block.is_none()) {
        settings.by_name.entry(one.name()).or_default().push(one);
    }
    settings
}

/// A server with the servers behind it.
struct Site {
    served: Served,
    relays: Vec<Relay>,
    /// The paths of all its locations.
    paths: Vec<String>,
}

/// Groups of servers by their names (ngx_http_upstream_module, upstream).
type Upstreams<'s, 'a> = BTreeMap<&'a str, &'s Statement<'a>>;

/// Bytes that a server comes to, with one page.
const SERVER: usize = 2 << 10;

/// The blocks from the outermost to a server, and the server.
fn servers<'s, 'a>(all: &'s [Statement<'a>], outer: &Chain<'_, 's, 'a>, found: &mut Vec<Site>, stream: bool) {
    let groups = all.iter().filter(|one| one.name() == "upstream" && one.block.is_some());
    let groups: Upstreams<'s, 'a> = groups.map(|one| (one.value(), one)).collect();
    for one in all {
        match one.name() {
            "http" | "stream" if one.block.is_some() => {
                let own = settings(one);
                let chain = [outer, &[&own]].concat();
                servers(one.children(), &chain, found, one.name() == "stream");
            }
            // A file that is read in over and over has its servers each time.
            "server" if one.block.is_some() && may_grow(SERVER) => {
                let own = settings(one);
                let chain = [outer, &[&own]].concat();
                found.push(server(one, &chain, stream, &groups));
            }
            _ => {}
        }
    }
}

/// The last statement of a name in the innermost block that has one.
fn inherited<'s, 'a>(chain: &Chain<'_, 's, 'a>, name: &str) -> Option<&'s Statement<'a>> {
    chain.iter().rev().find_map(|block| block.by_name.get(name)?.last()).copied()
}

impl<'s, 'a> Settings<'s, 'a> {
    /// Its rules about addresses.
    fn rules(&self) -> Vec<&'s Statement<'a>> {
        let all = ["allow", "deny"].into_iter().filter_map(|name| self.by_name.get(name)).flatten();
        let mut all: Vec<&'s Statement<'a>> = all.copied().collect();
        // Back in the order in which they stand: all of one block are elements of one list.
        all.sort_by_key(|one| std::ptr::from_ref(*one) as usize);
        all
    }

    /// Clients that they permit; those without a match as well, unless only listed clients are requested.
    fn admits(&self, named_only: bool) -> &Sources {
        self.admitted[usize::from(named_only)].get_or_init(|| addresses(&self.rules(), named_only))
    }
}

fn server<'s, 'a>(
    one: &'s Statement<'a>,
    chain: &Chain<'_, 's, 'a>,
    stream: bool,
    groups: &Upstreams<'s, 'a>,
) -> Site {
    let name = one
        .last("server_name")
        .map(|one| one.arguments().join(" "))
        .filter(|name| !matches!(name.as_str(), "_" | ""));
    let listens: Vec<&Statement<'_>> = one.children().iter().filter(|one| one.name() == "listen").collect();
    let first = listens.first().map_or("", |one| one.value());
    let title = match (&name, stream) {
        (_, true) => format!("relay at {first} (nginx)"),
        (Some(name), _) => format!("web site {name} (nginx)"),
        (None, _) => format!("web site at {} (nginx)", if first.is_empty() { "80" } else { first }),
    };
    let kind = if stream { ServedKind::Relays } else { ServedKind::Pages };
    let mut served = Served::new(kind, "nginx", title, UNITS, one.origin)
        .labelled(name.unwrap_or_else(|| if stream { first.to_owned() } else { String::new() }));
    let ssl_on = inherited(chain, "ssl").is_some_and(|one| one.value() == "on");
    for listen in &listens {
        let places = endpoints(listen, ssl_on);
        served.endpoints.extend(places.into_iter().map(|at| if stream { at.as_relay() } else { at }));
    }
    if listens.is_empty() && !stream {
        served.endpoints.push(Endpoint {
            families: Families::V4,
            ..Endpoint::everywhere(Protocol::TCP, 80, TransportSecurity::Plain, one.origin)
        });
    }
    if served.endpoints.iter().any(|one| one.carried == TransportSecurity::Encrypted) {
        served.offers.push(offer(chain, one.origin));
        // The innermost block with one has all that are shown (ngx_http_ssl_module, ssl_certificate).
        let own = chain.iter().rev().find_map(|block| block.by_name.get("ssl_certificate"));
        served.certificates.extend(
            own.into_iter()
                .flatten()
                .filter(|one| !one.value().contains('$'))
                .map(|one| shown(one.value(), one.origin)),
        );
        served.host_names = one.last("server_name").map_or_else(Vec::new, |one| {
            let plain = |name: &&&str| name.contains('.') && !name.starts_with(['~', '.', '*']);
            one.arguments().iter().filter(plain).map(|name| (*name).to_owned()).collect()
        });
    }
    if stream {
        let mut part = page("", one.origin);
        let passed = inherited(chain, "proxy_pass");
        part.remarks.extend(passed.map(|one| (Remark::HandedOn, one.origin)));
        served.parts.extend(ways(chain).map_or_else(|| vec![part.clone()], |ways| parts_of(&part, &ways)));
        let mut relays = Vec::new();
        for mut relay in passed.into_iter().flat_map(|one| behind(one, None, groups)) {
            relay.protocol = served.endpoints.first().map_or(Protocol::TCP, |at| at.protocol);
            let sends = inherited(chain, "proxy_protocol").filter(|one| one.value() == "on");
            let kept =
                sends.or_else(|| inherited(chain, "proxy_bind").filter(|one| one.value().starts_with('$')));
            relay.source_kept_origin = kept.map(|one| one.origin);
            relaying::for_each_way(&relay, &served.parts, &mut relays);
        }
        return Site { served, relays, paths: Vec::new() };
    }
    // A redirect of the server as a whole comes before any of its pages.
    if let Some(origin) = redirect(one.children()) {
        let mut part = page("/", origin);
        part.login = Setting::Stated { value: AuthRequirement::Nothing, origin };
        part.remarks.push((Remark::Redirect, origin));
        served.parts.push(part);
        return Site { served, relays: Vec::new(), paths: Vec::new() };
    }
    let mut site = Site { served, relays: Vec::new(), paths: Vec::new() };
    pages("/", one, chain, groups, &mut site);
    locations(one, chain, groups, &mut site);
    if let (Some(origin), Some(part)) = (sometimes(one.children()), site.served.parts.first_mut()) {
        part.remarks.push((Remark::RedirectSometimes, origin));
    }
    relaying::divide(&mut site.relays, &site.paths);
    site
}

/// The servers that a statement hands on to: those of a group, or the one that it names; of pages with their path.
fn behind<'s, 'a>(one: &'s Statement<'a>, path: Option<&str>, groups: &Upstreams<'s, 'a>) -> Vec<Relay> {
    let value = one.value();
    let (scheme, rest) = value.split_once("://").map_or(("", value), |(scheme, rest)| (scheme, rest));
    let (name, uri) = rest.find('/').map_or((rest, None), |at| (&rest[..at], Some(&rest[at..])));
    let usual = match scheme {
        "https" | "grpcs" => 443,
        _ => 80,
    };
    let relay = |server: (&str, u16), origin: Origin| {
        let mut relay = Relay::new("nginx", "", server, origin);
        relay.path = path.map(str::to_owned);
        relay.onward = uri.filter(|_| path.is_some()).map(str::to_owned);
        relay
    };
    match groups.get(name) {
        Some(group) => {
            let servers = group.children().iter().filter(|one| one.name() == "server");
            let up = servers.filter(|one| !one.arguments().contains(&"down"));
            up.filter_map(|one| Some(relay(relaying::server(one.value(), Some(usual))?, one.origin)))
                .collect()
        }
        None => {
            let usual = path.map(|_| usual);
            relaying::server(name, usual).map(|server| relay(server, one.origin)).into_iter().collect()
        }
    }
}

/// Parts of the locations in a block.
fn locations<'s, 'a>(
    outer: &'s Statement<'a>,
    chain: &Chain<'_, 's, 'a>,
    groups: &Upstreams<'s, 'a>,
    site: &mut Site,
) {
    for one in outer.children().iter().filter(|one| one.name() == "location" && one.block.is_some()) {
        let own = settings(one);
        let inner = [chain, &[&own]].concat();
        let path = one.arguments().join(" ");
        let parts = &mut site.served.parts;
        if matches!(one.value(), "/") && parts.first().is_some_and(|part| part.name == "/") {
            // It stands for all that no other location takes.
            parts.retain(|part| part.name != "/");
        }
        site.paths.push(path.clone());
        pages(&path, one, &inner, groups, site);
        locations(one, &inner, groups, site);
    }
}

fn pages<'s, 'a>(
    path: &str,
    one: &'s Statement<'a>,
    chain: &Chain<'_, 's, 'a>,
    groups: &Upstreams<'s, 'a>,
    site: &mut Site,
) {
    let mut part = page(path, one.origin);
    // An internal location cannot be requested.
    if one.last("internal").is_some() {
        return;
    }
    part.path =
        inherited(chain, "alias").or_else(|| inherited(chain, "root")).map(|one| one.value().to_owned());
    if let Some(origin) = redirect(one.children()) {
        part.remarks.push((Remark::Redirect, origin));
    }
    let own = |name: &str| one.last(name).map(|one| one.origin);
    if let Some(line) = inherited(chain, "autoindex").filter(|one| one.value() == "on") {
        part.remarks.push((Remark::Listing, line.origin));
    }
    part.remarks.extend(leaves_folder(path, one).map(|origin| (Remark::LeavesFolder, origin)));
    part.remarks.extend(own("stub_status").map(|origin| (Remark::Status, origin)));
    let handed =
        ["proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass"].into_iter().find_map(own);
    part.remarks.extend(handed.map(|origin| (Remark::HandedOn, origin)));
    if let Some(line) =
        inherited(chain, "dav_methods").filter(|one| one.arguments().iter().any(|word| *word != "off"))
    {
        part.writes = Setting::Stated { value: true, origin: line.origin };
    }
    let asked_elsewhere = inherited(chain, "auth_request")
        .or_else(|| inherited(chain, "auth_jwt"))
        .filter(|one| one.value() != "off");
    part.bypass = lifted(chain);
    part.accounts = inherited(chain, "auth_basic_user_file").map(|one| (one.value().to_owned(), one.origin));
    let demanded = inherited(chain, "auth_basic").is_some_and(|one| one.value() != "off");
    part.accounts = part.accounts.filter(|_| demanded);
    let parts = &mut site.served.parts;
    let before = parts.len();
    match ways(chain) {
        Some(all) => parts.extend(parts_of(&part, &all)),
        None => {
            part.login = match (asked_elsewhere, handed) {
                (Some(line), _) => Setting::Unknown {
                    why: format!("`{}` delegates the decision to another server", line.name()),
                },
                (None, Some(_)) => Setting::Unknown { why: "the backend server decides".into() },
                (None, None) => Setting::default_of(
                    AuthRequirement::Nothing,
                    "nginx",
                    "ngx_http_auth_basic_module, auth_basic",
                ),
            };
            parts.push(part);
        }
    }
    for passed in ["proxy_pass", "grpc_pass"].into_iter().filter_map(|name| one.last(name)) {
        for relay in behind(passed, Some(path), groups) {
            relaying::for_each_way(&relay, &parts[before..], &mut site.relays);
        }
    }
}

/// The line by which requests leave the folder of a location: its target takes the place of the prefix, and what follows may begin with two
/// dots (ngx_http_core_module, alias; ngx_http_proxy_module, proxy_pass).
fn leaves_folder(path: &str, one: &Statement<'_>) -> Option<Origin> {
    let alias = one.last("alias");
    if let Some(pattern) = path.strip_prefix("~* ").or_else(|| path.strip_prefix("~ ")) {
        let rest = ["(.*)", "(.+)"]
            .iter()
            .find_map(|capture| pattern.split(capture).next().filter(|before| *before != pattern));
        let open = rest.is_some_and(|before| !before.ends_with('/') && before.matches('(').count() == 0);
        return alias.filter(|one| open && one.value().contains("/$1")).map(|one| one.origin);
    }
    let prefix = path.strip_prefix("^~ ").unwrap_or(path);
    if prefix.starts_with('=') || prefix.starts_with('@') || prefix.ends_with('/') {
        return None;
    }
    let onward = |one: &&Statement<'_>| {
        let place = one.value().split_once("://").map_or("", |(_, rest)| rest);
        place.split_once('/').is_some_and(|(_, path)| path.ends_with('/'))
    };
    let alias = alias.filter(|one| one.value().ends_with('/'));
    alias.or_else(|| one.last("proxy_pass").filter(onward)).map(|one| one.origin)
}

/// The lines of a login and of the block within that takes it away (ngx_http_auth_basic_module, auth_basic).
fn lifted(chain: &Chain<'_, '_, '_>) -> Option<LoginBypass> {
    let mut said = chain.iter().rev().filter_map(|block| block.by_name.get("auth_basic")?.last());
    let off = said.next().filter(|one| one.value() == "off")?;
    let login = said.next().filter(|one| one.value() != "off")?;
    Some(LoginBypass { kind: BypassKind::Section, login_origin: login.origin, origin: off.origin })
}

/// Permitted clients, where lists of addresses or a login restrict them (ngx_http_access_module, ngx_http_auth_basic_module; satisfy).
fn ways(chain: &Chain<'_, '_, '_>) -> Option<Vec<Way>> {
    let has_rules =
        |block: &&&Settings<'_, '_>| ["allow", "deny"].iter().any(|name| block.by_name.contains_key(name));
    let rules = chain.iter().rev().find(has_rules);
    let basic = inherited(chain, "auth_basic").filter(|one| one.value() != "off");
    let verified = inherited(chain, "ssl_verify_client").filter(|one| one.value() == "on");
    if rules.is_none() && basic.is_none() && verified.is_none() {
        return None;
    }
    let mut all: Vec<Way> = Vec::new();
    let any = inherited(chain, "satisfy").is_some_and(|one| one.value() == "any");
    // Where one of several is enough, whom no rule fits has not met this one.
    let by_address = rules.map(|block| {
        let sources = serving::handed_on(block.admits(any && basic.is_some()));
        let origin = sources.origins[0];
        Way { sources, asked: AuthRequirement::Nothing, origin }
    });
    // Where any client may state its address in a header, a list of addresses keeps none off (ngx_http_realip_module).
    let by_address = by_address.map(|way| match believed(chain) {
        Some(line) => {
            let mut sources = Sources::everybody();
            sources.origins = [line].into_iter().chain(way.sources.origins).collect();
            Way { sources, asked: AuthRequirement::Nothing, origin: line }
        }
        None => way,
    });
    let by_login = basic.map(|one| Way {
        sources: Sources::everybody(),
        asked: AuthRequirement::Password,
        origin: one.origin,
    });
    match (by_address, by_login) {
        (Some(address), Some(login)) if any => all.extend([address, login]),
        (Some(address), Some(login)) => all.push(both(&address, &login)),
        (one, other) => all.extend(one.or(other)),
    }
    if let Some(line) = verified {
        let certificate =
            Way { sources: Sources::everybody(), asked: AuthRequirement::Certificate, origin: line.origin };
        all = if all.is_empty() {
            vec![certificate]
        } else {
            all.iter().map(|way| both(way, &certificate)).collect()
        };
    }
    Some(all)
}

/// The line by which any client may state its own address in a header: `set_real_ip_from` for all of an IP version.
fn believed(chain: &Chain<'_, '_, '_>) -> Option<Origin> {
    let lists = chain.iter().rev().find_map(|block| block.by_name.get("set_real_ip_from"))?;
    let all = |one: &&&Statement<'_>| matches!(one.value(), "0.0.0.0/0" | "::/0" | "0/0");
    lists.iter().find(all).map(|one| one.origin)
}

/// The first matching rule decides; clients without a match are permitted, unless only listed clients are requested.
fn addresses(rules: &[&Statement<'_>], named_only: bool) -> Sources {
    let rules = rules.iter().map(|rule| {
        let mut meant = Sources::default();
        serving::host(rule.value(), &mut meant);
        (rule.name() == "allow", meant, rule.origin)
    });
    serving::first_match(rules, named_only)
}

/// `listen address:port …`, `listen port …`, `listen unix:…`.
fn endpoints(listen: &Statement<'_>, ssl_on: bool) -> Vec<Endpoint> {
    let place = listen.value();
    if place.starts_with("unix:") {
        return Vec::new();
    }
    let has = |word: &str| listen.arguments().contains(&word);
    let protocol = if has("udp") || has("quic") { Protocol::UDP } else { Protocol::TCP };
    let carried = if has("ssl") || has("quic") || ssl_on {
        TransportSecurity::Encrypted
    } else {
        TransportSecurity::Plain
    };
    let (host, port) = match place.parse::<u16>() {
        Ok(port) => (None, Some(port)),
        Err(_) => serving::host_and_port(place),
    };
    let at = Endpoint::everywhere(protocol, port.unwrap_or(80), carried, listen.origin);
    match host.map(|host| if host == "localhost" { "127.0.0.1" } else { host }) {
        // A port alone is for IPv4; `[::]` takes IPv6 alone unless it says otherwise.
        None => vec![Endpoint { families: Families::V4, ..at }],
        Some("::") if has("ipv6only=off") => vec![at],
        Some(host) => host.parse().map_or_else(|_| vec![at.clone()], |address| vec![at.clone().at(address)]),
    }
}

fn offer(chain: &Chain<'_, '_, '_>, origin: Origin) -> Offer {
    let own_order = inherited(chain, "ssl_prefer_server_ciphers").is_some_and(|one| one.value() == "on");
    Offer { own_order, ..listed(chain, origin) }
}

fn listed(chain: &Chain<'_, '_, '_>, origin: Origin) -> Offer {
    let ciphers = inherited(chain, "ssl_ciphers").map(|one| (one.value(), one.origin));
    let Some(protocols) = inherited(chain, "ssl_protocols") else {
        let mut offer = tls::listed(ciphers, &[], origin);
        let default = |name: &str, versions| Offered {
            name: name.to_owned(),
            role: Some(AlgorithmRole::Protocol),
            versions,
            suite: 0,
            origin,
            default: Some("ngx_http_ssl_module, ssl_protocols"),
        };
        let old = Some("before 1.27.3");
        offer.algorithms.extend([
            default("TLSv1", old),
            default("TLSv1.1", old),
            default("TLSv1.2", None),
            default("TLSv1.3", None),
        ]);
        return offer;
    };
    let versions: Vec<(&str, Origin)> =
        protocols.arguments().iter().map(|word| (*word, protocols.origin)).collect();
    tls::listed(ciphers, &versions, protocols.origin)
}

/// A statement that redirects all requests to TLS.
fn redirect(all: &[Statement<'_>]) -> Option<Origin> {
    let whole = sends_on(all);
    // `if` about the connection's own protocol holds for all that come without TLS.
    let without_tls = |one: &&Statement<'_>| {
        let condition = one.arguments().join(" ").replace(['(', ')', '"', '\''], "");
        let condition: Vec<&str> = condition.split_whitespace().collect();
        one.name() == "if"
            && matches!(
                condition.as_slice(),
                ["$scheme", "=", "http"]
                    | ["$scheme", "!=", "https"]
                    | ["$https", "=" | "!=", ..]
                    | ["$scheme", "~" | "~*", "^http$"]
            )
    };
    whole.or_else(|| all.iter().filter(without_tls).find_map(|one| sends_on(one.children())))
}

/// A redirect under a condition that is not evaluated.
fn sometimes(all: &[Statement<'_>]) -> Option<Origin> {
    all.iter().filter(|one| one.name() == "if").find_map(|one| sends_on(one.children()))
}

fn sends_on(all: &[Statement<'_>]) -> Option<Origin> {
    let fits = |one: &&Statement<'_>| match one.name() {
        "return" => one.arguments().iter().any(|word| word.starts_with("https://")),
        "rewrite" => {
            one.arguments().get(1).is_some_and(|word| word.starts_with("https://"))
                && matches!(
                    one.value(),
                    "^" | ".*" | "^(.*)$" | "^/(.*)$" | "^(.*)" | "(.*)" | "^/(.*)" | "^.*$" | "^.*"
                )
        }
        _ => false,
    };
    all.iter().find(fits).map(|one| one.origin)
}
