//! The interview for a device sheet on the terminal: one topic after the other, the answers so far in the file after each entry.

mod further;

use anyhow::{Context, bail};
use further::{Further, further};
use std::fmt::Write as _;
use std::fs;
use std::io::{self, BufRead, Write};
use std::path::Path;
use toml_edit::{DocumentMut, Item, Value};

/// A part of the questions that leads to entries of one section.
#[derive(Debug, Default)]
pub(super) struct Group {
    /// Heading of the topic, where the group begins one.
    pub(super) topic: Option<String>,
    /// The question.
    pub(super) text: Vec<String>,
    /// Name of the section.
    pub(super) section: String,
    /// Whether there is one table, in place of a list of them.
    pub(super) single: bool,
    pub(super) parts: Vec<Part>,
}

/// A table of an entry.
#[derive(Debug)]
pub(super) struct Part {
    /// Its heading, with the brackets.
    pub(super) heading: String,
    /// The question before it.
    pub(super) text: Vec<String>,
    pub(super) fields: Vec<Field>,
}

/// A value of an entry.
#[derive(Debug)]
pub(super) struct Field {
    pub(super) key: String,
    pub(super) example: String,
    pub(super) about: String,
}

/// How an interview ended.
enum End {
    /// All topics were gone through.
    Whole,
    /// It was interrupted; the answers are kept.
    Interrupted,
}

/// The groups of the printed questions.
pub(super) fn groups(guide: &str) -> Vec<Group> {
    let mut found: Vec<Group> = Vec::new();
    let (mut topic, mut text) = (None, Vec::new());
    for line in guide.lines() {
        let Some(rest) = line.strip_prefix('#') else { continue };
        if let Some(words) = rest.strip_prefix(' ') {
            let numbered = words.split_once(". ").is_some_and(|(number, _)| number.parse::<u8>().is_ok());
            if numbered {
                topic = Some(words.to_owned());
                text.clear();
            } else {
                text.push(words.trim().to_owned());
            }
        } else if let Some(heading) = rest.strip_prefix('[') {
            let name = heading.trim_start_matches('[').trim_end_matches(']').to_owned();
            let part = Part { heading: rest.to_owned(), text: std::mem::take(&mut text), fields: Vec::new() };
            match found.last_mut() {
                // A part of the entry, or the same section by another example.
                Some(last) if name.starts_with(&format!("{}.", last.section)) => {
                    if let Some(known) = last.parts.iter_mut().find(|one| one.heading == part.heading) {
                        known.text.extend(part.text);
                        continue;
                    }
                    last.parts.push(part);
                }
                Some(last) if name == last.section && part.text.is_empty() => {}
                _ => found.push(Group {
                    topic: topic.take(),
                    text: part.text.clone(),
                    single: !rest.starts_with("[["),
                    section: name,
                    parts: vec![part],
                }),
            }
        } else if let Some((key, value)) = rest.split_once(" = ") {
            let (example, about) =
                value.split_once("   #").or_else(|| value.split_once(" # ")).unwrap_or((value, ""));
            let field = Field {
                key: key.trim().to_owned(),
                example: example.trim().to_owned(),
                about: about.trim_start_matches('#').trim().to_owned(),
            };
            let part = found.last_mut().and_then(|group| group.parts.last_mut());
            if let Some(part) = part.filter(|part| !part.fields.iter().any(|one| one.key == field.key)) {
                part.fields.push(field);
            }
        }
    }
    found
}

/// A sheet as it is written: statements about the device, then its entries.
struct Answers {
    head: String,
    body: String,
}

