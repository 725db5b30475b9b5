//! The checks: one file each, in the folder of its area.

use crate::check::Check;
use crate::{addresses, ciphers, exposure, logins, rules, secrets, tunnels, upkeep};
use trevlin_estate::config::UnknownCheck;

/// Every check, in order of id.
pub const CHECKS: &[&Check] = &[
    &addresses::address_kept_twice::CHECK,
    &addresses::dhcp_range_shared::CHECK,
    &addresses::inside_common_at_home::CHECK,
    &addresses::ipv6_around_tunnel::CHECK,
    &addresses::no_route_back::CHECK,
    &addresses::pool_in_connected_network::CHECK,
    &addresses::pool_in_foreign_space::CHECK,
    &addresses::pool_oversized::CHECK,
    &addresses::pool_too_small::CHECK,
    &addresses::pools_overlap::CHECK,
    &addresses::range_beyond_network::CHECK,
    &addresses::range_malformed::CHECK,
    &addresses::remote_network_overlaps::CHECK,
    &addresses::same_network_at_two_sites::CHECK,
    &addresses::stored_addresses_differ::CHECK,
    &addresses::used_address_handed_out::CHECK,
    &ciphers::database_in_clear::CHECK,
    &ciphers::early_tls::CHECK,
    &ciphers::files_in_clear::CHECK,
    &ciphers::log_in_clear::CHECK,
    &ciphers::long_lifetime::CHECK,
    &ciphers::monitoring_in_clear::CHECK,
    &ciphers::no_forward_secrecy::CHECK,
    &ciphers::no_quantum_resistance::CHECK,
    &ciphers::old_fallback::CHECK,
    &ciphers::old_radio_protection::CHECK,
    &ciphers::old_share_dialect::CHECK,
    &ciphers::page_not_redirected::CHECK,
    &ciphers::password_in_clear::CHECK,
    &ciphers::share_unsigned::CHECK,
    &ciphers::weak_encryption::CHECK,
    &ciphers::weak_integrity::CHECK,
    &ciphers::weak_key_exchange::CHECK,
    &exposure::answers_ping::CHECK,
    &exposure::clock_status_open::CHECK,
    &exposure::database_from_outside::CHECK,
    &exposure::desktop_from_outside::CHECK,
    &exposure::directory_listing::CHECK,
    &exposure::disk_reached::CHECK,
    &exposure::dynamic_name_token::CHECK,
    &exposure::files_from_outside::CHECK,
    &exposure::forward_blocked::CHECK,
    &exposure::forward_to_inside::CHECK,
    &exposure::forward_to_nobody::CHECK,
    &exposure::forward_unserved::CHECK,
    &exposure::industrial_from_outside::CHECK,
    &exposure::listener_unexplained::CHECK,
    &exposure::listens_beyond_rules::CHECK,
    &exposure::listens_everywhere::CHECK,
    &exposure::management_from_outside::CHECK,
    &exposure::management_page_open::CHECK,
    &exposure::obsolete_tunnel_from_outside::CHECK,
    &exposure::open_by_one_version::CHECK,
    &exposure::open_resolver::CHECK,
    &exposure::opened_unexplained::CHECK,
    &exposure::outside_unfiltered::CHECK,
    &exposure::plain_text_from_outside::CHECK,
    &exposure::portal_from_outside::CHECK,
    &exposure::ports_on_request::CHECK,
    &exposure::recordings_reached::CHECK,
    &exposure::reflector_from_outside::CHECK,
    &exposure::service_not_running::CHECK,
    &exposure::service_unused::CHECK,
    &exposure::shell_from_outside::CHECK,
    &exposure::status_page_open::CHECK,
    &exposure::zone_transfer_open::CHECK,
    &logins::administrator_dials_in::CHECK,
    &logins::client_certificate_not_asked::CHECK,
    &logins::control_without_login::CHECK,
    &logins::database_weak_method::CHECK,
    &logins::database_without_login::CHECK,
    &logins::disk_without_login::CHECK,
    &logins::empty_password::CHECK,
    &logins::everybody_let_in::CHECK,
    &logins::export_to_everybody::CHECK,
    &logins::files_without_login::CHECK,
    &logins::foreign_client_authority::CHECK,
    &logins::generic_login::CHECK,
    &logins::guessing_unlimited::CHECK,
    &logins::login_shared::CHECK,
    &logins::long_local_list::CHECK,
    &logins::management_single_factor::CHECK,
    &logins::monitoring_from_everywhere::CHECK,
    &logins::monitoring_may_change::CHECK,
    &logins::no_group_named::CHECK,
    &logins::radio_by_button::CHECK,
    &logins::radio_open::CHECK,
    &logins::radius_across_outside::CHECK,
    &logins::radius_client_wide::CHECK,
    &logins::radius_unsigned::CHECK,
    &logins::root_shell_password::CHECK,
    &logins::sessions_unlimited::CHECK,
    &logins::shared_key_for_anybody::CHECK,
    &logins::single_factor_shell::CHECK,
    &logins::single_factor_tunnel::CHECK,
    &logins::store_without_login::CHECK,
    &logins::sudo_without_password::CHECK,
    &logins::superuser_kept::CHECK,
    &logins::weak_dial_in_method::CHECK,
    &logins::weak_eap_method::CHECK,
    &logins::weak_ssh_key::CHECK,
    &rules::accept_not_logged::CHECK,
    &rules::accepts_everything::CHECK,
    &rules::callers_reach_everything::CHECK,
    &rules::callers_reach_management::CHECK,
    &rules::callers_relayed_outside::CHECK,
    &rules::deny_after_accept::CHECK,
    &rules::every_service::CHECK,
    &rules::export_wide::CHECK,
    &rules::forward_unfiltered::CHECK,
    &rules::less_than_intended::CHECK,
    &rules::list_unused::CHECK,
    &rules::more_than_intended::CHECK,
    &rules::never_met::CHECK,
    &rules::not_reached::CHECK,
    &rules::one_version_unfiltered::CHECK,
    &rules::redirects_taken::CHECK,
    &rules::sites_unfiltered::CHECK,
    &rules::source_unchecked::CHECK,
    &secrets::certificate_expired::CHECK,
    &secrets::certificate_names::CHECK,
    &secrets::certificate_unverifiable::CHECK,
    &secrets::certificate_weak::CHECK,
    &secrets::password_kept_in_clear::CHECK,
    &secrets::password_logged::CHECK,
    &secrets::private_key_in_clear::CHECK,
    &secrets::saved_password::CHECK,
    &secrets::secret_reused::CHECK,
    &secrets::weak_login_password::CHECK,
    &secrets::weak_password_hash::CHECK,
    &secrets::weak_pre_shared_key::CHECK,
    &secrets::weak_service_secret::CHECK,
    &secrets::weak_shared_secret::CHECK,
    &tunnels::aggressive_mode::CHECK,
    &tunnels::callers_talk::CHECK,
    &tunnels::compression::CHECK,
    &tunnels::control_channel_open::CHECK,
    &tunnels::dial_in_unencrypted::CHECK,
    &tunnels::ends_disagree::CHECK,
    &tunnels::ikev1_answers::CHECK,
    &tunnels::kept_out_swallows::CHECK,
    &tunnels::l2tp_in_the_open::CHECK,
    &tunnels::local_network_kept::CHECK,
    &tunnels::names_left_outside::CHECK,
    &tunnels::netbios::CHECK,
    &tunnels::no_liveness::CHECK,
    &tunnels::old_beside_new::CHECK,
    &tunnels::peer_too_wide::CHECK,
    &tunnels::peers_overlap::CHECK,
    &tunnels::plain_encapsulation::CHECK,
    &tunnels::pptp_answers::CHECK,
    &tunnels::public_resolver::CHECK,
    &tunnels::relay::CHECK,
    &tunnels::sends_not_as_wanted::CHECK,
    &tunnels::server_not_verified::CHECK,
    &tunnels::static_key::CHECK,
    &upkeep::clock_alone::CHECK,
    &upkeep::export_incomplete::CHECK,
    &upkeep::left_to_device::CHECK,
    &upkeep::list_missing::CHECK,
    &upkeep::log_stays::CHECK,
    &upkeep::stored_rules_differ::CHECK,
    &upkeep::temporary_rule::CHECK,
];

