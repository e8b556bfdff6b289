//! What `check` looks at in a target database.

use crate::as_target::settings::TargetSettings;
use crate::as_target::state;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::error::words;
use crate::wire::protection;
use crate::wire::roles::{do_block, guard, make_roles};
use moorage_adapter::Result;
use moorage_core::model::finding::{End, Finding, Fix};
use moorage_core::model::sql::{in_comment, quote_ident, quote_literal};

fn ok(check: &'static str, found: impl Into<String>) -> Finding {
    Finding::ok(End::Target, check, found)
}

/// Writes, reads and drops a table, and looks at what else a pipeline needs. Leaves nothing behind.
pub(crate) async fn probe(
    address: &PostgresAddress,
    session: &Session,
    settings: &TargetSettings,
) -> Result<Vec<Finding>> {
    let sql = "SELECT current_setting('server_version'), current_setting('server_version_num')::int, pg_is_in_recovery(),
                      current_setting('server_encoding'), current_setting('synchronous_commit'),
                      current_setting('fsync'), quote_ident(current_user), quote_ident(current_database())";
    let row = session.one("reading the server's settings", sql, &[]).await?;
    let (user, database): (String, String) = (row.get(6), row.get(7));
    let version: String = row.get(0);
    let short = version.split(' ').next().unwrap_or_default();
    let mut found = vec![version_finding(row.get(1), &format!("PostgreSQL {short}, {}", address.text()))];
    found.extend(protection::inspect(End::Target, address, session.link(), chrono::Utc::now().timestamp()));
    if row.get(2) {
        found.push(Finding::blocker(
            End::Target,
            "standby",
            "the server is a standby".to_string(),
            "nothing can be written there",
            Fix::step("point `url` at the primary".to_string()),
        ));
        return Ok(found);
    }
    found.push(encoding(row.get(3)));
    found.extend(durability(row.get(4), row.get(5)));
    found.push(state_schema(session, &user, &database).await?);
    found.push(writing(session, settings, &user, &database).await?);
    Ok(found)
}

fn version_finding(number: i32, shown: &str) -> Finding {
    if number >= 140_000 {
        return ok("version", shown);
    }
    Finding::blocker(
        End::Target,
        "version",
        shown.to_string(),
        "finding rows without a key, and more, needs version 14 or later",
        Fix::step("upgrade the server, or use another target".to_string()),
    )
}

fn encoding(name: &str) -> Finding {
    if name == "UTF8" {
        return ok("encoding", "UTF8: every text can be stored");
    }
    Finding::warning(
        End::Target,
        "encoding",
        name.to_string(),
        "a text with characters that this encoding does not have is refused, and its row with it",
        Fix::step("use a database made with ENCODING 'UTF8', or on_reject = \"set_aside\"".to_string()),
    )
}

fn durability(commit: &str, fsync: &str) -> Option<Finding> {
    if fsync != "off" {
        return Some(ok(
            "durability",
            format!(
                "commits reach the disk (for this user synchronous_commit is {commit}; merges set it on)"
            ),
        ));
    }
    Some(Finding::warning(
        End::Target,
        "durability",
        "fsync is off".to_string(),
        "after a crash of the machine, commits that the source was told of may be gone",
        Fix::run(["ALTER SYSTEM SET fsync = on", "SELECT pg_reload_conf()"]),
    ))
}

async fn state_schema(session: &Session, user: &str, database: &str) -> Result<Finding> {
    let sql = "SELECT to_regnamespace('moorage_state') IS NOT NULL, has_database_privilege(current_database(), 'CREATE'),
                      CASE WHEN to_regnamespace('moorage_state') IS NULL THEN true
                           ELSE has_schema_privilege('moorage_state', 'CREATE') END";
    let row = session.one("looking at the schema moorage_state", sql, &[]).await?;
    let (there, may_make, may_use): (bool, bool, bool) = (row.get(0), row.get(1), row.get(2));
    Ok(match (there, may_make, may_use) {
        (true, _, true) => ok("state", "schema moorage_state is there, and may be written"),
        (false, true, _) => ok("state", "schema moorage_state will be made for checkpoints and rejects"),
        (there, ..) => Finding::blocker(
            End::Target,
            "state",
            if there {
                "schema moorage_state may not be written".to_string()
            } else {
                "schema moorage_state is not there, and may not be made".into()
            },
            "checkpoints are kept there, in the same transaction as the rows",
            Fix::run([if there {
                format!("GRANT USAGE, CREATE ON SCHEMA moorage_state TO {user}")
            } else {
                format!("GRANT CREATE ON DATABASE {database} TO {user}")
            }]),
        ),
    })
}

