//! The event trigger that an administrator may make: it tells of each change of a table's structure in the log itself, in
//! its place among the rows, undone with what undoes the change.
//!
//! The message has the structure as it is from there on, as [`written`](super::written) reads it. It is
//! written twice, the second time empty: a message that is written in a subtransaction is filed under the place where it
//! ends, which is where the row behind it begins, and may come after that. What the trigger does not see (VACUUM FULL, types, a
//! superuser who disables it) is seen by looking at the catalogue, as without it; and whoever may write into the log may
//! write such a message, so what it says is held against the next message about the table, and against the next look.

use super::written::{Whole, WrittenColumn, fixed_settings, structure_of};
use crate::wire::connect::Session;
use crate::wire::roles::{for_superuser, line, own_schema};
use moorage_adapter::Result;
use moorage_core::model::sql::{in_comment, quote_literal};

/// Begins what is said by it.
pub(crate) const PREFIX: &str = "moorage structure";
/// The form of its messages.
const FORM: u32 = 1;
/// Where its function is, and begins the names of the triggers.
const PLACE: &str = "moorage_structure";

/// A table's structure as it was told.
pub(crate) struct TellsOf {
    pub(crate) table: u32,
    /// The file that the rows are in.
    pub(crate) file: u32,
    /// Whether the change had all rows written anew.
    pub(crate) rewritten: bool,
    pub(crate) whole: Whole,
}

/// Reads a message; none if it says nothing, or is not one of this form.
pub(crate) fn read(content: &[u8]) -> Option<TellsOf> {
    type Message = (u32, u32, u32, bool, (u32, Vec<WrittenColumn>));
    let (form, table, file, rewritten, (count, columns)): Message = serde_json::from_slice(content).ok()?;
    (form == FORM).then(|| TellsOf { table, file, rewritten, whole: Whole::of(count, columns) })
}

/// What is in force, by numbers that change whenever someone alters it; null if nothing is, or a transaction may be open that
/// began before. (`age` counts transactions from the present one back.)
pub(crate) const IN_FORCE: &str = "
SELECT string_agg(format('%s %s %s', e.oid, e.xmin, p.xmin), ', ' ORDER BY e.evtname) FROM pg_event_trigger e JOIN pg_proc p ON p.oid = e.evtfoid
 WHERE e.evtname IN ('moorage_structure_changed', 'moorage_structure_dropped', 'moorage_structure_rewritten') AND e.evtenabled = 'A'
HAVING count(*) = 3 AND least(min(age(e.xmin)), min(age(p.xmin))) > age((pg_snapshot_xmin(pg_current_snapshot())::text::bigint % 4294967296)::text::xid)";

/// Whether it is there and enabled.
pub(crate) async fn is_there(session: &Session) -> Result<bool> {
    let sql = "SELECT count(*) = 3 FROM pg_event_trigger WHERE evtenabled = 'A'
                 AND evtname IN ('moorage_structure_changed', 'moorage_structure_dropped', 'moorage_structure_rewritten')";
    Ok(session.one("looking for the event trigger", sql, &[]).await?.get(0))
}

