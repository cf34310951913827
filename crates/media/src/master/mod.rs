//! Mastering: a tree becomes a disc, in one pass.
//!
//! [`Plan::new`] gives everything its sectors and writes nothing; [`Plan::write`] then writes from the first sector
//! to the last and fails if a position differs from the plan. The same extents stand behind the UDF, Joliet and
//! ISO 9660 trees. In sectors of 2,048 bytes:
//!
//! | from | what |
//! |---|---|
//! | 0 | system area: zeros, or boot code and a GPT |
//! | 16 | volume descriptors of ISO 9660, the boot record, Joliet; recognition sequence of UDF |
//! | 32 | volume descriptor sequences and integrity of UDF |
//! | 66 | path tables and directories of ISO 9660 and Joliet, if they fit here |
//! | 256 | anchor |
//! | 257 | UDF partition: file set, file entries and directories |
//! | … | path tables and directories, if they did not fit before; boot catalog; the files |
//! | last | second anchor (with a GPT: its backup, and the anchor 256 sectors before the last) |

mod blobs;

use crate::{
    BootCatalog, BootCode, BootImage, VolumeIdentity, disk,
    eltorito::{patch, write as boot},
    iso9660::{
        layout::SECTOR_SIZE,
        names::Flavor,
        write::{Hierarchy, PathTables, boot_record, terminator, volume_descriptor},
    },
    udf::write::{FREE_FROM, PARTITION_START, UdfPlan, VolumeFacts, anchor, recognition_sequence},
    units::Sector,
};
mod together;

use blobs::Blobs;
pub use blobs::Twins;
use neat_content::{Content, DigestKind, Error, Event, Job, NodeId, Output, Result, Source, Timestamp, Tree};
use std::{
    collections::{HashMap, HashSet},
    path::Path,
    sync::Arc,
};
pub use together::write_together;
use zerocopy::IntoBytes;

/// Which names the Joliet tree may hold.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum JolietNames {
    /// No Joliet tree.
    Off,
    /// At most 64 UTF-16 units, as the description says.
    Strict,
    /// At most 103, which the readers in use accept.
    Relaxed,
    /// 64 while all names fit, else 103.
    #[default]
    Auto,
}

/// How the same file also starts as a disk.
#[derive(Clone, Debug, Default)]
pub struct Hybrid {
    /// Code for the first block; without it BIOS does not start the disk.
    pub boot_code: Option<BootCode>,
}

/// What is mastered besides the tree.
#[derive(Clone, Debug)]
pub struct Options {
    /// Labels and times.
    pub volume: VolumeIdentity,
    /// Time where nothing better is known. Nothing is taken from the clock, so that equal inputs give equal bytes.
    pub time: Timestamp,
    /// Whether there is a UDF tree.
    pub udf: bool,
    /// Whether there is a Joliet tree, and what names it may hold.
    pub joliet: JolietNames,
    /// Whether the ISO 9660 tree has Rock Ridge names and attributes.
    pub rock_ridge: bool,
    /// How firmware starts the disc.
    pub boot: Option<BootCatalog>,
    /// How firmware starts it as a disk.
    pub hybrid: Option<Hybrid>,
}

impl Default for Options {
    fn default() -> Self {
        Self {
            volume: VolumeIdentity::default(),
            time: Timestamp::default(),
            udf: true,
            joliet: JolietNames::Auto,
            rock_ridge: false,
            boot: None,
            hybrid: None,
        }
    }
}

/// A disc with a place for everything.
pub struct Plan {
    tree: Arc<Tree>,
    options: Options,
    blobs: Blobs,
    primary: Hierarchy,
    joliet: Option<Hierarchy>,
    udf: Option<UdfPlan>,
    regions: Vec<Region>,
    tables: Tables,
    gpt: Option<disk::Gpt>,
    partition_end: u32,
    total_sectors: u32,
    notes: Vec<String>,
}

/// Where the tables are that descriptors point at.
#[derive(Clone, Copy, Default)]
struct Tables {
    primary: PathTables,
    joliet: PathTables,
    catalog: Sector,
}

