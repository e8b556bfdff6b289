//! The capture point: publication first, then the slot.
//!
//! The order matters: a publication made or made again after the slot stops the slot. A random token in
//! the publication's comment tells a capture point made again from the one a target follows.

use crate::as_source::named::Point;
use crate::as_source::new_tables;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::error::is_missing_right;
use crate::wire::server::{head, identity, position};
use crate::wire::waits::naming_waits;
use moorage_adapter::{AdapterError, CaptureState, Doing, Event, Events, Removed, Result, Step};
use moorage_core::Position;
use moorage_core::checkpoint::decide::CapturePoint;
use moorage_core::model::sql::{quote_ident, quote_literal};
use moorage_core::plan::table::TablePlan;
use std::collections::BTreeSet;

const TOKEN_PREFIX: &str = "made by moorage, token ";

pub(crate) const OPTIONS: &str =
    "WITH (publish = 'insert, update, delete, truncate', publish_via_partition_root = false)";

pub(crate) async fn state(session: &Session, plan: &Point) -> Result<CaptureState> {
    let identity = identity(session).await?;
    Ok(CaptureState { identity, head: head(session).await?, point: point(session, plan).await? })
}

async fn point(session: &Session, plan: &Point) -> Result<Option<CapturePoint>> {
    let sql = "SELECT s.active_pid, s.confirmed_flush_lsn::text, s.wal_status, s.database::text, s.plugin::text,
                      current_database()::text, coalesce(a.application_name, ''), coalesce(host(a.client_addr), 'this host')
               FROM pg_replication_slots s LEFT JOIN pg_stat_activity a ON a.pid = s.active_pid
               WHERE s.slot_name = $1";
    let Some(row) = session.maybe("looking for the slot", sql, &[&plan.slot]).await? else { return Ok(None) };
    let (database, plugin): (Option<String>, Option<String>) = (row.get(3), row.get(4));
    if database.as_deref() != Some(row.get(5)) || plugin.as_deref() != Some("pgoutput") {
        return Err(AdapterError::refused(
            format!("slot {}", plan.slot),
            format!(
                "a slot of this name belongs to {} (plug-in {}). Name another one in the project file: slot = \"…\"",
                database.map_or("physical replication".into(), |d| format!("database {d}")),
                plugin.unwrap_or_else(|| "none".into())
            ),
        ));
    }
    let lost = row.get::<_, Option<String>>(2).as_deref() == Some("lost");
    let confirmed: Option<String> = row.get(1);
    let active = row.get::<_, Option<i32>>(0).map(|pid| {
        format!("pid {pid} of the server ({}, from {})", row.get::<_, String>(6), row.get::<_, String>(7))
    });
    Ok(Some(CapturePoint {
        active,
        reaches_back_to: if lost { None } else { confirmed.map(|c| position(&c)).transpose()? },
        token: token(session, &plan.publication).await?,
        named_by_user: plan.slot_named,
        keep_more: "raise max_slot_wal_keep_size to keep more",
    }))
}

async fn token(session: &Session, publication: &str) -> Result<Option<String>> {
    let sql = "SELECT obj_description(oid, 'pg_publication') FROM pg_publication WHERE pubname = $1";
    let row = session.maybe("looking for the publication", sql, &[&publication]).await?;
    let comment: Option<String> = row.and_then(|r| r.get(0));
    Ok(comment.and_then(|c| c.strip_prefix(TOKEN_PREFIX).map(str::to_string)))
}

pub(crate) fn table_list(tables: &[&TablePlan]) -> String {
    tables.iter().map(|t| format!("ONLY {}", t.table().quoted())).collect::<Vec<_>>().join(", ")
}

/// A session with what is needed to say what it waits for.
pub(crate) struct Observed<'a> {
    pub(crate) address: &'a PostgresAddress,
    pub(crate) session: &'a Session,
    pub(crate) events: &'a Events,
}

