//! What trigger capture makes in the source: a schema of its own with a change table, functions and triggers
//! for each carried table.
//!
//! A change table has whole rows as text, in which no column is named, so that no structure change and no write of the
//! application can fail because of them. Beside each change stands a number of the structure that its rows have; what
//! structure that is, is written down once for each number ([`super::functions`]). The text is written under settings that are fixed on
//! the function. The functions run with the rights of the user that captures, name everything in full, and never fail
//! a writer: when the change tables grow beyond their limit, capturing ends for good, which a sequence (not
//! undone by any rollback) tells the reader before it could miss a change.
//!
//! A trigger after a row fires when the statement is done, in turn with the application's own, which may change the
//! same table meanwhile: numbers are then not the order in which rows changed. Such a change is told by being made
//! inside a trigger (`nested`), and the versions of rows (`old_at`, `new_at` in `file`) tell what its transaction
//! did in sum: see [`super::reader`].

use crate::as_source::structure::written::fixed_settings;
use crate::as_source::trigger::functions::{Made, functions};
use crate::as_source::trigger::names::Names;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::{Session, watched};
use crate::wire::error::is_missing_right;
use crate::wire::waits::{holders, naming_waits};
use moorage_adapter::{AdapterError, Doing, Event, Events, Result, Step};
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use std::collections::BTreeSet;
use std::time::{Duration, Instant};
use tokio_postgres::error::SqlState;

/// Someone who sets up, with what is needed to say what is waited for.
pub(crate) struct At<'a> {
    pub(crate) address: &'a PostgresAddress,
    pub(crate) session: &'a Session,
    pub(crate) events: &'a Events,
}

/// How long others may queue up behind a lock that is waited for.
const MOST_HELD_UP_MS: u64 = 1000;
/// How long they may then go on, before the lock is asked for again.
const LEFT_ALONE: Duration = Duration::from_secs(3);

impl At<'_> {
    /// Runs statements in one transaction.
    async fn run(&self, doing: impl Into<Doing>, sql: &str) -> Result<()> {
        let doing = doing.into();
        let work = async {
            let done = self.attempt(&format!("BEGIN; {sql}; COMMIT")).await;
            let right = format!("CREATE ON DATABASE {}", quote_ident(&self.address.database));
            done.map_err(|e| self.explained(&doing, &right, &e))
        };
        naming_waits(self.address, self.session.pid(), &doing, self.events, work).await
    }

    /// Runs statements that lock a table of the application, in one transaction. Whoever wants to write to the table queues
    /// up behind the wait for such a lock, so it is given up soon, and asked for again later.
    async fn run_locking(
        &self,
        doing: impl Into<Doing>,
        (table, name): (u64, &str),
        sql: &str,
    ) -> Result<()> {
        let doing = doing.into();
        let begun = Instant::now();
        let sql = format!("BEGIN; SET LOCAL lock_timeout = {MOST_HELD_UP_MS}; {sql}; COMMIT");
        loop {
            let watched = watched(self.address, &doing, async { Ok(self.attempt(&sql).await) });
            match watched.await? {
                Ok(()) => return Ok(()),
                Err(error) if error.code() == Some(&SqlState::LOCK_NOT_AVAILABLE) => {}
                Err(error) => return Err(self.explained(&doing, &format!("TRIGGER ON {name}"), &error)),
            }
            let found = holders(self.session, table).await?;
            let of = if found.is_empty() { "others".into() } else { found.join("; ") };
            let what = format!(
                "{doing}: waits for {of}; asks again in {} s, so that nobody is held up",
                LEFT_ALONE.as_secs()
            );
            (self.events)(Event::Waiting { what, waited_ms: begun.elapsed().as_millis() as u64 });
            tokio::time::sleep(LEFT_ALONE).await;
        }
    }

    async fn attempt(&self, sql: &str) -> std::result::Result<(), tokio_postgres::Error> {
        let done = self.session.client().batch_execute(sql).await;
        if done.is_err() {
            // A connection that is gone has rolled back already.
            let _ = self.session.run("rolling back", "ROLLBACK").await;
        }
        done
    }

    /// What may be missing is a right on what was to be done.
    fn explained(&self, doing: &Doing, right: &str, error: &tokio_postgres::Error) -> AdapterError {
        if !is_missing_right(error) {
            return self.session.error(doing, error);
        }
        let words = error.as_db_error().map_or("", |d| d.message());
        let role = self.address.role.as_deref().unwrap_or(&self.address.user);
        let statements = format!("GRANT {right} TO {};", quote_ident(role));
        AdapterError::NeedsAdministrator { what: format!("{doing}: {words}"), statements }
    }
}

