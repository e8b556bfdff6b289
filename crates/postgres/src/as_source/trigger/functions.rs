//! The functions that capture a table's changes, as the server runs them.
//!
//! A change's structure is told by a number: the sum of hashes over the table's columns, dropped ones too, of their number and
//! of the transaction and the command in it that last touched them in the catalogue (`attnum`, `xmin`, `cmin`): one transaction
//! may change a table more than once, with rows in between. It is as the statement sees the catalogue. That is newer than the
//! structure of any row that the statement writes, as long as each statement has a snapshot of its own. In a
//! transaction that keeps its first snapshot (`repeatable read`, `serializable`) rows are written in the newest structure, and the catalogue
//! is seen as it was before: there, each change has the layout of its row beside it, from functions that do not go by the
//! snapshot.

use crate::as_source::structure::written::structure_of;
use crate::as_source::trigger::names::Names;
use moorage_core::model::sql::quote_literal;

/// Every so many changes the size of a change table is looked at.
const LOOK_AT_SIZE_EVERY: u32 = 1024;

/// The statements that make a table's functions and triggers, beside its change table.
pub(crate) struct Made {
    pub(crate) note: String,
    pub(crate) structure: String,
    pub(crate) statement: String,
    pub(crate) row: String,
}

pub(crate) fn functions(names: &Names, id: u64, limit: u64, mark: u32) -> Made {
    let rows = names.rows(id);
    // The structure as of the statement, and the file that the table is in: kept until the transaction ends. What is
    // known to have been written down is kept for the session; the mark is another one for each table of structures, so
    // that a session older than a set-up does not take its own knowledge for the new table's.
    let (now, known) = (format!("moorage.structure_{id}"), format!("moorage.noted_{id}_{mark}"));
    let note = note(names, id);
    let structure = format!(
        "DECLARE is_now text; number_now bigint;
         BEGIN
           SELECT (sum(hashint8extended((a.xmin::text::bigint << 32) | a.cmin::text::bigint, a.attnum)) % 9223372036854775807)::bigint INTO number_now
             FROM pg_attribute a WHERE a.attrelid = {id} AND a.attnum > 0;
           is_now := number_now || ':' || pg_catalog.pg_relation_filenode({id});
           IF pg_catalog.current_setting('{known}', true) IS DISTINCT FROM number_now::pg_catalog.text THEN
             PERFORM {note_function}(number_now);
             PERFORM pg_catalog.set_config('{known}', number_now::pg_catalog.text, false);
           END IF;
           RETURN is_now;
         END",
        note_function = names.note_function(id)
    );
    let statement = format!(
        "BEGIN
           PERFORM pg_catalog.set_config('{now}', {}(), true);
           RETURN NULL;
         END",
        names.structure_function(id)
    );
    let insert = |kind: &str, columns: &str, values: &str| {
        format!(
            "INSERT INTO {rows} (number, kind, nested, structure, file, layout{columns})
             VALUES (change, '{kind}', nested, pg_catalog.split_part(frame, ':', 1)::bigint, pg_catalog.split_part(frame, ':', 2)::oid, layout{values})"
        )
    };
    // A row that comes through a partitioned table has no statement of its own table.
    let row = format!(
        "DECLARE change bigint; frame text; layout text; names text[]; numbers int[]; at int := 0; nested boolean := pg_catalog.pg_trigger_depth() > 1;
         BEGIN
           IF pg_catalog.pg_sequence_last_value({full}::pg_catalog.regclass) IS NOT NULL THEN RETURN NULL; END IF;
           change := pg_catalog.nextval({numbers}::pg_catalog.regclass);
           IF change % {LOOK_AT_SIZE_EVERY} = 0 AND pg_catalog.pg_table_size({this}::pg_catalog.regclass) > {limit} THEN
             PERFORM pg_catalog.nextval({full}::pg_catalog.regclass);
             RETURN NULL;
           END IF;
           IF TG_OP = 'TRUNCATE' THEN
             INSERT INTO {rows} (number, kind, nested) VALUES (change, 'T', nested);
             RETURN NULL;
           END IF;
           frame := pg_catalog.current_setting('{now}', true);
           IF coalesce(frame, '') = '' THEN frame := {structure}(); END IF;
           IF pg_catalog.current_setting('transaction_isolation') IN ('repeatable read', 'serializable') THEN
             names := ARRAY(SELECT pg_catalog.json_object_keys(CASE TG_OP WHEN 'DELETE' THEN pg_catalog.row_to_json(OLD) ELSE pg_catalog.row_to_json(NEW) END));
             WHILE coalesce(pg_catalog.cardinality(numbers), 0) < pg_catalog.cardinality(names) AND at < {MOST_COLUMNS} LOOP
               at := at + 1;
               IF pg_catalog.has_column_privilege({id}::pg_catalog.oid, at::smallint, 'SELECT') IS NOT NULL THEN numbers := numbers || at; END IF;
             END LOOP;
             layout := pg_catalog.json_build_array(numbers, names)::pg_catalog.text;
           END IF;
           IF TG_OP = 'INSERT' THEN {insert};
           ELSIF TG_OP = 'UPDATE' THEN {update};
           ELSE {delete};
           END IF;
           RETURN NULL;
         END",
        full = quote_literal(&names.full()),
        numbers = quote_literal(&names.numbers()),
        this = quote_literal(&rows),
        structure = names.structure_function(id),
        insert = insert("I", ", new_at, new", ", NEW.ctid, NEW::pg_catalog.text"),
        update = insert(
            "U",
            ", old_at, new_at, old, new",
            ", OLD.ctid, NEW.ctid, OLD::pg_catalog.text, NEW::pg_catalog.text"
        ),
        delete = insert("D", ", old_at, old", ", OLD.ctid, OLD::pg_catalog.text"),
    );
    Made { note, structure, statement, row }
}

/// Column numbers end here (PostgreSQL source, `MaxHeapAttributeNumber`).
const MOST_COLUMNS: u32 = 1600;

/// Writes down the structure that a number stands for, if that was not done. ([`super::written`] reads it.)
fn note(names: &Names, id: u64) -> String {
    let structures = names.structures();
    format!(
        "BEGIN
           IF EXISTS (SELECT FROM {structures} s WHERE s.source = {id} AND s.number = number_now AND s.state IS NOT NULL) THEN RETURN; END IF;
           INSERT INTO {structures} (source, number, state) SELECT {id}, number_now, {structure}::text;
         END",
        structure = structure_of(&id.to_string())
    )
}
