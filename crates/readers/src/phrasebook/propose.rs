//! A phrasebook to begin with, for an export at hand: how it may be recognised, its shape, and its commonest statements.

use super::BOOK;
use super::columns::separator;
use super::hidden;
use super::line_words;
use super::shape::{self, Shape};
use super::sink::{DEPTH, Sink};
use super::value::Kind;
use super::word::Word;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use trevlin_model::{Export, Origin};

/// Signs that lines of comments begin with.
const COMMENTS: [&str; 5] = ["#", "!", ";", "//", "--"];
/// Number of statements that are proposed.
const MOST: usize = 60;
/// Number of values that are remembered for each word of a statement.
const VALUES: usize = 5;
/// Stands for a further word in the key of a kind of statements.
const MORE: &str = " *";
/// Number of lines that show the shape of an export.
const LINES: usize = 2000;

/// A skeleton for exports like this one: phrases are comments until they are edited, so that no statement counts as understood before.
#[must_use]
pub fn proposed(export: &Export) -> String {
    let shape = shape_of(export);
    let comments = comments_of(export, shape);
    let mut found = Statements { export, open: Vec::new(), groups: BTreeMap::new(), number: 0 };
    let whole = 1..export.line_count() + 1;
    shape::walk(shape, &comments, &[], export, whole, &mut found);
    let mut text =
        format!("phrasebook = \"{BOOK}\"\nname = \"name of the format\"\nshape = \"{}\"\n", shape.word());
    let quoted: Vec<String> = comments.iter().map(|sign| format!("\"{sign}\"")).collect();
    let _ = writeln!(text, "comments = [{}]", quoted.join(", "));
    text.push_str("# Statements without relevance, as in \"colour {_c}\" or \"panel > size {_n}\".\npasses = []\n\n[recognise]\n");
    let _ = writeln!(text, "lines = ['{}']", recognition(export, shape));
    let all = found.groups.len();
    let mut groups: Vec<(Vec<String>, Group)> = found.groups.into_iter().collect();
    groups.sort_by_key(|(_, group)| std::cmp::Reverse(group.count));
    groups.truncate(MOST);
    groups.sort_by_key(|(_, group)| group.first);
    let _ = writeln!(
        text,
        "\n# The commonest {} of {all} kinds of statements, in the order of the export. Remove the `#`, name the captures, and add\n\
         # what lands in the device sheet: `trevlin phrasebook new` lists the syntax, docs/schema/device-sheet.json the paths.",
        groups.len()
    );
    let known: BTreeMap<Vec<String>, Vec<String>> =
        groups.iter().map(|(key, group)| (key.clone(), group.pattern())).collect();
    for (key, group) in &groups {
        let mut names = Names::default();
        let levels: Vec<String> = (1..=key.len())
            .map(|length| {
                let outer = key[..length].to_vec();
                let words = known.get(&outer).cloned().unwrap_or_else(|| {
                    vec![outer[length - 1].replacen(MORE, " {_more:rest}", 1).replace(MORE, "")]
                });
                names.named(&words, length < key.len())
            })
            .collect();
        let times = if group.count == 1 { "once".to_owned() } else { format!("{} times", group.count) };
        let _ = writeln!(text, "\n# {times}, first on line {}: {}", group.line, group.example);
        let _ = writeln!(text, "#[[phrase]]\n#says = '{}'\n#lands = {{ }}", levels.join(" > "));
    }
    text.push_str("\n# Defaults according to the appliance's documentation, such as \"rule-list.through\" = \"deny\".\n[always]\nkind = \"firewall\"\n");
    text
}

