//! Alerts: who is to be told what, from how pipelines are seen to stand. Everything is handed in: what is seen, what is
//! remembered, the time. What comes out are messages; sending them is for others.

pub mod conditions;
pub mod seen;
pub mod step;
#[cfg(test)]
mod tests;
