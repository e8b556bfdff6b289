//! The function that an administrator may make for tables that come later: it lets the pipeline's role read those that the
//! pipeline's patterns mean, and has them published or lets triggers be made, with the rights of whoever owns it.
//!
//! What it may do is written into it: the patterns, the role, the publication. It refuses tables whose updates the
//! application could not make any more if they were published (PostgreSQL manual, section 31.1).

use crate::as_source::catalog::IdentityBy;
use crate::wire::connect::Session;
use crate::wire::roles::{drop_empty_schema, for_superuser, line, own_schema};
use moorage_adapter::{AdapterError, Result};
use moorage_core::TableName;
use moorage_core::model::sql::{in_comment, quote_ident, quote_literal};
use moorage_core::pick::posix::PosixPattern;
use tokio_postgres::error::SqlState;

/// Where the functions are, each by the name of the publication, or of the schema of change tables.
const PLACE: &str = "moorage_new_tables";

/// What a function is made for.
pub(crate) struct Function<'a> {
    pub(crate) database: &'a str,
    pub(crate) name: &'a str,
    pub(crate) role: &'a str,
    pub(crate) by: IdentityBy,
    pub(crate) include: &'a [PosixPattern],
    pub(crate) exclude: &'a [PosixPattern],
}

impl Function<'_> {
    fn quoted(&self) -> String {
        format!("{PLACE}.{}", quote_ident(self.name))
    }

    /// The script that makes it, or takes it away.
    pub(crate) fn script(&self, undo: bool) -> String {
        let mut out = String::new();
        let (function, role) = (self.quoted(), quote_ident(self.role));
        let (shown, of_role) = (in_comment(self.database), in_comment(self.role));
        let verb = if undo { "Takes away" } else { "Makes" };
        line(
            &mut out,
            &format!(
                "-- Source: PostgreSQL, database {shown}. {verb} the function that lets role {of_role} carry tables that are made later."
            ),
        );
        if !undo {
            for text in [
                "-- Optional. Without it, an administrator has to grant each new table, and to publish it. With it, Moorage asks the",
                "-- function: it gives what is needed for permanent tables that the pipeline's patterns mean, as they are in the project",
                "-- file now, and for no other; and refuses tables whose updates would fail because they were published.",
                "-- It works with the rights of its owner, who runs this. Run it again when the patterns have changed.",
            ] {
                line(&mut out, text);
            }
        }
        for_superuser(&mut out, self.database, "");
        if undo {
            line(&mut out, &format!("DROP FUNCTION IF EXISTS {function}(oid, boolean);"));
            line(&mut out, "-- The schema stays while another pipeline has a function in it.");
            line(&mut out, &drop_empty_schema(PLACE));
            return out;
        }
        line(&mut out, &own_schema(PLACE));
        line(&mut out, &format!("GRANT USAGE ON SCHEMA {PLACE} TO {role};"));
        line(
            &mut out,
            &format!(
                "CREATE OR REPLACE FUNCTION {function}(id oid, is_published boolean) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path TO pg_catalog, pg_temp AS {};",
                quote_literal(&self.body())
            ),
        );
        line(&mut out, &format!("REVOKE ALL ON FUNCTION {function}(oid, boolean) FROM PUBLIC;"));
        line(&mut out, &format!("GRANT EXECUTE ON FUNCTION {function}(oid, boolean) TO {role};"));
        out
    }

    fn body(&self) -> String {
        let any_of = |patterns: &[PosixPattern]| {
            let one = |pattern: &PosixPattern| {
                let table = format!("name ~ {}", quote_literal(&pattern.table));
                match &pattern.schema {
                    Some(schema) => format!("(place ~ {} AND {table})", quote_literal(schema)),
                    None => table,
                }
            };
            let all: Vec<String> = patterns.iter().map(one).collect();
            if all.is_empty() { "false".into() } else { all.join(" OR ") }
        };
        let role = quote_ident(self.role);
        let rights = match self.by {
            IdentityBy::Log => "SELECT",
            IdentityBy::Trigger => "SELECT, TRIGGER",
        };
        let (published, publish) = match self.by {
            IdentityBy::Log => (self.usable_identity(), self.publish()),
            IdentityBy::Trigger => (String::new(), String::new()),
        };
        format!(
            "
DECLARE place text; name text;
BEGIN
  SELECT n.nspname, c.relname INTO place, name FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE c.oid = id AND c.relkind = 'r' AND c.relpersistence = 'p';
  IF NOT FOUND OR place ~ '^(pg_|moorage_|information_schema$)' THEN
    RAISE EXCEPTION 'it is no permanent table of an application' USING ERRCODE = 'insufficient_privilege';
  END IF;
  IF NOT ({include}) OR ({exclude}) THEN
    RAISE EXCEPTION 'it is not among the tables that this function is for' USING ERRCODE = 'insufficient_privilege',
      HINT = 'If the pipeline''s patterns were changed, the function has to be made again.';
  END IF;{published}
  EXECUTE format('GRANT USAGE ON SCHEMA %I TO {role}', place);
  EXECUTE format('GRANT {rights} ON TABLE %I.%I TO {role}', place, name);{publish}
  -- Someone may have handed the name to another table meanwhile.
  IF NOT EXISTS (SELECT FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = id AND (n.nspname, c.relname) = (place, name)) THEN
    RAISE EXCEPTION 'it was renamed meanwhile' USING ERRCODE = 'serialization_failure';
  END IF;
END",
            include = any_of(self.include),
            exclude = any_of(self.exclude),
            role = role.replace('%', "%%").replace('\'', "''"),
        )
    }

    fn usable_identity(&self) -> String {
        "
  IF NOT EXISTS (
    SELECT FROM pg_class c WHERE c.oid = id AND (c.relreplident = 'f' OR EXISTS (
      SELECT FROM pg_index i WHERE i.indrelid = id AND i.indisvalid AND i.indimmediate
        AND (c.relreplident = 'd' AND i.indisprimary OR c.relreplident = 'i' AND i.indisreplident)))) THEN
    RAISE EXCEPTION 'it has no key that the log could name its rows by, so that its updates would fail if it were published'
      USING ERRCODE = 'insufficient_privilege';
  END IF;"
            .into()
    }

    fn publish(&self) -> String {
        let in_text = |text: &str| text.replace('%', "%%").replace('\'', "''");
        format!(
            "
  IF is_published AND EXISTS (SELECT FROM pg_publication p WHERE p.pubname = {name} AND NOT p.puballtables
             AND NOT EXISTS (SELECT FROM pg_publication_rel r WHERE r.prpubid = p.oid AND r.prrelid = id)) THEN
    EXECUTE format('ALTER PUBLICATION {quoted} ADD TABLE ONLY %I.%I', place, name);
  END IF;",
            name = quote_literal(self.name),
            quoted = in_text(&quote_ident(self.name)),
        )
    }
}

