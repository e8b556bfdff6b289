//! The role's rights: enough for what is needed, and no more.

use crate::as_source::catalog::IdentityBy;
use crate::as_source::check::at::{Check, replication_grant};
use crate::wire::error::words;
use crate::wire::replication;
use moorage_adapter::Result;
use moorage_core::model::finding::{End, Finding, Fix, tables as count};
use moorage_core::model::sql::quote_ident;

/// So many readable tables that are not picked are few.
const FEW: usize = 10;

pub(super) async fn inspect(at: &Check<'_>) -> Result<Vec<Finding>> {
    let mut found = Vec::new();
    let sql = "SELECT rolsuper, current_database()::text FROM pg_roles WHERE rolname = current_user";
    let row = at.session.one("reading the user's rights", sql, &[]).await?;
    let (superuser, database): (bool, String) = (row.get(0), row.get(1));
    if at.by == IdentityBy::Log {
        found.push(may_replicate(at).await);
        found.extend(streams_beyond(at).await?);
    }
    found.push(reads(at).await?);
    if superuser {
        found.push(Finding::warning(
            End::Source,
            "superuser",
            format!("user {} is a superuser", at.address.user),
            "Moorage needs none of that; whoever gets hold of the password owns the server",
            Fix::step("`moorage check --sql source --role NAME` prints the script that makes a role with just the rights it needs"),
        ));
    } else {
        found.extend(readable_beyond(at).await?);
    }
    if at.by == IdentityBy::Trigger {
        found.extend(makes_triggers(at, &database).await?);
    }
    Ok(found)
}

/// Opens a connection for replication and closes it again.
async fn may_replicate(at: &Check<'_>) -> Finding {
    match replication::connect(at.address).await {
        Ok(_) => Finding::ok(
            End::Source,
            "replication",
            format!("user {} may replicate: a connection was opened", at.address.user),
        )
        .because(
            "with that right it can stream every published table of the server, also those it may not read",
        ),
        Err(error) => Finding::blocker(
            End::Source,
            "replication",
            format!("user {} may not replicate: {error}", at.address.user),
            "it is needed to make a slot and to follow changes; a copy with --snapshot-only, and capture = \"trigger\", work without",
            Fix::run([replication_grant(at.managed, &at.user())]),
        ),
    }
}

/// Published tables that the role can stream although it may not read them.
async fn streams_beyond(at: &Check<'_>) -> Result<Option<Finding>> {
    let sql = "SELECT p.pubname::text, p.puballtables, format('%I.%I', t.schemaname, t.tablename)
               FROM pg_publication_tables t JOIN pg_publication p ON p.pubname = t.pubname
               JOIN pg_namespace n ON n.nspname = t.schemaname JOIN pg_class c ON c.relname = t.tablename AND c.relnamespace = n.oid
               WHERE NOT (has_table_privilege(c.oid, 'SELECT') AND has_schema_privilege(n.oid, 'USAGE')) ORDER BY 1, 3";
    let rows = at.session.rows("reading what is published", sql, &[]).await?;
    if rows.is_empty() {
        return Ok(None);
    }
    let names: Vec<String> = rows.iter().take(3).map(|r| r.get(2)).collect();
    let more = if rows.len() > names.len() { ", …" } else { "" };
    let drops =
        rows.iter().filter(|r| !r.get::<_, bool>(1)).take(20).map(|r| {
            format!("ALTER PUBLICATION {} DROP TABLE {}", quote_ident(r.get(0)), r.get::<_, String>(2))
        });
    Ok(Some(Finding::warning(
        End::Source,
        "streams_beyond",
        format!(
            "{} that the user may not read and someone publishes: {}{more}",
            count(rows.len()),
            names.join(", ")
        ),
        "a role that may replicate can stream them all the same: the server does not ask for SELECT there",
        Fix::run(drops)
            .then("if nobody else needs them published; capture = \"trigger\" needs no right to replicate"),
    )))
}

/// Reads no row of every picked table, in one statement. A table that someone has locked is not waited for.
async fn reads(at: &Check<'_>) -> Result<Finding> {
    let tables = &at.inspected.plan.tables;
    let parts: Vec<String> = tables
        .iter()
        .map(|t| {
            let columns =
                moorage_core::model::sql::quote_list(t.schema.columns.iter().map(|c| c.name.as_str()));
            format!("SELECT 1 FROM (SELECT {columns} FROM ONLY {} WHERE false) t", t.table().quoted())
        })
        .collect();
    let found = format!("works: selected from {} in one statement", count(tables.len()));
    if parts.is_empty() {
        return Ok(Finding::ok(End::Source, "reading", found));
    }
    at.session.run("limiting the wait", "SET lock_timeout = '2s'").await?;
    let read = at.session.client().query(&parts.join(" UNION ALL "), &[]).await;
    at.session.run("lifting the limit", "SET lock_timeout = 0").await?;
    let Err(error) = read else { return Ok(Finding::ok(End::Source, "reading", found)) };
    let said = words(&error);
    if error.code().is_some_and(|c| c.code() == "55P03") {
        return locked(at).await;
    }
    // A missing right was seen in the catalogue already, and such a table is not among these.
    let fix = Fix::step("mend what the message names, or exclude the table");
    Ok(Finding::blocker(End::Source, "reading", said, "a snapshot could not be read", fix))
}

