//! The house has one direction: crates import only from those above them in the table of `docs/architecture.md`, and within a
//! crate no files import each other in a circle.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// The root of the workspace.
fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// A module path below a crate's root.
type Module = Vec<String>;

/// One file of a crate.
#[derive(Default)]
struct File {
    path: String,
    /// The program without comments, texts and tests.
    text: String,
    /// Names that the file defines.
    defines: BTreeSet<String>,
    /// Names that it imports or re-exports, with their path from the crate's root, and whether it only re-exports them.
    uses: Vec<(String, Module, bool)>,
    /// Modules below it that are only for tests.
    tests: BTreeSet<String>,
}

/// Takes comments, texts and characters out of a program, so that only its code is left.
fn code_of(text: &str) -> String {
    let bytes: Vec<char> = text.chars().collect();
    let (mut kept, mut at) = (String::with_capacity(text.len()), 0);
    let starts =
        |at: usize, what: &str| what.chars().enumerate().all(|(by, one)| bytes.get(at + by) == Some(&one));
    while at < bytes.len() {
        if starts(at, "//") {
            while at < bytes.len() && bytes[at] != '\n' {
                at += 1;
            }
        } else if starts(at, "/*") {
            while at < bytes.len() && !starts(at, "*/") {
                at += 1;
            }
            at += 2;
        } else if bytes[at] == 'r'
            && (starts(at, "r\"") || starts(at, "r#"))
            && !kept.ends_with(|one: char| one.is_alphanumeric() || one == '_')
        {
            let hashes = bytes[at + 1..].iter().take_while(|one| **one == '#').count();
            let end: String = std::iter::once('"').chain(std::iter::repeat_n('#', hashes)).collect();
            if bytes.get(at + 1 + hashes) == Some(&'"') {
                at += 2 + hashes;
                while at < bytes.len() && !starts(at, &end) {
                    at += 1;
                }
                at += end.len();
                kept.push_str("\"\"");
            } else {
                kept.push(bytes[at]);
                at += 1;
            }
        } else if bytes[at] == '"' {
            at += 1;
            while at < bytes.len() && bytes[at] != '"' {
                at += if bytes[at] == '\\' { 2 } else { 1 };
            }
            at += 1;
            kept.push_str("\"\"");
        } else if bytes[at] == '\'' && (starts(at + 2, "'") || bytes.get(at + 1) == Some(&'\\')) {
            at += if bytes.get(at + 1) == Some(&'\\') { 2 } else { 1 };
            while at < bytes.len() && bytes[at] != '\'' {
                at += 1;
            }
            at += 1;
            kept.push_str("' '");
        } else {
            kept.push(bytes[at]);
            at += 1;
        }
    }
    kept
}

/// Removes code that is only for tests: modules, and other items marked so. Names of test modules in files of their own are returned.
fn without_tests(code: &str) -> (String, BTreeSet<String>) {
    let (mut kept, mut names, mut rest) = (String::new(), BTreeSet::new(), code);
    while let Some(at) = rest.find("#[cfg(test)]") {
        kept.push_str(&rest[..at]);
        let item = &rest[at..];
        let body = item.find('{').unwrap_or(item.len());
        let end = item.find(';').unwrap_or(item.len());
        if end < body {
            let words: Vec<&str> = item[..end].split_whitespace().collect();
            if let Some(at) = words.iter().position(|word| *word == "mod") {
                names.extend(words.get(at + 1).map(|name| (*name).to_owned()));
            }
            rest = &item[end + 1..];
            continue;
        }
        let mut depth = 0usize;
        let mut close = item.len();
        for (at, one) in item.char_indices().skip(body) {
            match one {
                '{' => depth += 1,
                '}' => depth -= 1,
                _ => {}
            }
            if depth == 0 && one == '}' {
                close = at + 1;
                break;
            }
        }
        // `use a::{b, c};` ends behind its brace.
        rest = item[close..].strip_prefix(';').unwrap_or(&item[close..]);
    }
    kept.push_str(rest);
    (kept, names)
}

