//! A target table as it is in the server, and the statements that read and write its rows.
//!
//! Rows go in as arrays, one a column, which `unnest` makes rows of again: one statement whatever their number.
//! Deletes and updates look each row up by the key's index through a LATERAL subquery with a limit, which no plan
//! can turn into reading the whole table.

use super::dialect::{holds, parts};
use super::kept::{self, key_columns};
use crate::wire::connect::Session;
use crate::wire::encode::{Encoder, array_type};
use moorage_adapter::{AdapterError, Result};
use moorage_core::model::kept_as::{Added, Keep};
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::current_rows::is_its;
use moorage_core::plan::table::TablePlan;
use std::collections::{HashMap, HashSet};

/// A column as the server has it.
#[derive(Clone, Debug)]
pub(crate) struct FoundColumn {
    pub(crate) name: String,
    pub(crate) type_id: u32,
    /// The type without its modifier, as a cast takes it.
    pub(crate) cast: String,
    /// The type with its modifier.
    pub(crate) declared: String,
    /// Whether a row cannot do without it.
    pub(crate) needed: bool,
    /// Whether it takes no value but the server's own: generated, or always an identity.
    pub(crate) computed: bool,
}

/// A table as the server has it.
#[derive(Clone, Debug)]
pub(crate) struct Found {
    pub(crate) id: u32,
    /// `r` for an ordinary table (PostgreSQL manual, section 53.11).
    pub(crate) kind: String,
    pub(crate) columns: Vec<FoundColumn>,
    /// Whether the user may read and write it.
    pub(crate) writable: bool,
}

const FOUND: &str = "
SELECT w.place, c.oid, c.relkind::text, a.attname::text, a.atttypid, format_type(a.atttypid, -1),
       format_type(a.atttypid, a.atttypmod),
       a.attnotnull AND NOT a.atthasdef AND a.attidentity = '' AND a.attgenerated = '',
       has_table_privilege(c.oid, 'SELECT') AND has_table_privilege(c.oid, 'INSERT')
         AND has_table_privilege(c.oid, 'UPDATE') AND has_table_privilege(c.oid, 'DELETE'),
       a.attgenerated <> '' OR a.attidentity = 'a'
FROM unnest($1::text[], $2::text[]) WITH ORDINALITY w(schema, name, place)
JOIN pg_namespace n ON n.nspname = w.schema
JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = w.name AND c.relkind IN ('r', 'p', 'f', 'v', 'm')
LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
ORDER BY w.place, a.attnum";

/// What there is under these names of target tables, in their order.
pub(crate) async fn find(session: &Session, targets: &[&str]) -> Result<Vec<Option<Found>>> {
    let (schemas, names): (Vec<String>, Vec<String>) = targets.iter().map(|t| parts(t)).unzip();
    let mut all: Vec<Option<Found>> = vec![None; targets.len()];
    for row in session.cached("looking at target tables", FOUND, &[&schemas, &names]).await? {
        let at = usize::try_from(row.get::<_, i64>(0) - 1).unwrap_or_default();
        let found = all[at].get_or_insert_with(|| Found {
            id: row.get(1),
            kind: row.get(2),
            columns: Vec::new(),
            writable: row.get(8),
        });
        if let Some(name) = row.get::<_, Option<String>>(3) {
            found.columns.push(FoundColumn {
                name,
                type_id: row.get(4),
                cast: row.get(5),
                declared: row.get(6),
                needed: row.get(7),
                computed: row.get(9),
            });
        }
    }
    Ok(all)
}

impl Found {
    /// Why the planned rows cannot be written into it, if so, with the way out.
    pub(crate) fn unfit(&self, plan: &TablePlan) -> Option<String> {
        if self.kind != "r" {
            let what = match self.kind.as_str() {
                "v" | "m" => "a view",
                "p" => "a partitioned table, whose rows are in its partitions",
                _ => "not an ordinary table",
            };
            return Some(format!("it is {what}. Rename it, or change `into`"));
        }
        let by_name: HashMap<&str, &FoundColumn> =
            self.columns.iter().map(|c| (c.name.as_str(), c)).collect();
        let mut wrong = Vec::new();
        for (planned, column) in plan.columns.iter().zip(&plan.mapped.columns) {
            match by_name.get(planned.name.as_str()) {
                None => wrong.push(format!("it has no column {}", planned.name)),
                Some(found) if !holds(&planned.declared.sql, &column.source_type, &found.declared) => {
                    wrong.push(format!(
                        "column {} is of type {}, which does not hold every {} exactly",
                        planned.name, found.declared, planned.declared.sql
                    ));
                }
                Some(found) if found.computed => {
                    wrong.push(format!("column {} takes no value but the server's own", planned.name));
                }
                Some(_) => {}
            }
        }
        let carried: HashSet<&str> = plan.columns.iter().map(|c| c.name.as_str()).collect();
        for column in self.columns.iter().filter(|c| c.needed && !carried.contains(c.name.as_str())) {
            wrong.push(format!("column {} must have a value, and none is carried for it", column.name));
        }
        if !wrong.is_empty() {
            return Some(format!(
                "{}. Change the table, drop or cast columns with a rule, or change `into`",
                wrong.join("; ")
            ));
        }
        let grant = format!(
            "the user may not read and write it. Run: GRANT SELECT, INSERT, UPDATE, DELETE ON {} TO CURRENT_USER",
            super::dialect::relation(plan.stands_in())
        );
        (!self.writable).then_some(grant)
    }