/// Names who has locked picked tables against readers.
async fn locked(at: &Check<'_>) -> Result<Finding> {
    let ids: Vec<u32> = at.inspected.plan.tables.iter().map(|t| t.source_id as u32).collect();
    let sql = "SELECT l.pid, l.relation::regclass::text, coalesce(a.application_name, '') FROM pg_locks l LEFT JOIN pg_stat_activity a ON a.pid = l.pid
               WHERE l.relation = ANY ($1) AND l.granted AND l.mode = 'AccessExclusiveLock' ORDER BY 1";
    let rows = at.session.rows("looking up locks", sql, &[&ids]).await?;
    let holder = |r: &tokio_postgres::Row| {
        format!("pid {} ({}) has {} locked", r.get::<_, i32>(0), r.get::<_, String>(2), r.get::<_, String>(1))
    };
    let holders: Vec<String> = rows.iter().map(holder).collect();
    let ends = rows.iter().map(|r| format!("SELECT pg_terminate_backend({})", r.get::<_, i32>(0)));
    Ok(Finding::warning(
        End::Source,
        "locked",
        if holders.is_empty() { "a picked table is locked".into() } else { holders.join("; ") },
        "a run waits there before it reads the table",
        Fix::run(ends).then("or wait for it to end"),
    ))
}

/// Tables that were granted to the role and are not picked.
async fn readable_beyond(at: &Check<'_>) -> Result<Option<Finding>> {
    let picked: Vec<u32> = at.inspected.plan.tables.iter().map(|t| t.source_id as u32).collect();
    let sql = "SELECT format('%I.%I', n.nspname, c.relname),
                      EXISTS (SELECT FROM aclexplode(c.relacl) a WHERE a.grantee = 0 AND a.privilege_type = 'SELECT')
               FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname <> 'information_schema' AND n.nspname !~ '^(pg|moorage)_'
                 AND c.oid <> ALL ($1) AND has_table_privilege(c.oid, 'SELECT') AND has_schema_privilege(n.oid, 'USAGE')
                 AND NOT pg_has_role(c.relowner, 'USAGE') ORDER BY 1";
    let rows = at.session.rows("reading what the user may read", sql, &[&picked]).await?;
    if rows.len() <= FEW {
        return Ok(None);
    }
    let revokes = rows.iter().map(|r| {
        let from = if r.get(1) { "PUBLIC".to_string() } else { at.user() };
        format!("REVOKE SELECT ON {} FROM {from}", r.get::<_, String>(0))
    });
    Ok(Some(Finding::warning(
        End::Source,
        "readable_beyond",
        format!("user {} may read {} tables that are not picked", at.address.user, rows.len()),
        "Moorage needs none of them",
        Fix::run(revokes).then("rights that came through another role are taken back there"),
    )))
}

/// Change tables live in a schema of their own: one is made and taken back. Triggers are only asked for:
/// making one would make writers wait.
async fn makes_triggers(at: &Check<'_>, database: &str) -> Result<Vec<Finding>> {
    let mut found = Vec::new();
    let sql = format!("BEGIN; CREATE SCHEMA moorage_probe_{}; ROLLBACK", at.session.pid());
    let made = at.session.client().batch_execute(&sql).await;
    if made.is_err() {
        at.session.run("taking back", "ROLLBACK").await?;
    }
    let schema = at.capture.slot.clone();
    let there = "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)";
    let there: bool = at.session.one("looking for the change tables", there, &[&schema]).await?.get(0);
    found.push(match made {
        _ if there => Finding::ok(End::Source, "change_tables", format!("schema {schema} is there")),
        Ok(()) => Finding::ok(
            End::Source,
            "change_tables",
            format!("schema {schema} will be made: making one works"),
        ),
        Err(error) => Finding::blocker(
            End::Source,
            "change_tables",
            words(&error),
            "change tables live in a schema of their own",
            Fix::run([format!("GRANT CREATE ON DATABASE {} TO {}", quote_ident(database), at.user())]),
        ),
    });
    let picked: Vec<u32> = at.inspected.plan.tables.iter().map(|t| t.source_id as u32).collect();
    let sql = "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE c.oid = ANY ($1) AND NOT has_table_privilege(c.oid, 'TRIGGER') ORDER BY 1";
    let rows = at.session.rows("reading the right to make triggers", sql, &[&picked]).await?;
    let missing: Vec<String> = rows.iter().map(|r| r.get(0)).collect();
    found.push(if missing.is_empty() {
        Finding::ok(End::Source, "triggers", "may be made on all picked tables")
    } else {
        Finding::blocker(
            End::Source,
            "triggers",
            format!("user {} may not make triggers on {}", at.address.user, missing.join(", ")),
            "triggers write each change into a change table",
            Fix::run(missing.iter().map(|t| format!("GRANT TRIGGER ON {t} TO {}", at.user()))),
        )
    });
    Ok(found)
}
