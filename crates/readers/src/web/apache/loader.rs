//! Directives with their included files.

use crate::angles::{Directive, directives};
use crate::reader::{LineRecorder, Open, ReadContext};
use crate::serving::{self, is_known};
use trevlin_model::{Export, LineClass, Origin};

/// Modules that are part of the program as distributions build it.
pub(super) const BUILT_IN: [&str; 8] =
    ["core", "so", "http_core", "log_config", "logio", "version", "unixd", "watchdog"];

pub(super) fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
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

/// The files that a path refers to; for a folder, those in it.
pub(super) fn files<'a>(path: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let path = path.trim_matches(['"', '\'']);
    let path = path.trim_end_matches('/');
    let found = around.find_all(path, named_in);
    if found.is_empty() && !path.contains(['*', '?']) {
        around.find_all(&format!("{path}/*"), named_in)
    } else {
        found
    }
}

/// Whether a file is not in force: the main file was exported and does not include it, or it is in a folder of available sites, settings
/// and modules.
pub(super) fn waits(export: &Export, around: &ReadContext<'_>) -> bool {
    /// Whether the device has sites that are enabled.
    struct Enabled(bool);
    let enabled = || {
        let all = &around.exports;
        around.once(|| Enabled(all.iter().any(|one| one.path().contains("apache2/sites-enabled/")))).0
    };
    let available = ["sites-available/", "conf-available/", "mods-available/"];
    (around.has_main(&["apache2.conf", "httpd.conf"], export) && !around.reads_in(export, included))
        || (available.iter().any(|folder| export.path().contains(folder)) && enabled())
}

pub(super) struct Loader<'a> {
    pub(super) around: &'a ReadContext<'a>,
    pub(super) modules: Vec<String>,
    pub(super) defined: Vec<(String, String)>,
    pub(super) open: Vec<(String, Origin)>,
}

/// Whether a directive is of a module that does not come with the server, by the beginning that all directives of the module have.
fn of_other_module(name: &str) -> bool {
    const BEGINNINGS: [&str; 16] = [
        "auth_openidc",
        "dosblack",
        "doshash",
        "fcgid",
        "geoip",
        "jk",
        "mellon",
        "oidc",
        "pagespeed",
        "passenger",
        "perl",
        "php_",
        "php",
        "qs_",
        "sec",
        "wsgi",
    ];
    BEGINNINGS.iter().any(|start| name.starts_with(start))
}

impl<'a> Loader<'a> {
    /// The directives in force: included files are inserted in place, and conditions are decided.
    pub(super) fn expand(
        &mut self,
        tree: Vec<Directive<'a>>,
        export: &'a Export,
        open: &mut Vec<&'a str>,
        book: &mut LineRecorder<'_>,
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
                    } else if is_known("apache", name) || of_other_module(name) {
                        book.class(one.origin, LineClass::Ignored);
                    } else {
                        book.not_understood(
                            one.origin,
                            serving::unknown("the Apache HTTP server, or of an unknown module"),
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

    pub(super) fn include(
        &mut self,
        one: &Directive<'a>,
        export: &'a Export,
        open: &mut Vec<&'a str>,
        book: &mut LineRecorder<'_>,
    ) -> Vec<Directive<'a>> {
        let others = files(one.first(), export, self.around);
        if others.is_empty() && one.name == "include" && !one.first().contains(['*', '?']) {
            let text = crate::reader::missing_note(one.first());
            book.note(one.origin, text.clone());
            self.open.push((text, one.origin));
        }
        let mut found = Vec::new();
        for other in others {
            if !book.may_read_in(one.origin, other, Open::of(open, other), usize::MAX) {
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
    pub(super) fn holds(&self, one: &Directive<'_>) -> bool {
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

    pub(super) fn value(&self, word: &str) -> String {
        let mut text = word.to_owned();
        for (name, value) in &self.defined {
            text = text.replace(&format!("${{{name}}}"), value);
        }
        text
    }
}

pub(super) fn passed_over(one: &Directive<'_>, inside: &[Directive<'_>], book: &mut LineRecorder<'_>) {
    book.class(one.origin, LineClass::Ignored);
    for child in inside {
        passed_over(child, child.children(), book);
    }
}

pub(super) const JUDGED: [&str; 40] = [
    "sslcertificatefile",
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
