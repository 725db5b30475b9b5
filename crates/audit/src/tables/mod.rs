//! Rows for the tables that outputs show.

pub mod addresses;
pub mod exposure;
pub mod intents;
pub mod rules;
pub mod services;
pub mod tunnels;
pub mod unread;
