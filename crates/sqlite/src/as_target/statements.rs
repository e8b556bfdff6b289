//! The SQL text for one target table.

use moorage_core::model::kept_as::{Added, Keep, Operation};
use moorage_core::model::schema::RowIdentity;
use moorage_core::model::sql::{quote_ident, quote_list, quote_literal};
use moorage_core::plan::current_rows::is_its;
use moorage_core::plan::table::TablePlan;

/// Statements for a table, made once per batch.
pub(crate) struct Statements {
    pub(crate) table: String,
    pub(crate) columns: Vec<String>,
    pub(crate) key: Vec<usize>,
    row_id: &'static str,
    /// What a row of the plan's table is, where the target table has others, too.
    its: Option<String>,
    /// What else a row that is found by its key has to be: one of the plan's table, and the one that is valid still, or the
    /// last one.
    found: String,
    /// Of a table of versions: the columns with the times from when and until when they are valid.
    pub(crate) validity: Option<(String, String)>,
    /// The column with the time at which a row was deleted.
    deleted_at: Option<String>,
    /// Which columns hold floats.
    floats: Vec<bool>,
}

impl Statements {
    pub(crate) fn new(plan: &TablePlan) -> Self {
        let columns: Vec<String> = plan.columns.iter().map(|c| quote_ident(&c.name)).collect();
        let name = |added| quote_ident(plan.kept_as.name(added));
        Self {
            table: quote_ident(plan.stands_in()),
            key: plan.key().to_vec(),
            row_id: row_id_name(plan),
            floats: plan.mapped.columns.iter().map(|c| c.logical.is_float()).collect(),
            found: is_its(plan, "").map(|its| format!(" AND {its}")).unwrap_or_default()
                + &match plan.kept_as.keep {
                    Keep::Current => String::new(),
                    Keep::Versions => format!(" AND {} IS NULL", name(Added::Until)),
                    Keep::Changes => {
                        format!(
                            " ORDER BY {} DESC, {} DESC LIMIT 1",
                            name(Added::Position),
                            name(Added::Order)
                        )
                    }
                },
            its: is_its(plan, ""),
            validity: (plan.kept_as.keep == Keep::Versions).then(|| (name(Added::Since), name(Added::Until))),
            deleted_at: plan.kept_as.adds().find(|added| *added == Added::DeletedAt).map(name),
            columns,
        }
    }

    /// Marks all rows that are not as deleted, at a moment.
    pub(crate) fn mark_all(&self) -> Vec<String> {
        let mark = |name: &String| {
            format!(
                "UPDATE {} SET {name} = ?1 WHERE {}",
                self.table,
                self.among_its(&format!("{name} IS NULL"))
            )
        };
        self.deleted_at.iter().map(mark).collect()
    }

    /// Has versions end that are valid still and began before: the moment, then the key.
    pub(crate) fn end(&self, (since, until): &(String, String)) -> String {
        let (table, key) = (&self.table, self.where_key(1));
        format!("UPDATE {table} SET {until} = ?1 WHERE {key} AND {since} < ?1")
    }

    /// Takes versions away that would be of no time.
    pub(crate) fn void(&self, (since, _): &(String, String)) -> String {
        format!("DELETE FROM {} WHERE {} AND {since} = ?1", self.table, self.where_key(1))
    }

    /// The same for all versions that are valid still.
    pub(crate) fn end_rest(&self) -> Vec<String> {
        let (table, Some((since, until))) = (&self.table, &self.validity) else { return Vec::new() };
        let valid = self.among_its(&format!("{until} IS NULL"));
        vec![
            format!("DELETE FROM {table} WHERE {valid} AND {since} = ?1"),
            format!("UPDATE {table} SET {until} = ?1 WHERE {valid}"),
        ]
    }

    /// A condition, with the one that a row is of the plan's table.
    fn among_its(&self, condition: &str) -> String {
        match &self.its {
            Some(its) => format!("{its} AND {condition}"),
            None => condition.into(),
        }
    }

    /// Removes all rows.
    pub(crate) fn empty(&self) -> String {
        format!("DELETE FROM {} WHERE {}", self.table, self.its.as_deref().unwrap_or("true"))
    }

    /// Overwrites a row with the key, whichever table it is of; likewise only one that was deleted, where those stay.
    pub(crate) fn take_over(&self) -> Option<String> {
        let deleted_at = self.deleted_at.as_ref()?;
        self.its.as_ref()?;
        Some(format!(
            "UPDATE {} SET {} WHERE {} AND {deleted_at} IS NOT NULL",
            self.table,
            self.sets(),
            self.has_values()
        ))
    }

