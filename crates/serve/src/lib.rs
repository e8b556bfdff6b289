//! Figures of the pipelines that a process runs, by HTTP: `/metrics` for whoever collects them, `/healthz` and `/readyz` for whoever
//! keeps programs alive, `/status` for people's own programs.
//!
//! What is served is what runs publish in the state store; only `/status` asks the target, too. No request slows a run: there are
//! few at a time, and each is bounded in size and time.

mod answers;
mod encode;
mod figures;
mod server;

pub use server::{ServeError, Serving, serve};
