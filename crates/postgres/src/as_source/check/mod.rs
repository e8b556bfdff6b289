//! What `check` looks at in a source. Wherever that can be done beside a live run, a thing is tried and undone
//! rather than read from a setting.

mod at;
mod rights;
pub(crate) mod script;
mod server;
mod tables;

use crate::as_source::catalog::IdentityBy;
use crate::as_source::check::at::{Check, Managed};
use crate::as_source::named::Point;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::protection;
use moorage_adapter::{Inspected, Result};
use moorage_core::model::finding::{End, Finding};

/// Looks at everything that capturing needs.
pub(crate) async fn inspect(
    address: &PostgresAddress,
    session: &Session,
    capture: &Point,
    inspected: &Inspected<'_>,
    by: IdentityBy,
) -> Result<Vec<Finding>> {
    let managed = Managed::of(session).await?;
    let check = Check { address, session, capture, inspected, by, managed };
    let now = chrono::Utc::now().timestamp();
    let mut found = protection::inspect(End::Source, address, session.link(), now);
    found.extend(server::inspect(&check).await?);
    found.extend(rights::inspect(&check).await?);
    found.extend(tables::inspect(&check).await?);
    Ok(found)
}
