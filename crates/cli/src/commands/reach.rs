//! The reach command.

use crate::args::{self, Common, Format};
use crate::context::{print, verbosity, width};
use crate::{load, messages};
use anyhow::{Context, bail};
use std::path::Path;
use std::process::ExitCode;
use trevlin_audit::exposure::{self, all_services};
use trevlin_audit::reachability::{
    From, NetworkModel, Question, ReachResult, Reply, To, Verdict, reach, reach_all,
};
use trevlin_audit::tables::{self, intents as intent_rows};
use trevlin_audit::{Analyses, IntentVerdict};
use trevlin_render::FlowAnswer;

/// Runs the command.
///
/// # Errors
/// When the question could not be answered, or the file of flows not be read.
pub(crate) fn run(arguments: &args::Reach, common: &Common) -> anyhow::Result<ExitCode> {
    if let Some(file) = &arguments.flows {
        return all(arguments, file, common);
    }
    let estate = load::estate(&arguments.paths, verbosity(common))?;
    if arguments.intents {
        return intents(&estate, arguments);
    }
    let Some(from) = arguments.from.clone() else { bail!("--from is required") };
    let (Some(to), Some(protocol), Some(port)) = (&arguments.to, arguments.proto, arguments.port) else {
        return everything(&estate, arguments, &from);
    };
    let entering = arguments.entering.clone();
    let question = Question { from, entering, to: to.clone(), protocol, port, source_port: arguments.sport };
    let answer = reach(&estate, &question)?;
    match arguments.format {
        Format::Text => print(|out| trevlin_render::reach_text(&answer, width(), out))?,
        Format::Json => print(|out| trevlin_render::reach_json(&answer, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

/// Everything reachable from a source, or the part of it at one destination.
fn everything(estate: &Analyses, arguments: &args::Reach, from: &From) -> anyhow::Result<ExitCode> {
    if arguments.entering.is_some() || arguments.sport.is_some() {
        bail!("--entering and --sport apply to one connection; add --to, --proto and --port");
    }
    let to = arguments.to.as_deref().map(|word| To::parse(estate, word)).transpose()?;
    if to == Some(To::Outside) {
        bail!("destinations on the Internet are in no export; name one connection with --proto and --port");
    }
    let services = all_services(estate);
    let ground = NetworkModel::of(estate);
    let exposure = exposure::from(&ground, &services, from, to.as_ref())?;
    let sheet = tables::exposure::sheet(estate, &services, &exposure, &crate::commands::exposure::name(from));
    match arguments.format {
        Format::Text => print(|out| trevlin_render::exposure_text(&sheet, width(), out))?,
        Format::Json => print(|out| trevlin_render::exposure_json(&sheet, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

/// Evaluation of intents.
fn intents(estate: &Analyses, arguments: &args::Reach) -> anyhow::Result<ExitCode> {
    if estate.intents.is_empty() {
        bail!(
            "trevlin.toml has no intent; add one as [[intent]] with from, to, services and, if it is complete, only = true"
        );
    }
    let rows = intent_rows::sheet(estate);
    match arguments.format {
        Format::Text => print(|out| trevlin_render::intents_text(&rows, width(), out))?,
        Format::Json => print(|out| trevlin_render::intents_json(&rows, out))?,
    }
    let hold = rows.iter().all(|one| one.verdict == IntentVerdict::Holds);
    Ok(if hold { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// A row of a file of flows.
struct Row {
    line: u64,
    /// The question, or why it cannot be read.
    question: anyhow::Result<Question>,
    expect: Option<Verdict>,
}

fn all(arguments: &args::Reach, file: &Path, common: &Common) -> anyhow::Result<ExitCode> {
    let rows = rows(file)?;
    let estate = load::estate(&arguments.paths, verbosity(common))?;
    let questions: Vec<Question> =
        rows.iter().filter_map(|row| row.question.as_ref().ok()).cloned().collect();
    let mut told = reach_all(&estate, &questions).into_iter();
    let mut answers = Vec::with_capacity(rows.len());
    for row in rows {
        // Each row has its answer: one that cannot be placed hides nothing of the others.
        let answer = row.question.and_then(|_| Ok(told.next().context("there is no result")??));
        let (reached, reason) = match answer {
            Ok(reached) => (reached, None),
            Err(why) => (
                ReachResult {
                    verdict: Verdict::Depends,
                    answer: Reply::None,
                    delivered_to: None,
                    steps: Vec::new(),
                    incomplete: Vec::new(),
                },
                Some(format!("{why:#}")),
            ),
        };
        if let Some(why) = &reason
            && !common.quiet
        {
            messages::warning(&format!("{}:{}: {why}", file.display(), row.line));
        }
        let as_expected = row.expect.map(|expect| expect == reached.verdict);
        answers.push(FlowAnswer { reached, reason, line: row.line, expect: row.expect, as_expected });
    }
    match arguments.format {
        Format::Text => print(|out| trevlin_render::reach_all_text(&answers, width(), out))?,
        Format::Json => print(|out| trevlin_render::reach_all_json(&answers, out))?,
    }
    let failed = answers.iter().any(|one| one.as_expected == Some(false));
    Ok(if failed { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// Every row of a file of flows.
fn rows(file: &Path) -> anyhow::Result<Vec<Row>> {
    let mut reader = csv::ReaderBuilder::new()
        .trim(csv::Trim::All)
        .flexible(true)
        .comment(Some(b'#'))
        .from_path(file)
        .with_context(|| format!("{} could not be read", file.display()))?;
    let heads: Vec<String> = reader
        .headers()
        .with_context(|| format!("{} could not be read", file.display()))?
        .iter()
        .map(|head| head.trim_start_matches('\u{feff}').to_ascii_lowercase())
        .collect();
    for needed in ["from", "to", "proto", "port"] {
        if !heads.iter().any(|head| head == needed) {
            bail!("{}: there is no column `{needed}`; expected from,entering,to,proto,port", file.display());
        }
    }
    let mut rows = Vec::new();
    for record in reader.records() {
        let record = record.with_context(|| format!("{} could not be read", file.display()))?;
        let line = record.position().map_or(0, csv::Position::line);
        let cell = |name: &str| {
            let at = heads.iter().position(|head| head == name)?;
            record.get(at).filter(|text| !text.is_empty())
        };
        let expect = match cell("expect").map(str::to_ascii_lowercase).as_deref() {
            None => None,
            Some("allowed") => Some(Verdict::Allowed),
            Some("blocked") => Some(Verdict::Blocked),
            Some("depends") => Some(Verdict::Depends),
            // The comparison would be empty, although it was requested.
            Some(_) => {
                bail!("{}:{line}: column `expect`: expected allowed, blocked or depends", file.display())
            }
        };
        rows.push(Row { line, question: question(cell), expect });
    }
    Ok(rows)
}

fn question<'a>(cell: impl Fn(&str) -> Option<&'a str>) -> anyhow::Result<Question> {
    let needed = |name: &str| cell(name).with_context(|| format!("column `{name}` is empty"));
    let wrong = |name: &str, why: String| anyhow::anyhow!("column `{name}`: {why}");
    let port =
        |name: &str, text: &str| text.parse().map_err(|_| wrong(name, "expected a port number".into()));
    Ok(Question {
        from: args::source(needed("from")?).map_err(|why| wrong("from", why))?,
        entering: cell("entering").map(args::entrance).transpose().map_err(|why| wrong("entering", why))?,
        to: needed("to")?.to_owned(),
        protocol: args::transport(needed("proto")?).map_err(|why| wrong("proto", why))?,
        port: port("port", needed("port")?)?,
        source_port: cell("sport").map(|text| port("sport", text)).transpose()?,
    })
}
