//! From the source's rows to the target's: columns chosen, converted, added and computed, rows filtered.
//!
//! A [`Mapping`](outputs::Mapping) is the plan's description, kept with the table; a [`Mapper`](mapper::Mapper) carries it out over whole
//! columns. Invariant: mapping a table's rows at a position gives what mapping its changes up to there, one by
//! one, leads to. So an update that moves a row into the filter becomes an insert, out of it a delete, and one
//! outside of it nothing. Where the log does not say how the row was before, an update may be about a row that
//! the target does not have; such a block is marked ([`is_blind`](crate::change::block::ChangeBlock::is_blind)).

pub mod mapper;
pub mod outputs;
mod routes;
pub mod snapshot;

#[cfg(test)]
mod tests;