/// The shape that the lines of an export have.
fn shape_of(export: &Export) -> Shape {
    let text = export.text().trim_start();
    if text.starts_with('<') {
        return Shape::Xml;
    }
    let lines: Vec<&str> =
        export.lines().map(|line| line.text).filter(|line| !line.trim().is_empty()).take(LINES).collect();
    let count = |holds: &dyn Fn(&str) -> bool| lines.iter().filter(|line| holds(line.trim())).count();
    let headings = count(&|line| line.starts_with('[') && line.ends_with(']'));
    if text.starts_with('{') || text.starts_with('[') && headings == 0 {
        return Shape::Json;
    }
    if headings > 0 && count(&|line| line.contains(['=', ':'])) * 2 > lines.len() - headings {
        return Shape::Sections;
    }
    let opened = count(&|line| line.ends_with('{'));
    if opened > 0 && count(&|line| line.starts_with('}') || line.ends_with('}')) * 2 >= opened {
        return Shape::Braces;
    }
    let rows: Vec<&&str> = lines.iter().filter(|line| !line.starts_with('#')).collect();
    if let Some(first) = rows.first() {
        let sign = separator(first);
        let cells = |line: &str| line.matches(sign).count();
        let alike = rows.iter().filter(|line| cells(line) == cells(first)).count();
        if cells(first) > 1 && rows.len() > 1 && alike * 10 >= rows.len() * 8 {
            return Shape::Csv;
        }
    }
    let nested = lines.iter().filter(|line| line.starts_with(char::is_whitespace)).count();
    if nested * 10 > lines.len() { Shape::Indented } else { Shape::Lines }
}

fn comments_of(export: &Export, shape: Shape) -> Vec<String> {
    if matches!(shape, Shape::Json | Shape::Xml) {
        return Vec::new();
    }
    let begins =
        |sign: &&&str| export.lines().take(LINES).any(|line| line.text.trim_start().starts_with(**sign));
    COMMENTS.iter().filter(begins).map(|sign| (*sign).to_owned()).collect()
}

/// A pattern for the first line of an export, or for the first name in it.
fn recognition(export: &Export, shape: Shape) -> String {
    let wanted = |line: &&str| {
        let line = line.trim();
        !line.is_empty()
            && !(shape == Shape::Xml && (line.starts_with("<?") || line.starts_with("<!")))
            && !(shape == Shape::Json && line.trim_matches(['{', '[']).trim().is_empty())
    };
    let first = export.lines().map(|line| line.text).find(wanted).unwrap_or_default().trim();
    let words = line_words::opening(export, first);
    let mut pattern = Vec::new();
    for (at, word) in words.iter().enumerate() {
        // Names of formats are words; the rest differs from export to export.
        let is_name = word.text.chars().all(|letter| letter.is_alphabetic() || "<_-:#!;/".contains(letter));
        if is_name && (shape == Shape::Csv || at < 4) {
            pattern.push(literal(word.text));
        } else {
            pattern.push("{_rest:rest}".to_owned());
            break;
        }
    }
    if pattern.is_empty() { "{_rest:rest}".to_owned() } else { pattern.join(" ") }
}

/// A word as a pattern has it.
fn literal(word: &str) -> String {
    let plain = !word.is_empty()
        && !word.contains(|letter: char| letter.is_whitespace() || "{}[]()|\"'>".contains(letter));
    if plain { word.to_owned() } else { format!("\"{}\"", word.replace(['"', '\''], "")) }
}

/// Statements of one kind.
#[derive(Debug)]
struct Group {
    count: usize,
    /// Its number among the statements.
    first: usize,
    line: u32,
    example: String,
    words: Vec<Slot>,
}

/// A word of these.
#[derive(Debug, Default)]
struct Slot {
    values: BTreeSet<String>,
    /// Types that all of its values have.
    kinds: Option<Vec<&'static str>>,
    secret: bool,
    quoted: bool,
}

/// Types that show a value, the most certain first.
const SHOWN: [(&str, Kind); 6] = [
    ("prefix", Kind::Prefix),
    ("address", Kind::Address),
    ("number", Kind::Number),
    ("date", Kind::Date),
    ("range", Kind::Range),
    ("ports", Kind::Ports),
];

impl Group {
    /// Words of its pattern; captures are named by their types.
    fn pattern(&self) -> Vec<String> {
        let piece = |(at, slot): (usize, &Slot)| {
            let kind = slot.kinds.as_ref().and_then(|kinds| kinds.first());
            if slot.secret {
                return "{:secret}".to_owned();
            }
            match (kind, slot.values.len()) {
                (Some(kind), _) if at > 0 => format!("{{:{kind}}}"),
                (_, 1) if at == 0 || self.count > 1 && !slot.quoted => {
                    literal(slot.values.first().map_or("", String::as_str))
                }
                // A word that occurs once may be a name or a keyword: keywords are short and small.
                (_, 1) if !slot.quoted && slot.values.iter().all(|word| is_keyword(word)) => {
                    literal(slot.values.first().map_or("", String::as_str))
                }
                _ => "{:}".to_owned(),
            }
        };
        self.words.iter().enumerate().map(piece).collect()
    }
}