#[derive(Clone, Copy)]
struct Region {
    sector: Sector,
    sectors: u32,
    part: Part,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Part {
    SystemArea,
    Descriptors,
    UdfSequences,
    Anchor,
    UdfTree,
    PathTable { joliet: bool, big: bool },
    Directories { joliet: bool },
    BootCatalog,
    Blob(u32),
    GptBackup,
}

/// A file on a disc: first byte and length.
pub type Extent = (NodeId, u64, u64);

/// Gives out sectors.
#[derive(Default)]
struct Sectors {
    next: u64,
    regions: Vec<Region>,
}

impl Sectors {
    fn place(&mut self, part: Part, sectors: u64) -> Result<Sector> {
        let first = self.next;
        self.next += sectors;
        // Sector numbers have 32 bits in every one of the formats.
        if self.next > u64::from(u32::MAX) {
            return Err(Error::request(
                "the media would be larger than 8 TiB, which no disc format addresses",
                "take something out",
            ));
        }
        let sector = Sector(first as u32);
        self.regions.push(Region { sector, sectors: sectors as u32, part });
        Ok(sector)
    }
}

/// Sectors between the first anchor's neighbours that small media keep their directories in.
const GAP_END: u32 = PARTITION_START - 1;
/// Large files begin at a multiple of this many sectors, so that file systems which share blocks can do so.
const ALIGNMENT_SECTORS: u64 = 2;
/// Files from this length on are aligned.
const ALIGNED_FROM: u64 = 1 << 20;

impl Plan {
    /// Lays out `tree`. Reads only what is needed to find identical files.
    ///
    /// # Errors
    /// `BadRequest` for what the formats cannot hold; what reading the content gives; `Cancelled`.
    pub fn new(tree: &Arc<Tree>, options: Options, job: &Job<'_>) -> Result<Self> {
        Self::lay_out(tree, options, None, job)
    }

    /// Lays out a tree that is a copy of another with a few changes, whose identical files are known: reads nothing.
    ///
    /// # Errors
    /// As [`Plan::new`].
    pub fn with_twins(tree: &Arc<Tree>, options: Options, twins: &Twins, job: &Job<'_>) -> Result<Self> {
        Self::lay_out(tree, options, Some(twins), job)
    }

    fn lay_out(tree: &Arc<Tree>, options: Options, twins: Option<&Twins>, job: &Job<'_>) -> Result<Self> {
        let mut options = options;
        let mut notes = Vec::new();
        options.boot = options.boot.filter(|catalog| !catalog.entries.is_empty());
        let blobs = Blobs::collect(tree, options.boot.as_ref(), twins, job)?;
        let mut primary = Hierarchy::new(tree, Flavor::Primary, options.rock_ridge)?;
        let mut joliet = joliet_hierarchy(tree, options.joliet)?;
        let udf = options.udf.then(|| UdfPlan::new(tree)).transpose()?;
        let links = tree.counts().links;
        if links > 0 && !options.udf && !options.rock_ridge {
            notes.push(format!("{links} symbolic links are left out: neither UDF nor Rock Ridge is written"));
        }
        for (name, shortened) in [
            ("Joliet", joliet.as_ref().map(|tree| &tree.shortened)),
            ("UDF", udf.as_ref().map(|tree| &tree.shortened)),
        ] {
            if let Some([first, rest @ ..]) = shortened.map(Vec::as_slice) {
                let more = neat_content::and_more(rest.len());
                notes.push(format!("changed in the {name} tree, which cannot hold the name: {first}{more}"));
            }
        }

        let mut plan = Sectors::default();
        plan.place(Part::SystemArea, 16)?;
        let descriptors = 2
            + u64::from(options.boot.is_some())
            + u64::from(joliet.is_some())
            + if udf.is_some() { 3 } else { 0 };
        plan.place(Part::Descriptors, descriptors)?;
        let mut tables = Tables::default();
        let mut trees_placed = false;
        let tree_sectors =
            |hierarchy: &Hierarchy| 2 * hierarchy.path_table_sectors() + hierarchy.directory_sectors();
        let wanted = tree_sectors(&primary) + joliet.as_ref().map_or(0, tree_sectors);
        if let Some(udf) = &udf {
            plan.next = 32;
            plan.place(Part::UdfSequences, 34)?;
            if wanted <= GAP_END - FREE_FROM {
                place_trees(&mut plan, &mut primary, joliet.as_mut(), &mut tables)?;
                trees_placed = true;
            }
            plan.next = u64::from(GAP_END);
            plan.place(Part::Anchor, 1)?;
            plan.place(Part::UdfTree, u64::from(udf.sectors()))?;
        }
        if !trees_placed {
            place_trees(&mut plan, &mut primary, joliet.as_mut(), &mut tables)?;
        }
        if options.boot.is_some() && blobs.catalog_sector().is_none() {
            tables.catalog = plan.place(Part::BootCatalog, 1)?;
        }
        let mut blobs = blobs;
        for (number, blob) in blobs.list.iter_mut().enumerate() {
            if blob.content.len() >= ALIGNED_FROM {
                plan.next = plan.next.next_multiple_of(ALIGNMENT_SECTORS);
            }
            blob.sector = plan.place(Part::Blob(number as u32), blob.content.len().div_ceil(SECTOR_SIZE))?;
        }
        tables.catalog = blobs.catalog_sector().unwrap_or(tables.catalog);
        let gpt_sectors = disk::Gpt::backup_len().div_ceil(SECTOR_SIZE);
        // An anchor may stand at the last sector or 256 before it; with a GPT the end is taken.
        if options.hybrid.is_some() && udf.is_some() {
            plan.next = plan.next.max(u64::from(PARTITION_START) + 256);
        }
        let partition_end = plan.next as u32;
        if udf.is_some() {
            plan.place(Part::Anchor, 1)?;
        }
        if options.hybrid.is_some() {
            plan.next = if udf.is_some() { u64::from(partition_end) + 257 - gpt_sectors } else { plan.next };
            plan.place(Part::GptBackup, gpt_sectors)?;
        }
        let total_sectors = plan.next as u32;
        blobs.patch(options.boot.as_ref(), &|image, patch, sector| patch::apply(image, patch, sector))?;
        let gpt = options
            .hybrid
            .as_ref()
            .map(|hybrid| make_gpt(hybrid, options.boot.as_ref(), &blobs, total_sectors, &options.volume));
        if gpt.as_ref().is_some_and(|gpt| gpt.partitions.is_empty()) {
            notes.push("there is no UEFI boot image, so as a disk this media starts only on BIOS".into());
        }
        Ok(Self {
            tree: Arc::clone(tree),
            options,
            blobs,
            primary,
            joliet,
            udf,
            regions: plan.regions,
            tables,
            gpt,
            partition_end,
            total_sectors,
            notes,
        })
    }

