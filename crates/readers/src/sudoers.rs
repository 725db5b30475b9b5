//! `sudoers`: rules for running commands as another user (sudoers(5)).
//!
//! Long because one language is read in one place, with the names of its settings.

use crate::growth::may_grow;
use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::sudo::SudoRule;
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
    aliases: BTreeMap<String, Vec<String>>,
    rules: Vec<(Vec<String>, Specification, Origin)>,
    /// `Defaults !authenticate`, and the users it applies to.
    no_password: Vec<(Option<String>, Origin)>,
    missing: Vec<Reference>,
}

/// The right side of a rule.
struct Specification {
    all_commands: bool,
    as_root: bool,
    /// Whether the tags require a password; `None` where they leave it to the defaults.
    asks: Option<bool>,
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
        reading.facts.sudo_rules = rules(state, &mut book);
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
                    unsaid: false,
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
        let (first, rest) = text.split_once([' ', '\t']).unwrap_or((text, ""));
        match first {
            "User_Alias" | "Cmnd_Alias" | "Host_Alias" | "Runas_Alias" | "Cmd_Alias" => {
                for part in rest.split(':') {
                    match part.split_once('=') {
                        Some((name, members)) => {
                            let key = format!("{}{}", &first[..1], name.trim());
                            state.aliases.insert(key, list(members));
                        }
                        None => book.not_understood(line.origin, "expected `NAME = member, member`"),
                    }
                }
            }
            _ if first.starts_with("Defaults") => {
                let about = first.strip_prefix("Defaults:").map(str::to_owned);
                let off = list(rest).iter().any(|one| one.replace(' ', "") == "!authenticate");
                if off {
                    state.no_password.push((about, line.origin));
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
                    let specification = specification(right, &state.aliases);
                    state.rules.push((list(who), specification, line.origin));
                }
                None => book.not_understood(line.origin, "expected `who hosts = (as whom) commands`"),
            },
        }
    }
}

/// Names of the settings of a `Defaults` line: `name`, `!name`, `name=value`, `name+=value`.
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

fn specification(right: &str, aliases: &BTreeMap<String, Vec<String>>) -> Specification {
    let mut one = Specification { all_commands: false, as_root: true, asks: None };
    // Tags hold for the commands behind them until the opposite comes.
    let mut asks = None;
    for part in right.split(',') {
        let mut rest = part.trim();
        if let Some(after) = rest.strip_prefix('(') {
            let (whom, after) = after.split_once(')').unwrap_or((after, ""));
            let users = list(whom.split(':').next().unwrap_or_default());
            one.as_root = users.is_empty() && !whom.contains(':')
                || users.iter().any(|user| {
                    matches!(user.as_str(), "ALL" | "root" | "#0")
                        || aliases
                            .get(&format!("R{user}"))
                            .is_some_and(|all| all.iter().any(|one| one == "ALL" || one == "root"))
                });
            rest = after.trim_start();
        }
        while let Some((tag, after)) = rest.split_once(':').filter(|(tag, _)| TAGS.contains(&tag.trim())) {
            match tag.trim() {
                "NOPASSWD" => asks = Some(false),
                "PASSWD" => asks = Some(true),
                _ => {}
            }
            rest = after.trim_start();
        }
        let all = rest == "ALL"
            || aliases.get(&format!("C{rest}")).is_some_and(|all| all.iter().any(|one| one == "ALL"));
        if all {
            one.all_commands = true;
            one.asks = asks;
        }
    }
    one
}

/// Rules with their aliases resolved and the defaults applied. Equal lists are resolved once, and shared.
fn rules(state: State, book: &mut LineRecorder<'_>) -> Vec<SudoRule> {
    let State { aliases, rules, no_password, .. } = state;
    let everybody = no_password.iter().any(|(about, _)| about.is_none());
    let exempt: BTreeSet<String> = no_password
        .iter()
        .filter_map(|(about, _)| about.as_deref())
        .flat_map(|names| resolve(&list(names), &aliases).unwrap_or_default())
        .collect();
    let mut known: BTreeMap<Vec<String>, (Arc<Vec<String>>, bool)> = BTreeMap::new();
    let mut found = Vec::new();
    for (who, specification, origin) in rules {
        let (who, off) = match known.get(&who) {
            Some(known) => known.clone(),
            None => {
                let Some(all) = resolve(&who, &aliases) else {
                    book.cut(origin, Limit::Expansion, "aliases");
                    continue;
                };
                let off = everybody || all.iter().any(|name| exempt.contains(name));
                known.entry(who).or_insert((Arc::new(all), off)).clone()
            }
        };
        found.push(SudoRule {
            who,
            all_commands: specification.all_commands,
            as_root: specification.as_root,
            asks_password: specification.asks.unwrap_or(true) && !off,
            origin,
        });
    }
    found
}

/// Names with the members of aliases in their places; none where that is more than the file may grow to.
fn resolve(names: &[String], aliases: &BTreeMap<String, Vec<String>>) -> Option<Vec<String>> {
    let mut found = Vec::new();
    for name in names {
        let (negated, bare) = name.strip_prefix('!').map_or(("", name.as_str()), |rest| ("!", rest.trim()));
        match aliases.get(&format!("U{bare}")) {
            Some(members) => {
                let size = members.iter().map(|member| size_of::<String>() + member.len() + 1).sum();
                if !may_grow(size) {
                    return None;
                }
                found.extend(members.iter().map(|member| format!("{negated}{member}")));
            }
            None => found.push(format!("{negated}{bare}")),
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
