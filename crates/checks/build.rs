//! Makes the citations of checks from the tables of controls, so that no run has to read the tables for them.

use std::collections::BTreeMap;
use std::error::Error;
use std::fmt::Write as _;
use std::path::PathBuf;
use std::{env, fs};

fn main() -> Result<(), Box<dyn Error>> {
    println!("cargo::rerun-if-changed=tables/controls");
    let entries = fs::read_dir("tables/controls")?.collect::<Result<Vec<_>, _>>()?;
    let mut paths: Vec<PathBuf> = entries.into_iter().map(|entry| entry.path()).collect();
    paths.sort();
    let mut citations: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for path in paths {
        let table: toml::Table = fs::read_to_string(&path)?.parse()?;
        let text = |table: &toml::Table, key: &str| table.get(key)?.as_str().map(str::to_owned);
        let Some(cited) = text(&table, "cited-as") else { continue };
        let mut ids: BTreeMap<&str, Vec<String>> = BTreeMap::new();
        let controls = table.get("control").and_then(toml::Value::as_array).into_iter().flatten();
        for control in controls.filter_map(toml::Value::as_table) {
            let id =
                text(control, "id").ok_or_else(|| format!("{}: a control without an id", path.display()))?;
            let checks = control.get("checks").and_then(toml::Value::as_array).into_iter().flatten();
            for check in checks.filter_map(toml::Value::as_str) {
                ids.entry(check).or_default().push(id.clone());
            }
        }
        for (check, ids) in ids {
            citations.entry(check.to_owned()).or_default().push(format!("{cited} {}", ids.join(", ")));
        }
    }
    let mut out = String::from(
        "/// Citations by check, in order of checks.\nstatic CITATIONS: &[(&str, &[&str])] = &[\n",
    );
    for (check, all) in citations {
        writeln!(out, "    ({check:?}, &{all:?}),")?;
    }
    out.push_str("];\n");
    #[allow(clippy::disallowed_methods, reason = "Cargo states by the environment where the result goes")]
    let folder = env::var("OUT_DIR")?;
    fs::write(PathBuf::from(folder).join("citations.rs"), out)?;
    Ok(())
}
