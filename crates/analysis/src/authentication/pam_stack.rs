//! PAM stacks with everything they include, and the results that their modules may have (pam.d(5)).

use crate::authentication::pam_conditions::Condition;
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::pam::{PamControl, PamFacility, PamLine, PamService};
use trevlin_model::ssh::matches;
use trevlin_model::{Device, FactorKind, Origin};

/// Modules whose results are known.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Modules {
    modules: Vec<Module>,
}

/// Results of a module.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Module {
    names: Vec<String>,
    /// An argument without which the row does not apply.
    argument: Option<String>,
    /// Factor that success requires.
    proves: Option<FactorKind>,
    /// Results that occur without a factor.
    without: Vec<String>,
}

trevlin_model::table! { static MODULES: Modules = "../../tables/pam-modules.toml"; }

/// How deep services are taken over (libpam: 16).
const DEPTH: usize = 16;

/// Steps walked before a stack counts as too long to tell.
pub(super) const MOST_STEPS: usize = 50_000;

/// Endings of the files of the other facilities, which decide nothing about the login (pam-auth-update(8)).
const OTHER_FACILITIES: [&str; 4] = ["-account", "-password", "-session", "-session-noninteractive"];

/// One possible result of a module.
#[derive(Debug, Clone)]
pub(super) struct Outcome {
    pub(super) result: String,
    pub(super) proof: Proof,
}

/// Proof that a result stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Proof {
    Factor(FactorKind),
    Elsewhere,
    Nothing,
}

/// One entry of a stack with everything taken over.
pub(super) struct Entry<'a> {
    /// Number of substacks around it.
    pub(super) level: usize,
    pub(super) kind: EntryKind<'a>,
    pub(super) origin: Origin,
    /// The first entry with the same module and arguments.
    pub(super) first: usize,
    /// The lines that include its file, the outermost first.
    pub(super) through: Vec<Origin>,
    /// The condition that its module is, where it is one.
    pub(super) condition: Option<Condition>,
    /// Whether its result is remembered on a path.
    pub(super) remembered: bool,
}

pub(super) enum EntryKind<'a> {
    Module {
        line: &'a PamLine,
        outcomes: Vec<Outcome>,
    },
    /// The beginning of a substack, which counts as one line for jumps.
    Substack,
    /// A file that was not exported.
    Missing(String),
}

impl Entry<'_> {
    /// The factor that the module verifies.
    pub(super) fn factor(&self) -> Option<FactorKind> {
        let EntryKind::Module { outcomes, .. } = &self.kind else { return None };
        outcomes.iter().find_map(|outcome| match outcome.proof {
            Proof::Factor(kind) => Some(kind),
            _ => None,
        })
    }

    /// The line, after those that include it.
    pub(super) fn lines(&self) -> impl Iterator<Item = Origin> + '_ {
        self.through.iter().copied().chain([self.origin])
    }
}

/// The stack of a service that is not among the exports.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct MissingService(pub String);

/// Every line that a service's stack consists of, of all facilities, those it takes over among them, each file once.
///
/// # Errors
/// The service that is taken over, may hold `auth` lines and is not among the exports.
pub fn lines_of_service<'a>(device: &'a Device, service: &str) -> Result<Vec<&'a PamLine>, MissingService> {
    let mut lines = Vec::new();
    let (mut open, mut seen) = (vec![(service.to_owned(), true)], BTreeSet::new());
    while let Some((name, decides)) = open.pop() {
        if !seen.insert(name.clone()) {
            continue;
        }
        let Some(found) = device.facts.pam_services.iter().find(|one| one.name == name) else {
            if decides {
                return Err(MissingService(name));
            }
            continue;
        };
        for line in &found.lines {
            if let PamControl::Include(other) | PamControl::Substack(other) = &line.control {
                let other = file_name(other);
                let auth = line.facility.is_none_or(|facility| facility == PamFacility::Auth);
                open.push((other.to_owned(), decides && auth && may_hold_auth(other)));
            }
            lines.push(line);
        }
    }
    Ok(lines)
}

fn file_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// Whether a file that is included may hold lines of the `auth` facility, by its name.
fn may_hold_auth(name: &str) -> bool {
    !OTHER_FACILITIES.iter().any(|ending| name.ends_with(ending))
}

/// A stack with everything taken over.
pub(super) struct Stack<'a> {
    services: &'a [PamService],
    pub(super) entries: Vec<Entry<'a>>,
    /// The first entry of each module with its arguments.
    first: BTreeMap<(&'a str, &'a [String]), usize>,
    /// Lines that may still be looked at: files may include each other many times.
    pub(super) left: usize,
}

