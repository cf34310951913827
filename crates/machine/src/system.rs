//! The system on a partition.

use crate::PartitionFiles;
use neat_content::{Result, damage_apart};
use neat_image::{ImageDraft, SystemInfo, Times};
use neat_service::{Edition, InstalledState, Layout};
use std::sync::Arc;

/// A system, by its own registry.
#[derive(Clone, Debug, Default)]
pub struct PartitionSystem {
    /// What it says it is; nothing where its registry does not say.
    pub info: Option<SystemInfo>,
    /// The same, and the element that image files describe it in.
    pub info_element: Option<(String, SystemInfo)>,
    /// The state it is in.
    pub state: InstalledState,
    /// What is unusual.
    pub notes: Vec<String>,
}

/// Opens the only edition of a draft such as [`PartitionFiles::draft`] makes.
///
/// # Errors
/// `Corrupt` where its hives cannot be read.
pub fn open_edition(draft: &Arc<ImageDraft>, layouts: &[Arc<Layout>]) -> Result<Edition> {
    Edition::open(draft, 1, layouts, Times::default())
}

impl PartitionFiles {
    /// The system on it; nothing where there is none. A registry that is damaged is noted.
    ///
    /// # Errors
    /// `Io`, `Cancelled`.
    pub fn system(self) -> Result<Option<PartitionSystem>> {
        if !self.has_system() {
            return Ok(None);
        }
        let draft = Arc::new(self.draft("system")?);
        let layouts = [Arc::new(Layout::common()?)];
        let opened = open_edition(&draft, &layouts).and_then(|edition| {
            let info_element = edition.identity()?;
            let info = info_element.as_ref().map(|(_, info)| info.clone());
            let state = edition.installed_state()?.unwrap_or_default();
            Ok(PartitionSystem { info, info_element, state, notes: edition.notes })
        });
        Ok(Some(match damage_apart(opened)? {
            Ok(found) => found,
            Err(error) => PartitionSystem {
                notes: vec![format!("its registry cannot be read: {error}")],
                ..PartitionSystem::default()
            },
        }))
    }
}
