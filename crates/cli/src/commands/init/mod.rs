//! `init`: write a project file.

mod asking;
mod ends;

use crate::args::{Global, InitArgs};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{edit, render};
use ends::{answers_with, open, password_of, reference, target_of, try_source};
use moorage_adapter::kind::Given;
use moorage_core::project::text::{Answers, plain_name, project_text};
use moorage_systems::{Described, source_kind};
use std::io::IsTerminal;

pub async fn init(global: &Global, args: &InitArgs) -> Result<Finished, Failure> {
    let file = &global.file;
    if file.exists() && !args.force {
        return Err(Failure::usage(format!(
            "{} is there already: name another file with --file, or replace it with --force",
            file.display()
        )));
    }
    let terminal = std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
    let answers = match (&args.kind, terminal) {
        (Some(kind), _) => from_options(global, args, kind).await?,
        (None, true) => asking::ask(global, args).await?,
        (None, false) => {
            return Err(Failure::usage(
                "init asks only on a terminal; here it needs --kind, and --url or --path (moorage init --help)",
            ));
        }
    };
    let text = project_text(&answers);
    Described::parse(&file.display().to_string(), &text).map_err(|e| Failure::usage(e.to_string()))?;
    edit::write(file, &text)?;
    render::out(format!("{} is written. Next:", file.display()));
    render::out("  moorage check     are both ends ready?");
    render::out("  moorage plan      what will a run make?");
    render::out("  moorage run --until caught-up");
    Ok(Finished::Clean)
}

async fn from_options(global: &Global, args: &InitArgs, kind: &str) -> Result<Answers, Failure> {
    let known = source_kind(kind).ok_or_else(|| Failure::usage(format!("there is no kind {kind}")))?;
    let options = [("url", &args.url), ("path", &args.path), ("capture", &args.capture)];
    let given: Given = options.into_iter().filter_map(|(name, value)| Some((name, value.clone()?))).collect();
    if let Some(missing) = known.options().iter().find(|option| !given.contains_key(*option)) {
        return Err(Failure::usage(format!("init --kind {kind} needs --{missing}")));
    }
    let answered = known.answer(&given).map_err(Failure::usage)?;
    let mut answers = answers_with(answered.end.clone(), &answered.name);
    let variable = format!("{}_PASSWORD", plain_name(&answered.name).to_uppercase());
    answers.source.password = reference(&answered, password_of(args), &variable, "the address");
    answers.target = target_of(args.target.as_deref().unwrap_or("warehouse.db"), args)?;
    answers.pipeline = args.pipeline.clone().unwrap_or(answers.pipeline);
    answers.include.clone_from(&args.include);
    answers.exclude.clone_from(&args.exclude);
    answers.into = args.into.clone().unwrap_or(answers.into);
    if !args.no_connection {
        let source = open(global, &answers, answered.password)?;
        try_source(source.as_ref()).await?;
    }
    Ok(answers)
}