impl Answers {
    /// The sheet in a file, or an empty one.
    fn of(file: &Path, form: &str, kind: &str) -> anyhow::Result<Self> {
        let text = match fs::read_to_string(file) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Ok(Self {
                    head: format!("sheet = \"{form}\"\nkind = \"{kind}\"\n"),
                    body: String::new(),
                });
            }
            Err(error) => return Err(error).with_context(|| format!("cannot read {}", file.display())),
        };
        if let Err(error) = text.parse::<DocumentMut>() {
            bail!(
                "{} is not TOML: {}; correct it, and run the interview again",
                file.display(),
                error.message()
            );
        }
        // Tables follow the plain statements.
        let at = if text.starts_with('[') { 0 } else { text.find("\n[").map_or(text.len(), |at| at + 1) };
        Ok(Self { head: text[..at].to_owned(), body: text[at..].to_owned() })
    }

    /// Number of entries of a section; none where nothing is stated.
    fn count(&self, section: &str) -> Option<usize> {
        let all: DocumentMut = format!("{}{}", self.head, self.body).parse().ok()?;
        Some(match all.get(section)? {
            Item::ArrayOfTables(entries) => entries.len(),
            Item::Value(Value::Array(entries)) => entries.len(),
            _ => 1,
        })
    }

    /// Takes back that a section has no entries, or is on no screen.
    fn take_back(&mut self, section: &str) {
        let said = [format!("{section} = []"), format!("{section} = \"not seen\"")];
        let kept =
            self.head.split_inclusive('\n').filter(|line| !said.iter().any(|one| line.trim_end() == one));
        self.head = kept.collect();
    }

    fn save(&self, file: &Path) -> anyhow::Result<()> {
        let text = format!("{}{}", self.head, self.body);
        fs::write(file, text).with_context(|| format!("cannot write {}", file.display()))
    }
}

/// The terminal, or a stand-in for it.
struct Asker<'a> {
    answers: &'a mut dyn BufRead,
    out: &'a mut dyn Write,
}

impl Asker<'_> {
    /// An answer; none where there are no more.
    fn ask(&mut self, prompt: &str) -> anyhow::Result<Option<String>> {
        write!(self.out, "{prompt}")?;
        self.out.flush()?;
        let mut line = String::new();
        if self.answers.read_line(&mut line)? == 0 {
            return Ok(None);
        }
        let line = line.trim().to_owned();
        Ok((line != "q").then_some(line))
    }

    fn say(&mut self, text: &str) -> anyhow::Result<()> {
        writeln!(self.out, "{text}")?;
        Ok(())
    }
}

/// Runs the interview, and keeps the answers in the file.
///
/// # Errors
/// When the file cannot be read or written.
pub(super) fn run(
    file: &Path,
    guide: &str,
    (form, kind): (&str, &str),
    input: &mut dyn BufRead,
    output: &mut dyn Write,
) -> anyhow::Result<()> {
    let mut answers = Answers::of(file, form, kind)?;
    let mut asker = Asker { answers: input, out: output };
    asker.say(
        "For each topic: y to add an entry, n where there is none, - where no screen shows it, Enter to go on, q to stop.\n\
         For each value: the value as on the screen, - where no screen shows it, Enter to leave it open; ? lists further keys of the \
         entry, which are given as `key = value`.",
    )?;
    let further = further(guide);
    let end = match topics(&mut asker, file, (&groups(guide), &further), &mut answers)? {
        End::Whole => everything_else(&mut asker, file, &further, &mut answers)?,
        interrupted => interrupted,
    };
    answers.save(file)?;
    let file = file.display();
    match end {
        End::Whole => asker.say(&format!("\nSaved in {file}. Next: trevlin sheet check {file}")),
        End::Interrupted => asker.say(&format!("\nSaved in {file}. The same command goes on from here.")),
    }
}

fn topics(
    asker: &mut Asker<'_>,
    file: &Path,
    (groups, further): (&[Group], &[Further]),
    answers: &mut Answers,
) -> anyhow::Result<End> {
    if !answers.head.contains("\ndevice = ") {
        match asker.ask("\nName of the device: ")? {
            None => return Ok(End::Interrupted),
            Some(name) if name.is_empty() => {}
            Some(name) => {
                let _ = writeln!(answers.head, "device = {}", quoted(&name));
            }
        }
        answers.save(file)?;
    }
    for (number, group) in groups.iter().enumerate() {
        // Other kinds of the same section may follow: only the last question settles that there is none.
        let goes_on_below = groups[number + 1..].iter().any(|one| one.section == group.section);
        if let Some(topic) = &group.topic {
            asker.say(&format!("\n{topic}"))?;
        }
        for line in &group.text {
            asker.say(&format!("  {line}"))?;
        }
        let mut stated = answers.count(&group.section);
        if group.single && stated.is_some() {
            asker.say(&format!("  {}: answered", group.section))?;
            continue;
        }
        loop {
            let known = match stated {
                None => String::new(),
                Some(0) => " (none stated)".to_owned(),
                Some(count) => format!(" ({count} stated)"),
            };
            let Some(answer) = asker.ask(&format!("  {}{known} [y/n/-/Enter/q]: ", group.section))? else {
                return Ok(End::Interrupted);
            };
            match answer.as_str() {
                "y" => {
                    answers.take_back(&group.section);
                    let (text, goes_on) = entry(asker, group, (groups, further))?;
                    answers.body.push_str(&text);
                    answers.save(file)?;
                    stated = answers.count(&group.section);
                    if !goes_on {
                        return Ok(End::Interrupted);
                    }
                    if group.single {
                        break;
                    }
                }
                "n" | "-" if stated.is_none() && !goes_on_below => {
                    let value = if answer == "n" { "[]" } else { "\"not seen\"" };
                    let _ = writeln!(answers.head, "{} = {value}", group.section);
                    answers.save(file)?;
                    break;
                }
                _ => break,
            }
        }
    }
    Ok(End::Whole)
}

