//! What becomes of each change under a filter.

use crate::change::kind::{Change, ChangeKind};

/// What becomes of a block's changes, and which images they need.
pub(super) struct Routes {
    pub(super) changes: Vec<Route>,
    /// Rows of the new images, each with the change it belongs to.
    pub(super) new: Vec<(usize, usize)>,
    /// Rows of the old images.
    pub(super) old: Vec<usize>,
    /// Rows of the new images whose key stands for an old one.
    pub(super) keys: Vec<usize>,
    pub(super) blind: bool,
}

pub(super) struct Route {
    pub(super) at: usize,
    pub(super) kind: ChangeKind,
    pub(super) new: Option<usize>,
    /// Row, and whether it is one of `keys`.
    pub(super) old: Option<(usize, bool)>,
    pub(super) unchanged: Option<Box<[bool]>>,
}

impl Routes {
    /// The truth table, with `now` for whether the row passes after the change and `before` for whether it did
    /// before, if that is known:
    ///
    /// | change | before | now | becomes |
    /// |---|---|---|---|
    /// | insert | | yes | insert |
    /// | update | yes | yes | update |
    /// | update | no | yes | insert |
    /// | update | yes, or not known | no | delete |
    /// | update | not known | yes | update, marked blind |
    /// | delete | yes, or not known | | delete |
    /// | truncate | | | truncate |
    /// | all others | | | nothing |
    pub(super) fn push(
        &mut self,
        at: usize,
        change: &Change<'_>,
        now: bool,
        before: Option<bool>,
        filters: bool,
    ) {
        let kind = match (change.kind, before, now) {
            (ChangeKind::Truncate, ..) => ChangeKind::Truncate,
            (ChangeKind::Insert, _, true) => ChangeKind::Insert,
            (ChangeKind::Update, Some(false), true) => ChangeKind::Insert,
            (ChangeKind::Update, _, true) => ChangeKind::Update,
            (ChangeKind::Update, None | Some(true), false) => ChangeKind::Delete,
            (ChangeKind::Delete, None | Some(true), _) => ChangeKind::Delete,
            _ => return,
        };
        let updated = change.kind == ChangeKind::Update;
        self.blind |= filters && before.is_none() && matches!(kind, ChangeKind::Update | ChangeKind::Delete);
        let new = change.new.filter(|_| matches!(kind, ChangeKind::Insert | ChangeKind::Update)).map(|row| {
            self.new.push((row, at));
            self.new.len() - 1
        });
        let old = match (kind, change.old, change.new) {
            (ChangeKind::Insert, ..) => None,
            (_, Some(row), _) => {
                self.old.push(row);
                Some((self.old.len() - 1, false))
            }
            (ChangeKind::Delete, None, Some(row)) if updated => {
                self.keys.push(row);
                Some((self.keys.len() - 1, true))
            }
            _ => None,
        };
        let unchanged = change.unchanged.filter(|_| new.is_some()).cloned();
        self.changes.push(Route { at, kind, new, old, unchanged });
    }
}