/// Whether there is such a function, of someone who may be trusted with what it does, and the user may ask it.
pub(crate) async fn is_offered(session: &Session, name: &str) -> Result<bool> {
    let sql = "SELECT count(*) > 0 FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace JOIN pg_roles o ON o.oid = p.proowner
               WHERE n.nspname = $1 AND p.proname = $2 AND pg_get_function_identity_arguments(p.oid) = 'id oid, is_published boolean' AND p.prosecdef
                 AND (o.rolsuper OR o.oid = (SELECT datdba FROM pg_database WHERE datname = current_database()))
                 AND has_schema_privilege(n.oid, 'USAGE') AND has_function_privilege(p.oid, 'EXECUTE')";
    let row = session.one("looking for what lets new tables in", sql, &[&PLACE, &name]).await?;
    Ok(row.get(0))
}

/// Asks it for a table, which is to be published if it `is_published` at all; why it refused, if it did.
pub(crate) async fn ask(
    session: &Session,
    name: &str,
    id: u32,
    is_published: bool,
) -> Result<Option<String>> {
    let sql = format!("SELECT {PLACE}.{}($1, $2)", quote_ident(name));
    match session.client().query(&sql, &[&id, &is_published]).await {
        Ok(_) => Ok(None),
        Err(error) => match error.as_db_error() {
            Some(said) if *said.code() == SqlState::INSUFFICIENT_PRIVILEGE => {
                let hint = said.hint().map(|hint| format!(". {hint}")).unwrap_or_default();
                Ok(Some(format!("{}{hint}", said.message())))
            }
            _ => Err(session.error("asking to let a new table in", &error)),
        },
    }
}

/// Asks to read several, if it is there.
pub(crate) async fn let_in(
    session: &Session,
    name: &str,
    tables: &[TableName],
) -> Result<Vec<(TableName, Option<String>)>> {
    let mut all = Vec::new();
    if !is_offered(session, name).await? {
        return Ok(all);
    }
    let sql = "SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2";
    for table in tables {
        let found = session.maybe("looking for a new table", sql, &[&table.schema, &table.name]).await?;
        if let Some(row) = found {
            all.push((table.clone(), ask(session, name, row.get(0), false).await?));
        }
    }
    Ok(all)
}

/// A pattern that cannot be written into the function.
pub(crate) fn without_words(pattern: &str) -> AdapterError {
    let reason = format!(
        "pattern `{pattern}` has signs that a function in the database cannot be given (`**`, empty alternatives): write it as several patterns"
    );
    AdapterError::refused("the script for the administrator", reason)
}
