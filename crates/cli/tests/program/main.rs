//! The built program on files in a temporary folder, against real servers.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

mod advice;
mod alerting;
mod authority;
mod bad_servers;
mod capturing;
mod checking;
mod choosing;
mod commands;
mod comparing;
mod connections;
mod crashes;
mod demo;
mod drift;
mod drift_killed;
mod drift_policies;
mod drift_random;
mod drift_random_sqlite;
mod drift_types;
mod earlier;
mod encryption;
mod gathering;
mod harness;
mod history;
mod holding;
mod hostile;
mod identities;
mod interfering;
mod joining;
mod keeping;
mod keeping_killed;
mod lagging;
mod lake;
mod load;
mod mapping;
mod one_moment;
mod rejecting;
mod reporting;
mod rereading;
mod serving;
mod set_up;
mod silence;
mod soak;
mod sqlite_random;
mod sqlite_source;
mod structure;
mod tidying;
mod transactions;
mod triggers;
mod values;
mod warehouse;
mod watching;
mod writers;
