//! Words of a command line, and the options among them (getopt_long(3)).

use std::borrow::Cow;
use trevlin_model::{Export, Origin};

/// A word of a command, with the line that states it.
#[derive(Debug, Clone)]
pub(crate) struct Word<'a> {
    /// Text, without quotes.
    pub(crate) text: Cow<'a, str>,
    /// The line.
    pub(crate) origin: Origin,
}

/// Words of one line.
pub(crate) fn words_of<'a>(words: &[&'a str], origin: Origin) -> Vec<Word<'a>> {
    words.iter().map(|word| Word { text: Cow::Borrowed(*word), origin }).collect()
}

/// The name of a file without its folder, and without the signs that systemd takes before a command (systemd.service(5)).
pub(crate) fn file_name(path: &str) -> &str {
    path.trim_start_matches(['-', '@', '+', '!', ':']).rsplit('/').next().unwrap_or_default()
}

/// Notation of a program's options.
pub(crate) struct Form {
    /// Letters; a colon follows those with a value.
    pub(crate) letters: &'static str,
    /// Long names, with the letter that means the same; a name without a letter keeps its name.
    pub(crate) long: &'static [(&'static str, Option<char>)],
    /// Long names without a letter that take a value.
    pub(crate) with_value: &'static [&'static str],
}

/// An option.
#[derive(Debug, Clone)]
pub(crate) struct Given<'a> {
    /// Its letter, or its long name.
    pub(crate) name: String,
    /// Its value; empty where it has none.
    pub(crate) value: Cow<'a, str>,
    /// The line.
    pub(crate) origin: Origin,
}

/// Options of a command in their order.
#[derive(Debug, Clone, Default)]
pub(crate) struct Options<'a> {
    /// Each option.
    pub(crate) all: Vec<Given<'a>>,
    /// Words that are no options.
    pub(crate) rest: Vec<Word<'a>>,
    /// Options that the program does not have.
    pub(crate) unknown: Vec<Word<'a>>,
}

impl<'a> Options<'a> {
    /// Every value of an option.
    pub(crate) fn of<'s>(&'s self, name: &'s str) -> impl DoubleEndedIterator<Item = &'s Given<'a>> {
        self.all.iter().filter(move |one| one.name == name)
    }

    /// The last value of an option.
    pub(crate) fn last(&self, name: &str) -> Option<(&str, Origin)> {
        self.all.iter().rev().find(|one| one.name == name).map(|one| (one.value.as_ref(), one.origin))
    }

    /// The line of an option.
    pub(crate) fn line(&self, name: &str) -> Option<Origin> {
        self.last(name).map(|one| one.1)
    }

    /// The last number of an option.
    pub(crate) fn number(&self, name: &str) -> Option<(u16, Origin)> {
        self.last(name).and_then(|(value, origin)| Some((value.trim().parse().ok()?, origin)))
    }
}

/// A part of a word.
fn part<'a>(word: &Word<'a>, from: usize) -> Cow<'a, str> {
    match &word.text {
        Cow::Borrowed(text) => Cow::Borrowed(&text[from..]),
        Cow::Owned(text) => Cow::Owned(text[from..].to_owned()),
    }
}

/// Options of the words behind a program's name, as getopt_long(3) takes them.
pub(crate) fn options<'a>(words: &[Word<'a>], form: &Form) -> Options<'a> {
    let mut found = Options::default();
    let mut words = words.iter();
    while let Some(word) = words.next() {
        if word.text == "--" {
            found.rest.extend(words.by_ref().cloned());
        } else if let Some(name) = word.text.strip_prefix("--") {
            long(word, name, form, &mut words, &mut found);
        } else if word.text.starts_with('-') && word.text.len() > 1 {
            letters(word, form, &mut words, &mut found);
        } else {
            found.rest.push(word.clone());
        }
    }
    found
}

