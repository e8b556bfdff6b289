//! The script that lets an administrator make a role with just the rights that a pipeline needs, and its undo.

use crate::as_source::capture::OPTIONS;
use crate::as_source::catalog::IdentityBy;
use crate::as_source::named::Point;
use crate::as_source::new_tables;
use crate::as_source::structure::event;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::roles::{do_block, guard, line, make_roles};
use moorage_adapter::{AdapterError, Result, SetUp, SetUpPart};
use moorage_core::TableName;
use moorage_core::model::described::LogIdentity;
use moorage_core::model::sql::{in_comment, quote_ident, quote_literal, shell_word};
use moorage_core::plan::table::TablePlan;
use std::collections::{BTreeSet, HashMap};

/// The whole script.
pub(crate) async fn set_up_script(
    address: &PostgresAddress,
    session: &Session,
    capture: &Point,
    set_up: &SetUp<'_>,
    by: IdentityBy,
) -> Result<String> {
    let user = set_up.role.unwrap_or(&address.user);
    let role = address.role.as_deref().unwrap_or(user);
    match set_up.part {
        Some(part @ SetUpPart::EventTrigger) if by == IdentityBy::Trigger => return Err(set_up.has_no(part)),
        Some(SetUpPart::EventTrigger) => return Ok(event::script(&address.database, set_up.undo)),
        Some(SetUpPart::NewTables) => {
            let patterns = set_up.picker.posix();
            let (include, exclude) = patterns.map_err(|pattern| new_tables::without_words(&pattern))?;
            let (name, database) = (function_name(capture, by), address.database.as_str());
            let (include, exclude) = (&include[..], &exclude[..]);
            let function = new_tables::Function { database, name, role, by, include, exclude };
            return Ok(function.script(set_up.undo));
        }
        None => {}
    }
    let sql = "SELECT n.nspname::text, c.relname::text, c.relowner::regrole::text, c.relrowsecurity
               FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE c.relkind = 'r' AND c.relpersistence = 'p' AND n.nspname !~ '^pg_'";
    let rows = session.rows("reading who owns the tables", sql, &[]).await?;
    let known: HashMap<TableName, (String, bool)> = rows
        .iter()
        .map(|r| (TableName::new(r.get::<_, String>(0), r.get::<_, String>(1)), (r.get(2), r.get(3))))
        .collect();
    // Also those that the present user may not read: letting it is what the script is for.
    let planned = set_up.plan.tables.iter().map(TablePlan::table);
    let refused = set_up.plan.refused.iter().map(|r| &r.table);
    let mut picked: Vec<&TableName> = planned.chain(refused).filter(|t| known.contains_key(t)).collect();
    picked.sort();
    if picked.is_empty() {
        let way_out =
            "no table is picked that it could let a role read; `moorage tables` shows what is there";
        return Err(AdapterError::refused("the script for the administrator", way_out));
    }
    let script = Script {
        user,
        role,
        quoted: quote_ident(role),
        database: quote_ident(&address.database),
        database_name: &address.database,
        capture,
        set_up,
        by,
        picked,
        known: &known,
    };
    Ok(if set_up.undo { script.undo() } else { script.make() })
}

/// What the function that lets new tables in is called.
fn function_name(capture: &Point, by: IdentityBy) -> &str {
    match by {
        IdentityBy::Log => &capture.publication,
        IdentityBy::Trigger => &capture.slot,
    }
}

struct Script<'a> {
    /// Who logs in.
    user: &'a str,
    /// Whose rights count: the role that the user takes on, or the user.
    role: &'a str,
    quoted: String,
    database: String,
    database_name: &'a str,
    capture: &'a Point,
    set_up: &'a SetUp<'a>,
    by: IdentityBy,
    /// Permanent tables, in order of their names.
    picked: Vec<&'a TableName>,
    /// Who owns which table, as SQL names roles, and whether it has row-level security.
    known: &'a HashMap<TableName, (String, bool)>,
}

