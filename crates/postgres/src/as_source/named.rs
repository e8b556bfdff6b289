//! What belongs to a pipeline's capture point in the server: a slot and a publication.

use moorage_adapter::{CapturePlan, object_name};
use serde::Deserialize;

/// The prefix of log messages that are ours.
pub(crate) const NOTE_PREFIX: &str = "moorage";

/// Those that the project file names: Moorage neither makes nor removes them.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Named {
    pub(crate) slot: Option<String>,
    pub(crate) publication: Option<String>,
}

/// A capture point.
#[derive(Clone, Debug)]
pub(crate) struct Point {
    /// The slot's name.
    pub(crate) slot: String,
    /// The publication's name.
    pub(crate) publication: String,
    /// Whether the project file names the slot.
    pub(crate) slot_named: bool,
    /// Whether the project file names the publication.
    pub(crate) publication_named: bool,
    /// A text to leave beside the publication, to know it again.
    pub(crate) token: String,
}

impl Named {
    pub(crate) fn point(&self, capture: &CapturePlan) -> Point {
        Point {
            slot: capture.name.clone(),
            publication: self.publication.clone().unwrap_or_else(|| match &self.slot {
                // Publications are of one database: no other one can be in the way.
                Some(_) => object_name(&capture.pipeline),
                None => capture.name.clone(),
            }),
            slot_named: self.slot.is_some(),
            publication_named: self.publication.is_some(),
            token: capture.token.clone(),
        }
    }
}

/// The name of a pipeline's slot, and of its publication. A server keeps the slots of all its databases in one list, so
/// the database is part of the name. Slot names may have lower-case letters, digits and underscores, 63 in all
/// (PostgreSQL manual, section 27.2.6.1).
pub(crate) fn slot_name(database: &str, pipeline: &str) -> String {
    let name = format!("{OURS}{database}__{pipeline}");
    if is_plain(database) && is_plain(pipeline) && name.len() <= 63 {
        return name;
    }
    let made_plain = |text: &str| -> String {
        let lower = |c: char| if c.is_ascii_lowercase() || c.is_ascii_digit() { c } else { '_' };
        text.chars().take(20).map(lower).collect()
    };
    // Other names must not fold into the same one (FNV-1a, 32 bits; no name has the byte in between).
    let bytes = database.bytes().chain([0xff]).chain(pipeline.bytes());
    let hash = bytes.fold(0x811c_9dc5_u32, |h, b| (h ^ u32::from(b)).wrapping_mul(0x0100_0193));
    format!("{OURS}{}__{}_{hash:08x}", made_plain(database), made_plain(pipeline))
}

/// What the names of everything that Moorage makes in a server begin with.
pub(crate) const OURS: &str = "moorage_";

/// Two underscores part database and pipeline in a name: neither may have them, or begin or end with one.
fn is_plain(text: &str) -> bool {
    let known = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
    text.chars().all(known) && !text.contains("__") && !text.starts_with('_') && !text.ends_with('_')
}

/// Whether a slot of a database was made for a pipeline: by an earlier version, or when the database had another name.
pub(crate) fn is_slot_of(slot: &str, pipeline: &str) -> bool {
    let named_after = |rest: &str| rest.rsplit_once("__").is_some_and(|(_, of)| of == pipeline);
    slot == object_name(pipeline) || is_plain(pipeline) && slot.strip_prefix(OURS).is_some_and(named_after)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn slots_are_named_after_database_and_pipeline() {
        assert_eq!(slot_name("harbour", "quayside"), "moorage_harbour__quayside");
        assert!(slot_name("Harbour", "quay side").starts_with("moorage__arbour__quay_side_"));
        assert!(
            is_slot_of("moorage_harbour__quayside", "quayside") && is_slot_of("moorage_quayside", "quayside")
        );
        assert!(
            is_slot_of("moorage_other__quayside", "quayside") && !is_slot_of("other__quayside", "quayside")
        );
        assert!(
            !is_slot_of("moorage_harbour__east_quayside", "quayside")
                && !is_slot_of("moorage_x__a__b", "a__b")
        );
        assert_ne!(slot_name("a__b", "c"), slot_name("a", "b__c"));
        assert_ne!(slot_name("a_", "b"), slot_name("a", "_b"));
    }

    proptest! {
        #[test]
        fn every_name_is_a_slot_s_and_no_other_pipeline_s(
            one in ("[a_-cA]{1,9}|.{0,70}", "[a_-cA]{1,9}|.{0,70}"),
            other in ("[a_-cA]{1,9}|.{0,70}", "[a_-cA]{1,9}|.{0,70}"),
        ) {
            let name = slot_name(&one.0, &one.1);
            let known = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
            prop_assert!(name.len() <= 63 && name.chars().all(known), "{name}");
            prop_assert!(one == other || name != slot_name(&other.0, &other.1), "{name}");
        }
    }
}