impl Observed<'_> {
    /// Runs a statement for which rights may be missing, which makes it one for the administrator, or
    /// which may have to wait for someone's lock, which is said.
    async fn run_or_ask(&self, doing: impl Into<Doing>, what: &str, sql: &str) -> Result<()> {
        let doing = doing.into();
        let work = async {
            self.session.client().batch_execute(sql).await.map_err(|e| {
                if is_missing_right(&e) {
                    let words = e.as_db_error().map_or("", |d| d.message());
                    let statements = format!("{sql};");
                    return AdapterError::NeedsAdministrator { what: format!("{what}: {words}"), statements };
                }
                self.session.error(&doing, &e)
            })
        };
        naming_waits(self.address, self.session.pid(), &doing, self.events, work).await
    }

    fn said(&self, what: String, outcome: &str) {
        (self.events)(Event::Prepared { step: Step::new(what, outcome) });
    }
}

/// Makes sure that the publication is there and holds exactly the tables, or at least them if the
/// project file names it.
pub(crate) async fn publication(at: &Observed<'_>, plan: &Point, tables: &[TablePlan]) -> Result<()> {
    let session = at.session;
    let name = &plan.publication;
    let said = |outcome: &str| at.said(format!("publication {name}"), outcome);
    let sql = "SELECT puballtables, pubinsert AND pubupdate AND pubdelete AND pubtruncate, pubviaroot FROM pg_publication WHERE pubname = $1";
    let Some(row) = session.maybe("looking for the publication", sql, &[name]).await? else {
        if plan.publication_named {
            let statements = format!(
                "CREATE PUBLICATION {} FOR TABLE {} {OPTIONS};",
                quote_ident(name),
                table_list(&tables.iter().collect::<Vec<_>>())
            );
            return Err(AdapterError::NeedsAdministrator {
                what: format!("publication {name}, which the project file names, is not there"),
                statements,
            });
        }
        let all: Vec<&TablePlan> = tables.iter().collect();
        let sql =
            format!("CREATE PUBLICATION {} FOR TABLE {} {OPTIONS}", quote_ident(name), table_list(&all));
        at.run_or_ask("making the publication", "the user may not publish these tables", &sql).await?;
        comment(at, plan).await?;
        said("made");
        return Ok(());
    };
    check_publication(session, name, &row).await?;
    if row.get::<_, bool>(0) {
        said("already so, for all tables");
        return Ok(());
    }
    let sql = "SELECT prrelid FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = $1";
    let rows = session.rows("reading the publication's tables", sql, &[name]).await?;
    let there: BTreeSet<u64> = rows.iter().map(|r| u64::from(r.get::<_, u32>(0))).collect();
    let missing: Vec<&TablePlan> = tables.iter().filter(|t| !there.contains(&t.source_id)).collect();
    if !missing.is_empty() {
        let sql = format!("ALTER PUBLICATION {} ADD TABLE {}", quote_ident(name), table_list(&missing));
        if new_tables::is_offered(session, name).await? {
            for table in &missing {
                if let Some(why) = new_tables::ask(session, name, table.source_id as u32, true).await? {
                    let what = format!("{} is not let in: {why}", table.table());
                    return Err(AdapterError::NeedsAdministrator { what, statements: format!("{sql};") });
                }
            }
        } else if plan.publication_named {
            let what = format!("publication {name} does not hold all picked tables");
            return Err(AdapterError::NeedsAdministrator { what, statements: format!("{sql};") });
        } else {
            at.run_or_ask("adding tables to the publication", "the user may not publish these tables", &sql)
                .await?;
        }
    }
    if !plan.publication_named {
        drop_others(at, name, tables).await?;
    }
    said(if missing.is_empty() { "already so" } else { "tables added" });
    Ok(())
}

/// For each table what publishes it: numbers that no other entry will have, and the transactions that last changed
/// them. A table that was taken out and put in again has another number; a publication that was altered, also back to
/// what it was, has another transaction (PostgreSQL manual, sections 53.42 and 5.5).
pub(crate) async fn published_by(
    session: &Session,
    publication: &str,
    tables: &[u32],
) -> Result<Vec<Option<String>>> {
    let sql = "SELECT CASE WHEN r.oid IS NOT NULL THEN format('publication %s %s, entry %s %s', p.oid, p.xmin, r.oid, r.xmin)
                           WHEN p.puballtables THEN format('publication %s %s', p.oid, p.xmin) END
               FROM unnest($2::oid[]) WITH ORDINALITY t(id, place)
               LEFT JOIN pg_publication p ON p.pubname = $1
               LEFT JOIN pg_publication_rel r ON r.prpubid = p.oid AND r.prrelid = t.id ORDER BY t.place";
    let rows = session.rows("looking at what publishes the tables", sql, &[&publication, &tables]).await?;
    Ok(rows.iter().map(|r| r.get(0)).collect())
}

