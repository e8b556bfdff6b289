//! What following tells of itself to what is measured of the run.

use super::Driver;
use crate::pipeline::error::Result;
use crate::run::holding;
use chrono::Utc;
use moorage_adapter::{Head, TableProgress};
use moorage_core::apply::prepare::Deed;
use moorage_core::change::segment::Segment;
use moorage_core::follow::machine::{Piece, PieceEnd};
use moorage_core::watch::meter::AtSource;
use std::time::Duration;

impl Driver<'_> {
    /// The stream begins behind the checkpoint.
    pub(super) async fn measuring_begins(&mut self) -> Result<()> {
        let mut held = Vec::new();
        for plan in self.carrying.held() {
            let first = holding::kept(&self.context.pipeline, &plan.target).await?.first_at;
            held.push((plan.table().clone(), first));
        }
        let any = self.carrying.merges_any();
        self.context.measuring.with(|m| {
            m.meter.skewed(self.skew);
            m.meter.begins(self.checkpoint.committed_at);
            held.iter().for_each(|(table, first)| m.meter.holds(table, *first));
            m.meter.merges_any(any);
        });
        Ok(())
    }

    pub(super) fn measure(&self, segment: &Segment) {
        let now = Utc::now();
        self.context.measuring.with(|m| {
            if !segment.blocks.is_empty() {
                m.read_at = Some(now);
            }
            m.meter.read(segment, now, |table| self.carrying.fate(table));
        });
    }

    /// The source was looked at.
    pub(super) fn measure_look(&self, head: &Head) {
        let source = &self.context.pipeline.source;
        let at = source.parse_position(&self.checkpoint.position);
        let unread_bytes = at.and_then(|at| source.bytes_between(&at, &head.position));
        let found = AtSource {
            at: Utc::now(),
            unread_bytes,
            kept_bytes: head.kept_bytes,
            limit_bytes: head.limit_bytes,
        };
        let any = self.carrying.merges_any();
        self.context.measuring.with(|m| {
            m.meter.skewed(head.skew);
            m.meter.looked(found);
            m.meter.merges_any(any);
        });
    }

    /// A piece is handed to the target.
    pub(super) fn is_taken(&mut self, piece: &Piece) {
        self.lets_go |= piece.deeds.iter().any(|deed| matches!(deed, Deed::Release(_) | Deed::Clear(_)));
        let ends = matches!(piece.end, PieceEnd::Batch(_));
        let any = self.carrying.merges_any();
        let now = Utc::now();
        self.context.measuring.with(|m| {
            m.applying_since = Some(now);
            m.meter.merges_any(any);
            if ends {
                m.meter.taken(now);
            }
        });
    }

    /// The target has committed a batch. Gives the lag of its last transaction, if it had one.
    pub(super) fn is_committed(&mut self, progress: &[TableProgress], took: Duration) -> Option<Duration> {
        let plans = self.carrying.plans();
        let of = |p: &TableProgress| {
            plans.iter().find(|plan| plan.target == p.target).map(|plan| plan.table().clone())
        };
        let counted: Vec<_> = progress.iter().filter_map(|p| Some((of(p)?, p.counters.read))).collect();
        let lets_go = std::mem::take(&mut self.lets_go);
        let now = Utc::now();
        self.context.measuring.with(|m| {
            if lets_go {
                m.meter.only_holds(now, |table| {
                    self.carrying.named(table).is_some_and(|p| self.carrying.is_held(p.table()))
                });
            }
            m.meter.applied(now, took, counted.iter().map(|(table, read)| (table, *read)))
        })
    }
}
