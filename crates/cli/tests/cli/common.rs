//! Common parts of the tests of the built program.

use assert_cmd::Command;
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// The built program, without environment variables that change its output.
pub(crate) fn trevlin(arguments: &[&str]) -> Command {
    let mut command = Command::cargo_bin("trevlin").expect("the program is built");
    command
        .args(arguments)
        .env_remove("NO_COLOR")
        .env_remove("CLICOLOR_FORCE")
        .env("TREVLIN_AS_OF", "2026-11-25");
    command
}

/// A temporary folder with these files.
pub(crate) fn folder(files: &[(&str, &str)]) -> TempDir {
    let folder = TempDir::new().expect("a temporary folder");
    for (path, text) in files {
        let at = folder.path().join(path);
        fs::create_dir_all(at.parent().expect("a folder")).expect("made");
        fs::write(at, text).expect("written");
    }
    folder
}

/// Output and exit status of the program.
pub(crate) fn run(arguments: &[&str]) -> (String, String, i32) {
    let output = trevlin(arguments).output().expect("run");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    (text(output.stdout), text(output.stderr), output.status.code().expect("a status"))
}

/// The demo estate in the source tree.
pub(crate) fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/before")
}

/// The audit of a folder as JSON.
pub(crate) fn json(path: &Path, more: &[&str]) -> serde_json::Value {
    let path = path.to_string_lossy();
    let arguments: Vec<&str> =
        ["audit", &path, "--format", "json"].into_iter().chain(more.iter().copied()).collect();
    serde_json::from_str(&run(&arguments).0).expect("JSON")
}
