//! `exports` and the files of `exports.d` (exports(5)), and `nfs.conf` (nfs.conf(5)): NFS exports.
//!
//! A line is a path and its clients, each with options in brackets directly behind it; brackets after a blank are options for any host, and
//! so is a path alone. Options after a dash are the default for the clients that follow.
//!
//! Long because a third of it are the cases of exports(5), line by line.

use crate::ini::sections;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader of exports.
pub(crate) const READER: Reader =
    Reader { name: "exports", title: "NFS server", manual: "exports(5)", recognise, read };

/// The reader of the server's own settings.
pub(crate) const SETTINGS: Reader = Reader {
    name: "nfs-conf",
    title: "settings of the NFS server",
    manual: "nfs.conf(5)",
    recognise: |export| {
        let named = export.file_name() == "nfs.conf" || export.path().contains("nfs.conf.d/");
        if named { Recognition::Content } else { Recognition::No }
    },
    read: read_settings,
};

/// Options that have no bearing on who gets at what (exports(5)).
const PASSED_OVER: [&str; 34] = [
    "async",
    "sync",
    "wdelay",
    "no_wdelay",
    "hide",
    "nohide",
    "crossmnt",
    "nocrossmnt",
    "subtree_check",
    "no_subtree_check",
    "insecure_locks",
    "secure_locks",
    "auth_nlm",
    "no_auth_nlm",
    "acl",
    "no_acl",
    "mountpoint",
    "mp",
    "fsid",
    "nordirplus",
    "refer",
    "replicas",
    "pnfs",
    "no_pnfs",
    "security_label",
    "fsuid",
    "rdma",
    "no_rdma",
    "v4root",
    "lookup",
    "anongid",
    "secure",
    "root_squash",
    "ro",
];

fn is_named(export: &Export) -> bool {
    export.file_name() == "exports"
        || (export.path().contains("exports.d/") && export.path().ends_with(".exports"))
}