    /// The files that are written.
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    /// How the disc boots, labels and times.
    pub const fn options(&self) -> &Options {
        &self.options
    }

    /// Size of the disc in bytes.
    pub fn len(&self) -> u64 {
        u64::from(self.total_sectors) * SECTOR_SIZE
    }

    /// A disc always holds something.
    pub const fn is_empty(&self) -> bool {
        false
    }

    /// Bytes of file content that are written, each identical content counted once.
    pub fn content_len(&self) -> u64 {
        self.blobs.list.iter().map(|blob| blob.content.len()).sum()
    }

    /// Bytes saved by storing identical files once.
    pub const fn shared_len(&self) -> u64 {
        self.blobs.shared_len
    }

    /// What a person should know that is not an error.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// Writes the disc.
    ///
    /// # Errors
    /// `Io`, what reading the content gives, `Cancelled`.
    pub fn write(&self, out: &mut Output, job: &Job<'_>) -> Result<()> {
        self.write_and_digest(&[], out, job).map(drop)
    }

    /// Writes the disc and gives the SHA-256 of the `wanted` files as they are on it, computed on the way; `None` for
    /// what is not a file or is empty.
    ///
    /// # Errors
    /// As [`Plan::write`].
    pub fn write_and_digest(
        &self,
        wanted: &[NodeId],
        out: &mut Output,
        job: &Job<'_>,
    ) -> Result<Vec<Option<String>>> {
        let numbers: Vec<Option<u32>> = wanted.iter().map(|id| self.blobs.number(*id)).collect();
        let wanted_numbers: HashSet<u32> = numbers.iter().copied().flatten().collect();
        let mut digests: HashMap<u32, String> = HashMap::new();
        job.event(Event::StepStarted { step: "writing the disc", total_bytes: Some(self.content_len()) });
        self.write_regions(out, job, &mut |number, content, out| {
            if wanted_numbers.contains(&number) {
                digests.insert(number, out.write_digested(content, DigestKind::Sha256, job)?);
                return Ok(());
            }
            out.write_content(content, job)
        })?;
        job.event(Event::StepFinished);
        Ok(numbers.into_iter().map(|number| digests.get(&number?).cloned()).collect())
    }

