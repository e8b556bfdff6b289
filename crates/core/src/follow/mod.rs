//! Following changes: what comes next, decided without a runtime.

pub mod machine;
pub mod reread;

#[cfg(test)]
mod tests;
