//! What trigger capture makes in the source: a schema of its own with a change table, a function and triggers
//! for each carried table.
//!
//! Change tables have the carried columns twice, with the types of the table itself, so that a writer only
//! copies values and the reader's own session settings decide how they look as text. The functions run with
//! the rights of the user that captures, name everything in full, and never fail a writer: when the change
//! tables grow beyond their limit, capturing ends for good, which a sequence (not undone by any rollback)
//! tells the reader before it could miss a change.

use crate::address::PostgresAddress;
use crate::connect::Session;
use crate::error::is_missing_right;
use crate::waits::naming_waits;
use moorage_adapter::{AdapterError, CapturePlan, Event, Events, Result, Step};
use moorage_core::plan::TablePlan;
use moorage_core::sql::{quote_ident, quote_list, quote_literal};

/// Every so many changes the size of a change table is looked at.
const LOOK_AT_SIZE_EVERY: u32 = 1024;

/// The names of what is made.
#[derive(Clone, Debug)]
pub(crate) struct Names {
    /// The schema, which is named as a slot would be.
    pub(crate) schema: String,
}

impl Names {
    pub(crate) fn new(capture: &CapturePlan) -> Self {
        Self { schema: capture.slot.clone() }
    }

    fn in_schema(&self, name: &str) -> String {
        format!("{}.{}", quote_ident(&self.schema), quote_ident(name))
    }

    /// The table with the token and how far changes were forgotten.
    pub(crate) fn about(&self) -> String {
        self.in_schema("about")
    }

    /// Random marks by which the history is known again.
    pub(crate) fn anchors(&self) -> String {
        self.in_schema("anchors")
    }

    /// The sequence that numbers changes.
    pub(crate) fn numbers(&self) -> String {
        self.in_schema("numbers")
    }

    /// The sequence that was used if capturing has ended.
    pub(crate) fn full(&self) -> String {
        self.in_schema("full")
    }

    /// The change table of a table.
    pub(crate) fn changes(&self, table: u64) -> String {
        self.in_schema(&format!("changes_{table}"))
    }

    fn function(&self, table: u64) -> String {
        self.in_schema(&format!("capture_{table}"))
    }

    fn trigger(&self, what: &str) -> String {
        format!("{}_{what}", self.schema)
    }
}

/// Someone who sets up, with what is needed to say what is waited for.
pub(crate) struct At<'a> {
    pub(crate) address: &'a PostgresAddress,
    pub(crate) session: &'a Session,
    pub(crate) events: &'a Events,
}

impl At<'_> {
    async fn run(&self, doing: &str, sql: &str) -> Result<()> {
        let work = async {
            let done = self.session.client().batch_execute(sql).await.map_err(|e| {
                if is_missing_right(&e) {
                    let words = e.as_db_error().map_or("", |d| d.message());
                    let statements = format!(
                        "GRANT CREATE ON DATABASE … TO {0}; GRANT TRIGGER ON … TO {0};",
                        quote_ident(&self.address.user)
                    );
                    return AdapterError::NeedsAdministrator {
                        what: format!("{doing}: {words}"),
                        statements,
                    };
                }
                self.session.error(doing, &e)
            });
            if done.is_err() {
                // A connection that is gone has rolled back already.
                let _ = self.session.run("rolling back", "ROLLBACK").await;
            }
            done
        };
        naming_waits(self.address, self.session.pid(), doing, self.events, work).await
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
        "BEGIN; CREATE SCHEMA {schema};
         CREATE TABLE {about} (token text NOT NULL, limit_bytes bigint NOT NULL, forgotten pg_snapshot NOT NULL);
         INSERT INTO {about} VALUES ({token}, {limit}, pg_current_snapshot());
         CREATE TABLE {anchors} (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, mark text NOT NULL);
         CREATE SEQUENCE {numbers} CACHE 1; CREATE SEQUENCE {full}; COMMIT",
        schema = quote_ident(&names.schema),
        about = names.about(),
        token = quote_literal(token),
        anchors = names.anchors(),
        numbers = names.numbers(),
        full = names.full(),
    );
    at.run("making the schema for change tables", &sql).await?;
    (at.events)(Event::Prepared { step: Step::new(format!("schema {}", names.schema), "made") });
    Ok(())
}