/// Sections that no question has, one after the other.
fn everything_else(
    asker: &mut Asker<'_>,
    file: &Path,
    further: &[Further],
    answers: &mut Answers,
) -> anyhow::Result<End> {
    if further.is_empty() {
        return Ok(End::Whole);
    }
    let further: Vec<&Further> = further.iter().filter(|one| !one.section.contains('.')).collect();
    asker.say("\nEVERYTHING ELSE: a section for which there was no question (? lists them)")?;
    loop {
        let Some(name) = asker.ask("  section [name/?/Enter/q]: ")? else { return Ok(End::Interrupted) };
        if name.is_empty() {
            return Ok(End::Whole);
        }
        let Some(section) = further.iter().find(|one| one.section == name.trim_matches(['[', ']'])) else {
            let names: Vec<&str> = further.iter().map(|one| one.section.as_str()).collect();
            asker.say(&format!("  {}", names.join(", ")))?;
            continue;
        };
        list(asker, &section.keys)?;
        let mut own = String::new();
        let goes_on = loop {
            let prompt = match &section.heading {
                Some(_) => "    key = value (Enter ends the entry): ",
                None => "    value: ",
            };
            let Some(answer) = asker.ask(prompt)? else { break false };
            if answer.is_empty() {
                break true;
            }
            if section.heading.is_none() {
                if let Some(value) = value(&answer, "") {
                    let _ = writeln!(answers.head, "{} = {value}", section.section);
                }
                break true;
            }
            match statement(&answer, &|key| section.keys.iter().any(|(own, _)| own == key)) {
                Some((key, value)) => {
                    let _ = writeln!(own, "{key} = {value}");
                }
                None => asker.say("    not one of the keys above, as `key = value`")?,
            }
        };
        if let Some(heading) = section.heading.as_ref().filter(|_| !own.is_empty()) {
            let _ = write!(answers.body, "\n{heading}\n{own}");
        }
        answers.save(file)?;
        if !goes_on {
            return Ok(End::Interrupted);
        }
    }
}

fn list(asker: &mut Asker<'_>, keys: &[(String, String)]) -> anyhow::Result<()> {
    for (key, about) in keys {
        asker.say(&format!("      {key} {about}"))?;
    }
    Ok(())
}

/// `key = value` with one of the known keys.
fn statement(answer: &str, is_known: &dyn Fn(&str) -> bool) -> Option<(String, String)> {
    let (key, text) = answer.split_once('=')?;
    let key = key.trim();
    let value = value(text.trim(), "").filter(|_| is_known(key))?;
    Some((key.to_owned(), value))
}

/// Keys of a section that other questions have, such as those of another kind of tunnel.
fn asked_elsewhere(groups: &[Group], section: &str) -> Vec<String> {
    let own = groups.iter().filter(|group| group.section == section);
    let keys = own.flat_map(|group| &group.parts).flat_map(|part| {
        let name = part.heading.trim_matches(['[', ']']);
        let within = name.strip_prefix(section).map_or("", |rest| rest.trim_start_matches('.'));
        let dot = if within.is_empty() { "" } else { "." };
        part.fields.iter().map(move |field| format!("{within}{dot}{}", field.key))
    });
    keys.collect()
}

