//! From the project file to pipelines with both ends.

use crate::args::{Global, ScriptOf};
use crate::exit::Failure;
use moorage_adapter::{Source, Target};
use moorage_core::project::{
    Capture, LogIn, Project, SecretConfig, SourceConfig, SourceKind, TargetConfig, TargetKind, findings,
};
use moorage_core::visible;
use moorage_engine::Pipeline;
use moorage_postgres::{
    Password, PostgresAddress, PostgresSource, PostgresTarget, PostgresTriggerSource, TargetSettings,
};
use moorage_sqlite::{SqliteSource, SqliteTarget};
use secrecy::SecretString;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// The pipelines that were asked for, or all.
///
/// # Errors
/// If the project file is missing or wrong, or a pipeline is not in it.
pub fn pipelines(global: &Global, wanted: &[String]) -> Result<Vec<Pipeline>, Failure> {
    let file = &global.file;
    let project = project(file)?;
    let folder = folder_of(file);
    if project.pipelines.is_empty() {
        return Err(Failure::Usage(format!(
            "{}: there is no pipeline in it; add one as [pipelines.NAME]",
            file.display()
        )));
    }
    let known = || project.pipelines.keys().cloned().collect::<Vec<_>>().join(", ");
    if let Some(name) = wanted.iter().find(|w| !project.pipelines.contains_key(*w)) {
        return Err(Failure::Usage(format!(
            "{}: there is no pipeline {name}; there is {}",
            file.display(),
            known()
        )));
    }
    project
        .pipelines
        .iter()
        .filter(|(name, _)| wanted.is_empty() || wanted.contains(name))
        .map(|(name, config)| {
            let connections = config.snapshot_connections.as_ref().map_or(4, |n| *n.get_ref());
            let source = &project.sources[config.source.get_ref()];
            let target = &project.targets[config.target.get_ref()];
            Ok(Pipeline {
                name: name.clone(),
                config: config.clone(),
                source: open_source(
                    file,
                    &folder,
                    config.source.get_ref(),
                    source,
                    connections,
                    LogInAs::default(),
                )?,
                target: open_target(file, &folder, config.target.get_ref(), target, connections)?,
                connections,
                ddl_folder: config.ddl_dir.as_ref().map(|d| folder.join(d)),
                project_findings: [
                    findings(&format!("source {}", config.source.get_ref()), source.url.as_ref()),
                    if target.url.is_some() {
                        findings(&format!("target {}", config.target.get_ref()), target.url.as_ref())
                    } else {
                        Vec::new()
                    },
                ]
                .concat(),
                state_folder: folder.join(".moorage"),
            })
        })
        .collect()
}

fn project(file: &Path) -> Result<Project, Failure> {
    let text = read_bounded(file, MOST_PROJECT_BYTES).map_err(|e| {
        let way_out = match e.kind() {
            std::io::ErrorKind::NotFound => ". Name one with --file, or let `moorage init` write one here",
            _ => "",
        };
        Failure::Usage(format!("project file {}: {e}{way_out}", file.display()))
    })?;
    Project::parse(&file.display().to_string(), &text).map_err(|e| Failure::Usage(e.to_string()))
}

/// One pipeline: the named one, or the only one.
///
/// # Errors
/// As for [`pipelines`], and if none is named where there are several.
pub fn pipeline(global: &Global, wanted: Option<&String>) -> Result<Pipeline, Failure> {
    let wanted: Vec<String> = wanted.into_iter().cloned().collect();
    let mut found = pipelines(global, &wanted)?;
    match (found.pop(), found.is_empty()) {
        (Some(only), true) => Ok(only),
        (last, _) => {
            let mut names: Vec<String> = found.into_iter().chain(last).map(|p| p.name).collect();
            names.sort();
            Err(Failure::Usage(format!("name one pipeline with --pipeline: {}", names.join(", "))))
        }
    }
}

/// One pipeline for the script of one end's administrator, and the user of that end if someone else is to log in.
///
/// # Errors
/// As for [`pipeline`].
pub fn for_script(
    global: &Global,
    wanted: &[String],
    end: ScriptOf,
    log_in_as: Option<&str>,
) -> Result<(Pipeline, Option<String>), Failure> {
    let mut pipeline = only(global, wanted)?;
    let (Some(user), ScriptOf::Source) = (log_in_as, end) else { return Ok((pipeline, None)) };
    let file = &global.file;
    let project = project(file)?;
    let name = pipeline.config.source.get_ref();
    let instead = LogInAs {
        user: Some(user.to_string()),
        password: std::env::var("MOORAGE_PASSWORD").ok().map(SecretString::from),
    };
    pipeline.source = open_source(file, &folder_of(file), name, &project.sources[name], 1, instead)?;
    let url = project.sources[name].url.as_ref().map(|u| u.get_ref().as_str()).unwrap_or_default();
    Ok((pipeline, PostgresAddress::parse(url).ok().map(|address| address.user)))
}

