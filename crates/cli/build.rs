//! Conditions for rebuilding the command, its build information, and link options.

use std::fs;
use std::path::{Path, PathBuf};

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    // The demo estate is compiled into the program.
    println!("cargo::rerun-if-changed=../../demo");
    #[allow(clippy::disallowed_methods, reason = "Cargo tells a build by the environment")]
    let told = |name: &str| std::env::var(name).unwrap_or_default();
    let version = told("CARGO_PKG_VERSION");
    let version = commit().map_or(version.clone(), |commit| format!("{version} ({commit})"));
    println!("cargo::rustc-env=TREVLIN_VERSION={version}");
    // The linker that comes with Rust for this target (since 1.90) folds functions that came out the same, and packs the places that are
    // moved when the program is loaded: an eighth of its size, and some milliseconds of every run.
    if told("TARGET") == "x86_64-unknown-linux-gnu" && told("PROFILE") == "release" {
        println!("cargo::rustc-link-arg-bins=-Wl,--icf=all");
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
}

/// The commit that is built, as Git's own files tell (gitrepository-layout(5)); none where the source came without them.
fn commit() -> Option<String> {
    let root = Path::new("../../.git");
    // In a second working tree it is a file that says where to look, and that place says where the rest is.
    let folder = match fs::read_to_string(root) {
        Ok(text) => PathBuf::from(text.trim().strip_prefix("gitdir: ")?),
        Err(_) => root.to_owned(),
    };
    let common = fs::read_to_string(folder.join("commondir"));
    let common = common.map_or(folder.clone(), |path| folder.join(path.trim()));
    let watched = |path: PathBuf| {
        let text = fs::read_to_string(&path).ok()?;
        println!("cargo::rerun-if-changed={}", path.display());
        Some(text)
    };
    let head = watched(folder.join("HEAD"))?;
    let full = match head.trim().strip_prefix("ref: ") {
        None => head.trim().to_owned(),
        Some(name) => match watched(common.join(name)) {
            Some(text) => text.trim().to_owned(),
            None => {
                let packed = watched(common.join("packed-refs"))?;
                let line = packed.lines().find(|line| line.split(' ').nth(1) == Some(name))?;
                line.split(' ').next()?.to_owned()
            }
        },
    };
    full.get(..12).filter(|short| short.bytes().all(|byte| byte.is_ascii_hexdigit())).map(str::to_owned)
}