/// One entry with its parts, as it is written, and whether the interview goes on.
fn entry(
    asker: &mut Asker<'_>,
    group: &Group,
    (groups, further): (&[Group], &[Further]),
) -> anyhow::Result<(String, bool)> {
    let elsewhere = asked_elsewhere(groups, &group.section);
    let keys_of = |name: &str| -> &[(String, String)] {
        further.iter().find(|one| one.section == name).map_or(&[], |one| &one.keys)
    };
    let mut written = vec![String::new(); group.parts.len()];
    // The part of the entry that a key belongs to, and its name there.
    let place = |key: &str| {
        let inner = |part: &Part| {
            let name = part
                .heading
                .trim_matches(['[', ']'])
                .strip_prefix(&format!("{}.", group.section))?
                .to_owned();
            key.strip_prefix(&format!("{name}.")).map(str::to_owned)
        };
        let found = group.parts.iter().enumerate().find_map(|(at, part)| Some((at, inner(part)?)));
        found.unwrap_or_else(|| (0, key.to_owned()))
    };
    let mut goes_on = true;
    'parts: for (number, part) in group.parts.iter().enumerate() {
        if number > 0 {
            for line in &part.text {
                asker.say(&format!("    {line}"))?;
            }
        }
        let is_list = number > 0 && part.heading.starts_with("[[");
        let (own, all) = (keys_of(part.heading.trim_matches(['[', ']'])), keys_of(&group.section));
        loop {
            let before = written[number].len();
            for field in &part.fields {
                let about =
                    if field.about.is_empty() { String::new() } else { format!(" - {}", field.about) };
                let prompt = format!("    {}{about} (such as {}): ", field.key, field.example);
                loop {
                    let Some(answer) = asker.ask(&prompt)? else {
                        goes_on = false;
                        break 'parts;
                    };
                    let among = |keys: &[(String, String)], key: &str| keys.iter().any(|(own, _)| own == key);
                    if answer == "?" {
                        list(asker, own)?;
                        if number > 0 {
                            list(asker, all)?;
                        }
                    } else if let Some((key, value)) = statement(&answer, &|key| {
                        among(own, key) || among(all, key) || elsewhere.iter().any(|one| one == key)
                    }) {
                        let (at, key) =
                            if number > 0 && among(own, &key) { (number, key) } else { place(&key) };
                        let _ = writeln!(written[at], "{key} = {value}");
                    } else {
                        if let Some(value) = value(&answer, &field.example) {
                            let _ = writeln!(written[number], "{} = {value}", field.key);
                        }
                        break;
                    }
                }
            }
            if !is_list || written[number].len() == before {
                break;
            }
            // Several pools, offers or ways to log in belong to one entry.
            let name = part.heading.trim_matches(['[', ']']);
            match asker.ask(&format!("    another of {name} [y/Enter]: "))? {
                Some(answer) if answer == "y" => {
                    let _ = write!(written[number], "\n{}\n", part.heading);
                }
                Some(_) => break,
                None => {
                    goes_on = false;
                    break 'parts;
                }
            }
        }
    }
    let mut text = String::new();
    for (number, (part, own)) in group.parts.iter().zip(&written).enumerate() {
        finish(&mut text, part, number, own);
    }
    Ok((text, goes_on))
}

/// Adds a part to its entry; those without an answer are left out, but for the entry itself.
fn finish(text: &mut String, part: &Part, number: usize, own: &str) {
    if number == 0 || !own.is_empty() {
        let _ = write!(text, "\n{}\n{own}", part.heading);
    }
}

/// An answer as a value of the sheet, in the form of the example; none where it is left open.
fn value(answer: &str, example: &str) -> Option<String> {
    match answer {
        "" => return None,
        "-" => return Some("\"not seen\"".to_owned()),
        _ => {}
    }
    if example.contains("withheld") && matches!(answer, "w" | "withheld") {
        return Some("{ withheld = true }".to_owned());
    }
    let is_toml = |text: &str| format!("x = {text}").parse::<DocumentMut>().is_ok();
    // Numbers, truths, lists and tables stand as they are; a date is a text here.
    let plain = answer.starts_with(['"', '[', '{'])
        || answer.parse::<i64>().is_ok()
        || matches!(answer, "true" | "false");
    if plain && is_toml(answer) {
        return Some(answer.to_owned());
    }
    if example.starts_with('[') {
        let all: Vec<String> = answer.split(',').map(|one| quoted(one.trim())).collect();
        return Some(format!("[{}]", all.join(", ")));
    }
    Some(quoted(answer))
}

fn quoted(text: &str) -> String {
    Value::from(text).to_string()
}

#[cfg(test)]
mod tests;