/// The tables that have triggers of this capture point.
pub(crate) async fn captured(session: &Session, names: &Names) -> Result<Vec<(u64, String)>> {
    let sql = "SELECT tgrelid, format('%I.%I', n.nspname, c.relname) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid
               JOIN pg_namespace n ON n.oid = c.relnamespace WHERE tgname = $1 AND tgenabled <> 'D' ORDER BY 1";
    let rows = session.rows("looking for triggers", sql, &[&names.trigger("row")]).await?;
    Ok(rows.iter().map(|r| (u64::from(r.get::<_, u32>(0)), r.get(1))).collect())
}

/// Gives exactly these tables their triggers, one table after the other, so that no two are locked at a time.
/// Making a trigger waits for all who are writing to the table: from then on every change is captured.
pub(crate) async fn align(at: &At<'_>, names: &Names, tables: &[TablePlan], limit: u64) -> Result<()> {
    let there = captured(at.session, names).await?;
    for (id, name) in there.iter().filter(|(id, _)| tables.iter().all(|t| t.source_id != *id)) {
        drop_table(at, names, *id, name).await?;
    }
    let mut made = 0;
    for plan in tables {
        if there.iter().any(|(id, _)| *id == plan.source_id) && fits(at.session, names, plan).await? {
            continue;
        }
        make_table(at, names, plan, limit).await?;
        made += 1;
    }
    let what = format!("triggers on {} {}", tables.len(), if tables.len() == 1 { "table" } else { "tables" });
    let outcome = if made == 0 { "already so" } else { "made" };
    (at.events)(Event::Prepared { step: Step::new(what, outcome) });
    Ok(())
}

/// Whether the change table has the planned columns.
async fn fits(session: &Session, names: &Names, plan: &TablePlan) -> Result<bool> {
    let sql = "SELECT obj_description(to_regclass($1), 'pg_class')";
    let found: Option<String> =
        session.one("looking at a change table", sql, &[&names.changes(plan.source_id)]).await?.get(0);
    Ok(found.as_deref() == Some(plan.fingerprint.as_str()))
}

/// The carried columns with the types that their domains are made from: a change has no value where a domain
/// may demand one.
async fn base_types(session: &Session, plan: &TablePlan) -> Result<Vec<String>> {
    let sql = "WITH RECURSIVE base AS (
                 SELECT a.attname, a.attnum, t.oid, t.typtype, t.typbasetype, a.atttypmod AS modifier
                 FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
                 WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped
                 UNION ALL
                 SELECT b.attname, b.attnum, u.oid, u.typtype, u.typbasetype, d.typtypmod
                 FROM base b JOIN pg_type d ON d.oid = b.oid JOIN pg_type u ON u.oid = b.typbasetype WHERE b.typtype = 'd')
               SELECT attname::text, format_type(oid, modifier) FROM base WHERE typtype <> 'd'";
    let rows = session.rows("reading the columns' types", sql, &[&(plan.source_id as u32)]).await?;
    plan.schema
        .columns
        .iter()
        .map(|column| {
            let found =
                rows.iter().find(|r| r.get::<_, &str>(0) == column.name).map(|r| r.get::<_, String>(1));
            found.ok_or_else(|| AdapterError::Drift {
                table: plan.table().to_string(),
                what: format!("column {} is gone", column.name),
            })
        })
        .collect()
}

