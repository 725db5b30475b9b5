//! Texts of a picture as outlines of the built-in font, so that rasterising needs no fonts. Covers the texts of this crate's pictures: a
//! line from left to right, with parts of another colour or weight, aligned at its start, centre or end (SVG 2, sections 11.2 and 11.4). A
//! letter that the font lacks is drawn as its replacement box.

use roxmltree::{Document, Node};
use std::fmt::Write;
use ttf_parser::{Face, GlyphId, OutlineBuilder};

/// The font of pictures, so that they look the same on every machine; `fonts/Ubuntu-Light.licence.txt` is its licence.
const FONT: &[u8] = include_bytes!("../../fonts/Ubuntu-Light.ttf");

/// Additional thickness of bold letters, as a fraction of their size: the font has one weight.
const BOLD: f64 = 0.05;

/// The picture with a path in place of each text; all other elements are unchanged.
///
/// # Errors
/// In words, when the picture is no XML or the font cannot be read.
pub(super) fn outlined(svg: &str) -> Result<String, String> {
    let document = Document::parse(svg).map_err(|error| error.to_string())?;
    let face = Face::parse(FONT, 0).map_err(|error| error.to_string())?;
    let mut out = String::with_capacity(svg.len() * 4);
    let mut done = 0;
    for text in document.descendants().filter(|node| node.has_tag_name("text")) {
        let place = text.range();
        out.push_str(&svg[done..place.start]);
        done = place.end;
        draw(&mut out, &face, text);
    }
    out.push_str(&svg[done..]);
    Ok(out)
}

/// The value of an attribute that nested elements inherit.
fn passed_on<'a>(node: Node<'a, '_>, name: &str) -> Option<&'a str> {
    node.ancestors().find_map(|node| node.attribute(name))
}

fn number(node: Node<'_, '_>, name: &str) -> f64 {
    passed_on(node, name).and_then(|value| value.parse().ok()).unwrap_or(0.0)
}

/// A stretch of a text that looks alike.
struct Run<'a> {
    words: String,
    fill: &'a str,
    bold: bool,
}

fn draw(out: &mut String, face: &Face<'_>, text: Node<'_, '_>) {
    let size = number(text, "font-size");
    let scale = size / f64::from(face.units_per_em());
    let runs = runs(text);
    let advance =
        |run: &Run<'_>| -> f64 { run.words.chars().map(|letter| step(face, letter, run.bold)).sum() };
    let long: f64 = runs.iter().map(advance).sum::<f64>() * scale;
    let before = match passed_on(text, "text-anchor") {
        Some("middle") => long / 2.0,
        Some("end") => long,
        _ => 0.0,
    };
    let mut pen = Pen { x: number(text, "x") - before, y: number(text, "y"), scale, path: String::new() };
    for run in &runs {
        for letter in run.words.chars() {
            face.outline_glyph(glyph(face, letter), &mut pen);
            pen.x += step(face, letter, run.bold) * scale;
        }
        let path = std::mem::take(&mut pen.path);
        let fill = run.fill;
        let _ = write!(out, "<path fill=\"{fill}\" d=\"{path}\"");
        if run.bold {
            let _ = write!(out, " stroke=\"{fill}\" stroke-width=\"{:.2}\"", size * BOLD);
        }
        out.push_str("/>");
    }
}

/// The runs of a text. Blanks at its beginning and blanks in a row count as SVG counts them: not, and once.
fn runs<'a>(text: Node<'a, '_>) -> Vec<Run<'a>> {
    let mut runs: Vec<Run<'a>> = Vec::new();
    for part in text.descendants().filter(Node::is_text) {
        let mut words = String::new();
        for letter in part.text().unwrap_or_default().chars() {
            let letter = if letter.is_ascii_whitespace() { ' ' } else { letter };
            let last = words.chars().next_back().or_else(|| runs.last()?.words.chars().next_back());
            if letter != ' ' || last.is_some_and(|last| last != ' ') {
                words.push(letter);
            }
        }
        if !words.is_empty() {
            runs.push(Run {
                words,
                fill: passed_on(part, "fill").unwrap_or("#000"),
                bold: passed_on(part, "font-weight") == Some("bold"),
            });
        }
    }
    runs
}

fn glyph(face: &Face<'_>, letter: char) -> GlyphId {
    face.glyph_index(letter).unwrap_or_default()
}

/// From one letter to the next, in units of the font.
fn step(face: &Face<'_>, letter: char, bold: bool) -> f64 {
    let more = if bold { BOLD * f64::from(face.units_per_em()) / 2.0 } else { 0.0 };
    f64::from(face.glyph_hor_advance(glyph(face, letter)).unwrap_or(0)) + more
}

