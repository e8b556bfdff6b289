//! A project in a temporary folder, the program run on it, and a comparison that shares no code with it.

use crate::load::Load;
use moorage_testkit::{PostgresServer, Session};
use rusqlite::types::Value;
use rusqlite::{Connection, OpenFlags};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use tempfile::TempDir;

/// What the program printed and how it ended.
#[derive(Debug)]
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Ran {
    /// Everything it printed.
    pub fn all(&self) -> String {
        format!("{}{}", self.out, self.err)
    }

    /// Ends the test unless it ended with this code and printed these texts.
    #[track_caller]
    pub fn expect(self, code: i32, texts: &[&str]) -> Self {
        assert_eq!(self.code, code, "{}", self.all());
        for text in texts {
            assert!(self.all().contains(text), "no {text:?} in: {}", self.all());
        }
        self
    }
}

/// A temporary folder with a project file, and the program on it.
pub struct Folder(TempDir);

/// A project with one pipeline from a database of a test server to a SQLite file.
pub struct Project {
    pub folder: Folder,
    pub database: String,
    pub session: Session,
}

impl std::ops::Deref for Project {
    type Target = Folder;
    fn deref(&self) -> &Folder {
        &self.folder
    }
}

/// A project with one pipeline, `quayside`, from a SQLite file to another.
pub struct Quay(Folder);

impl std::ops::Deref for Quay {
    type Target = Folder;
    fn deref(&self) -> &Folder {
        &self.0
    }
}

impl Quay {
    /// A source made by these statements, in write-ahead mode.
    pub fn new(statements: &str) -> Self {
        let quay = Self(Folder(tempfile::tempdir().unwrap()));
        let text = "[sources.harbour]\nkind = \"sqlite\"\npath = \"harbour.db\"\n\n[targets.warehouse]\nkind = \"sqlite\"\npath = \"warehouse.db\"\n\n\
             [pipelines.quayside]\nsource = \"harbour\"\ntarget = \"warehouse\"\ninto = \"{table}\"\nmerge_every = \"0s\"\n";
        std::fs::write(quay.path("moorage.toml"), text).unwrap();
        quay.harbour().execute_batch(&format!("PRAGMA journal_mode = WAL; {statements}")).unwrap();
        quay
    }

    /// The source, as an application opens it.
    pub fn harbour(&self) -> Connection {
        let db = Connection::open(self.path("harbour.db")).unwrap();
        db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
        db
    }

    /// Runs statements in the source.
    #[track_caller]
    pub fn change(&self, statements: &str) {
        self.harbour().execute_batch(statements).unwrap();
    }

    /// Ends the test unless both sides hold the same in the columns that the source has now.
    #[track_caller]
    pub fn assert_same(&self, table: &str) {
        let harbour = self.harbour();
        let sql = "SELECT group_concat('\"' || name || '\"', ', ') FROM pragma_table_info(?1)";
        let columns: String = harbour.query_row(sql, [table], |r| r.get(0)).unwrap();
        let rows = |db: &Connection| all_rows(db, &format!("(SELECT {columns} FROM {table})"));
        assert_eq!(rows(&self.warehouse()), rows(&harbour), "{table}");
    }

    /// Catches up, and ends the test unless both sides hold the same rows in these tables, value for value and
    /// class for class.
    #[track_caller]
    pub fn assert_follows(&self, tables: &[&str]) {
        self.catch_up();
        for table in tables {
            assert_eq!(all_rows(&self.warehouse(), table), all_rows(&self.harbour(), table), "{table}");
        }
    }
}

/// A project with one pipeline, whose name is the database's, from a PostgreSQL database to another.
pub struct Mirror {
    pub folder: Folder,
    pub source: Session,
    pub target: Session,
}

impl std::ops::Deref for Mirror {
    type Target = Folder;
    fn deref(&self) -> &Folder {
        &self.folder
    }
}

impl Mirror {
    /// Two new databases on the shared server, `NAME` and `NAME_w`. Target tables are in the schema `mirror`.
    pub fn new(name: &str, statements: &str) -> Self {
        let server = PostgresServer::shared();
        Self::between((server, ""), (server, ""), name, statements)
    }

