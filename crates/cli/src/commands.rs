//! What each command does.

use crate::args::{self, Arguments, Command, Format, ListFormat, TableFormat};
use crate::load::{self, Telling};
use crate::progress::Progress;
use crate::{
    accept, compare, demo, exposure, links, messages, phrasebook, picture, reach, scrub, sheet, survey,
};
use anyhow::{anyhow, bail};
use clap::CommandFactory;
use jiff::civil::Date;
use std::io::{self, Write};
use std::path::PathBuf;
use std::process::ExitCode;
use trevlin_audit::{
    Analyses, Outcome, Selection, Severity, Status, Yardstick, YardstickFile, addresses, audit, audit_areas,
    checks, logins, ready_made, tables,
};
use trevlin_render::{Detail, Json, Renderer, Text};

/// How many free networks are proposed.
const FREE_NETWORKS: usize = 5;

/// Runs the command.
///
/// # Errors
/// When it could not be done.
pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<ExitCode> {
    match &arguments.command {
        Command::Survey(survey) => survey::run(survey, &arguments.common),
        Command::Audit(audit) => audit_command(audit, &arguments.common),
        Command::Logins(logins) => logins_command(logins, &arguments.common),
        Command::Tunnels(tunnels) => tunnels_command(tunnels, &arguments.common),
        Command::Addresses(addresses) => addresses_command(addresses, &arguments.common),
        Command::Rules(rules) => rules_command(rules, &arguments.common),
        Command::Exposure(exposure) => exposure::run(exposure, &arguments.common),
        Command::Services(services) => services_command(services, &arguments.common),
        Command::Reach(reach) => reach::run(reach, &arguments.common),
        Command::Report(report) => crate::report::run(report, &arguments.common),
        Command::Questions(questions) => questions_command(questions, &arguments.common),
        Command::Accept(accept) => accept::run(accept),
        Command::Compare(compare) => compare::run(compare, &arguments.common),
        Command::Scrub(scrub) => scrub::run(scrub, &arguments.common),
        Command::Yardstick(yardstick) => yardstick_command(yardstick, &arguments.common),
        Command::Phrasebook(book) => phrasebook::run(book),
        Command::Sheet(sheet) => sheet::run(sheet, &arguments.common),
        Command::Checks { id } => checks_command(id.as_deref()),
        Command::Demo(demo) => demo_command(demo, &arguments.common),
        Command::Completions { shell } => completions_command(*shell),
    }
}

/// Columns of the terminal, or 100 where output goes elsewhere.
pub(crate) fn width() -> usize {
    terminal_size::terminal_size_of(io::stdout()).map_or(100, |(width, _)| usize::from(width.0))
}

/// The one place where a clock has a say; the output names the date.
#[allow(clippy::disallowed_methods, reason = "the date of the audit is asked for here and nowhere else")]
pub(crate) fn today() -> Date {
    jiff::Zoned::now().date()
}

/// Writes to standard output. A reader that went away is no error: it has what it wanted.
pub(crate) fn print(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> anyhow::Result<()> {
    let mut out = links::Linked::over(io::BufWriter::new(anstream::stdout()));
    match write(&mut out).and_then(|()| out.flush()) {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        other => Ok(other?),
    }
}

pub(crate) fn telling(common: &args::Common) -> Telling {
    match (common.quiet, common.is_verbose()) {
        (true, _) => Telling::Nothing,
        (_, true) => Telling::Everything,
        _ => Telling::Warnings,
    }
}

/// What an estate is judged by.
pub(crate) fn yardstick(estate: &Analyses, judging: &args::Judging) -> Yardstick {
    estate.yardstick(judging.as_of.unwrap_or_else(today))
}

fn text<'a>(common: &args::Common, full: bool, again: &'a str) -> Text<'a> {
    let detail = match (common.quiet, common.is_verbose()) {
        (true, _) => Detail::Lines,
        (_, true) => Detail::All,
        _ if full => Detail::Full,
        _ => Detail::Short,
    };
    Text { width: width(), detail, again }
}

/// The command that audits these again, as one would type it.
fn again(paths: &[PathBuf]) -> String {
    let quoted = |path: &PathBuf| {
        let path = path.display().to_string();
        let plain = |letter: char| letter.is_alphanumeric() || "/._-+,:=@%~".contains(letter);
        if !path.is_empty() && path.chars().all(plain) {
            path
        } else {
            format!("'{}'", path.replace('\'', r"'\''"))
        }
    };
    let paths: Vec<String> = paths.iter().map(quoted).collect();
    format!("trevlin audit {}", paths.join(" "))
}