/// One pipeline where at most one was named.
///
/// # Errors
/// As for [`pipeline`].
pub fn only(global: &Global, wanted: &[String]) -> Result<Pipeline, Failure> {
    let mut found = pipelines(global, wanted)?;
    match (found.pop(), found.is_empty()) {
        (Some(only), true) => Ok(only),
        (last, _) => {
            let names: Vec<String> = found.into_iter().chain(last).map(|p| p.name).collect();
            Err(Failure::Usage(format!("this is for one pipeline: name one of {}", names.join(", "))))
        }
    }
}

/// A source by its name in the project file; the only one if none is named.
///
/// # Errors
/// If there is no such source, or it is not plain which one is meant.
pub fn source(global: &Global, name: Option<&String>) -> Result<(String, Arc<dyn Source>), Failure> {
    let file = &global.file;
    let project = project(file)?;
    let known = project.sources.keys().cloned().collect::<Vec<_>>().join(", ");
    let found = match name {
        Some(name) => project.sources.get_key_value(name),
        None if project.sources.len() == 1 => project.sources.iter().next(),
        None => None,
    };
    let Some((name, config)) = found else {
        let asked = name.map_or("name one of the sources".into(), |n| format!("there is no source {n}"));
        return Err(Failure::Usage(format!("{}: {asked}; there is {known}", file.display())));
    };
    Ok((name.clone(), open_source(file, &folder_of(file), name, config, 1, LogInAs::default())?))
}

/// The folder that paths in a project file are relative to.
pub fn folder_of(file: &Path) -> PathBuf {
    match file.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent.into(),
        _ => PathBuf::from("."),
    }
}

/// How to log in otherwise than the project file says.
#[derive(Default)]
pub struct LogInAs {
    /// The user; that of the project file if none is given.
    pub user: Option<String>,
    /// The password; that of the project file if neither is given.
    pub password: Option<SecretString>,
}

/// A source as the project file describes it; with another log-in, if one is given.
///
/// # Errors
/// If its address is wrong.
pub fn open_source(
    file: &Path,
    folder: &Path,
    name: &str,
    config: &SourceConfig,
    connections: usize,
    instead: LogInAs,
) -> Result<Arc<dyn Source>, Failure> {
    if *config.kind.get_ref() == SourceKind::Sqlite {
        let path = config.path.as_ref().map(|p| p.get_ref().as_str()).unwrap_or_default();
        return Ok(Arc::new(SqliteSource::new(folder.join(path))));
    }
    let server = Server {
        end: format!("source {name}"),
        url: config.url.as_ref().map(|u| u.get_ref().as_str()).unwrap_or_default(),
        log_in: config.log_in(),
        instead,
    };
    let address = server.address(file, folder)?;
    Ok(match config.captured_by() {
        Capture::Log => Arc::new(PostgresSource::new(address, connections)),
        Capture::Trigger => {
            Arc::new(PostgresTriggerSource::new(address, connections, config.change_table_bytes()))
        }
    })
}

fn open_target(
    file: &Path,
    folder: &Path,
    name: &str,
    config: &TargetConfig,
    connections: usize,
) -> Result<Arc<dyn Target>, Failure> {
    let text = |value: &Option<toml::Spanned<String>>| value.as_ref().map(|v| v.get_ref().clone());
    if *config.kind.get_ref() == TargetKind::Sqlite {
        return Ok(Arc::new(SqliteTarget::new(folder.join(text(&config.path).unwrap_or_default()))));
    }
    let url = text(&config.url).unwrap_or_default();
    let server = Server {
        end: format!("target {name}"),
        url: &url,
        log_in: config.log_in(),
        instead: LogInAs::default(),
    };
    let settings = TargetSettings {
        schema: text(&config.schema).unwrap_or_else(|| "public".into()),
        lock_timeout: config.lock_timeout(),
        statement_timeout: config.statement_timeout(),
        connections,
    };
    Ok(Arc::new(PostgresTarget::new(server.address(file, folder)?, settings)))
}

/// A server as the project file describes it.
struct Server<'a> {
    end: String,
    url: &'a str,
    log_in: LogIn<'a>,
    /// What counts more.
    instead: LogInAs,
}

