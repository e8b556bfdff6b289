//! Changes that are set aside, as later ones of the same rows find them.

use crate::wire::connect::Session;
use moorage_adapter::Result;
use std::collections::HashMap;

/// The code of a change that only waits behind another one.
pub(crate) const WAITS: &str = "waits";

/// The rows that have rejects: by target and key, the first reject.
#[derive(Clone, Debug, Default)]
pub(crate) struct Held(HashMap<String, HashMap<Vec<u8>, i64>>);

impl Held {
    /// Those of one table, if there are any.
    pub(crate) fn of(&self, target: &str) -> Option<&HashMap<Vec<u8>, i64>> {
        self.0.get(target)
    }
}

/// All rows of a pipeline that have rejects.
pub(crate) async fn held(session: &Session, pipeline: &str) -> Result<Held> {
    let sql = "SELECT id, target, keys FROM moorage_state.rejects WHERE pipeline = $1 ORDER BY id";
    let mut held = Held::default();
    for row in session.cached("reading what is set aside", sql, &[&pipeline]).await? {
        let keys: Vec<Vec<u8>> = row.get(2);
        let of = held.0.entry(row.get(1)).or_default();
        keys.into_iter().for_each(|key| {
            of.entry(key).or_insert(row.get(0));
        });
    }
    Ok(held)
}
