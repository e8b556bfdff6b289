//! The turn to write. It stands in the ledger, whose versions are made by one writer each: of all who want it, one has it. Whoever
//! takes it from one that did not give it back makes a version in every table, too: what that one sent for these versions and what
//! arrives later finds them taken. What arrived before is looked at then, and the ledger is brought to what the tables hold.

use crate::as_target::ledger::{Entries, Ledger, Mine, TurnWord, folder};
use crate::as_target::place::{LakeTarget, Writer};
use crate::as_target::remembered::Remembered;
use bytes::Bytes;
use chrono::Utc;
use moorage_adapter::{AdapterError, Event, Events, Holder, LEASE, Result, TakeFrom, Turn};
use moorage_core::checkpoint::stored::Checkpoint;
use std::collections::HashMap;
use std::time::Instant;

/// A file that a holder writes again and again, so that others see that it is alive.
const ALIVE: &str = "alive";
/// How often the turn is tried for that others take in between.
const TRIES: usize = 20;

impl LakeTarget {
    fn alive(pipeline: &str) -> String {
        folder(pipeline, ALIVE)
    }

    /// Whether a holder has not said for a while that it is alive.
    async fn is_silent(&self, pipeline: &str, holder: &Holder) -> Result<bool> {
        let said = self.store.modified_ms(&Self::alive(pipeline)).await?;
        // It said so when it took the turn.
        let said = said.unwrap_or_else(|| holder.since.timestamp_millis());
        Ok(Utc::now().timestamp_millis() - said > LEASE.as_millis() as i64)
    }

    async fn say_alive(&self, pipeline: &str, epoch: u64) -> Result<()> {
        self.store.put(&Self::alive(pipeline), Bytes::from(format!("{epoch}\n"))).await
    }

    /// Who has the turn, as far as can be told.
    pub(crate) async fn turn_holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        let Some(ledger) = self.ledger(pipeline).await? else { return Ok(None) };
        let Some(holder) = ledger.turn()?.holder else { return Ok(None) };
        Ok((!self.is_silent(pipeline, &holder).await?).then_some(holder))
    }

    pub(crate) async fn take(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        events: &Events,
    ) -> Result<Turn> {
        let mut open = self.writer.lock().await;
        for _ in 0..TRIES {
            let first = TurnWord { epoch: 1, holder: Some(holder.clone()), unsure: false };
            let (mut ledger, shuts) = match Ledger::open(&self.store, pipeline).await? {
                None if !make => return Ok(Turn::NothingThere),
                None => match Ledger::make(&self.store, pipeline, &first).await? {
                    Some(ledger) => (ledger, false),
                    None => continue,
                },
                Some(mut ledger) => {
                    let before = ledger.turn()?;
                    if let Some(held) = &before.holder {
                        let may = held.id == holder.id
                            || matches!(from, TakeFrom::Gone(gone) if gone.id == held.id);
                        if !may && !self.is_silent(pipeline, held).await? {
                            return Ok(Turn::Held(held.clone()));
                        }
                    }
                    let unsure = before.unsure || before.holder.is_some();
                    let turn = TurnWord { epoch: before.epoch + 1, holder: Some(holder.clone()), unsure };
                    if !ledger.take_turn(&turn).await? {
                        continue;
                    }
                    (ledger, unsure)
                }
            };
            let mine = Mine { pipeline: pipeline.into(), epoch: ledger.turn()?.epoch };
            self.say_alive(pipeline, mine.epoch).await?;
            ledger.upkeep = self.upkeep;
            let mut writer = Writer {
                mine,
                ledger,
                tables: HashMap::new(),
                upkeep: self.upkeep,
                unsure: shuts,
                ahead: false,
            };
            if shuts {
                self.shut_all(&mut writer, events).await?;
            }
            *open = Some(writer);
            self.loading.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clear();
            return Ok(Turn::Taken);
        }
        let doing = moorage_adapter::Doing::to("taking the turn to write of pipeline", pipeline);
        Err(AdapterError::Busy { doing, reason: "others take it all the time".into() })
    }

    /// Shuts earlier writers out of every table, and takes up what they brought into some of them.
    async fn shut_all(&self, writer: &mut Writer, events: &Events) -> Result<()> {
        let (began, mut said) = (Instant::now(), false);
        let mut entries = Entries::default();
        let reached = writer.ledger.checkpoint()?.map(|checkpoint| checkpoint.position);
        let mut settled: Option<Checkpoint> = None;
        for (of, plan) in writer.ledger.tables()? {
            let waited_ms = began.elapsed().as_millis() as u64;
            if waited_ms >= 1000 && !said {
                said = true;
                events(Event::Waiting { what: "shutting earlier runs out of the tables".into(), waited_ms });
            }
            let Some(mut log) = self.log(&plan.target, None).await? else { continue };
            let Some(word) = writer.shut(&mut log, &plan.target).await? else { continue };
            if word.of.serial <= of.serial {
                continue;
            }
            let to = word.to.filter(|to| Some(&to.position) != reached.as_ref());
            settled = to.or(settled);
            // The version of the commit that said so, and all since, which changed none of its rows.
            let version = log.state.version;
            let mut now = Remembered { version, ..word.of };
            now.rows = self.count_rows(log).await?;
            entries.plans.extend(word.plan);
            entries.tables.push((plan.target.clone(), Some(now)));
        }
        if let Some(settled) = settled {
            entries.settled = Some(Some(settled));
        }
        let turn = writer.ledger.turn()?;
        entries.turn = Some(TurnWord { unsure: false, ..turn });
        writer.note("take up", &entries).await?;
        writer.unsure = false;
        Ok(())
    }

    pub(crate) async fn renew(&self) -> Result<()> {
        let mut writer = self.writing().await?;
        writer.fence().await?;
        self.say_alive(&writer.mine.pipeline, writer.mine.epoch).await
    }

    pub(crate) async fn end(&self, pipeline: &str) -> Result<()> {
        let Some(mut writer) = self.writer.lock().await.take() else { return Ok(()) };
        let turn = TurnWord { epoch: writer.mine.epoch, holder: None, unsure: writer.unsure };
        let entries = Entries { turn: Some(turn), ..Entries::default() };
        match writer.note("end turn", &entries).await {
            Err(AdapterError::TurnLost { .. }) => Ok(()),
            Err(error) => Err(error),
            Ok(()) => self.store.remove(&[Self::alive(pipeline)]).await,
        }
    }
}
