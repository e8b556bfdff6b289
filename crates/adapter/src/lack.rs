//! What a source or a target may lack. It is declared, and whoever asks for it nevertheless gets a typed error.

use std::fmt;

/// Something that not every system can do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Lack {
    /// Looking at one state of everything, which comparing both sides needs.
    Looks,
    /// Telling that a table was emptied from so many deletes.
    Truncates,
    /// Telling every change by itself, and the very same ones when it is asked again, of tables whose plans do not ask for that:
    /// it tells what a stretch of them came to.
    EachChange,
    /// Changing rows that are there: it can only append.
    ChangingRows,
    /// Setting changes aside that it refuses.
    SettingAside,
    /// Keeping changes, or versions, and not only the current rows.
    Keeping,
    /// Having the rows of several tables in one.
    Gathering,
    /// Altering the columns of a table that has rows.
    Altering,
}

impl fmt::Display for Lack {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Looks => "its rows cannot be read as of one moment",
            Self::Truncates => "it does not tell that a table was emptied from deletes of its rows",
            Self::EachChange => "it tells what the changes of a stretch came to",
            Self::ChangingRows => "it only appends rows",
            Self::SettingAside => "it sets no changes aside",
            Self::Keeping => "it keeps the current rows alone",
            Self::Gathering => "it has the rows of one table alone in each of its own",
            Self::Altering => "it does not alter the columns of a table that has rows",
        })
    }
}
