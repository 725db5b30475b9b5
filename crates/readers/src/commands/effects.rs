//! Changes by the commands of a script: tables of the packet filter, settings of the kernel, routes (iptables(8), sysctl(8), ip-route(8),
//! route(8)).

use super::programs::{OTHER_FILTERS, family};
use super::shell::UNKNOWN;
use crate::iptables::{self, OfWords, ipset::Sets};
use crate::network::{self, RouteCommand};
use crate::reader::{LineRecorder, Open};
use std::sync::Arc;
use trevlin_model::kernel::KernelSetting;
use trevlin_model::{
    CommandMoment, Export, ExportState, Facts, Family, FilterChange, LineClass, Match, MatchKind,
    NotAnalysed, Origin, Residual, Rule, TableChange, built_in_hook,
};

/// A program with its words.
pub(super) struct Command<'c> {
    /// The program, then its words.
    pub(super) words: &'c [String],
    /// Where it reads from: the sign of the redirection.
    pub(super) reads: Option<&'static str>,
    /// Whether it runs under a condition that is not known.
    pub(super) unsure: bool,
    /// Where it stands.
    pub(super) origin: Origin,
}

/// What commands changed so far.
pub(super) struct Effects<'e> {
    facts: &'e mut Facts,
    book: LineRecorder<'e>,
    sets: Arc<Sets>,
    moment: CommandMoment,
    /// Name of the file, for messages.
    file: String,
}

impl<'e> Effects<'e> {
    pub(super) fn new(
        facts: &'e mut Facts,
        book: LineRecorder<'e>,
        sets: Arc<Sets>,
        moment: CommandMoment,
        file: &str,
    ) -> Self {
        Self { facts, book, sets, moment, file: file.to_owned() }
    }

    /// When the next commands run.
    pub(super) fn at(&mut self, moment: CommandMoment) {
        self.moment = moment;
    }

    /// Whether another script is followed into.
    pub(super) fn may_follow(&mut self, origin: Origin, other: &Export, open: Open) -> bool {
        let follows = self.book.may_read_in(origin, other, open, 8);
        if follows {
            self.book.understood(origin);
            // Its lines are looked at here.
            self.book.class(other.origin(0..0), LineClass::Ignored);
        }
        follows
    }

    /// Commands that could not be followed: what they do to packets is not known, where they do anything to them.
    pub(super) fn not_followed(&mut self, text: &str, origin: Origin) {
        const SIGNS: [&str; 6] = ["iptables", "ip6tables", "nft ", "ufw ", "firewall-cmd", "/net/ipv"];
        if SIGNS.iter().any(|sign| text.contains(sign)) {
            self.book.not_understood(
                origin,
                "the commands from here on were not followed; export the rules that run (`iptables-save`)",
            );
            self.beside("were not followed", origin);
        }
    }

    /// A script that is run and is not among the exports: what it does is missed where its name says that it is about packets.
    pub(super) fn not_exported(&mut self, path: &str, origin: Origin) {
        const NAMES: [&str; 8] = ["firewall", "iptables", "fw", "nat", "masq", "filter", "rules", "route"];
        let name = path.rsplit('/').next().unwrap_or_default().to_ascii_lowercase();
        let own = ["/usr/local/", "/root/", "/etc/", "/opt/"].iter().any(|start| path.starts_with(start));
        // Read: names of scripts are their authors' own; only the words above are searched for.
        if own && NAMES.iter().any(|word| name.contains(word)) {
            self.book.missing(origin, path);
            self.beside("are in a script that was not exported", origin);
        }
    }

    /// Something that commands of the file do to packets, which is not known.
    fn beside(&mut self, why: &str, origin: Origin) {
        let what = format!("commands of {} that {why}", self.file);
        self.facts.not_analysed.push(NotAnalysed::beside(what, origin));
    }

