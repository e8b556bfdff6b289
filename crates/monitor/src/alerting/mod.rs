//! Alerts on their way: from what a run keeps in the state store to receivers. What is raised and cleared is decided in
//! `moorage_core::watch::alerts`; here it is remembered, queued and sent.

mod mail;
pub(crate) mod message;
mod program;
pub(crate) mod receiver;
mod secrets;
pub(crate) mod seen;
pub(crate) mod sending;
pub(crate) mod service;
#[cfg(test)]
mod tests;
mod tls;
mod webhook;
