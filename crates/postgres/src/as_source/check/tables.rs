//! Tables and what is published of them.

use crate::as_source::capture::{OPTIONS, table_list};
use crate::as_source::catalog::IdentityBy;
use crate::as_source::check::at::Check;
use crate::as_source::trigger::names::Names;
use crate::wire::error::words;
use moorage_adapter::Result;
use moorage_core::model::finding::{End, Finding, Fix};
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;
use std::collections::{BTreeSet, HashSet};
use tokio_postgres::Row;

fn ok(check: &'static str, found: impl Into<String>) -> Finding {
    Finding::ok(End::Source, check, found)
}

fn blocker(check: &'static str, found: impl Into<String>, why: &str, fix: Fix) -> Finding {
    Finding::blocker(End::Source, check, found, why, fix)
}

pub(super) async fn inspect(at: &Check<'_>) -> Result<Vec<Finding>> {
    let mut found = Vec::new();
    if at.by == IdentityBy::Log {
        found.extend(publication(at).await?);
    }
    found.push(method(at));
    if at.by == IdentityBy::Trigger {
        found.extend(bypassed(at).await?);
    }
    Ok(found)
}

/// Tables whose triggers do not, or will not, fire for every session: only owners can have them do so.
async fn bypassed(at: &Check<'_>) -> Result<Vec<Finding>> {
    let sql = "SELECT format('%I.%I', n.nspname, c.relname), c.relowner::regrole::text,
                      array_agg(quote_ident(t.tgname) ORDER BY t.oid) FILTER (WHERE t.tgenabled = 'O')
               FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               LEFT JOIN pg_trigger t ON t.tgrelid = c.oid AND t.tgname = ANY ($2) WHERE c.oid = ANY ($1)
               GROUP BY c.oid, c.relowner, n.nspname, c.relname HAVING bool_or(t.tgenabled = 'O')
                     OR (count(t.oid) = 0 AND NOT pg_has_role(c.relowner, 'USAGE')) ORDER BY 1";
    let ids: Vec<u32> = at.inspected.plan.tables.iter().map(|t| t.source_id as u32).collect();
    let triggers = Names::of(&at.capture.slot).triggers();
    let rows = at.session.rows("looking at the tables' owners", sql, &[&ids, &&triggers[..]]).await?;
    let why = "changes by sessions with session_replication_role = replica (a subscription that is applied here, some restores) are missed there; triggers of an owner see them too";
    let finding = |tables: Vec<String>, found: &str, statements: Vec<String>, step: &str| {
        let found = format!("{found} {}", tables.join(", "));
        Finding::warning(End::Source, "bypassed", found, why, Fix::run(statements).then(step))
    };
    let (made, to_come): (Vec<_>, Vec<_>) =
        rows.iter().partition(|row| row.get::<_, Option<Vec<String>>>(2).is_some());
    let tables = |of: &[&Row]| of.iter().map(|row| row.get::<_, String>(0)).collect::<Vec<_>>();
    let mut found = Vec::new();
    if !made.is_empty() {
        let switch = |row: &&Row| {
            let table: String = row.get(0);
            let triggers = row.get::<_, Option<Vec<String>>>(2).unwrap_or_default();
            triggers.into_iter().map(move |t| format!("ALTER TABLE {table} ENABLE ALWAYS TRIGGER {t}"))
        };
        let step = "as the owner, if there are such sessions; these tables are then read again by themselves";
        let what = "the triggers do not fire for every session on";
        found.push(finding(tables(&made), what, made.iter().flat_map(switch).collect(), step));
    }
    if !to_come.is_empty() {
        let user = at.address.role_taken().unwrap_or(&at.address.user);
        let owners: BTreeSet<String> = to_come.iter().map(|row| row.get(1)).collect();
        let grants = owners.iter().map(|owner| format!("GRANT {owner} TO {}", quote_ident(user))).collect();
        let step = "before the first run, if there are such sessions; or capture by log";
        found.push(finding(tables(&to_come), &format!("{user} does not own"), grants, step));
    }
    Ok(found)
}

/// Which way of capturing suits, and what each would miss.
fn method(at: &Check<'_>) -> Finding {
    let (found, why) = match at.by {
        IdentityBy::Log => (
            "by log",
            "it costs the application nothing and keeps the order and time of commits; it does not tell of structure changes before the next row, and a stopped pipeline makes the server keep its log. By triggers (capture = \"trigger\") would need no wal_level and no right to replicate, but makes every write slower, and groups what it sees every 20 to 30 ms",
        ),
        IdentityBy::Trigger => (
            "by triggers",
            "it needs no wal_level and no right to replicate; every write becomes slower, transactions that end within 20 to 30 ms are seen as one. By log (capture = \"log\") would cost the application nothing",
        ),
    };
    ok("capture", found).because(why)
}

async fn publication(at: &Check<'_>) -> Result<Vec<Finding>> {
    let name = &at.capture.publication;
    let sql = "SELECT puballtables, pubinsert AND pubupdate AND pubdelete AND pubtruncate, pubviaroot FROM pg_publication WHERE pubname = $1";
    let Some(row) = at.session.maybe("looking for the publication", sql, &[name]).await? else {
        return Ok(vec![missing(at).await?]);
    };
    let mut found = Vec::new();
    let quoted = quote_ident(name);
    if !row.get::<_, bool>(1) {
        found.push(blocker(
            "publication",
            format!("{name} does not publish inserts, updates, deletes and truncates"),
            "changes of the other kinds would be missed",
            Fix::run([format!(
                "ALTER PUBLICATION {quoted} SET (publish = 'insert, update, delete, truncate')"
            )]),
        ));
    }
    if row.get::<_, bool>(2) {
        found.push(blocker(
            "publication",
            format!("{name} publishes partitions through their root"),
            "truncated, detached and dropped partitions would not be seen",
            Fix::run([format!("ALTER PUBLICATION {quoted} SET (publish_via_partition_root = false)")]),
        ));
    }
    found.extend(filtered(at, &quoted).await?);
    if !row.get::<_, bool>(0) {
        found.extend(contents(at, &quoted).await?);
    }
    if found.is_empty() {
        found.push(ok("publication", format!("{name} is there and holds the picked tables")));
    }
    Ok(found)
}

