//! The questions that `init` asks on a terminal.

use super::ends::{answers_with, open, target_of, try_source};
use crate::args::{Global, InitArgs};
use crate::failure::Failure;
use crate::render;
use inquire::validator::Validation;
use inquire::{InquireError, MultiSelect, Password, PasswordDisplayMode, Select, Text};
use moorage_adapter::kind::{Answered, Given, SourceKind};
use moorage_core::model::described::{SourceTable, TableKind};
use moorage_core::model::name::quoted_part;
use moorage_core::pick::naming::Naming;
use moorage_core::pick::pattern::Pattern;
use moorage_core::project::text::{Answers, PasswordAnswer, plain_name};
use moorage_systems::{source_kinds, target_kinds};
use secrecy::SecretString;
use std::collections::BTreeMap;

fn given_up(error: InquireError) -> Failure {
    match error {
        InquireError::OperationCanceled | InquireError::OperationInterrupted => {
            Failure::failed("stopped; nothing was written")
        }
        other => Failure::failed(other.to_string()),
    }
}

fn text(question: &str, default: &str) -> Result<String, Failure> {
    let mut text = Text::new(question);
    if !default.is_empty() {
        text = text.with_default(default);
    }
    let answer = text
        .with_validator(|answer: &str| {
            Ok(if answer.trim().is_empty() {
                Validation::Invalid("an answer is needed".into())
            } else {
                Validation::Valid
            })
        })
        .prompt()
        .map_err(given_up)?;
    Ok(answer.trim().to_string())
}

pub(super) async fn ask(global: &Global, args: &InitArgs) -> Result<Answers, Failure> {
    let (answers, found) = source(global).await?;
    let include = if args.include.is_empty() { pick(&found)? } else { args.include.clone() };
    let target = match &args.target {
        Some(target) => target.clone(),
        None => {
            let places: Vec<&str> = target_kinds().map(|(_, target)| target.place()).collect();
            text(&format!("Where do rows go: {}?", places.join(", or ")), "warehouse.db")?
        }
    };
    let target = target_of(&target, args)?;
    let into = match &args.into {
        Some(into) => into.clone(),
        None => naming(&found, &include)?,
    };
    let pipeline = match &args.pipeline {
        Some(pipeline) => pipeline.clone(),
        None => text("What is the pipeline called?", &answers.source_name)?,
    };
    Ok(Answers { include, exclude: args.exclude.clone(), target, into, pipeline, ..answers })
}

/// Asks until a connection works, or the asker wants to go on without.
async fn source(global: &Global) -> Result<(Answers, Vec<SourceTable>), Failure> {
    let kinds: Vec<&str> = source_kinds().map(|(kind, _)| kind.about()).collect();
    let asked = Select::new("Where do rows come from?", kinds).raw_prompt().map_err(given_up)?;
    let Some((_, kind)) = source_kinds().nth(asked.index) else {
        return Err(Failure::failed("rows cannot come from there"));
    };
    loop {
        let (answered, password) = match answer(kind)? {
            Ok(answered) => answered,
            Err(what) => {
                render::note(format!("that did not work: {what}"));
                continue;
            }
        };
        let answers = answers_with(answered.end, &answered.name);
        // Where rows go is asked later.
        let trial = Answers { target: target_of("warehouse.db", &InitArgs::default())?, ..answers.clone() };
        let tried = match open(global, &trial, password) {
            Ok(source) => try_source(source.as_ref()).await,
            Err(error) => Err(error),
        };
        match tried {
            Ok(found) => return Ok((answers, found)),
            Err(Failure { words: what, .. }) => render::note(format!("that did not work: {what}")),
        }
        let (again, without) = ("answer again", "go on without a connection");
        let next = Select::new("What now?", vec![again, without]).prompt().map_err(given_up)?;
        if next == without {
            return Ok((answers, Vec::new()));
        }
    }
}

/// Asks what a kind of source wants to know; with the password to try it with, if one was typed.
fn answer(kind: &dyn SourceKind) -> Result<Result<(Answered, Option<SecretString>), String>, Failure> {
    let mut given = Given::new();
    for question in kind.questions() {
        given.insert(question.name, text(question.text, question.default)?);
    }
    let mut answered = match kind.answer(&given) {
        Ok(answered) => answered,
        Err(what) => return Ok(Err(what)),
    };
    let mut typed = answered.password.take();
    if answered.has_password {
        answered.end.password = password(&answered.name, &mut typed)?;
    }
    Ok(Ok((answered, typed)))
}