    /// One more session on the source.
    pub fn another_session(&self) -> Session {
        PostgresServer::shared().session(&self.source.value::<String>("SELECT current_database()::text"))
    }

    /// Runs statements in the source again and again, in a session of its own, until it is let go of.
    pub fn load(&self, statements: &'static str) -> Load {
        Load::start(self.another_session(), statements)
    }

    /// Has the file `warehouse.db` as the target instead.
    pub fn has_file_as_target(&self) {
        let text = std::fs::read_to_string(self.path("moorage.toml")).unwrap();
        let (from, to) = (text.find("[targets.warehouse]").unwrap(), text.find("[pipelines.").unwrap());
        let file = "[targets.warehouse]\nkind = \"sqlite\"\npath = \"warehouse.db\"\n\n";
        std::fs::write(self.path("moorage.toml"), format!("{}{file}{}", &text[..from], &text[to..])).unwrap();
    }

    /// Two new databases, each on a server and made with these options.
    pub fn between(
        source: (&PostgresServer, &str),
        target: (&PostgresServer, &str),
        name: &str,
        statements: &str,
    ) -> Self {
        let warehouse = format!("{name}_w");
        for (server, options, database) in
            [(source.0, source.1, name), (target.0, target.1, warehouse.as_str())]
        {
            server.session("postgres").run(&format!("CREATE DATABASE {database} {options}"));
        }
        let mirror = Self {
            folder: Folder(tempfile::tempdir().unwrap()),
            source: source.0.session(name),
            target: target.0.session(&warehouse),
        };
        let text = format!(
            "[sources.harbour]\nkind = \"postgres\"\nurl = \"{}\"\n\n[targets.warehouse]\nkind = \"postgres\"\nurl = \"{}\"\nschema = \"mirror\"\n\n\
             [pipelines.{name}]\nsource = \"harbour\"\ntarget = \"warehouse\"\ninclude = [\"public.*\"]\ninto = \"{{table}}\"\nmerge_every = \"0s\"\n",
            source.0.url(name),
            target.0.url(&warehouse)
        );
        std::fs::write(mirror.path("moorage.toml"), text).unwrap();
        mirror.source.run(statements);
        mirror
    }

    /// Ends the test unless both sides hold the same rows of a table, value for value.
    #[track_caller]
    pub fn assert_same(&self, table: &str) {
        let columns = columns(&self.source, table);
        let expected = rows_of(&self.source, table, &columns);
        let found = rows_of(&self.target, &format!("mirror.{table}"), &columns);
        assert_eq!(found, expected, "{table}");
    }

    /// Catches up, and ends the test unless both sides agree in these tables, and Moorage says so too.
    #[track_caller]
    pub fn assert_follows(&self, tables: &[&str]) {
        self.catch_up();
        tables.iter().for_each(|table| self.assert_same(table));
        self.moorage(&["verify"]).expect(0, &[]);
    }
}

/// Every row of a table with the classes of its values, sorted.
pub fn all_rows(db: &Connection, table: &str) -> Vec<String> {
    let mut query = db.prepare(&format!("SELECT * FROM {table}")).unwrap();
    let width = query.column_count();
    let row = |r: &rusqlite::Row<'_>| {
        let values: Vec<Value> = (0..width).map(|i| r.get(i).unwrap()).collect();
        Ok(format!("{values:?}"))
    };
    let mut rows: Vec<String> = query.query_map([], row).unwrap().map(Result::unwrap).collect();
    rows.sort();
    rows
}

impl Folder {
    /// A new one with this project file.
    pub fn with(project: &str) -> Self {
        let folder = Self(tempfile::tempdir().unwrap());
        std::fs::write(folder.path("moorage.toml"), project).unwrap();
        folder
    }

    /// Appends to the project file.
    pub fn add(&self, lines: &str) {
        let text = std::fs::read_to_string(self.path("moorage.toml")).unwrap();
        std::fs::write(self.path("moorage.toml"), format!("{text}{lines}\n")).unwrap();
    }

    /// Replaces a text in the project file.
    pub fn replace(&self, from: &str, to: &str) {
        let text = std::fs::read_to_string(self.path("moorage.toml")).unwrap();
        assert!(text.contains(from), "{from:?} in {text}");
        std::fs::write(self.path("moorage.toml"), text.replace(from, to)).unwrap();
    }

