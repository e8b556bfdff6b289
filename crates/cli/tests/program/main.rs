//! The built program on files in a temporary folder, against real servers.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

mod commands;
mod connections;
mod crashes;
mod harness;
mod history;
mod identities;
mod set_up;
mod structure;
mod transactions;
mod values;
