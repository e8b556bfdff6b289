//! A pipeline, ready to be run: its two ends and its part of the project file.

use moorage_adapter::{CapturePlan, Source, Target};
use moorage_core::finding::Finding;
use moorage_core::project::PipelineConfig;
use std::path::PathBuf;
use std::sync::Arc;

/// A pipeline with its ends.
#[derive(Clone)]
pub struct Pipeline {
    /// Its name.
    pub name: String,
    /// Its part of the project file.
    pub config: PipelineConfig,
    /// Where rows come from.
    pub source: Arc<dyn Source>,
    /// Where rows go.
    pub target: Arc<dyn Target>,
    /// How many connections read a snapshot.
    pub connections: usize,
    /// The folder with statements for target tables that people may have changed.
    pub ddl_folder: Option<PathBuf>,
    /// What is to be said of the project file itself.
    pub project_findings: Vec<Finding>,
    /// The folder for local state.
    pub state_folder: PathBuf,
}

impl Pipeline {
    /// The capture point this pipeline uses, with a new token.
    pub fn capture(&self) -> CapturePlan {
        capture_plan(&self.name, &self.config)
    }
}

/// The capture point of a pipeline, with a new token. Slot names may have lower-case letters, digits and
/// underscores, 63 in all (PostgreSQL manual, section 27.2.6.1).
pub fn capture_plan(pipeline: &str, config: &PipelineConfig) -> CapturePlan {
    let plain: String = pipeline
        .chars()
        .map(|c| if c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_' { c } else { '_' })
        .take(40)
        .collect();
    let name = if plain == pipeline {
        format!("moorage_{plain}")
    } else {
        // Another name must not fold into the same slot (FNV-1a, 32 bits).
        let hash =
            pipeline.bytes().fold(0x811c_9dc5_u32, |h, b| (h ^ u32::from(b)).wrapping_mul(0x0100_0193));
        format!("moorage_{plain}_{hash:08x}")
    };
    CapturePlan {
        slot: config.slot.clone().unwrap_or_else(|| name.clone()),
        publication: config.publication.clone().unwrap_or(name),
        slot_named: config.slot.is_some(),
        publication_named: config.publication.is_some(),
        token: uuid::Uuid::new_v4().to_string(),
    }
}
