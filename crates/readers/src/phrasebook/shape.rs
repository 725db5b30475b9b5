//! Shapes of exports: how lines become statements, and how statements are nested.

use super::columns::{self, Table, Tables};
use super::line_words::{SIGNS, is_comment, is_sign, words};
use super::pattern::Word;
use super::sink::{DEPTH, Sink};
use crate::json::{self, Json};
use crate::sheet::take::nearest;
use crate::xml::Source;
use std::ops::Range;
use trevlin_model::Export;

/// Structure of statements in an export.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shape {
    /// One statement a line, none in another.
    Lines,
    /// A line that is further in belongs to the one above it that is less so.
    Indented,
    /// `{` and `}` hold what belongs to a statement; `;` or the line's end ends one.
    Braces,
    /// `[heading]` and `key = value`.
    Sections,
    /// A table with a line of headings; each line is a `row`, each cell a statement in it.
    Csv,
    /// JSON.
    Json,
    /// XML.
    Xml,
}

pub(super) const SHAPES: [(&str, Shape); 7] = [
    ("lines", Shape::Lines),
    ("indented", Shape::Indented),
    ("braces", Shape::Braces),
    ("sections", Shape::Sections),
    ("csv", Shape::Csv),
    ("json", Shape::Json),
    ("xml", Shape::Xml),
];

impl Shape {
    /// Its word in a phrasebook.
    pub(super) fn word(self) -> &'static str {
        SHAPES.iter().find(|(_, shape)| *shape == self).map_or("lines", |one| one.0)
    }

    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let known = SHAPES.map(|(word, _)| word);
        let found = SHAPES.iter().find(|(word, _)| *word == text);
        found.map(|one| one.1).ok_or_else(|| format!("`{text}` is not a shape; {}", nearest(text, &known)))
    }
}

/// How many lines are worth a thread.
const PIECE: u32 = 20_000;

/// How many lines a thread takes at a time.
pub(super) fn length(export: &Export) -> u32 {
    (export.line_count() / rayon::current_num_threads() as u32 + 1).max(PIECE)
}

/// The pieces of an export that can be gone through apart from each other, as ranges of its lines. Few exports have more than one.
pub(super) fn pieces(
    shape: Shape,
    comments: &[String],
    tables: &[Table],
    export: &Export,
    length: u32,
) -> Vec<Range<u32>> {
    let end = export.line_count() + 1;
    let (mut from, mut pieces) = (1, Vec::new());
    // The rows of a table belong to its headings.
    let apart = matches!(shape, Shape::Lines | Shape::Indented) && tables.is_empty();
    while apart && end - from > length {
        // A statement contains no line that is not indented further than any other.
        let outermost = |number: &u32| {
            let text = export.line(*number).map_or("", |line| line.text);
            !text.starts_with(char::is_whitespace) && !is_comment(text, comments)
        };
        let Some(next) = (from + length..end).find(outermost) else { break };
        pieces.push(from..next);
        from = next;
    }
    pieces.push(from..end);
    pieces
}

/// Goes through a piece of an export; shapes that have no lines of their own are one piece.
pub(super) fn walk<'a>(
    shape: Shape,
    comments: &[String],
    tables: &'a [Table],
    export: &'a Export,
    piece: Range<u32>,
    sink: &mut dyn Sink<'a>,
) {
    let tables = Tables::of(tables);
    match shape {
        Shape::Lines | Shape::Indented => {
            lines(shape == Shape::Indented, comments, tables, export, piece, sink);
        }
        Shape::Braces => braces(comments, tables, export, sink),
        Shape::Sections => sections(comments, tables, export, sink),
        Shape::Csv => columns::csv(comments, export, sink),
        Shape::Json => {
            let (top, broken) = json::parse(export);
            top.cuts().into_iter().for_each(|at| sink.cut(at));
            json_value(export, &top, 0, sink);
            if let Some(broken) = broken {
                sink.broken(export.origin(broken.offset..export.text().len()), &broken.words(""));
            }
        }
        Shape::Xml => xml(export, sink),
    }
}

