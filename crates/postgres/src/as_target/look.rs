//! One state of a target database: a transaction of its own, which the writer does not disturb.

use super::beside::{has_kept, is_kept};
use super::dialect::relation;
use super::form::{Found, find};
use crate::as_target::{kept, state};
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::copy_text::fields;
use crate::wire::sort::sort_term;
use crate::wire::values::push_text;
use async_trait::async_trait;
use futures_util::TryStreamExt;
use moorage_adapter::{AdapterError, Doing, Result, RowOrder, Sample, StoredTable, TargetLook};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::{LookedRows, Misfit};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::RowsBuilder;
use std::borrow::Cow;
use tokio::sync::mpsc;

const CHUNK_ROWS: usize = 8192;
const CHUNK_BYTES: usize = 1 << 20;

/// A look.
pub(crate) struct PostgresTargetLook {
    session: Session,
    checkpoint: Option<Checkpoint>,
    tables: Vec<StoredTable>,
}

impl PostgresTargetLook {
    /// Fixes the state of the database now; none if nothing is there of any pipeline.
    pub(crate) async fn open(address: &PostgresAddress, pipeline: &str) -> Result<Option<Self>> {
        let session = Session::open(address).await?;
        if !state::exists(&session).await? {
            return Ok(None);
        }
        let begin = "SET row_security = off; BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY";
        session.run("looking at the target", begin).await?;
        let checkpoint = state::checkpoint(&session, pipeline).await?;
        let tables = state::tables(&session, pipeline).await?;
        Ok(Some(Self { session, checkpoint, tables }))
    }

    async fn reading(&self, plan: &TablePlan) -> Result<Reading> {
        let found = find(&self.session, &[plan.stands_in()]).await?.pop().flatten();
        let found = found
            .ok_or_else(|| AdapterError::refused(format!("target table {}", plan.target), "it is gone"))?;
        let knows_kept = has_kept(&self.session, found.id).await?;
        Ok(Reading { plan: plan.clone(), found, knows_kept })
    }

    async fn all(&self, reading: &Reading, more: &str) -> Result<LookedRows> {
        let (sender, mut receiver) = mpsc::channel(1);
        let session = &self.session;
        let (done, rows) = tokio::join!(async move { reading.send(session, more, &sender).await }, async {
            let first = receiver.recv().await;
            // The reader must not wait for room.
            while receiver.recv().await.is_some() {}
            first
        });
        done?;
        rows.ok_or_else(|| AdapterError::refused("looking at the target", "nothing was read"))
    }
}

struct Reading {
    plan: TablePlan,
    found: Found,
    knows_kept: bool,
}

impl Reading {
    /// How a column is read and sorted: as core does for its planned type.
    fn order(&self) -> String {
        let key = self.plan.mapped.identity.key().unwrap_or(&[]);
        if key.is_empty() {
            return String::new();
        }
        let term = |&k: &usize| {
            let (column, name) = (&self.plan.mapped.columns[k], &self.plan.columns[k].name);
            let declared =
                self.found.columns.iter().find(|c| c.name == *name).map_or("", |c| c.declared.as_str());
            format!(
                "{} NULLS FIRST",
                sort_term(&column.logical, declared, &format!("t.{}", quote_ident(name)))
            )
        };
        format!(" ORDER BY {}", key.iter().map(term).collect::<Vec<_>>().join(", "))
    }

    /// Sends rows in chunks, at least one; `more` goes behind FROM.
    async fn send(&self, session: &Session, more: &str, sender: &mpsc::Sender<LookedRows>) -> Result<()> {
        let mut columns: Vec<String> =
            self.plan.columns.iter().map(|c| format!("t.{}", quote_ident(&c.name))).collect();
        if self.knows_kept {
            columns.push(is_kept(&self.plan, self.found.id));
        }
        let from = match kept::query(&self.plan) {
            Some(query) => format!("({query})"),
            None => format!("ONLY {}", relation(self.plan.stands_in())),
        };
        let sql = format!("COPY (SELECT {} FROM {from} t{more}) TO STDOUT", columns.join(", "));
        let doing = Doing::to("reading table", &self.plan.target);
        let lines = session.client().copy_out(&sql).await.map_err(|e| session.error(&doing, &e))?;
        let mut lines = std::pin::pin!(lines);
        let mut chunk = Chunk::new(self);
        while let Some(line) = lines.try_next().await.map_err(|e| session.error(&doing, &e))? {
            chunk.push(&line)?;
            let full = chunk.rows.rows() >= CHUNK_ROWS || chunk.rows.bytes() >= CHUNK_BYTES;
            if full && sender.send(chunk.finish()?).await.is_err() {
                return Ok(());
            }
        }
        // Nobody listening any more is no error.
        let _ = sender.send(chunk.finish()?).await;
        Ok(())
    }
}

