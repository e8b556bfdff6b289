//! Which picked tables a run leaves out, as its events tell.

use crate::events::Event;

/// Tables that are left out, each with why.
#[derive(Clone, Debug, Default)]
pub struct LeftOut(Vec<(String, String)>);

impl LeftOut {
    /// What events of a run, given in their order, come to.
    pub fn of<'a>(events: impl IntoIterator<Item = &'a Event>) -> Self {
        let mut all = Self::default();
        events.into_iter().for_each(|event| all.note(event));
        all
    }

    /// What was said last of a table is so, until it is read.
    pub fn note(&mut self, event: &Event) {
        match event {
            Event::TableLeftOut { table, why } => match self.0.iter_mut().find(|(known, _)| known == table) {
                Some((_, before)) => before.clone_from(why),
                None => self.0.push((table.clone(), why.clone())),
            },
            Event::ReadAgain { table, .. } => self.0.retain(|(known, _)| known != table),
            _ => {}
        }
    }

    /// The tables, with why.
    pub fn tables(&self) -> &[(String, String)] {
        &self.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn left_out(why: &str) -> Event {
        Event::TableLeftOut { table: "public.stays".into(), why: why.into() }
    }

    #[test]
    fn a_table_is_left_out_for_what_was_said_last_until_it_is_read() {
        let mut all = LeftOut::of([&left_out("a view"), &left_out("a type")]);
        assert_eq!(all.tables(), [("public.stays".to_string(), "a type".to_string())]);
        all.note(&Event::ReadAgain { table: "public.stays".into(), rows: 1, elapsed_ms: 1, first: false });
        assert!(all.tables().is_empty());
    }
}