fn audit_command(arguments: &args::Audit, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::judged(&arguments.paths, telling(common), &arguments.judging)?;
    know_devices(&estate, &arguments.selection.device)?;
    let selection = selection(&arguments.selection);
    let progress = Progress::judging(estate.exports.len(), || bytes_of(&estate), telling(common));
    let outcome = audit(&estate, &yardstick(&estate, &arguments.judging)).select(&selection);
    drop(progress);
    match arguments.format {
        Format::Text => {
            let full = arguments.full || arguments.selection.is_partial();
            print(|out| text(common, full, &again(&arguments.paths)).render(&outcome, out))?;
        }
        Format::Json => print(|out| Json.render(&outcome, out))?,
    }
    leave(estate, &outcome, arguments.fail_on)
}

/// Bytes of everything that was read.
pub(crate) fn bytes_of(estate: &Analyses) -> u64 {
    estate.exports.iter().map(|one| one.export.text().len() as u64).sum()
}

fn questions_command(arguments: &args::Questions, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::judged(&arguments.paths, telling(common), &arguments.judging)?;
    know_devices(&estate, &arguments.selection.device)?;
    let outcome =
        audit(&estate, &yardstick(&estate, &arguments.judging)).select(&selection(&arguments.selection));
    match arguments.format {
        ListFormat::Markdown => {
            print(|out| trevlin_render::questions_markdown(&outcome, &estate.contacts, out))?;
        }
        ListFormat::Csv => print(|out| trevlin_render::questions_csv(&outcome, &estate.contacts, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn yardstick_command(arguments: &args::Yardstick, common: &args::Common) -> anyhow::Result<ExitCode> {
    let judging = args::Judging { as_of: None, yardstick: arguments.base.clone() };
    let rows = if arguments.paths.is_empty() {
        let mut file = YardstickFile::default();
        if let Some(base) = &arguments.base {
            file.begin_with(base).map_err(|error| anyhow!(error))?;
        }
        file.rows()
    } else {
        load::judged(&arguments.paths, telling(common), &judging)?.yardstick_rows()
    };
    let ready_made = if arguments.paths.is_empty() { ready_made() } else { &[] };
    match arguments.format {
        Format::Text => print(|out| trevlin_render::yardstick_text(&rows, ready_made, width(), out))?,
        Format::Json => print(|out| trevlin_render::yardstick_json(&rows, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn selection(stated: &args::Selection) -> Selection {
    Selection {
        areas: stated.area.clone(),
        severity: stated.severity,
        devices: stated.device.clone(),
        checks: stated.check.clone(),
    }
}

fn logins_command(arguments: &args::Logins, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, telling(common))?;
    know_devices(&estate, &arguments.device)?;
    let mut rows = logins::logins(&estate);
    rows.retain(|row| arguments.device.is_empty() || arguments.device.contains(&row.device));
    match arguments.format {
        Format::Text => print(|out| trevlin_render::logins_text(&rows, width(), out))?,
        Format::Json => print(|out| trevlin_render::logins_json(&rows, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn services_command(arguments: &args::Services, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, telling(common))?;
    know_devices(&estate, &arguments.device)?;
    let rows = tables::services::sheet(&estate, &arguments.device);
    match arguments.format {
        Format::Text => print(|out| trevlin_render::services_text(&rows, width(), out))?,
        Format::Json => print(|out| trevlin_render::services_json(&rows, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn tunnels_command(arguments: &args::Tunnels, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::judged(&arguments.paths, telling(common), &arguments.judging)?;
    know_devices(&estate, &arguments.device)?;
    let mut rows = {
        let yardstick = yardstick(&estate, &arguments.judging);
        tables::tunnels::tunnels(
            &estate,
            &yardstick,
            &audit_areas(&estate, &yardstick, &tables::tunnels::AREAS),
        )
    };
    rows.retain(|row| arguments.device.is_empty() || arguments.device.contains(&row.device));
    if let Some(name) = &arguments.detail {
        let before: Vec<String> = rows.iter().map(|row| row.name.clone()).collect();
        rows.retain(|row| row.name.contains(name.as_str()));
        if rows.is_empty() {
            bail!("there is no tunnel with `{name}` in its name; there are: {}", before.join(", "));
        }
    }
    match (arguments.format, &arguments.detail) {
        (Format::Json, _) => print(|out| trevlin_render::tunnels_json(&rows, out))?,
        (Format::Text, Some(_)) => {
            let all: Vec<_> = rows.iter().collect();
            print(|out| trevlin_render::tunnels_detail(&all, out))?;
        }
        (Format::Text, None) => print(|out| trevlin_render::tunnels_text(&rows, width(), out))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn rules_command(arguments: &args::Rules, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, telling(common))?;
    know_devices(&estate, &arguments.device)?;
    let sheet = tables::rules::sheet(&estate, &arguments.device, arguments.as_of.unwrap_or_else(today));
    match arguments.format {
        TableFormat::Text => print(|out| trevlin_render::rules_text(&sheet, width(), out))?,
        TableFormat::Json => print(|out| trevlin_render::rules_json(&sheet, out))?,
        TableFormat::Csv => print(|out| trevlin_render::rules_csv(&sheet, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn addresses_command(arguments: &args::Addresses, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, telling(common))?;
    if let Some(wanted) = arguments.free {
        let free = addresses::free(estate.plan(), wanted, FREE_NETWORKS);
        match arguments.format {
            TableFormat::Text => print(|out| trevlin_render::free_text(&free, wanted, out))?,
            TableFormat::Json => print(|out| trevlin_render::free_json(&free, out))?,
            TableFormat::Csv => print(|out| {
                writeln!(out, "network")?;
                free.iter().try_for_each(|net| writeln!(out, "{net}"))
            })?,
        }
        return Ok(ExitCode::SUCCESS);
    }
    let around = arguments.around.map(|address| tables::addresses::neighbourhood(estate.plan(), address));
    let sheet = tables::addresses::sheet(&estate, around);
    if let Some(file) = &arguments.picture {
        return picture::write(&sheet, file);
    }
    match arguments.format {
        TableFormat::Text => print(|out| trevlin_render::addresses_text(&sheet, width(), out))?,
        TableFormat::Json => print(|out| trevlin_render::addresses_json(&sheet, out))?,
        TableFormat::Csv => print(|out| trevlin_render::addresses_csv(&sheet, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

/// Exit status. What lives to the end of the process is not taken apart piece by piece; secrets are wiped first.
fn leave(estate: Analyses, outcome: &Outcome, fail_on: Option<Severity>) -> anyhow::Result<ExitCode> {
    estate.wipe();
    let failed = fail_on.is_some_and(|least| {
        outcome.findings().any(|one| one.status == Status::Open && one.severity >= least)
    });
    Ok(if failed { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// A device that is not there is a mistake, not an empty answer.
pub(crate) fn know_devices(estate: &Analyses, wanted: &[String]) -> anyhow::Result<()> {
    for name in wanted {
        if !estate.devices.iter().any(|device| device.name == *name) {
            let names: Vec<_> = estate.devices.iter().map(|device| device.name.as_str()).collect();
            let near = names.iter().find(|one| strsim::jaro_winkler(one, name) > 0.8);
            let hint = near.map(|near| format!(" Did you mean {near}?")).unwrap_or_default();
            bail!("there is no device {name}; there are: {}.{hint}", names.join(", "));
        }
    }
    Ok(())
}

fn checks_command(id: Option<&str>) -> anyhow::Result<ExitCode> {
    let page = match id {
        None => trevlin_render::list(checks::CHECKS),
        Some(id) => trevlin_render::explain(args::known_check(id).map_err(|told| anyhow!(told))?, width()),
    };
    print(|out| out.write_all(page.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}

fn completions_command(shell: args::Shell) -> anyhow::Result<ExitCode> {
    let shell = match shell {
        args::Shell::Bash => clap_complete::Shell::Bash,
        args::Shell::Zsh => clap_complete::Shell::Zsh,
        args::Shell::Fish => clap_complete::Shell::Fish,
    };
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "trevlin", &mut script);
    print(|out| out.write_all(&script))?;
    Ok(ExitCode::SUCCESS)
}

fn demo_command(arguments: &args::Demo, common: &args::Common) -> anyhow::Result<ExitCode> {
    if let Some(into) = &arguments.into {
        let before = demo::write(into, arguments.force)?;
        let (shown, after) = (before.display(), into.join("after"));
        let after = after.display();
        let tour = format!(
            "The demo estate is in {shown}\n\nTry next:\n  trevlin audit {shown}\n  trevlin audit {shown} --area exposure\n  \
             trevlin exposure {shown}\n  trevlin reach {shown} --intents\n  trevlin audit {shown} --format json\n  \
             trevlin compare {shown} {after}\n  trevlin checks tunnels/pptp-answers\n"
        );
        print(|out| out.write_all(tour.as_bytes()))?;
        return Ok(ExitCode::SUCCESS);
    }
    let folder = demo::temporary()?;
    let before = demo::write(&folder, true)?;
    let estate = load::estate(std::slice::from_ref(&before), telling(common))?;
    let outcome = audit(&estate, &estate.yardstick(arguments.as_of.unwrap_or_else(today)));
    let again = again(std::slice::from_ref(&before));
    print(|out| text(common, arguments.full, &again).render(&outcome, out))?;
    if !common.quiet {
        let farewell =
            format!("\nThe demo estate is in {0}\nTo read it again: trevlin audit {0}\n", before.display());
        print(|out| out.write_all(farewell.as_bytes()))?;
    }
    if outcome.findings.is_empty() {
        messages::warning("the demo has no finding, which should not be");
    }
    leave(estate, &outcome, None)
}
