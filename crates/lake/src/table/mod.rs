//! One lake table: its log, its files and the keys in them, and changing it. The main types are [`Table`], a table that is open for
//! changing, and [`work::Work`], what is done to it before a commit.

pub(crate) mod compact;
pub(crate) mod find;
pub(crate) mod finish;
pub(crate) mod key_cache;
pub(crate) mod log;
pub(crate) mod open;
pub(crate) mod scan;
pub(crate) mod sorted;
pub(crate) mod vacuum;
pub(crate) mod work;

pub(crate) use open::{KeyOf, Table};
