//! What a target lacks is said before anything is made, and what it does otherwise when it happens.

use crate::ends::{caught_up, caught_up_reading_again, pipeline_with};
use moorage_adapter::{Event, Lack, RecallTarget, Replacing};
use moorage_engine::{check, has_blocker};
use moorage_testkit::{MemorySource, MemoryTarget, Op, row};
use std::sync::Arc;

#[rstest::rstest]
#[case::only_appends(&[Lack::ChangingRows, Lack::Looks], "", "only appends")]
#[case::sets_nothing_aside(&[Lack::SettingAside, Lack::Looks], "on_reject = \"set_aside\"", "sets no changes aside")]
#[tokio::test]
async fn what_is_asked_and_lacking_is_refused_before_anything_is_made(
    #[case] lacks: &'static [Lack],
    #[case] keys: &str,
    #[case] words: &str,
) {
    let (source, folder) = (MemorySource::default(), tempfile::tempdir().unwrap());
    let target = MemoryTarget::that_says(lacks, Replacing::AtOnce);
    let pipeline = pipeline_with(keys, Arc::new(source.clone()), Arc::new(target.clone()), folder.path());
    let found = check(&pipeline).await;
    let finding = found.iter().find(|f| f.check == "lacking").expect("a finding");
    assert!(has_blocker(&found) && finding.found.contains(words) && !finding.fix.is_none(), "{finding:?}");

    let error = caught_up(&pipeline).await.unwrap_err();
    assert_eq!(error.code(), "lacking");
    assert!(error.to_string().contains(words), "{error}");
    assert!(target.checkpoint("p").await.unwrap().is_none() && source.is_untouched());
}

#[rstest::rstest]
#[tokio::test(flavor = "multi_thread")]
async fn that_readers_see_a_replacement_is_told(
    #[values(Replacing::AtOnce, Replacing::InParts)] replacing: Replacing,
) {
    let (source, folder) = (MemorySource::default(), tempfile::tempdir().unwrap());
    source.commit(&[Op::Insert(row(1, "one"))]);
    let target = MemoryTarget::that_says(&[Lack::Looks], replacing);
    let pipeline = pipeline_with("", Arc::new(source), Arc::new(target.clone()), folder.path());
    caught_up(&pipeline).await.unwrap();
    let (done, told) = caught_up_reading_again(&pipeline, "berths").await;
    done.unwrap();
    assert!(told.iter().any(|event| matches!(event, Event::ReadAgain { rows: 1, .. })), "{told:?}");
    let warns = |event: &Event| matches!(event, Event::Warning { message } if message.contains("public.berths: the target cannot put new rows"));
    assert_eq!(told.iter().any(warns), replacing == Replacing::InParts, "{told:?}");
    assert_eq!(target.rows("public_berths"), [row(1, "one")]);
}
