//! `sudoers`: rules for running commands as another user (sudoers(5)).
//!
//! Long because one language is read in one place, with the names of its settings.

use crate::growth::may_grow;
use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::sudo::{SudoCommand, SudoDefault, SudoRule, SudoSetting};
use trevlin_model::{Export, Limit, LineClass, Origin, Reference};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "sudoers", title: "sudo rules", manual: "sudoers(5)", recognise, read };

/// How deep files read in others, as the program has it (`MAX_SUDOERS_DEPTH`).
const DEPTH: usize = 128;

/// Settings of a `Defaults` line (sudoers(5), SUDOERS OPTIONS).
const DEFAULTS: [&str; 182] = [
    "admin_flag",
    "all",
    "always",
    "always_query_group_plugin",
    "always_set_home",
    "any",
    "apparmor_profile",
    "askpass",
    "authenticate",
    "authfail_message",
    "badpass_message",
    "case_insensitive_group",
    "case_insensitive_user",
    "closefrom",
    "closefrom_override",
    "cmddenial_message",
    "command_timeout",
    "compress_io",
    "digest_only",
    "dso",
    "editor",
    "env_check",
    "env_delete",
    "env_editor",
    "env_file",
    "env_keep",
    "env_reset",
    "exec_background",
    "exempt_group",
    "fast_glob",
    "fdexec",
    "fqdn",
    "global",
    "group_plugin",
    "ignore_audit_errors",
    "ignore_dot",
    "ignore_iolog_errors",
    "ignore_local_sudoers",
    "ignore_logfile_errors",
    "ignore_unknown_defaults",
    "insults",
    "intercept",
    "intercept_allow_setid",
    "intercept_authenticate",
    "intercept_type",
    "intercept_verify",
    "iolog_dir",
    "iolog_file",
    "iolog_flush",
    "iolog_group",
    "iolog_mode",
    "iolog_user",
    "json",
    "json_compact",
    "kernel",
    "lecture",
    "lecture_file",
    "lecture_status_dir",
    "legacy_group_processing",
    "limitprivs",
    "listpw",
    "log_allowed",
    "log_denied",
    "log_exit_status",
    "log_format",
    "log_host",
    "log_input",
    "log_output",
    "log_passwords",
    "log_server_cabundle",
    "log_server_keepalive",
    "log_server_peer_cert",
    "log_server_peer_key",
    "log_server_timeout",
    "log_server_verify",
    "log_servers",
    "log_stderr",
    "log_stdin",
    "log_stdout",
    "log_subcmds",
    "log_ttyin",
    "log_ttyout",
    "log_year",
    "logfile",
    "loglinelen",
    "long_otp_prompt",
    "mail_all_cmnds",
    "mail_always",
    "mail_badpass",
    "mail_no_host",
    "mail_no_perms",
    "mail_no_user",
    "mailerflags",
    "mailerpath",
    "mailfrom",
    "mailsub",
    "mailto",
    "match_group_by_gid",
    "maxseq",
    "netgroup_tuple",
    "never",
    "noexec",
    "noexec_file",
    "noninteractive_auth",
    "once",
    "pam_acct_mgmt",
    "pam_askpass_service",
    "pam_login_service",
    "pam_rhost",
    "pam_ruser",
    "pam_service",
    "pam_session",
    "pam_setcred",
    "pam_silent",
    "passprompt",
    "passprompt_override",
    "passprompt_regex",
    "passwd_timeout",
    "passwd_tries",
    "path_info",
    "ppid",
    "preserve_groups",
    "privs",
    "pwfeedback",
    "requiretty",
    "restricted_env_file",
    "rlimit_as",
    "rlimit_core",
    "rlimit_cpu",
    "rlimit_data",
    "rlimit_fsize",
    "rlimit_locks",
    "rlimit_memlock",
    "rlimit_nofile",
    "rlimit_nproc",
    "rlimit_rss",
    "rlimit_stack",
    "role",
    "root_sudo",
    "rootpw",
    "runas_allow_unknown_id",
    "runas_check_shell",
    "runas_default",
    "runaspw",
    "runchroot",
    "runcwd",
    "secure_path",
    "selinux",
    "set_home",
    "set_logname",
    "set_utmp",
    "setenv",
    "shell_noargs",
    "skel_dir",
    "stay_setuid",
    "sudo",
    "sudoedit_checkdir",
    "sudoedit_follow",
    "sudoers_locale",
    "syslog",
    "syslog_badpri",
    "syslog_goodpri",
    "syslog_maxlen",
    "syslog_pid",
    "targetpw",
    "timestamp_timeout",
    "timestamp_type",
    "timestampdir",
    "timestampowner",
    "trace",
    "tty",
    "tty_tickets",
    "type",
    "umask",
    "umask_override",
    "use_loginclass",
    "use_netgroups",
    "use_pty",
    "user_command_timeouts",
    "utmp_runas",
    "verifypw",
    "visiblepw",
];

