//! What a run measures of itself, and what is there for whoever looks.

use crate::ends::pipeline;
use moorage_adapter::{Event, Events};
use moorage_engine::{Outcome, Pipeline, RunOptions, StopHandle, WantedLag, behind, lag, run, stop_pair};
use moorage_testkit::{FaultyTarget, MemorySource, MemoryTarget, Op, row};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::task::JoinHandle;

/// A run that follows changes by now.
async fn follows(pipeline: &Pipeline) -> (JoinHandle<moorage_engine::Result<Outcome>>, StopHandle) {
    let (stopper, stop) = stop_pair();
    let (began, begins) = tokio::sync::oneshot::channel();
    let began = Mutex::new(Some(began));
    let events: Events = Arc::new(move |event| {
        if matches!(event, Event::Streaming { .. }) {
            began.lock().unwrap().take().map(|b| b.send(()));
        }
    });
    let pipeline = pipeline.clone();
    let task = tokio::spawn(async move { run(&pipeline, &RunOptions::default(), events, stop).await });
    begins.await.unwrap();
    (task, stopper)
}

/// Asks again and again until it is so.
async fn until(what: &str, mut is_so: impl AsyncFnMut() -> bool) {
    let asked = async {
        while !is_so().await {
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(120), asked).await.unwrap_or_else(|_| panic!("never: {what}"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_slow_target_is_slow_in_applying_and_in_nothing_else() {
    let (source, folder) = (MemorySource::default(), tempfile::tempdir().unwrap());
    let target = FaultyTarget::slow(Arc::new(MemoryTarget::default()), Duration::from_secs(3));
    let pipeline = pipeline(Arc::new(source.clone()), Arc::new(target.clone()), folder.path());
    let (run, stopper) = follows(&pipeline).await;
    let wanted = WantedLag { since: None, by_table: true, over: Duration::from_secs(2), most: 10, points: 1 };
    for number in 1..=2 {
        source.commit(&[Op::Insert(row(number, "one"))]);
        until("it is applied and published", async || {
            lag(&pipeline, &wanted).await.unwrap().recent.len() == number as usize
        })
        .await;
    }
    stopper.stop("the test");
    run.await.unwrap().unwrap();
    let seen = lag(&pipeline, &wanted).await.unwrap();
    assert_eq!(seen.slowest.len(), 2, "{:?}", seen.slowest);
    for (slow, took) in seen.recent.iter().rev().zip(target.took()) {
        let (apply, took) = (slow.apply_us as f64 / 1e6, took.as_secs_f64());
        assert!(took >= 3.0 && (apply - took).abs() <= 0.05 * took, "{apply} s for {took} s");
        assert!(slow.capture_us + slow.queue_us < 500_000, "{slow:?}");
    }
    let hour = &seen.periods[1].period;
    assert_eq!((hour.transactions, hour.operations.inserts), (2, 2));
    assert!(hour.apply.unwrap().p50_us >= 2_950_000 && hour.capture.unwrap().p99_us < 500_000, "{hour:?}");
    assert_eq!(seen.tables.unwrap()[0].operations.inserts, 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_says_how_it_stands_and_of_one_that_ended_the_last_word_counts() {
    let (source, target, folder) =
        (MemorySource::default(), MemoryTarget::default(), tempfile::tempdir().unwrap());
    let pipeline = pipeline(Arc::new(source.clone()), Arc::new(target), folder.path());
    let before = behind(&pipeline).await.unwrap();
    assert!(before.running.is_none() && before.behind_us.is_none() && !before.silent);
    let (run, stopper) = follows(&pipeline).await;
    until("nothing was missing a moment ago", async || {
        let now = behind(&pipeline).await.unwrap();
        now.running.is_some() && now.published.is_some() && now.behind_us.is_some_and(|us| us < 2_000_000)
    })
    .await;
    let said = behind(&pipeline).await.unwrap().published.unwrap();
    assert_eq!(said.reader.unwrap().doing, "waits for the source");
    assert_eq!(said.writer.unwrap().doing, "waits for a batch");
    stopper.stop("the test");
    run.await.unwrap().unwrap();
    source.commit(&[Op::Insert(row(1, "one"))]);
    let after = behind(&pipeline).await.unwrap();
    assert!(after.running.is_none() && !after.silent);
    assert!(after.complete_until.is_some() && after.behind_us.is_some());
}
