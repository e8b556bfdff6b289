//! Both ends as the answers to `init` name them: opened, tried, without their passwords.

use crate::args::{Global, InitArgs};
use crate::failure::Failure;
use crate::{load, render};
use moorage_adapter::Source;
use moorage_adapter::kind::{Answered, LogInAs};
use moorage_core::model::described::SourceTable;
use moorage_core::project::text::{Answers, EndAnswer, PasswordAnswer, plain_name, project_text};
use moorage_systems::{Described, target_kinds};
use secrecy::SecretString;
use std::sync::Arc;

/// Answers with a source alone; everything else is as it is if nobody says otherwise.
pub(super) fn answers_with(source: EndAnswer, name: &str) -> Answers {
    let source_name = plain_name(name);
    Answers {
        pipeline: source_name.clone(),
        source_name,
        source,
        target_name: "warehouse".into(),
        target: EndAnswer::default(),
        include: Vec::new(),
        exclude: Vec::new(),
        into: "{schema}_{table}".into(),
    }
}

/// A source that is written nowhere yet, opened.
pub(super) fn open(
    global: &Global,
    answers: &Answers,
    password: Option<SecretString>,
) -> Result<Arc<dyn Source>, Failure> {
    let file = &global.file;
    let described = Described::parse(&file.display().to_string(), &project_text(answers))
        .map_err(|e| Failure::usage(e.to_string()))?;
    let (name, instead) = (&answers.source_name, LogInAs { user: None, password });
    load::open_source(file, name, described.sources[name].as_ref(), None, instead)
}

/// What the source says of itself and its tables.
pub(super) async fn try_source(source: &dyn Source) -> Result<Vec<SourceTable>, Failure> {
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

pub(super) fn password_of(args: &InitArgs) -> Option<PasswordAnswer> {
    let command = args.password_command.as_ref().map(|c| c.split_whitespace().map(str::to_string).collect());
    let env = args.password_env.clone().map(PasswordAnswer::Env);
    env.or(args.password_file.clone().map(PasswordAnswer::File)).or(command.map(PasswordAnswer::Command))
}

/// Where the password of an end comes from: as it was said, or from a variable if one stood in the address.
pub(super) fn reference(
    answered: &Answered,
    said: Option<PasswordAnswer>,
    variable: &str,
    address: &str,
) -> Option<PasswordAnswer> {
    if answered.password.is_none() {
        return said;
    }
    let reference = said.unwrap_or_else(|| PasswordAnswer::Env(variable.into()));
    if let PasswordAnswer::Env(variable) = &reference {
        render::note(format!(
            "the password in {address} is not written: set the environment variable {variable} to it"
        ));
    }
    Some(reference)
}

/// Where rows go, and where the password for it comes from.
pub(super) fn target_of(place: &str, args: &InitArgs) -> Result<EndAnswer, Failure> {
    let known = || target_kinds().map(|(_, target)| target.place()).collect::<Vec<_>>().join(" or ");
    let answered = target_kinds()
        .find_map(|(_, target)| target.answer(place))
        .ok_or_else(|| Failure::usage(format!("rows cannot go to {place}: name {}", known())))?
        .map_err(Failure::usage)?;
    let said = args.target_password_env.clone().map(PasswordAnswer::Env);
    let password = reference(&answered, said, "WAREHOUSE_PASSWORD", "the target's address");
    Ok(EndAnswer { password, ..answered.end })
}