/// The check with this id.
#[must_use]
pub fn find(id: &str) -> Option<&'static Check> {
    CHECKS.iter().copied().find(|check| check.id == id)
}

/// The id of a check that a file of the user names.
///
/// # Errors
/// What to do, when there is none.
pub fn known(id: &str) -> Result<&'static str, UnknownCheck> {
    let unknown = || UnknownCheck { id: id.to_owned(), near: similar(id).first().copied() };
    find(id).map(|check| check.id).ok_or_else(unknown)
}

/// Ids near a mistyped one, the nearest first.
#[must_use]
pub fn similar(id: &str) -> Vec<&'static str> {
    let mut near: Vec<_> = CHECKS
        .iter()
        .map(|check| {
            let name = check.id.split_once('/').map_or(check.id, |(_, name)| name);
            (strsim::jaro_winkler(id, check.id).max(strsim::jaro_winkler(id, name)), check.id)
        })
        .filter(|(score, _)| *score > 0.75)
        .collect();
    near.sort_by(|a, b| b.0.total_cmp(&a.0));
    // A name that is much nearer than the others is the one that was meant.
    let best = near.first().map_or(0.0, |(score, _)| *score);
    near.retain(|(score, _)| *score > best - 0.1);
    near.into_iter().take(3).map(|(_, id)| id).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::path::Path;
    use trevlin_estate::area::Area;

    #[test]
    fn checks_are_sorted_unique_and_complete() {
        let ids: Vec<_> = CHECKS.iter().map(|check| check.id).collect();
        let mut sorted = ids.clone();
        sorted.sort_unstable();
        sorted.dedup();
        assert_eq!(ids, sorted);
        for check in CHECKS {
            let (area, name) = check.id.split_once('/').unwrap();
            assert_eq!(area, check.area.word(), "{}", check.id);
            assert!(
                name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-'),
                "{}",
                check.id
            );
            let sentences = check.why.matches(". ").count() + 1;
            assert!(
                (2..=4).contains(&sentences) && check.why.ends_with('.'),
                "{}: {sentences} sentences",
                check.id
            );
            assert!(
                !check.fix.is_empty() && !check.judged.is_empty() && check.cited().words().next().is_some(),
                "{}",
                check.id
            );
        }
    }

    /// A file that nobody registered is a check that never runs.
    #[test]
    fn every_file_of_a_check_is_registered() {
        let sources = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
        let (mut missing, mut found) = (Vec::new(), 0);
        for area in Area::ALL {
            for entry in fs::read_dir(sources.join(area.word())).unwrap() {
                let path = entry.unwrap().path();
                if !fs::read_to_string(&path).unwrap().contains("const CHECK: Check") {
                    continue;
                }
                found += 1;
                let stem = path.file_stem().unwrap().to_string_lossy().into_owned();
                let id = format!("{}/{}", area.word(), stem.replace('_', "-"));
                if find(&id).is_none() {
                    missing.push(format!(
                        "src/{0}/{stem}.rs: its id is to be `{id}`; `mod {stem}` belongs in src/{0}/mod.rs, and \
                         `&{0}::{stem}::CHECK` in src/registry.rs",
                        area.word()
                    ));
                }
            }
        }
        assert!(missing.is_empty(), "{}", missing.join("\n"));
        assert_eq!(found, CHECKS.len());
    }

    /// A check that no case shows wrong or unclear is one that nobody has seen at work.
    #[test]
    fn every_check_says_something_in_its_cases() {
        let texts = Path::new(env!("CARGO_MANIFEST_DIR")).join("texts");
        let silent: Vec<&str> = CHECKS
            .iter()
            .map(|check| check.id)
            .filter(|id| !texts.join(format!("{id}.txt")).exists())
            .collect();
        assert!(silent.is_empty(), "no case in the file of the check fails or asks: {silent:?}");
    }

    #[test]
    fn mistyped_ids_find_their_check() {
        assert_eq!(similar("tunnels/pptp-answer")[0], "tunnels/pptp-answers");
        assert_eq!(similar("pool-overlap")[0], "addresses/pools-overlap");
        assert!(similar("xyzzy").is_empty());
    }
}
