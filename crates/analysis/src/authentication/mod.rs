//! Authentication factors that a login path requires: the result of a PAM stack, or of an SSH server.

mod conditions;
mod radius;
mod sources;
pub mod tunnels;

pub use conditions::conditions;
pub use radius::of_radius;
pub use sources::of_source;
pub use tunnels::{PppAuthentication, easier, login_paths, of_tls_based, server_names};

use serde::Deserialize;
use std::collections::BTreeSet;
use trevlin_estate::assemble::Estate;
use trevlin_model::pam::{PamAction, PamControl, PamFacility, PamLine, PamService};
use trevlin_model::radius::RadiusAsker;
use trevlin_model::ssh::{SshConnection, SshServer, matches};
use trevlin_model::{Device, FactorKind, Origin};

/// Factors that the weakest login path requires.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Factors {
    /// These kinds, with the lines that require them.
    Known(BTreeSet<FactorKind>, Vec<Origin>),
    /// Decided by a service without exports, or by a part that was not exported.
    Unknown {
        /// The beginning of the request: "Please provide `/etc/pam.d/x`, with the files it includes". It decides about the factors.
        ask: String,
        /// Lines that lead there.
        evidence: Vec<Origin>,
        /// The file that would tell, where that is one that is not among the exports.
        file: Option<String>,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Modules {
    knowledge: BTreeSet<String>,
    one_time_code: BTreeSet<String>,
    possession: BTreeSet<String>,
    sorting: BTreeSet<String>,
    passing: BTreeSet<String>,
    denying: BTreeSet<String>,
}

trevlin_model::table! { static MODULES: Modules = "../../tables/pam-modules.toml"; }

/// How deep services are taken over (libpam: 16).
const DEPTH: usize = 16;

/// Steps walked before a stack counts as too long to tell.
const MOST_STEPS: usize = 50_000;

/// Possible results of a module, and the factor that each proves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Proof {
    Factor(FactorKind),
    Elsewhere,
    Nothing,
}

/// One line of a stack with everything taken over.
struct Step {
    success: PamAction,
    failure: PamAction,
    /// Ways to succeed.
    proofs: Vec<Proof>,
    /// Whether it can fail and let the stack go on.
    fails: bool,
    module: String,
    origin: Origin,
}

/// Factors that a stack proved on one path through it.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
struct Proved {
    kinds: BTreeSet<FactorKind>,
    /// A module whose requirement is not known.
    elsewhere: Option<String>,
    lines: Vec<Origin>,
}

/// Factors of the weakest path through a service's `auth` stack.
#[must_use]
pub fn of_service(estate: &Estate, device: usize, service: &str, asked_at: Origin) -> Factors {
    let services = &estate.devices[device].facts.pam_services;
    let missing = |path: &str, origin: Origin| Factors::Unknown {
        ask: format!("Please provide `/etc/pam.d/{path}`, with the files it includes"),
        evidence: vec![origin, asked_at],
        file: Some(format!("/etc/pam.d/{path}")),
    };
    let Some(found) = services.iter().find(|one| one.name == service) else {
        return missing(service, asked_at);
    };
    let mut steps = Vec::new();
    if let Err((path, origin)) = flatten(services, found, 0, &mut steps) {
        return missing(&path, origin);
    }
    // One module hands on to a RADIUS server, which may be a device of the estate.
    let mut radius = None;
    for step in steps.iter_mut().filter(|step| matches(&step.module, "pam_radius*")) {
        let (asked, _) = radius
            .get_or_insert_with(|| (of_radius(estate, device, RadiusAsker::Pam, step.origin), step.origin));
        if let Factors::Known(kinds, _) = asked {
            step.proofs = match kinds.iter().next() {
                Some(kind) => vec![Proof::Factor(*kind)],
                None => vec![Proof::Nothing],
            };
        }
    }
    let mut walk = Walk { steps: &steps, ends: BTreeSet::new(), left: MOST_STEPS };
    walk.from(0, None, Proved::default());
    let first = steps.first().map_or(found.origin, |step| step.origin);
    if walk.left == 0 {
        let ask = format!(
            "Please state the login methods of the PAM stack `{service}`, which is too long to be analysed"
        );
        return Factors::Unknown { ask, evidence: vec![first, asked_at], file: None };
    }
    match (easiest(walk.ends, service, asked_at), radius) {
        // Where the RADIUS server is the reason, its own result is more informative.
        (Factors::Unknown { evidence, .. }, Some((Factors::Unknown { ask, evidence: more, file }, at)))
            if evidence.contains(&at) =>
        {
            Factors::Unknown { ask, evidence: evidence.into_iter().chain(more).collect(), file }
        }
        (Factors::Known(kinds, lines), Some((Factors::Known(_, more), at))) if lines.contains(&at) => {
            Factors::Known(kinds, lines.into_iter().chain(more).collect())
        }
        (found, _) => found,
    }
}

