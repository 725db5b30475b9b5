//! `trevlin demo`: a made-up estate to try everything on.

use crate::args::{self};
use crate::context::{again, leave, print, text, today, verbosity};
use crate::load;
use crate::{demo, messages};
use std::process::ExitCode;
use trevlin_audit::audit;
use trevlin_render::Renderer;

pub(crate) fn run(arguments: &args::Demo, common: &args::Common) -> anyhow::Result<ExitCode> {
    if let Some(into) = &arguments.into {
        let before = demo::write(into, arguments.force)?;
        let (shown, after) = (before.display(), into.join("after"));
        let after = after.display();
        let tour = format!(
            "The demo estate is in {shown}\n\nTry next:\n  trevlin audit {shown}\n  trevlin audit {shown} --area exposure\n  \
             trevlin exposure {shown}\n  trevlin reach {shown} --intents\n  trevlin audit {shown} --format json\n  \
             trevlin compare {shown} {after}\n  trevlin checks tunnels/pptp\n"
        );
        print(|out| out.write_all(tour.as_bytes()))?;
        return Ok(ExitCode::SUCCESS);
    }
    let folder = demo::temporary()?;
    let before = demo::write(&folder, true)?;
    let estate = load::estate(std::slice::from_ref(&before), verbosity(common))?;
    let outcome = audit(&estate, &estate.baseline(arguments.as_of.unwrap_or_else(today)));
    let again = again(std::slice::from_ref(&before));
    print(|out| text(common, arguments.full, &again).render(&outcome, out))?;
    if !common.quiet {
        let farewell =
            format!("\nThe demo estate is in {0}\nTo read it again: trevlin audit {0}\n", before.display());
        print(|out| out.write_all(farewell.as_bytes()))?;
    }
    if outcome.findings.is_empty() {
        messages::warning("the demo has no finding, which is an error in Trevlin");
    }
    leave(estate, &outcome, None)
}