/// Whether a publication holds whatever tables there are.
pub(crate) async fn publishes_all(session: &Session, publication: &str) -> Result<bool> {
    let sql = "SELECT puballtables FROM pg_publication WHERE pubname = $1";
    let row = session.maybe("looking for the publication", sql, &[&publication]).await?;
    Ok(row.is_some_and(|row| row.get(0)))
}

/// Tables that are not carried any more need not be published any more.
async fn drop_others(at: &Observed<'_>, name: &str, tables: &[TablePlan]) -> Result<()> {
    let session = at.session;
    let sql = "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_publication_rel r
               JOIN pg_publication p ON p.oid = r.prpubid JOIN pg_class c ON c.oid = r.prrelid
               JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE p.pubname = $1 AND NOT r.prrelid = ANY ($2)";
    let ids: Vec<u32> = tables.iter().map(|t| t.source_id as u32).collect();
    for row in session.rows("reading the publication's tables", sql, &[&name, &ids]).await? {
        let sql =
            format!("ALTER PUBLICATION {} DROP TABLE ONLY {}", quote_ident(name), row.get::<_, String>(0));
        at.run_or_ask(
            "taking a table out of the publication",
            "the user may not change the publication",
            &sql,
        )
        .await?;
    }
    Ok(())
}

/// A publication that someone else made must send everything, as it is.
async fn check_publication(session: &Session, name: &str, row: &tokio_postgres::Row) -> Result<()> {
    let refuse = |reason: &str| Err(AdapterError::refused(format!("publication {name}"), reason));
    if !row.get::<_, bool>(1) {
        return refuse(
            "it does not publish inserts, updates, deletes and truncates. Run: ALTER PUBLICATION … SET (publish = 'insert, update, delete, truncate')",
        );
    }
    if row.get::<_, bool>(2) {
        return refuse(
            "it publishes partitions through their root, which hides truncated, detached and dropped partitions. Run: ALTER PUBLICATION … SET (publish_via_partition_root = false)",
        );
    }
    let has_filters = "SELECT count(*) FROM pg_attribute WHERE attrelid = 'pg_publication_rel'::regclass AND attname = 'prqual'";
    if session.one("reading the catalogue's columns", has_filters, &[]).await?.get::<_, i64>(0) == 0 {
        return Ok(());
    }
    let sql = "SELECT count(*) FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
               WHERE p.pubname = $1 AND (r.prqual IS NOT NULL OR r.prattrs IS NOT NULL)";
    if session.one("reading the publication's filters", sql, &[&name]).await?.get::<_, i64>(0) > 0 {
        return refuse(
            "it has row filters or column lists, and the target would lack what they leave out. Use a publication without them",
        );
    }
    Ok(())
}

async fn comment(at: &Observed<'_>, plan: &Point) -> Result<()> {
    let text = format!("{TOKEN_PREFIX}{}", plan.token);
    let sql =
        format!("COMMENT ON PUBLICATION {} IS {}", quote_ident(&plan.publication), quote_literal(&text));
    at.run_or_ask("marking the publication", "the user does not own the publication", &sql).await
}

/// How many bytes of log a slot keeps, and how many it may, both where that is known.
pub(crate) async fn kept(session: &Session, slot: &str) -> Result<(Option<u64>, Option<u64>)> {
    let sql = "SELECT (pg_current_wal_lsn() - s.restart_lsn)::bigint, nullif(l.setting, '-1')::bigint * 1048576
               FROM pg_replication_slots s, pg_settings l WHERE s.slot_name = $1 AND l.name = 'max_slot_wal_keep_size'";
    let row = session.maybe("looking at what the slot keeps", sql, &[&slot]).await?;
    let bytes = |at: usize| row.as_ref().and_then(|row| u64::try_from(row.get::<_, Option<i64>>(at)?).ok());
    Ok((bytes(0), bytes(1)))
}

