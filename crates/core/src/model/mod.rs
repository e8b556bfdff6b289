//! What tables, names, types and positions are: the words that everything above speaks in.

pub mod described;
pub mod drift;
pub mod finding;
pub mod gathered;
pub mod kept_as;
pub mod name;
pub mod near;
pub mod policy;
pub mod position;
pub mod schema;
pub mod sql;
pub mod structure;
pub mod types;
pub mod visible;
pub mod words;