async fn make_table(at: &At<'_>, names: &Names, plan: &TablePlan, limit: u64) -> Result<()> {
    let id = plan.source_id;
    let types = base_types(at.session, plan).await?;
    let columns: Vec<String> =
        types.iter().enumerate().map(|(i, t)| format!("o{0} {t}, n{0} {t}", i + 1)).collect();
    let list =
        |letter: &str| (1..=types.len()).map(|i| format!("{letter}{i}")).collect::<Vec<_>>().join(", ");
    let image = |record: &str| {
        let quoted = plan.schema.columns.iter().map(|c| format!("{record}.{}", quote_ident(&c.name)));
        quoted.collect::<Vec<_>>().join(", ")
    };
    let (changes, function) = (names.changes(id), names.function(id));
    let insert = |kind: &str, into: &str, values: &str| {
        format!("INSERT INTO {changes} (number, kind{into}) VALUES (change, '{kind}'{values})")
    };
    let body = format!(
        "DECLARE change bigint;
         BEGIN
           IF pg_catalog.pg_sequence_last_value({full}::pg_catalog.regclass) IS NOT NULL THEN RETURN NULL; END IF;
           change := pg_catalog.nextval({numbers}::pg_catalog.regclass);
           IF pg_catalog.mod(change, {LOOK_AT_SIZE_EVERY}) OPERATOR(pg_catalog.=) 0
              AND pg_catalog.pg_relation_size({this}::pg_catalog.regclass) OPERATOR(pg_catalog.>) {limit} THEN
             PERFORM pg_catalog.nextval({full}::pg_catalog.regclass);
             RETURN NULL;
           END IF;
           IF TG_OP OPERATOR(pg_catalog.=) 'INSERT' THEN {insert};
           ELSIF TG_OP OPERATOR(pg_catalog.=) 'UPDATE' THEN {update};
           ELSIF TG_OP OPERATOR(pg_catalog.=) 'DELETE' THEN {delete};
           ELSE {truncate};
           END IF;
           RETURN NULL;
         END",
        full = quote_literal(&names.full()),
        numbers = quote_literal(&names.numbers()),
        this = quote_literal(&changes),
        insert = insert("I", &format!(", {}", list("n")), &format!(", {}", image("NEW"))),
        update = insert(
            "U",
            &format!(", {}, {}", list("o"), list("n")),
            &format!(", {}, {}", image("OLD"), image("NEW"))
        ),
        delete = insert("D", &format!(", {}", list("o")), &format!(", {}", image("OLD"))),
        truncate = insert("T", "", ""),
    );
    let (row, truncated) = (quote_ident(&names.trigger("row")), quote_ident(&names.trigger("truncate")));
    let table = plan.table().quoted();
    let sql = format!(
        "BEGIN; DROP TRIGGER IF EXISTS {row} ON {table}; DROP TRIGGER IF EXISTS {truncated} ON {table};
         DROP TABLE IF EXISTS {changes};
         CREATE TABLE {changes} (number bigint NOT NULL, xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
           at timestamptz NOT NULL DEFAULT clock_timestamp(), kind \"char\" NOT NULL, {columns})
           WITH (autovacuum_vacuum_scale_factor = 0.05, autovacuum_vacuum_threshold = 5000);
         COMMENT ON TABLE {changes} IS {fingerprint};
         CREATE OR REPLACE FUNCTION {function}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS {body};
         CREATE TRIGGER {row} AFTER INSERT OR UPDATE OR DELETE ON {table} FOR EACH ROW EXECUTE FUNCTION {function}();
         CREATE TRIGGER {truncated} AFTER TRUNCATE ON {table} FOR EACH STATEMENT EXECUTE FUNCTION {function}();
         COMMIT",
        columns = columns.join(", "),
        fingerprint = quote_literal(&plan.fingerprint),
        body = quote_literal(&body),
    );
    at.run(&format!("making triggers on {}", plan.table()), &sql).await
}

async fn drop_table(at: &At<'_>, names: &Names, id: u64, table: &str) -> Result<()> {
    let (row, truncated) = (quote_ident(&names.trigger("row")), quote_ident(&names.trigger("truncate")));
    let sql = format!(
        "BEGIN; DROP TRIGGER IF EXISTS {row} ON {table}; DROP TRIGGER IF EXISTS {truncated} ON {table};
         DROP FUNCTION IF EXISTS {}(); DROP TABLE IF EXISTS {}; COMMIT",
        names.function(id),
        names.changes(id)
    );
    at.run(&format!("removing triggers from {table}"), &sql).await
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

/// The columns of the change tables in the order in which they are read: old image, then new one.
pub(crate) fn image_columns(count: usize) -> String {
    let names: Vec<String> =
        ["o", "n"].iter().flat_map(|letter| (1..=count).map(move |i| format!("{letter}{i}"))).collect();
    quote_list(names.iter().map(String::as_str))
}
