//! What `check` looks at in a lake.

use crate::as_target::place::LakeTarget;
use crate::store::PutNew;
use bytes::Bytes;
use moorage_adapter::{AdapterError, Result};
use moorage_core::model::finding::{End, Finding, Fix};
use uuid::Uuid;

fn ok(check: &'static str, found: impl Into<String>) -> Finding {
    Finding::ok(End::Target, check, found)
}

/// Writes, reads, lists and removes a file for a look, and tries to write one where there is one. Leaves nothing behind.
pub(crate) async fn probe(target: &LakeTarget, _: u64) -> Result<Vec<Finding>> {
    let store = &target.store;
    let existed = store.as_folder().is_none_or(std::path::Path::exists);
    let mut found = vec![ok("version", format!("lake tables of the Delta format in {}", store.words()))];
    found.push(match write_and_read(target).await {
        Ok(Refuses::Yes) => ok("writing", "works: a file was made, read, listed and removed; one that is there is not written over"),
        Ok(Refuses::No) => Finding::blocker(
            End::Target,
            "writing",
            "a file that was to be new was written over one that was there",
            "two writers could then make the same version of a table, and one of them would be lost",
            Fix::step("use a place whose file system knows hard links, or a store that knows conditional writes (If-None-Match)"),
        ),
        Err(error) => Finding::blocker(
            End::Target,
            "writing",
            error.to_string(),
            "nothing can be written there",
            Fix::step("let this user read, write, list and remove there, or change the target's place"),
        ),
    });
    if !existed && let Some(folder) = store.as_folder() {
        // The look must not leave anything behind; what cannot be removed was not made.
        drop(std::fs::remove_dir(folder));
    }
    Ok(found)
}

enum Refuses {
    Yes,
    No,
}

async fn write_and_read(target: &LakeTarget) -> Result<Refuses> {
    let (store, name) = (&target.store, format!("moorage-probe-{}", Uuid::new_v4()));
    let (first, second) = (Bytes::from_static(b"Pellow Quay"), Bytes::from_static(b"another"));
    let tried = async {
        let missing = || AdapterError::refused("writing a file for a look", "it cannot be read back");
        let _ = store.put_new(&name, first.clone()).await?;
        if store.get(&name).await?.as_ref() != Some(&first) {
            return Err(missing());
        }
        let again = store.put_new(&name, second).await?;
        let refuses =
            again == PutNew::Taken(first.clone()) && store.get(&name).await?.as_ref() == Some(&first);
        Ok(if refuses { Refuses::Yes } else { Refuses::No })
    };
    let tried = tried.await;
    store.remove(&[name]).await?;
    tried
}

/// What has to be granted, for whoever looks after the place.
pub(crate) fn set_up_script(target: &LakeTarget) -> String {
    format!(
        "# A lake needs no more than the right to read, write, list and remove in it: {}\n",
        target.store.words()
    )
}