    /// Writes the disc; `blob` writes each content, by its number.
    pub(crate) fn write_regions(
        &self,
        out: &mut Output,
        job: &Job<'_>,
        blob: &mut dyn FnMut(u32, &Content, &mut Output) -> Result<()>,
    ) -> Result<()> {
        for region in &self.regions {
            out.pad_to(region.sector.byte_offset())?;
            match region.part {
                Part::Blob(number) => blob(number, &self.blobs.list[number as usize].content, out)?,
                _ => self.write_part(region, out, job)?,
            }
            let end = region.sector.after(region.sectors).byte_offset();
            out.pad_to(end)?;
        }
        out.pad_to(self.len())
    }

    /// The disc as content, for whoever does not write it from its start to its end. Its tables are kept in an unnamed
    /// file in `folder`; files stay where they are. Also where each file lies.
    ///
    /// # Errors
    /// `Io` of the unnamed file, else as [`Plan::write`].
    pub fn to_content(&self, folder: &Path, job: &Job<'_>) -> Result<(Content, Vec<Extent>)> {
        let file = tempfile::tempfile_in(folder).map_err(Error::io("create a file in", folder))?;
        let mut tables = Output::new(file, folder, None);
        let mut blobs = Vec::new();
        self.write_regions(&mut tables, job, &mut |_, content, out| {
            blobs.push((out.position(), content.clone()));
            out.write_zeros(content.len())
        })?;
        let (file, _) = tables.finish()?;
        let tables = Content::from_source(Source::from_file(file, folder)?);
        let mut parts = Vec::new();
        let mut at = 0;
        for (offset, content) in blobs {
            parts.push(tables.part(at, offset - at)?);
            at = offset + content.len();
            parts.push(content);
        }
        parts.push(tables.part(at, self.len() - at)?);
        let placed = |id: NodeId| {
            let (sector, len) = self.blobs.placed(id);
            (id, sector.byte_offset(), len)
        };
        let extents = self.file_order().into_iter().map(placed).collect();
        Ok((Content::joined(parts)?, extents))
    }

    /// Number of a file's content; `None` for an empty file.
    pub(crate) fn blob_number(&self, id: NodeId) -> Option<u32> {
        self.blobs.number(id)
    }

    /// The first file with each content, in the order in which contents are written.
    pub fn file_order(&self) -> Vec<NodeId> {
        let mut first: Vec<Option<NodeId>> = vec![None; self.blobs.list.len()];
        for step in self.tree.walk() {
            if let Some(number) = self.blobs.number(step.id) {
                first[number as usize].get_or_insert(step.id);
            }
        }
        first.into_iter().flatten().collect()
    }

    fn write_part(&self, region: &Region, out: &mut Output, job: &Job<'_>) -> Result<()> {
        let placed = |id: NodeId| self.blobs.placed(id);
        job.check()?;
        match region.part {
            Part::SystemArea => match &self.gpt {
                Some(gpt) => out.write_bytes(&gpt.primary()?),
                None => Ok(()),
            },
            Part::Descriptors => out.write_bytes(&self.descriptors()),
            Part::UdfSequences => match &self.udf {
                Some(udf) => out.write_bytes(&udf.volume_sequences(&self.facts())),
                None => Ok(()),
            },
            Part::Anchor => out.write_bytes(&anchor(region.sector)),
            Part::UdfTree => match &self.udf {
                Some(udf) => udf
                    .for_each_block(&self.tree, &self.facts(), &placed, &mut |block| out.write_bytes(block)),
                None => Ok(()),
            },
            Part::PathTable { joliet, big } => {
                let Some(hierarchy) = self.hierarchy(joliet) else { return Ok(()) };
                let (little, large) = hierarchy.path_tables();
                out.write_bytes(if big { &large } else { &little })
            }
            Part::Directories { joliet } => match self.hierarchy(joliet) {
                Some(hierarchy) => {
                    hierarchy.for_each_directory(&self.tree, &placed, &mut |bytes| out.write_bytes(bytes))
                }
                None => Ok(()),
            },
            Part::BootCatalog => match &self.options.boot {
                Some(catalog) => {
                    out.write_bytes(&boot::catalog(catalog, &|index| self.blobs.boot_sector(index))?)
                }
                None => Ok(()),
            },
            Part::Blob(number) => out.write_content(&self.blobs.list[number as usize].content, job),
            Part::GptBackup => match &self.gpt {
                Some(gpt) => {
                    let bytes = gpt.backup();
                    out.pad_to(self.len() - bytes.len() as u64)?;
                    out.write_bytes(&bytes)
                }
                None => Ok(()),
            },
        }
    }

    fn hierarchy(&self, joliet: bool) -> Option<&Hierarchy> {
        if joliet { self.joliet.as_ref() } else { Some(&self.primary) }
    }