/// Paths of a use tree, each with the name that it brings.
fn tree(text: &str, before: &[String], found: &mut Vec<(Module, String)>) {
    let text = text.trim();
    if let Some(open) = text.find('{') {
        let mut path = before.to_vec();
        path.extend(
            text[..open].split("::").map(str::trim).filter(|part| !part.is_empty()).map(String::from),
        );
        let inner = text[open + 1..].rsplit_once('}').map_or(&text[open + 1..], |(inner, _)| inner);
        let (mut depth, mut from) = (0usize, 0);
        for (at, one) in inner.char_indices() {
            match one {
                '{' => depth += 1,
                '}' => depth -= 1,
                ',' if depth == 0 => {
                    tree(&inner[from..at], &path, found);
                    from = at + 1;
                }
                _ => {}
            }
        }
        if !inner[from..].trim().is_empty() {
            tree(&inner[from..], &path, found);
        }
        return;
    }
    let (path, name) = match text.split_once(" as ") {
        Some((path, name)) => (path.trim(), Some(name.trim().to_owned())),
        None => (text, None),
    };
    let mut whole = before.to_vec();
    whole.extend(path.split("::").map(str::trim).filter(|part| !part.is_empty()).map(String::from));
    if whole.last().is_some_and(|last| last == "self") {
        whole.pop();
    }
    let name = name.or_else(|| whole.last().cloned()).unwrap_or_default();
    found.push((whole, name));
}

/// The path from the crate's root that a path in a module means; none where it leads out of the crate.
fn from_root(path: &[String], module: &[String], known: &BTreeMap<Module, usize>) -> Option<Module> {
    let (first, rest) = path.split_first()?;
    let mut base: Module = match first.as_str() {
        "crate" => Vec::new(),
        "self" => module.to_vec(),
        "super" => module[..module.len().saturating_sub(1)].to_vec(),
        name => {
            // A module below, or a name of another crate.
            let mut below = module.to_vec();
            below.push(name.to_owned());
            known.contains_key(&below).then_some(below)?
        }
    };
    let mut rest = rest;
    while rest.first().is_some_and(|one| one == "super") {
        base.pop();
        rest = &rest[1..];
    }
    base.extend(rest.iter().cloned());
    Some(base)
}

/// Every file of a crate.
fn files_of(source: &Path) -> Vec<(Module, File)> {
    fn walk(folder: &Path, module: &[String], found: &mut Vec<(Module, File)>) {
        let mut entries: Vec<PathBuf> =
            fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path()).collect();
        entries.sort();
        for path in entries {
            let stem = path.file_stem().expect("a name").to_string_lossy().into_owned();
            if path.is_dir() {
                let mut below = module.to_vec();
                below.push(path.file_name().expect("a name").to_string_lossy().into_owned());
                walk(&path, &below, found);
            } else if path.extension().is_some_and(|one| one == "rs") {
                let mut own = module.to_vec();
                // A program beside a library is a root of its own, and knows the library as a stranger does.
                let beside = stem == "main" && folder.join("lib.rs").exists();
                if beside || !matches!(stem.as_str(), "lib" | "main" | "mod") {
                    own.push(stem);
                }
                let (text, tests) = without_tests(&code_of(&fs::read_to_string(&path).expect("a file")));
                let path = path.display().to_string();
                found.push((own, File { path, text, tests, ..File::default() }));
            }
        }
    }
    let mut found = Vec::new();
    walk(source, &[], &mut found);
    let tests: BTreeSet<Module> = found
        .iter()
        .flat_map(|(module, file)| file.tests.iter().map(move |name| (module, name)))
        .map(|(module, name)| module.iter().cloned().chain([name.clone()]).collect())
        .collect();
    found.retain(|(module, _)| !(1..=module.len()).any(|count| tests.contains(&module[..count])));
    found
}

/// Words and signs of a program, for looking through it.
fn is_word(one: char) -> bool {
    one.is_alphanumeric() || one == '_'
}

