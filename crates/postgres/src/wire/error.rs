//! The server's errors in our terms.

use crate::wire::link::tls_words;
use fallible_iterator::FallibleIterator;
use moorage_adapter::{AdapterError, Doing, Layer};
use postgres_protocol::message::backend::ErrorResponseBody;
use tokio_postgres::error::{DbError, SqlState};

/// The most of a text of a server's that is kept, in bytes: it may hold a whole row, or be meant to fill a disk.
const MOST_WORDS: usize = 4096;

/// A server's text, cut to what people read.
pub(crate) fn bounded(text: &str) -> String {
    if text.len() <= MOST_WORDS {
        return text.to_string();
    }
    let end = (0..=MOST_WORDS).rev().find(|at| text.is_char_boundary(*at)).unwrap_or_default();
    format!("{}… ({} bytes in all)", &text[..end], text.len())
}

/// What a server said of a statement, in its words alone.
pub(crate) fn words(error: &tokio_postgres::Error) -> String {
    error.as_db_error().map_or_else(|| error.to_string(), |db| bounded(db.message()))
}

/// The parts of a server's error message that we look at.
#[derive(Clone, Debug, Default)]
pub(crate) struct ServerError {
    pub(crate) code: String,
    pub(crate) message: String,
    pub(crate) detail: String,
    pub(crate) hint: String,
    pub(crate) context: String,
}

impl ServerError {
    /// Reads the fields of an ErrorResponse (PostgreSQL manual, section 55.8).
    pub(crate) fn read(body: &ErrorResponseBody) -> Self {
        let mut error = Self::default();
        let mut fields = body.fields();
        while let Ok(Some(field)) = fields.next() {
            let value = bounded(&String::from_utf8_lossy(field.value_bytes()));
            match field.type_() {
                b'C' => error.code = value,
                b'M' => error.message = value,
                b'D' => error.detail = value,
                b'H' => error.hint = value,
                b'W' => error.context = value,
                _ => {}
            }
        }
        error
    }

    fn from_db(error: &DbError) -> Self {
        Self {
            code: error.code().code().to_string(),
            message: bounded(error.message()),
            detail: bounded(error.detail().unwrap_or_default()),
            hint: bounded(error.hint().unwrap_or_default()),
            context: bounded(error.where_().unwrap_or_default()),
        }
    }

    pub(crate) fn text(&self) -> String {
        [&self.message, &self.detail, &self.hint, &self.context]
            .into_iter()
            .filter(|t| !t.is_empty())
            .map(String::as_str)
            .collect::<Vec<_>>()
            .join("; ")
    }

    /// Whether the server is going away or gave up on the connection (classes 08 and 57P).
    fn ends_connection(&self) -> bool {
        self.code.starts_with("08") || matches!(self.code.as_str(), "57P01" | "57P02" | "57P03")
    }

    /// Whether others were in the way: serialization failure, deadlock, lock time-out, statement time-out; or whether
    /// there is no room: disk, memory, connections, or another limit of the server (PostgreSQL manual, appendix A).
    fn is_about_others(&self) -> bool {
        matches!(self.code.as_str(), "40001" | "40P01" | "55P03" | "57014") || self.code.starts_with("53")
    }

