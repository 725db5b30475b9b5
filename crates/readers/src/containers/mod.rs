//! Containers: Compose files, what the engines print of running containers, units of Quadlet, and the settings of the engines.

pub(crate) mod compose;
pub(crate) mod engine;
pub(crate) mod inspect;
mod ports;
pub(crate) mod quadlet;
mod variables;

/// Whether a variable of a container holds a secret.
fn is_secret(name: &str, value: &str) -> bool {
    crate::announced::is_secret_variable(name, value)
}