fn recognise(export: &Export) -> Recognition {
    let tells = |text: &str| {
        text.starts_with('/')
            && ["(rw", "(ro", "(sync", "(async", "no_root_squash", "no_subtree_check", "root_squash"]
                .iter()
                .any(|word| text.contains(word))
    };
    if export.lines().any(|line| tells(line.text.trim())) {
        Recognition::Content
    } else if is_named(export) {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// The file that represents all of a device: `exports`, otherwise the first that was exported.
fn stands_for_all(export: &Export, around: &ReadContext<'_>) -> bool {
    let mut all: Vec<&str> =
        around.exports.iter().filter(|one| is_named(one)).map(|one| one.path()).collect();
    all.sort_by_key(|path| (path.contains("exports.d/"), *path));
    all.first().is_none_or(|first| *first == export.path()) || !is_named(export)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let whole = stands_for_all(export, around);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let parts = parts(export, &mut book);
    if !whole {
        return reading;
    }
    let mut all = parts;
    for other in around.exports.iter().filter(|one| is_named(one) && one.path() != export.path()) {
        // Included files report their own errors.
        let mut aside = Reading::of(other);
        let mut quiet = LineRecorder::new(other, &mut aside.ledger, &mut aside.elsewhere);
        all.extend(self::parts(other, &mut quiet));
    }
    if all.is_empty() {
        return reading;
    }
    let units = &["nfs-server", "nfs-kernel-server", "nfs"];
    let mut served = Served::new(ServedKind::Exports, "NFS server", "NFS server", units, all[0].origin);
    served.parts = all;
    served.endpoints = endpoints(around, served.origin);
    reading.facts.served.push(served);
    reading
}

/// Logical lines: a backslash at the end joins the next, `#` begins a comment where a word begins.
fn parts(export: &Export, book: &mut LineRecorder<'_>) -> Vec<ServiceResource> {
    let mut found = Vec::new();
    let text = export.text();
    let mut at = 0;
    while at < text.len() {
        let mut end = at;
        loop {
            let line = text[end..].find('\n').map_or(text.len(), |found| end + found);
            let joined = text[at..line].trim_end_matches('\r').ends_with('\\') && line < text.len();
            end = if joined { line + 1 } else { line };
            if !joined {
                break;
            }
        }
        line(export, &text[at..end], &mut found, book);
        at = end + 1;
    }
    found
}

fn line(export: &Export, text: &str, found: &mut Vec<ServiceResource>, book: &mut LineRecorder<'_>) {
    let words = words(text);
    let Some((path, clients)) = words.split_first() else { return };
    let origin = export.origin_of(text.trim());
    if !unescaped(path).starts_with('/') {
        book.not_understood(
            origin,
            "expected a path from `/` on, then its clients; exportfs(8) leaves the line out",
        );
        return;
    }
    let name = unescaped(path);
    let mut defaults = "";
    let mut any = false;
    book.understood(origin);
    for word in clients {
        if let Some(options) = word.strip_prefix('-') {
            defaults = options;
            continue;
        }
        any = true;
        let (client, options) = match word.split_once('(') {
            Some((client, rest)) => (client, rest.trim_end_matches(')')),
            None => (*word, ""),
        };
        let place = export.origin_of(word);
        if word.contains('(') && !word.ends_with(')') {
            book.not_understood(place, "expected `)` behind the options; exportfs(8) leaves the client out");
            continue;
        }
        found.push(part(&name, client, defaults, options, place, book));
    }
    if !any {
        found.push(part(&name, "", defaults, "", origin, book));
    }
}

/// Words of a line; quotes hold one together, and `\` with a line end is a blank.
fn words(text: &str) -> Vec<&str> {
    let mut found = Vec::new();
    let mut start = None;
    let mut quoted = false;
    for (at, letter) in text.char_indices() {
        let blank = letter.is_whitespace()
            || (letter == '\\' && text[at + 1..].trim_start_matches('\r').starts_with('\n'));
        if letter == '"' {
            quoted = !quoted;
        }
        match start {
            None if letter == '#' => return found,
            None if !blank => start = Some(at),
            Some(begin) if blank && !quoted => {
                found.push(&text[begin..at]);
                start = None;
            }
            _ => {}
        }
    }
    found.extend(start.map(|begin| &text[begin..]));
    found
}

/// A path without its quotes, with octal escapes (`\` and three digits) resolved.
fn unescaped(word: &str) -> String {
    let text = word.trim_matches('"');
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('\\') {
        out.push_str(&rest[..at]);
        let digits = rest.get(at + 1..at + 4);
        match digits.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) if byte.is_ascii() => {
                out.push(char::from(byte));
                rest = &rest[at + 4..];
            }
            _ => {
                out.push('\\');
                rest = &rest[at + 1..];
            }
        }
    }
    out.push_str(rest);
    out
}

/// Options that may differ by security flavour (exports(5), sec=).
#[derive(Clone, Copy, Default)]
struct Flags {
    written: Option<bool>,
    root: bool,
    all: bool,
}

/// Options as far as they bear on who gets at what. Those behind `sec=` hold for the flavours that it names; a flavour begins with
/// what stood before it was named.
#[derive(Default)]
struct Options {
    general: Flags,
    flavours: Vec<(String, Flags)>,
    /// The flavours that the options follow.
    active: Vec<String>,
    any_port: bool,
    nobody_is_root: bool,
    transport: bool,
}

impl Options {
    fn name(&mut self, list: &str) {
        self.active = list.split(':').map(str::to_owned).collect();
        for name in &self.active {
            if !self.flavours.iter().any(|(known, _)| known == name) {
                self.flavours.push((name.clone(), self.general));
            }
        }
    }

    fn set(&mut self, change: impl Fn(&mut Flags)) {
        change(&mut self.general);
        for (name, flags) in &mut self.flavours {
            if self.active.contains(name) {
                change(flags);
            }
        }
    }

