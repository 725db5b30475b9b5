//! How an audit's time and memory grow with what one device may be sent as: files in which a few lines multiply with many others, or
//! that name each other over and over.

mod filters;
mod includes;
mod making;
mod services;

use anyhow::{Context, Result, bail};
pub use making::Way;
use making::{Files, Ways};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Seconds below this are those of starting a program.
const FLOOR: f64 = 0.15;

/// Result of one way.
#[derive(Debug, Clone)]
pub struct Measured {
    /// Its name.
    pub name: String,
    /// Bytes of each size.
    pub bytes: Vec<usize>,
    /// Seconds of each size.
    pub seconds: Vec<f64>,
    /// The most memory of the largest, in MiB.
    pub memory: u64,
}

impl Measured {
    /// Growth of time with size: 1 where twice the size takes twice as long. Negligible times count as no growth.
    #[must_use]
    pub fn exponent(&self) -> f64 {
        let (Some(first), Some(last)) = (self.seconds.first(), self.seconds.last()) else { return 0.0 };
        let sizes = self.bytes.last().copied().unwrap_or(1) as f64
            / self.bytes.first().copied().unwrap_or(1).max(1) as f64;
        (last.max(FLOOR) / first.max(FLOOR)).ln() / sizes.max(2.0).ln()
    }

    /// The exceeded bound; none where all are kept.
    #[must_use]
    pub fn fault(&self, power: f64, seconds: f64, memory: u64) -> Option<String> {
        let last = self.seconds.last().copied().unwrap_or_default();
        if self.exponent() > power {
            return Some(format!("grows with the power {:.2}", self.exponent()));
        }
        if last > seconds {
            return Some(format!("takes {last:.1} s"));
        }
        (self.memory > memory).then(|| format!("takes {} MiB", self.memory))
    }
}

impl Measured {
    /// This with the shorter time of each size that both measured, and the lower memory: other load on a machine only adds.
    #[must_use]
    pub fn or(mut self, again: &Self) -> Self {
        for (one, other) in self.seconds.iter_mut().zip(&again.seconds) {
            *one = one.min(*other);
        }
        if again.seconds.len() > self.seconds.len() {
            return Self {
                seconds: [&self.seconds, &again.seconds[self.seconds.len()..]].concat(),
                ..again.clone()
            };
        }
        self.memory = self.memory.min(again.memory);
        self
    }
}

/// Measures one way at each size.
///
/// # Errors
/// Where files cannot be written or the program cannot be run.
pub fn measure(
    way: &Way,
    program: &Path,
    sizes: &[usize],
    folder: &Path,
    most: Duration,
) -> Result<Measured> {
    let mut measured = Measured { name: way.name.clone(), bytes: Vec::new(), seconds: Vec::new(), memory: 0 };
    for size in sizes {
        let at = folder.join("estate");
        if at.exists() {
            fs::remove_dir_all(&at)?;
        }
        let mut bytes = 0;
        for (path, text) in (way.make)(*size) {
            let file = at.join("d").join(path);
            fs::create_dir_all(file.parent().context("a file lies in a folder")?)?;
            bytes += text.len();
            fs::write(file, text)?;
        }
        let (seconds, memory) = run(program, &at, most)?;
        measured.bytes.push(bytes);
        measured.seconds.push(seconds);
        measured.memory = memory;
        if seconds >= most.as_secs_f64() {
            break;
        }
    }
    Ok(measured)
}

