//! What installers of Linux systems agree on about partitions.

use crate::model::{FileSystem, Partition, PartitionKind};

/// The file system of a partition that names none.
pub(crate) fn usual(kind: PartitionKind) -> FileSystem {
    match kind {
        PartitionKind::Efi => FileSystem::Fat32,
        PartitionKind::Swap => FileSystem::Swap,
        _ => FileSystem::Ext4,
    }
}

/// Where a partition is mounted.
pub(crate) fn mount_point(partition: &Partition) -> String {
    if !partition.mount.is_empty() {
        return partition.mount.clone();
    }
    match partition.kind {
        PartitionKind::Efi => "/boot/efi".into(),
        PartitionKind::Boot => "/boot".into(),
        PartitionKind::System => "/".into(),
        _ => String::new(),
    }
}

/// What a partition is for, by where it is mounted.
pub(crate) fn kind_of_mount(mount: &str) -> PartitionKind {
    match mount {
        "/boot/efi" => PartitionKind::Efi,
        "/boot" => PartitionKind::Boot,
        "/" => PartitionKind::System,
        _ => PartitionKind::Data,
    }
}
