//! Picking tables: patterns on their names, rules for each, names in the target, and what is there to pick.

pub mod naming;
pub mod pattern;
pub mod picker;
pub mod posix;
pub mod rule;
pub mod survey;
