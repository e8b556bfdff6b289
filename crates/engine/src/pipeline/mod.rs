//! A pipeline and what everything that is done with it needs: its ends, its lock and turn, its local state.

pub(crate) mod context;
pub(crate) mod ends;
pub(crate) mod error;
pub(crate) mod forms;
pub(crate) mod keeper;
pub(crate) mod lock;
pub(crate) mod mappers;
pub(crate) mod measuring;
pub(crate) mod notes;
pub(crate) mod process;
pub(crate) mod select;
pub(crate) mod stop;
pub(crate) mod tidy;
pub(crate) mod turn;
