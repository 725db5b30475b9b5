//! Pages of a site, each with the settings of its folder and location sections.

use super::access::{all_of, any, ordered};
use super::main_server::Main;
use crate::angles::Directive;
use crate::relaying;
use crate::serving::truth;
use crate::web::{Way, both, page, parts_of};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::relay::Relay;
use trevlin_model::served::{AuthRequirement, BypassKind, LoginBypass, Remark, ServiceResource, Sources};
use trevlin_model::{Origin, Setting};

/// Sections of folders and locations that may hold for a page, in the order in which they count.
fn sections<'d, 'a>(own: &'d [Directive<'a>], is_host: bool, main: &Main<'d, 'a>) -> Vec<&'d Directive<'a>> {
    let of =
        |name: &'static str| main.each(name).chain(own.iter().filter(move |one| is_host && one.name == name));
    let mut folders: Vec<&Directive<'_>> = of("directory").collect();
    folders.sort_by_key(|one| one.first().trim_end_matches('/').len());
    folders.extend(of("directorymatch"));
    folders.extend(of("location"));
    folders.extend(of("locationmatch"));
    folders
}

/// Settings of the sections of one page.
#[derive(Default)]
struct Said<'d, 'a> {
    require: Vec<&'d Directive<'a>>,
    listing: Option<Origin>,
    handler: Option<(&'a str, Origin)>,
    verify: Option<Origin>,
    dav: Option<Origin>,
    any: bool,
    accounts: Option<(&'a str, Origin)>,
    lifted: Option<LoginBypass>,
}

impl<'d, 'a> Said<'d, 'a> {
    fn take(&mut self, inside: &'d [Directive<'a>]) {
        const AUTHORISING: [&str; 7] =
            ["require", "requireany", "requireall", "requirenone", "order", "allow", "deny"];
        let own: Vec<&Directive<'_>> =
            inside.iter().filter(|one| AUTHORISING.contains(&one.name.as_str())).collect();
        if !own.is_empty() {
            let before = self.login();
            self.require = own;
            // A section that states its own requirements takes those of the folder away (mod_authz_core, AuthMerging).
            self.lifted = match (before.or(self.lifted.map(|one| one.login_origin)), self.login()) {
                (Some(login), None) => self.require.first().map(|one| LoginBypass {
                    kind: BypassKind::Section,
                    login_origin: login,
                    origin: one.origin,
                }),
                _ => None,
            };
        }
        for one in inside {
            match one.name.as_str() {
                "options" => self.options(one),
                "sethandler" => self.handler = Some((one.first(), one.origin)),
                "sslverifyclient" => {
                    self.verify = (one.first().eq_ignore_ascii_case("require")).then_some(one.origin);
                }
                "dav" => self.dav = (truth(one.first()) == Some(true)).then_some(one.origin),
                "authuserfile" => self.accounts = Some((one.first(), one.origin)),
                "satisfy" => self.any = one.first().eq_ignore_ascii_case("any"),
                _ => {}
            }
        }
    }

    /// The line that demands a login.
    fn login(&self) -> Option<Origin> {
        let asks = |way: &Way| way.asked >= AuthRequirement::Password;
        self.ways()?.into_iter().find(asks).map(|way| way.origin)
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

/// Requests that are handed on to another server (mod_proxy, ProxyPass).
#[derive(Clone, Copy)]
struct Handed<'a> {
    /// Their path, or a pattern of it.
    path: &'a str,
    /// The URL of the server.
    target: &'a str,
    /// Whether the path is a pattern.
    pattern: bool,
    origin: Origin,
}

/// The pages of a site, with the servers behind them.
pub(super) fn pages(
    own: &[Directive<'_>],
    is_host: bool,
    main: &Main<'_, '_>,
    origin: Origin,
) -> (Vec<ServiceResource>, Vec<Relay>) {
    if let Some(line) = redirect(own) {
        let mut part = page("/", line);
        part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: line };
        part.remarks.push((Remark::Redirect, line));
        return (vec![part], Vec::new());
    }
    let sections = sections(own, is_host, main);
    // Each page looks at every section, and each host has all of them.
    if !crate::growth::may_grow(sections.len() * (sections.len() + size_of::<ServiceResource>())) {
        let mut part = page("/", origin);
        part.login = Setting::Unknown { why: "it has more sections than are followed".into() };
        return (vec![part], Vec::new());
    }
    let root = own.iter().rev().find(|one| one.name == "documentroot").or_else(|| main.last("documentroot"));
    let root = root.map_or("", |one| one.first().trim_end_matches('/'));
    let passes = |name: &'static str| {
        own.iter().filter(move |one| one.name == name).filter_map(move |one| {
            let target = one.words.get(1).copied().filter(|to| *to != "!")?;
            Some(Handed { path: one.first(), target, pattern: name != "proxypass", origin: one.origin })
        })
    };
    let handed: Vec<Handed<'_>> =
        passes("proxypass").chain(passes("proxypassmatch")).chain(rewritten(own)).collect();
    // Pages by their path on the site, and the folder behind each.
    let mut wanted: Vec<(String, String, Origin)> = vec![("/".into(), root.to_owned(), origin)];
    let mut aliases: Vec<(&str, &str)> = Vec::new();
    let aliasing = |one: &&Directive<'_>| matches!(one.name.as_str(), "alias" | "scriptalias");
    let of_main = is_host.then(|| main.of_either("alias", "scriptalias")).into_iter().flatten();
    for one in of_main.chain(own.iter().filter(aliasing)) {
        if let [url, folder, ..] = one.words.as_slice() {
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
    wanted.extend(handed.iter().map(|one| (one.path.to_owned(), String::new(), one.origin)));
    let believed = Believed::of(own, main);
    let mut seen: BTreeSet<String> = BTreeSet::new();
    let (mut parts, mut relays) = (Vec::new(), Vec::new());
    let refused = own.iter().filter(|one| one.name == "proxypass" && one.words.get(1) == Some(&"!"));
    let paths: Vec<String> =
        wanted.iter().map(|(url, ..)| url.clone()).chain(refused.map(|one| one.first().to_owned())).collect();
    for (url, folder, line) in wanted {
        let key = if url.len() > 1 { url.trim_end_matches('/').to_owned() } else { url.clone() };
        if !seen.insert(key) {
            continue;
        }
        let (found, handed) = one_page(&url, &folder, line, &sections, own, &handed, &believed);
        for relay in handed.iter().flat_map(|one| servers(one, &url, own, main)) {
            relaying::for_each_way(&relay, &found, &mut relays);
        }
        parts.extend(found);
    }
    relaying::divide(&mut relays, &paths);
    (parts, relays)
}

/// The servers behind a page: the one that the line names, or the members of its group (mod_proxy, BalancerMember).
fn servers(handed: &Handed<'_>, url: &str, own: &[Directive<'_>], main: &Main<'_, '_>) -> Vec<Relay> {
    let relay = |target: &str, origin: Origin| {
        let (host, port, path) = relaying::server_of_url(target)?;
        let mut relay = Relay::new("Apache", "", (host, port), origin);
        relay.path = Some(url.to_owned());
        // What follows the path of the line follows that of the target.
        let rest = url.strip_prefix(handed.path.trim_end_matches('/')).filter(|_| !handed.pattern);
        relay.onward = rest.map(|rest| {
            let before = path.unwrap_or("/");
            if rest.is_empty() {
                before.to_owned()
            } else {
                format!("{}{rest}", before.trim_end_matches('/'))
            }
        });
        Some(relay)
    };
    let Some(group) = handed.target.strip_prefix("balancer://") else {
        return relay(handed.target, handed.origin).into_iter().collect();
    };
    let group = group.split('/').next().unwrap_or_default();
    let of_name = |one: &&Directive<'_>| {
        let name = one.first().strip_prefix("balancer://").unwrap_or_default();
        one.name == "proxy" && name.trim_end_matches('/') == group
    };
    let blocks = own.iter().chain(main.each("proxy")).find(of_name).into_iter();
    let members = blocks.flat_map(Directive::children).filter(|one| one.name == "balancermember");
    members.filter_map(|one| relay(one.first(), one.origin)).collect()
}

/// The folder behind a page, whose sections count as well; nothing behind one that is handed on.
fn behind(url: &str, root: &str, aliases: &[(&str, &str)], handed: &[Handed<'_>]) -> String {
    let within = |path: &str| below(url, path.trim_end_matches('/'));
    if handed.iter().any(|one| within(one.path)) || root.is_empty() {
        return String::new();
    }
    match aliases.iter().find(|(path, _)| within(path)) {
        Some((path, folder)) => {
            format!("{folder}{}", url.get(path.trim_end_matches('/').len()..).unwrap_or_default())
        }
        None => format!("{root}{url}"),
    }
}

/// The parts of a page, and what hands it on.
fn one_page<'a>(
    url: &str,
    folder: &str,
    line: Origin,
    sections: &[&Directive<'a>],
    own: &[Directive<'a>],
    handed: &[Handed<'a>],
    believed: &Believed<'_>,
) -> (Vec<ServiceResource>, Option<Handed<'a>>) {
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
    let mut on = handed.iter().find(|one| below(url, one.path.trim_end_matches('/'))).copied();
    let within = sections.iter().filter(|one| one.first() == url);
    for (section, one) in within.flat_map(|section| section.children().iter().map(move |one| (section, one)))
    {
        if on.is_none() && one.name == "proxypass" && one.first() != "!" {
            let pattern = section.name == "locationmatch";
            on = Some(Handed { path: section.first(), target: one.first(), pattern, origin: one.origin });
        }
    }
    part.remarks.extend(on.map(|one| (Remark::HandedOn, one.origin)));
    part.bypass = said.lifted.filter(|_| said.verify.is_none());
    part.accounts =
        said.accounts.filter(|_| said.login().is_some()).map(|(path, origin)| (path.to_owned(), origin));
    if let Some(origin) = said.dav {
        part.writes = Setting::Stated { value: true, origin };
    }
    let mut ways =
        said.ways().map(|all| all.into_iter().map(|way| believed.applied(way)).collect::<Vec<_>>());
    if let Some(origin) = said.verify {
        let certificate = Way { sources: Sources::everybody(), asked: AuthRequirement::Certificate, origin };
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
                    one.login = Setting::Unknown { why: "the backend server decides".into() };
                }
            }
            (found, on)
        }
        None => {
            part.login = match on {
                Some(_) => Setting::Unknown { why: "the backend server decides".into() },
                None => Setting::default_of(AuthRequirement::Nothing, "Apache", "mod_authz_core, Require"),
            };
            (vec![part], on)
        }
    }
}

/// Headers that any client can send and that the server believes: conditions on them, and on addresses behind them, keep no client off.
struct Believed<'a> {
    /// The line by which any client may state its address in a header (mod_remoteip).
    address: Option<Origin>,
    /// Variables that a header sets (mod_setenvif), with the line.
    variables: BTreeMap<&'a str, Origin>,
}