/// Position of the next letter, and the outlines so far. The font's vertical axis points up, the picture's down.
struct Pen {
    x: f64,
    y: f64,
    scale: f64,
    path: String,
}

impl Pen {
    fn point(&mut self, command: &str, points: &[(f32, f32)]) {
        self.path.push_str(command);
        for (x, y) in points {
            let (x, y) = (self.x + f64::from(*x) * self.scale, self.y - f64::from(*y) * self.scale);
            let _ = write!(self.path, "{x:.2} {y:.2} ");
        }
    }
}

impl OutlineBuilder for Pen {
    fn move_to(&mut self, x: f32, y: f32) {
        self.point("M", &[(x, y)]);
    }

    fn line_to(&mut self, x: f32, y: f32) {
        self.point("L", &[(x, y)]);
    }

    fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
        self.point("Q", &[(x1, y1), (x, y)]);
    }

    fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
        self.point("C", &[(x1, y1), (x2, y2), (x, y)]);
    }

    fn close(&mut self) {
        self.path.push('Z');
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Left and right end, top and bottom of every drawn path.
    fn boxes(svg: &str) -> Vec<[f64; 4]> {
        let document = Document::parse(svg).unwrap();
        let paths = document.descendants().filter_map(|node| node.attribute("d"));
        paths
            .map(|path| {
                let numbers: Vec<f64> = path
                    .split(|letter: char| letter.is_ascii_alphabetic() || letter == ' ')
                    .filter_map(|number| number.parse().ok())
                    .collect();
                let ends = |from: usize| {
                    let all = || numbers.iter().skip(from).step_by(2).copied();
                    (all().fold(f64::INFINITY, f64::min), all().fold(f64::NEG_INFINITY, f64::max))
                };
                let ((left, right), (top, bottom)) = (ends(0), ends(1));
                [left, right, top, bottom]
            })
            .collect()
    }

    fn drawn(text: &str) -> String {
        outlined(&format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" fill=\"#222\"><g>{text}</g><rect/></svg>"
        ))
        .unwrap()
    }

    #[test]
    fn letters_stand_where_the_text_stood() {
        let at = |anchor: &str| {
            let svg = drawn(&format!(
                "<text x=\"100\" y=\"50\" font-size=\"20\" text-anchor=\"{anchor}\">HIH</text>"
            ));
            assert!(svg.contains("</g><rect/></svg>") && !svg.contains("<text"), "{svg}");
            boxes(&svg)[0]
        };
        let [left, right, top, bottom] = at("start");
        assert!((100.0..103.0).contains(&left) && right - left > 20.0, "{left} {right}");
        assert!((bottom - 50.0).abs() < 0.1 && (top - 36.0).abs() < 1.0, "{top} {bottom}");
        let [left, right, ..] = at("middle");
        assert!((left + right - 200.0).abs() < 1.0, "{left} {right}");
        let [_, right, ..] = at("end");
        assert!((97.0..100.0).contains(&right), "{right}");
    }

    #[test]
    fn parts_follow_each_other_with_their_own_colour_and_weight() {
        let svg = drawn(
            "<text x=\"0\" y=\"9\" font-size=\"10\">  one \n <tspan font-weight=\"bold\" fill=\"#b00\">two</tspan></text>",
        );
        let [one, two] = boxes(&svg)[..] else { panic!("{svg}") };
        assert!(one[0] < 1.0 && two[0] > one[1] && two[0] < one[1] + 5.0, "{one:?} {two:?}");
        assert!(svg.contains("<path fill=\"#222\""), "{svg}");
        assert!(
            svg.contains("stroke=\"#b00\" stroke-width=\"0.50\"") && svg.matches("stroke=").count() == 1,
            "{svg}"
        );
    }

    #[test]
    fn a_letter_that_the_font_lacks_is_drawn_as_a_box() {
        let blank = boxes(&drawn("<text x=\"0\" y=\"9\" font-size=\"10\">a\u{5d0}b</text>"));
        let without = boxes(&drawn("<text x=\"0\" y=\"9\" font-size=\"10\">ab</text>"));
        assert!(blank[0][1] > without[0][1] + 1.0);
        assert_eq!(boxes(&drawn("<text x=\"0\" y=\"9\" font-size=\"10\"></text>")), Vec::<[f64; 4]>::new());
    }

    #[test]
    fn what_is_no_picture_is_said_so() {
        assert!(outlined("<svg><text>").is_err());
    }
}
