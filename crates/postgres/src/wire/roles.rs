//! Parts of scripts for administrators that both ends share.

use moorage_core::model::sql::{in_comment, quote_ident, quote_literal, shell_word};
use std::fmt::Write;

/// Makes who logs in and, if it is another one, the role that it takes on.
pub(crate) fn make_roles(out: &mut String, user: &str, role: &str) {
    let make = |name: &str, may: &str| {
        do_block(&format!(
            "BEGIN\n  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = {}) THEN\n    CREATE ROLE {} {may};\n  END IF;\nEND",
            quote_literal(name),
            quote_ident(name)
        ))
    };
    line(out, &make(user, "LOGIN"));
    if user != role {
        line(out, "-- And the role that it takes on, to which what it makes belongs.");
        line(out, &make(role, "NOLOGIN"));
        line(out, &format!("GRANT {} TO {};", quote_ident(role), quote_ident(user)));
    }
}

/// Stops a script that is run in another database than the one it is for.
pub(crate) fn guard(database: &str) -> String {
    do_block(&format!(
        "BEGIN\n  IF current_database() <> {0} THEN\n    RAISE EXCEPTION 'this script is for database %, and this is %', {0}, current_database();\n  END IF;\nEND",
        quote_literal(database)
    ))
}

/// Says whose script it is, and begins it.
pub(crate) fn for_superuser(out: &mut String, database: &str, why: &str) {
    let file = in_comment(&shell_word(database));
    line(out, &format!("-- Run it as a superuser{why}: psql -v ON_ERROR_STOP=1 -d {file} -f THIS-FILE"));
    line(out, "SET standard_conforming_strings = on;");
    line(out, &guard(database));
}

/// Adds a line to a script.
pub(crate) fn line(out: &mut String, text: &str) {
    // Writing to a text cannot fail.
    let _ = writeln!(out, "{text}");
}

/// An anonymous block of PL/pgSQL, quoted as a text, so that nothing inside it can end it.
pub(crate) fn do_block(body: &str) -> String {
    format!("DO LANGUAGE plpgsql {};", quote_literal(body))
}

/// Makes a schema of ours, unless it is there; one that someone else owns, who could put anything into it, is no such
/// schema.
pub(crate) fn own_schema(name: &str) -> String {
    do_block(&format!(
        "BEGIN\n  CREATE SCHEMA IF NOT EXISTS {0};\n  IF (SELECT NOT (r.rolsuper OR r.rolname = current_user) FROM pg_namespace n JOIN pg_roles r ON r.oid = n.nspowner WHERE n.nspname = {1}) THEN\n    RAISE EXCEPTION 'schema % belongs to someone who is no administrator: look at what it is, and drop it', {1};\n  END IF;\nEND",
        quote_ident(name),
        quote_literal(name)
    ))
}

/// Takes a schema of ours away if nothing is in it.
pub(crate) fn drop_empty_schema(name: &str) -> String {
    do_block(&format!(
        "BEGIN\n  DROP SCHEMA IF EXISTS {} RESTRICT;\nEXCEPTION WHEN dependent_objects_still_exist THEN\n  NULL;\nEND",
        quote_ident(name)
    ))
}