/// Whether there is a capture point.
pub(crate) async fn exists(session: &Session, names: &Names) -> Result<bool> {
    let sql = "SELECT to_regclass($1) IS NOT NULL";
    Ok(session.one("looking for the change tables", sql, &[&names.about()]).await?.get(0))
}

/// Makes the schema and all that belongs to no single table.
pub(crate) async fn make(at: &At<'_>, names: &Names, token: &str, limit: u64) -> Result<()> {
    if exists(at.session, names).await? {
        return Ok(());
    }
    let sql = format!(
        "CREATE SCHEMA {schema};
         CREATE TABLE {about} (token text NOT NULL, limit_bytes bigint NOT NULL, forgotten pg_snapshot NOT NULL);
         INSERT INTO {about} VALUES ({token}, {limit}, pg_current_snapshot());
         CREATE TABLE {anchors} (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, mark text NOT NULL);
         CREATE SEQUENCE {numbers} CACHE 1; CREATE SEQUENCE {full}; {structures}",
        schema = quote_ident(&names.schema),
        about = names.about(),
        token = quote_literal(token),
        anchors = names.anchors(),
        numbers = names.numbers(),
        full = names.full(),
        structures = structures(names),
    );
    at.run("making the schema for change tables", &sql).await?;
    (at.events)(Event::Prepared { step: Step::new(format!("schema {}", names.schema), "made") });
    Ok(())
}

/// The table that says what structure a number stands for: `state` as [`super::written`] reads it. In `columns` an earlier
/// version wrote names and types alone.
fn structures(names: &Names) -> String {
    // Not unique: a writer that had to wait for another one's transaction would be held up by us.
    format!(
        "CREATE TABLE IF NOT EXISTS {0} (source oid NOT NULL, number bigint NOT NULL, columns text);
         ALTER TABLE {0} ADD COLUMN IF NOT EXISTS state text, ALTER columns DROP NOT NULL;
         CREATE INDEX IF NOT EXISTS structures_by_number ON {0} (source, number)",
        names.structures()
    )
}

/// The tables that have triggers of this capture point.
pub(crate) async fn captured(session: &Session, names: &Names) -> Result<Vec<(u64, String)>> {
    let sql = "SELECT tgrelid, format('%I.%I', n.nspname, c.relname) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid
               JOIN pg_namespace n ON n.oid = c.relnamespace WHERE tgname = $1 AND tgenabled IN ('O', 'A') ORDER BY 1";
    let rows = session.rows("looking for triggers", sql, &[&names.trigger("row")]).await?;
    Ok(rows.iter().map(|r| (u64::from(r.get::<_, u32>(0)), r.get(1))).collect())
}

/// Bytes of the largest change table: it is the first to come to its limit.
pub(crate) async fn largest(session: &Session, names: &Names) -> Result<Option<u64>> {
    let sql = "SELECT max(pg_total_relation_size(c.oid)) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE n.nspname = $1 AND c.relkind = 'r'";
    let bytes: Option<i64> = session.one("looking at the change tables", sql, &[&names.schema]).await?.get(0);
    Ok(bytes.and_then(|bytes| u64::try_from(bytes).ok()))
}

/// For each table its triggers: their numbers, and the transactions that last changed them. Triggers that were made
/// again have other numbers; ones that were disabled and enabled again were changed by another transaction.
pub(crate) async fn captured_by(
    session: &Session,
    names: &Names,
    tables: &[u64],
) -> Result<Vec<Option<String>>> {
    let sql = "SELECT (SELECT CASE WHEN count(*) = 2 THEN 'triggers ' || string_agg(format('%s %s', t.oid, t.xmin), ', ' ORDER BY t.oid) END
                       FROM pg_trigger t WHERE t.tgrelid = w.id AND t.tgname = ANY ($2) AND t.tgenabled IN ('O', 'A')),
                      coalesce(obj_description(to_regclass(w.rows), 'pg_class'), 'earlier')
               FROM unnest($1::oid[], $3::text[]) WITH ORDINALITY w(id, rows, place) ORDER BY w.place";
    let ids: Vec<u32> = tables.iter().map(|id| *id as u32).collect();
    let triggers = [names.trigger("row"), names.trigger("truncate")];
    let changes: Vec<String> = tables.iter().map(|id| names.rows(*id)).collect();
    let rows = session.rows("looking at the triggers", sql, &[&ids, &&triggers[..], &changes]).await?;
    let with_form = |triggers: String, form: String| format!("{triggers}; {form}");
    Ok(rows.iter().map(|r| r.get::<_, Option<String>>(0).map(|t| with_form(t, r.get(1)))).collect())
}

