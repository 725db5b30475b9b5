//! The survey command.

use crate::args::{self, Common, Format};
use crate::context::{print, today, verbosity, width};
use crate::{load, manifest, output};
use anyhow::{Context, bail};
use std::fmt::Write as _;
use std::path::PathBuf;
use std::process::ExitCode;
use toml_edit::{Key, Value};
use trevlin_audit::survey::{Survey, survey};
use trevlin_audit::{ESTATE_FILE, ValidEstateFile, audit};
use trevlin_model::DeviceKind;
use trevlin_readers::collecting::MANIFEST;
use trevlin_render::{survey_json, survey_text};

/// Runs the command.
///
/// # Errors
/// When nothing can be read, or the estate file exists already or cannot be written.
pub(crate) fn run(arguments: &args::Survey, common: &Common) -> anyhow::Result<ExitCode> {
    let at = arguments.write.then(|| target(arguments, "--write", ESTATE_FILE)).transpose()?;
    let sums = arguments.checksums.then(|| target(arguments, "--checksums", MANIFEST)).transpose()?;
    if let Some(at) = &sums {
        let text = manifest::of_files(&arguments.paths[0])?;
        output::replace(at, text.as_bytes())?;
    }
    let estate = load::estate(&arguments.paths, verbosity(common))?;
    let mut found = survey(&estate, &audit(&estate, &estate.baseline(today())));
    // For a device read through a sheet or a phrasebook there are no commands to run.
    let own_words = |format: &str| {
        format == "sheet" || trevlin_readers::READERS.iter().all(|reader| reader.name != format)
    };
    for device in &mut found.devices {
        if device.formats.iter().all(|one| own_words(&one.format)) {
            device.lacks.clear();
        }
    }
    // Most exports have no checksums, and need not be walked again.
    if estate.has_checksums {
        found.manifests = manifest::verify(&arguments.paths);
    }
    match arguments.format {
        Format::Text => print(|out| survey_text(&found, common.is_verbose(), width(), out))?,
        Format::Json => print(|out| survey_json(&found, out))?,
    }
    if let Some(at) = at {
        let text = estate_file(&found);
        // The output must be valid input of the next audit.
        ValidEstateFile::parse(&text, &trevlin_audit::checks::known)
            .with_context(|| format!("{} cannot be created", at.display()))?;
        output::replace(&at, text.as_bytes())?;
        if arguments.format == Format::Text {
            print(|out| writeln!(out, "{} was created; complete it", at.display()))?;
        }
    }
    if let Some(at) = sums.filter(|_| arguments.format == Format::Text) {
        print(|out| writeln!(out, "{} was created; keep it with the exports", at.display()))?;
    }
    Ok(ExitCode::SUCCESS)
}

/// Where a file goes that an option creates.
fn target(arguments: &args::Survey, option: &str, file: &str) -> anyhow::Result<PathBuf> {
    let [folder] = arguments.paths.as_slice() else {
        bail!("{option} needs one folder, for its {file}");
    };
    if !folder.is_dir() {
        bail!("{} is not a folder; {option} creates {file} in the folder of the estate", folder.display());
    }
    let at = folder.join(file);
    if at.exists() {
        bail!("{} already exists and was not changed; run without {option} to compare", at.display());
    }
    Ok(at)
}

/// An initial estate file: known values, and placeholders for the others.
fn estate_file(found: &Survey) -> String {
    let texts = |all: &[String]| -> String {
        let all: Vec<String> = all.iter().map(|one| Value::from(one.as_str()).to_string()).collect();
        format!("[{}]", all.join(", "))
    };
    let mut text = String::from(
        "# The estate file. Values that are left out are derived from the exports, as `trevlin survey` shows.\n\n# Names of \
         the organisation: words that passwords must not contain.\n#organisation = [\"\"]\n\n# Public networks of the \
         organisation. All other public addresses are external.\n",
    );
    let networks = if found.networks.is_empty() { "[\"\"]".to_owned() } else { texts(&found.networks) };
    let _ = writeln!(text, "#networks = {networks}");
    for one in &found.devices {
        // A device at the top of the estate goes by the folder's own name.
        let _ = writeln!(text, "\n[device.{}]", Key::new(&one.name).display_repr());
        if one.kind == DeviceKind::Unknown {
            let _ = writeln!(text, "#kind = \"server\"        # firewall, router, server or storage");
        } else {
            let _ = writeln!(text, "kind = \"{}\"", one.kind.word());
        }
        let names: Vec<String> = one.outside.iter().map(|outside| outside.interface.clone()).collect();
        let certain = !names.is_empty() && one.outside.iter().all(|outside| outside.certain);
        if certain {
            let _ = writeln!(text, "outside = {}", texts(&names));
        } else if !names.is_empty() {
            let _ = writeln!(text, "#outside = {}   # assumed", texts(&names));
        } else if matches!(one.kind, DeviceKind::Firewall | DeviceKind::Router) {
            let _ = writeln!(text, "#outside = [\"\"]      # not known");
        }
        let _ = writeln!(text, "#site = \"\"\n#contact = \"\"");
    }
    text.push_str(
        "\n# Intended access; `trevlin reach --intents` compares it with the actual access.\n#[[intent]]\n#from = \"\"\n#to \
         = [\"\"]\n#services = [\"tcp 443\"]\n",
    );
    let names: Vec<String> = found.devices.iter().map(|one| one.name.clone()).collect();
    let _ = write!(
        text,
        "\n# Scope of the audit: every system in it, including those without exports. `trevlin coverage` needs it.\n\
         #[scope]\n#systems = {}\n#[scope.out]\n#NAME = \"reason\"\n",
        texts(&names)
    );
    text
}
