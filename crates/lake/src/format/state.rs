//! What a table's log comes to at one of its versions (protocol, "Action Reconciliation"). The main type is [`LogState`].

use crate::format::action::{Add, Line, Metadata, Protocol, Remove};
use crate::format::schema::LakeSchema;
use std::collections::BTreeMap;

/// A table at a version.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct LogState {
    /// None before the first commit.
    pub(crate) version: Option<u64>,
    pub(crate) protocol: Protocol,
    pub(crate) metadata: Metadata,
    /// The data files, by their paths as the log has them.
    pub(crate) files: BTreeMap<String, Add>,
    /// Files that are not in the table any more, which clean-up has to know of for a time.
    pub(crate) gone: BTreeMap<String, Remove>,
    /// How far applications have come.
    pub(crate) txns: BTreeMap<String, i64>,
    /// What applications keep.
    pub(crate) domains: BTreeMap<String, String>,
}

impl LogState {
    /// The version of the next commit.
    pub(crate) fn next(&self) -> u64 {
        self.version.map_or(0, |version| version + 1)
    }

    /// The table's columns.
    ///
    /// # Errors
    /// If the log has none that can be read; in words.
    pub(crate) fn schema(&self) -> Result<LakeSchema, String> {
        LakeSchema::parse(&self.metadata.schema_string)
    }

    /// Brings it to a version: by the actions of that commit, or of a checkpoint. What leaves goes before what comes,
    /// wherever it stands: a file that gets another deletion vector does both.
    pub(crate) fn apply(&mut self, version: u64, lines: Vec<Line>) {
        self.version = Some(version);
        let mut adds = Vec::new();
        for line in lines {
            if let Some(remove) = line.remove {
                self.files.remove(&remove.path);
                self.gone.insert(remove.path.clone(), remove);
            }
            adds.extend(line.add);
            self.protocol = line.protocol.unwrap_or(std::mem::take(&mut self.protocol));
            self.metadata = line.meta_data.unwrap_or(std::mem::take(&mut self.metadata));
            if let Some(txn) = line.txn {
                self.txns.insert(txn.app_id, txn.version);
            }
            match line.domain_metadata {
                Some(domain) if domain.removed => drop(self.domains.remove(&domain.domain)),
                Some(domain) => drop(self.domains.insert(domain.domain, domain.configuration)),
                None => {}
            }
        }
        for add in adds {
            self.gone.remove(&add.path);
            self.files.insert(add.path.clone(), add);
        }
    }

    /// Everything as actions, for a checkpoint; of what is gone, only what went after a moment (in milliseconds since 1970).
    pub(crate) fn lines(&self, gone_since_ms: i64) -> Vec<Line> {
        let mut lines = vec![Line::from(self.protocol.clone()), Line::from(self.metadata.clone())];
        let txn = |(app, version): (&String, &i64)| {
            Line::from(crate::format::action::Txn {
                app_id: app.clone(),
                version: *version,
                last_updated: None,
            })
        };
        lines.extend(self.txns.iter().map(txn));
        let domain = |(name, text): (&String, &String)| {
            Line::from(crate::format::action::Domain {
                domain: name.clone(),
                configuration: text.clone(),
                removed: false,
            })
        };
        lines.extend(self.domains.iter().map(domain));
        // A checkpoint changes nothing (protocol, "Checkpoints").
        lines.extend(self.files.values().map(|add| Line::from(Add { data_change: false, ..add.clone() })));
        let is_young = |gone: &&Remove| gone.deletion_timestamp.unwrap_or(0) >= gone_since_ms;
        let gone = self.gone.values().filter(is_young);
        lines.extend(gone.map(|gone| Line::from(Remove { data_change: false, ..gone.clone() })));
        lines
    }

    /// Forgets what is gone since before a moment.
    pub(crate) fn forget_gone(&mut self, gone_since_ms: i64) {
        self.gone.retain(|_, gone| gone.deletion_timestamp.unwrap_or(0) >= gone_since_ms);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::action::{Domain, Txn, VectorPlace, from_bytes, to_bytes};

    fn add(path: &str, deleted: i64) -> Add {
        let vector = VectorPlace { cardinality: deleted, ..VectorPlace::default() };
        let deletion_vector = (deleted > 0).then_some(vector);
        Add { path: path.into(), size: 7, deletion_vector, ..Add::default() }
    }

    #[test]
    fn a_files_vector_is_replaced_whatever_the_order_of_the_actions() {
        for turned in [false, true] {
            let mut state = LogState::default();
            state.apply(0, vec![add("a", 0).into(), add("b", 0).into()]);
            let mut lines: Vec<Line> = vec![Remove::of(&add("a", 0), 5, true).into(), add("a", 3).into()];
            if turned {
                lines.reverse();
            }
            state.apply(1, lines);
            assert_eq!(state.files.keys().collect::<Vec<_>>(), ["a", "b"]);
            assert_eq!(state.files["a"].deletion_vector.as_ref().unwrap().cardinality, 3);
            assert!(state.gone.is_empty());
            state.apply(2, vec![Remove::of(&add("b", 0), 6, true).into()]);
            assert_eq!((state.files.len(), state.gone.len(), state.next()), (1, 1, 3));
            state.forget_gone(7);
            assert!(state.gone.is_empty());
        }
    }

    #[test]
    fn what_a_checkpoint_holds_comes_to_the_same() {
        let mut state = LogState::default();
        let domain = |name: &str, removed| Domain { domain: name.into(), configuration: "x".into(), removed };
        let txn = Txn { app_id: "me".into(), version: 9, last_updated: None };
        let metadata = Metadata { id: "t".into(), schema_string: "{}".into(), ..Metadata::default() };
        state.apply(0, vec![metadata.into(), add("a", 2).into(), txn.into(), domain("d", false).into()]);
        state.apply(1, vec![domain("e", false).into(), Remove::of(&add("z", 0), 100, true).into()]);
        state.apply(2, vec![domain("e", true).into(), Remove::of(&add("y", 0), 10, true).into()]);
        let lines = from_bytes(&to_bytes(&state.lines(50)).unwrap()).unwrap();
        let mut again = LogState::default();
        again.apply(2, lines);
        state.forget_gone(50);
        let gone = state.gone.get_mut("z").unwrap();
        gone.data_change = false;
        assert_eq!(again, state);
    }

    #[test]
    fn what_is_not_known_is_passed_over() {
        let text = b"{\"add\":{\"path\":\"a\",\"size\":1,\"baseRowId\":4}}\n\n{\"somethingNew\":{\"x\":1}}\n";
        let mut state = LogState::default();
        state.apply(0, from_bytes(text).unwrap());
        assert_eq!(state.files.len(), 1);
        assert!(
            from_bytes(b"{\"add\":{\"size\":1}}").unwrap_err().starts_with("line 1: missing field `path`")
        );
        assert!(from_bytes(b"\n{").unwrap_err().starts_with("line 2: "));
    }
}