impl<'a> Stack<'a> {
    /// An empty one.
    pub(super) fn of(services: &'a [PamService], left: usize) -> Self {
        Self { services, entries: Vec::new(), first: BTreeMap::new(), left }
    }

    pub(super) fn add(&mut self, service: &'a PamService, depth: usize, level: usize, through: &[Origin]) {
        let auth = |line: &&PamLine| line.facility.is_none_or(|facility| facility == PamFacility::Auth);
        for line in service.lines.iter().filter(auth) {
            self.left = self.left.saturating_sub(1);
            if self.left == 0 {
                return;
            }
            let (name, substack) = match &line.control {
                PamControl::Actions { .. } => {
                    self.push(level, EntryKind::Module { line, outcomes: outcomes(line) }, line, through);
                    continue;
                }
                PamControl::Include(name) => (file_name(name), false),
                PamControl::Substack(name) => (file_name(name), true),
            };
            if substack {
                self.push(level, EntryKind::Substack, line, through);
            }
            let level = level + usize::from(substack);
            let found = self.services.iter().find(|one| one.name == name).filter(|_| depth < DEPTH);
            match found {
                Some(found) => {
                    let through: Vec<Origin> = through.iter().copied().chain([line.origin]).collect();
                    self.add(found, depth + 1, level, &through);
                }
                None if line.facility.is_none() && !may_hold_auth(name) => {}
                None => self.push(level, EntryKind::Missing(name.to_owned()), line, through),
            }
        }
    }

    fn push(&mut self, level: usize, kind: EntryKind<'a>, line: &'a PamLine, through: &[Origin]) {
        let number = self.entries.len();
        let first = *self.first.entry((line.module.as_str(), line.arguments.as_slice())).or_insert(number);
        self.entries.push(Entry {
            level,
            kind,
            origin: line.origin,
            first,
            through: through.to_vec(),
            condition: None,
            remembered: true,
        });
    }
}

impl Module {
    fn is_named(&self, module: &str) -> bool {
        self.names.iter().any(|name| matches(module, name))
    }

    /// Whether the argument that the row depends on is in a line.
    fn is_asked_for(&self, line: &PamLine) -> bool {
        self.argument.as_ref().is_some_and(|wanted| line.arguments.contains(wanted))
    }
}

/// Rows of a module, in order.
fn rows(module: &str) -> impl Iterator<Item = &'static Module> {
    MODULES.modules.iter().filter(move |row| row.is_named(module))
}

/// The further factor that a module verifies and that an argument can make optional, with that argument where the line has it
/// (pam_google_authenticator(8), nullok; pam_u2f(8), nouserok; pam_oath(8), alwaysok).
#[must_use]
pub fn further_factor(line: &PamLine) -> Option<(FactorKind, Option<&'static str>)> {
    let kind = rows(&line.module).find_map(|row| row.proves).filter(|kind| *kind != FactorKind::Knowledge)?;
    let mut optional = rows(&line.module).filter(|row| row.argument.is_some()).peekable();
    optional.peek()?;
    Some((kind, optional.find(|row| row.is_asked_for(line)).and_then(|row| row.argument.as_deref())))
}

/// Whether a module verifies a further factor: a code, a token.
#[must_use]
pub fn is_further_factor(module: &str) -> bool {
    rows(module).any(|row| row.proves.is_some_and(|kind| kind != FactorKind::Knowledge))
}

/// Every result that a module may have, by what the user proves with it.
fn outcomes(line: &PamLine) -> Vec<Outcome> {
    let known = rows(&line.module).find(|row| row.argument.is_none() || row.is_asked_for(line));
    let one = |result: &str, proof| Outcome { result: result.to_owned(), proof };
    match known {
        None => vec![one("success", Proof::Elsewhere), one("auth_err", Proof::Nothing)],
        Some(row) => {
            let proves = row.proves.map(|kind| one("success", Proof::Factor(kind)));
            proves.into_iter().chain(row.without.iter().map(|result| one(result, Proof::Nothing))).collect()
        }
    }
}

/// Whether a line may accept passwords of accounts that are not in passwd(5): a directory, another file, an unknown module.
pub(super) fn is_remote_knowledge(line: &PamLine) -> bool {
    let module = line.module.as_str();
    let asked = line.facility == Some(PamFacility::Auth) && !module.is_empty() && module != "pam_unix";
    asked && rows(module).next().is_none_or(|row| row.proves == Some(FactorKind::Knowledge))
}
