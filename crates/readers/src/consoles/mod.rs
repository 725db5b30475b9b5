//! Screens and pages by which people work on a machine: remote desktops, the console of a server, printers.

pub(crate) mod avahi;
pub(crate) mod cockpit;
pub(crate) mod cups;
pub(crate) mod xrdp;

#[cfg(test)]
mod tests;
