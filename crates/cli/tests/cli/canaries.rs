//! Secrets at places that no reader takes for a setting: in comments, under made-up names, in addresses of pages, in commands, in values
//! that are stated twice. In a file of every format, and searched for in every output and in copies.

use crate::common::{folder, run};
use crate::leaks::{Mint, forms};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// A place: the text there, with `@` for the secret.
const LINES: [&str; 22] = [
    "# password: @",
    "# old psk @",
    "# the secret is @",
    "# see https://ann:@@h.example/x",
    "# curl -u ann:@ https://h.example/",
    "# Authorization: Bearer @",
    "#bind_password = @",
    "# DB_PASSWORD=@ /usr/local/bin/job",
    "# hash was $6$zJq1tWcH0xm2$@aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa",
    "made_up_password @",
    "made-up-secret = \"@\"",
    "made_up_url = http://ann:@@h.example/",
    "made_up_command = /usr/bin/sshpass -p @ ssh h.example",
    "ldap_bind_password=@",
    "api_token: @",
    "made_up_header \"Authorization: Bearer @\"",
    "made_up_hook /bin/x --password @ --verbose",
    "made_up_hook /bin/x --token=@",
    "made_up_dsn \"host=h user=ann password=@ dbname=x\"",
    "bindpw @",
    "shared-secret \"@\";",
    "exec mysqldump -u ann -p@ db",
];

/// The same as members of an object.
const MEMBERS: [&str; 17] = [
    "\"made-up-password\": \"@\"",
    "\"shared-secret\": \"@\"",
    "\"apiToken\": \"@\"",
    "\"remark\": \"psk: @\"",
    "\"url\": \"http://ann:@@h.example/\"",
    "\"private_key\": \"@\"",
    "\"bindPasswd\": \"@\"",
    "\"passphrase\":\n   \"@\"",
    "\"header\": \"Authorization: Bearer @\"",
    "\"command\": \"curl -u ann:@ https://h.example/\"",
    "\"hook\": \"/bin/x --password @ --verbose\"",
    "\"dsn\": \"host=h password=@ dbname=x\"",
    "\"preSharedKey\": \"@\"",
    "\"secret\": \"@\"",
    "\"secret\": \"@\"",
    "\"nested\": { \"pass\": { \"password\": \"@\" } }",
    "\"env\": [ \"DB_PASSWORD=@\" ]",
];

/// The same as elements.
const ELEMENTS: [&str; 17] = [
    "<made-up-password>@</made-up-password>",
    "<shared-secret>@</shared-secret>",
    "<apiToken>@</apiToken>",
    "<remark>psk: @</remark>",
    "<url>http://ann:@@h.example/</url>",
    "<private-key>@</private-key>",
    "<bindPasswd>@</bindPasswd>",
    "<passphrase>\n  @\n</passphrase>",
    "<header>Authorization: Bearer @</header>",
    "<command>curl -u ann:@ https://h.example/</command>",
    "<hook a=\"/bin/x --password @ --verbose\"/>",
    "<user password=\"@\" name=\"b\"/>",
    "<preSharedKey>@</preSharedKey>",
    "<secret>@</secret>",
    "<secret>@</secret>",
    "<!-- the password is @ -->",
    "<!-- token=@ -->",
];

/// Files that are found beside exports, in part.
const NEIGHBOURS: [(&str, &str); 6] = [
    ("notes.txt", "What was found on site\n"),
    ("root/backup.sh", "#!/bin/sh\nset -e\n"),
    ("var/log/job.log", "2026-03-01 begins\n"),
    ("running/env.txt", "PATH=/bin\n"),
    ("data.json", "{ \"a\": 1 }\n"),
    ("page.xml", "<page>\n<a/>\n</page>\n"),
];

fn all_below(folder: &Path, each: &mut dyn FnMut(&Path)) {
    for entry in fs::read_dir(folder).unwrap() {
        let at = entry.unwrap().path();
        if at.is_dir() { all_below(&at, each) } else { each(&at) }
    }
}

