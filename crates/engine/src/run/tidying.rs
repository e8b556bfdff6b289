//! Folding what is old while a run goes on.

use crate::pipeline::context::Context;
use crate::pipeline::tidy::{TidyOptions, tidy, tidy_after};
use moorage_adapter::Event;
use moorage_core::plan::table::TablePlan;
use std::convert::Infallible;
use std::sync::atomic::Ordering;
use std::time::Duration;

/// How often at most, and how often at least, is looked for what has become old.
const OFTEN: Duration = Duration::from_secs(1);
const SELDOM: Duration = Duration::from_secs(24 * 3600);
/// A run begins with other work.
const FIRST: Duration = Duration::from_secs(60);

/// Folds what has become old of tables of which the project file says when that is, again and again. What is in the way of that is
/// said, and is nothing to the rest of the run.
pub(crate) async fn go_on(context: &Context) -> Infallible {
    let Some(soonest) = soonest(context).await else { return std::future::pending().await };
    let every = (soonest / 24).clamp(OFTEN, SELDOM);
    let mut pause = every.min(FIRST);
    loop {
        tokio::time::sleep(pause).await;
        pause = every;
        if !context.followed.load(Ordering::Relaxed) {
            continue;
        }
        match tidy(&context.pipeline, TidyOptions::default(), &|_| {}).await {
            Ok(all) => {
                for one in all.into_iter().filter(|one| one.folded.removed + one.folded.folded > 0) {
                    let (removed, folded) = (one.folded.removed, one.folded.folded);
                    context.say(Event::Tidied { table: one.table, target: one.target, removed, folded });
                }
            }
            Err(error) => {
                let message = format!("what is old could not be folded: {error}; it is tried again");
                context.say(Event::Warning { message });
            }
        }
    }
}

/// The shortest time after which changes of any table are old; none if the project file names none.
async fn soonest(context: &Context) -> Option<Duration> {
    let config = &context.pipeline.config;
    let said = config.tidy_after.is_some() || config.rule.iter().any(|rule| rule.tidy_after.is_some());
    if !said {
        return None;
    }
    loop {
        if let Ok(stored) = context.pipeline.target.tables(&context.pipeline.name).await
            && !stored.is_empty()
        {
            let forms: Vec<&TablePlan> = stored.iter().flat_map(|stored| stored.plan.forms()).collect();
            return forms.iter().filter_map(|plan| tidy_after(&context.pipeline, plan)).min();
        }
        tokio::time::sleep(OFTEN).await;
    }
}