    /// Carries out a command. Returns whether it succeeds, where that is known.
    pub(super) fn run(&mut self, command: &Command<'_>) -> Option<bool> {
        let path = command.words.first()?;
        let program = path.rsplit('/').next().unwrap_or_default();
        let words: Vec<&str> = command.words[1..].iter().map(String::as_str).collect();
        if let Some(family) = family(program) {
            return self.filter(family, &words, command);
        }
        if program.ends_with("tables-restore") {
            // A file is an export of its own.
            if command.reads == Some("<<") || command.reads == Some("<<-") {
                self.not_followed("iptables", command.origin);
            }
            return Some(true);
        }
        if let Some((name, lists)) = OTHER_FILTERS.iter().find(|(name, _)| *name == program) {
            if !words.is_empty() && !words.iter().any(|word| lists.contains(word)) {
                self.book.not_understood(
                    command.origin,
                    format!("commands of `{name}` in scripts are not read; export the rules that run"),
                );
                self.beside("are not read", command.origin);
            }
            return Some(true);
        }
        match (program, words.as_slice()) {
            ("sysctl", words) => {
                for (name, value) in words.iter().filter_map(|word| word.split_once('=')) {
                    self.kernel(&crate::sysctl::dotted(name), value, command.unsure, command.origin);
                }
                Some(true)
            }
            ("ip" | "route", words) => self.route(&[&[program], words].concat(), command),
            // A program whose name only a run shows, with the words of iptables.
            (_, words)
                if program.contains(UNKNOWN) && words.iter().any(|word| built_in_hook(word).is_some()) =>
            {
                self.beside("are only known when they run", command.origin);
                None
            }
            ("echo" | "printf" | "logger" | "modprobe" | "sleep" | "touch", _) => Some(true),
            _ => None,
        }
    }

    /// `echo 1 > /proc/sys/net/ipv4/ip_forward`
    pub(super) fn written(&mut self, file: &str, value: &str, unsure: bool, origin: Origin) {
        if let Some(name) = file.strip_prefix("/proc/sys/") {
            self.kernel(&crate::sysctl::dotted(name), value, unsure || file.contains(UNKNOWN), origin);
        }
    }

    fn kernel(&mut self, name: &str, value: &str, unsure: bool, origin: Origin) {
        if !name.starts_with("net.") {
            return;
        }
        self.book.understood(origin);
        let packets =
            name.ends_with("forward") || name.ends_with("forwarding") || name.ends_with("rp_filter");
        if unsure || value.contains(UNKNOWN) || name.contains(UNKNOWN) {
            if packets {
                self.beside("may change how packets are forwarded", origin);
            }
            return;
        }
        self.facts.kernel.push(KernelSetting {
            name: name.to_owned(),
            value: value.trim().to_owned(),
            state: ExportState::Stored,
            by_command: true,
            origin,
        });
    }

    /// A route that a command adds to the table that every packet is looked up in.
    fn route(&mut self, words: &[&str], command: &Command<'_>) -> Option<bool> {
        let added = RouteCommand::of(words).filter(|added| !added.apart)?;
        if command.unsure || words.iter().any(|word| word.contains(UNKNOWN)) {
            return Some(true);
        }
        let malformed = &mut self.facts.malformed;
        let found = network::route_by(&added.to, added.via, added.dev, command.origin, malformed);
        self.facts.stored_routes.extend(found);
        self.book.understood(command.origin);
        Some(true)
    }

