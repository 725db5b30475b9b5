//! Chores of this project: `cargo run --release -p xtask -- help`.

#![allow(clippy::print_stdout, reason = "what it is for")]

use anyhow::{Context, Result, ensure};
use clap::Parser;
use std::path::PathBuf;
use std::process::ExitCode;
use xtask::estate::estate_file;
use xtask::measure::{self, Row};
use xtask::{Difference, Maker, foreign, growth};

#[derive(Parser)]
#[command(about = "Chores of this project")]
enum Chore {
    /// Write a generated estate, and its expected findings.
    Estate {
        /// Devices; where left out, one for each fault of each kind.
        #[arg(long)]
        devices: Option<u64>,
        /// Seed of its random numbers: the same seed yields the same estate.
        #[arg(long, default_value_t = 1)]
        seed: u64,
        /// Where to: `estate` and `expected.json` in this folder.
        #[arg(long)]
        into: PathBuf,
    },
    /// Measure audits of made-up estates against reading and searching the same files.
    Measure {
        /// The built program.
        #[arg(long, default_value = "target/release/trevlin")]
        program: PathBuf,
        /// Devices of each estate.
        #[arg(long, value_delimiter = ',', default_value = "10,100,1000,10000")]
        devices: Vec<u64>,
        /// How often each is run.
        #[arg(long, default_value_t = 5)]
        runs: usize,
        /// Where estates are made and kept.
        #[arg(long)]
        work: PathBuf,
    },
    /// Measure how audits grow with exports made to multiply.
    Growth {
        /// The built program.
        #[arg(long, default_value = "target/release/trevlin")]
        program: PathBuf,
        /// Cases of the readers, a folder for each format.
        #[arg(long, default_value = "crates/readers/tests/cases/formats")]
        cases: PathBuf,
        /// Bytes of the largest; the others are a half and a quarter of it.
        #[arg(long, default_value_t = 1 << 20)]
        bytes: usize,
        /// How time may grow with size: 1 where twice as much takes twice as long
        #[arg(long, default_value_t = 1.3)]
        power: f64,
        /// Seconds that the largest may take.
        #[arg(long, default_value_t = 10.0)]
        seconds: f64,
        /// MiB that it may take.
        #[arg(long, default_value_t = 300)]
        memory: u64,
        /// Only ways whose name holds this.
        #[arg(long)]
        only: Option<String>,
    },
    /// Check configurations from the sources of packages with their programs, and count what Trevlin makes of them.
    Foreign {
        /// The built program.
        #[arg(long, default_value = "target/release/trevlin")]
        program: PathBuf,
        /// Which files, and what checks them.
        #[arg(long, default_value = "scripts/foreign.toml")]
        table: PathBuf,
        /// A system with the programs, to change root into.
        #[arg(long)]
        root: PathBuf,
        /// The unpacked sources.
        #[arg(long)]
        sources: PathBuf,
        /// Where the files are laid out and kept.
        #[arg(long)]
        work: PathBuf,
    },
    /// List programs, scripts and manual pages that an audit of sources read as configurations.
    Misread {
        /// What `trevlin audit --format json` printed.
        found: PathBuf,
    },
    /// Compare the findings with the expected ones.
    Compare {
        /// Expected findings.
        expected: PathBuf,
        /// What `trevlin audit --format json` printed.
        found: PathBuf,
    },
}

fn main() -> ExitCode {
    match run(Chore::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            println!("{error:#}");
            ExitCode::FAILURE
        }
    }
}

fn run(chore: Chore) -> Result<()> {
    match chore {
        Chore::Estate { devices, seed, into } => {
            let (maker, folder) = (Maker::new(seed)?, into.join("estate"));
            let expected = match devices {
                Some(devices) => maker.write(devices, &folder)?,
                None => {
                    let made = maker.every_fault()?.into_iter().map(|made| made.write(&folder));
                    estate_file(&folder, made.collect::<Result<Vec<_>>>()?)?
                }
            };
            std::fs::write(into.join("expected.json"), serde_json::to_vec_pretty(&expected)?)?;
            println!("{} findings to be found", expected.len());
        }
        Chore::Growth { program, cases, bytes, power, seconds, memory, only } => {
            let folder = std::env::temp_dir().join(format!("growth-{}", std::process::id()));
            let ways = growth::ways(&cases)?;
            let ways =
                ways.iter().filter(|way| only.as_ref().is_none_or(|only| way.name.contains(only.as_str())));
            let (mut count, mut faults) = (0, Vec::new());
            for way in ways {
                let most = std::time::Duration::from_secs_f64(seconds * 6.0);
                let measure =
                    || growth::measure(way, &program, &[bytes / 4, bytes / 2, bytes], &folder, most);
                let mut found = measure()?;
                // An apparent excess is measured again: a machine may be busy for a moment.
                for _ in 0..2 {
                    if found.fault(power, seconds, memory).is_some() {
                        found = found.or(&measure()?);
                    }
                }
                let times: Vec<String> = found.seconds.iter().map(|one| format!("{one:.2}")).collect();
                let fault = found.fault(power, seconds, memory);
                println!(
                    "{:>6.2}  {:>20} s  {:>5} MiB  {}{}",
                    found.exponent(),
                    times.join(" "),
                    found.memory,
                    found.name,
                    fault.as_ref().map(|why| format!("  ! {why}")).unwrap_or_default()
                );
                count += 1;
                faults.extend(fault.map(|why| format!("{}: {why}", found.name)));
            }
            let _ = std::fs::remove_dir_all(&folder);
            println!("{count} ways, {} of them too much", faults.len());
            ensure!(faults.is_empty(), "{}", faults.join("\n"));
        }
        Chore::Measure { program, devices, runs, work } => {
            println!("version: {}", measure::command(&program, 20, &["--version"])?);
            println!("audit of the demo: {}\n", measure::command(&program, 20, &["audit", "demo/before"])?);
            println!("{}", measure::HEAD);
            let mut before: Option<Row> = None;
            let mut grown = Vec::new();
            for devices in devices {
                let row = measure::size(&program, devices, runs, &work)?;
                println!("{row}");
                if let Some(before) = &before {
                    let exponent = measure::exponent(before, &row);
                    grown.push(format!("{} to {}: {exponent:.2}", before.devices, row.devices));
                }
                before = Some(row);
            }
            println!("\ngrowth of the audit's time, as an exponent: {}", grown.join(", "));
        }
        Chore::Foreign { program, table, root, sources, work } => {
            let outcome = foreign::measure(&program, &table, &root, &sources, &work)?;
            outcome.faults.iter().for_each(|fault| println!("{fault}"));
            println!("\n{outcome}");
        }
        Chore::Misread { found } => {
            let text = std::fs::read(&found).with_context(|| found.display().to_string())?;
            let (all, misread) = foreign::misread(&text)?;
            misread.iter().for_each(|fault| println!("{fault}"));
            println!("{} of {all} files misread", misread.len());
        }
        Chore::Compare { expected, found } => {
            let read = |path: &PathBuf| std::fs::read(path).with_context(|| path.display().to_string());
            let difference = Difference::of(&read(&expected)?, &read(&found)?)?;
            println!("{difference}");
            anyhow::ensure!(difference.is_none(), "what was found is not what is to be found");
        }
    }
    Ok(())
}