/// The easiest of several ways: fewest kinds; one that is not known counts as harder than one factor that is.
fn easiest(ends: BTreeSet<Proved>, service: &str, asked_at: Origin) -> Factors {
    let known = ends.iter().filter(|one| one.elsewhere.is_none()).min_by_key(|one| one.kinds.len());
    let unknown = ends.iter().find(|one| one.elsewhere.is_some() && one.kinds.len() < 2);
    match (known, unknown) {
        (Some(known), unknown) if known.kinds.len() < 2 || unknown.is_none() => {
            Factors::Known(known.kinds.clone(), known.lines.clone())
        }
        (_, Some(unknown)) => Factors::Unknown {
            ask: format!(
                "Please provide the settings of `{}` in the PAM stack of `{service}`",
                unknown.elsewhere.as_deref().unwrap_or_default()
            ),
            evidence: unknown.lines.iter().copied().chain([asked_at]).collect(),
            file: None,
        },
        // No user passes: stronger than any number of factors.
        _ => Factors::Unknown {
            ask: format!(
                "Please state how users log in through the PAM stack of `{service}`, in which no path grants access"
            ),
            evidence: vec![asked_at],
            file: None,
        },
    }
}

/// The stack of a service that is not among the exports.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct MissingService(pub String);

/// Every line that a service's stack consists of, of all facilities, those it takes over among them, each file once.
///
/// # Errors
/// The service that is taken over and is not among the exports.
pub fn lines_of_service<'a>(device: &'a Device, service: &str) -> Result<Vec<&'a PamLine>, MissingService> {
    let mut lines = Vec::new();
    let (mut open, mut seen) = (vec![service.to_owned()], BTreeSet::new());
    while let Some(name) = open.pop() {
        if !seen.insert(name.clone()) {
            continue;
        }
        let found =
            device.facts.pam_services.iter().find(|one| one.name == name).ok_or(MissingService(name))?;
        for line in &found.lines {
            if let PamControl::Include(other) | PamControl::Substack(other) = &line.control {
                open.push(other.rsplit('/').next().unwrap_or(other).to_owned());
            }
            lines.push(line);
        }
    }
    Ok(lines)
}

fn flatten(
    services: &[PamService],
    service: &PamService,
    depth: usize,
    steps: &mut Vec<Step>,
) -> Result<(), (String, Origin)> {
    for line in
        service.lines.iter().filter(|line| line.facility.is_none_or(|facility| facility == PamFacility::Auth))
    {
        match &line.control {
            PamControl::Actions { success, failure } => steps.push(step(line, *success, *failure)),
            PamControl::Include(name) | PamControl::Substack(name) => {
                let name = name.rsplit('/').next().unwrap_or(name);
                let found = services.iter().find(|one| one.name == name).filter(|_| depth < DEPTH);
                flatten(services, found.ok_or((name.to_owned(), line.origin))?, depth + 1, steps)?;
            }
        }
    }
    Ok(())
}

fn step(line: &PamLine, success: PamAction, failure: PamAction) -> Step {
    let module = line.module.as_str();
    let says = |word: &str| line.arguments.iter().any(|one| one == word);
    let one_of = |names: &BTreeSet<String>| names.iter().any(|name| matches(module, name));
    let (proofs, fails) = if one_of(&MODULES.knowledge) {
        (vec![Proof::Factor(FactorKind::Knowledge)], true)
    } else if one_of(&MODULES.one_time_code) {
        let mut proofs = vec![Proof::Factor(FactorKind::OneTimeCode)];
        // Users without a code set up pass without one.
        proofs.extend(says("nullok").then_some(Proof::Nothing));
        (proofs, true)
    } else if one_of(&MODULES.possession) {
        let mut proofs = vec![Proof::Factor(FactorKind::Possession)];
        proofs.extend(says("nouserok").then_some(Proof::Nothing));
        (proofs, true)
    } else if one_of(&MODULES.sorting) {
        (vec![Proof::Nothing], true)
    } else if one_of(&MODULES.passing) {
        // Some end in failure when a password was wrong before; that way is the failing one already.
        (
            vec![Proof::Nothing],
            matches!(failure, PamAction::Ignore | PamAction::Jump(_)) && module != "pam_permit",
        )
    } else if one_of(&MODULES.denying) {
        (Vec::new(), true)
    } else {
        (vec![Proof::Elsewhere], true)
    };
    Step { success, failure, proofs, fails, module: line.module.clone(), origin: line.origin }
}

struct Walk<'a> {
    steps: &'a [Step],
    ends: BTreeSet<Proved>,
    left: usize,
}

