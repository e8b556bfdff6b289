//! What a project file says of changes of structure: `[pipelines.NAME.drift]`, and `drift` in a rule.

use super::error::Mistake;
use crate::model::drift::{DriftKind, DriftPolicies, DriftPolicy};
use crate::model::near::near;
use serde::Deserialize;
use std::collections::BTreeMap;
use toml::Spanned;

/// Policies by kind, as they were written.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(transparent)]
pub struct DriftConfig(BTreeMap<Spanned<String>, Spanned<String>>);

impl DriftConfig {
    /// Checks that there are such kinds, and that such a thing can be done about each.
    pub(super) fn check(&self) -> Result<(), Mistake> {
        for (key, policy) in &self.0 {
            let Some(kind) = kind(key.get_ref()) else {
                let words = DriftKind::ALL.map(DriftKind::word);
                let near = near(key.get_ref(), words);
                let meant: Vec<String> =
                    if near.is_empty() { words.map(str::to_string).to_vec() } else { near };
                let what = format!("there is no kind of drift `{}`", key.get_ref());
                return Err(Mistake::at(key.span(), what, quoted(&meant)));
            };
            if policy_of(kind, policy.get_ref()).is_none() {
                let words: Vec<String> = kind.policies().iter().map(|p| p.word().to_string()).collect();
                let what = format!("`{}` cannot be done about {}", policy.get_ref(), kind.word());
                return Err(Mistake::at(policy.span(), what, quoted(&words)));
            }
        }
        Ok(())
    }

    /// What is done about each kind, from what was checked when the project file was read.
    pub(super) fn policies(&self) -> DriftPolicies {
        let mut policies = DriftPolicies::default();
        for (key, policy) in &self.0 {
            let Some(kind) = kind(key.get_ref()) else { continue };
            if let Some(policy) = policy_of(kind, policy.get_ref()) {
                policies.set(kind, policy);
            }
        }
        policies
    }
}

fn kind(word: &str) -> Option<DriftKind> {
    DriftKind::ALL.into_iter().find(|kind| kind.word() == word)
}

fn policy_of(kind: DriftKind, word: &str) -> Option<DriftPolicy> {
    kind.policies().iter().copied().find(|policy| policy.word() == word)
}

fn quoted(words: &[String]) -> String {
    words.iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(" or ")
}