fn is_keyword(word: &str) -> bool {
    word.len() < 12 && word.chars().all(|letter| letter.is_ascii_lowercase() || letter == '-')
}

/// Names of captures, each once in a phrase.
#[derive(Default)]
struct Names(BTreeMap<String, usize>);

impl Names {
    /// The words of a level; captures of outer levels are discarded.
    fn named(&mut self, words: &[String], outer: bool) -> String {
        let word = |word: &String| {
            let Some(kind) = word.strip_prefix("{:").and_then(|rest| rest.strip_suffix('}')) else {
                return word.clone();
            };
            let base = if kind.is_empty() { "name" } else { kind };
            let count = self.0.entry(base.to_owned()).or_default();
            *count += 1;
            let number = if *count > 1 { count.to_string() } else { String::new() };
            let mark = if outer { "_" } else { "" };
            let kind = if kind.is_empty() { String::new() } else { format!(":{kind}") };
            format!("{{{mark}{base}{number}{kind}}}")
        };
        words.iter().map(word).collect::<Vec<_>>().join(" ")
    }
}

struct Statements<'a> {
    export: &'a Export,
    /// Keys of the statement at hand and of those around it, with their words.
    open: Vec<(String, Vec<Word<'a>>)>,
    groups: BTreeMap<Vec<String>, Group>,
    number: usize,
}

impl<'a> Sink<'a> for Statements<'a> {
    fn statement(&mut self, depth: usize, words: &[Word<'a>], line: Origin) {
        let Some(first) = words.first() else { return };
        let depth = depth.min(DEPTH);
        self.open.truncate(depth);
        while self.open.len() < depth {
            self.open.push(("*".to_owned(), Vec::new()));
        }
        // Statements with one beginning and as many words are of one kind.
        let kind = SHOWN.iter().find(|(_, kind)| kind.takes(words).is_some());
        let beginning = kind.map_or_else(|| literal(first.text), |(name, _)| format!("{{_{name}:{name}}}"));
        self.open.push((format!("{beginning}{}", MORE.repeat(words.len() - 1)), words.to_vec()));
        self.number += 1;
        let key: Vec<String> = self.open.iter().map(|(key, _)| key.clone()).collect();
        let outer = depth.checked_sub(1).map(|outer| &self.open[outer].1[..]);
        let secret = |at: usize| hidden::may_be_secret(outer, words, at) && !words[at].quoted;
        let export = self.export;
        let group = self.groups.entry(key).or_insert_with(|| {
            let shown = |(at, word): (usize, &Word<'_>)| {
                if hidden::may_be_secret(outer, words, at) {
                    "[secret]".to_owned()
                } else {
                    word.text.to_owned()
                }
            };
            let example: Vec<String> = words.iter().enumerate().take(12).map(shown).collect();
            Group {
                count: 0,
                first: self.number,
                line: export.line_of(line.start),
                example: example.join(" "),
                words: words.iter().map(|_| Slot::default()).collect(),
            }
        });
        group.count += 1;
        for (at, word) in words.iter().enumerate() {
            let slot = &mut group.words[at];
            slot.secret |= secret(at);
            slot.quoted |= word.quoted;
            let fits =
                |(name, kind): &(&'static str, Kind)| kind.takes(&words[at..]).is_some().then_some(*name);
            match &mut slot.kinds {
                None => slot.kinds = Some(SHOWN.iter().filter_map(fits).collect()),
                Some(kinds) => kinds.retain(|kind| SHOWN.iter().filter_map(fits).any(|one| one == *kind)),
            }
            if slot.values.len() <= VALUES && !hidden::may_be_secret(outer, words, at) {
                slot.values.insert(word.text.to_owned());
            }
        }
    }

    fn broken(&mut self, _: Origin, _: &str) {}

    fn cut(&mut self, _: Origin) {}
}
