//! Constraints that are checked at the end of a transaction.

use crate::wire::connect::Session;
use crate::wire::trouble::Trouble;

/// Has constraints checked now that would be checked at the end, where no row could be told from another.
pub(crate) async fn check_deferred(session: &Session) -> std::result::Result<(), Trouble> {
    let sql = "SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED";
    let done = session.client().batch_execute(sql).await;
    done.map_err(|e| crate::wire::trouble::sort(session.address(), "checking constraints", &e))
}