impl Server<'_> {
    fn address(self, file: &Path, folder: &Path) -> Result<PostgresAddress, Failure> {
        let wrong = |what: String| Failure::Usage(format!("{}: {}: {what}", file.display(), self.end));
        let mut address = PostgresAddress::parse(self.url).map_err(|e| wrong(e.to_string()))?;
        let given = self.log_in;
        let is_other = self.instead.user.is_some();
        address.user = self.instead.user.unwrap_or(address.user);
        if is_other || self.instead.password.is_some() {
            address.password = self.instead.password.map(Password::Given);
        } else if let Some(secret) = given.password {
            address.password = Some(password(folder, &self.end, secret));
        }
        address.sslmode = given.sslmode.unwrap_or(address.sslmode);
        address.channel_binding = given.channel_binding.unwrap_or(address.channel_binding);
        // An administrator need not be a member of it.
        address.role = given.role.map(str::to_string);
        address.takes_role = !is_other;
        let files = [
            (&mut address.sslrootcert, given.sslrootcert),
            (&mut address.sslcert, given.sslcert),
            (&mut address.sslkey, given.sslkey),
        ];
        for (of_address, of_file) in files {
            let path = of_file.map(PathBuf::from).or_else(|| of_address.take());
            *of_address = path.map(|path| folder.join(path));
        }
        if address.sslcert.is_some() != address.sslkey.is_some() {
            return Err(wrong("sslcert and sslkey are only of use together".into()));
        }
        Ok(address)
    }
}

/// Where a password comes from. It is looked up when a connection is made, and again for every one: what is in a file,
/// or printed by a program, may be a token that is good for minutes.
fn password(folder: &Path, end: &str, secret: &SecretConfig) -> Password {
    let (folder, end, secret) = (folder.to_path_buf(), end.to_string(), secret.clone());
    Password::Asked(Arc::new(move || {
        let found = looked_up(&folder, &secret);
        found.map(SecretString::from).map_err(|what| format!("the password of {end}: {what}"))
    }))
}

fn looked_up(folder: &Path, secret: &SecretConfig) -> Result<String, String> {
    if let Some(name) = &secret.env {
        return std::env::var(name).map_err(|_| format!("the environment variable {name} is not set"));
    }
    if let Some(path) = &secret.file {
        let path = folder.join(path);
        let text = read_bounded(&path, MOST_SECRET_BYTES).map_err(|e| format!("{}: {e}", path.display()))?;
        return Ok(text.strip_suffix('\n').unwrap_or(&text).to_string());
    }
    let Some((program, arguments)) = secret.command.as_deref().and_then(<[String]>::split_first) else {
        return Err("the command is empty".into());
    };
    let text = printed_by(program, arguments, folder).map_err(|e| format!("{program}: {e}"))?;
    Ok(text.trim_end_matches('\n').to_string())
}

/// The largest project file, in bytes.
const MOST_PROJECT_BYTES: u64 = 16 << 20;
/// The largest secret, in bytes.
const MOST_SECRET_BYTES: u64 = 64 << 10;
/// How long a program that prints a secret may take.
const SECRET_PATIENCE: Duration = Duration::from_secs(60);

/// Reads a file of at most so many bytes: it may be a device that never ends.
fn read_bounded(path: &Path, most: u64) -> std::io::Result<String> {
    let mut bytes = Vec::new();
    let read = std::fs::File::open(path)?.take(most + 1).read_to_end(&mut bytes)?;
    if read as u64 > most {
        return Err(std::io::Error::other(format!("it has more than {most} bytes")));
    }
    visible::text(bytes).map_err(std::io::Error::other)
}

/// What a program prints, at most a secret's size, within a time.
fn printed_by(program: &str, arguments: &[String], folder: &Path) -> Result<String, String> {
    let mut child = std::process::Command::new(program)
        .args(arguments)
        .current_dir(folder)
        .stdin(std::process::Stdio::null())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::inherit())
        .spawn()
        .map_err(|e| e.to_string())?;
    let Some(printed) = child.stdout.take() else { return Err("its output cannot be read".into()) };
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let mut bytes = Vec::new();
        let read = printed.take(MOST_SECRET_BYTES + 1).read_to_end(&mut bytes);
        // Nobody waits for it any more if it took too long.
        let _ = sender.send(read.map(|_| bytes));
    });
    let read = receiver.recv_timeout(SECRET_PATIENCE);
    let too_much = |bytes: &[u8]| bytes.len() as u64 > MOST_SECRET_BYTES;
    let ended = match &read {
        Ok(Ok(bytes)) if !too_much(bytes) => child.wait().map_err(|e| e.to_string())?,
        _ => {
            // It is of no use any more, and may go on for ever.
            let _ = child.kill();
            let _ = child.wait();
            return Err(match read {
                Ok(Ok(_)) => format!("it printed more than {MOST_SECRET_BYTES} bytes"),
                Ok(Err(error)) => error.to_string(),
                Err(_) => format!("it printed no end within {} s", SECRET_PATIENCE.as_secs()),
            });
        }
    };
    if !ended.success() {
        return Err(format!("it ended with {ended}"));
    }
    let bytes = read.map_err(|e| e.to_string())?.map_err(|e| e.to_string())?;
    String::from_utf8(bytes).map_err(|_| "it printed no UTF-8".into())
}
