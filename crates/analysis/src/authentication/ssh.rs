//! Login paths of an SSH server.

use crate::authentication::accounts::all_locked;
use crate::authentication::factors::Factors;
use crate::authentication::pam_stack::{is_remote_knowledge, lines_of_service};
use crate::authentication::service::of_service;
use std::cell::LazyCell;
use std::collections::BTreeSet;
use trevlin_estate::assemble::Estate;
use trevlin_model::FactorKind;
use trevlin_model::ssh::{SshConnection, SshServer};

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
    let facts = &estate.devices[device];
    // Modules that verify passwords of other accounts than those of passwd(5).
    let local_only =
        || lines_of_service(facts, "sshd").is_ok_and(|lines| !lines.into_iter().any(is_remote_knowledge));
    let locked = LazyCell::new(|| all_locked(facts, server, connection));
    let one = |kind: FactorKind, keyword: &str| {
        Factors::known(BTreeSet::from([kind]), place(keyword).into_iter().collect())
    };
    // Both methods that use PAM have the same stack.
    let pam = LazyCell::new(|| {
        let factors = of_service(estate, device, "sshd", place("usepam").unwrap_or(server.origin))?;
        let closed = factors.kinds.contains(&FactorKind::Knowledge) && local_only() && *locked;
        (!closed).then_some(factors)
    });
    // The method's own line is cited; the modules' lines prove the factors.
    let stack = |keyword: &str| {
        if !on("usepam") {
            return (!*locked).then(|| one(FactorKind::Knowledge, keyword));
        }
        let mut factors = pam.clone()?;
        factors.lines.splice(0..0, place(keyword));
        Some(factors)
    };
    // A password is what this method transports, whatever else the stack requires (RFC 4252, 8).
    let password = || {
        let mut factors = stack("passwordauthentication")?;
        if factors.undecided.is_some() && factors.kinds.is_empty() && !*locked {
            factors.kinds.insert(FactorKind::Knowledge);
        }
        Some(factors)
    };
    let method = |name: &str| match name.split(':').next().unwrap_or(name) {
        "publickey" if on("pubkeyauthentication") => {
            let (kind, keyword) = public_key(server, connection)?;
            Some(one(kind, keyword))
        }
        "password" if on("passwordauthentication") => password(),
        "keyboard-interactive" if on("kbdinteractiveauthentication") && on("usepam") => {
            stack("kbdinteractiveauthentication")
        }
        "hostbased" => on("hostbasedauthentication")
            .then(|| Factors::known(BTreeSet::new(), place("hostbasedauthentication").into_iter().collect())),
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

/// The factor of the method for public keys, with the keyword that decides: a listed key, or the certificate of an authority where no
/// keys are read; none where it accepts neither (sshd_config(5), AuthorizedKeysFile, TrustedUserCAKeys).
fn public_key(server: &SshServer, connection: &SshConnection<'_>) -> Option<(FactorKind, &'static str)> {
    let is_none = |keyword: &str| {
        let stated = server.stated(keyword, connection);
        stated.is_some_and(|(words, _)| words.first().is_some_and(|word| word == "none"))
    };
    let stated = |keyword: &str| server.stated(keyword, connection).is_some() && !is_none(keyword);
    if !is_none("authorizedkeysfile") || stated("authorizedkeyscommand") {
        return Some((FactorKind::Possession, "pubkeyauthentication"));
    }
    stated("trustedusercakeys").then_some((FactorKind::Certificate, "trustedusercakeys"))
}

/// Factors that several methods require together.
fn together(all: Vec<Factors>) -> Factors {
    let mut found = Factors::known(BTreeSet::new(), Vec::new());
    for one in all {
        found.kinds.extend(one.kinds);
        found.lines.extend(one.lines);
        found.bypassed.extend(one.bypassed);
        found.conditions.extend(one.conditions);
        found.undecided = found.undecided.or(one.undecided);
    }
    found
}

/// The weakest of several login paths.
#[must_use]
pub fn weakest_path(ways: &[SshLoginPath]) -> Option<&SshLoginPath> {
    ways.iter().min_by_key(|way| way.factors.weakness())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::authentication::factors::tests::kinds;
    use crate::testing::estate;

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
            (
                "PermitRootLogin no\nPasswordAuthentication no\nAuthorizedKeysFile none\nTrustedUserCAKeys /etc/ssh/ca.pub\n",
                "publickey:Certificate",
            ),
            ("PermitRootLogin no\nPasswordAuthentication no\nAuthorizedKeysFile none\n", ""),
            (
                "PermitRootLogin no\nPasswordAuthentication no\nTrustedUserCAKeys /etc/ssh/ca.pub\n",
                "publickey:Possession",
            ),
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