fn long<'w, 'a: 'w>(
    word: &Word<'a>,
    name: &str,
    form: &Form,
    words: &mut impl Iterator<Item = &'w Word<'a>>,
    found: &mut Options<'a>,
) {
    let (name, own) = match name.find('=') {
        Some(at) => (&name[..at], Some(part(word, 2 + at + 1))),
        None => (name, None),
    };
    let known = form.long.iter().find(|(known, _)| *known == name);
    let Some((_, letter)) = known else {
        found.unknown.push(word.clone());
        return;
    };
    let takes = match letter {
        Some(letter) => form.letters.contains(&format!("{letter}:")),
        None => form.with_value.contains(&name),
    };
    let value = match own {
        Some(value) => value,
        None if takes => words.next().map(|word| word.text.clone()).unwrap_or_default(),
        None => Cow::Borrowed(""),
    };
    let name = letter.map_or_else(|| name.to_owned(), |letter| letter.to_string());
    found.all.push(Given { name, value, origin: word.origin });
}

fn letters<'w, 'a: 'w>(
    word: &Word<'a>,
    form: &Form,
    words: &mut impl Iterator<Item = &'w Word<'a>>,
    found: &mut Options<'a>,
) {
    for (at, letter) in word.text.char_indices().skip(1) {
        let Some(place) = form.letters.find(letter).filter(|_| letter != ':') else {
            found.unknown.push(word.clone());
            return;
        };
        let takes = form.letters[place + letter.len_utf8()..].starts_with(':');
        let rest = at + letter.len_utf8();
        let value = match takes {
            false => Cow::Borrowed(""),
            true if rest < word.text.len() => part(word, rest),
            true => words.next().map(|word| word.text.clone()).unwrap_or_default(),
        };
        found.all.push(Given { name: letter.to_string(), value, origin: word.origin });
        if takes {
            return;
        }
    }
}

/// Options with one hyphen or two before a whole word, as X servers and programs written in Go have them. `takes` is true for those with a value
/// behind them; names become small letters.
pub(crate) fn whole_words<'a>(words: &[Word<'a>], takes: impl Fn(&str) -> bool) -> Options<'a> {
    let mut found = Options::default();
    let mut words = words.iter();
    while let Some(word) = words.next() {
        let Some(name) = word.text.strip_prefix("--").or_else(|| word.text.strip_prefix('-')) else {
            found.rest.push(word.clone());
            continue;
        };
        let before = word.text.len() - name.len();
        let (name, value) = match name.find('=') {
            Some(at) => (name[..at].to_ascii_lowercase(), part(word, before + at + 1)),
            None => {
                let name = name.to_ascii_lowercase();
                let value = match takes(&name) {
                    true => words.next().map(|word| word.text.clone()).unwrap_or_default(),
                    false => Cow::Borrowed(""),
                };
                (name, value)
            }
        };
        found.all.push(Given { name, value, origin: word.origin });
    }
    found
}

/// Values of variables that a start file sets.
pub(crate) struct Variables<'a>(Vec<(&'a str, &'a str, Origin)>);

impl<'a> Variables<'a> {
    /// Those of an export with lines of `NAME=value`.
    pub(crate) fn of(export: &'a Export) -> Self {
        let lines = crate::serving::entries(export).filter_map(|text| {
            let (name, value) = text.split_once('=')?;
            let name = name.trim().trim_start_matches("export ").trim();
            Some((name, crate::serving::unquoted(value.trim()), export.origin_of(text)))
        });
        Self(lines.collect())
    }