/// Whether nobody has altered what captures a table. Triggers of another form were made by ourselves, behind whoever was
/// writing; earlier versions did not say the form.
pub(crate) fn is_unbroken(before: &str, now: &str) -> bool {
    let parts = |text: &str| match text.split_once("; ") {
        Some((triggers, form)) => (triggers.to_string(), Some(form.to_string())),
        None => (text.to_string(), None),
    };
    let ((before, form_before), (now, form_now)) = (parts(before), parts(now));
    before == now || (form_before.is_some() && form_before != form_now)
}

/// Gives exactly these tables their triggers, one table after the other, so that no two are locked at a time.
/// Making a trigger waits for all who are writing to the table: from then on every change is captured.
pub(crate) async fn align(at: &At<'_>, names: &Names, tables: &[TablePlan], limit: u64) -> Result<()> {
    let there = captured(at.session, names).await?;
    for (id, name) in there.iter().filter(|(id, _)| tables.iter().all(|t| t.source_id != *id)) {
        drop_table(at, names, *id, name).await?;
    }
    let mut made = 0;
    // Looked for first: a writer that has just noted a structure would hold up even making what is there.
    let sql =
        "SELECT NOT EXISTS (SELECT FROM pg_attribute WHERE attrelid = to_regclass($1) AND attname = 'state')";
    if at.session.one("looking for the table of structures", sql, &[&names.structures()]).await?.get(0) {
        let id = "SELECT coalesce(to_regclass($1)::oid, 0)";
        let id: u32 =
            at.session.one("looking for the table of structures", id, &[&names.structures()]).await?.get(0);
        let table = (u64::from(id), names.structures());
        at.run_locking("making the table of structures", (table.0, &table.1), &structures(names)).await?;
    }
    for plan in tables {
        forget_earlier(at, names, plan).await?;
        if there.iter().any(|(id, _)| *id == plan.source_id) && fits(at.session, names, plan).await? {
            continue;
        }
        let goes_on = there.iter().any(|(id, _)| *id == plan.source_id);
        make_table(at, names, plan, (limit, goes_on)).await?;
        made += 1;
    }
    let what = format!("triggers on {} {}", tables.len(), if tables.len() == 1 { "table" } else { "tables" });
    let outcome = if made == 0 { "already so" } else { "made" };
    (at.events)(Event::Prepared { step: Step::new(what, outcome) });
    Ok(())
}

/// Gives one more table its triggers.
pub(crate) async fn make_one(at: &At<'_>, names: &Names, plan: &TablePlan, limit: u64) -> Result<()> {
    if captured(at.session, names).await?.iter().any(|(id, _)| *id == plan.source_id) {
        return Ok(());
    }
    make_table(at, names, plan, (limit, false)).await
}

/// The form of what is made for a table.
const FORM: &str = "whole rows as text, 2";

/// Whether a change table has the column for the layout of rows, which an earlier form lacks.
pub(crate) async fn has_layout(session: &Session, names: &Names, table: u64) -> Result<bool> {
    let sql =
        "SELECT EXISTS (SELECT FROM pg_attribute WHERE attrelid = to_regclass($1) AND attname = 'layout')";
    Ok(session.one("looking at a change table", sql, &[&names.rows(table)]).await?.get(0))
}

/// Whether the change table has the present form.
async fn fits(session: &Session, names: &Names, plan: &TablePlan) -> Result<bool> {
    let sql = "SELECT obj_description(to_regclass($1), 'pg_class')";
    let found: Option<String> =
        session.one("looking at a change table", sql, &[&names.rows(plan.source_id)]).await?.get(0);
    Ok(found.as_deref() == Some(FORM))
}