impl Script<'_> {
    /// Picked tables whose replica identity has to change before they can be published.
    fn without_identity(&self) -> impl Iterator<Item = String> {
        let statements = |identity: &'_ LogIdentity| match identity {
            LogIdentity::None(reason) => reason.fix.statements.clone(),
            _ => Vec::new(),
        };
        let picked = self.set_up.found.iter().filter(|t| self.picked.contains(&&t.name));
        picked.flat_map(move |t| statements(&t.identity))
    }

    /// The database's name for a shell, on one line.
    fn shell_database(&self) -> String {
        in_comment(&shell_word(self.database_name))
    }

    fn schemas(&self) -> BTreeSet<String> {
        self.picked.iter().map(|t| quote_ident(&t.schema)).collect()
    }

    fn published(&self) -> String {
        self.picked.iter().map(|t| format!("ONLY {}", t.quoted())).collect::<Vec<_>>().join(", ")
    }

    fn make(&self) -> String {
        let mut out = String::new();
        let (role, database) = (&self.quoted, &self.database);
        let user = quote_ident(self.user);
        line(
            &mut out,
            &format!(
                "-- Source: PostgreSQL, database {}. Lets role {} carry {} tables, with no right more than that needs.",
                in_comment(self.database_name),
                in_comment(self.role),
                self.picked.len()
            ),
        );
        line(
            &mut out,
            &format!(
                "-- Run it as a superuser, or as the tables' owner with CREATEROLE: psql -v ON_ERROR_STOP=1 -d {} -f THIS-FILE",
                self.shell_database()
            ),
        );
        line(
            &mut out,
            "-- It can be run again. `moorage check --sql source --undo` prints what takes it all back.",
        );
        line(&mut out, "SET standard_conforming_strings = on;");
        line(&mut out, &guard(self.database_name));
        line(&mut out, "");
        line(
            &mut out,
            "-- The role. Give it a password afterwards: \\password, in psql, keeps it out of logs and history.",
        );
        make_roles(&mut out, self.user, self.role);
        if self.by == IdentityBy::Log {
            for text in [
                "-- The right to follow the log. With it the role can make slots of its own, through any plug-in, and so read",
                "-- the changes of every table of every database it may connect to, whether it may SELECT from it or not; and",
                "-- copy the whole cluster, if pg_hba.conf lets it connect for physical replication. These lines in pg_hba.conf,",
                "-- before others that fit the role, narrow it to this database, from one address (`moorage check` prints it):",
            ] {
                line(&mut out, text);
            }
            let hba = |text: &str| in_comment(&format!("\"{}\"", text.replace('"', "\"\"")));
            let (user, data) = (hba(self.user), hba(self.database_name));
            line(&mut out, &format!("--   host  replication  {user}  all               reject"));
            line(&mut out, &format!("--   host  {data}  {user}  ADDRESS-OF-MOORAGE/32  scram-sha-256"));
            line(&mut out, &format!("--   host  all          {user}  all               reject"));
            line(&mut out, &format!("ALTER ROLE {} REPLICATION;", quote_ident(self.user)));
        }
        line(&mut out, &format!("GRANT CONNECT ON DATABASE {database} TO {user};"));
        line(&mut out, "\n-- Reading the picked tables.");
        for schema in self.schemas() {
            line(&mut out, &format!("GRANT USAGE ON SCHEMA {schema} TO {role};"));
        }
        let rights = if self.by == IdentityBy::Log { "SELECT" } else { "SELECT, TRIGGER" };
        for table in &self.picked {
            line(&mut out, &format!("GRANT {rights} ON {} TO {role};", table.quoted()));
        }
        if self.picked.iter().any(|t| self.known[*t].1) {
            line(&mut out, "-- Row-level security must not hide rows from it.");
            line(&mut out, &format!("ALTER ROLE {role} BYPASSRLS;"));
        }
        line(
            &mut out,
            &format!(
                "\n-- A table that is made later and is to be carried needs its own: GRANT {rights} ON schema.table TO {};\n-- or, optional, a function that grants it: `moorage check --sql source --part new-tables` prints it.",
                in_comment(role)
            ),
        );
        match self.by {
            IdentityBy::Log => self.make_capture(&mut out),
            IdentityBy::Trigger => {
                line(&mut out, "\n-- Change tables live in a schema that the run makes.");
                line(&mut out, &format!("GRANT CREATE ON DATABASE {database} TO {role};"));
            }
        }
        out
    }

    fn make_capture(&self, out: &mut String) {
        let identities: Vec<String> = self.without_identity().collect();
        if !identities.is_empty() {
            line(
                out,
                "\n-- The log has to say which row was updated or deleted. These tables have no key that it could use.",
            );
            identities.iter().for_each(|fix| line(out, &format!("{fix};")));
        }
        line(
            out,
            "\n-- Optional: an event trigger that tells of changes of structure in their place in the log, so that tables are read again\n-- more rarely. `moorage check --sql source --part event-trigger` prints it.",
        );
        let (publication, slot) = (&self.capture.publication, &self.capture.slot);
        line(out, "\n-- What is published: just the picked tables. Partitions are named one by one.");
        line(
            out,
            &do_block(&format!(
                "BEGIN\n  IF NOT EXISTS (SELECT FROM pg_publication WHERE pubname = {}) THEN\n    CREATE PUBLICATION {} FOR TABLE {} {OPTIONS};\n  END IF;\nEND",
                quote_literal(publication),
                quote_ident(publication),
                self.published()
            )),
        );
        line(
            out,
            "\n-- The place in the log, last: from now on the server keeps its log for this pipeline, so start it soon.",
        );
        line(
            out,
            &format!(
                "SELECT pg_create_logical_replication_slot({0}, 'pgoutput')\n  WHERE NOT EXISTS (SELECT FROM pg_replication_slots WHERE slot_name = {0});",
                quote_literal(slot)
            ),
        );
        line(
            out,
            &format!(
                "\n-- Then name both in the project file, so that Moorage uses them and leaves them to you:\n--   [pipelines.{}]\n--   publication = \"{}\"\n--   slot = \"{}\"",
                in_comment(self.set_up.pipeline),
                in_comment(publication),
                in_comment(slot)
            ),
        );
    }

    /// Each picked schema with each role that owns a picked table in it.
    fn schema_owners(&self) -> BTreeSet<(String, String)> {
        self.picked.iter().map(|t| (quote_ident(&t.schema), self.known[*t].0.clone())).collect()
    }

    fn undo(&self) -> String {
        let mut out = String::new();
        let (role, database) = (&self.quoted, &self.database);
        line(
            &mut out,
            &format!(
                "-- Source: PostgreSQL, database {}. Takes back what `moorage check --sql source` printed for role {}. Stop the pipeline first.",
                in_comment(self.database_name),
                in_comment(self.role)
            ),
        );
        line(
            &mut out,
            &format!(
                "-- Run it as a superuser: psql -v ON_ERROR_STOP=1 -d {} -f THIS-FILE",
                self.shell_database()
            ),
        );
        line(&mut out, "SET standard_conforming_strings = on;");
        line(&mut out, &guard(self.database_name));
        line(
            &mut out,
            "-- Replica identities stay as they are: other readers of the log may rest on them.\n",
        );
        if self.by == IdentityBy::Log {
            let slot = quote_literal(&self.capture.slot);
            line(
                &mut out,
                &format!(
                    "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = {slot};"
                ),
            );
            line(
                &mut out,
                &format!("DROP PUBLICATION IF EXISTS {};", quote_ident(&self.capture.publication)),
            );
        } else {
            line(&mut out, &format!("DROP SCHEMA IF EXISTS {} CASCADE;", quote_ident(&self.capture.slot)));
        }
        for (schema, owner) in self.schema_owners() {
            line(
                &mut out,
                &format!(
                    "ALTER DEFAULT PRIVILEGES FOR ROLE {owner} IN SCHEMA {schema} REVOKE ALL ON TABLES FROM {role};"
                ),
            );
        }
        for table in &self.picked {
            line(&mut out, &format!("REVOKE ALL ON {} FROM {role};", table.quoted()));
        }
        for schema in self.schemas() {
            line(&mut out, &format!("REVOKE ALL ON SCHEMA {schema} FROM {role};"));
        }
        line(&mut out, &format!("REVOKE ALL ON DATABASE {database} FROM {role};"));
        drop_roles(&mut out, self.user, self.role, database);
        out
    }
}

/// Removes who logs in. A role that it took on may be others' too, and own what was made.
fn drop_roles(out: &mut String, user: &str, role: &str, database: &str) {
    if user != role {
        line(out, &format!("REVOKE ALL ON DATABASE {database} FROM {};", quote_ident(user)));
        line(out, &format!("REVOKE {} FROM {};", quote_ident(role), quote_ident(user)));
        line(out, &format!("-- Role {} stays: what belongs to it would be in the way.", in_comment(role)));
    }
    line(out, &format!("DROP ROLE {};", quote_ident(user)));
}