fn lines<'a>(
    indented: bool,
    comments: &[String],
    mut tables: Tables<'a, 'a>,
    export: &'a Export,
    piece: Range<u32>,
    sink: &mut dyn Sink<'a>,
) {
    let mut open: Vec<usize> = Vec::new();
    let mut found = Vec::new();
    for line in piece.filter_map(|number| export.line(number)) {
        let text = line.text.trim_end();
        let inner = text.trim_start();
        if inner.is_empty() {
            tables.end();
            continue;
        }
        let comment = is_comment(inner, comments);
        let width = if indented { columns::indentation(text) } else { 0 };
        let outer = open.iter().take_while(|outer| **outer < width).count();
        if tables.line(export, text, outer, sink) || comment {
            continue;
        }
        if indented {
            open.truncate(outer);
            if open.len() >= DEPTH {
                sink.cut(export.origin_of(inner));
                continue;
            }
            open.push(width);
        }
        found.clear();
        words(export, inner, &[], &mut found);
        sink.statement(open.len().saturating_sub(1), &found, export.origin_of(inner));
    }
}

fn braces<'a>(comments: &[String], mut tables: Tables<'a, 'a>, export: &'a Export, sink: &mut dyn Sink<'a>) {
    let mut depth = 0;
    let mut all = Vec::new();
    let mut found: Vec<Word<'a>> = Vec::new();
    let mut parts = Vec::new();
    let mut inside = false;
    for line in export.lines() {
        if line.text.trim().is_empty() || line.text.trim_start().starts_with('}') {
            tables.end();
        } else if !inside && found.is_empty() && tables.line(export, line.text, depth, sink) {
            continue;
        }
        parts.clear();
        outside_comments(line.text, comments, &mut inside, &mut parts);
        for part in &parts {
            let inner = part.trim();
            if is_comment(inner, comments) {
                continue;
            }
            all.clear();
            words(export, inner, &SIGNS, &mut all);
            // A comment may follow the end of a statement on its line.
            let begins = |at: usize| at > 0 && is_sign(&all[at - 1]) && is_comment_word(&all[at], comments);
            if let Some(at) = (0..all.len()).find(|at| begins(*at)) {
                all.truncate(at);
            }
            for word in &all {
                if !is_sign(word) {
                    found.push(*word);
                    continue;
                }
                said(&mut found, depth, export, sink);
                match word.text {
                    "{" if depth < DEPTH => depth += 1,
                    "{" => sink.cut(export.origin_of(inner)),
                    "}" if depth > 0 => depth -= 1,
                    "}" => sink.broken(export.origin_of(inner), "this closes nothing"),
                    _ => {}
                }
            }
        }
        said(&mut found, depth, export, sink);
    }
}

fn is_comment_word(word: &Word<'_>, comments: &[String]) -> bool {
    !word.quoted && comments.iter().any(|sign| word.text.starts_with(sign.as_str()))
}

/// The parts of a line outside of comments from `/*` to `*/`, which may reach over several lines, where these are among the comments.
fn outside_comments<'a>(line: &'a str, comments: &[String], inside: &mut bool, into: &mut Vec<&'a str>) {
    if !comments.iter().any(|sign| sign == "/*") {
        return into.push(line);
    }
    let mut rest = line;
    loop {
        if *inside {
            let Some(end) = rest.find("*/") else { return };
            (*inside, rest) = (false, &rest[end + 2..]);
        }
        let Some(start) = rest.find("/*") else { return into.push(rest) };
        into.push(&rest[..start]);
        (*inside, rest) = (true, &rest[start + 2..]);
    }
}

fn said<'a>(found: &mut Vec<Word<'a>>, depth: usize, export: &Export, sink: &mut dyn Sink<'a>) {
    if let (Some(first), Some(last)) = (found.first(), found.last()) {
        let line = export.origin(first.start as usize..last.end as usize);
        sink.statement(depth, found, line);
        found.clear();
    }
}

