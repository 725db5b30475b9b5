//! The demo estate is compiled into the program; a change in it has to build the program again.

fn main() {
    println!("cargo::rerun-if-changed=../../demo");
}