async fn writing(
    session: &Session,
    settings: &TargetSettings,
    user: &str,
    database: &str,
) -> Result<Finding> {
    let schema = quote_ident(&settings.schema);
    let there: bool = session
        .one("looking for the schema", "SELECT to_regnamespace($1) IS NOT NULL", &[&schema])
        .await?
        .get(0);
    let make = if there { String::new() } else { format!("CREATE SCHEMA {schema}; ") };
    let sql = format!(
        "BEGIN; {make}CREATE TABLE {schema}.moorage_probe (x text); INSERT INTO {schema}.moorage_probe VALUES ('Pellow');
         SELECT x FROM {schema}.moorage_probe; DROP TABLE {schema}.moorage_probe"
    );
    let tried = session.client().batch_execute(&sql).await;
    session.run("taking that back", "ROLLBACK").await?;
    Ok(match tried {
        Ok(()) if there => ok(
            "writing",
            format!("works: a table was made in schema {}, written, read and dropped", settings.schema),
        ),
        Ok(()) => ok(
            "writing",
            format!("schema {} will be made; making it and a table there works", settings.schema),
        ),
        Err(e) => {
            let reason = words(&e);
            let grant = if there {
                format!("GRANT USAGE, CREATE ON SCHEMA {schema} TO {user}")
            } else {
                format!("GRANT CREATE ON DATABASE {database} TO {user}")
            };
            Finding::blocker(
                End::Target,
                "writing",
                reason,
                "target tables cannot be made",
                Fix::run([grant]),
            )
        }
    })
}

/// The statements that give a role what it needs in the target, or take it back.
pub(crate) fn set_up_script(
    address: &PostgresAddress,
    settings: &TargetSettings,
    role: Option<&str>,
    undo: bool,
) -> String {
    let login = role.unwrap_or(&address.user);
    let acts_as = address.role.as_deref().unwrap_or(login);
    let (role, user, database) = (quote_ident(acts_as), quote_ident(login), quote_ident(&address.database));
    let schema = quote_ident(&settings.schema);
    let head = format!(
        "-- Target: PostgreSQL, {}. Run as its administrator, in that database.\nSET standard_conforming_strings = on;\n{}\n",
        in_comment(&address.text()),
        guard(&address.database)
    );
    if undo {
        return format!(
            "{head}-- `moorage teardown --target` removes the tables that Moorage made; this the rest.\n\
             DROP SCHEMA IF EXISTS {state} CASCADE;\n\
             {block}\n",
            state = state::SCHEMA,
            block = do_block(&format!(
                "BEGIN\n  IF EXISTS (SELECT FROM pg_roles WHERE rolname = {}) THEN\n    \
                 REVOKE ALL ON SCHEMA {schema} FROM {role};\n    REVOKE ALL ON DATABASE {database} FROM {role};\n  END IF;\nEND",
                quote_literal(acts_as)
            )),
        );
    }
    let mut roles = String::new();
    make_roles(&mut roles, login, acts_as);
    format!(
        "{head}-- Give the role a password afterwards: \\password, in psql, keeps it out of logs and history.\n{roles}\
         GRANT CONNECT ON DATABASE {database} TO {user};\n\
         CREATE SCHEMA IF NOT EXISTS {schema};\nGRANT USAGE, CREATE ON SCHEMA {schema} TO {role};\n\
         CREATE SCHEMA IF NOT EXISTS {state};\nGRANT USAGE, CREATE ON SCHEMA {state} TO {role};\n\
         -- For other schemas that `into` names, likewise; for tables that are there already:\n\
         -- GRANT SELECT, INSERT, UPDATE, DELETE ON schema.table TO {comment};\n",
        comment = in_comment(&role),
        state = state::SCHEMA,
    )
}