    /// Puts something at the end of the project file.
    pub fn append(&self, text: &str) {
        let before = std::fs::read_to_string(self.path("moorage.toml")).unwrap();
        std::fs::write(self.path("moorage.toml"), format!("{before}\n{text}")).unwrap();
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    pub fn folder(&self) -> &Path {
        self.0.path()
    }

    /// The program with arguments, ready to start.
    pub fn command(&self, arguments: &[&str]) -> Command {
        // No test waits for ever: a program that hangs is killed, and what it said is shown.
        let mut command = Command::new("/usr/bin/timeout");
        command.args(["--foreground", "-s", "KILL", "120", env!("CARGO_BIN_EXE_moorage")]);
        command.args(arguments).current_dir(self.0.path()).env_clear().stdin(Stdio::null());
        command
    }

    /// Runs the program to its end.
    pub fn moorage(&self, arguments: &[&str]) -> Ran {
        ran(self.command(arguments).output().unwrap())
    }

    /// Runs until everything is in the target.
    #[track_caller]
    pub fn catch_up(&self) -> Ran {
        self.moorage(&["run", "--until", "caught-up"]).expect(0, &["caught up"])
    }

    /// Catching up fails, with these words.
    #[track_caller]
    pub fn refuses(&self, texts: &[&str]) -> Ran {
        self.moorage(&["run", "--until", "caught-up"]).expect(1, texts)
    }

    /// Starts the program and leaves it running.
    pub fn start(&self, arguments: &[&str]) -> Running {
        self.leave_running(Command::new(env!("CARGO_BIN_EXE_moorage")).args(arguments))
    }

    /// Starts a run, and waits until it follows changes.
    pub fn follow(&self) -> Running {
        let mut run = self.start(&["run"]);
        run.wait_for("following changes");
        run
    }

    /// Has another program start it, which is given its path as a last argument.
    pub fn start_by(&self, starter: &[&str]) -> Running {
        self.leave_running(Command::new(starter[0]).args(&starter[1..]).arg(env!("CARGO_BIN_EXE_moorage")))
    }

    fn leave_running(&self, command: &mut Command) -> Running {
        command.current_dir(self.0.path()).env_clear().stdin(Stdio::null());
        static NUMBER: AtomicUsize = AtomicUsize::new(0);
        let log = self.path(&format!("running_{}.log", NUMBER.fetch_add(1, Ordering::Relaxed)));
        let file = std::fs::File::create(&log).unwrap();
        let child = command.stdout(file.try_clone().unwrap()).stderr(file).spawn().unwrap();
        Running { child, log }
    }

    /// The same project in a folder of its own, as on another machine: targets that are files stay where they are.
    pub fn elsewhere(&self) -> Folder {
        let other = Folder(tempfile::tempdir().unwrap());
        let text = std::fs::read_to_string(self.path("moorage.toml")).unwrap();
        let text = text.replace("path = \"", &format!("path = \"{}/", self.folder().display()));
        std::fs::write(other.path("moorage.toml"), text).unwrap();
        other
    }

    /// The target file, as a reader opens it.
    pub fn warehouse(&self) -> Connection {
        Connection::open_with_flags(self.path("warehouse.db"), OpenFlags::SQLITE_OPEN_READ_ONLY).unwrap()
    }

    /// Changes the target behind Moorage's back.
    #[track_caller]
    pub fn tamper(&self, statements: &str) {
        let db = Connection::open(self.path("warehouse.db")).unwrap();
        db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
        db.execute_batch(statements).unwrap();
    }

    /// One value of the target.
    pub fn value<T: rusqlite::types::FromSql>(&self, sql: &str) -> T {
        self.warehouse().query_row(sql, [], |r| r.get(0)).unwrap_or_else(|e| panic!("{sql}: {e}"))
    }
}

impl Project {
    /// A new database on the shared server. The name is also the pipeline's.
    pub fn new(name: &str) -> Self {
        Self::on(PostgresServer::shared(), name)
    }

    /// A new database on a server.
    pub fn on(server: &PostgresServer, name: &str) -> Self {
        let session = server.database(name);
        let project = Self { folder: Folder(tempfile::tempdir().unwrap()), database: name.into(), session };
        project.write(&server.url(name), name, "");
        project
    }