    /// Whether it has exactly the planned columns and types.
    pub(crate) fn is_as_planned(&self, plan: &TablePlan) -> bool {
        let found: HashSet<(&str, &str)> =
            self.columns.iter().map(|c| (c.name.as_str(), c.declared.as_str())).collect();
        let planned: HashSet<(&str, &str)> =
            plan.columns.iter().map(|c| (c.name.as_str(), c.declared.sql.as_str())).collect();
        found == planned
    }
}

/// A target table with the statements for it.
#[derive(Clone, Debug)]
pub(crate) struct Form {
    pub(crate) id: u32,
    /// As SQL wants it.
    pub(crate) relation: String,
    /// The carried columns, quoted.
    pub(crate) columns: Vec<String>,
    casts: Vec<String>,
    arrays: Vec<&'static str>,
    type_ids: Vec<u32>,
    /// The key's columns; none if rows are told apart by all of them.
    pub(crate) key: Vec<usize>,
    /// What else a row has to be that is found by its key: one of the plan's table.
    its: String,
    /// The same for rows of a prefix, where the target table has others, too.
    only_its: Option<String>,
    /// And the one that is valid still, or the last one.
    found: String,
    /// Of a table of versions: the columns with the times from when and until when they are valid.
    validity: Option<(String, String)>,
    /// The column with the time at which a row was deleted.
    deleted_at: Option<String>,
    pub(crate) encoder: Encoder,
}

impl Form {
    /// For a table that holds what the plan says.
    pub(crate) fn new(plan: &TablePlan, relation: String, found: &Found) -> Result<Self> {
        let mut columns = Vec::with_capacity(plan.columns.len());
        for planned in &plan.columns {
            let column = found.columns.iter().find(|c| c.name == planned.name).ok_or_else(|| {
                AdapterError::refused(
                    format!("target table {}", plan.target),
                    format!(
                        "column {} is gone. Add it again, or run `moorage resnapshot {}`",
                        planned.name,
                        plan.table()
                    ),
                )
            })?;
            columns.push(column);
        }
        let logical = &plan.mapped.columns;
        let name = |added| quote_ident(plan.kept_as.name(added));
        let encoder =
            Encoder::new(columns.iter().zip(logical).map(|(f, c)| (c.name.as_str(), &c.logical, f.type_id)));
        Ok(Self {
            id: found.id,
            relation,
            columns: columns.iter().map(|c| quote_ident(&c.name)).collect(),
            casts: columns.iter().map(|c| c.cast.clone()).collect(),
            arrays: logical.iter().map(|c| array_type(&c.logical)).collect(),
            type_ids: columns.iter().map(|c| c.type_id).collect(),
            key: plan.key().to_vec(),
            its: is_its(plan, "s.").map(|its| format!(" AND {its}")).unwrap_or_default(),
            only_its: is_its(plan, ""),
            found: match plan.kept_as.keep {
                Keep::Current => String::new(),
                Keep::Versions => format!(" AND s.{} IS NULL", name(Added::Until)),
                Keep::Changes => {
                    format!(" ORDER BY s.{} DESC, s.{} DESC", name(Added::Position), name(Added::Order))
                }
            },
            validity: (plan.kept_as.keep == Keep::Versions).then(|| (name(Added::Since), name(Added::Until))),
            deleted_at: plan.kept_as.adds().find(|added| *added == Added::DeletedAt).map(name),
            encoder,
        })
    }

    /// The same where all values are handed over as texts.
    #[must_use]
    pub(crate) fn of_texts(&self) -> Self {
        Self { arrays: vec!["text"; self.columns.len()], ..self.clone() }
    }