/// Cases of formats, each below a device of its name.
fn cases() -> Vec<(String, String)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../readers/tests/cases/formats");
    let mut found = Vec::new();
    let mut folders = vec![root.clone()];
    while let Some(below) = folders.pop() {
        for entry in fs::read_dir(&below).unwrap() {
            let at = entry.unwrap().path();
            if at.is_dir() && !at.is_symlink() {
                folders.push(at);
            } else if let Ok(text) = fs::read_to_string(&at) {
                found.push((at.strip_prefix(&root).unwrap().to_string_lossy().into_owned(), text));
            }
        }
    }
    found.sort();
    found
}

/// A case with secrets planted in it.
fn planted(text: &str, mint: &mut Mint) -> String {
    let mut plant = |template: &str| {
        let secret = mint.plain_word();
        // The place of a secret is one sign, and an address of a page has one of its own behind it.
        template.replacen('@', &secret, 1)
    };
    let trimmed = text.trim_start();
    if trimmed.starts_with(['{', '[']) {
        let at = text.find('{').unwrap_or_default() + 1;
        let members: String = MEMBERS.iter().map(|one| plant(one) + ",\n").collect();
        return format!("{}{members}{}", &text[..at], &text[at..]);
    }
    if trimmed.starts_with('<') {
        let at = text.rfind("</").unwrap_or(text.len());
        let elements: String = ELEMENTS.iter().map(|one| plant(one) + "\n").collect();
        return format!("{}{elements}{}", &text[..at], &text[at..]);
    }
    let lines: String = LINES.iter().map(|one| plant(one) + "\n").collect();
    format!("{}\n{lines}", text.trim_end())
}