/// Removes a change table of the earlier form once all that is in it was acknowledged.
async fn forget_earlier(at: &At<'_>, names: &Names, plan: &TablePlan) -> Result<()> {
    let id = plan.source_id;
    if !fits(at.session, names, plan).await? || !earlier(at.session, names).await?.contains(&id) {
        return Ok(());
    }
    let sql = format!("SELECT EXISTS (SELECT FROM {})", names.earlier(id));
    if at.session.one("looking at a change table of the earlier form", &sql, &[]).await?.get(0) {
        return Ok(());
    }
    let sql = format!("DROP TABLE {}", names.earlier(id));
    at.run("removing a change table of the earlier form", &sql).await
}

/// The tables that have a change table of the earlier form.
pub(crate) async fn earlier(session: &Session, names: &Names) -> Result<BTreeSet<u64>> {
    let sql = "SELECT substr(relname, 9)::oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE n.nspname = $1 AND relkind = 'r' AND relname ~ '^changes_[0-9]+$'";
    let rows = session.rows("looking for change tables of the earlier form", sql, &[&names.schema]).await?;
    Ok(rows.iter().map(|r| u64::from(r.get::<_, u32>(0))).collect())
}

/// Makes a table's change table, functions and triggers. What captured it before goes on to where these take its place if
/// `goes_on`: then what is in its change table is kept.
async fn make_table(
    at: &At<'_>,
    names: &Names,
    plan: &TablePlan,
    (limit, goes_on): (u64, bool),
) -> Result<()> {
    let id = plan.source_id;
    let sql = format!(
        "SELECT {}::regclass::oid, relispartition, pg_has_role(relowner, 'USAGE'), format('%I.%I', n.nspname, c.relname)
         FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1",
        quote_literal(&names.structures())
    );
    let about = at.session.maybe("looking at the table", &sql, &[&(id as u32)]).await?;
    // Whoever sets up anew sees what there is by then.
    let gone = || AdapterError::Gone { table: plan.table().clone() };
    let about = about.ok_or_else(gone)?;
    let (mark, partition, is_owner): (u32, bool, bool) = (about.get(0), about.get(1), about.get(2));
    let Made { note, structure, statement, row } = functions(names, id, limit, mark);
    // As it is called now.
    let table: String = about.get(3);
    let trigger = |what: &str| quote_ident(&names.trigger(what));
    let function = names.function(id);
    let before = if partition {
        String::new()
    } else {
        format!(
            "CREATE TRIGGER {} BEFORE INSERT OR UPDATE OR DELETE ON {table} FOR EACH STATEMENT EXECUTE FUNCTION {}();",
            trigger("statement"),
            names.statement_function(id)
        )
    };
    // Also for sessions with session_replication_role = replica, as those that apply a subscription: only owners may
    // say so.
    let all: &[&str] = if partition { &["row", "truncate"] } else { &["statement", "row", "truncate"] };
    let always: Vec<String> = all
        .iter()
        .filter(|_| is_owner)
        .map(|what| format!("ALTER TABLE {table} ENABLE ALWAYS TRIGGER {};", trigger(what)))
        .collect();
    let settings = fixed_settings();
    let sql = format!(
        "{drops}
         {anew}
         CREATE TABLE IF NOT EXISTS {rows} (number bigint NOT NULL, xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
           at timestamptz NOT NULL DEFAULT clock_timestamp(), kind \"char\" NOT NULL, nested boolean NOT NULL,
           structure bigint, file oid, layout text, old_at tid, new_at tid, old text, new text)
           WITH (autovacuum_vacuum_scale_factor = 0.05, autovacuum_vacuum_threshold = 5000);
         ALTER TABLE {rows} ADD COLUMN IF NOT EXISTS layout text;
         COMMENT ON TABLE {rows} IS {form};
         CREATE OR REPLACE FUNCTION {note_function}(number_now bigint) RETURNS void LANGUAGE plpgsql SECURITY DEFINER {settings} AS {note};
         CREATE OR REPLACE FUNCTION {structure_function}() RETURNS text LANGUAGE plpgsql SECURITY DEFINER SET search_path TO pg_catalog, pg_temp AS {structure};
         CREATE OR REPLACE FUNCTION {statement_function}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS {statement};
         CREATE OR REPLACE FUNCTION {function}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER {settings} AS {row};
         {before}
         CREATE TRIGGER {row_trigger} AFTER INSERT OR UPDATE OR DELETE ON {table} FOR EACH ROW EXECUTE FUNCTION {function}();
         CREATE TRIGGER {truncate_trigger} AFTER TRUNCATE ON {table} FOR EACH STATEMENT EXECUTE FUNCTION {function}();
         {always}",
        always = always.concat(),
        anew = if goes_on { String::new() } else { format!("DROP TABLE IF EXISTS {};", names.rows(id)) },
        note_function = names.note_function(id),
        note = quote_literal(&note),
        drops = drop_triggers(names, id, (&table, is_owner)),
        rows = names.rows(id),
        form = quote_literal(FORM),
        structure_function = names.structure_function(id),
        structure = quote_literal(&structure),
        statement_function = names.statement_function(id),
        statement = quote_literal(&statement),
        row = quote_literal(&row),
        row_trigger = trigger("row"),
        truncate_trigger = trigger("truncate"),
    );
    at.run_locking(format!("making triggers on {}", plan.table()), (id, &table), &sql).await
}