    /// All columns' places.
    pub(crate) fn all(&self) -> Vec<usize> {
        (0..self.columns.len()).collect()
    }

    fn list(&self, columns: &[usize]) -> String {
        columns.iter().map(|&c| self.columns[c].as_str()).collect::<Vec<_>>().join(", ")
    }

    /// `unnest($1::bigint[], …) AS x(c0, …)` over some columns, whose arrays are the parameters from `first` on,
    /// and then more arrays: names with types.
    fn input(&self, columns: &[usize], first: usize, more: &[(&str, &str)]) -> String {
        let types = columns.iter().map(|&c| self.arrays[c]).chain(more.iter().map(|m| m.1));
        let arrays: Vec<String> =
            types.enumerate().map(|(i, ty)| format!("${}::{ty}[]", first + i)).collect();
        let names: Vec<String> =
            columns.iter().map(|c| format!("c{c}")).chain(more.iter().map(|m| m.0.to_string())).collect();
        format!("unnest({}) AS x({})", arrays.join(", "), names.join(", "))
    }

    /// A column of the input as the table's type.
    fn cast(&self, column: usize) -> String {
        format!("x.c{column}::{}", self.casts[column])
    }

    fn cast_list(&self, columns: &[usize]) -> String {
        columns.iter().map(|&c| self.cast(c)).collect::<Vec<_>>().join(", ")
    }

    fn by_key(&self) -> String {
        let terms = self.key.iter().map(|&k| format!("s.{} = {}", self.columns[k], self.cast(k)));
        format!("{}{}", terms.collect::<Vec<_>>().join(" AND "), self.its)
    }

    /// A condition, with the one that a row is of the plan's table.
    fn among_its(&self, condition: &str) -> String {
        match &self.only_its {
            Some(its) => format!("{its} AND {condition}"),
            None => condition.into(),
        }
    }

    /// Removes all rows.
    pub(crate) fn empty(&self) -> String {
        let its = self.only_its.as_ref().map(|its| format!(" WHERE {its}")).unwrap_or_default();
        format!("DELETE FROM ONLY {}{its}", self.relation)
    }

    /// COPY into the table itself.
    pub(crate) fn copy(&self) -> String {
        format!("COPY {} ({}) FROM STDIN{}", self.relation, self.list(&self.all()), self.encoder.options())
    }

    /// Adds rows.
    pub(crate) fn insert(&self) -> String {
        let all = self.all();
        format!(
            "INSERT INTO {} AS t ({}) OVERRIDING SYSTEM VALUE SELECT {} FROM {}",
            self.relation,
            self.list(&all),
            self.cast_list(&all),
            self.input(&all, 1, &[])
        )
    }

    /// Adds rows or overwrites those with their keys; tells how many were added, and how many were written: not those that
    /// another table has, with which this one stands together.
    pub(crate) fn upsert(&self) -> String {
        let sets: Vec<String> = (0..self.columns.len())
            .filter(|c| !self.key.contains(c))
            .map(|c| format!("{0} = excluded.{0}", self.columns[c]))
            .collect();
        let may_take =
            self.deleted_at.as_ref().map(|at| format!(" OR t.{at} IS NOT NULL")).unwrap_or_default();
        let whose = self.only_its.as_ref().map(|its| format!(" WHERE t.{its}{may_take}")).unwrap_or_default();
        let action =
            if sets.is_empty() { "NOTHING".into() } else { format!("UPDATE SET {}{whose}", sets.join(", ")) };
        // A row version that an insert made has not been locked or replaced by anyone: its xmax is 0.
        format!(
            "WITH w AS ({} ON CONFLICT ({}) DO {action} RETURNING t.xmax = 0 AS fresh) \
             SELECT count(*) FILTER (WHERE fresh), count(*) FROM w",
            self.insert(),
            self.list(&self.key)
        )
    }

    /// Removes the rows with these keys.
    pub(crate) fn delete(&self) -> String {
        format!(
            "DELETE FROM ONLY {0} t WHERE t.ctid = ANY (ARRAY(SELECT p.place FROM {1} CROSS JOIN LATERAL \
             (SELECT s.ctid AS place FROM ONLY {0} s WHERE {2} LIMIT 1) p))",
            self.relation,
            self.input(&self.key, 1, &[]),
            self.by_key()
        )
    }

