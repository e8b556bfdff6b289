//! Editing a project file's text: comments, order and everything else in it stay as they are.

use toml_edit::{Array, DocumentMut, Item, Table, Value, value};

/// Names as the `include` line of a project file, one a line where there are several.
pub fn include_line(names: &[String]) -> String {
    format!("include = {}", list(names).to_string().trim())
}

fn list(names: &[String]) -> Array {
    let mut list: Array = names.iter().map(String::as_str).collect();
    if names.len() > 1 {
        for item in list.iter_mut() {
            item.decor_mut().set_prefix("\n  ");
        }
        list.set_trailing("\n");
        list.set_trailing_comma(true);
    }
    list
}

fn pipeline<'a>(document: &'a mut DocumentMut, name: &str) -> Result<&'a mut Table, String> {
    let found = document.get_mut("pipelines").and_then(|p| p.as_table_like_mut()?.get_mut(name));
    found.and_then(Item::as_table_mut).ok_or_else(|| {
        format!("pipeline {name} is not written as a table [pipelines.{name}], so it cannot be edited")
    })
}

fn parse(text: &str) -> Result<DocumentMut, String> {
    text.parse::<DocumentMut>().map_err(|e| e.to_string())
}

/// The text with a pipeline's `include` replaced.
///
/// # Errors
/// If the text is no TOML, or has no such pipeline.
pub fn with_include(text: &str, name: &str, names: &[String]) -> Result<String, String> {
    let mut document = parse(text)?;
    let pipeline = pipeline(&mut document, name)?;
    set(pipeline, "include", Value::Array(list(names)));
    Ok(document.to_string())
}

/// Replaces a value; what stands around it stays.
fn set(table: &mut Table, key: &str, new: Value) {
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(old) => {
            let mut new = new;
            let decor = old.decor().clone();
            *new.decor_mut() = decor;
            *old = new;
        }
        None => {
            table.insert(key, value(new));
        }
    }
}

/// The text with how a pipeline's target tables are named.
///
/// # Errors
/// As for [`with_include`].
pub fn with_into(text: &str, name: &str, into: &str) -> Result<String, String> {
    let mut document = parse(text)?;
    set(pipeline(&mut document, name)?, "into", into.into());
    Ok(document.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    const FILE: &str = "# ours\n[pipelines.quayside] # the first\nsource = \"harbour\"\ninclude = [\"main.*\"] # all\nmerge_every = \"1s\"\n";

    #[test]
    fn comments_and_order_stay() {
        let names = ["main.berths".to_string(), "main.\"odd one\"".to_string()];
        let edited = with_include(FILE, "quayside", &names).unwrap();
        let expected = FILE.replace("[\"main.*\"]", "[\n  \"main.berths\",\n  'main.\"odd one\"',\n]");
        assert_eq!(edited, expected);
        let edited = with_into(FILE, "quayside", "quay_{table}").unwrap();
        assert_eq!(edited, format!("{FILE}into = \"quay_{{table}}\"\n"));
        assert_eq!(
            with_into(&edited, "quayside", "{table}").unwrap(),
            format!("{FILE}into = \"{{table}}\"\n")
        );
        assert!(with_into(FILE, "nowhere", "x").is_err());
    }
}
