//! `demo`: the whole thing on made-up data.
//!
//! It makes a source and then uses the program like anyone else: `run` as a process of its own, so that it can
//! be killed, `verify` and `status` as the commands they are.

use crate::args::{DemoArgs, Global, Pipelines, StatusArgs, VerifyArgs};
use crate::commands::{status, verify};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_demo::{Business, Pace, Progress, Sizes};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::process::{Child, Command};
use tokio::sync::watch;

const PROJECT: &str = include_str!("../../../../demo/moorage.toml");
const README: &str = include_str!("../../../../demo/README.md");
/// By then a new table has joined.
const JOINING: Duration = Duration::from_secs(4);
/// Transactions a second while changes go on.
const RATE: f64 = 200.0;
const FILLING: &str = "{wide_bar} {human_pos} of {human_len} rows, {eta} left";
/// The versions of the stay that has most of them.
const QUERY: &str = "SELECT id, state, moorage_since, moorage_until FROM stays_history WHERE id = (SELECT id FROM stays_history GROUP BY id ORDER BY count(*) DESC LIMIT 1) ORDER BY moorage_since";
/// By this the folder is known again.
const MARK: &str = "# Made by `moorage demo`.";

pub async fn demo(global: &Global, args: &DemoArgs) -> Result<Finished, Failure> {
    let folder = prepare_folder(&args.folder)?;
    let global = Global { file: folder.join("moorage.toml"), ..global.clone() };
    let demo = Demo { global, folder, seconds: args.seconds };
    demo.fill(args).await?;
    demo.title("A first snapshot of every table", "moorage run --until caught-up");
    demo.run(&["--until", "caught-up"]).await?;
    let clean = demo.live(args).await?;
    demo.title("Where everything stands", "moorage status");
    let everything = StatusArgs { pipelines: Pipelines { pipelines: Vec::new() }, count: true };
    status::status(&demo.global, &everything).await?;
    demo.summary(clean);
    if args.keep_running {
        demo.keep_running(args.seed).await?;
    }
    Ok(if clean { Finished::Clean } else { Finished::Found })
}

fn prepare_folder(folder: &Path) -> Result<PathBuf, Failure> {
    let failed = |what: &Path, e: std::io::Error| Failure::failed(format!("{}: {e}", what.display()));
    let file = folder.join("moorage.toml");
    let known = std::fs::read_to_string(&file).is_ok_and(|text| text.starts_with(MARK));
    let empty = std::fs::read_dir(folder).map_or(true, |mut entries| entries.next().is_none());
    if !known && !empty {
        return Err(Failure::usage(format!(
            "{} holds other files already; name a new folder: moorage demo DIR",
            folder.display()
        )));
    }
    std::fs::create_dir_all(folder).map_err(|e| failed(folder, e))?;
    if !known {
        // The project file is written first and whole: by it the folder is known again after a kill.
        for (name, text) in [("moorage.toml", PROJECT), ("README.md", README)] {
            let (path, part) = (folder.join(name), folder.join(format!("{name}.part")));
            std::fs::write(&part, text)
                .and_then(|()| std::fs::rename(&part, &path))
                .map_err(|e| failed(&path, e))?;
        }
    }
    Ok(folder.to_path_buf())
}

struct Demo {
    global: Global,
    folder: PathBuf,
    seconds: u64,
}

impl Demo {
    fn title(&self, what: &str, command: &str) {
        let command = if command.is_empty() { String::new() } else { format!("   $ {command}") };
        render::note(render::heading(&self.global, what, &command));
    }

