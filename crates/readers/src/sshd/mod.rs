//! `sshd_config` with the files it reads in (sshd_config(5)).
//!
//! The first value of a keyword wins; statements behind a `Match` apply to matching connections and override those before any; `Include`
//! inserts files in place, and does not change the current condition.

pub(crate) mod client;
pub(crate) mod dropbear;
mod keywords;
mod lines;

use crate::telling::SSHD as TELLING;
pub(crate) use keywords::modelled as keywords;

use crate::files::hosts_access;
use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use keywords::{Class, class};
use lines::{arguments, keyword};
use trevlin_model::ssh::{SshBlock, SshCriterion, SshServer, SshStatement};
use trevlin_model::{Export, Limit, LineClass, Origin, Reference};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "sshd", title: "SSH server configuration", manual: "sshd_config(5)", recognise, read };

/// A server that another format states in the words of sshd_config(5): each keyword once, with one value, for every
/// connection.
pub(crate) fn stated(
    program: &'static str,
    origin: Origin,
    statements: Vec<(&str, String, Origin)>,
) -> SshServer {
    let statements = statements
        .into_iter()
        .map(|(keyword, value, origin)| SshStatement { keyword: keyword.into(), values: vec![value], origin })
        .collect();
    SshServer {
        program,
        origin,
        blocks: vec![SshBlock { criteria: Vec::new(), statements }],
        missing: Vec::new(),
        refused: None,
        lists: None,
        keywords: keywords(),
    }
}

/// How deep `Include` is followed (servconf.c: 16).
const DEPTH: usize = 16;

/// Where relative paths of `Include` begin.
const FOLDER: &str = "/etc/ssh";

fn recognise(export: &Export) -> Recognition {
    let tells = export.lines().take(TELLING_LINES).any(|line| {
        keyword(line.text).is_some_and(|(name, rest)| TELLING.contains(&name.as_str()) && !rest.is_empty())
    });
    let drop_in = export.path().contains("sshd_config.d/") && export.file_name().ends_with(".conf");
    if tells {
        Recognition::Content
    } else if export.file_name() == "sshd_config" || drop_in {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut state = State {
        around,
        blocks: vec![SshBlock::default()],
        missing: Vec::new(),
        refused: None,
        open: vec![export.path()],
    };
    state.file(export, &[], &mut book);
    // A file that another reads in is part of that server.
    if !around.reads_in(export, included) {
        let first = state.blocks.iter().flat_map(|block| &block.statements).map(|one| one.origin).next();
        let server = SshServer {
            program: trevlin_model::ssh::OPENSSH,
            origin: first.unwrap_or_else(|| export.origin(0..0)),
            blocks: state.blocks,
            missing: state.missing,
            refused: state.refused,
            lists: hosts_access::lists(around, export, "sshd"),
            keywords: keywords::modelled(),
        };
        let conditional = server.blocks.iter().filter(|block| !block.criteria.is_empty()).count();
        if conditional > server.conditions_judged() {
            book.cut(server.origin, Limit::Expansion, "not every `Match` block was evaluated");
        }
        reading.facts.ssh_servers.push(server);
    }
    reading
}

/// The exports that a line of `other` reads in.
fn included<'a>(line: &str, other: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    match keyword(line) {
        Some((name, rest)) if name == "include" => {
            arguments(rest).0.iter().flat_map(|word| around.find_all(&absolute(word), other)).collect()
        }
        _ => Vec::new(),
    }
}

fn absolute(path: &str) -> String {
    if path.starts_with(['/', '~']) { path.to_owned() } else { format!("{FOLDER}/{path}") }
}

struct State<'a> {
    around: &'a ReadContext<'a>,
    blocks: Vec<SshBlock>,
    missing: Vec<Reference>,
    refused: Option<(String, Origin)>,
    open: Vec<&'a str>,
}