fn sections<'a>(
    comments: &[String],
    mut tables: Tables<'a, 'a>,
    export: &'a Export,
    sink: &mut dyn Sink<'a>,
) {
    let mut depth = 0;
    let mut found = Vec::new();
    for line in export.lines() {
        let inner = line.text.trim();
        if inner.is_empty() || inner.starts_with('[') {
            tables.end();
        }
        if tables.line(export, line.text, depth, sink) || is_comment(inner, comments) {
            continue;
        }
        found.clear();
        if let Some(name) = inner.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            words(export, name, &[], &mut found);
            sink.statement(0, &found, export.origin_of(inner));
            depth = 1;
            continue;
        }
        let (key, value) = inner.split_once(['=', ':']).unwrap_or((inner, ""));
        words(export, key, &[], &mut found);
        words(export, value, &[], &mut found);
        sink.statement(depth, &found, export.origin_of(inner));
    }
}

/// The members of an object are statements; objects contain nested ones, and a list repeats its name for each element.
fn json_value<'a>(export: &'a Export, one: &Json<'a>, depth: usize, sink: &mut dyn Sink<'a>) {
    if depth >= DEPTH {
        sink.cut(one.origin);
        return;
    }
    let mut members: Vec<(&str, &Json<'a>)> = one.members().collect();
    members.sort_by_key(|(_, value)| value.origin);
    for (name, value) in members {
        let values =
            if value.slice.starts_with('[') { value.elements() } else { std::slice::from_ref(value) };
        for value in values {
            json_member(export, name, value, depth, sink);
        }
    }
    if depth == 0 {
        one.elements().iter().for_each(|value| json_member(export, "element", value, depth, sink));
    }
}

fn json_member<'a>(export: &'a Export, name: &str, value: &Json<'a>, depth: usize, sink: &mut dyn Sink<'a>) {
    let start = value.origin.start;
    // The name stands before the value, on the same line but for odd writers.
    let before = export.text().get(..start as usize).unwrap_or_default();
    let quoted = before.trim_end().strip_suffix(':').map_or(before, str::trim_end);
    let known = quoted.strip_suffix('"').and_then(|text| text.get(text.len().checked_sub(name.len())?..));
    let name = known.filter(|text| *text == name).or_else(|| find_name(export, name, start));
    let Some(name) = name else {
        sink.broken(value.origin, "the name of this value contains escapes, which are not supported");
        return;
    };
    let mut found = vec![Word::bare(name, start, start)];
    let scalar = value.slice.trim();
    if !scalar.starts_with(['{', '[']) && scalar != "null" {
        let inner = scalar.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).unwrap_or(scalar);
        let origin = export.origin_of(inner);
        found.push(Word::bare(inner, origin.start, origin.end));
    }
    sink.statement(depth, &found, value.origin);
    json_value(export, value, depth + 1, sink);
}

/// The text of a name somewhere before a place: for elements of a list, the name before the first one.
fn find_name<'a>(export: &'a Export, name: &str, before: u32) -> Option<&'a str> {
    if name == "element" {
        return Some("element");
    }
    let text = export.text().get(..before as usize)?;
    let at = text.rfind(&format!("\"{name}\""))?;
    text.get(at + 1..at + 1 + name.len())
}

/// Elements are statements, attributes are statements in theirs, and text belongs to the element that holds it.
fn xml<'a>(export: &'a Export, sink: &mut dyn Sink<'a>) {
    let source = Source::of(export);
    if let Some(document) = source.document() {
        element(export, &source, document.root_element(), 0, sink);
    }
    if let Some((rest, why)) = source.fault() {
        sink.broken(rest, why);
    }
}