    /// Makes the marina's database, under another name until it is whole.
    async fn fill(&self, args: &DemoArgs) -> Result<(), Failure> {
        let path = self.folder.join("harbour.db");
        if path.exists() {
            let again = format!("Pellow Quay is in {} already: going on from there", self.folder.display());
            self.title(&again, "");
            return Ok(());
        }
        self.title(&format!("Pellow Quay, a made-up marina, in {}", self.folder.display()), "");
        let part = self.folder.join("harbour.db.part");
        for suffix in ["", "-wal", "-shm", "-journal"] {
            // What an earlier try left; mostly nothing.
            let _ = std::fs::remove_file(format!("{}{suffix}", part.display()));
        }
        let source = moorage_systems::make_source(&part)
            .ok_or_else(|| Failure::failed("there is no source that is a file"))??;
        let mut console = source.console().await?;
        let bar = render::bar(&self.global, FILLING, Some(args.rows));
        moorage_demo::fill(console.as_mut(), args.seed, Sizes::of(args.rows), &mut |rows| {
            bar.set_position(rows)
        })
        .await?;
        let rows = bar.position();
        bar.finish_and_clear();
        // Everything goes into the one file before it gets its name.
        console.run("PRAGMA wal_checkpoint(TRUNCATE)").await?;
        drop(console);
        std::fs::rename(&part, &path).map_err(|e| Failure::failed(format!("{}: {e}", path.display())))?;
        let bytes = std::fs::metadata(&path).map_or(0, |m| m.len());
        render::note(format!(
            "{} rows in eight tables, {} (seed {})",
            render::number(rows),
            render::size(bytes),
            args.seed
        ));
        Ok(())
    }

    fn program(&self, arguments: &[&str]) -> Result<Command, Failure> {
        let program =
            std::env::current_exe().map_err(|e| Failure::failed(format!("the program's own file: {e}")))?;
        let mut command = Command::new(program);
        command.arg("--file").arg(&self.global.file).args(["run", "--with-stdin"]).args(arguments);
        // It ends with this process, however that ends.
        command.stdin(Stdio::piped()).stdout(Stdio::null()).kill_on_drop(true);
        Ok(command)
    }

    fn start(&self, arguments: &[&str]) -> Result<Child, Failure> {
        self.program(arguments)?.spawn().map_err(|e| Failure::failed(format!("starting `moorage run`: {e}")))
    }

    /// Runs to the end.
    async fn run(&self, arguments: &[&str]) -> Result<(), Failure> {
        let mut run = self.start(arguments)?;
        // Waiting would close it, and with that end the run.
        let open = run.stdin.take();
        let ended = run.wait().await;
        drop(open);
        match ended {
            Ok(status) if status.success() => Ok(()),
            Ok(_) => Err(Failure::failed(format!(
                "`moorage run` failed, see above. When that is mended, `moorage demo {}` goes on",
                self.folder.display()
            ))),
            Err(e) => Err(Failure::failed(format!("waiting for `moorage run`: {e}"))),
        }
    }

    /// Changes go on, the run is killed, started again, and both sides are compared: while changes go on, and
    /// when they have ended. Whether they agreed.
    async fn live(&self, args: &DemoArgs) -> Result<bool, Failure> {
        let half = Duration::from_secs(self.seconds).div_f64(2.0);
        self.title(
            "The marina opens: changes come in",
            &format!("moorage churn harbour --rate {RATE}  and  moorage run"),
        );
        let (stop, stopped) = watch::channel(false);
        let churning = tokio::spawn(churn(self.global.clone(), args.seed, stopped));
        let mut first = self.start(&[])?;
        tokio::time::sleep(half).await;
        first.start_kill().map_err(|e| Failure::failed(format!("killing the run: {e}")))?;
        let _ = first.wait().await;
        self.title(
            "Killed, as a crash would. Started again, it goes on where the target stands",
            "kill -9 …; moorage run",
        );
        let mut second = self.start(&[])?;
        tokio::time::sleep(half.div_f64(2.0)).await;
        self.title(
            "The marina grows: vessels get a column, and a table of tariffs comes",
            "ALTER TABLE vessels ADD COLUMN insured …; CREATE TABLE tariffs …",
        );
        self.grow().await?;
        tokio::time::sleep(half.div_f64(2.0).max(JOINING)).await;
        self.title("Do both sides agree, while changes go on?", "moorage verify");
        let everything = VerifyArgs {
            pipelines: Pipelines { pipelines: Vec::new() },
            table: Vec::new(),
            counts_only: false,
            show: 5,
        };
        let while_busy = verify::verify(&self.global, &everything).await?;
        let _ = stop.send(true);
        let progress = churning.await.map_err(|e| Failure::failed(e.to_string()))??;
        interrupt(&mut second).await;
        self.title(
            &format!(
                "The marina closes after {} transactions ({} rolled back). And now?",
                render::number(progress.committed),
                render::number(progress.rolled_back)
            ),
            "moorage run --until caught-up && moorage verify",
        );
        self.run(&["--until", "caught-up"]).await?;
        let at_rest = verify::verify(&self.global, &everything).await?;
        Ok(while_busy == Finished::Clean && at_rest == Finished::Clean)
    }

