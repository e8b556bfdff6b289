//! `churn`: keep a source busy.

use crate::args::{ChurnArgs, Global};
use crate::exit::Finished;
use crate::failure::Failure;
use crate::{load, render};
use moorage_demo::{Business, Pace, Progress};
use std::time::{Duration, Instant};

pub async fn churn(global: &Global, args: &ChurnArgs) -> Result<Finished, Failure> {
    let script = match &args.script {
        None => None,
        Some(path) => Some(
            std::fs::read_to_string(path).map_err(|e| Failure::usage(format!("{}: {e}", path.display())))?,
        ),
    };
    let (name, source) = load::source(global, args.source.as_ref())?;
    let mut console = source.console().await?;
    let pace = Pace {
        rate: (args.rate > 0.0).then_some(args.rate),
        burst: args.burst,
        duration: args.duration,
        until: args.until,
    };
    let mut teller = Teller::new(global, &name);
    let done = async {
        match &script {
            Some(script) => {
                moorage_demo::run_script(console.as_mut(), script, pace, &mut |p| teller.tell(p)).await
            }
            None => {
                let mut business =
                    Business::begin(console.as_mut(), args.seed, args.large).await.map_err(|e| {
                        moorage_adapter::AdapterError::refused(
                            format!("source {name} does not look like the demo's marina"),
                            format!("{e}. `--script FILE` runs your own statements"),
                        )
                    })?;
                moorage_demo::churn(console.as_mut(), &mut business, pace, &mut |p| teller.tell(p)).await
            }
        }
    };
    let ended = tokio::select! {
        done = done => Some(done?),
        _ = tokio::signal::ctrl_c() => None,
    };
    let progress = ended.unwrap_or(teller.last);
    let seconds = teller.began.elapsed().as_secs_f64();
    if render::wants_json(global) {
        render::json(&serde_json::json!({
            "source": name, "committed": progress.committed, "rolled_back": progress.rolled_back, "seconds": seconds,
        }))?;
    } else {
        render::out(format!(
            "{name}: {} transactions committed, {} rolled back, in {} ({} a second)",
            render::number(progress.committed),
            render::number(progress.rolled_back),
            render::span((seconds * 1000.0) as u64),
            render::number((progress.committed as f64 / seconds.max(0.001)) as u64)
        ));
    }
    Ok(Finished::Clean)
}

/// Says now and then how far it is.
struct Teller {
    name: String,
    quiet: bool,
    began: Instant,
    said: Instant,
    last: Progress,
}

const SAY_EVERY: Duration = Duration::from_secs(5);

impl Teller {
    fn new(global: &Global, name: &str) -> Self {
        let now = Instant::now();
        Self { name: name.into(), quiet: global.quiet, began: now, said: now, last: Progress::default() }
    }

    fn tell(&mut self, progress: Progress) {
        self.last = progress;
        if !self.quiet && self.said.elapsed() >= SAY_EVERY {
            self.said = Instant::now();
            let rate = progress.committed as f64 / self.began.elapsed().as_secs_f64();
            render::note(format!(
                "{}: {} transactions, {} a second",
                self.name,
                render::number(progress.committed),
                render::number(rate as u64)
            ));
        }
    }
}