/// There is none yet: one is made and taken back, unless an administrator is to make it.
async fn missing(at: &Check<'_>) -> Result<Finding> {
    let name = &at.capture.publication;
    let tables: Vec<&TablePlan> = at.inspected.plan.tables.iter().collect();
    let statement = |name: &str| {
        format!("CREATE PUBLICATION {} FOR TABLE {} {OPTIONS}", quote_ident(name), table_list(&tables))
    };
    let why = "a publication says which tables the log's changes are sent of";
    if at.capture.publication_named || tables.is_empty() {
        let found = format!("{name} is not there");
        return Ok(if tables.is_empty() {
            ok("publication", format!("{found}; there is no table to publish"))
        } else {
            blocker(
                "publication",
                format!("{found}, and the project file names it"),
                why,
                Fix::run([statement(name)]),
            )
        });
    }
    let probe = statement(&format!("moorage_probe_{}", at.session.pid()));
    let tried = try_it(at, &probe).await?;
    Ok(match tried {
        None => ok("publication", format!("{name} will be made: making one works")),
        Some(words) => blocker(
            "publication",
            format!("user {} cannot make it: {words}", at.address.user),
            why,
            Fix::run([statement(name)]).then("as the tables' owner or a superuser"),
        ),
    })
}

/// Runs a statement and takes it back; the server's words if that does not work.
async fn try_it(at: &Check<'_>, statement: &str) -> Result<Option<String>> {
    let sql = format!("BEGIN; SET LOCAL lock_timeout = '2s'; {statement}; ROLLBACK");
    match at.session.client().batch_execute(&sql).await {
        Ok(()) => Ok(None),
        Err(error) => {
            at.session.run("taking back", "ROLLBACK").await?;
            Ok(Some(words(&error)))
        }
    }
}

/// Row filters and column lists, which the stream would apply and the snapshot would not.
async fn filtered(at: &Check<'_>, quoted: &str) -> Result<Option<Finding>> {
    let has_filters = "SELECT count(*) FROM pg_attribute WHERE attrelid = 'pg_publication_rel'::regclass AND attname = 'prqual'";
    if at.session.one("reading the catalogue's columns", has_filters, &[]).await?.get::<_, i64>(0) == 0 {
        return Ok(None);
    }
    let sql = "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
               JOIN pg_class c ON c.oid = r.prrelid JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE p.pubname = $1 AND (r.prqual IS NOT NULL OR r.prattrs IS NOT NULL) ORDER BY 1";
    let rows = at.session.rows("reading the publication's filters", sql, &[&at.capture.publication]).await?;
    let tables: Vec<String> = rows.iter().map(|r| r.get(0)).collect();
    let again = tables.iter().flat_map(|t| {
        [
            format!("ALTER PUBLICATION {quoted} DROP TABLE {t}"),
            format!("ALTER PUBLICATION {quoted} ADD TABLE {t}"),
        ]
    });
    Ok((!tables.is_empty()).then(|| {
        blocker(
            "publication_filters",
            format!("{} has row filters or column lists on {}", at.capture.publication, tables.join(", ")),
            "the target would lack what they leave out; `where` and `only` in the project file filter exactly",
            Fix::run(again),
        )
    }))
}

async fn contents(at: &Check<'_>, quoted: &str) -> Result<Vec<Finding>> {
    let sql = "SELECT r.prrelid FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = $1";
    let rows = at.session.rows("reading the publication's tables", sql, &[&at.capture.publication]).await?;
    let there: HashSet<u64> = rows.iter().map(|r| u64::from(r.get::<_, u32>(0))).collect();
    let tables = &at.inspected.plan.tables;
    let missing: Vec<&TablePlan> = tables.iter().filter(|t| !there.contains(&t.source_id)).collect();
    let mut found = Vec::new();
    if !missing.is_empty() {
        let statement = format!("ALTER PUBLICATION {quoted} ADD TABLE {}", table_list(&missing));
        let said = match at.capture.publication_named {
            true => Some("the project file names it, so Moorage leaves it as it is".to_string()),
            false => try_it(at, &statement).await?,
        };
        let names: Vec<String> = missing.iter().map(|t| t.table().to_string()).collect();
        let what = format!("{} lacks {}", at.capture.publication, names.join(", "));
        found.push(match said {
            None => ok("publication", format!("{what}; a run adds them")),
            Some(words) => blocker(
                "publication",
                format!("{what}: {words}"),
                "their changes would not be sent",
                Fix::run([statement]).then("as the publication's owner or a superuser"),
            ),
        });
    }
    let beyond = there.iter().filter(|id| !tables.iter().any(|t| t.source_id == **id)).count();
    if beyond > 0 && at.capture.publication_named {
        let keep: Vec<&TablePlan> = tables.iter().collect();
        found.push(Finding::warning(
            End::Source,
            "publication_beyond",
            format!("{} holds {beyond} tables that are not picked", at.capture.publication),
            "their changes are sent, and thrown away here",
            Fix::run([format!("ALTER PUBLICATION {quoted} SET TABLE {}", table_list(&keep))]),
        ));
    }
    Ok(found)
}