/// Audits a folder: seconds, and peak memory in MiB. Runs longer than `most` are stopped.
#[allow(clippy::disallowed_methods, reason = "a measurement reads the clock")]
fn run(program: &Path, folder: &Path, most: Duration) -> Result<(f64, u64)> {
    let begun = Instant::now();
    let mut child = Command::new(program)
        .args(["audit", "-q", "--format", "json"])
        .arg(folder)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .with_context(|| format!("{} cannot be run", program.display()))?;
    let (status, stat) = (format!("/proc/{}/status", child.id()), format!("/proc/{}/stat", child.id()));
    let (mut memory, mut worked) = (0, 0.0);
    loop {
        if let Some(ended) = child.try_wait()? {
            if ended.code().is_none() {
                bail!("the program was ended by a signal: {ended}");
            }
            // Where others keep the machine busy, what the program worked is nearer to what it takes.
            return Ok((begun.elapsed().as_secs_f64().min(f64::max(worked, FLOOR)), memory));
        }
        worked = f64::max(worked, cpu_seconds(&stat));
        let told = fs::read_to_string(&status).unwrap_or_default();
        let line = told.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = line.and_then(|rest| rest.split_whitespace().next()?.parse::<u64>().ok()).unwrap_or(0);
        memory = memory.max(kib / 1024);
        // More than any export is worth: the machine is needed by others.
        if begun.elapsed() > most || memory > 4096 {
            child.kill()?;
            child.wait()?;
            return Ok((most.as_secs_f64(), memory));
        }
        std::thread::sleep(Duration::from_millis(2));
    }
}

/// Seconds of processor time of a process on all cores, from its `stat` file (proc(5)); none where it is not known.
fn cpu_seconds(stat: &str) -> f64 {
    const TICKS_A_SECOND: f64 = 100.0;
    let told = fs::read_to_string(stat).unwrap_or_default();
    let behind_name = told.rsplit_once(") ").map_or("", |(_, rest)| rest);
    let numbers = behind_name.split(' ').skip(11).take(2).filter_map(|field| field.parse::<f64>().ok());
    numbers.sum::<f64>() / TICKS_A_SECOND
}

/// Every way: each format's case over and over, and what multiplies.
///
/// # Errors
/// Where the cases of the readers cannot be read.
pub fn ways(cases: &Path) -> Result<Vec<Way>> {
    let mut all = Ways::default();
    let mut formats: Vec<PathBuf> =
        fs::read_dir(cases)?.map(|entry| Ok(entry?.path())).collect::<Result<_>>()?;
    formats.sort();
    for format in formats {
        let name = format.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let mut found = Vec::new();
        below(&format, &format, &mut found)?;
        let Some((path, text)) = found.into_iter().max_by_key(|(_, text)| text.len()) else { continue };
        all.file(format!("{name}: its case over and over"), path, move |bytes| {
            text.repeat(1 + bytes / text.len().max(1))
        });
    }
    services::add(&mut all);
    includes::add(&mut all);
    filters::add(&mut all);
    Ok(all.0)
}

fn below(at: &Path, top: &Path, found: &mut Files) -> Result<()> {
    for entry in fs::read_dir(at)? {
        let path = entry?.path();
        if path.is_dir() && !path.is_symlink() {
            below(&path, top, found)?;
        } else if let Ok(text) = fs::read_to_string(&path) {
            found.push((path.strip_prefix(top)?.to_string_lossy().into_owned(), text));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shorter_time_of_each_size_counts() {
        let of = |seconds: &[f64], memory| Measured {
            name: "a".into(),
            bytes: vec![100, 200, 400],
            seconds: seconds.to_vec(),
            memory,
        };
        let busy = of(&[0.5, 1.0, 8.0], 90);
        assert_eq!(busy.fault(1.3, 10.0, 300).as_deref(), Some("grows with the power 2.00"));
        let both = busy.or(&of(&[0.6, 1.1, 2.0], 70));
        assert_eq!((both.seconds.as_slice(), both.memory), (&[0.5, 1.0, 2.0][..], 70));
        assert_eq!(both.fault(1.3, 10.0, 300), None);
        // One that was stopped before its largest size is whole by the other.
        assert_eq!(of(&[0.5, 60.0], 90).or(&both).seconds, [0.5, 1.0, 2.0]);
        assert_eq!(both.fault(1.3, 1.0, 300).as_deref(), Some("takes 2.0 s"));
        assert_eq!(both.fault(1.3, 10.0, 60).as_deref(), Some("takes 70 MiB"));
    }
}
