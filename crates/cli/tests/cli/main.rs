//! Tests of the built program, run on files in temporary folders.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod addresses;
mod appliances;
mod archives;
mod audit;
mod baselines;
mod canaries;
mod collect;
mod common;
mod compare;
mod coverage;
mod demo;
mod dependencies;
mod exposure;
mod five_ways;
#[allow(clippy::disallowed_methods, reason = "that it ends in time is what is tested")]
mod hostile;
mod language;
mod leaks;
mod logins;
mod made_up;
mod manual;
mod phrasebooks;
mod reach;
mod readme;
mod reports;
mod rules;
mod scrub;
mod services;
mod sheets;
mod survey;
mod tunnels;