    /// Those of a line of `NAME=value`, separated by blanks; quotes hold blanks, around a whole word or around its value
    /// (systemd.exec(5), Environment).
    pub(crate) fn stated(text: &'a str, origin: Origin) -> Self {
        let (mut words, mut quote, mut start) = (Vec::new(), None, None);
        for (at, letter) in text.char_indices() {
            match (quote, letter) {
                (None, ' ' | '\t') => words.extend(start.take().map(|from| &text[from..at])),
                (None, '"' | '\'') => {
                    quote = Some(letter);
                    start.get_or_insert(at);
                }
                (Some(open), letter) if open == letter => quote = None,
                _ => {
                    start.get_or_insert(at);
                }
            }
        }
        words.extend(start.map(|from| &text[from..]));
        let split = |word: &'a str| {
            let (name, value) = crate::serving::unquoted(word).split_once('=')?;
            Some((name, crate::serving::unquoted(value), origin))
        };
        Self(words.into_iter().filter_map(split).collect())
    }

    /// None.
    pub(crate) fn none() -> Self {
        Self(Vec::new())
    }

    /// The same with those of another export, which count more.
    pub(crate) fn with(mut self, other: Self) -> Self {
        self.0.extend(other.0);
        self
    }

    /// Each variable with its value and line.
    pub(crate) fn all(&self) -> impl Iterator<Item = (&'a str, &'a str, Origin)> {
        self.0.iter().copied()
    }

    /// The last value of a variable.
    pub(crate) fn get(&self, name: &str) -> Option<(&'a str, Origin)> {
        self.0.iter().rev().find(|one| one.0 == name).map(|one| (one.1, one.2))
    }

    /// Words with their variables replaced as systemd does: `$NAME` as a word of its own becomes several words, `${NAME}` a part of one
    /// (systemd.service(5), "Command lines").
    pub(crate) fn replace(&self, words: &[&'a str], origin: Origin) -> Vec<Word<'a>> {
        let mut found = Vec::new();
        for word in words {
            let whole = word.strip_prefix('$').filter(|name| !name.starts_with('{') && !name.is_empty());
            if let Some(name) = whole {
                let (value, line) = self.get(name).unwrap_or(("", origin));
                found.extend(words_of(&crate::serving::words_of_statement(value), line));
                continue;
            }
            if !word.contains("${") {
                found.push(Word { text: Cow::Borrowed(*word), origin });
                continue;
            }
            let (mut text, mut rest, mut line) = (String::new(), *word, origin);
            while let Some((before, behind)) = rest.split_once("${") {
                text.push_str(before);
                let Some((name, behind)) = behind.split_once('}') else {
                    text.push_str(behind);
                    rest = "";
                    break;
                };
                if let Some((value, at)) = self.get(name) {
                    text.push_str(value);
                    line = at;
                }
                rest = behind;
            }
            text.push_str(rest);
            found.push(Word { text: Cow::Owned(text), origin: line });
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    const LINE: Origin = Origin { export: ExportId(0), start: 0, end: 1 };

    fn told(found: &Options<'_>) -> String {
        let mut all: Vec<String> =
            found.all.iter().map(|one| format!("{}={}", one.name, one.value)).collect();
        all.extend(found.rest.iter().map(|word| format!("({})", word.text)));
        all.extend(found.unknown.iter().map(|word| format!("?{}", word.text)));
        all.join(" ")
    }

    #[test]
    fn letters_and_long_names() {
        const FORM: Form = Form {
            letters: "a:bc",
            long: &[("all", Some('a')), ("own", None), ("bare", None)],
            with_value: &["own"],
        };
        for (text, wanted) in [
            ("-a x -bc", "a=x b= c="),
            ("-ax -bax", "a=x b= a=x"),
            ("--all x --all=y --own z --bare w", "a=x a=y own=z bare= (w)"),
            ("-b -- -c", "b= (-c)"),
            ("-z --zeal -", "(-) ?-z ?--zeal"),
            ("-a", "a="),
        ] {
            let words: Vec<&str> = text.split(' ').collect();
            assert_eq!(told(&options(&words_of(&words, LINE), &FORM)), wanted, "{text}");
        }
    }

    #[test]
    fn whole_names() {
        for (text, wanted) in [("-Port 5 --plain -Own=7 :1", "port=5 plain= own=7 (:1)"), ("-port", "port=")]
        {
            let words: Vec<&str> = text.split(' ').collect();
            assert_eq!(told(&whole_words(&words_of(&words, LINE), |name| name == "port")), wanted, "{text}");
        }
    }

    #[test]
    fn variables_of_units() {
        let text = "# nothing\nPORT=\"11212\"\nexport MORE='-l 10.4.0.9 -v'\nEMPTY=\n";
        let export = Export::new(ExportId(1), "d/etc/default/own", text.into());
        let variables = Variables::of(&export);
        let words = variables.replace(&["own", "-p${PORT}", "$MORE", "$EMPTY", "${GONE}x", "${PORT"], LINE);
        let told: Vec<&str> = words.iter().map(|word| word.text.as_ref()).collect();
        assert_eq!(told, ["own", "-p11212", "-l", "10.4.0.9", "-v", "x", "PORT"]);
        assert_eq!((words[1].origin.export, words[0].origin.export), (ExportId(1), ExportId(0)));
    }
}