    /// Turns it into an error of ours, with the way out where one is known.
    pub(crate) fn into_adapter(self, address: &str, doing: impl Into<Doing>) -> AdapterError {
        let doing = doing.into();
        if self.code == "22021" {
            let way_out = "a text in the database is not valid UTF-8. Mend the row in the source, then run `moorage resnapshot --all`: the log still holds the text as it was";
            return AdapterError::refused(doing, format!("{}; {way_out}", self.text()));
        }
        if self.code == "42704" && self.message.starts_with("publication") {
            let way_out = "a slot cannot go on without the publication it was made after, also not with a new one. Run `moorage resnapshot --all`, then `moorage run`";
            return AdapterError::refused(doing, format!("{}; {way_out}", self.text()));
        }
        if self.code == "42P01" && doing.operation == MERGING {
            let way_out =
                "the target table was removed by someone: `moorage resnapshot` for its table makes it anew";
            return AdapterError::refused(doing, format!("{}; {way_out}", self.text()));
        }
        if self.code == "42704" && doing.operation == COPYING_SLOT {
            let way_out = "the changes since the target's checkpoint are gone with it: run `moorage resnapshot --all`, then `moorage run`";
            return AdapterError::refused(doing, format!("{}; {way_out}", self.text()));
        }
        if self.code == "42501" && self.text().contains("for table") {
            let way_out = "let an administrator run what `moorage check --sql target` (or `source`) prints, or grant it by hand, as the owner: GRANT SELECT, INSERT, UPDATE, DELETE ON … TO …";
            return AdapterError::refused(doing, format!("{}; {way_out}", self.text()));
        }
        if self.ends_connection() {
            return AdapterError::Lost { address: address.into(), reason: self.text() };
        }
        if self.is_about_others() {
            return AdapterError::Busy { doing, reason: self.text() };
        }
        AdapterError::refused(doing, self.text())
    }

    /// What a refused log-in means.
    pub(crate) fn into_connect(self, address: &str) -> AdapterError {
        let layer = match self.code.as_str() {
            "3D000" => Layer::Database,
            code if code.starts_with("28") => Layer::LogIn,
            "42501" => Layer::LogIn,
            "57P03" | "53300" => Layer::Network,
            _ => Layer::Database,
        };
        let mut reason = self.text();
        if self.message.contains(" set role ") {
            reason.push_str("; `role` in the project file names a role that this user is no member of: an administrator grants it with GRANT … TO …");
        }
        AdapterError::Connect { address: address.into(), layer, reason }
    }
}

/// Writing a batch into a table.
pub(crate) const MERGING: &str = "merging into table";
/// Making a second slot from the pipeline's own.
pub(crate) const COPYING_SLOT: &str = "copying slot";

/// Wraps an error of a statement.
pub(crate) fn statement_error(
    address: &str,
    doing: impl Into<Doing>,
    error: &tokio_postgres::Error,
) -> AdapterError {
    let doing = doing.into();
    match error.as_db_error() {
        Some(db) => ServerError::from_db(db).into_adapter(address, doing),
        None if error.is_closed() => {
            AdapterError::Lost { address: address.into(), reason: "closed by the server".into() }
        }
        None => {
            let reason =
                std::error::Error::source(error).map_or_else(|| error.to_string(), ToString::to_string);
            AdapterError::Lost { address: address.into(), reason: format!("{doing}: {reason}") }
        }
    }
}

/// Said where a server asks for a password that nobody gave.
pub(crate) const PASSWORD_MISSING: &str = "the server asks for a password, and the project file gives none";
/// Said where a log-in must be bound to its channel, and is not.
pub(crate) const UNBOUND: &str = "channel_binding = \"require\", and the server lets us in without: it needs a scram-sha-256 line for this user in pg_hba.conf, and a password that was set with password_encryption = scram-sha-256";

/// Wraps an error of logging in.
pub(crate) fn log_in_error(address: &str, error: &tokio_postgres::Error) -> AdapterError {
    if let Some(db) = error.as_db_error() {
        return ServerError::from_db(db).into_connect(address);
    }
    let source = std::error::Error::source(error);
    if let Some(io) = source.and_then(|s| s.downcast_ref::<std::io::Error>()) {
        return AdapterError::Connect { address: address.into(), layer: Layer::LogIn, reason: tls_words(io) };
    }
    // The client library has no kinds for these; its words are in its tests.
    let reason = match source.map_or_else(|| error.to_string(), |s| s.to_string()).as_str() {
        "password missing" => PASSWORD_MISSING.to_string(),
        "server did not use channel binding" => UNBOUND.to_string(),
        words => words.to_string(),
    };
    AdapterError::Connect { address: address.into(), layer: Layer::LogIn, reason }
}

/// Whether the server said that a right is missing.
pub(crate) fn is_missing_right(error: &tokio_postgres::Error) -> bool {
    error.code() == Some(&SqlState::INSUFFICIENT_PRIVILEGE)
}