#[test]
fn what_a_line_announces_is_in_no_output_and_in_no_copy() {
    let mut mint = Mint::new(0x7A1B_2C3D_4E5F_6071);
    let mut devices: Vec<String> = Vec::new();
    let mut files: Vec<(String, String)> = Vec::new();
    for (path, text) in cases() {
        devices.push(path.split('/').next().unwrap().to_owned());
        files.push((path, planted(&text, &mut mint)));
    }
    devices.dedup();
    // Files that are found beside exports and have no known format: notes, scripts, a log, data.
    for (at, device) in devices.iter().enumerate() {
        let (name, text) = NEIGHBOURS[at % NEIGHBOURS.len()];
        files.push((format!("{device}/{name}"), planted(text, &mut mint)));
    }
    let borrowed: Vec<(&str, &str)> =
        files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let folder = folder(&borrowed);
    let secrets = &mint.made;
    assert!(secrets.len() >= 1_300, "{}", secrets.len());
    let at = folder.path().to_str().unwrap();

    let mut outputs: Vec<(String, String)> = Vec::new();
    for arguments in [
        &["audit", at, "-vv"][..],
        &["audit", at, "--format", "json"],
        &["services", at, "--format", "json"],
        &["exposure", at, "--format", "json"],
        &["logins", at, "--format", "json"],
        &["tunnels", at, "--format", "json"],
        &["tunnels", at, "--detail", "e"],
        &["rules", at, "--format", "json"],
        &["addresses", at, "--format", "json"],
        &["report", at, "--to", "-", "--format", "html"],
        &["report", at, "--to", "-", "--format", "markdown"],
        &["report", at, "--to", "-", "--format", "sarif"],
        &["report", at, "--to", "-", "--format", "oscal"],
        &["questions", at],
        &["coverage", at, "--passes", "--format", "json"],
        &["survey", at, "--format", "json"],
        &["compare", at, at, "--all"],
    ] {
        let (out, err, status) = run(arguments);
        assert!(status < 2, "{arguments:?}: {err}");
        outputs.push((arguments.join(" "), out + &err));
    }
    for device in &devices {
        let (out, err, _) = run(&["sheet", "show", &format!("{at}/{device}")]);
        outputs.push((format!("sheet show {device}"), out + &err));
    }
    let into = tempfile::tempdir().unwrap();
    let (said, err, status) = run(&["scrub", at, "--with-unread", "--into", into.path().to_str().unwrap()]);
    assert_eq!(status, 0, "{err}");
    outputs.push(("scrub".into(), said));
    for (path, _) in &files {
        let copied: PathBuf = into.path().join(path);
        outputs.push((format!("copy of {path}"), fs::read_to_string(copied).unwrap()));
    }
    // Other names and addresses beside it, with the key that is kept.
    let renamed = tempfile::tempdir().unwrap();
    let key = renamed.path().join("key.json");
    let copy = renamed.path().join("copy");
    let (copy, key) = (copy.to_str().unwrap(), key.to_str().unwrap());
    let more = ["--names", "--addresses", "--with-unread", "--key", key];
    let arguments: Vec<&str> = ["scrub", at, "--into", copy].into_iter().chain(more).collect();
    let (said, err, status) = run(&arguments);
    assert_eq!(status, 0, "{err}");
    outputs.push(("scrub --names".into(), said));
    outputs.push(("key".into(), fs::read_to_string(key).unwrap()));
    let mut copies = 0;
    all_below(Path::new(copy), &mut |at| {
        copies += 1;
        outputs.push((format!("renamed {}", at.display()), fs::read_to_string(at).unwrap()));
    });
    assert_eq!(copies, files.len());

    // Most outputs quote the same lines, and a form is looked for by how it begins.
    let lines: BTreeSet<&str> = outputs.iter().flat_map(|(_, text)| text.lines()).collect();
    let all_forms: Vec<String> = secrets.iter().flat_map(|secret| forms(secret)).collect();
    let by_beginning: BTreeMap<&[u8], Vec<&String>> =
        all_forms.iter().fold(BTreeMap::new(), |mut map, form| {
            map.entry(&form.as_bytes()[..6]).or_insert_with(Vec::new).push(form);
            map
        });
    let mut shown: BTreeSet<&String> = BTreeSet::new();
    for line in lines {
        for (at, beginning) in line.as_bytes().windows(6).enumerate() {
            let forms = by_beginning.get(beginning).into_iter().flatten();
            shown.extend(forms.filter(|form| line.as_bytes()[at..].starts_with(form.as_bytes())));
        }
    }
    let mut leaks: Vec<String> = Vec::new();
    for form in shown {
        for (output, text) in outputs.iter().filter(|(_, text)| text.contains(form)) {
            let line = text.lines().find(|line| line.contains(form)).unwrap_or_default();
            leaks.push(format!("{output}: {}", line.trim().chars().take(200).collect::<String>()));
        }
    }
    assert!(leaks.is_empty(), "{} leaks of {} secrets:\n{}", leaks.len(), secrets.len(), leaks.join("\n"));
}

/// Replacements in a copy, line by line: a change of the layer shows here which non-secrets it replaces.
#[test]
fn what_is_replaced_in_the_demo_is_as_written_down() {
    let into = tempfile::tempdir().unwrap();
    let before = crate::common::demo();
    let (_, err, status) =
        run(&["scrub", before.to_str().unwrap(), "--with-unread", "--into", into.path().to_str().unwrap()]);
    assert_eq!(status, 0, "{err}");
    let (mut replaced, mut words, mut changed) = (Vec::new(), 0, 0);
    let mut paths: Vec<PathBuf> = Vec::new();
    all_below(into.path(), &mut |at| paths.push(at.strip_prefix(into.path()).unwrap().to_owned()));
    paths.sort();
    for path in paths.iter().filter(|path| !into.path().join(path).is_symlink()) {
        let (own, copy) = (
            fs::read_to_string(before.join(path)).unwrap(),
            fs::read_to_string(into.path().join(path)).unwrap(),
        );
        assert_eq!(own.lines().count(), copy.lines().count(), "{}", path.display());
        for (number, (own, copy)) in (1..).zip(own.lines().zip(copy.lines())) {
            words += own.split_whitespace().count();
            if own != copy {
                let other =
                    own.split_whitespace().zip(copy.split_whitespace()).filter(|(a, b)| a != b).count();
                changed += other.max(1);
                replaced.push(format!("{}:{number}", path.display()));
            }
        }
    }
    insta::assert_snapshot!(format!("{changed} of {words} words\n{}\n", replaced.join("\n")));
}