    fn descriptors(&self) -> Vec<u8> {
        let root = self.tree.node(Tree::ROOT).meta;
        let Options { volume, time, .. } = &self.options;
        let descriptor =
            |hierarchy, tables| volume_descriptor(hierarchy, tables, volume, *time, root, self.total_sectors);
        let mut bytes = descriptor(&self.primary, self.tables.primary).as_bytes().to_vec();
        if self.options.boot.is_some() {
            bytes.extend(boot_record(self.tables.catalog));
        }
        if let Some(joliet) = &self.joliet {
            bytes.extend(descriptor(joliet, self.tables.joliet).as_bytes());
        }
        bytes.extend(terminator());
        if self.udf.is_some() {
            bytes.extend(recognition_sequence());
        }
        bytes
    }

    fn facts(&self) -> VolumeFacts<'_> {
        let Options { volume, time, .. } = &self.options;
        VolumeFacts {
            identity: volume,
            time: volume.created.unwrap_or(*time),
            partition_len: self.partition_end - PARTITION_START,
            unique: (time.seconds as u64) << 20 ^ u64::from(self.total_sectors),
        }
    }
}

fn joliet_hierarchy(tree: &Tree, names: JolietNames) -> Result<Option<Hierarchy>> {
    let hierarchy = |limit| Hierarchy::new(tree, Flavor::Joliet { limit }, false);
    Ok(match names {
        JolietNames::Off => None,
        JolietNames::Strict => Some(hierarchy(64)?),
        JolietNames::Relaxed => Some(hierarchy(103)?),
        JolietNames::Auto => {
            let strict = hierarchy(64)?;
            Some(if strict.shortened.is_empty() { strict } else { hierarchy(103)? })
        }
    })
}

fn place_trees(
    plan: &mut Sectors,
    primary: &mut Hierarchy,
    joliet: Option<&mut Hierarchy>,
    tables: &mut Tables,
) -> Result<()> {
    let trees = [(Some(primary), false), (joliet, true)];
    for (hierarchy, joliet) in trees {
        let Some(hierarchy) = hierarchy else { continue };
        let sectors = u64::from(hierarchy.path_table_sectors());
        let little = plan.place(Part::PathTable { joliet, big: false }, sectors)?;
        let big = plan.place(Part::PathTable { joliet, big: true }, sectors)?;
        let found = if joliet { &mut tables.joliet } else { &mut tables.primary };
        *found = PathTables { little, big };
        let first = plan.place(Part::Directories { joliet }, u64::from(hierarchy.directory_sectors()))?;
        hierarchy.place(first);
    }
    Ok(())
}

fn make_gpt(
    hybrid: &Hybrid,
    catalog: Option<&BootCatalog>,
    blobs: &Blobs,
    total_sectors: u32,
    volume: &VolumeIdentity,
) -> disk::Gpt {
    let entries = catalog.map(|catalog| catalog.entries.as_slice()).unwrap_or_default();
    let extent = |index: usize| blobs.boot_extent(index);
    let bios = entries.iter().position(|entry| entry.platform == crate::Platform::BIOS);
    let uefi = entries.iter().enumerate().filter(|(_, entry)| entry.platform == crate::Platform::UEFI);
    let mut seed = [0x5A_u8; 32];
    for (index, byte) in volume.label.bytes().chain(total_sectors.to_le_bytes()).enumerate() {
        seed[index % 16] = seed[index % 16].rotate_left(3) ^ byte;
    }
    disk::Gpt {
        total_len: u64::from(total_sectors) * SECTOR_SIZE,
        boot_code: hybrid.boot_code.clone(),
        image_start: bios.map(|index| extent(index).0),
        partitions: uefi
            .map(|(index, _)| extent(index))
            .map(|(start, len)| disk::GptPartition {
                name: "UEFI boot",
                kind: disk::layout::KIND_EFI_SYSTEM,
                attributes: 0,
                start,
                len,
            })
            .collect(),
        seed,
    }
}

/// The content of the boot image `image` of `tree`.
pub(crate) fn boot_content(tree: &Tree, image: &BootImage) -> Result<Content> {
    match image {
        BootImage::Hidden(content) => Ok(content.clone()),
        BootImage::File(path) => tree.file(path).cloned().ok_or_else(|| {
            Error::request(
                format!("the boot image {path} is not on the media"),
                "give the path of a file on the media, or put it there",
            )
        }),
    }
}