    async fn grow(&self) -> Result<(), Failure> {
        let (_, source) = load::source(&self.global, Some(&"harbour".to_string()))?;
        Ok(moorage_demo::grow(source.console().await?.as_mut()).await?)
    }

    fn summary(&self, clean: bool) {
        let outcome = match clean {
            true => "Both sides agree, row by row: while changes went on, and after.",
            false => {
                "The two sides DIFFERED, see above. Please keep the folder: it shows a mistake of Moorage's."
            }
        };
        self.title(outcome, "");
        render::note(format!("Next, in the folder {} (README.md there says more):", self.folder.display()));
        for (command, what) in [
            ("moorage run", "follows changes until Ctrl-C; in a second terminal:"),
            ("moorage churn harbour", "keeps the marina busy"),
            ("moorage changes stays", "shows what happens to stays, as it happens"),
            ("moorage row vessels 7 --wait", "one row on both sides, until they agree"),
            ("moorage drift", "what changed in the tables' structure, and what was done"),
            ("moorage status", "says how far everything is, and what is wrong"),
            ("moorage watch", "the same, live: lag, rates, tables, the last transactions"),
            ("moorage lag", "how far behind, now and over time, and where the time goes"),
        ] {
            render::note(format!("  {command:<30}{what}"));
        }
        render::note(
            "A query on warehouse.db to try, with any program that reads SQLite: how a stay came to be what it is",
        );
        render::note(format!("  {QUERY}"));
    }

    async fn keep_running(&self, seed: u64) -> Result<(), Failure> {
        self.title("Going on until Ctrl-C", "moorage churn harbour  and  moorage run");
        render::note(format!(
            "Look on in a second terminal, in the folder {}: moorage watch",
            self.folder.display()
        ));
        let (stop, stopped) = watch::channel(false);
        let churning = tokio::spawn(churn(self.global.clone(), seed, stopped));
        let mut run = self.start(&[])?;
        let _ = tokio::signal::ctrl_c().await;
        let _ = stop.send(true);
        interrupt(&mut run).await;
        churning.await.map_err(|e| Failure::failed(e.to_string()))?.map(|_| ())
    }
}

/// Asks a run to end, as Ctrl-C does, and waits for it.
async fn interrupt(run: &mut Child) {
    if let Some(pid) = run.id() {
        // If it cannot be told, it is killed when it is dropped, which loses nothing.
        let _ = Command::new("kill").args(["-s", "INT", &pid.to_string()]).status().await;
    }
    let _ = tokio::time::timeout(Duration::from_secs(30), run.wait()).await;
}

async fn churn(global: Global, seed: u64, mut stopped: watch::Receiver<bool>) -> Result<Progress, Failure> {
    let (_, source) = load::source(&global, Some(&"harbour".to_string()))?;
    let mut console = source.console().await?;
    let mut business = Business::begin(console.as_mut(), seed, 2_000).await?;
    let pace = Pace { rate: Some(RATE), burst: 0, duration: None, until: None };
    let mut last = Progress::default();
    let mut told = |progress| last = progress;
    tokio::select! {
        done = moorage_demo::churn(console.as_mut(), &mut business, pace, &mut told) => return Ok(done?),
        _ = stopped.wait_for(|stop| *stop) => {}
    }
    Ok(last)
}
