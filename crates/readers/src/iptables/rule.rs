//! One line of a table: a command, conditions and a target.

use super::ipset::Sets;
use super::matches::{Conditions, Gathered};
use super::target;
use super::tokens::{Token, split};
pub(super) use crate::iptables::words::Words;
use trevlin_model::{Family, Match, MatchKind, Origin, Residual, Rule, TableChange, Target, TranslationKind};

/// Effect of a line on the table.
pub(crate) enum Command {
    /// It changes it.
    Change(TableChange),
    /// `-X` and `-Z` change no rule, and neither does a listing.
    Nothing,
}

/// A line taken apart, and the first thing about it that was not understood.
pub(crate) struct ParsedLine {
    pub(crate) command: Option<Command>,
    pub(crate) problem: Option<String>,
    /// Sets that it names.
    pub(crate) sets: Vec<String>,
}

/// `[packets:bytes]` before a rule (iptables-save -c).
fn counters(text: &str) -> (Option<u64>, &str) {
    let Some(rest) = text.strip_prefix('[') else { return (None, text) };
    let Some((numbers, rest)) = rest.split_once(']') else { return (None, text) };
    let packets = numbers.split_once(':').and_then(|(packets, _)| packets.parse().ok());
    (packets, rest.trim_start())
}

/// Takes a line apart.
pub(super) fn parse(text: &str, family: Family, origin: Origin, sets: &Sets) -> ParsedLine {
    let (packets, text) = counters(text);
    match split(text) {
        Ok(tokens) => of_tokens(tokens, packets, family, origin, sets),
        Err(problem) => ParsedLine { command: None, problem: Some(problem), sets: Vec::new() },
    }
}

/// The same for words that were split before.
pub(crate) fn of_tokens(
    tokens: Vec<Token<'_>>,
    packets: Option<u64>,
    family: Family,
    origin: Origin,
    sets: &Sets,
) -> ParsedLine {
    let refused = |problem| ParsedLine { command: None, problem: Some(problem), sets: Vec::new() };
    // Signs with lost bytes; names of devices and chains may contain any others. Quoted text has no effect.
    let lost = |token: &&Token<'_>| !token.quoted && token.text.contains(char::REPLACEMENT_CHARACTER);
    let mut problem = tokens.iter().find(lost).map(|token| format!("`{}` is unreadable", token.text));
    let illegible = problem.is_some();
    let mut words = Words { tokens, at: 0 };
    let (verb, chain, place) = match head(&mut words) {
        Ok(Head::Whole(command)) => {
            return ParsedLine { command: Some(command), problem, sets: Vec::new() };
        }
        Ok(Head::Rule(verb, chain, place)) => (verb, chain, place),
        Err(why) => return refused(why),
    };
    let mut body = Conditions::new(family, sets);
    let mut target = Target::Continue;
    let mut owner_is_target = false;
    while let Some(token) = words.next() {
        if let Err(why) = option(&token, &mut words, &mut body, &mut target, &mut owner_is_target, family) {
            problem.get_or_insert(why);
        }
    }
    let Gathered { mut matches, comment, sets, strange } = body.finish();
    if illegible {
        // Nor are the remains of the others evidence.
        matches.clear();
        target = Target::not_understood();
    }
    if problem.is_some() {
        // The part that was not understood may be a condition, or the action.
        let open =
            MatchKind::NotAnalysed(Residual::described("the part of this line that was not understood"));
        matches.push(Match { negated: false, kind: open });
    }
    // A translation says where to (iptables-extensions(8)).
    let nowhere = matches!(&target, Target::Translate(one) if one.addresses.is_none() && one.ports.is_none()
        && matches!(one.kind, TranslationKind::Destination | TranslationKind::Source | TranslationKind::NetworkMap));
    let doubtful = problem.is_some() || strange;
    if nowhere || (doubtful && matches!(target, Target::Continue | Target::Log)) {
        target = Target::not_understood();
    }
    let logs = target == Target::Log;
    let rule = Rule { matches, target, logs, comment, packets, origin, looked_up_at: None };
    let change = match verb {
        Verb::Append => TableChange::Append { chain, rule },
        Verb::Insert => TableChange::Insert { chain, place, rule },
        Verb::Replace => TableChange::Replace { chain, place, rule },
        Verb::Delete => TableChange::Delete { chain, rule },
    };
    ParsedLine { command: Some(Command::Change(change)), problem, sets }
}