    /// Options of the least protected flavour.
    fn weakest(&self) -> Flags {
        const ORDER: [&str; 6] = ["none", "null", "sys", "krb5", "krb5i", "krb5p"];
        let place = |name: &str| ORDER.iter().position(|known| *known == name).unwrap_or(ORDER.len());
        self.flavours.iter().min_by_key(|(name, _)| place(name)).map_or(self.general, |(_, flags)| *flags)
    }
}

fn part(
    path: &str,
    client: &str,
    defaults: &str,
    options: &str,
    origin: Origin,
    book: &mut LineRecorder<'_>,
) -> ServiceResource {
    let mut part = ServiceResource::new(PartKind::Export, path, origin);
    part.path = Some(path.to_owned());
    let (client, flavour) = match client.split_once('/') {
        // The older syntax for Kerberos.
        Some(("gss", flavour)) => ("", Some(flavour)),
        _ => (client, None),
    };
    part.sources = Sources::default();
    serving::host(if client.is_empty() { "*" } else { client }, &mut part.sources);
    if !part.sources.is_everybody() {
        part.sources.origins.push(origin);
    }
    let mut read = Options::default();
    let of_default = defaults.split(',').count();
    for (number, option) in defaults.split(',').chain(options.split(',')).map(str::trim).enumerate() {
        // A client's own options are about all flavours again until it names some.
        if number == of_default {
            read.active.clear();
            flavour.into_iter().for_each(|flavour| read.name(flavour));
        }
        if option.is_empty() {
            continue;
        }
        let (name, value) = option.split_once('=').unwrap_or((option, ""));
        match name {
            "sec" => read.name(value),
            "rw" => read.set(|flags| flags.written = Some(true)),
            "ro" => read.set(|flags| flags.written = Some(false)),
            "no_root_squash" => read.set(|flags| flags.root = true),
            "root_squash" => read.set(|flags| flags.root = false),
            "all_squash" => read.set(|flags| flags.all = true),
            "no_all_squash" => read.set(|flags| flags.all = false),
            "insecure" => read.any_port = true,
            "secure" => read.any_port = false,
            "anonuid" => read.nobody_is_root = value == "0",
            "xprtsec" => read.transport = !value.split(':').any(|one| one == "none"),
            name if PASSED_OVER.contains(&name) => {}
            _ => book.not_understood(
                origin,
                format!("`{name}` is no option of exports(5); exportfs(8) leaves the client out"),
            ),
        }
    }
    let flags = read.weakest();
    let names: Vec<&str> = read.flavours.iter().map(|(name, _)| name.as_str()).collect();
    let flavour = |wanted: &str| names.contains(&wanted);
    let stated = |value: AuthRequirement| Setting::Stated { value, origin };
    part.login = if names.is_empty() {
        Setting::default_of(AuthRequirement::Address, "NFS server", "exports(5), sec=")
    } else if flavour("none") || flavour("null") {
        stated(AuthRequirement::Nothing)
    } else if flavour("sys") {
        stated(AuthRequirement::Address)
    } else {
        stated(AuthRequirement::Proof)
    };
    part.writes = match flags.written {
        Some(value) => Setting::Stated { value, origin },
        None => Setting::default_of(false, "NFS server", "exports(5), rw"),
    };
    let every = |wanted: &[&str]| !names.is_empty() && names.iter().all(|one| wanted.contains(one));
    let some = |wanted: &[&str]| names.iter().any(|one| wanted.contains(one));
    let demand = |wanted: &[&str]| {
        let stated = |value: Requirement| Setting::Stated { value, origin };
        if read.transport || every(wanted) {
            stated(Requirement::Required)
        } else if some(wanted) {
            stated(Requirement::Offered)
        } else if names.is_empty() {
            Setting::default_of(Requirement::Never, "NFS server", "exports(5), sec=")
        } else {
            stated(Requirement::Never)
        }
    };
    part.signing = Some(demand(&["krb5i", "krb5p"]));
    part.encryption = Some(demand(&["krb5p"]));
    // Users mapped to another user are not root, unless the target is.
    if (flags.root && !flags.all) || (flags.all && read.nobody_is_root) {
        part.remarks.push((Remark::RootKept, origin));
    }
    if read.any_port {
        part.remarks.push((Remark::AnyPort, origin));
    }
    part
}

