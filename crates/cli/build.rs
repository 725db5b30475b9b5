//! What the command is built again for, and how it is linked.

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    // The demo estate is compiled into the program.
    println!("cargo::rerun-if-changed=../../demo");
    #[allow(clippy::disallowed_methods, reason = "Cargo tells a build by the environment")]
    let told = |name: &str| std::env::var(name).unwrap_or_default();
    // The linker that comes with Rust for this target (since 1.90) folds functions that came out the same, and packs the places that are
    // moved when the program is loaded: an eighth of its size, and some milliseconds of every run.
    if told("TARGET") == "x86_64-unknown-linux-gnu" && told("PROFILE") == "release" {
        println!("cargo::rustc-link-arg-bins=-Wl,--icf=all");
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
}