    /// A command of iptables.
    fn filter(&mut self, family: Family, words: &[&str], command: &Command<'_>) -> Option<bool> {
        let Line { table, tokens } = Line::of(words);
        let origin = command.origin;
        let verb = tokens.first().copied().unwrap_or_default();
        if matches!(verb, "-C" | "--check") {
            // At the start nothing is there yet.
            return Some(false);
        }
        let lists = verb.starts_with("-L") || verb.starts_with("-S") || verb.starts_with("--list");
        if lists || verb.is_empty() || matches!(verb, "-V" | "--version" | "-h") {
            return Some(true);
        }
        let unknown = words.iter().any(|word| word.contains(UNKNOWN));
        let placed = matches!(verb, "-A" | "--append" | "-I" | "--insert");
        let head_known =
            tokens.iter().take(2).all(|word| !word.contains(UNKNOWN)) && !table.contains(UNKNOWN);
        if unknown && !(placed && head_known && tokens.len() > 1) {
            self.book.note(origin, "a part of this command is only known when it runs");
            self.beside("are only known when they run", origin);
            return Some(true);
        }
        if unknown {
            let (chain, rule) = (tokens[1].to_owned(), Rule::open("a command with an unknown part", origin));
            let change = match verb {
                "-A" | "--append" => TableChange::Append { chain, rule },
                _ => TableChange::Insert { chain, place: 1, rule },
            };
            self.book.note(origin, "a part of this command is only known when it runs");
            self.push(family, table, change, Vec::new(), origin);
            return Some(true);
        }
        let OfWords { change, problem, sets } = iptables::of_words(&tokens, family, origin, &self.sets);
        if let Some(why) = &problem {
            self.book.not_understood(origin, why.as_str());
        }
        let added = change.as_ref().is_some_and(TableChange::adds);
        let Some(mut change) = change.filter(|_| problem.is_none() || added) else {
            if problem.is_some() {
                self.beside("were not understood", origin);
            }
            return Some(true);
        };
        if command.unsure {
            match &mut change {
                TableChange::Append { rule, .. } | TableChange::Insert { rule, .. } => {
                    let kind = MatchKind::NotAnalysed(Residual::described("a condition of the script"));
                    rule.matches.push(Match { negated: false, kind });
                }
                TableChange::NewChain { .. } => {}
                _ => {
                    self.beside("depend on a condition", origin);
                    return Some(true);
                }
            }
        }
        if let TableChange::Append { rule, .. } | TableChange::Insert { rule, .. } = &change {
            self.facts.not_analysed.extend(iptables::not_analysed_in(rule, table, &self.file));
        }
        self.push(family, table, change, sets, origin);
        Some(true)
    }

    fn push(&mut self, family: Family, table: &str, change: TableChange, names: Vec<String>, origin: Origin) {
        self.book.understood(origin);
        let sets = names.into_iter().map(|name| iptables::named_set(&self.sets, name, origin)).collect();
        let (table, moment) = (table.to_owned(), self.moment);
        self.facts.filter_changes.push(FilterChange { family, table, moment, change, sets, origin });
    }
}

/// A command of iptables with its command word first, without the options that change no rule.
struct Line<'w> {
    table: &'w str,
    tokens: Vec<&'w str>,
}

impl<'w> Line<'w> {
    fn of(words: &[&'w str]) -> Self {
        let mut table = "filter";
        let mut rest = Vec::with_capacity(words.len());
        let mut at = 0;
        while let Some(word) = words.get(at).copied() {
            at += 1;
            match word {
                "-t" | "--table" => {
                    table = words.get(at).copied().unwrap_or_default();
                    at += 1;
                }
                "-w" | "--wait" | "-W" | "--wait-interval" => {
                    let number = words.get(at).is_some_and(|next| next.parse::<u32>().is_ok());
                    at += usize::from(number);
                }
                "-v" | "--verbose" | "-n" | "--numeric" => {}
                _ if word.starts_with("--table=") => table = &word["--table=".len()..],
                _ if word.starts_with("--wait=") => {}
                _ => rest.push(word),
            }
        }
        // The command word may stand behind conditions.
        const VERBS: [&str; 20] = [
            "-A",
            "-I",
            "-D",
            "-R",
            "-N",
            "-F",
            "-X",
            "-Z",
            "-P",
            "-C",
            "--append",
            "--insert",
            "--delete",
            "--replace",
            "--new-chain",
            "--flush",
            "--delete-chain",
            "--zero",
            "--policy",
            "--check",
        ];
        if let Some(at) = rest.iter().position(|word| VERBS.contains(word)).filter(|at| *at > 0) {
            let values =
                rest[at + 1..].iter().take_while(|word| !word.starts_with('-') && **word != "!").count();
            let head: Vec<&str> = rest.drain(at..=at + values).collect();
            rest.splice(0..0, head);
        }
        Self { table, tokens: rest }
    }
}