/// Tags before a command.
const TAGS: [&str; 17] = [
    "NOPASSWD",
    "PASSWD",
    "NOEXEC",
    "EXEC",
    "SETENV",
    "NOSETENV",
    "LOG_INPUT",
    "NOLOG_INPUT",
    "LOG_OUTPUT",
    "NOLOG_OUTPUT",
    "MAIL",
    "NOMAIL",
    "FOLLOW",
    "NOFOLLOW",
    "INTERCEPT",
    "NOINTERCEPT",
    "ALL",
];

/// One logical line: continued lines joined, comments taken off.
struct Logical {
    text: String,
    origin: Origin,
}

fn logical(export: &Export) -> Vec<Logical> {
    let mut found: Vec<Logical> = Vec::new();
    let mut open = false;
    for line in export.lines() {
        let mut text = line.text.trim();
        let continued = text.ends_with('\\');
        text = text.trim_end_matches('\\').trim();
        let origin = export.origin_of(line.text.trim());
        let text = without_comment(text);
        match found.last_mut().filter(|_| open) {
            Some(last) => {
                last.text.push(' ');
                last.text.push_str(text);
                last.origin.end = origin.end;
            }
            None if text.is_empty() && !continued => {}
            None => found.push(Logical { text: text.to_owned(), origin }),
        }
        open = continued;
    }
    found.retain(|line| !line.text.trim().is_empty());
    found
}

/// A `#` begins a comment, unless digits follow (a number in place of a name), `include` does, or a quote is open.
fn without_comment(text: &str) -> &str {
    let mut quoted = false;
    for (at, letter) in text.char_indices() {
        quoted ^= letter == '"';
        if letter == '#' && !quoted {
            let rest = &text[at + 1..];
            let number = rest.starts_with(|letter: char| letter.is_ascii_digit());
            let include = at == 0 && rest.starts_with("include");
            let escaped = text[..at].ends_with('\\');
            if !number && !include && !escaped {
                return text[..at].trim_end();
            }
        }
    }
    text
}

/// The rule's left and right side.
fn sides(text: &str) -> Option<(&str, &str, &str)> {
    let (left, right) = text.split_once('=')?;
    let left = left.trim_end();
    // Hosts are the last word list before the sign; lists may have blanks behind their commas.
    let mut at = left.len();
    let bytes = left.as_bytes();
    while at > 0 {
        at -= 1;
        // A blank is a character of its own, so the text may be cut there.
        if bytes[at] != b' ' && bytes[at] != b'\t' {
            continue;
        }
        let in_list = left[..at].trim_end().ends_with(',') || left[at..].trim_start().starts_with(',');
        if !in_list {
            break;
        }
    }
    let (who, hosts) = (left[..at].trim(), left[at..].trim());
    (!who.is_empty() && !hosts.is_empty()).then_some((who, hosts, right.trim()))
}

