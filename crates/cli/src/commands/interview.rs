//! The interview for a device sheet on the terminal: one topic after the other, the answers so far in the file after each entry.

use anyhow::{Context, bail};
use std::fmt::Write as _;
use std::fs;
use std::io::{self, BufRead, Write};
use std::path::Path;
use toml_edit::{DocumentMut, Item, Value};

/// A part of the questions that leads to entries of one section.
#[derive(Debug, Default)]
struct Group {
    /// Heading of the topic, where the group begins one.
    topic: Option<String>,
    /// The question.
    text: Vec<String>,
    /// Name of the section.
    section: String,
    /// Whether there is one table, in place of a list of them.
    single: bool,
    parts: Vec<Part>,
}

/// A table of an entry.
#[derive(Debug)]
struct Part {
    /// Its heading, with the brackets.
    heading: String,
    /// The question before it.
    text: Vec<String>,
    fields: Vec<Field>,
}

/// A value of an entry.
#[derive(Debug)]
struct Field {
    key: String,
    example: String,
    about: String,
}

/// How an interview ended.
enum End {
    /// All topics were gone through.
    Whole,
    /// It was interrupted; the answers are kept.
    Interrupted,
}

/// The groups of the printed questions.
fn groups(guide: &str) -> Vec<Group> {
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
         For each value: the value as on the screen, - where no screen shows it, Enter to leave it open.",
    )?;
    let end = topics(&mut asker, file, &groups(guide), &mut answers)?;
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
    groups: &[Group],
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
    for group in groups {
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
                    let (text, goes_on) = entry(asker, group)?;
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
                "n" | "-" if stated.is_none() => {
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

/// One entry with its parts, as it is written, and whether the interview goes on.
fn entry(asker: &mut Asker<'_>, group: &Group) -> anyhow::Result<(String, bool)> {
    let mut text = String::new();
    for (number, part) in group.parts.iter().enumerate() {
        if number > 0 {
            for line in &part.text {
                asker.say(&format!("    {line}"))?;
            }
        }
        let mut own = String::new();
        for field in &part.fields {
            let about = if field.about.is_empty() { String::new() } else { format!(" - {}", field.about) };
            let prompt = format!("    {}{about} (such as {}): ", field.key, field.example);
            let Some(answer) = asker.ask(&prompt)? else {
                finish(&mut text, part, number, &own);
                return Ok((text, false));
            };
            if let Some(value) = value(&answer, &field.example) {
                let _ = writeln!(own, "{} = {value}", field.key);
            }
        }
        finish(&mut text, part, number, &own);
    }
    Ok((text, true))
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
mod tests {
    use super::*;

    const GUIDE: &str = "# Head of it all.\nsheet = \"x\"\n# 1. LOGINS: who?\n#\n# Which accounts?\n#[[logins]]\n#user = \"astrid\"   # \
                         name of the account\n#secret = { withheld = true }\n\n# 2. TUNNELS: which?\n#\n# One block each.\n#[[tunnels]]\n#name = \
                         \"vpn\"\n# How do they log in?\n#[tunnels.proof]\n#passwords = [\"radius\"]\n\n# The rule base.\n#[rule-list]\n#through = \
                         \"deny\"\n";

    fn interview(file: &Path, input: &str) -> (String, String) {
        let mut output = Vec::new();
        run(file, GUIDE, ("trevlin-sheet/2", "firewall"), &mut input.as_bytes(), &mut output).unwrap();
        (fs::read_to_string(file).unwrap(), String::from_utf8(output).unwrap())
    }

    #[test]
    fn answers_become_a_sheet_and_go_on() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("gate.toml");
        // Interrupted within an entry: what was answered is kept.
        let (text, _) = interview(&file, "gate\ny\nbjarne\nw\n\ny\nremote access\nq\n");
        assert_eq!(
            text,
            "sheet = \"trevlin-sheet/2\"\nkind = \"firewall\"\ndevice = \"gate\"\n\n[[logins]]\nuser = \"bjarne\"\nsecret = { withheld = \
             true }\n\n[[tunnels]]\nname = \"remote access\"\n"
        );
        // The same command goes on: nothing is asked twice.
        let (text, told) = interview(&file, "\ny\nsecond\nradius, directory\n\ny\n-\n");
        assert!(told.contains("logins (1 stated)") && !told.contains("Name of the device"), "{told}");
        assert!(text.ends_with(
            "[[tunnels]]\nname = \"second\"\n\n[tunnels.proof]\npasswords = [\"radius\", \"directory\"]\n\n[rule-list]\nthrough = \"not seen\"\n"
        ), "{text}");
        assert!(told.contains("Next: trevlin sheet check"), "{told}");
    }

    #[test]
    fn none_and_not_seen_differ_from_silence() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("gate.toml");
        let (text, _) = interview(&file, "\nn\n-\n\n");
        assert_eq!(
            text,
            "sheet = \"trevlin-sheet/2\"\nkind = \"firewall\"\nlogins = []\ntunnels = \"not seen\"\n"
        );
    }

    #[test]
    fn a_file_that_is_no_toml_is_not_overwritten() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("gate.toml");
        fs::write(&file, "sheet = \n").unwrap();
        let wrong = run(&file, GUIDE, ("f", "k"), &mut "".as_bytes(), &mut Vec::new()).unwrap_err();
        assert!(wrong.to_string().contains("is not TOML"), "{wrong}");
        assert_eq!(fs::read_to_string(&file).unwrap(), "sheet = \n");
    }
}