/// Reads the definitions and uses of each file. An item used by its full path counts as imported.
fn read(files: &mut [(Module, File)]) -> BTreeMap<Module, usize> {
    let known: BTreeMap<Module, usize> =
        files.iter().enumerate().map(|(at, (module, _))| (module.clone(), at)).collect();
    for (module, file) in files.iter_mut() {
        let text = std::mem::take(&mut file.text);
        let mut rest = text.as_str();
        let mut before = String::new();
        while let Some(at) = rest.find(is_word) {
            let end = rest[at..].find(|one| !is_word(one)).map_or(rest.len(), |end| at + end);
            let word = &rest[at..end];
            let gap = rest[..at].trim();
            match word {
                // `impl Trait + use<'a>` names captured lifetimes and imports nothing.
                "use" if !rest[end..].trim_start().starts_with('<') => {
                    let close = rest[end..].find(';').map_or(rest.len(), |close| end + close);
                    let hands_on = before == "pub" || before == ")";
                    let mut found = Vec::new();
                    tree(&rest[end..close], &[], &mut found);
                    for (path, name) in found {
                        if let Some(path) = from_root(&path, module, &known) {
                            file.uses.push((name, path, hands_on));
                        }
                    }
                    rest = &rest[close..];
                    before.clear();
                    continue;
                }
                "crate" | "super" | "self" if rest[end..].starts_with("::") && !gap.ends_with("::") => {
                    let path_end = rest[at..]
                        .find(|one| !is_word(one) && one != ':')
                        .map_or(rest.len(), |close| at + close);
                    let path: Module = rest[at..path_end]
                        .split("::")
                        .filter(|part| !part.is_empty())
                        .map(String::from)
                        .collect();
                    let visibility = before == "pub" && gap == "(";
                    if !visibility && let Some(path) = from_root(&path, module, &known) {
                        file.uses.push((String::new(), path, false));
                    }
                    rest = &rest[path_end..];
                    before = "path".to_owned();
                    continue;
                }
                _ if matches!(
                    before.as_str(),
                    "fn" | "struct"
                        | "enum"
                        | "trait"
                        | "type"
                        | "const"
                        | "static"
                        | "union"
                        | "macro_rules"
                ) =>
                {
                    file.defines.insert(word.to_owned());
                }
                _ if rest[end..].starts_with("::") && !gap.ends_with("::") && gap != "." => {
                    // A function of a module below, by its path.
                    let mut below = module.clone();
                    below.push(word.to_owned());
                    if known.contains_key(&below) {
                        let path_end = rest[at..]
                            .find(|one| !is_word(one) && one != ':')
                            .map_or(rest.len(), |close| at + close);
                        let path: Module = rest[at..path_end]
                            .split("::")
                            .filter(|part| !part.is_empty())
                            .map(String::from)
                            .collect();
                        let whole = module.iter().cloned().chain(path).collect();
                        file.uses.push((String::new(), whole, false));
                    }
                }
                _ => {}
            }
            before = if gap.ends_with(')') && before == "pub" { ")".to_owned() } else { word.to_owned() };
            if word == "crate" || word == "super" || word == "self" {
                // `pub(crate) use`: what follows is behind the bracket.
                let visible = rest[end..].trim_start().starts_with(')');
                if visible {
                    before = ")".to_owned();
                }
            }
            rest = &rest[end..];
        }
    }
    known
}

/// The file that contains the item of a path.
fn place(
    path: &[String],
    files: &[(Module, File)],
    known: &BTreeMap<Module, usize>,
    depth: usize,
) -> Option<usize> {
    let mut count = path.len();
    while count > 0 && !known.contains_key(&path[..count]) {
        count -= 1;
    }
    let at = *known.get(&path[..count])?;
    let Some(name) = path.get(count) else { return Some(at) };
    let file = &files[at].1;
    if file.defines.contains(name) || depth > 8 {
        return Some(at);
    }
    // Handed on from elsewhere, by its name or with all others.
    let named = file.uses.iter().find(|(known, _, _)| known == name);
    if let Some((_, path, _)) = named {
        return place(path, files, known, depth + 1);
    }
    for (_, path, _) in file.uses.iter().filter(|(known, _, _)| known == "*") {
        let inner = &path[..path.len().saturating_sub(1)];
        let Some(below) = place(inner, files, known, depth + 1) else { continue };
        if files[below].1.defines.contains(name) {
            return Some(below);
        }
    }
    Some(at)
}

