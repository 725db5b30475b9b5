//! Checks of the area `logins`.

pub(super) mod accept_all;
pub(super) mod additional_superuser;
pub(super) mod administrator_remote_access;
pub(super) mod broker_unauthenticated;
pub(super) mod client_certificate_not_required;
pub(super) mod container_host_rights;
pub(super) mod control_port_unauthenticated;
pub(super) mod database_unauthenticated;
pub(super) mod database_weak_method;
pub(crate) mod directory_broad_write;
pub(crate) mod directory_hashes_readable;
pub(crate) mod directory_unauthenticated;
pub(super) mod duplicate_certificate_logins;
pub(super) mod empty_password;
pub(super) mod external_client_ca;
pub(super) mod iscsi_unauthenticated;
pub(super) mod login_bypass;
pub(super) mod management_single_factor;
pub(super) mod many_local_accounts;
pub(super) mod nfs_export_any_host;
pub(super) mod nfs_no_root_squash;
pub(super) mod no_group_restriction;
pub(super) mod no_lockout;
pub(super) mod no_revocation;
pub(super) mod no_session_limit;
pub(super) mod permission_undefined;
pub(super) mod psk_any_peer;
pub(super) mod radius_client_network;
pub(super) mod radius_no_message_authenticator;
pub(super) mod radius_untrusted_network;
pub(super) mod root_by_group;
pub(super) mod root_ssh_password;
pub(super) mod second_factor_optional;
pub(super) mod share_unauthenticated;
pub(super) mod shared_account;
pub(super) mod shared_ike_identity;
pub(super) mod single_factor_ssh;
pub(super) mod single_factor_vpn;
pub(super) mod snmp_any_source;
pub(super) mod snmp_write;
pub(super) mod sudo_escape;
pub(super) mod sudo_without_password;
pub(super) mod weak_eap_method;
pub(super) mod weak_ppp_authentication;
pub(super) mod weak_service_login;
pub(super) mod weak_ssh_key;
pub(super) mod wifi_open;
pub(super) mod wifi_wps;

pub(super) use share_unauthenticated::capital;

use std::collections::BTreeSet;
use trevlin_analysis::authentication::{PamCondition, sentence};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::special::{Space, space_of};

/// Names of all remote-access users of an estate.
fn remote_access_users(estate: &EstateMap) -> BTreeSet<&str> {
    let logins = estate.devices.iter().flat_map(|device| &device.logins);
    logins.filter(|login| login.is_remote_access()).map(|login| login.user.as_str()).collect()
}

/// The conditions under which a login is that weak, as a sentence behind others.
fn holds_where(conditions: &[PamCondition]) -> String {
    if conditions.is_empty() { String::new() } else { format!(" This holds where {}.", sentence(conditions)) }
}

/// Why conditions keep most clients off: addresses that are few, or private.
fn only_from(conditions: &[PamCondition], few: u64) -> Option<&'static str> {
    let addresses = conditions.iter().find_map(|one| one.addresses.as_ref())?;
    let count = trevlin_model::total_addresses(&**addresses);
    if addresses.iter().all(|range| matches!(space_of(*range), Space::Private)) {
        Some("it is accepted from private addresses only")
    } else {
        (count <= u128::from(few)).then_some("it is accepted from a few addresses only")
    }
}
