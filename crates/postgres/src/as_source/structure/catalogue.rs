//! What the catalogue says of tables that are followed, read anew only where something of it has changed.

use crate::as_source::catalog::{self, Described, IdentityBy};
use crate::as_source::structure::types::{self, Types};
use crate::wire::connect::Session;
use moorage_adapter::Result;
use std::collections::HashMap;
use std::sync::Arc;

/// What a look saw of the tables that are followed, by their numbers.
pub(crate) type Seen = HashMap<u32, Arc<Described>>;

/// Everything that changes when a table's structure does, as one text a table.
const MARKS: &str = "
SELECT c.oid, concat_ws(' ', quote_ident(n.nspname), quote_ident(c.relname), c.relfilenode, c.relnatts, c.relreplident, c.relpersistence,
  (SELECT string_agg(format('%s:%s:%s', a.attnum, a.xmin, a.cmin), ' ' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0),
  (SELECT string_agg(format('%s:%s', i.indexrelid, i.xmin), ' ' ORDER BY i.indexrelid) FROM pg_index i
     WHERE i.indrelid = c.oid AND (i.indisprimary OR i.indisreplident)))
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = ANY($1)";

/// The catalogue, as it was at the last look.
pub(crate) struct Catalogue {
    by: IdentityBy,
    marks: Marks,
}

/// What tables and the types of their columns were like.
#[derive(PartialEq, Default)]
struct Marks {
    tables: HashMap<u32, String>,
    types: Types,
}

impl Catalogue {
    /// Not looked at yet.
    pub(crate) fn new(by: IdentityBy) -> Self {
        Self { by, marks: Marks::default() }
    }

    async fn marks(session: &Session, tables: &[u32]) -> Result<Marks> {
        let rows = session.cached("looking at the catalogue", MARKS, &[&tables]).await?;
        let types = types::types(session, Some(tables)).await?;
        Ok(Marks { tables: rows.iter().map(|r| (r.get(0), r.get(1))).collect(), types })
    }

    /// Whether anything has changed since the last look.
    pub(crate) async fn is_other(&self, session: &Session, tables: &[u32]) -> Result<bool> {
        Ok(Self::marks(session, tables).await? != self.marks)
    }

    /// Looks at tables; what the last look `before` saw is what this one does, if nothing has changed. An open transaction of
    /// the session says as of when.
    pub(crate) async fn look(
        &mut self,
        session: &Session,
        tables: &[u32],
        before: Option<&Arc<Seen>>,
    ) -> Result<Arc<Seen>> {
        let marks = Self::marks(session, tables).await?;
        if let Some(before) = before.filter(|_| marks == self.marks) {
            return Ok(before.clone());
        }
        let described = catalog::describe(session, self.by).await?;
        let followed = described.into_iter().filter(|d| marks.tables.contains_key(&(d.table.id as u32)));
        let seen = followed.map(|d| (d.table.id as u32, Arc::new(d))).collect();
        self.marks = marks;
        Ok(Arc::new(seen))
    }
}
