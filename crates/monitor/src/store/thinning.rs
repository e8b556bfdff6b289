//! Samples are thinned with age, and kept within bounds.

use super::base::StateStore;
use super::samples::{by_table, pipeline_number, put_sample, put_table_sample, read_table_sample, sample_at};
use chrono::{DateTime, Utc};
use moorage_core::watch::sample::{Sample, TableSample};
use moorage_core::watch::tiers::{OF_PIPELINE, OF_TABLES, Tier, begin_of, too_old};
use rusqlite::{Connection, params};

/// How many rows a pipeline's tables may have in each tier: those of the oldest stretches go on into the next before their time.
/// With some 95 bytes a row they take 54 MiB at most (see the test of a year).
pub(super) const MOST_ROWS: [i64; 3] = [200_000, 200_000, 200_000];

/// How many stretches are thinned at once, so that nothing else waits for long.
const AT_ONCE: u32 = 120;

impl StateStore {
    /// Thins what is too old. To be called every minute or so.
    pub fn thin(&self, pipeline: &str, now: DateTime<Utc>) {
        self.note(self.in_transaction(|db| {
            let number = pipeline_number(db, pipeline)?;
            thin_pipeline(db, number, now.timestamp())?;
            thin_tables(db, number, now.timestamp())
        }));
    }
}

fn thin_pipeline(db: &Connection, pipeline: i64, now: i64) -> rusqlite::Result<()> {
    for (at, tier) in OF_PIPELINE.iter().enumerate() {
        let next = OF_PIPELINE.get(at + 1);
        let old = too_old(*tier, next.copied(), now);
        if let Some(next) = next {
            let sql =
                "SELECT at FROM samples WHERE pipeline = ?1 AND span = ?2 AND at < ?3 ORDER BY at LIMIT ?4";
            let most = AT_ONCE * (next.span_s / tier.span_s) as u32;
            let begins: Vec<i64> = db
                .prepare_cached(sql)?
                .query_map(params![pipeline, tier.span_s, old, most], |r| r.get(0))?
                .collect::<rusqlite::Result<_>>()?;
            let mut together: Option<(i64, Sample)> = None;
            for begin in begins {
                let Some(sample) = sample_at(db, (pipeline, tier.span_s, begin))? else { continue };
                together = Some(match together.take() {
                    Some((of, mut whole)) if of == begin_of(begin, next.span_s) => {
                        whole.add(&sample);
                        (of, whole)
                    }
                    before => {
                        put(db, pipeline, next, before)?;
                        (begin_of(begin, next.span_s), sample)
                    }
                });
                remove(db, (pipeline, tier.span_s, begin))?;
            }
            put(db, pipeline, next, together)?;
        } else {
            for table in ["samples", "slow_transactions"] {
                let sql = format!("DELETE FROM {table} WHERE pipeline = ?1 AND span = ?2 AND at < ?3");
                db.execute(&sql, params![pipeline, tier.span_s, old])?;
            }
        }
    }
    Ok(())
}

fn put(db: &Connection, pipeline: i64, tier: &Tier, sample: Option<(i64, Sample)>) -> rusqlite::Result<()> {
    sample.map_or(Ok(()), |(_, sample)| put_sample(db, pipeline, tier.span_s, &sample))
}

fn remove(db: &Connection, of: (i64, i64, i64)) -> rusqlite::Result<()> {
    for table in ["samples", "slow_transactions"] {
        let sql = format!("DELETE FROM {table} WHERE pipeline = ?1 AND span = ?2 AND at = ?3");
        db.prepare_cached(&sql)?.execute(of)?;
    }
    Ok(())
}

fn thin_tables(db: &Connection, pipeline: i64, now: i64) -> rusqlite::Result<()> {
    for (at, (tier, most)) in OF_TABLES.iter().zip(MOST_ROWS).enumerate() {
        let next = OF_TABLES.get(at + 1);
        let span = tier.span_s;
        let old = too_old(*tier, next.copied(), now);
        let sql = "SELECT count(*) FROM table_samples WHERE pipeline = ?1 AND span = ?2";
        let mut rows: i64 = db.prepare_cached(sql)?.query_row(params![pipeline, span], |r| r.get(0))?;
        let sql = "SELECT min(at) FROM table_samples WHERE pipeline = ?1 AND span = ?2";
        for _ in 0..AT_ONCE {
            let first: Option<i64> =
                db.prepare_cached(sql)?.query_row(params![pipeline, span], |r| r.get(0))?;
            let Some(first) = first.filter(|first| *first < old || rows > most) else { break };
            let begin = begin_of(first, next.map_or(span, |next| next.span_s));
            let end = next.map_or(first.saturating_add(span), |next| begin.saturating_add(next.span_s));
            if let Some(next) = next.filter(|next| first >= now - next.keep_s) {
                for sample in together(db, (pipeline, span), (first, end))? {
                    put_table_sample(db, (pipeline, next.span_s, begin), &sample)?;
                }
            }
            let sql = "DELETE FROM table_samples WHERE pipeline = ?1 AND span = ?2 AND at >= ?3 AND at < ?4";
            rows -= db.prepare_cached(sql)?.execute(params![pipeline, span, first, end])? as i64;
        }
    }
    Ok(())
}

/// All that was measured of tables between two moments, by table.
fn together(
    db: &Connection,
    (pipeline, span): (i64, i64),
    (from, end): (i64, i64),
) -> rusqlite::Result<Vec<TableSample>> {
    let sql = "SELECT t.name, inserts, updates, deletes, truncates, bytes, lag
      FROM table_samples s JOIN source_tables t ON t.id = s.source_table
      WHERE s.pipeline = ?1 AND span = ?2 AND at >= ?3 AND at < ?4 ORDER BY source_table";
    let mut query = db.prepare_cached(sql)?;
    let samples = query.query_map(params![pipeline, span, from, end], read_table_sample)?;
    Ok(by_table(samples.collect::<rusqlite::Result<_>>()?))
}