fn element<'a>(
    export: &'a Export,
    source: &Source<'a>,
    node: roxmltree::Node<'_, '_>,
    depth: usize,
    sink: &mut dyn Sink<'a>,
) {
    let range = node.range();
    let text = export.text();
    let line = source.opening(range.clone());
    if depth >= DEPTH {
        sink.cut(line);
        return;
    }
    let slice = |name: &str, from: usize| -> Option<&'a str> {
        let at = text.get(from..)?.find(name)? + from;
        text.get(at..at + name.len())
    };
    let Some(name) = slice(node.tag_name().name(), range.start) else { return };
    let mut found = vec![Word::bare(name, line.start, line.start)];
    let texts: Vec<_> = node.children().filter(|child| child.is_text()).collect();
    let mut whole = line;
    if !node.children().any(|child| child.is_element()) {
        for child in texts {
            let inner = text.get(child.range()).unwrap_or_default().trim();
            if !inner.is_empty() {
                let origin = export.origin_of(inner);
                found.push(Word::bare(inner, origin.start, origin.end));
                whole.end = whole.end.max(origin.end);
            }
        }
    }
    sink.statement(depth, &found, whole);
    for attribute in node.attributes() {
        let at = attribute.range();
        let value = text.get(attribute.range_value()).unwrap_or_default();
        if let Some(name) = slice(attribute.name(), at.start) {
            let origin = export.origin(attribute.range_value());
            let words =
                [Word::bare(name, origin.start, origin.start), Word::bare(value, origin.start, origin.end)];
            sink.statement(depth + 1, &words, export.origin(at));
        }
    }
    for child in node.children().filter(roxmltree::Node::is_element) {
        element(export, source, child, depth + 1, sink);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, Origin};

    #[derive(Default)]
    struct Told(Vec<String>);

    impl<'a> Sink<'a> for Told {
        fn statement(&mut self, depth: usize, words: &[Word<'a>], _: Origin) {
            let texts: Vec<&str> = words.iter().map(|word| word.text).collect();
            self.0.push(format!("{}{}", ">".repeat(depth), texts.join("_")));
        }

        fn cut(&mut self, at: Origin) {
            self.broken(at, "too deep");
        }
        fn broken(&mut self, at: Origin, _: &str) {
            self.0.push(format!("!{}", at.start));
        }
    }

    fn told(shape: Shape, text: &str) -> String {
        let export = Export::new(ExportId(0), "x", text.into());
        let mut told = Told::default();
        walk(shape, &["#".to_owned()], &[], &export, 1..export.line_count() + 1, &mut told);
        told.0.join(" ")
    }

    #[test]
    fn shapes() {
        for (shape, text, wanted) in [
            (Shape::Lines, "a b\n# c\n  d 'e f'\n\n", "a_b d_e f"),
            (Shape::Lines, "a=\"b c\" d:'e f'g h=\" i'j k'", "a=\"b c\"_d:'e f'g_h=\"_i'j_k'"),
            (Shape::Indented, "a\n  b\n    c\n  d\n e\nf\n", "a >b >>c >d >e f"),
            (Shape::Indented, "a\n\tb\n        c\n", "a >b >c"),
            (Shape::Braces, "a { b c; d { e } }\nf\ng \"{\" h;\n", "a >b_c >d >>e f g_{_h"),
            (Shape::Braces, "a {\n b\n}\n}\n", "a >b !9"),
            (Shape::Sections, "x = 1\n[a b]\nc = d e\nf\n[g]\n", "x_1 a_b >c_d_e >f g"),
            (Shape::Csv, "n;to\n\"a;b\";c d\n;e\n", "row >n_a;b >to_c_d row >to_e"),
            (
                Shape::Json,
                "{\"a\": {\"b\": [1, \"c d\"], \"e\": null}, \"f\": [{\"g\": true}]}",
                "a >b_1 >b_c d >e f >g_true",
            ),
            (Shape::Json, "{\"a\": ", "!1"),
            (Shape::Xml, "<a x=\"1\"><b>c d</b><e/></a>", "a >x_1 >b_c d >e"),
            (Shape::Xml, "<a><b></a>", "a >b !6"),
        ] {
            assert_eq!(told(shape, text), wanted, "{shape:?} {text}");
        }
    }

    #[test]
    fn deep_ones_end() {
        let deep = told(Shape::Braces, &"a { ".repeat(100));
        assert!(deep.contains('!'));
        assert!(told(Shape::Xml, &format!("{}{}", "<a>".repeat(60), "</a>".repeat(60))).contains('!'));
        let steps: String = (0..60).map(|depth| format!("{}a\n", " ".repeat(depth))).collect();
        assert!(told(Shape::Indented, &steps).contains('!'));
    }
}