    /// Writes some columns of the rows with these keys: the key's arrays, then the columns' arrays, then for each
    /// column an array of flags, whether a row has a value for it.
    pub(crate) fn patch(&self, columns: &[usize]) -> String {
        let flags: Vec<String> = columns.iter().map(|c| format!("f{c}")).collect();
        let more: Vec<(&str, &str)> = flags.iter().map(|f| (f.as_str(), "boolean")).collect();
        let input: Vec<usize> = self.key.iter().chain(columns).copied().collect();
        let sets: Vec<String> = columns
            .iter()
            .map(|&c| {
                format!("{0} = CASE WHEN x.f{c} THEN {1} ELSE s.{0} END", self.columns[c], self.cast(c))
            })
            .collect();
        format!(
            "UPDATE ONLY {} s SET {} FROM {} WHERE {}",
            self.relation,
            sets.join(", "),
            self.input(&input, 1, &more),
            self.by_key()
        )
    }

    /// The rows with these keys, all columns as text behind the number that is the last array.
    pub(crate) fn fetch(&self) -> String {
        let texts: Vec<String> = self.columns.iter().map(|c| format!("s.{c}::text")).collect();
        format!(
            "SELECT x.nth, {} FROM {} CROSS JOIN LATERAL (SELECT * FROM ONLY {} s WHERE {}{} LIMIT 1) s",
            texts.join(", "),
            self.input(&self.key, 1, &[("nth", "bigint")]),
            self.relation,
            self.by_key(),
            self.found
        )
    }

    /// Has the versions of these keys end that are valid still: each at the moment in the last array. Those that would be of
    /// no time stay as they are.
    pub(crate) fn end(&self) -> Option<String> {
        let (since, until) = self.validity.as_ref()?;
        Some(format!(
            "UPDATE ONLY {} s SET {until} = x.ends::timestamptz FROM {} WHERE {}{} AND s.{since} <> x.ends::timestamptz",
            self.relation,
            self.input(&self.key, 1, &[("ends", "text")]),
            self.by_key(),
            self.found
        ))
    }

    /// Takes those away.
    pub(crate) fn void(&self) -> Option<String> {
        let (since, _) = self.validity.as_ref()?;
        Some(format!(
            "DELETE FROM ONLY {} s USING {} WHERE {}{} AND s.{since} = x.ends::timestamptz",
            self.relation,
            self.input(&self.key, 1, &[("ends", "text")]),
            self.by_key(),
            self.found
        ))
    }

    /// Marks all rows that are not as deleted, at one moment.
    pub(crate) fn mark_all(&self) -> Option<String> {
        let (table, deleted_at) = (&self.relation, self.deleted_at.as_ref()?);
        Some(format!(
            "UPDATE ONLY {table} SET {deleted_at} = $1::text::timestamptz WHERE {}",
            self.among_its(&format!("{deleted_at} IS NULL"))
        ))
    }

    /// The same for all versions that are valid still, at one moment.
    pub(crate) fn end_rest(&self) -> Option<[String; 2]> {
        let (table, (since, until)) = (&self.relation, self.validity.as_ref()?);
        let valid = self.among_its(&format!("{until} IS NULL"));
        Some([
            format!("DELETE FROM ONLY {table} WHERE {valid} AND {since} = $1::text::timestamptz"),
            format!("UPDATE ONLY {table} SET {until} = $1::text::timestamptz WHERE {valid}"),
        ])
    }

    /// Removes rows that are equal in all columns: each as often as the last array says.
    pub(crate) fn delete_equal(&self) -> String {
        let all = self.all();
        let found: Vec<String> = self.columns.iter().map(|c| format!("s.{c}")).collect();
        let hash = match (self.hash("s."), self.hash_of_input()) {
            (Some(of_row), Some(of_input)) => format!("{of_row} = {of_input} AND "),
            _ => String::new(),
        };
        format!(
            "DELETE FROM ONLY {0} t WHERE t.ctid = ANY (ARRAY(SELECT p.place FROM {1} CROSS JOIN LATERAL \
             (SELECT s.ctid AS place FROM ONLY {0} s WHERE {hash}ROW({2})::text = ROW({3})::text LIMIT x.times) p))",
            self.relation,
            self.input(&all, 1, &[("times", "bigint")]),
            found.join(", "),
            self.cast_list(&all)
        )
    }

    /// Columns whose types have a hash that is the same for equal values, so that it can be indexed.
    fn hashable(&self) -> Vec<usize> {
        // boolean, bytea, integers, texts, floats, numeric, dates and times, uuid, jsonb, inet: `pg_type.dat`.
        const TYPES: [u32; 18] =
            [16, 17, 20, 21, 23, 25, 700, 701, 869, 1042, 1043, 1082, 1083, 1114, 1184, 1186, 1700, 2950];
        (0..self.columns.len()).filter(|&c| TYPES.contains(&self.type_ids[c])).take(100).collect()
    }

