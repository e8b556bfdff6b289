//! `init`: write a project file.

mod asking;

use crate::args::{CaptureWay, Global, InitArgs, Kind};
use crate::exit::{Failure, Finished};
use crate::load::{self, LogInAs};
use crate::{edit, render};
use moorage_adapter::Source;
use moorage_core::plan::SourceTable;
use moorage_core::project::Project;
use moorage_core::project_text::{Answers, PasswordAnswer, SourceAnswer, plain_name, project_text};
use moorage_postgres::{Password, PostgresAddress};
use secrecy::SecretString;
use std::io::IsTerminal;
use std::path::Path;
use std::sync::Arc;

pub async fn init(global: &Global, args: &InitArgs) -> Result<Finished, Failure> {
    let file = &global.file;
    if file.exists() && !args.force {
        return Err(Failure::Usage(format!(
            "{} is there already: name another file with --file, or replace it with --force",
            file.display()
        )));
    }
    let terminal = std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
    let answers = match (args.kind, terminal) {
        (Some(kind), _) => from_options(global, args, kind).await?,
        (None, true) => asking::ask(global, args).await?,
        (None, false) => {
            return Err(Failure::Usage(
                "init asks only on a terminal; here it needs --kind, and --url or --path (moorage init --help)".into(),
            ));
        }
    };
    let text = project_text(&answers);
    Project::parse(&file.display().to_string(), &text).map_err(|e| Failure::Usage(e.to_string()))?;
    edit::write(file, &text)?;
    render::out(format!("{} is written. Next:", file.display()));
    render::out("  moorage check     are both ends ready?");
    render::out("  moorage plan      what will a run make?");
    render::out("  moorage run --until caught-up");
    Ok(Finished::Clean)
}

/// A source that is written nowhere yet, opened.
fn open(
    global: &Global,
    answers: &Answers,
    password: Option<SecretString>,
) -> Result<Arc<dyn Source>, Failure> {
    let file = &global.file;
    let project = Project::parse(&file.display().to_string(), &project_text(answers))
        .map_err(|e| Failure::Usage(e.to_string()))?;
    let config = &project.sources[&answers.source_name];
    load::open_source(
        file,
        &load::folder_of(file),
        &answers.source_name,
        config,
        1,
        LogInAs { user: None, password },
    )
}

/// What the source says of itself and its tables.
async fn try_source(source: &dyn Source) -> Result<Vec<SourceTable>, Failure> {
    let address = source.address().await?;
    let found = source.discover().await?;
    let place = if address.host.is_empty() { String::new() } else { format!(" at {}", address.host) };
    render::note(format!(
        "connected: {}{place}, {}, {} tables",
        address.system,
        address.database,
        found.len()
    ));
    Ok(found)
}

fn password_of(args: &InitArgs) -> Option<PasswordAnswer> {
    let command = args.password_command.as_ref().map(|c| c.split_whitespace().map(str::to_string).collect());
    let env = args.password_env.clone().map(PasswordAnswer::Env);
    env.or(args.password_file.clone().map(PasswordAnswer::File)).or(command.map(PasswordAnswer::Command))
}

/// An address taken apart into what may be written and the password, which may not.
fn without_password(url: &str) -> (String, Option<SecretString>) {
    let Some((scheme, rest)) = url.split_once("://") else { return (url.into(), None) };
    let Some((user_info, host)) = rest.split_once('@') else { return (url.into(), None) };
    let Some((user, _)) = user_info.split_once(':') else { return (url.into(), None) };
    let password = PostgresAddress::parse(url).ok().and_then(|a| a.password);
    (format!("{scheme}://{user}@{host}"), password.and_then(Password::given))
}

async fn from_options(global: &Global, args: &InitArgs, kind: Kind) -> Result<Answers, Failure> {
    let missing = |option: &str| Failure::Usage(format!("init --kind {} needs {option}", kind_word(kind)));
    let mut given = None;
    let (source, name) = match kind {
        Kind::Sqlite => {
            let path = args.path.clone().ok_or_else(|| missing("--path"))?;
            let name = Path::new(&path).file_stem().map_or(String::new(), |s| s.to_string_lossy().into());
            (SourceAnswer::Sqlite { path }, name)
        }
        Kind::Postgres => {
            let url = args.url.clone().ok_or_else(|| missing("--url"))?;
            let (url, password) = without_password(&url);
            let database = PostgresAddress::parse(&url).map_err(|e| Failure::Usage(e.to_string()))?.database;
            let mut reference = password_of(args);
            if password.is_some() {
                let variable = format!("{}_PASSWORD", plain_name(&database).to_uppercase());
                let reference = reference.get_or_insert(PasswordAnswer::Env(variable));
                if let PasswordAnswer::Env(variable) = reference {
                    render::note(format!(
                        "the password in the address is not written: set the environment variable {variable} to it"
                    ));
                }
            }
            given = password;
            let by_trigger = args.capture == Some(CaptureWay::Trigger);
            (SourceAnswer::Postgres { url, password: reference, by_trigger }, database)
        }
    };
    let source_name = plain_name(&name);
    let (target, target_password) = target_of(args.target.as_deref().unwrap_or("warehouse.db"), args);
    let answers = Answers {
        pipeline: args.pipeline.clone().unwrap_or_else(|| source_name.clone()),
        source_name,
        source,
        target_name: "warehouse".into(),
        target,
        target_password,
        include: args.include.clone(),
        exclude: args.exclude.clone(),
        into: args.into.clone().unwrap_or_else(|| "{schema}_{table}".into()),
    };
    if !args.no_connection {
        let source = open(global, &answers, given)?;
        try_source(source.as_ref()).await?;
    }
    Ok(answers)
}

/// Where rows go, and where the password for it comes from.
fn target_of(target: &str, args: &InitArgs) -> (String, Option<PasswordAnswer>) {
    let mut reference = args.target_password_env.clone();
    let (target, password) = without_password(target);
    if password.is_some() {
        let variable = reference.get_or_insert_with(|| "WAREHOUSE_PASSWORD".into());
        render::note(format!(
            "the password in the target's address is not written: set the environment variable {variable} to it"
        ));
    }
    (target, reference.map(PasswordAnswer::Env))
}

fn kind_word(kind: Kind) -> &'static str {
    match kind {
        Kind::Postgres => "postgres",
        Kind::Sqlite => "sqlite",
    }
}