/// Where the server listens (nfs.conf(5), `[nfsd]`); files of `nfs.conf.d` come later and win.
fn endpoints(around: &ReadContext<'_>, origin: Origin) -> Vec<Endpoint> {
    let (mut host, mut port, mut udp) = (None, (2049, origin), false);
    let mut files: Vec<&Export> = around.of_format(&SETTINGS).map(|(one, _)| one).collect();
    files.sort_by_key(|one| (one.path().contains("nfs.conf.d/"), one.path()));
    for file in files {
        for section in sections(file, &['#', ';']).iter().filter(|one| one.name.eq_ignore_ascii_case("nfsd"))
        {
            if let Some(entry) = section.last("host") {
                host = Some((entry.value.to_owned(), entry.origin));
            }
            if let Some((number, line)) =
                section.last("port").and_then(|entry| Some((entry.value.parse().ok()?, entry.origin)))
            {
                port = (number, line);
            }
            udp = section
                .last("udp")
                .map_or(udp, |entry| matches!(entry.value, "y" | "yes" | "1" | "on" | "true" | "t"));
        }
    }
    let mut found = Vec::new();
    let protocols = if udp { &[Protocol::TCP, Protocol::UDP][..] } else { &[Protocol::TCP] };
    for protocol in protocols {
        let at = |line| Endpoint::everywhere(*protocol, port.0, TransportSecurity::Optional, line);
        match &host {
            None => found.push(at(port.1)),
            Some((hosts, line)) => found.extend(
                hosts
                    .split([',', ' '])
                    .filter_map(|one| one.trim().parse().ok())
                    .map(|one| at(*line).at(one)),
            ),
        }
    }
    found
}