/// Takes a table's triggers away. Whoever may make them need not own the table, and only its owner may drop them; their
/// functions are ours, and take them along (PostgreSQL manual, section 5.14).
fn drop_triggers(names: &Names, id: u64, (table, is_owner): (&str, bool)) -> String {
    let drop =
        |what: &str| format!("DROP TRIGGER IF EXISTS {} ON {table};", quote_ident(&names.trigger(what)));
    let dropped = if is_owner { ["statement", "row", "truncate"].map(drop).join(" ") } else { String::new() };
    let (row, statement) = (names.function(id), names.statement_function(id));
    format!(
        "{dropped} DROP FUNCTION IF EXISTS {row}() CASCADE; DROP FUNCTION IF EXISTS {statement}() CASCADE;"
    )
}

async fn drop_table(at: &At<'_>, names: &Names, id: u64, table: &str) -> Result<()> {
    let is_owner = "SELECT pg_has_role(relowner, 'USAGE') FROM pg_class WHERE oid = $1";
    let is_owner = at.session.maybe("looking whose the table is", is_owner, &[&(id as u32)]).await?;
    let is_owner = is_owner.is_some_and(|row| row.get(0));
    let sql = format!(
        "{} DROP FUNCTION IF EXISTS {}(); DROP FUNCTION IF EXISTS {}(bigint); DROP TABLE IF EXISTS {}; DROP TABLE IF EXISTS {}",
        drop_triggers(names, id, (table, is_owner)),
        names.structure_function(id),
        names.note_function(id),
        names.rows(id),
        names.earlier(id)
    );
    at.run_locking(format!("removing triggers from {table}"), (id, table), &sql).await
}

/// Removes everything; gives what there was.
pub(crate) async fn remove(at: &At<'_>, names: &Names, dry: bool) -> Result<Vec<Step>> {
    let tables = captured(at.session, names).await?;
    let there = exists(at.session, names).await?;
    let word = |found: bool| match (found, dry) {
        (false, _) => "not there",
        (true, true) => "would be removed",
        (true, false) => "removed",
    };
    let mut steps: Vec<Step> =
        tables.iter().map(|(_, name)| Step::new(format!("triggers on {name}"), word(true))).collect();
    steps.push(Step::new(format!("schema {} with the change tables", names.schema), word(there)));
    if !dry {
        for (id, name) in &tables {
            drop_table(at, names, *id, name).await?;
        }
        if there {
            let sql = format!("DROP SCHEMA {} CASCADE", quote_ident(&names.schema));
            at.run("removing the change tables", &sql).await?;
        }
    }
    Ok(steps)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::untouched("triggers 1 5; 2", "triggers 1 5; 2", true)]
    #[case::put_back("triggers 1 5; 2", "triggers 7 9; 2", false)]
    #[case::of_another_form_by_ourselves("triggers 1 5; 1", "triggers 7 9; 2", true)]
    #[case::by_an_earlier_version("triggers 1 5", "triggers 1 5; 1", true)]
    #[case::put_back_since_an_earlier_version("triggers 1 5", "triggers 7 9; 2", false)]
    fn triggers_that_were_put_back_are_told(#[case] before: &str, #[case] now: &str, #[case] expected: bool) {
        assert_eq!(is_unbroken(before, now), expected);
    }
}