    /// One more session on the same database of the shared server.
    pub fn another_session(&self) -> Session {
        PostgresServer::shared().session(&self.database)
    }

    /// Runs statements again and again, in a session of its own, until it is let go of.
    pub fn load(&self, statements: &'static str) -> Load {
        Load::start(self.another_session(), statements)
    }

    /// Writes the project file, with more lines for the pipeline.
    pub fn write(&self, url: &str, name: &str, more: &str) {
        let text = format!(
            "[sources.harbour]\nkind = \"postgres\"\nurl = \"{url}\"\n\n[targets.warehouse]\nkind = \"sqlite\"\npath = \"warehouse.db\"\n\n\
             [pipelines.{name}]\nsource = \"harbour\"\ntarget = \"warehouse\"\ninto = \"{{table}}\"\nmerge_every = \"0s\"\n{more}\n"
        );
        std::fs::write(self.path("moorage.toml"), text).unwrap();
    }

    /// Ends the test unless both sides hold the same rows, value for value.
    #[track_caller]
    pub fn assert_same(&self, source: &str, target: &str) {
        let (expected, found) = (source_rows(&self.session, source), self.target_rows(source, target));
        assert!(
            !expected.is_empty() || found.is_empty(),
            "{target}: the source has no row, the target {}",
            found.len()
        );
        if expected != found {
            let missing: Vec<_> = expected.iter().filter(|r| !found.contains(r)).take(3).collect();
            let extra: Vec<_> = found.iter().filter(|r| !expected.contains(r)).take(3).collect();
            panic!(
                "{target}: {} and {} rows; missing {missing:?}; extra {extra:?}",
                expected.len(),
                found.len()
            );
        }
    }

    fn target_rows(&self, source: &str, target: &str) -> Vec<Vec<String>> {
        let columns = columns(&self.session, source);
        let names: Vec<String> =
            columns.iter().map(|c| format!("\"{}\"", c.0.replace('"', "\"\""))).collect();
        let db = self.warehouse();
        let mut query = db.prepare(&format!("SELECT {} FROM \"{target}\"", names.join(", "))).unwrap();
        let rows = query
            .query_map([], |r| {
                (0..columns.len()).map(|i| r.get::<_, Value>(i)).collect::<Result<Vec<_>, _>>()
            })
            .unwrap();
        let text =
            |row: Vec<Value>| row.into_iter().zip(&columns).map(|(v, c)| from_target(v, &c.1)).collect();
        let mut rows: Vec<Vec<String>> = rows.map(|r| text(r.unwrap())).collect();
        rows.sort();
        rows
    }
}

/// A name in double quotes, as SQL wants it.
pub fn ident(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

pub fn ran(output: Output) -> Ran {
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    Ran { code: output.status.code().unwrap_or(-1), out: text(output.stdout), err: text(output.stderr) }
}

/// A program that is running.
pub struct Running {
    pub child: Child,
    log: PathBuf,
}

impl Running {
    /// Asks it to stop, and ends the test unless it does so well.
    #[track_caller]
    pub fn stop(mut self) {
        self.signal("TERM");
        assert_eq!(self.end(), 0, "{}", self.log());
    }

    /// What it has printed so far.
    pub fn log(&self) -> String {
        std::fs::read_to_string(&self.log).unwrap()
    }

    /// Waits until it has printed this.
    #[track_caller]
    pub fn wait_for(&mut self, text: &str) {
        moorage_testkit::wait_until(&format!("{text:?} is printed"), || {
            if self.log().contains(text) {
                return true;
            }
            if let Some(status) = self.child.try_wait().unwrap() {
                panic!("ended with {status} before {text:?}: {}", self.log());
            }
            false
        });
    }

    /// Sends a signal: INT, TERM, KILL.
    pub fn signal(&self, name: &str) {
        let pid = self.child.id().to_string();
        assert!(Command::new("kill").args(["-s", name, &pid]).status().unwrap().success());
    }

    /// Kills it, as a crash would.
    pub fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }

    /// Whether it has not ended yet.
    pub fn is_alive(&self) -> bool {
        // A process that ended and was not waited for is a zombie: it takes signals, and does nothing.
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).unwrap_or_default();
        stat.rsplit_once(") ").is_some_and(|(_, state)| !state.starts_with('Z'))
    }