    /// Whether there is a row with a key, whichever table it is of.
    pub(crate) fn is_anywhere(&self) -> String {
        let term = |(i, &k): (usize, &usize)| format!("{} = ?{}", self.columns[k], i + 1);
        let terms: Vec<String> = self.key.iter().enumerate().map(term).collect();
        format!("SELECT 1 FROM {} WHERE {}", self.table, terms.join(" AND "))
    }

    /// The key's columns among the values of all columns.
    fn has_values(&self) -> String {
        let terms: Vec<String> =
            self.key.iter().map(|&k| format!("{} = ?{}", self.columns[k], k + 1)).collect();
        terms.join(" AND ")
    }

    /// All columns but the key's, from the values of all columns.
    fn sets(&self) -> String {
        let value = |c: usize| format!("{} = ?{}", self.columns[c], c + 1);
        let mut sets: Vec<String> =
            (0..self.columns.len()).filter(|c| !self.key.contains(c)).map(value).collect();
        if sets.is_empty() {
            sets.extend(self.key.first().map(|&k| format!("{0} = {0}", self.columns[k])));
        }
        sets.join(", ")
    }

    pub(crate) fn insert(&self) -> String {
        let marks: Vec<String> = (1..=self.columns.len()).map(|i| format!("?{i}")).collect();
        format!("INSERT INTO {} ({}) VALUES ({})", self.table, self.columns.join(", "), marks.join(", "))
    }

    pub(crate) fn upsert(&self) -> String {
        let key: Vec<&str> = self.key.iter().map(|&k| self.columns[k].as_str()).collect();
        let sets: Vec<String> = (0..self.columns.len())
            .filter(|i| !self.key.contains(i))
            .map(|i| format!("{0} = excluded.{0}", self.columns[i]))
            .collect();
        let action =
            if sets.is_empty() { "NOTHING".into() } else { format!("UPDATE SET {}", sets.join(", ")) };
        format!("{} ON CONFLICT ({}) DO {action}", self.insert(), key.join(", "))
    }

    /// The key's parameters follow `first` other ones.
    fn where_key(&self, first: usize) -> String {
        let terms: Vec<String> = self
            .key
            .iter()
            .enumerate()
            .map(|(i, &k)| format!("{} = ?{}", self.columns[k], first + i + 1))
            .collect();
        terms.join(" AND ") + &self.found
    }

    pub(crate) fn delete_by_key(&self) -> String {
        format!("DELETE FROM {} WHERE {}", self.table, self.where_key(0))
    }

    /// Overwrites a row; parameters are the values of all columns. Where there are none but the key's, a row that is
    /// there is left as it is.
    pub(crate) fn overwrite(&self) -> String {
        format!("UPDATE {} SET {} WHERE {}", self.table, self.sets(), self.among_its(&self.has_values()))
    }

    /// Whether there is a row with a key.
    pub(crate) fn has_key(&self) -> String {
        format!("SELECT 1 FROM {} WHERE {}", self.table, self.where_key(0))
    }

    /// Sets these columns; parameters are their values, then the key's.
    pub(crate) fn update(&self, columns: &[usize]) -> String {
        let sets: Vec<String> =
            columns.iter().enumerate().map(|(i, &c)| format!("{} = ?{}", self.columns[c], i + 1)).collect();
        format!("UPDATE {} SET {} WHERE {}", self.table, sets.join(", "), self.where_key(columns.len()))
    }

    pub(crate) fn fetch(&self, columns: &[usize]) -> String {
        let names: Vec<&str> = columns.iter().map(|&c| self.columns[c].as_str()).collect();
        format!("SELECT {} FROM {} WHERE {}", names.join(", "), self.table, self.where_key(0))
    }

    /// Removes one row that is equal in all columns.
    pub(crate) fn delete_one_equal(&self) -> String {
        let term = |(i, c): (usize, &String)| {
            let equal = format!("{c} IS ?{}", i + 1);
            // Zeros of both signs are equal, and not the same.
            if self.floats[i] { format!("{equal} AND quote({c}) = quote(?{})", i + 1) } else { equal }
        };
        let terms: Vec<String> = self.columns.iter().enumerate().map(term).collect();
        let (table, row_id) = (&self.table, self.row_id);
        format!(
            "DELETE FROM {table} WHERE {row_id} = (SELECT {row_id} FROM {table} WHERE {} LIMIT 1)",
            terms.join(" AND ")
        )
    }
}

