//! Private PostgreSQL servers: started in a temporary folder, stopped when their owner is gone.

use std::io::Write;
use std::net::TcpListener;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};
use tempfile::TempDir;
use tokio::runtime::Runtime;
use tokio_postgres::{Client, NoTls, Row};

/// A private server. Dropping it, or the end of the process that made it, stops it.
pub struct PostgresServer {
    folder: TempDir,
    port: u16,
    /// Stops the server as soon as its standard input closes, however this process ends.
    watchdog: Option<Child>,
}

fn program(name: &str) -> PathBuf {
    let mut found: Vec<PathBuf> = std::fs::read_dir("/usr/lib/postgresql")
        .expect("PostgreSQL is not installed: scripts/test installs it")
        .map(|v| v.unwrap().path().join("bin").join(name))
        .filter(|p| p.exists())
        .collect();
    found.sort();
    found.pop().unwrap_or_else(|| panic!("{name} is not installed: scripts/test installs it"))
}

/// A command as a user the server accepts: it refuses to run as root.
fn as_server_user(program: &Path) -> Command {
    let mut command = Command::new(program);
    if let Some((uid, gid)) = server_user() {
        command.uid(uid).gid(gid);
    }
    command
}

fn server_user() -> Option<(u32, u32)> {
    let root = std::fs::metadata("/proc/self").is_ok_and(|m| m.uid() == 0);
    root.then(|| {
        let users = std::fs::read_to_string("/etc/passwd").unwrap();
        let line = users.lines().find(|l| l.starts_with("postgres:")).expect("a user named postgres");
        let mut fields = line.split(':').skip(2);
        (fields.next().unwrap().parse().unwrap(), fields.next().unwrap().parse().unwrap())
    })
}

fn give_to_server_user(path: &Path) {
    if let Some((uid, gid)) = server_user() {
        std::os::unix::fs::chown(path, Some(uid), Some(gid)).unwrap();
    }
}

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

fn run(command: &mut Command) {
    let output = command.stdin(Stdio::null()).output().expect("the program starts");
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

impl PostgresServer {
    /// The server that most tests of one binary share, each with a database of its own.
    pub fn shared() -> &'static Self {
        static SHARED: OnceLock<PostgresServer> = OnceLock::new();
        SHARED.get_or_init(|| Self::start(&[]))
    }

    /// Starts a server of its own, with more lines for its settings file.
    pub fn start(settings: &[&str]) -> Self {
        let folder = tempfile::Builder::new().prefix("moorage-pg").tempdir().unwrap();
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        give_to_server_user(folder.path());
        let data = folder.path().join("data");
        run(as_server_user(&program("initdb"))
            .args(["-A", "trust", "-U", "postgres", "--no-sync", "-E", "UTF8", "--locale=C.UTF-8", "-D"])
            .arg(&data));
        let mut server = Self { folder, port: free_port(), watchdog: None };
        server.configure(&[
            "wal_level = logical",
            "max_wal_senders = 100",
            "max_replication_slots = 400",
            "max_connections = 300",
            "max_prepared_transactions = 10",
            "fsync = off",
            "listen_addresses = '127.0.0.1'",
            "shared_buffers = 64MB",
        ]);
        server.configure(&[
            &format!("port = {}", server.port),
            &format!("unix_socket_directories = '{}'", server.folder.path().display()),
        ]);
        server.configure(settings);
        server.boot();
        server
    }

    /// Adds lines to the settings file; they count from the next start.
    pub fn configure(&self, lines: &[&str]) {
        let path = self.data().join("postgresql.conf");
        let mut file = std::fs::OpenOptions::new().append(true).open(path).unwrap();
        for line in lines {
            writeln!(file, "{line}").unwrap();
        }
    }

    /// Changes a setting of a server that runs, without starting it again.
    pub fn set(&self, name: &str, value: &str) {
        let session = self.session("postgres");
        session.run("SET synchronous_commit = local");
        session.run(&format!("ALTER SYSTEM SET {name} = '{value}'"));
        session.run("SELECT pg_reload_conf()");
        let is = format!("SELECT current_setting('{name}') = '{value}'");
        wait_until("the setting is in force", || self.session("postgres").value::<bool>(&is));
    }

    /// Replaces the rules for logging in; they count from the next start.
    pub fn access_rules(&self, lines: &[&str]) {
        std::fs::write(self.data().join("pg_hba.conf"), lines.join("\n") + "\n").unwrap();
    }

    /// The data folder.
    pub fn data(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    /// What the server says.
    pub fn log(&self) -> PathBuf {
        self.folder.path().join("log")
    }

    /// A file in the data folder that only the server's user may read.
    pub fn private_file(&self, name: &str, content: &str) -> PathBuf {
        let path = self.data().join(name);
        std::fs::write(&path, content).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
        give_to_server_user(&path);
        path
    }

    fn boot(&mut self) {
        let log = std::fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(self.folder.path().join("log"))
            .unwrap();
        // The shell starts the server, waits for its own input to close, then stops the server.
        let script = format!(
            "'{}' -D '{}' </dev/null & server=$!; trap '' INT TERM; cat >/dev/null; kill -QUIT $server 2>/dev/null; wait $server",
            program("postgres").display(),
            self.data().display()
        );
        let mut shell = as_server_user(Path::new("/bin/sh"));
        shell
            .args(["-c", &script])
            .stdin(Stdio::piped())
            .stdout(log.try_clone().unwrap())
            .stderr(log)
            .process_group(0);
        self.watchdog = Some(shell.spawn().expect("a shell"));
        wait_until("the server accepts connections", || self.try_session("postgres").is_some());
    }

    /// Stops the server as a crash would.
    pub fn crash(&mut self) {
        if let Some(mut watchdog) = self.watchdog.take() {
            drop(watchdog.stdin.take());
            watchdog.wait().unwrap();
        }
    }

    /// Stops the server as an administrator would, who waits for at most `seconds`. Whether it stopped.
    pub fn stop_within(&self, seconds: u32) -> bool {
        let mut command = as_server_user(&program("pg_ctl"));
        command.arg("-D").arg(self.data()).args(["-m", "fast", "-w", "-t", &seconds.to_string(), "stop"]);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap().success()
    }

    /// Stops and starts the server.
    pub fn restart(&mut self) {
        self.crash();
        self.boot();
    }

    /// A second server over a copy of this one's files, as a clone of the disk would be. This one is
    /// stopped while the copy is made.
    pub fn clone_files(&mut self) -> Self {
        self.crash();
        let folder = tempfile::Builder::new().prefix("moorage-pg").tempdir().unwrap();
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        give_to_server_user(folder.path());
        run(as_server_user(Path::new("/bin/cp")).arg("-a").arg(self.data()).arg(folder.path().join("data")));
        let mut copy = Self { folder, port: free_port(), watchdog: None };
        copy.configure(&[
            &format!("port = {}", copy.port),
            &format!("unix_socket_directories = '{}'", copy.folder.path().display()),
        ]);
        copy.boot();
        self.boot();
        copy
    }

    /// The port on 127.0.0.1.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// The folder of the Unix socket.
    pub fn socket_folder(&self) -> &Path {
        self.folder.path()
    }

    /// The address of a database for the superuser.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://postgres@127.0.0.1:{}/{database}", self.port)
    }

    /// Makes a database and opens a session in it.
    pub fn database(&self, name: &str) -> Session {
        self.session("postgres").run(&format!("CREATE DATABASE {name}"));
        self.session(name)
    }

    /// Opens a session.
    pub fn session(&self, database: &str) -> Session {
        self.try_session(database).expect("a session")
    }

    /// Where a database is, for [`Session::try_open`].
    pub fn place(&self, database: &str) -> String {
        format!("host={} port={} user=postgres dbname={database}", self.folder.path().display(), self.port)
    }

    fn try_session(&self, database: &str) -> Option<Session> {
        Session::try_open(&self.place(database))
    }

    /// Runs one of the server's programs, such as pgbench, against a database, and gives its output.
    pub fn tool(&self, name: &str, arguments: &[&str], database: &str) -> Command {
        let mut command = Command::new(program(name));
        command.arg("-h").arg(self.folder.path()).args(["-p", &self.port.to_string(), "-U", "postgres"]);
        command.args(arguments).arg(database).stdin(Stdio::null());
        command
    }
}