/// Asks where a password comes from. One that nobody set yet is asked for as well, to try the connection with.
fn password(name: &str, typed: &mut Option<SecretString>) -> Result<Option<PasswordAnswer>, Failure> {
    let (env, file, command, none) =
        ("an environment variable", "a file", "a program that prints it", "none is needed");
    let from = Select::new(
        "Where does the password come from? (it is never written)",
        vec![env, file, command, none],
    )
    .prompt()
    .map_err(given_up)?;
    Ok(match from {
        f if f == env => {
            let default = format!("{}_PASSWORD", plain_name(name).to_uppercase());
            let name = text("Which variable?", &default)?;
            if std::env::var_os(&name).is_none() {
                let question = format!("{name} is not set here. The password, for this test only:");
                let asked = Password::new(&question)
                    .without_confirmation()
                    .with_display_mode(PasswordDisplayMode::Masked);
                *typed = Some(SecretString::from(asked.prompt().map_err(given_up)?));
            }
            Some(PasswordAnswer::Env(name))
        }
        f if f == file => Some(PasswordAnswer::File(text("Which file?", "")?)),
        f if f == command => {
            let words = text("Which program, with its arguments?", "")?;
            Some(PasswordAnswer::Command(words.split_whitespace().map(str::to_string).collect()))
        }
        _ => None,
    })
}

/// Schemas first; then all of their tables, or some.
fn pick(found: &[SourceTable]) -> Result<Vec<String>, Failure> {
    let mut schemas: BTreeMap<&str, Vec<&SourceTable>> = BTreeMap::new();
    for table in found.iter().filter(|t| t.kind == TableKind::Table) {
        schemas.entry(&table.name.schema).or_default().push(table);
    }
    if schemas.is_empty() {
        let answer = text("Which tables? (patterns on schema.table, separated by blanks)", "*.*")?;
        return Ok(moorage_core::pick::pattern::names_of_list(&answer));
    }
    let lines: Vec<String> =
        schemas.iter().map(|(s, tables)| format!("{s} ({} tables)", tables.len())).collect();
    let all: Vec<usize> = (0..lines.len()).collect();
    let chosen =
        MultiSelect::new("Which schemas?", lines).with_default(&all).raw_prompt().map_err(given_up)?;
    let names: Vec<&str> = schemas.keys().copied().collect();
    let mut include = Vec::new();
    for schema in chosen.iter().map(|c| names[c.index]) {
        let tables = &schemas[schema];
        let every = format!("all of them, also tables to come ({}.*)", quoted_part(schema));
        let some = "only some".to_string();
        let how = Select::new(&format!("Which tables of {schema}?"), vec![every.clone(), some])
            .prompt()
            .map_err(given_up)?;
        if how == every {
            include.push(format!("{}.*", quoted_part(schema)));
            continue;
        }
        let lines: Vec<String> = tables.iter().map(|t| line_of(t)).collect();
        let picked = MultiSelect::new("Pick with the space bar:", lines)
            .with_page_size(15)
            .with_formatter(&|picked| {
                let names: Vec<&str> = picked.iter().map(|p| tables[p.index].name.name.as_str()).collect();
                names.join(", ")
            })
            .raw_prompt()
            .map_err(given_up)?;
        include.extend(picked.iter().map(|p| tables[p.index].name.to_string()));
    }
    Ok(include)
}

fn line_of(table: &SourceTable) -> String {
    let rows = table.row_estimate.map_or(String::new(), |n| format!(", about {} rows", render::number(n)));
    format!("{}{rows}", table.name.name)
}

fn naming(found: &[SourceTable], include: &[String]) -> Result<String, Failure> {
    let patterns: Vec<Pattern> = include.iter().filter_map(|p| Pattern::parse(p)).collect();
    let picked: Vec<&SourceTable> =
        found.iter().filter(|t| patterns.iter().any(|p| p.matches(&t.name))).collect();
    let one_schema = picked.windows(2).all(|w| w[0].name.schema == w[1].name.schema);
    let default = if one_schema { "{table}" } else { "{schema}_{table}" };
    let example = picked.first().map(|t| t.name.clone());
    let answer = Text::new("How are target tables named?")
        .with_default(default)
        .with_help_message("{schema} and {table}; also {table:lower}, {table:upper}, {table:snake}")
        .with_validator(|answer: &str| {
            Ok(match Naming::parse(answer) {
                Ok(_) => Validation::Valid,
                Err(what) => Validation::Invalid(what.into()),
            })
        })
        .prompt()
        .map_err(given_up)?;
    if let (Some(table), Ok(naming)) = (example, Naming::parse(&answer)) {
        render::note(format!("{table} becomes {}", naming.name(&table)));
    }
    Ok(answer)
}