/// Makes the slot; while the server waits for old transactions, says for which.
pub(crate) async fn slot(at: &Observed<'_>, plan: &Point, again: bool) -> Result<Position> {
    let Observed { address, session, events } = *at;
    let said = |outcome: &str| at.said(format!("slot {}", plan.slot), outcome);
    if plan.slot_named {
        let Some(found) = point(session, plan).await? else {
            let statements = format!(
                "SELECT pg_create_logical_replication_slot({}, 'pgoutput');",
                quote_literal(&plan.slot)
            );
            return Err(AdapterError::NeedsAdministrator {
                what: format!("slot {}, which the project file names, is not there", plan.slot),
                statements,
            });
        };
        said("already so");
        let lost = || {
            AdapterError::refused(
                format!("slot {}", plan.slot),
                "it was invalidated by the server; make it again",
            )
        };
        return found.reaches_back_to.ok_or_else(lost);
    }
    if !plan.publication_named && token(session, &plan.publication).await?.as_deref() != Some(&plan.token) {
        // Made by an administrator: without our mark, but good to read from. Otherwise marked as ours.
        if let Err(error) = comment(at, plan).await {
            tracing::debug!("the publication stays without a mark: {error}");
        }
    }
    if again {
        let sql = "SELECT count(pg_drop_replication_slot(slot_name)) FROM pg_replication_slots WHERE slot_name = $1";
        session.as_user(session.one("removing the slot of a broken-off set-up", sql, &[&plan.slot])).await?;
    }
    let make = async {
        let sql = "SELECT lsn::text FROM pg_create_logical_replication_slot($1, 'pgoutput')";
        let row = session.client().query_one(sql, &[&plan.slot]).await.map_err(|e| {
            if is_missing_right(&e) {
                let statements = format!("ALTER ROLE {} REPLICATION;", quote_ident(&address.user));
                return AdapterError::NeedsAdministrator {
                    what: format!("user {} may not make a slot", address.user),
                    statements,
                };
            }
            session.error(Doing::to("making slot", &plan.slot), &e)
        })?;
        position(row.get(0))
    };
    let doing = Doing::to("making slot", &plan.slot);
    let made = session.as_user(naming_waits(address, session.pid(), &doing, events, make)).await?;
    said("made");
    Ok(made)
}

/// Removes slot and publication, unless the project file names them.
pub(crate) async fn teardown(at: &Observed<'_>, plan: &Point, dry: bool) -> Result<Removed> {
    let session = at.session;
    let mut removed = Removed::default();
    let slot = point(session, plan).await?;
    let outcome = match (&slot, plan.slot_named, dry) {
        (None, ..) => "not there".to_string(),
        (Some(_), true, _) => "left: the project file names it".into(),
        (Some(CapturePoint { active: Some(by), .. }), _, _) => {
            return Err(AdapterError::refused(
                format!("slot {}", plan.slot),
                format!("it is in use by {by}. Stop that process first"),
            ));
        }
        (Some(_), _, true) => "would be removed".into(),
        (Some(_), _, false) => {
            let sql = "SELECT pg_drop_replication_slot($1)";
            session.as_user(session.one("removing the slot", sql, &[&plan.slot])).await?;
            "removed".into()
        }
    };
    removed.steps.push(Step::new(format!("slot {}", plan.slot), outcome));
    let published = "SELECT pubname::text FROM pg_publication WHERE pubname = $1";
    let there =
        session.maybe("looking for the publication", published, &[&plan.publication]).await?.is_some();
    let outcome = match (there, plan.publication_named, dry) {
        (false, ..) => "not there",
        (true, true, _) => "left: the project file names it",
        (true, false, true) => "would be removed",
        (true, false, false) => {
            let sql = format!("DROP PUBLICATION {}", quote_ident(&plan.publication));
            at.run_or_ask("removing the publication", "the user does not own the publication", &sql).await?;
            "removed"
        }
    };
    removed.steps.push(Step::new(format!("publication {}", plan.publication), outcome));
    let slot_gone = plan.slot_named || point(session, plan).await?.is_none();
    let publication_gone = plan.publication_named
        || session.maybe("looking again", published, &[&plan.publication]).await?.is_none();
    removed.proved_gone = !dry && slot_gone && publication_gone;
    Ok(removed)
}
