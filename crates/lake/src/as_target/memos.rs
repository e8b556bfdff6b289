//! What a pipeline keeps beside its tables, under names: a small lake table of its own.

use crate::as_target::ledger::{Mine, folder};
use crate::as_target::place::{Deed, LakeTarget, Writer};
use crate::as_target::remembered::Remembered;
use crate::format::action::Metadata;
use crate::format::features;
use crate::format::schema::{LakeField, LakeSchema, LakeType};
use crate::rows::key::Keys;
use crate::table::log::{Committed, Log};
use crate::table::work::Work;
use crate::table::{KeyOf, Table};
use arrow::array::{ArrayRef, AsArray, BinaryArray, RecordBatch, StringArray};
use chrono::Utc;
use moorage_adapter::{AdapterError, Memo, MemoKind, Result};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use uuid::Uuid;

/// Under this name it is among the tables that are open.
pub(crate) const OPEN_AS: &str = "/memos";
const WHAT: &str = "memos";

fn schema() -> LakeSchema {
    let field = LakeField::new;
    let columns = [("kind", LakeType::Text), ("name", LakeType::Text), ("content", LakeType::Binary)];
    LakeSchema::new(columns.into_iter().map(|(name, of)| field(name, of)).collect())
}

fn keys<'a>(all: impl Iterator<Item = (&'a str, &'a str)>) -> Keys {
    let (kinds, names): (Vec<&str>, Vec<&str>) = all.unzip();
    let columns: [ArrayRef; 2] = [Arc::new(StringArray::from(kinds)), Arc::new(StringArray::from(names))];
    Keys::of_columns(&columns)
}

/// What is remembered of a kind, as of a state of its table.
pub(crate) async fn of_kind(table: &Table, kind: MemoKind) -> Result<BTreeMap<String, Vec<u8>>> {
    let found: Arc<Mutex<BTreeMap<String, Vec<u8>>>> = Arc::default();
    for live in table.files.values() {
        let into = found.clone();
        let take = move |rows: RecordBatch| {
            let (kinds, names) = (rows.column(0).as_string::<i32>(), rows.column(1).as_string::<i32>());
            let contents = rows.column(2).as_binary::<i32>();
            let wanted = (0..rows.num_rows()).filter(|&at| kinds.value(at) == kind.word());
            let memos = wanted.map(|at| (names.value(at).to_string(), contents.value(at).to_vec()));
            into.lock().unwrap_or_else(PoisonError::into_inner).extend(memos);
            true
        };
        table.scan(live, &[0, 1, 2], take).await?;
    }
    let mut found = found.lock().unwrap_or_else(PoisonError::into_inner);
    Ok(std::mem::take(&mut *found))
}

impl LakeTarget {
    /// The table of a pipeline's memos; none if it has none yet.
    pub(crate) async fn memo_table(&self, pipeline: &str) -> Result<Option<Table>> {
        let within = folder(pipeline, WHAT);
        let Some(log) = Log::open(self.store.clone(), &within, None).await? else { return Ok(None) };
        let cache = self.key_cache(&within, "kind name");
        Table::open(log, KeyOf::Columns(vec![0, 1]), cache).await.map(Some)
    }

    async fn make_memo_table(&self, mine: &Mine) -> Result<()> {
        let schema = schema();
        let (protocol, configuration) = features::asked(&schema, self.vectors);
        let metadata = Metadata {
            id: Uuid::new_v4().to_string(),
            schema_string: schema.text(),
            configuration,
            created_time: Some(Utc::now().timestamp_millis()),
            ..Metadata::default()
        };
        let mut log = Log::new(self.store.clone(), &folder(&mine.pipeline, WHAT));
        match log.try_commit("make", vec![protocol.into(), metadata.into()]).await? {
            Committed::At(_) | Committed::Overtaken(_) => Ok(()),
        }
    }

    /// Keeps memos, or takes them away; the same again changes nothing.
    pub(crate) async fn remember(&self, writer: &mut Writer, memos: &[Memo]) -> Result<()> {
        let mut last: BTreeMap<(&str, &str), Option<&[u8]>> = BTreeMap::new();
        for memo in memos {
            last.insert((memo.kind.word(), &memo.name), memo.content.as_deref());
        }
        if last.is_empty() {
            return Ok(());
        }
        let open = match writer.tables.remove(OPEN_AS) {
            Some(table) => Some(table),
            None => self.memo_table(&writer.mine.pipeline).await?,
        };
        let table = match open {
            Some(table) => table,
            None => {
                self.make_memo_table(&writer.mine).await?;
                let made = self.memo_table(&writer.mine.pipeline).await?;
                made.ok_or_else(|| AdapterError::refused("keeping memos", "their table is gone"))?
            }
        };
        let mut work = Work::on(table).await?;
        work.take(keys(last.keys().copied())).await?;
        let kept: Vec<_> = last.iter().filter_map(|(name, content)| Some((name, (*content)?))).collect();
        if !kept.is_empty() {
            let columns: Vec<ArrayRef> = vec![
                Arc::new(StringArray::from_iter_values(kept.iter().map(|((kind, _), _)| *kind))),
                Arc::new(StringArray::from_iter_values(kept.iter().map(|((_, name), _)| *name))),
                Arc::new(BinaryArray::from_iter_values(kept.iter().map(|(_, content)| *content))),
            ];
            work.append(RecordBatch::try_new(schema().arrow(), columns)?).await?;
        }
        let of = Remembered::new(false);
        let deed = Deed { operation: "remember", target: OPEN_AS, of, to: None, plan: None, beside: false };
        let (table, _) = writer.commit(work, deed).await?;
        writer.tables.insert(OPEN_AS.into(), table);
        Ok(())
    }
}