/// Groups of files that import each other in a circle.
fn circles(files: &[(Module, File)], known: &BTreeMap<Module, usize>) -> Vec<Vec<(String, Vec<String>)>> {
    let mut edges: Vec<BTreeMap<usize, BTreeSet<&str>>> = vec![BTreeMap::new(); files.len()];
    for (at, (_, file)) in files.iter().enumerate() {
        // A re-export is no import of its own.
        for (_, path, _) in file.uses.iter().filter(|(_, _, hands_on)| !hands_on) {
            if let Some(to) = place(path, files, known, 0).filter(|to| *to != at) {
                edges[at].entry(to).or_default().insert(path.last().map_or("", String::as_str));
            }
        }
    }
    let reach = |from: usize| {
        let (mut open, mut seen) = (vec![from], BTreeSet::new());
        while let Some(next) = open.pop() {
            for to in edges[next].keys() {
                if seen.insert(*to) {
                    open.push(*to);
                }
            }
        }
        seen
    };
    let reached: Vec<BTreeSet<usize>> = (0..files.len()).map(reach).collect();
    let mut told: BTreeSet<usize> = BTreeSet::new();
    let mut found = Vec::new();
    for at in 0..files.len() {
        if !reached[at].contains(&at) || told.contains(&at) {
            continue;
        }
        let group: Vec<usize> = (0..files.len())
            .filter(|other| reached[at].contains(other) && reached[*other].contains(&at))
            .collect();
        told.extend(&group);
        let name = |at: usize| files[at].1.path.rsplit_once("/src/").map_or("", |(_, name)| name).to_owned();
        found.push(
            group
                .iter()
                .map(|one| {
                    (
                        name(*one),
                        edges[*one]
                            .iter()
                            .filter(|(to, _)| group.contains(to))
                            .map(|(to, what)| {
                                let what: Vec<&str> = what.iter().copied().collect();
                                format!("{} for {}", name(*to), what.join(" "))
                            })
                            .collect(),
                    )
                })
                .collect(),
        );
    }
    found
}

#[test]
fn no_files_import_each_other_in_a_circle() {
    let mut told = String::new();
    for entry in fs::read_dir(root().join("crates")).expect("crates") {
        let folder = entry.expect("an entry").path();
        let mut files = files_of(&folder.join("src"));
        let known = read(&mut files);
        for circle in circles(&files, &known) {
            let crate_name = folder.file_name().expect("a name").to_string_lossy();
            told.push_str(&format!("{crate_name}: {} files\n", circle.len()));
            for (file, to) in circle {
                told.push_str(&format!("  {file} -> {}\n", to.join(", ")));
            }
        }
    }
    assert!(told.is_empty(), "files import each other in circles:\n{told}");
}

/// How many lines a file has at most that gives no reason to be longer.
const LONGEST: usize = 500;

#[test]
fn a_long_file_says_why_it_is() {
    let mut told = Vec::new();
    for entry in fs::read_dir(root().join("crates")).expect("crates") {
        for (_, file) in files_of(&entry.expect("an entry").path().join("src")) {
            let text = fs::read_to_string(&file.path).expect("a file");
            let head = text.lines().take_while(|line| line.starts_with("//!"));
            let says_why = head.into_iter().any(|line| line.starts_with("//! Long because "));
            let lines = text.lines().count();
            if (lines > LONGEST) != says_why {
                told.push(format!("{}: {lines} lines", file.path));
            }
        }
    }
    assert!(told.is_empty(), "long without a `//! Long because …`, or short with one: {told:#?}");
}
