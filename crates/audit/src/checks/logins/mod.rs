//! Checks of the area `logins`.

pub(super) mod administrator_dials_in;
pub(super) mod client_certificate_not_asked;
pub(super) mod control_without_login;
pub(super) mod database_weak_method;
pub(super) mod database_without_login;
pub(super) mod disk_without_login;
pub(super) mod empty_password;
pub(super) mod everybody_let_in;
pub(super) mod export_to_everybody;
pub(super) mod files_without_login;
pub(super) mod foreign_client_authority;
pub(super) mod generic_login;
pub(super) mod guessing_unlimited;
pub(super) mod login_shared;
pub(super) mod long_local_list;
pub(super) mod management_single_factor;
pub(super) mod monitoring_from_everywhere;
pub(super) mod monitoring_may_change;
pub(super) mod no_group_named;
pub(super) mod radio_by_button;
pub(super) mod radio_open;
pub(super) mod radius_across_outside;
pub(super) mod radius_client_wide;
pub(super) mod radius_unsigned;
pub(super) mod root_shell_password;
pub(super) mod sessions_unlimited;
pub(super) mod shared_key_for_anybody;
pub(super) mod single_factor_shell;
pub(super) mod single_factor_tunnel;
pub(super) mod store_without_login;
pub(super) mod sudo_without_password;
pub(super) mod superuser_kept;
pub(super) mod weak_dial_in_method;
pub(super) mod weak_eap_method;
pub(super) mod weak_ssh_key;

pub(super) use export_to_everybody::subject as export_subject;
pub(super) use files_without_login::capital;

use crate::serving::Subject;
use trevlin_model::served::Part;

/// A rule of a database, told apart from others by its sources.
fn rule_subject(one: Subject<'_>, part: &Part) -> String {
    format!("{} from {}", one.subject(part), part.sources.words())
}