/// SQLite has three names for the row number, each of which a column may hide
/// (<https://www.sqlite.org/rowidtable.html>).
pub(crate) fn row_id_name(plan: &TablePlan) -> &'static str {
    let hidden = |name: &str| plan.columns.iter().any(|c| c.name.eq_ignore_ascii_case(name));
    ["rowid", "_rowid_", "oid"].into_iter().find(|n| !hidden(n)).unwrap_or("rowid")
}

/// Whether the key is one integer column, which SQLite then uses as the row number itself.
fn integer_key(plan: &TablePlan) -> Option<usize> {
    match &plan.mapped.identity {
        RowIdentity::Key(_) if !plan.is_a_copy() => None,
        RowIdentity::Key(key) if key.len() == 1 && plan.mapped.columns[key[0]].logical.is_integer() => {
            Some(key[0])
        }
        _ => None,
    }
}

/// The statement that makes a table.
pub(crate) fn create_table(plan: &TablePlan) -> String {
    let integer_key = integer_key(plan);
    let needed = plan.needed();
    let columns: Vec<String> = plan
        .columns
        .iter()
        .enumerate()
        .map(|(i, c)| {
            let suffix = match (integer_key == Some(i), needed.contains(&i)) {
                (true, _) => " PRIMARY KEY",
                (_, true) => " NOT NULL",
                _ => "",
            };
            let sql = if c.declared.sql.is_empty() { String::new() } else { format!(" {}", c.declared.sql) };
            format!("  {}{sql}{suffix}", quote_ident(&c.name))
        })
        .collect();
    format!("CREATE TABLE {} (\n{}\n)", quote_ident(plan.stands_in()), columns.join(",\n"))
}

/// The statements that make the indexes a merge finds rows by; built after loading, which is several times
/// faster than keeping them up to date meanwhile. None if the table itself is ordered by the key.
///
/// # Errors
/// If `free`, which gives a name that is not taken, fails.
pub(crate) fn create_index<E>(
    plan: &TablePlan,
    free: impl Fn(&str) -> Result<String, E>,
) -> Result<Option<String>, E> {
    let table = quote_ident(plan.stands_in());
    let name = |added| quote_ident(plan.kept_as.name(added));
    let key = plan.key().iter().map(|&k| quote_ident(&plan.columns[k].name));
    let index = |kind: &str| Ok(quote_ident(&free(&format!("moorage_{kind}_{}", plan.stands_in()))?));
    match plan.kept_as.keep {
        Keep::Current => {}
        Keep::Changes => {
            let in_order = [name(Added::Position), name(Added::Order)];
            let columns: Vec<String> = key.chain(in_order.clone()).collect();
            // What a trail is read back by begins anew where the table was emptied.
            return Ok(Some(format!(
                "CREATE INDEX {} ON {table} ({}); CREATE INDEX {} ON {table} ({}) WHERE {} = {}",
                index("match")?,
                columns.join(", "),
                index("emptied")?,
                in_order.join(", "),
                name(Added::Operation),
                quote_literal(plan.kept_as.word(Operation::Truncate))
            )));
        }
        Keep::Versions => {
            let key = key.collect::<Vec<_>>().join(", ");
            return Ok(Some(format!(
                "CREATE UNIQUE INDEX {} ON {table} ({key}, {}); CREATE UNIQUE INDEX {} ON {table} ({key}) WHERE {} IS NULL",
                index("key")?,
                name(Added::Since),
                index("valid")?,
                name(Added::Until)
            )));
        }
    }
    Ok(match plan.mapped.identity.key() {
        Some(_) if integer_key(plan).is_some() => None,
        Some(key) => {
            let columns = quote_list(key.iter().map(|&k| plan.columns[k].name.as_str()));
            let index = quote_ident(&free(&format!("moorage_key_{}", plan.stands_in()))?);
            Some(format!("CREATE UNIQUE INDEX {index} ON {table} ({columns})"))
        }
        None => {
            // Only to find equal rows without reading the whole table; the first columns are enough.
            let columns = quote_list(plan.columns.iter().take(4).map(|c| c.name.as_str()));
            let index = quote_ident(&free(&format!("moorage_match_{}", plan.stands_in()))?);
            Some(format!("CREATE INDEX {index} ON {table} ({columns})"))
        }
    })
}