    fn hash(&self, prefix: &str) -> Option<String> {
        let columns: Vec<String> =
            self.hashable().into_iter().map(|c| format!("{prefix}{}", self.columns[c])).collect();
        (!columns.is_empty()).then(|| format!("hash_record_extended(ROW({}), 0)", columns.join(", ")))
    }

    fn hash_of_input(&self) -> Option<String> {
        let columns = self.hashable();
        (!columns.is_empty()).then(|| format!("hash_record_extended(ROW({}), 0)", self.cast_list(&columns)))
    }

    /// What merges find rows by: the key, or without one a hash of the row. None if there is nothing to hash.
    pub(crate) fn index(&self, plan: &TablePlan) -> Option<String> {
        let named = |kind: &str| format!("moorage_{kind}_{}", self.id);
        let kept = kept::indexes(plan, &self.relation, named);
        if !kept.is_empty() {
            return Some(kept.join("; "));
        }
        let key = key_columns(plan);
        if !key.is_empty() {
            return Some(format!("ALTER TABLE {} ADD PRIMARY KEY ({})", self.relation, self.list(key)));
        }
        let hash = self.hash("")?;
        Some(format!("CREATE INDEX moorage_match_{} ON {} ({hash})", self.id, self.relation))
    }

    /// Two rows as texts, which are equal only if their values are, to the last bit.
    pub(crate) fn as_text(&self, alias: &str) -> String {
        let columns: Vec<String> = self.columns.iter().map(|c| format!("{alias}.{c}")).collect();
        format!("ROW({})::text", columns.join(", "))
    }

    /// The carried columns as a list.
    pub(crate) fn names(&self) -> String {
        self.list(&self.all())
    }

    /// The key's columns, equal in two tables.
    pub(crate) fn same_key(&self, a: &str, b: &str) -> String {
        let terms = self.key.iter().map(|&k| format!("{a}.{0} = {b}.{0}", self.columns[k]));
        terms.collect::<Vec<_>>().join(" AND ")
    }
}

/// Foreign keys among and around tables: for each child its parents, and which tables have children that a
/// delete would change on its own.
#[derive(Clone, Debug, Default)]
pub(crate) struct References {
    parents: HashMap<u32, Vec<u32>>,
    acting: HashSet<u32>,
}

impl References {
    pub(crate) async fn read(session: &Session, tables: &[u32]) -> Result<Self> {
        let sql = "SELECT conrelid, confrelid, confdeltype::text FROM pg_constraint
                   WHERE contype = 'f' AND conparentid = 0 AND (conrelid = ANY($1) OR confrelid = ANY($1))";
        let mut found = Self::default();
        for row in session.cached("looking for foreign keys", sql, &[&tables]).await? {
            let (child, parent, action): (u32, u32, String) = (row.get(0), row.get(1), row.get(2));
            found.parents.entry(child).or_default().push(parent);
            if !matches!(action.as_str(), "a" | "r") {
                found.acting.insert(parent);
            }
        }
        Ok(found)
    }

    /// Whether deleting rows of a table changes rows of others.
    pub(crate) fn acts(&self, table: u32) -> bool {
        self.acting.contains(&table)
    }

    /// Parents of a table among others.
    pub(crate) fn parents(&self, table: u32) -> &[u32] {
        self.parents.get(&table).map_or(&[], Vec::as_slice)
    }

    /// Puts tables in an order in which parents come before their children; in a ring any order.
    pub(crate) fn order(&self, tables: &[u32]) -> Vec<u32> {
        let mut done: Vec<u32> = Vec::with_capacity(tables.len());
        let mut left: Vec<u32> = tables.to_vec();
        while !left.is_empty() {
            let waits = |t: &u32| self.parents(*t).iter().any(|p| p != t && left.contains(p));
            let free: Vec<u32> = left.iter().copied().filter(|t| !waits(t)).collect();
            let next = if free.is_empty() { vec![left[0]] } else { free };
            left.retain(|t| !next.contains(t));
            done.extend(next);
        }
        done
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parents_come_before_their_children_also_where_there_is_a_ring() {
        let parents = HashMap::from([(1, vec![2]), (2, vec![3, 2]), (4, vec![5]), (5, vec![4])]);
        let references = References { parents, acting: HashSet::new() };
        let order = references.order(&[1, 2, 3, 4, 5]);
        let at = |t: u32| order.iter().position(|o| *o == t).unwrap();
        assert!(at(3) < at(2) && at(2) < at(1) && order.len() == 5, "{order:?}");
    }
}