enum Verb {
    Append,
    Insert,
    Replace,
    Delete,
}

enum Head {
    Rule(Verb, String, usize),
    Whole(Command),
}

/// The command at the start of a line.
fn head(words: &mut Words<'_>) -> Result<Head, String> {
    let change = |one| Head::Whole(Command::Change(one));
    let first = words.next().map(|token| token.text.into_owned()).unwrap_or_default();
    let chain = |words: &mut Words<'_>| {
        words.value().ok_or_else(|| format!("a chain name is missing after `{first}`"))
    };
    Ok(match first.as_str() {
        "-A" | "--append" => Head::Rule(Verb::Append, chain(words)?, 0),
        "-D" | "--delete" => {
            let chain = chain(words)?;
            match words.value().map(|place| place.parse()) {
                None => Head::Rule(Verb::Delete, chain, 0),
                Some(Ok(place)) => change(TableChange::DeleteAt { chain, place }),
                Some(Err(_)) => return Err("the position after the chain is not a number".into()),
            }
        }
        "-R" | "--replace" => {
            let chain = chain(words)?;
            let place = words.value().and_then(|place| place.parse().ok());
            Head::Rule(Verb::Replace, chain, place.ok_or("a position is missing after the chain")?)
        }
        "-I" | "--insert" => {
            let chain = chain(words)?;
            let place = words.value().map_or(Ok(1), |place| place.parse());
            Head::Rule(
                Verb::Insert,
                chain,
                place.map_err(|_| "the position after the chain is not a number")?,
            )
        }
        "-N" | "--new-chain" => change(TableChange::NewChain { chain: chain(words)? }),
        "-F" | "--flush" => change(TableChange::Flush { chain: words.value() }),
        "-P" | "--policy" => {
            let chain = chain(words)?;
            let policy = match words.value().as_deref() {
                Some("ACCEPT") => Target::Accept,
                Some("DROP") => Target::Drop,
                _ => return Err("expected ACCEPT or DROP as policy".into()),
            };
            change(TableChange::Policy { chain, policy })
        }
        "-X" | "--delete-chain" | "-Z" | "--zero" => {
            words.values();
            Head::Whole(Command::Nothing)
        }
        other => {
            return Err(format!("`{other}` is not a command of iptables-restore; expected `-A CHAIN …`"));
        }
    })
}

/// One option of a rule.
fn option(
    token: &Token<'_>,
    words: &mut Words<'_>,
    body: &mut Conditions<'_>,
    target: &mut Target,
    owner_is_target: &mut bool,
    family: Family,
) -> Result<(), String> {
    if token.quoted || !token.is_option() {
        return Err(format!("`{}` was found where an option was expected", token.text));
    }
    match &*token.text {
        "-j" | "--jump" | "-g" | "--goto" => {
            let name = words.value().ok_or_else(|| format!("a target is missing after `{}`", token.text))?;
            *target = target::named(&name, token.text.starts_with("-g") || token.text == "--goto");
            *owner_is_target = true;
            Ok(())
        }
        "-m" | "--match" => {
            let module = words.value().ok_or("a name is missing after `-m`")?;
            *owner_is_target = false;
            body.load(&module);
            Ok(())
        }
        "-c" | "--set-counters" => {
            words.values();
            Ok(())
        }
        "-4" | "--ipv4" | "-6" | "--ipv6" => Ok(()),
        // Options of a target and of a match can share a name; the one loaded last takes it.
        name if *owner_is_target && name.starts_with("--") && target::takes(target, name) => {
            target::option(target, name, words, family)
        }
        name if *owner_is_target && !body.knows(name) => {
            words.values();
            Err(format!("`{name}` is not a known option of this target"))
        }
        name => body.option(name, words),
    }
}