impl Walk<'_> {
    /// Goes on from a step. `so_far` is libpam's impression: nothing yet, success, or failure.
    fn from(&mut self, at: usize, so_far: Option<bool>, proved: Proved) {
        self.left = self.left.saturating_sub(1);
        let Some(step) = self.steps.get(at).filter(|_| self.left > 0) else {
            if so_far == Some(true) {
                self.ends.insert(proved);
            }
            return;
        };
        for proof in &step.proofs {
            let mut proved = proved.clone();
            match proof {
                Proof::Factor(kind) => {
                    proved.kinds.insert(*kind);
                    proved.lines.push(step.origin);
                }
                Proof::Elsewhere => {
                    proved.elsewhere.get_or_insert_with(|| step.module.clone());
                    proved.lines.push(step.origin);
                }
                Proof::Nothing => {}
            }
            self.act(at, step.success, so_far, proved);
        }
        if step.fails {
            self.act(at, step.failure, so_far, proved);
        }
    }

    fn act(&mut self, at: usize, action: PamAction, so_far: Option<bool>, proved: Proved) {
        match action {
            PamAction::Ok => self.from(at + 1, so_far.or(Some(true)), proved),
            PamAction::Done if so_far != Some(false) => {
                self.ends.insert(proved);
            }
            PamAction::Done | PamAction::Ignore => self.from(at + 1, so_far, proved),
            PamAction::Bad => self.from(at + 1, Some(false), proved),
            PamAction::Die => {}
            PamAction::Reset => self.from(at + 1, None, proved),
            PamAction::Jump(count) => self.from(at + 1 + count as usize, so_far, proved),
        }
    }
}

/// One login path that an SSH server accepts.
#[derive(Debug, Clone)]
pub struct SshLoginPath {
    /// Methods, all of which are required.
    pub methods: Vec<String>,
    /// Factors that they require together.
    pub factors: Factors,
}

/// Every login path that an SSH server accepts for a connection.
#[must_use]
pub fn ssh_login_paths(
    estate: &Estate,
    device: usize,
    server: &SshServer,
    connection: &SshConnection<'_>,
) -> Vec<SshLoginPath> {
    let on = |keyword: &str| server.may_be_on(keyword, connection);
    // A default stands nowhere, so it has no line to point at.
    let place = |keyword: &str| server.effective(keyword, connection).origin();
    let one = |kind: FactorKind, keyword: &str| {
        Factors::Known(BTreeSet::from([kind]), place(keyword).into_iter().collect())
    };
    let stack = |keyword: &str| {
        if !on("usepam") {
            return one(FactorKind::Knowledge, keyword);
        }
        match of_service(estate, device, "sshd", place("usepam").unwrap_or(server.origin)) {
            // The method's own line is cited; the modules' lines prove the factors.
            Factors::Known(kinds, lines) => {
                Factors::Known(kinds, place(keyword).into_iter().chain(lines).collect())
            }
            unknown => unknown,
        }
    };
    let method = |name: &str| match name.split(':').next().unwrap_or(name) {
        "publickey" => {
            on("pubkeyauthentication").then(|| one(FactorKind::Possession, "pubkeyauthentication"))
        }
        "password" => on("passwordauthentication").then(|| stack("passwordauthentication")),
        "keyboard-interactive" => (on("kbdinteractiveauthentication") && on("usepam"))
            .then(|| stack("kbdinteractiveauthentication")),
        "hostbased" => on("hostbasedauthentication")
            .then(|| Factors::Known(BTreeSet::new(), place("hostbasedauthentication").into_iter().collect())),
        _ => None,
    };
    let stated = server.effective("authenticationmethods", connection);
    let lists: Vec<Vec<String>> = match &stated {
        trevlin_model::Setting::Stated { value, .. } if value.first().is_some_and(|word| word != "any") => {
            value.iter().map(|list| list.split(',').map(str::to_owned).collect()).collect()
        }
        _ => ["publickey", "password", "keyboard-interactive", "hostbased"]
            .map(|name| vec![name.to_owned()])
            .into(),
    };
    lists
        .into_iter()
        .filter_map(|methods| {
            let asked: Option<Vec<Factors>> = methods.iter().map(|name| method(name)).collect();
            Some(SshLoginPath { factors: together(asked?), methods })
        })
        .collect()
}

/// Factors that several methods require together.
fn together(all: Vec<Factors>) -> Factors {
    let (mut kinds, mut lines) = (BTreeSet::new(), Vec::new());
    let mut unknown = None;
    for one in all {
        match one {
            Factors::Known(more, places) => {
                kinds.extend(more);
                lines.extend(places);
            }
            other => unknown = Some(other),
        }
    }
    match unknown {
        Some(unknown) if kinds.len() < 2 => unknown,
        _ => Factors::Known(kinds, lines),
    }
}