fn recognise(export: &Export) -> Recognition {
    let rule = |text: &str| {
        sides(text).is_some_and(|(who, hosts, right)| {
            !who.contains(' ')
                && hosts == "ALL"
                && (right.starts_with('(') || right.starts_with("NOPASSWD:") || right == "ALL")
        })
    };
    let tells = |text: &str| {
        text.starts_with("Defaults")
            && (text.contains("env_reset") || text.contains("secure_path") || text.contains("authenticate"))
            || rule(text)
    };
    let first_lines =
        export.lines().take(TELLING_LINES).map(|line| line.text.trim()).filter(|text| !text.starts_with('#'));
    let (path, name) = (export.path(), export.file_name());
    if first_lines.into_iter().any(tells) {
        Recognition::Content
    } else if name == "sudoers" || path.contains("sudoers.d/") && name != "README" {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Content of the lines so far.
#[derive(Default)]
struct State {
    aliases: Aliases,
    rules: Vec<(Vec<String>, String, Origin)>,
    defaults: Vec<DefaultLine>,
    missing: Vec<Reference>,
}

/// Members of aliases, by the first letter of their kind and their name.
type Aliases = BTreeMap<String, Vec<String>>;

/// A setting of a `Defaults` line that changes what a rule grants.
struct DefaultLine {
    scope: Scope,
    setting: SudoSetting,
    on: bool,
    origin: Origin,
}

/// Scope of a `Defaults` line (sudoers(5), "Defaults"). Lines for hosts apply, as the name of the host is not in the file.
#[derive(Clone)]
enum Scope {
    Everything,
    Users(Vec<String>),
    Commands(Vec<String>),
    As(Vec<String>),
}

/// Files that one line of another export includes.
fn included<'a>(line: &str, other: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let text = line.trim();
    let mut words = text.split_whitespace();
    let (Some(word), Some(path)) = (words.next(), words.next()) else { return Vec::new() };
    let path = path.trim_matches('"');
    match word.trim_start_matches(['#', '@']) {
        "include" if word.starts_with(['#', '@']) => around.find(path, other).into_iter().collect(),
        "includedir" if word.starts_with(['#', '@']) => {
            let found = around.find_all(&format!("{}/*", path.trim_end_matches('/')), other);
            // Names with a dot or a tilde at the end are left out (sudoers(5)).
            found
                .into_iter()
                .filter(|one| !one.file_name().contains('.') && !one.file_name().ends_with('~'))
                .collect()
        }
        _ => Vec::new(),
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut state = State::default();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    take(export, around, &mut state, &mut book, 1);
    // A file that the main one reads in is judged there, in its place.
    if !around.reads_in(export, included) {
        reading.facts.missing.append(&mut state.missing);
        (reading.facts.sudo_rules, reading.facts.sudo_defaults) = rules(state, &mut book);
    }
    reading
}

fn take(
    export: &Export,
    around: &ReadContext<'_>,
    state: &mut State,
    book: &mut LineRecorder<'_>,
    depth: usize,
) {
    for line in logical(export) {
        let text = line.text.trim();
        book.class(line.origin, LineClass::Understood);
        if text.starts_with(['#', '@']) && text[1..].starts_with("include") {
            let files = included(text, export, around);
            let path = text.split_whitespace().nth(1).unwrap_or_default().trim_matches('"');
            if files.is_empty() && !text[1..].starts_with("includedir") {
                let path = path.to_owned();
                state.missing.push(Reference {
                    path,
                    configuration: true,
                    unsaid: None,
                    origin: line.origin,
                });
            }
            for file in files {
                // The program counts depth alone: a file that reads itself in ends there too.
                let open = Open { again: false, depth };
                if book.may_read_in(line.origin, file, open, DEPTH) {
                    take(file, around, state, book, depth + 1);
                }
            }
            continue;
        }
        let (first, rest) = first_word(text);
        match first {
            "User_Alias" | "Cmnd_Alias" | "Host_Alias" | "Runas_Alias" | "Cmd_Alias" => {
                for part in definitions(rest) {
                    match part.split_once('=') {
                        Some((name, members)) => {
                            let key = format!("{}{}", &first[..1], name.trim());
                            let members = if first.starts_with('C') { parts(members) } else { list(members) };
                            state.aliases.insert(key, members);
                        }
                        None => book.not_understood(line.origin, "expected `NAME = member, member`"),
                    }
                }
            }
            _ if first.starts_with("Defaults") => {
                let (scope, rest) = scope(first, rest);
                for part in list(rest) {
                    let (name, on) =
                        part.strip_prefix('!').map_or((part.as_str(), true), |name| (name.trim(), false));
                    let setting = match name {
                        "authenticate" => SudoSetting::Authenticate,
                        "noexec" => SudoSetting::Noexec,
                        _ => continue,
                    };
                    state.defaults.push(DefaultLine {
                        scope: scope.clone(),
                        setting,
                        on,
                        origin: line.origin,
                    });
                }
                // `Defaults@HOST`, `Defaults:USER`, `Defaults!COMMAND` and `Defaults>RUNAS` may have a list with blanks.
                if let Some(name) = settings(rest).find(|name| !DEFAULTS.contains(name)) {
                    book.not_understood(
                        line.origin,
                        format!("`{name}` is not a known default of sudoers(5); sudo warns and continues"),
                    );
                }
            }
            _ => match sides(text) {
                Some((who, _, right)) => {
                    state.rules.push((list(who), right.to_owned(), line.origin));
                }
                None => book.not_understood(line.origin, "expected `who hosts = (as whom) commands`"),
            },
        }
    }
}

/// Names of the settings of a `Defaults` line: `name`, `!name`, `name=value`, `name+=value`.
/// The first word and what follows: a blank in quotes or behind a backslash is part of the word (sudoers(5), "Other special characters").
fn first_word(text: &str) -> (&str, &str) {
    let (mut quoted, mut escaped) = (false, false);
    let end = text.find(|one: char| {
        let ends = one.is_whitespace() && !quoted && !escaped;
        quoted ^= one == '"' && !escaped;
        escaped = one == '\\' && !escaped;
        ends
    });
    let Some(end) = end else { return (text, "") };
    // A blank may take several bytes.
    let blank = text[end..].chars().next().map_or(1, char::len_utf8);
    (&text[..end], &text[end + blank..])
}

fn settings(text: &str) -> impl Iterator<Item = &str> {
    let mut quoted = false;
    let parts = text.split(move |one: char| {
        quoted ^= one == '"';
        one == ',' && !quoted
    });
    parts.filter_map(|part| {
        let name = part.trim_start_matches(['!', ' ', '\t']);
        let end = name.find(|one: char| one.is_whitespace() || matches!(one, '=' | '+' | '-'));
        let name = &name[..end.unwrap_or(name.len())];
        (!name.is_empty()).then_some(name)
    })
}

/// Members of a list, blanks taken off.
fn list(text: &str) -> Vec<String> {
    text.split(',').map(|one| one.trim().trim_matches('"').to_owned()).filter(|one| !one.is_empty()).collect()
}

/// Definitions of an alias line: a colon separates them where a name and `=` follow.
fn definitions(text: &str) -> Vec<&str> {
    let named = |rest: &str| {
        rest.split_once('=').is_some_and(|(name, _)| {
            let name = name.trim();
            !name.is_empty()
                && name.bytes().all(|sign| sign.is_ascii_uppercase() || sign.is_ascii_digit() || sign == b'_')
        })
    };
    let mut found = Vec::new();
    let mut start = 0;
    for (at, _) in text.match_indices(':') {
        if !text[..at].ends_with('\\') && named(&text[at + 1..]) {
            found.push(&text[start..at]);
            start = at + 1;
        }
    }
    found.push(&text[start..]);
    found
}

/// The scope of a `Defaults` line and its settings. The list behind the sign may have blanks after its commas.
fn scope<'a>(first: &str, rest: &'a str) -> (Scope, &'a str) {
    let sign = first["Defaults".len()..].chars().next();
    let Some(sign) = sign else { return (Scope::Everything, rest) };
    let mut names = list(&first["Defaults".len() + sign.len_utf8()..]);
    let (mut more, mut rest) = (first.ends_with(','), rest);
    while more || rest.starts_with(',') {
        let (word, after) = first_word(rest.trim_start_matches([',', ' ', '\t']));
        names.extend(list(word));
        (more, rest) = (word.ends_with(','), after.trim_start());
    }
    let scope = match sign {
        ':' => Scope::Users(names),
        '!' => Scope::Commands(names),
        '>' => Scope::As(names),
        _ => Scope::Everything,
    };
    (scope, rest)
}

/// Parts of the right side of a rule between its commas. A comma in an argument has a backslash before it, one between the
/// names in brackets does not end a part.
fn parts(right: &str) -> Vec<String> {
    let mut found = vec![String::new()];
    let (mut escaped, mut bracket) = (false, false);
    for sign in right.chars() {
        let ends = sign == ',' && !escaped && !bracket;
        bracket = !escaped
            && (bracket && sign != ')'
                || sign == '(' && found.last().is_some_and(|part| part.trim().is_empty()));
        if ends {
            found.push(String::new());
        } else if let Some(part) = found.last_mut() {
            part.push(sign);
        }
        escaped = sign == '\\' && !escaped;
    }
    found.into_iter().map(|part| part.trim().to_owned()).filter(|part| !part.is_empty()).collect()
}

/// Commands of the right side of a rule, aliases resolved; none where they exceed what the file may grow to.
fn commands(right: &str, aliases: &Aliases) -> Option<Vec<SudoCommand>> {
    let mut found = Vec::new();
    // Who the command runs as, and its tags, hold for the commands behind them until others come (sudoers(5), "Tag_Spec").
    let (mut as_root, mut asks, mut noexec) = (true, None, None);
    for part in parts(right) {
        let mut rest = part.as_str();
        loop {
            if let Some(after) = rest.strip_prefix('(') {
                let (whom, after) = after.split_once(')').unwrap_or((after, ""));
                as_root = is_root(whom, aliases);
                rest = after.trim_start();
            } else if let Some((tag, after)) =
                rest.split_once(':').filter(|(tag, _)| TAGS.contains(&tag.trim()))
            {
                match tag.trim() {
                    "NOPASSWD" => asks = Some(false),
                    "PASSWD" => asks = Some(true),
                    "NOEXEC" => noexec = Some(true),
                    "EXEC" => noexec = Some(false),
                    _ => {}
                }
                rest = after.trim_start();
            } else if let Some((_, after)) = rest.split_once([' ', '\t']).filter(|(word, _)| is_option(word))
            {
                rest = after.trim_start();
            } else {
                break;
            }
        }
        for (excluded, command) in members(rest, 'C', aliases)? {
            let (path, arguments) = command_line(&command);
            found.push(SudoCommand { path, arguments, excluded, as_root, asks_password: asks, noexec });
        }
    }
    Some(found)
}

/// Whether a word is an option before a command, such as `CWD=/srv` (sudoers(5), "Option_Spec").
fn is_option(word: &str) -> bool {
    let name = word.split_once('=').map(|(name, _)| name);
    name.is_some_and(|name| {
        matches!(
            name,
            "ROLE"
                | "TYPE"
                | "PRIVS"
                | "LIMITPRIVS"
                | "NOTBEFORE"
                | "NOTAFTER"
                | "TIMEOUT"
                | "CWD"
                | "CHROOT"
                | "APPARMOR_PROFILE"
        )
    })
}

/// Whether a list of users and groups to run as includes root: none at all is root (sudoers(5), "Runas_Spec").
fn is_root(whom: &str, aliases: &Aliases) -> bool {
    let users = list(whom.split(':').next().unwrap_or_default());
    if users.is_empty() {
        return !whom.contains(':');
    }
    let mut root = false;
    for user in users {
        for (excluded, user) in members(&user, 'R', aliases).unwrap_or_default() {
            if matches!(user.as_str(), "ALL" | "root" | "#0") {
                root = !excluded;
            }
        }
    }
    root
}

/// A command split into its path and arguments. A digest before it (`sha256:…`) only narrows which file it may be.
fn command_line(text: &str) -> (String, Option<String>) {
    let digest = |word: &str| word.split_once(':').is_some_and(|(kind, _)| kind.starts_with("sha"));
    let text = match text.split_once([' ', '\t']) {
        Some((word, rest)) if digest(word) => rest.trim_start(),
        _ => text,
    };
    let (path, arguments) =
        text.split_once([' ', '\t']).map_or((text, None), |(path, rest)| (path, Some(rest.trim())));
    let arguments =
        arguments.map(|arguments| if arguments == "\"\"" { String::new() } else { unescaped(arguments) });
    (unescaped(path), arguments)
}

/// Without the backslashes that the file needs; a wildcard behind one is that sign itself.
fn unescaped(text: &str) -> String {
    let mut found = String::new();
    let mut signs = text.chars();
    while let Some(sign) = signs.next() {
        match sign {
            '\\' => match signs.next() {
                Some(wildcard @ ('*' | '?' | '[')) => found.extend(['[', wildcard, ']']),
                Some(other) => found.push(other),
                None => {}
            },
            _ => found.push(sign),
        }
    }
    found
}

/// How deep aliases may have others as members.
const ALIASES_DEEP: usize = 16;

/// A name, or the members of its alias, and whether each is excluded; none where they exceed what the file may grow to.
fn members(name: &str, kind: char, aliases: &Aliases) -> Option<Vec<(bool, String)>> {
    fn add(
        name: &str,
        out: bool,
        kind: char,
        aliases: &Aliases,
        depth: usize,
        found: &mut Vec<(bool, String)>,
    ) -> Option<()> {
        let bare = name.trim_start_matches('!').trim();
        let out = out ^ (name.chars().take_while(|sign| *sign == '!').count() % 2 == 1);
        match aliases.get(&format!("{kind}{bare}")).filter(|_| depth < ALIASES_DEEP) {
            Some(members) => {
                members.iter().try_for_each(|one| add(one, out, kind, aliases, depth + 1, found))
            }
            None => {
                // What one name makes of itself is in the file; only copies are charged.
                if depth > 0 && !may_grow(size_of::<SudoCommand>() + bare.len()) {
                    return None;
                }
                found.push((out, bare.to_owned()));
                Some(())
            }
        }
    }
    let mut found = Vec::new();
    add(name, false, kind, aliases, 0, &mut found)?;
    Some(found)
}

/// Rules with their aliases resolved, and the defaults for users. Equal lists are resolved once, and shared.
fn rules(state: State, book: &mut LineRecorder<'_>) -> (Vec<SudoRule>, Vec<SudoDefault>) {
    let State { aliases, rules, defaults, .. } = state;
    let defaults = resolved(defaults, &aliases);
    let mut lists: BTreeMap<Vec<String>, (Arc<Vec<String>>, bool)> = BTreeMap::new();
    let mut known: BTreeMap<String, Arc<Vec<SudoCommand>>> = BTreeMap::new();
    let mut found = Vec::new();
    for (who, right, origin) in rules {
        let (who, asks) = match lists.get(&who) {
            Some(known) => known.clone(),
            None => {
                let Some(all) = resolve(&who, &aliases) else {
                    book.cut(origin, Limit::Expansion, "aliases");
                    continue;
                };
                let asks = asks_unless_stated(&defaults, &all);
                lists.entry(who).or_insert((Arc::new(all), asks)).clone()
            }
        };
        let commands = match known.get(&right) {
            Some(commands) => Arc::clone(commands),
            None => {
                let Some(commands) = commands(&right, &aliases) else {
                    book.cut(origin, Limit::Expansion, "aliases");
                    continue;
                };
                Arc::clone(known.entry(right).or_insert(Arc::new(commands)))
            }
        };
        let every = commands.iter().rev().find(|command| command.is_all() && command.as_root);
        let every = every.or_else(|| commands.iter().rev().find(|command| command.is_all()));
        let as_root = |command: &SudoCommand| command.as_root;
        found.push(SudoRule {
            who,
            all_commands: every.is_some_and(|command| !command.excluded),
            as_root: every.map_or_else(|| commands.iter().any(as_root), as_root),
            asks_password: every.and_then(|command| command.asks_password).unwrap_or(asks),
            revokes_all: every.is_some_and(|command| command.excluded),
            commands,
            origin,
        });
    }
    (found, defaults)
}

/// Whether the users of a list are required to enter a password where a rule does not state it; not, where one of them is not.
fn asks_unless_stated(defaults: &[SudoDefault], who: &[String]) -> bool {
    let is_meant =
        |default: &&SudoDefault| default.setting == SudoSetting::Authenticate && default.commands.is_empty();
    let authenticate = || defaults.iter().rev().filter(is_meant);
    let is_about =
        |default: &&SudoDefault, name: &str| default.who.iter().any(|one| one == name || one == "ALL");
    let of = |name: &String| {
        authenticate().find(|default| is_about(default, name)).is_none_or(|default| default.on)
    };
    authenticate().next().is_none() || who.iter().all(of)
}

/// Defaults with their aliases resolved. Those for commands that run as root apply to all users, as no other commands matter here.
fn resolved(lines: Vec<DefaultLine>, aliases: &Aliases) -> Vec<SudoDefault> {
    let all = Arc::new(vec!["ALL".to_owned()]);
    let mut found = Vec::new();
    for DefaultLine { scope, setting, on, origin } in lines {
        let (who, commands) = match scope {
            Scope::Everything => (Some(Arc::clone(&all)), Vec::new()),
            Scope::As(names) if names.iter().any(|name| is_root(name, aliases)) => {
                (Some(Arc::clone(&all)), Vec::new())
            }
            Scope::As(_) => continue,
            Scope::Users(names) => (resolve(&names, aliases).map(Arc::new), Vec::new()),
            Scope::Commands(names) => {
                (Some(Arc::clone(&all)), commands(&names.join(", "), aliases).unwrap_or_default())
            }
        };
        found.extend(who.map(|who| SudoDefault { who, commands: Arc::new(commands), setting, on, origin }));
    }
    found
}

/// Names with the members of aliases in their places; none where that is more than the file may grow to.
fn resolve(names: &[String], aliases: &Aliases) -> Option<Vec<String>> {
    let mut found = Vec::new();
    for name in names {
        for (excluded, name) in members(name, 'U', aliases)? {
            found.push(if excluded { format!("!{name}") } else { name });
        }
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/sudoers", text.into());
        crate::includes::read(&READER, &export, &ReadContext::of(vec![&export]))
    }

    #[test]
    fn first_words() {
        for (text, wanted) in [
            ("Defaults env_reset", ("Defaults", "env_reset")),
            ("Defaults:\"some one\" !lecture", ("Defaults:\"some one\"", "!lecture")),
            ("Defaults:foo,\\ bar env_reset", ("Defaults:foo,\\ bar", "env_reset")),
            ("a\u{2029}b", ("a", "b")),
            ("alone", ("alone", "")),
        ] {
            assert_eq!(first_word(text), wanted, "{text}");
        }
    }

    #[test]
    fn rules_with_their_tags() {
        for (text, wanted) in [
            ("root ALL=(ALL:ALL) ALL", "root all root asks"),
            ("%sudo\tALL=(ALL) NOPASSWD: ALL", "%sudo all root free"),
            ("ann ALL = NOPASSWD: /bin/ls, PASSWD: ALL", "ann all root asks"),
            ("ann ALL = NOPASSWD: /bin/ls, ALL", "ann all root free"),
            ("ann ALL=(www-data) NOPASSWD: ALL", "ann all other free"),
            ("ann ALL=(:staff) ALL", "ann all other asks"),
            ("ann, bob ALL=(ALL) NOPASSWD: /usr/bin/apt", "ann,bob some root asks"),
            ("User_Alias CREW = ann, bob\nCREW ALL=(ALL) NOPASSWD:SETENV: ALL", "ann,bob all root free"),
            ("Cmnd_Alias EVERY = ALL\nann ALL = NOPASSWD: EVERY", "ann all root free"),
            ("Defaults !authenticate\nann ALL=(ALL) ALL", "ann all root free"),
            ("Defaults:bob !authenticate\nann ALL=(ALL) ALL", "ann all root asks"),
            ("# ann ALL=(ALL) NOPASSWD: ALL\nbob ALL=(ALL) ALL # NOPASSWD: ALL", "bob all root asks"),
            ("ann ALL=(ALL) \\\n  NOPASSWD: \\\n  ALL", "ann all root free"),
            ("#1001 ALL=(ALL) ALL", "#1001 all root asks"),
            ("ann HOST1, HOST2 = (ALL) ALL", "ann all root asks"),
        ] {
            let reading = of(&format!("{text}\n"));
            let one = reading.facts.sudo_rules.last().unwrap();
            let told = format!(
                "{} {} {} {}",
                one.who.join(","),
                if one.all_commands { "all" } else { "some" },
                if one.as_root { "root" } else { "other" },
                if one.asks_password { "asks" } else { "free" }
            );
            assert_eq!(told, wanted, "{text}");
            assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0, "{text}");
        }
    }

    #[test]
    fn files_are_read_in_at_their_place() {
        let main = Export::new(
            ExportId(0),
            "d/etc/sudoers",
            "%a ALL=(ALL) ALL\n@includedir /etc/sudoers.d\n".into(),
        );
        let crew = Export::new(ExportId(1), "d/etc/sudoers.d/crew", "ann ALL=(ALL) NOPASSWD: ALL\n".into());
        let copy =
            Export::new(ExportId(2), "d/etc/sudoers.d/crew.old", "bob ALL=(ALL) NOPASSWD: ALL\n".into());
        let around = ReadContext::of(vec![&main, &crew, &copy]);
        let whole = read(&main, &around);
        let who: Vec<_> = whole.facts.sudo_rules.iter().map(|rule| rule.who[0].as_str()).collect();
        assert_eq!(who, ["%a", "ann"]);
        assert!(read(&crew, &around).facts.sudo_rules.is_empty());
    }

    /// Many rules with one long alias share it; many that each extend it are truncated, and reported so.
    #[test]
    fn aliases_are_shared_and_bounded() {
        let members: Vec<String> = (0..5_000).map(|number| format!("user{number}")).collect();
        let alias = format!("User_Alias CREW = {}\n", members.join(", "));
        let same = alias.clone() + &"CREW ALL = (ALL) NOPASSWD: ALL\n".repeat(5_000);
        let reading = of(&same);
        let rules = &reading.facts.sudo_rules;
        assert_eq!(rules.len(), 5_000);
        assert!(rules.iter().all(|rule| std::sync::Arc::ptr_eq(&rule.who, &rules[0].who)));
        let other: String =
            (0..5_000).map(|number| format!("CREW, more{number} ALL = (ALL) ALL\n")).collect();
        let reading = of(&(alias + &other));
        assert!(reading.facts.sudo_rules.len() < 5_000);
        assert!(reading.ledger.cuts.iter().any(|cut| cut.limit == Limit::Expansion));
    }
}