struct Chunk<'a> {
    reading: &'a Reading,
    rows: RowsBuilder,
    misfits: Vec<Misfit>,
    kept: Vec<bool>,
}

impl<'a> Chunk<'a> {
    fn new(reading: &'a Reading) -> Self {
        let rows = RowsBuilder::new(reading.plan.mapped.clone());
        Self { reading, rows, misfits: Vec::new(), kept: Vec::new() }
    }

    fn push(&mut self, line: &[u8]) -> Result<()> {
        let schema = self.rows.schema().clone();
        let mut fields = fields(line);
        let few = || AdapterError::Protocol {
            address: "the target".into(),
            what: "a row with too few values".into(),
        };
        for (at, column) in schema.columns.iter().enumerate() {
            let field: Option<Cow<'_, [u8]>> = fields.next().ok_or_else(few)?;
            let builder = &mut self.rows.columns[at];
            match field {
                None => builder.push_null(),
                Some(field) => {
                    if push_text(builder, &column.logical, &field).is_err() {
                        builder.push_null();
                        let shown = String::from_utf8_lossy(&field).chars().take(40).collect();
                        self.misfits.push(Misfit { row: self.rows.rows(), column: at, shown });
                    }
                }
            }
        }
        if self.reading.knows_kept {
            self.kept.push(fields.next().ok_or_else(few)?.as_deref() == Some(b"t"));
        }
        self.rows.end_row(line.len());
        Ok(())
    }

    fn finish(&mut self) -> Result<LookedRows> {
        Ok(LookedRows {
            rows: self.rows.finish()?,
            misfits: std::mem::take(&mut self.misfits),
            kept: std::mem::take(&mut self.kept),
        })
    }
}

#[async_trait]
impl TargetLook for PostgresTargetLook {
    fn checkpoint(&self) -> Option<&Checkpoint> {
        self.checkpoint.as_ref()
    }

    fn tables(&self) -> &[StoredTable] {
        &self.tables
    }

    async fn rows(
        &mut self,
        plan: &TablePlan,
        order: RowOrder,
        sender: mpsc::Sender<LookedRows>,
    ) -> Result<()> {
        let reading = self.reading(plan).await?;
        let order = if order == RowOrder::Key { reading.order() } else { String::new() };
        reading.send(&self.session, &order, &sender).await
    }

    async fn count(&mut self, plan: &TablePlan) -> Result<(u64, u64)> {
        let reading = self.reading(plan).await?;
        if let Some(query) = kept::query(plan) {
            let sql = format!("SELECT count(*) FROM ({query}) t");
            let row = self.session.one(Doing::to("counting table", &plan.target), &sql, &[]).await?;
            return Ok((row.get::<_, i64>(0).max(0) as u64, 0));
        }
        let table = relation(plan.stands_in());
        let kept = if reading.knows_kept { is_kept(plan, reading.found.id) } else { "false".into() };
        let sql = format!(
            "SELECT count(*), count(*) FILTER (WHERE kept) FROM (SELECT {kept} AS kept FROM ONLY {table} t) t"
        );
        let row = self.session.one(Doing::to("counting table", &plan.target), &sql, &[]).await?;
        let (all, kept): (i64, i64) = (row.get(0), row.get(1));
        Ok(((all - kept).max(0) as u64, kept.max(0) as u64))
    }

    async fn row(&mut self, plan: &TablePlan, key: &[String]) -> Result<LookedRows> {
        let names = plan.mapped.key_names();
        if names.len() != key.len() {
            let what =
                format!("its key has {} values ({}), not {}", names.len(), names.join(", "), key.len());
            return Err(AdapterError::Value { table: plan.table().to_string(), what });
        }
        let reading = self.reading(plan).await?;
        let columns = plan.mapped.identity.key().unwrap_or(&[]).iter().map(|&k| &plan.columns[k].name);
        let term =
            |(name, text): (&String, &String)| format!("t.{} = {}", quote_ident(name), quote_literal(text));
        let terms: Vec<String> = columns.zip(key).map(term).collect();
        self.session.run("reading texts as they are", "SET standard_conforming_strings = on").await?;
        self.all(&reading, &format!(" WHERE {} LIMIT 1", terms.join(" AND "))).await
    }

    async fn sample(&mut self, plan: &TablePlan, which: Sample) -> Result<LookedRows> {
        let reading = self.reading(plan).await?;
        let more = match which {
            Sample::First(count) => format!(" LIMIT {count}"),
            // A query over a table that keeps more has no rows of its own to be the newest.
            Sample::Newest(count) if !plan.is_a_copy() => format!(" LIMIT {count}"),
            Sample::Newest(count) => format!(" ORDER BY t.ctid DESC LIMIT {count}"),
        };
        self.all(&reading, &more).await
    }
}