fn read_settings(export: &Export, _: &ReadContext<'_>) -> Reading {
    const SECTIONS: [&str; 14] = [
        "general",
        "exports",
        "exportd",
        "nfsdcltrack",
        "nfsd",
        "mountd",
        "statd",
        "lockd",
        "sm-notify",
        "gssd",
        "svcgssd",
        "exportfs",
        "nfsrahead",
        "nfsdcld",
    ];
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for section in sections(export, &['#', ';']) {
        if section.name.is_empty() {
            continue;
        }
        let name = section.name.split(' ').next().unwrap_or_default().to_ascii_lowercase();
        if !SECTIONS.contains(&name.as_str()) {
            book.not_understood(section.origin, "no section of nfs.conf(5)");
            continue;
        }
        book.understood(section.origin);
        for entry in &section.entries {
            let judged = name == "nfsd" && ["host", "port", "udp", "tcp"].contains(&entry.key);
            book.class(entry.origin, if judged { LineClass::Understood } else { LineClass::Ignored });
        }
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::first;

    fn of(files: &[(&str, &str)]) -> Reading {
        first(read, files)
    }

    fn told(reading: &Reading) -> Vec<String> {
        let line = |part: &ServiceResource| {
            let remarks: Vec<String> = part.remarks.iter().map(|(one, _)| format!(" {one:?}")).collect();
            format!(
                "{} {} {:?} {} {:?}{}",
                part.name,
                part.sources.words(),
                part.login.value().unwrap(),
                if part.is_written() { "rw" } else { "ro" },
                part.encryption.as_ref().and_then(|one| one.value()).unwrap(),
                remarks.concat()
            )
        };
        reading.facts.served.iter().flat_map(|one| &one.parts).map(line).collect()
    }

    #[test]
    fn lines() {
        for (text, wanted) in [
            ("/a\n", &["/a any address Address ro Never"][..]),
            ("/a *(rw)\n", &["/a any address Address rw Never"]),
            // The blank applies the options to any host, and leaves the named host with the defaults.
            ("/a yard (rw)\n", &["/a yard Address ro Never", "/a any address Address rw Never"]),
            (
                "/a 10.4.0.0/24(rw,no_root_squash) 10.5.0.0/255.255.0.0(ro)\n",
                &["/a 10.4.0.0/24 Address rw Never RootKept", "/a 10.5.0.0/16 Address ro Never"],
            ),
            (
                "/a -rw,insecure @desks 10.4.0.9(ro)\n",
                &["/a @desks Address rw Never AnyPort", "/a 10.4.0.9 Address ro Never AnyPort"],
            ),
            ("/a 10.4.0.9(rw,sec=krb5p)\n", &["/a 10.4.0.9 Proof rw Required"]),
            ("/a 10.4.0.9(rw,sec=krb5p:sys)\n", &["/a 10.4.0.9 Address rw Offered"]),
            ("/a 10.4.0.9(sec=krb5,rw,sec=sys,ro)\n", &["/a 10.4.0.9 Address ro Never"]),
            // Default options for a flavour are not overridden by the client's own.
            ("/a -sec=sys,ro 10.4.0.9(rw)\n", &["/a 10.4.0.9 Address ro Never"]),
            ("/a gss/krb5i(rw)\n", &["/a any address Proof rw Never"]),
            ("/a *(all_squash,anonuid=0)\n", &["/a any address Address ro Never RootKept"]),
            ("/a *(no_root_squash,all_squash)\n", &["/a any address Address ro Never"]),
            ("\"/a b\" 2001:db8::/64(rw)\n", &["/a b 2001:db8::/64 Address rw Never"]),
            ("/a\\040b 10.4.0.9(ro) # note\n# /c *(rw)\n", &["/a b 10.4.0.9 Address ro Never"]),
            (
                "/a \\\n  10.4.0.9(ro) \\\n  10.4.0.8(rw)\n/b *.yard.example(ro)\n",
                &[
                    "/a 10.4.0.9 Address ro Never",
                    "/a 10.4.0.8 Address rw Never",
                    "/b *.yard.example Address ro Never",
                ],
            ),
        ] {
            let reading = of(&[("d/etc/exports", text)]);
            assert_eq!(told(&reading), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}");
        }
    }

    #[test]
    fn what_is_wrong_is_told_and_the_rest_is_read() {
        let reading = of(&[("d/etc/exports", "a *(rw)\n/b *(rw\n/c *(wobble)\n/d *(ro)\n")]);
        assert_eq!(reading.ledger.notes.len(), 3);
        assert_eq!(told(&reading), ["/c any address Address ro Never", "/d any address Address ro Never"]);
    }

    #[test]
    fn several_files_are_one_server() {
        let files = [
            ("d/etc/exports", "/a 10.4.0.9(ro)\n"),
            ("d/etc/exports.d/b.exports", "/b 10.4.0.9(ro)\n"),
            ("d/etc/nfs.conf", "[nfsd]\nhost=10.4.0.1\n# udp=y\n"),
            ("d/etc/nfs.conf.d/x.conf", "[nfsd]\nudp=y\n"),
        ];
        let reading = of(&files);
        assert_eq!(told(&reading).len(), 2);
        let places: Vec<_> = reading.facts.served[0]
            .endpoints
            .iter()
            .map(|one| (one.protocol, one.address, one.port))
            .collect();
        let address = Some([10, 4, 0, 1].into());
        assert_eq!(places, [(Protocol::TCP, address, 2049), (Protocol::UDP, address, 2049)]);
        let mut turned = files;
        turned.swap(0, 1);
        assert!(of(&turned).facts.served.is_empty());
    }
}
