//! The truth table of [`decide`].

use crate::checkpoint::decide::*;
use crate::checkpoint::stored::*;
use crate::model::described::SourceIdentity;
use crate::model::position::Position;
use crate::value::moment::Moment;

fn identity() -> SourceIdentity {
    SourceIdentity {
        kind: "postgres".into(),
        system: "7".into(),
        database: "harbour".into(),
        timeline: "1".into(),
    }
}

fn checkpoint(stage: Stage) -> Checkpoint {
    Checkpoint {
        pipeline: "quayside".into(),
        identity: identity(),
        capture_point: "s".into(),
        token: "t".into(),
        stage,
        changes_only: false,
        starts_at: None,
        position: "50".into(),
        proof: String::new(),
        sequence: 0,
        valid_from: Moment::default(),
        committed_at: None,
        captured_at: None,
        merged_at: None,
    }
}

fn point() -> CapturePoint {
    let reaches_back_to = Some(Position::new(&[40], "40"));
    CapturePoint {
        active: None,
        reaches_back_to,
        token: Some("t".into()),
        named_by_user: false,
        keep_more: "keep more",
    }
}

fn decided(
    checkpoint: Option<Checkpoint>,
    point: Option<CapturePoint>,
    identity: SourceIdentity,
    head: u64,
) -> String {
    let position = checkpoint.as_ref().map(|_| Position::new(&[50], "50"));
    let decision = decide(&Situation {
        checkpoint: checkpoint.as_ref(),
        position,
        identity: &identity,
        head: Position::new(&[head], head.to_string()),
        capture_point: point.as_ref(),
        capture_point_name: "s",
        another: Some("name another one in the project file"),
    });
    match decision {
        Decision::Refuse(refusal) => {
            let text = refusal.to_string();
            assert!(text.contains("moorage ") || text.contains("project file"), "has a way out: {text}");
            format!("{refusal:?}").split([' ', '{']).next().unwrap().to_string()
        }
        other => format!("{other:?}"),
    }
}

#[test]
fn every_line_of_the_truth_table() {
    let following = || Some(checkpoint(Stage::Following));
    let preparing = || Some(checkpoint(Stage::Preparing));
    let with = |change: fn(&mut CapturePoint)| {
        let mut p = point();
        change(&mut p);
        Some(p)
    };
    let id = |change: fn(&mut SourceIdentity)| {
        let mut i = identity();
        change(&mut i);
        i
    };
    let same = identity;
    for (got, expected) in [
        (decided(None, None, same(), 90), "SetUp"),
        (decided(None, with(|p| p.named_by_user = true), same(), 90), "Adopt"),
        (decided(None, Some(point()), same(), 90), "Leftover"),
        (decided(preparing(), None, same(), 90), "SetUpAgain"),
        (decided(preparing(), Some(point()), same(), 90), "SetUpAgain"),
        (decided(preparing(), with(|p| p.token = Some("x".into())), same(), 90), "Leftover"),
        (decided(preparing(), with(|p| p.token = None), same(), 90), "Leftover"),
        (decided(following(), Some(point()), id(|i| i.system = "8".into()), 90), "OtherSystem"),
        (decided(following(), Some(point()), id(|i| i.database = "x".into()), 90), "OtherDatabase"),
        (decided(following(), Some(point()), id(|i| i.timeline = "2".into()), 90), "OtherTimeline"),
        (decided(following(), None, same(), 90), "CapturePointGone"),
        (decided(following(), with(|p| p.reaches_back_to = None), same(), 90), "CapturePointLost"),
        (decided(following(), with(|p| p.token = Some("x".into())), same(), 90), "MadeAgain"),
        (decided(following(), Some(point()), same(), 45), "BehindCheckpoint"),
        (
            decided(following(), with(|p| p.reaches_back_to = Some(Position::new(&[51], "51"))), same(), 90),
            "CapturePointAhead",
        ),
        (decided(following(), with(|p| p.active = Some("pid 3".into())), same(), 90), "InUse"),
        (decided(following(), Some(point()), same(), 90), "Resume"),
        (decided(Some(checkpoint(Stage::SnapshotOnly)), None, same(), 90), "SetUp"),
    ] {
        assert_eq!(got, expected);
    }
}