/// The weakest of several login paths: the one with the fewest known kinds of factors, unless an unknown one is the only one with fewer
/// than two.
#[must_use]
pub fn weakest_path(ways: &[SshLoginPath]) -> Option<&SshLoginPath> {
    let count = |way: &SshLoginPath| match &way.factors {
        Factors::Known(kinds, _) => kinds.len() * 2,
        Factors::Unknown { .. } => 3,
    };
    // A password is guessed from afar, a key is not: of two ways with one factor the password is easier.
    let guessable = |way: &SshLoginPath| match &way.factors {
        Factors::Known(kinds, _) => !kinds.contains(&FactorKind::Knowledge),
        Factors::Unknown { .. } => true,
    };
    ways.iter().min_by_key(|way| (count(way), guessable(way)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::estate;

    fn kinds(factors: &Factors) -> String {
        match factors {
            Factors::Known(kinds, _) => {
                kinds.iter().map(|kind| format!("{kind:?}")).collect::<Vec<_>>().join("+")
            }
            Factors::Unknown { .. } => "?".into(),
        }
    }

    #[test]
    fn stacks() {
        const UNIX: &str = "auth [success=1 default=ignore] pam_unix.so\nauth requisite pam_deny.so\nauth required pam_permit.so\n";
        for (sshd, more, wanted) in [
            ("auth required pam_unix.so\n", None, "Knowledge"),
            ("auth required pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge+OneTimeCode"),
            ("# auth required pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("account required pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("auth sufficient pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("auth required pam_oath.so nullok\nauth required pam_unix.so\n", None, "Knowledge"),
            ("auth required pam_u2f.so nouserok\nauth required pam_unix.so\n", None, "Knowledge"),
            (
                "auth required pam_phone_authenticator.so\nauth required pam_unix.so\n",
                None,
                "Knowledge+OneTimeCode",
            ),
            ("auth required pam_radius_auth.so\n", None, "?"),
            ("auth sufficient pam_radius_auth.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("auth required pam_radius_auth.so\nauth required pam_unix.so\n", None, "?"),
            ("auth optional pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("@include common-auth\n", Some(UNIX), "Knowledge"),
            ("@include common-auth\nauth required pam_oath.so\n", Some(UNIX), "Knowledge+OneTimeCode"),
            ("auth required pam_oath.so\n@include common-auth\n", Some(UNIX), "Knowledge+OneTimeCode"),
            ("@include common-auth\n", None, "?"),
            ("auth required pam_permit.so\n", None, ""),
            (
                "auth [success=2 default=ignore] pam_localuser.so\nauth required pam_oath.so\nauth required pam_unix.so\nauth required pam_unix.so\n",
                None,
                "Knowledge",
            ),
            ("auth required pam_faillock.so preauth\nauth required pam_unix.so\n", None, "Knowledge"),
            ("auth required pam_deny.so\n", None, "?"),
            ("auth substack common-auth\nauth required pam_u2f.so\n", Some(UNIX), "Knowledge+Possession"),
        ] {
            let mut files = vec![("d/etc/pam.d/sshd", sshd)];
            files.extend(more.map(|text| ("d/etc/pam.d/common-auth", text)));
            let estate = estate(&files);
            let asked_at = estate.devices[0].facts.pam_services[0].origin;
            assert_eq!(kinds(&of_service(&estate, 0, "sshd", asked_at)), wanted, "{sshd}");
        }
    }

    #[test]
    fn shells() {
        let pam = "auth required pam_oath.so\nauth required pam_unix.so\n";
        for (config, wanted) in [
            ("PermitRootLogin no\n", "publickey:Possession password:Knowledge"),
            (
                "PermitRootLogin no\nUsePAM yes\n",
                "publickey:Possession password:Knowledge+OneTimeCode keyboard-interactive:Knowledge+OneTimeCode",
            ),
            ("PermitRootLogin no\nPasswordAuthentication no\n", "publickey:Possession"),
            (
                "PermitRootLogin no\nUsePAM yes\nAuthenticationMethods publickey,keyboard-interactive:pam\n",
                "publickey,keyboard-interactive:pam:Knowledge+Possession+OneTimeCode",
            ),
            (
                "PermitRootLogin no\nAuthenticationMethods publickey,password\n",
                "publickey,password:Knowledge+Possession",
            ),
            ("PermitRootLogin no\nAuthenticationMethods publickey,password\nPasswordAuthentication no\n", ""),
        ] {
            let estate = estate(&[("d/etc/ssh/sshd_config", config), ("d/etc/pam.d/sshd", pam)]);
            let server = &estate.devices[0].facts.ssh_servers[0];
            let ways = ssh_login_paths(&estate, 0, server, &SshConnection::default());
            let told: Vec<_> =
                ways.iter().map(|way| format!("{}:{}", way.methods.join(","), kinds(&way.factors))).collect();
            assert_eq!(told.join(" "), wanted, "{config}");
        }
    }
}
