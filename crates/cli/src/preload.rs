//! Tables that every audit needs, loaded while arguments are still read and files are looked for: until then a core is idle, and
//! afterwards none is.

use std::ffi::OsStr;

/// Commands that judge an estate, and so grade its secrets.
const JUDGING: [&str; 5] = ["audit", "report", "questions", "survey", "compare"];

/// Begins to load tables, if the command is likely to need them. A table that is needed earlier is waited for, or loaded on demand.
pub(crate) fn begin() {
    let judges = |argument: &OsStr| JUDGING.iter().any(|name| argument == *name);
    if std::env::args_os().skip(1).any(|argument| judges(&argument)) {
        std::thread::spawn(|| {
            trevlin_readers::prepare();
            trevlin_audit::prepare();
            // The zone of the local time is looked up once.
            crate::context::today();
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn what_judges_is_a_command() {
        let all = crate::args::Arguments::command();
        for name in JUDGING {
            assert!(all.find_subcommand(name).is_some_and(|one| one.get_name() == name), "{name}");
        }
    }
}