/// The script that makes it, or takes it away.
pub(crate) fn script(database: &str, undo: bool) -> String {
    let mut out = String::new();
    let shown = in_comment(database);
    let verb = if undo { "Takes away" } else { "Makes" };
    line(
        &mut out,
        &format!(
            "-- Source: PostgreSQL, database {shown}. {verb} the event trigger that tells of changes of structure."
        ),
    );
    if !undo {
        for text in [
            "-- Optional. With it, every ALTER TABLE writes the table's structure into the log, in its place among the rows, so that",
            "-- Moorage reads tables again only where a change has rewritten values. Without it, it looks at the catalogue every",
            "-- second, and reads a table again where several changes between two looks cannot be told apart. It never fails a",
            "-- statement, and serves all pipelines of the database.",
        ] {
            line(&mut out, text);
        }
    }
    for_superuser(&mut out, database, " (nobody else may make event triggers)");
    for name in ["changed", "dropped", "rewritten"] {
        line(&mut out, &format!("DROP EVENT TRIGGER IF EXISTS {PLACE}_{name};"));
    }
    if undo {
        line(&mut out, &format!("DROP SCHEMA IF EXISTS {PLACE} CASCADE;"));
        return out;
    }
    line(&mut out, &own_schema(PLACE));
    line(
        &mut out,
        &format!(
            "CREATE OR REPLACE FUNCTION {PLACE}.tell() RETURNS event_trigger LANGUAGE plpgsql SECURITY DEFINER {} AS {};",
            fixed_settings(),
            quote_literal(&function())
        ),
    );
    line(&mut out, &format!("REVOKE ALL ON FUNCTION {PLACE}.tell() FROM PUBLIC;"));
    let events = [("changed", "ddl_command_end"), ("dropped", "sql_drop"), ("rewritten", "table_rewrite")];
    for (name, event) in events {
        line(
            &mut out,
            &format!(
                "CREATE EVENT TRIGGER {PLACE}_{name} ON {event} EXECUTE FUNCTION {PLACE}.tell();\n\
                 -- Also where triggers are told to rest (session_replication_role).\n\
                 ALTER EVENT TRIGGER {PLACE}_{name} ENABLE ALWAYS;"
            ),
        );
    }
    out
}

fn function() -> String {
    format!(
        "
DECLARE altered oid[]; one record; rewritten text := coalesce(current_setting('moorage.rewritten', true), '');
BEGIN
  IF TG_EVENT = 'table_rewrite' THEN
    PERFORM set_config('moorage.rewritten', format('%s %s ', rewritten, pg_event_trigger_table_rewrite_oid()), true);
    RETURN;
  END IF;
  IF TG_EVENT = 'sql_drop' THEN
    altered := ARRAY(SELECT objid FROM pg_event_trigger_dropped_objects() WHERE classid = 'pg_class'::regclass AND objsubid > 0);
  ELSE
    altered := ARRAY(SELECT objid FROM pg_event_trigger_ddl_commands()
                     WHERE classid = 'pg_class'::regclass AND object_type IN ('table', 'table column') AND command_tag = 'ALTER TABLE');
  END IF;
  IF cardinality(altered) = 0 THEN RETURN; END IF;
  -- What is changed through a partitioned table is changed in its partitions.
  FOR one IN
    WITH RECURSIVE family(id) AS (
      SELECT unnest(altered) UNION SELECT i.inhrelid FROM family f JOIN pg_inherits i ON i.inhparent = f.id)
    SELECT c.oid, c.relfilenode FROM family f JOIN pg_class c ON c.oid = f.id WHERE c.relkind = 'r' AND c.relpersistence = 'p'
  LOOP
    PERFORM pg_logical_emit_message(true, '{PREFIX}', json_build_array({FORM}, one.oid::bigint, one.relfilenode::bigint, strpos(rewritten, format(' %s ', one.oid)) > 0, {structure})::text);
  END LOOP;
  PERFORM pg_logical_emit_message(true, '{PREFIX}', '');
  PERFORM set_config('moorage.rewritten', '', true);
EXCEPTION WHEN OTHERS THEN
  -- No statement fails because of it: what it could not tell is seen in the catalogue.
  NULL;
END",
        structure = structure_of("one.oid")
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_message_of_this_form_says_nothing() {
        let whole = r#"[1,16384,16390,true,[2,[[1,"id",23,-1,"integer",true,false,"7:0",null,[23,-1]]]]]"#;
        let told = read(whole.as_bytes()).unwrap();
        assert_eq!((told.table, told.file), (16384, 16390));
        for text in ["", "[]", "[2,1,1,true,[0,[]]]", "[1,-1,1,true,[0,[]]]", &whole[..whole.len() - 1]] {
            assert!(read(text.as_bytes()).is_none(), "{text}");
        }
    }
}
