//! Authentication factors that a login path requires: the result of a PAM stack, or of an SSH server.

mod accounts;
mod conditions;
mod factors;
mod pam;
mod pam_conditions;
mod pam_stack;
mod pam_walk;
mod radius;
mod service;
mod sources;
mod ssh;
pub mod tunnels;

pub use accounts::{Passwords, all_locked};
pub use conditions::{METHODS, ShellCondition, conditions};
pub use factors::{Factors, Undecided};
pub use pam::provide_pam;
pub use pam_conditions::{PamCondition, sentence};
pub use pam_stack::{MissingService, further_factor, is_further_factor, lines_of_service};
pub use radius::of_radius;
pub use service::of_service;
pub use sources::of_source;
pub use ssh::{SshLoginPath, ssh_login_paths, weakest_path};
pub use tunnels::{PppAuthentication, login_paths, logins_of, of_tls_based, server_names};