    /// Sends a signal, unless it has ended.
    pub fn signal_if_alive(&self, name: &str) {
        if self.is_alive() {
            // It may end at this very moment.
            let _ = Command::new("kill").args(["-s", name, &self.child.id().to_string()]).status();
        }
    }

    /// Waits for its end.
    pub fn end(&mut self) -> i32 {
        self.child.wait().unwrap().code().unwrap_or(-1)
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Columns that can be carried, with the type that a domain is made from.
fn columns(session: &Session, table: &str) -> Vec<(String, String)> {
    let sql = format!(
        "SELECT attname::text, CASE t.typtype WHEN 'd' THEN format_type(t.typbasetype, NULL) ELSE format_type(t.oid, NULL) END
         FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
         WHERE attrelid = '{}'::regclass AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum",
        table.replace('\'', "''")
    );
    session.rows(&sql).iter().map(|r| (r.get(0), r.get(1))).collect()
}

fn source_rows(session: &Session, table: &str) -> Vec<Vec<String>> {
    let columns = columns(session, table);
    rows_of(session, table, &columns)
}

fn rows_of(session: &Session, table: &str, columns: &[(String, String)]) -> Vec<Vec<String>> {
    session.run("SET TimeZone = 'UTC'; SET DateStyle = 'ISO'; SET IntervalStyle = 'iso_8601'; SET lc_monetary = 'C'; SET extra_float_digits = 3");
    // The type's own output; a cast to text takes the blanks off a character(n), for example.
    let text = |c: &(String, String)| {
        let name = format!("\"{}\"", c.0.replace('"', "\"\""));
        format!("CASE WHEN num_nonnulls({name}) = 1 THEN format('%s', {name}) END")
    };
    let list: Vec<String> = columns.iter().map(text).collect();
    let rows = session.rows(&format!("SELECT {} FROM ONLY {table}", list.join(", ")));
    let text = |v: Option<String>, kind: &str| v.map_or("NULL".into(), |v| from_source(&v, kind));
    let mut rows: Vec<Vec<String>> = rows
        .iter()
        .map(|r| columns.iter().enumerate().map(|(i, c)| text(r.get(i), &c.1)).collect())
        .collect();
    rows.sort();
    rows
}

fn from_source(text: &str, kind: &str) -> String {
    match kind {
        "real" => format!("{:08x}", text.parse::<f32>().unwrap().to_bits()),
        "double precision" => format!("{:016x}", text.parse::<f64>().unwrap().to_bits()),
        "numeric" => plain_decimal(text),
        "boolean" => format!("'{}'", text == "t"),
        "timestamp with time zone" => text.replacen("+00", "+00:00", 1),
        _ => format!("'{text}'"),
    }
}

fn from_target(value: Value, kind: &str) -> String {
    match (value, kind) {
        (Value::Null, _) => "NULL".into(),
        (Value::Real(f), "real") => format!("{:08x}", (f as f32).to_bits()),
        (Value::Real(f), "double precision") => format!("{:016x}", f.to_bits()),
        (Value::Text(t), "real" | "double precision") => from_source(&t, kind),
        (Value::Real(f), "numeric") => plain_decimal(&f.to_string()),
        (Value::Integer(i), "numeric") => plain_decimal(&i.to_string()),
        (Value::Text(t), "numeric") => plain_decimal(&t),
        (Value::Text(t), "timestamp with time zone") => t,
        (Value::Integer(i), "boolean") => format!("'{}'", i != 0),
        (Value::Integer(i), _) => format!("'{i}'"),
        (Value::Text(t), _) => format!("'{t}'"),
        (Value::Blob(b), _) => format!("'\\x{}'", b.iter().map(|b| format!("{b:02x}")).collect::<String>()),
        (other, _) => panic!("{other:?} of type {kind}"),
    }
}

/// A decimal without trailing zeros, so that equal values have equal texts.
fn plain_decimal(text: &str) -> String {
    if text.contains('.') {
        text.trim_end_matches('0').trim_end_matches('.').to_string()
    } else {
        text.to_string()
    }
}
