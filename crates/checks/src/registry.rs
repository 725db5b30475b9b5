//! The checks: one file each, in the folder of its area.

use crate::check::Check;
use crate::{addresses, ciphers, exposure, logins, rules, secrets, tunnels, upkeep};
use trevlin_estate::config::UnknownCheck;

/// Every check, in order of id.
pub const CHECKS: &[&Check] = &[
    &addresses::any_client_address::CHECK,
    &addresses::common_home_range::CHECK,
    &addresses::dhcp_range_overlap::CHECK,
    &addresses::duplicate_reservation::CHECK,
    &addresses::duplicate_site_network::CHECK,
    &addresses::ipv6_bypasses_tunnel::CHECK,
    &addresses::network_overlap::CHECK,
    &addresses::no_return_route::CHECK,
    &addresses::pool_in_connected_network::CHECK,
    &addresses::pool_in_foreign_public_space::CHECK,
    &addresses::pool_oversized::CHECK,
    &addresses::pool_too_small::CHECK,
    &addresses::pools_overlap::CHECK,
    &addresses::pushed_network_absent::CHECK,
    &addresses::range_contains_used_address::CHECK,
    &addresses::range_malformed::CHECK,
    &addresses::range_outside_network::CHECK,
    &addresses::remote_network_overlap::CHECK,
    &addresses::reservation_outside_network::CHECK,
    &addresses::stored_addresses_differ::CHECK,
    &ciphers::copy_unencrypted::CHECK,
    &ciphers::database_unencrypted::CHECK,
    &ciphers::file_transfer_unencrypted::CHECK,
    &ciphers::http_not_redirected::CHECK,
    &ciphers::legacy_cipher_fallback::CHECK,
    &ciphers::legacy_tls::CHECK,
    &ciphers::legacy_wifi_encryption::CHECK,
    &ciphers::login_server_not_verified::CHECK,
    &ciphers::login_source_unencrypted::CHECK,
    &ciphers::long_key_lifetime::CHECK,
    &ciphers::no_forward_secrecy::CHECK,
    &ciphers::no_quantum_resistance::CHECK,
    &ciphers::password_in_transit_unencrypted::CHECK,
    &ciphers::smb_signing_optional::CHECK,
    &ciphers::smb1::CHECK,
    &ciphers::snmp_unencrypted::CHECK,
    &ciphers::syslog_unencrypted::CHECK,
    &ciphers::weak_algorithm_agreed::CHECK,
    &ciphers::weak_encryption::CHECK,
    &ciphers::weak_integrity::CHECK,
    &ciphers::weak_key_exchange::CHECK,
    &exposure::binds_all_interfaces::CHECK,
    &exposure::binds_too_broadly::CHECK,
    &exposure::cloud_relay::CHECK,
    &exposure::container_port::CHECK,
    &exposure::directory_listing::CHECK,
    &exposure::forward_incomplete::CHECK,
    &exposure::internet_facing_database::CHECK,
    &exposure::internet_facing_file_sharing::CHECK,
    &exposure::internet_facing_ics::CHECK,
    &exposure::internet_facing_internal_service::CHECK,
    &exposure::internet_facing_management::CHECK,
    &exposure::internet_facing_plaintext::CHECK,
    &exposure::internet_facing_portal::CHECK,
    &exposure::internet_facing_reflector::CHECK,
    &exposure::internet_facing_remote_desktop::CHECK,
    &exposure::internet_facing_shell::CHECK,
    &exposure::internet_facing_vpn_legacy::CHECK,
    &exposure::iscsi_reachable::CHECK,
    &exposure::listener_unexplained::CHECK,
    &exposure::management_page_open::CHECK,
    &exposure::no_input_filter::CHECK,
    &exposure::ntp_queries_open::CHECK,
    &exposure::open_over_ipv6::CHECK,
    &exposure::open_port_unexplained::CHECK,
    &exposure::open_proxy::CHECK,
    &exposure::open_relay::CHECK,
    &exposure::open_resolver::CHECK,
    &exposure::open_to_every_source::CHECK,
    &exposure::path_leaves_folder::CHECK,
    &exposure::ping::CHECK,
    &exposure::port_forward::CHECK,
    &exposure::port_forward_blocked::CHECK,
    &exposure::port_forward_unassigned::CHECK,
    &exposure::port_forward_unused::CHECK,
    &exposure::recordings_reached::CHECK,
    &exposure::relay_voids_source_limit::CHECK,
    &exposure::relayed_service::CHECK,
    &exposure::service_not_running::CHECK,
    &exposure::service_unused::CHECK,
    &exposure::status_page_open::CHECK,
    &exposure::unexported_host::CHECK,
    &exposure::upnp::CHECK,
    &exposure::zone_transfer_open::CHECK,
    &logins::accept_all::CHECK,
    &logins::additional_superuser::CHECK,
    &logins::administrator_remote_access::CHECK,
    &logins::broker_unauthenticated::CHECK,
    &logins::client_certificate_not_required::CHECK,
    &logins::container_host_rights::CHECK,
    &logins::control_port_unauthenticated::CHECK,
    &logins::database_unauthenticated::CHECK,
    &logins::database_weak_method::CHECK,
    &logins::directory_broad_write::CHECK,
    &logins::directory_hashes_readable::CHECK,
    &logins::directory_unauthenticated::CHECK,
    &logins::duplicate_certificate_logins::CHECK,
    &logins::empty_password::CHECK,
    &logins::external_client_ca::CHECK,
    &logins::iscsi_unauthenticated::CHECK,
    &logins::login_bypass::CHECK,
    &logins::management_single_factor::CHECK,
    &logins::many_local_accounts::CHECK,
    &logins::nfs_export_any_host::CHECK,
    &logins::nfs_no_root_squash::CHECK,
    &logins::no_group_restriction::CHECK,
    &logins::no_lockout::CHECK,
    &logins::no_revocation::CHECK,
    &logins::no_session_limit::CHECK,
    &logins::permission_undefined::CHECK,
    &logins::psk_any_peer::CHECK,
    &logins::radius_client_network::CHECK,
    &logins::radius_no_message_authenticator::CHECK,
    &logins::radius_untrusted_network::CHECK,
    &logins::root_by_group::CHECK,
    &logins::root_ssh_password::CHECK,
    &logins::second_factor_optional::CHECK,
    &logins::share_unauthenticated::CHECK,
    &logins::shared_account::CHECK,
    &logins::shared_ike_identity::CHECK,
    &logins::single_factor_ssh::CHECK,
    &logins::single_factor_vpn::CHECK,
    &logins::snmp_any_source::CHECK,
    &logins::snmp_write::CHECK,
    &logins::sudo_escape::CHECK,
    &logins::sudo_without_password::CHECK,
    &logins::weak_eap_method::CHECK,
    &logins::weak_ppp_authentication::CHECK,
    &logins::weak_service_login::CHECK,
    &logins::weak_ssh_key::CHECK,
    &logins::wifi_open::CHECK,
    &logins::wifi_wps::CHECK,
    &rules::accept_not_logged::CHECK,
    &rules::any_service::CHECK,
    &rules::deny_shadowed::CHECK,
    &rules::double_translation::CHECK,
    &rules::guest_network_inside::CHECK,
    &rules::icmp_redirects::CHECK,
    &rules::ineffective_restriction::CHECK,
    &rules::input_accepts_by_default::CHECK,
    &rules::intent_exceeded::CHECK,
    &rules::intent_missing::CHECK,
    &rules::interface_without_list::CHECK,
    &rules::nfs_export_broad::CHECK,
    &rules::no_forward_filter::CHECK,
    &rules::no_source_validation::CHECK,
    &rules::one_ip_version_unfiltered::CHECK,
    &rules::permit_any_any::CHECK,
    &rules::shadowed::CHECK,
    &rules::site_tunnel_unfiltered::CHECK,
    &rules::source_port_trusted::CHECK,
    &rules::unreachable_chain::CHECK,
    &rules::unused_filter::CHECK,
    &rules::vpn_reaches_management::CHECK,
    &rules::vpn_relay::CHECK,
    &rules::vpn_unrestricted::CHECK,
    &secrets::certificate_expired::CHECK,
    &secrets::certificate_factory_default::CHECK,
    &secrets::certificate_name_mismatch::CHECK,
    &secrets::certificate_self_signed::CHECK,
    &secrets::certificate_shared::CHECK,
    &secrets::certificate_weak::CHECK,
    &secrets::client_key_on_server::CHECK,
    &secrets::dynamic_dns_token::CHECK,
    &secrets::password_logged::CHECK,
    &secrets::password_stored_in_clear::CHECK,
    &secrets::private_key_unencrypted::CHECK,
    &secrets::saved_password::CHECK,
    &secrets::secret_reused::CHECK,
    &secrets::weak_code_seed::CHECK,
    &secrets::weak_login_password::CHECK,
    &secrets::weak_password_hash::CHECK,
    &secrets::weak_pre_shared_key::CHECK,
    &secrets::weak_radius_secret::CHECK,
    &secrets::weak_service_secret::CHECK,
    &tunnels::client_to_client::CHECK,
    &tunnels::compression::CHECK,
    &tunnels::exclusions_too_wide::CHECK,
    &tunnels::ike_aggressive_mode::CHECK,
    &tunnels::ikev1::CHECK,
    &tunnels::internal_dns_not_pushed::CHECK,
    &tunnels::l2tp_without_ipsec::CHECK,
    &tunnels::legacy_protocol_enabled::CHECK,
    &tunnels::local_lan_access::CHECK,
    &tunnels::netbios::CHECK,
    &tunnels::no_control_channel_key::CHECK,
    &tunnels::no_dead_peer_detection::CHECK,
    &tunnels::no_dns_domain::CHECK,
    &tunnels::peer_addresses_overlap::CHECK,
    &tunnels::peer_addresses_too_broad::CHECK,
    &tunnels::policy_bypasses_tunnel::CHECK,
    &tunnels::ppp_encryption_optional::CHECK,
    &tunnels::pptp::CHECK,
    &tunnels::public_dns_pushed::CHECK,
    &tunnels::relay_bypasses_filter::CHECK,
    &tunnels::server_certificate_not_verified::CHECK,
    &tunnels::several_legacy_protocols::CHECK,
    &tunnels::site_mismatch::CHECK,
    &tunnels::split_tunnel_policy::CHECK,
    &tunnels::static_key::CHECK,
    &tunnels::unencrypted_encapsulation::CHECK,
    &tunnels::unused_client_kind::CHECK,
    &upkeep::expired_exception::CHECK,
    &upkeep::export_incomplete::CHECK,
    &upkeep::filter_incomplete::CHECK,
    &upkeep::filter_not_loaded::CHECK,
    &upkeep::no_remote_logging::CHECK,
    &upkeep::no_time_source::CHECK,
    &upkeep::protection_switched_off::CHECK,
    &upkeep::referenced_list_missing::CHECK,
    &upkeep::running_filter_differs::CHECK,
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
/// The remedy, when there is none.
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
    // A name that is much closer than the others is the intended one.
    let best = near.first().map_or(0.0, |(score, _)| *score);
    near.retain(|(score, _)| *score > best - 0.1);
    near.into_iter().take(3).map(|(_, id)| id).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;
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

    /// Titles are short headings: under 70 characters, with a capital first letter or a name, without a full stop.
    #[test]
    fn titles_are_headings() {
        for check in CHECKS {
            let title = check.title;
            let name = ["iSCSI", "sudo"].iter().any(|name| title.starts_with(name));
            assert!(title.chars().count() < 70, "{}: {title}", check.id);
            assert!(name || title.starts_with(char::is_uppercase), "{}: {title}", check.id);
            assert!(!title.ends_with('.'), "{}: {title}", check.id);
        }
    }

    /// An unregistered file is a check that never runs.
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

    /// A check without a failing or undetermined case is untested.
    /// A secret that is one of these words is not masked in sentences, where the gap would tell it.
    #[test]
    fn the_words_of_all_checks_are_known_as_such() {
        let mut missing = BTreeSet::new();
        for check in CHECKS {
            for text in [check.title, check.why, check.fix, check.judged] {
                // Names in code are no words of sentences.
                let prose = text.split('`').step_by(2).collect::<Vec<_>>().join(" ");
                let words =
                    prose.split(|sign: char| !sign.is_ascii_alphabetic()).filter(|word| word.len() > 3);
                let is_word = |word: &&str| word[1..].bytes().all(|byte| byte.is_ascii_lowercase());
                let words = words.filter(is_word).filter(|word| !trevlin_model::secret::is_own_word(word));
                missing.extend(words.map(str::to_lowercase));
            }
        }
        assert!(missing.is_empty(), "add to crates/model/tables/own-words.toml: {missing:?}");
    }

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

    /// The texts record what makes a passing case right: a line, a documented default, or the estate file.
    #[test]
    fn every_check_has_a_passing_case_with_its_evidence() {
        let texts = Path::new(env!("CARGO_MANIFEST_DIR")).join("texts");
        let passes = |id: &&str| {
            let text = std::fs::read_to_string(texts.join(format!("{id}.txt"))).unwrap_or_default();
            text.lines().any(|line| line.strip_prefix("pass ").is_some_and(|rest| rest.contains(':')))
        };
        let without: Vec<&str> = CHECKS.iter().map(|check| check.id).filter(|id| !passes(id)).collect();
        assert!(without.is_empty(), "no passing case: {without:?}");
    }

    #[test]
    fn mistyped_ids_find_their_check() {
        assert_eq!(similar("tunnels/pptp-answer")[0], "tunnels/pptp");
        assert_eq!(similar("pool-overlap")[0], "addresses/pools-overlap");
        assert!(similar("xyzzy").is_empty());
    }
}