impl Drop for PostgresServer {
    fn drop(&mut self) {
        self.crash();
    }
}

fn runtime() -> &'static Runtime {
    static RUNTIME: OnceLock<Runtime> = OnceLock::new();
    RUNTIME.get_or_init(|| {
        tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap()
    })
}

/// A session in a database, usable from plain test functions.
pub struct Session {
    client: Client,
}

impl Session {
    /// Opens a session at a [`PostgresServer::place`], if the server lets it.
    pub fn try_open(settings: &str) -> Option<Self> {
        let settings = settings.to_string();
        let (sender, receiver) = std::sync::mpsc::channel();
        runtime().spawn(async move {
            let opened = tokio_postgres::connect(&settings, NoTls).await;
            let _ = sender.send(opened.ok().map(|(client, connection)| {
                tokio::spawn(connection);
                client
            }));
        });
        let client = receiver.recv().unwrap()?;
        Some(Self { client })
    }

    /// Runs statements.
    pub fn run(&self, sql: &str) {
        if let Err(error) = self.try_run(sql) {
            panic!("{sql}: {error}");
        }
    }

    /// Runs statements that may fail; the server's words if they do.
    pub fn try_run(&self, sql: &str) -> Result<(), String> {
        wait_for(self.client.batch_execute(sql))
            .map_err(|e| e.as_db_error().map_or(e.to_string(), |d| d.message().to_string()))
    }

    /// Asks for rows.
    pub fn rows(&self, sql: &str) -> Vec<Row> {
        wait_for(self.client.query(sql, &[])).unwrap_or_else(|e| panic!("{sql}: {e} {:?}", e.as_db_error()))
    }

    /// Asks for one value.
    pub fn value<T: for<'a> tokio_postgres::types::FromSql<'a>>(&self, sql: &str) -> T {
        self.rows(sql)[0].get(0)
    }
}

/// Waits for a future from a plain thread, also from inside another runtime's thread.
fn wait_for<T: Send>(future: impl Future<Output = T> + Send) -> T {
    std::thread::scope(|scope| scope.spawn(|| runtime().block_on(future)).join().unwrap())
}

/// Waits until something is so, looking again and again; after a minute that is an error.
pub fn wait_until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(60), "waited a minute until {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}
