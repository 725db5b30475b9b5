//! Settings by which Samba lets clients in by outdated or unsafe means (smb.conf(5)).

use super::values::{Share, Values, get, yes};
use crate::serving::truth;
use trevlin_model::Origin;
use trevlin_model::served::ServiceWeakness;

/// Settings that let clients in by outdated or unsafe means. Each has a safe default since Samba 4.8.
pub(super) fn of<'s>(
    global: &Values,
    shares: impl Iterator<Item = &'s Share>,
) -> Vec<(ServiceWeakness, Origin)> {
    let on = |key: &str, wanted: bool| yes(global, key).filter(|one| one.0 == wanted).map(|one| one.1);
    let mut found = Vec::new();
    found.extend(on("lanmanauth", true).map(|line| (ServiceWeakness::Lanman, line)));
    let ntlm = get(global, "ntlmauth")
        .filter(|(word, _)| truth(word) == Some(true) || word.eq_ignore_ascii_case("ntlmv1-permitted"));
    found.extend(ntlm.map(|(_, line)| (ServiceWeakness::NtlmOne, line)));
    found.extend(on("nullpasswords", true).map(|line| (ServiceWeakness::NullPasswords, line)));
    found.extend(on("encryptpasswords", false).map(|line| (ServiceWeakness::ClearPasswords, line)));
    // Only controllers of a domain serve Netlogon.
    let controls = get(global, "serverrole")
        .is_some_and(|(role, _)| role.to_ascii_lowercase().contains("controller"))
        || on("domainlogons", true).is_some();
    let open = get(global, "serverschannel")
        .filter(|(word, _)| controls && (truth(word) == Some(false) || word.eq_ignore_ascii_case("auto")));
    found.extend(open.map(|(_, line)| (ServiceWeakness::OpenNetlogon, line)));
    // Where clients can make links (the extensions for UNIX, on by default), wide ones need this setting as well.
    let insecure = on("allowinsecurewidelinks", true).filter(|_| on("unixextensions", false).is_none());
    let wide = on("widelinks", true).or_else(|| {
        shares
            .into_iter()
            .find_map(|share| yes(&share.values, "widelinks").filter(|one| one.0).map(|one| one.1))
    });
    found.extend(insecure.zip(wide).map(|(line, _)| (ServiceWeakness::WideLinks, line)));
    found
}