impl<'a> State<'a> {
    /// Reads one file. `outer` is the condition it is read in under.
    fn file(&mut self, export: &'a Export, outer: &[(SshCriterion, String)], book: &mut LineRecorder<'_>) {
        let mut criteria = outer.to_vec();
        for line in export.lines() {
            let origin = export.origin_of(line.text.trim());
            let Some((name, rest)) = keyword(line.text) else { continue };
            let (words, problem) = arguments(rest);
            if let Some(problem) = problem {
                self.refuse(origin, problem.into(), book);
                continue;
            }
            match name.as_str() {
                "match" => match match_line(rest) {
                    Ok(inner) => {
                        book.understood(origin);
                        criteria = outer.iter().cloned().chain(inner).collect();
                        self.blocks.push(SshBlock { criteria: criteria.clone(), statements: Vec::new() });
                    }
                    Err(why) => {
                        self.refuse(origin, why, book);
                        // Nothing is known to fit what follows.
                        criteria = vec![(SshCriterion::RoutingDomain, "?".into())];
                        self.blocks.push(SshBlock { criteria: criteria.clone(), statements: Vec::new() });
                    }
                },
                "include" => {
                    book.understood(origin);
                    self.include(&words, export, &criteria, origin, book);
                    self.blocks.push(SshBlock { criteria: criteria.clone(), statements: Vec::new() });
                }
                _ => self.statement(&name, rest, &words, !criteria.is_empty(), origin, book),
            }
        }
    }

    fn include(
        &mut self,
        words: &[String],
        export: &'a Export,
        criteria: &[(SshCriterion, String)],
        origin: Origin,
        book: &mut LineRecorder<'_>,
    ) {
        for word in words {
            let path = absolute(word);
            let found = self.around.find_all(&path, export);
            if found.is_empty() {
                // The daemon ignores a pattern without matches; whether it has any, the exports do not show.
                self.missing.push(Reference { path, configuration: true, unsaid: None, origin });
            }
            for file in found {
                if !book.may_read_in(origin, file, Open::of(&self.open, file), DEPTH) {
                    continue;
                }
                self.open.push(file.path());
                self.blocks.push(SshBlock { criteria: criteria.to_vec(), statements: Vec::new() });
                self.file(file, criteria, book);
                self.open.pop();
            }
        }
    }

    fn statement(
        &mut self,
        name: &str,
        rest: &str,
        words: &[String],
        conditional: bool,
        origin: Origin,
        book: &mut LineRecorder<'_>,
    ) {
        let (name, known) = match class(name) {
            Some(Class::Modelled(known)) => (known.name.as_str(), known),
            Some(Class::NoEffect) => return book.class(origin, LineClass::Ignored),
            Some(Class::Ignored) => {
                book.class(origin, LineClass::Ignored);
                return book.note(origin, format!("`{name}` is ignored by current versions"));
            }
            None => {
                return book.not_understood(
                    origin,
                    "not a keyword of sshd_config(5); the daemon refuses to start with it",
                );
            }
        };
        if conditional && !known.in_match {
            return self.refuse(origin, format!("`{name}` is not permitted after `Match`"), book);
        }
        match known.values(rest, words) {
            Ok(values) => {
                book.understood(origin);
                let statement = SshStatement { keyword: name.to_owned(), values, origin };
                if let Some(block) = self.blocks.last_mut() {
                    block.statements.push(statement);
                }
            }
            Err(why) => self.refuse(origin, why, book),
        }
    }

    fn refuse(&mut self, origin: Origin, why: String, book: &mut LineRecorder<'_>) {
        book.not_understood(origin, format!("{why}; the daemon refuses to start with it"));
        self.refused.get_or_insert((why, origin));
    }
}

/// The criteria of a `Match` line.
fn match_line(rest: &str) -> Result<Vec<(SshCriterion, String)>, String> {
    let words = lines::delimited(rest);
    let mut words = words.iter().map(String::as_str).take_while(|word| !word.starts_with('#'));
    let mut criteria = Vec::new();
    while let Some(name) = words.next() {
        let criterion = match name.to_ascii_lowercase().as_str() {
            "all" => {
                if !criteria.is_empty() || words.next().is_some() {
                    return Err("`all` cannot be combined with other criteria".into());
                }
                return Ok(vec![(SshCriterion::All, String::new())]);
            }
            "user" => SshCriterion::User,
            "group" => SshCriterion::Group,
            "host" => SshCriterion::Host,
            "address" => SshCriterion::Address,
            "localaddress" => SshCriterion::LocalAddress,
            "localport" => SshCriterion::LocalPort,
            "rdomain" => SshCriterion::RoutingDomain,
            _ => {
                return Err(format!(
                    "`{name}` is not a criterion; expected user, group, host, address, localaddress or localport"
                ));
            }
        };
        let pattern = words.next().ok_or_else(|| format!("a pattern is missing after `{name}`"))?;
        if criterion == SshCriterion::LocalPort && pattern.parse::<u16>().is_err() {
            return Err(format!("`{pattern}` is not a port"));
        }
        criteria.push((criterion, pattern.to_owned()));
    }
    if criteria.is_empty() { Err("`Match` needs a criterion".into()) } else { Ok(criteria) }
}

#[cfg(test)]
mod tests;
