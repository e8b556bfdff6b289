//! A pipeline, ready to be run: its two ends and its part of the project file.

use moorage_adapter::{CapturePlan, Result, Source, Target};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::finding::Finding;
use moorage_core::project::config::PipelineConfig;
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
    /// The capture point this pipeline uses, with the token that its checkpoint remembers, or a new one.
    ///
    /// # Errors
    /// If nothing is remembered, and the source cannot be asked what is there.
    pub async fn capture(&self, checkpoint: Option<&Checkpoint>) -> Result<CapturePlan> {
        let remembered = checkpoint.map(|c| c.capture_point.as_str());
        Ok(CapturePlan {
            pipeline: self.name.clone(),
            name: self.source.capture_name(&self.name, remembered).await?,
            token: checkpoint.map_or_else(|| uuid::Uuid::new_v4().to_string(), |c| c.token.clone()),
        })
    }

    /// The same, with the checkpoint asked of the target. A target that cannot be asked remembers nothing.
    ///
    /// # Errors
    /// As for [`capture`](Self::capture).
    pub async fn known_capture(&self) -> Result<CapturePlan> {
        let checkpoint = self.target.checkpoint(&self.name).await.ok().flatten();
        self.capture(checkpoint.as_ref()).await
    }
}
