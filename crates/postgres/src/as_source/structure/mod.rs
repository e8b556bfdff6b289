//! Following a table's structure along its log, in order with its rows.
//!
//! The stream tells names and types of columns in front of rows, and nothing of a change without rows behind it. The
//! catalogue numbers columns for good (`attnum`; PostgreSQL manual, section 53.7), and has only the newest state. What
//! happened between two looks at the catalogue is known where exactly one series of changes fits both looks and the
//! stream; where none or several do, nothing is guessed.
//!
//! - `state`: a structure with its numbers, as the catalogue shows it or as it was told between two looks
//! - `fit`: which columns a message of the stream is about
//! - `catalogue`: what the catalogue says, read anew only where it has changed
//! - `looks`: looks at the catalogue, kept until the stream has come past them
//! - `types`: what columns' types are made of
//! - `room`: names that are handed from table to table
//! - `event`: an event trigger that tells of changes in the log, where an administrator has made it
//! - `written`: structures as a source writes them down about itself
//! - `table`: one table on its way from look to look

pub(crate) mod catalogue;
pub(crate) mod event;
pub(crate) mod fit;
pub(crate) mod looks;
pub(crate) mod room;
pub(crate) mod state;
pub(crate) mod table;
pub(crate) mod types;
pub(crate) mod written;