impl<'a> Believed<'a> {
    fn of(own: &[Directive<'a>], main: &Main<'_, 'a>) -> Self {
        let last =
            |name: &'static str| own.iter().rev().find(|one| one.name == name).or_else(|| main.last(name));
        let each = |name: &'static str| main.each(name).chain(own.iter().filter(move |one| one.name == name));
        let proxies = || each("remoteipinternalproxy").chain(each("remoteiptrustedproxy"));
        // Without a list every client counts as a proxy.
        let any = proxies().next().is_none()
            || proxies().any(|one| one.words.iter().any(|word| matches!(*word, "0.0.0.0/0" | "::/0")));
        let address = last("remoteipheader").filter(|_| any).map(|one| one.origin);
        let mut variables = BTreeMap::new();
        for one in each("setenvif").chain(each("setenvifnocase")) {
            // These attributes come from the connection or name the page (mod_setenvif, SetEnvIf).
            const OF_SERVER: [&str; 6] = [
                "remote_addr",
                "remote_host",
                "server_addr",
                "request_uri",
                "request_method",
                "request_protocol",
            ];
            if let [attribute, _, set @ ..] = one.words.as_slice()
                && !OF_SERVER.contains(&attribute.to_ascii_lowercase().as_str())
            {
                let names = set.iter().filter(|name| !name.starts_with('!'));
                variables.extend(names.map(|name| (name.split('=').next().unwrap_or(name), one.origin)));
            }
        }
        Self { address, variables }
    }

    /// A way as it is for a client that sends what is wanted.
    fn applied(&self, way: Way) -> Way {
        let variable = |name: &String| {
            let name = name.strip_prefix("env ").or_else(|| name.strip_prefix("env="))?;
            name.split_whitespace().find_map(|name| self.variables.get(name)).copied()
        };
        let by_header = way.sources.names.iter().find_map(variable);
        let limited = !way.sources.is_everybody() && !way.sources.ranges.is_empty();
        let Some(line) = by_header.or(self.address.filter(|_| limited)) else { return way };
        let origins = [line].into_iter().chain(way.sources.origins).collect();
        Way { sources: Sources { origins, ..Sources::everybody() }, origin: line, ..way }
    }
}

/// Whether a path is equal to or below another.
fn below(path: &str, above: &str) -> bool {
    let path = path.trim_end_matches('/');
    path == above || path.strip_prefix(above).is_some_and(|rest| rest.starts_with('/')) || above.is_empty()
}

impl Said<'_, '_> {
    /// Permitted clients; none where nothing is stated.
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

/// Patterns of rewriting rules that any path meets.
const ANY_PATH: [&str; 10] =
    ["^", "^/", ".*", "^.*$", "^(.*)$", "(.*)", "^/?(.*)", "^/?(.*)$", "^/(.*)$", "^/(.*)"];

/// Whether a rewriting rule has the flag by which the server fetches the page itself (mod_rewrite, RewriteRule, P).
fn asks_itself(rule: &Directive<'_>) -> bool {
    let flags = rule.words.get(2).copied().unwrap_or_default();
    flags.trim_matches(['[', ']']).split(',').any(|one| matches!(one.trim(), "P" | "proxy"))
}

/// Whether the rewriting rules of a site are in force.
fn rewrites(own: &[Directive<'_>]) -> bool {
    own.iter().any(|one| one.name == "rewriteengine" && truth(one.first()) == Some(true))
}

/// Requests that rewriting rules hand on.
fn rewritten<'a>(own: &[Directive<'a>]) -> Vec<Handed<'a>> {
    let rules = own.iter().filter(|one| one.name == "rewriterule" && asks_itself(one) && rewrites(own));
    let of = |one: &Directive<'a>| {
        let (target, any) = (*one.words.get(1)?, ANY_PATH.contains(&one.first()));
        // What the pattern takes from the path is put behind the host.
        let host = target.find("://").and_then(|at| Some(&target[..at + 3 + target[at + 3..].find('/')?]));
        let path = if any { "/" } else { one.first() };
        Some(Handed { path, target: host.unwrap_or(target), pattern: !any, origin: one.origin })
    };
    rules.filter_map(of).collect()
}

/// A directive of the site that redirects all requests to TLS.
fn redirect(own: &[Directive<'_>]) -> Option<Origin> {
    let to_tls = |one: &Directive<'_>, from: &[&str]| {
        one.words.iter().any(|word| word.to_ascii_lowercase().starts_with("https://"))
            && one.words.iter().any(|word| from.contains(word))
    };
    let fits = |one: &&Directive<'_>| match one.name.as_str() {
        "redirect" | "redirectpermanent" => to_tls(one, &["/"]),
        "redirectmatch" => to_tls(one, &["^", "^/", "^/(.*)", "^/(.*)$", "^(.*)$", ".*", "(.*)"]),
        "rewriterule" => rewrites(own) && !asks_itself(one) && to_tls(one, &ANY_PATH),
        _ => false,
    };
    own.iter().find(fits).map(|one| one.origin)
}
