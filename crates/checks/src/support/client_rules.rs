//! Rules for clients of a tunnel that a sheet states, that are on no screen of the device, or that are not stated.

use crate::check::Verdict;
use trevlin_model::policy::ClientPolicy;
use trevlin_model::{Origin, Setting, Tunnel};

/// Answer of a sheet about one rule.
pub(crate) enum ClientRule<'a, T> {
    /// It is stated.
    Stated(&'a T, Origin),
    /// It has to be requested.
    Open(Verdict),
    /// The tunnel has no such rules: its own configuration decides.
    Native,
}

/// One rule of a tunnel; `about` continues a sentence, as "whether NAME limits sessions".
pub(crate) fn client_rule<'a, T>(
    tunnel: &'a Tunnel,
    of: impl Fn(&ClientPolicy) -> &Option<Setting<T>>,
    about: &str,
) -> ClientRule<'a, T> {
    match tunnel.rule(of) {
        Some(Setting::Stated { value, origin }) => ClientRule::Stated(value, *origin),
        Some(_) => ClientRule::Open(not_seen(tunnel, about)),
        None => match tunnel.missing_configuration() {
            Some(missing) if missing.unsaid.is_some() => {
                ClientRule::Open(Verdict::ask_reference(missing, about))
            }
            _ => ClientRule::Native,
        },
    }
}

/// The request for something that was looked for and is on no screen.
pub(crate) fn not_seen(tunnel: &Tunnel, about: &str) -> Verdict {
    let ask =
        format!("Please establish {about} from the manual or the vendor: no screen of the device shows it.");
    Verdict::ask(ask, vec![tunnel.origin])
}
