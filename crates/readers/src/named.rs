//! Formats of files that a configuration names: password lists and keys may have any name.

use crate::READERS;
use crate::reader::Reader;
use serde::Deserialize;
use trevlin_model::{Export, find_path};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    named: Vec<Row>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Row {
    by: String,
    keyword: String,
    format: String,
}

trevlin_model::table! { static TABLE: Table = "../tables/named-files.toml"; }

/// Readers for the exports of one device that have none yet, with their number: those that another export names.
#[must_use]
pub fn named(exports: &[(&Export, Option<&'static Reader>)]) -> Vec<(usize, &'static Reader)> {
    let open: Vec<(usize, &str)> = exports
        .iter()
        .enumerate()
        .filter(|(_, (_, reader))| reader.is_none())
        .map(|(at, (export, _))| (at, export.path()))
        .collect();
    // A path means the same file whether that file has a reader or not.
    let paths: Vec<&str> = exports.iter().map(|(export, _)| export.path()).collect();
    let mut found = Vec::new();
    if open.is_empty() {
        return found;
    }
    for (export, by) in exports.iter().filter_map(|(export, reader)| Some((export, (*reader)?))) {
        for row in TABLE.named.iter().filter(|row| row.by == by.name) {
            let Some(reader) = READERS.iter().find(|reader| reader.name == row.format) else { continue };
            let values = export.text().lines().filter_map(|line| value(line, &row.keyword));
            for at in values.filter_map(|path| find_path(path, export.path(), &paths)) {
                if open.iter().any(|(number, _)| *number == at)
                    && !found.iter().any(|(number, _)| *number == at)
                {
                    found.push((at, reader));
                }
            }
        }
    }
    found
}

/// The value of a keyword in a line.
fn value<'a>(line: &'a str, keyword: &str) -> Option<&'a str> {
    let line = line.trim();
    let rest = if keyword.ends_with('=') {
        &line[line.find(keyword)? + keyword.len()..]
    } else {
        let (start, rest) = line.split_at_checked(keyword.len())?;
        let separated = rest.starts_with([' ', '\t', '=']);
        rest.get(..).filter(|_| separated && start.eq_ignore_ascii_case(keyword))?
    };
    let rest = rest.trim_start_matches([' ', '\t', '=', '"', '\'']);
    let end = rest.find([' ', '\t', '"', '\'', ';', ',', ']']).unwrap_or(rest.len());
    (!line.starts_with('#') && end > 0).then(|| &rest[..end])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::recognise;
    use trevlin_model::ExportId;

    #[test]
    fn values() {
        for (line, keyword, wanted) in [
            ("  AuthUserFile \"/etc/yard users\"", "authuserfile", Some("/etc/yard")),
            ("auth_basic_user_file /etc/nginx/portal;", "auth_basic_user_file", Some("/etc/nginx/portal")),
            ("auth = \"plain[passwd=/etc/list,otp=/etc/otp]\"", "passwd=", Some("/etc/list")),
            ("secrets file = /etc/rsync.pw", "secrets file", Some("/etc/rsync.pw")),
            ("secrets filed = /etc/rsync.pw", "secrets file", None),
            ("# AuthUserFile /etc/x", "authuserfile", None),
            ("AuthUserFile", "authuserfile", None),
        ] {
            assert_eq!(value(line, keyword), wanted, "{line}");
        }
    }

    #[test]
    fn lists_by_any_name() {
        let sites = "server { listen 80; auth_basic x;\nauth_basic_user_file /etc/nginx/portal;\n}\n";
        let exports = [
            ("d/etc/nginx/nginx.conf", sites),
            ("d/etc/nginx/portal", "ann:abJnggxhB/yWI\n"),
            ("d/etc/nginx/other", "ann:abJnggxhB/yWI\n"),
        ];
        let exports: Vec<Export> =
            exports.iter().map(|(path, text)| Export::new(ExportId(0), *path, (*text).to_owned())).collect();
        let known: Vec<_> = exports.iter().map(|export| (export, recognise(export).reader)).collect();
        let found: Vec<_> = named(&known).into_iter().map(|(at, reader)| (at, reader.name)).collect();
        assert_eq!(found, [(1, "htpasswd")]);
    }

    #[test]
    fn every_row_is_of_formats_that_are_read() {
        for row in &TABLE.named {
            for name in [&row.by, &row.format] {
                assert!(READERS.iter().any(|reader| reader.name == name), "{name}");
            }
        }
    }
}
