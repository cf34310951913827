//! `master`: a folder into a bootable ISO file.

use super::refuse_existing;
use crate::{
    args::{BootArgs, EmulationKind, JolietLimit, MasterArgs},
    context::{Context, clock},
    show,
};
use neat_content::{Content, DigestKind, Error, IfThere, PendingFile, Result, Tree};
use neat_media::{
    BootCatalog, BootCode, BootEntry, BootImage, Emulation, Media, Platform,
    eltorito::find,
    master::{Hybrid, JolietNames, Options, Plan},
    read,
};
use std::{path::Path, sync::Arc};

pub(crate) fn run(args: &MasterArgs, context: &Context) -> Result<()> {
    if !args.dir.is_dir() {
        return Err(Error::request(
            format!("{} is not a folder", args.dir.display()),
            "unpack a media first, or write a stack file for `neatstack build`",
        ));
    }
    refuse_existing(&args.output, args.replace)?;
    let media = read::open(&args.dir)?;
    let options = options(args, &media)?;
    say_what_starts(&options, context);
    let private = super::is_private(&media, args.readable, context)?;
    let job = context.job();
    let plan = Plan::new(&Arc::new(media.tree), options, &job)?;
    for note in media.warnings.iter().chain(plan.notes()) {
        context.note(note);
    }
    let (pending, mut output) = PendingFile::create_output(
        &args.output,
        IfThere::replace(args.replace),
        args.digest.then_some(DigestKind::Sha256),
    )?;
    if private {
        pending.make_private()?;
    }
    plan.write(&mut output, &job)?;
    let (file, digest) = output.finish()?;
    job.check()?;
    pending.commit(file)?;
    if context.json {
        return context.print_json(&show::media::MasteredView {
            iso: args.output.display().to_string(),
            size: plan.len(),
            shared: plan.shared_len(),
            sha256: digest,
            notes: plan.notes().to_vec(),
        });
    }
    let digest = digest.map(|digest| format!("  sha256 {digest}")).unwrap_or_default();
    context.print_line(&format!("{}  {}{digest}", args.output.display(), show::size(plan.len())))
}

/// Says which firmware the disc will not start on, and what is missing where.
fn say_what_starts(options: &Options, context: &Context) {
    let has = |platform| {
        let mut entries = options.boot.iter().flat_map(|catalog| &catalog.entries);
        entries.any(|entry| entry.platform == platform)
    };
    let [bios, uefi] = find::places();
    let missing = [(Platform::BIOS, "BIOS", bios), (Platform::UEFI, "UEFI", uefi)];
    let missing: Vec<_> = missing.into_iter().filter(|(platform, ..)| !has(*platform)).collect();
    if missing.len() == 2 {
        context.note("this disc will start no machine: it has no boot image");
    }
    for (_, name, places) in missing {
        context.note(&format!(
            "it does not start on {name}: there is none of {places}; --{} names another",
            name.to_lowercase()
        ));
    }
}

fn options(args: &MasterArgs, media: &Media) -> Result<Options> {
    let clock = clock()?;
    let time = clock.fixed.unwrap_or(media.tree.newest());
    let mut volume = media.volume.clone();
    if let Some(label) = &args.label {
        volume.label.clone_from(label);
    }
    if volume.label.is_empty() {
        volume.label = label_from_name(&args.dir);
    }
    if volume.label.chars().count() > 32 || volume.label.chars().any(char::is_control) {
        return Err(Error::request(
            format!("{:?} is not a label", volume.label),
            "use at most 32 characters",
        ));
    }
    for (text, field) in
        [(&args.publisher, &mut volume.publisher), (&args.application, &mut volume.application)]
    {
        if let Some(text) = text {
            field.clone_from(text);
        }
    }
    volume.created = volume.created.or(Some(time));
    volume.modified = volume.modified.or(Some(time));
    let boot = boot(&args.boot, media, &args.dir, time)?;
    let own_code = media.partitions.as_ref().and_then(|table| table.boot_code.clone());
    let code_file = args
        .boot
        .boot_code
        .as_ref()
        .map(|path| Content::from_path(path)?.to_vec(512, "boot code"))
        .transpose()?;
    let wanted = args.boot.hybrid || code_file.is_some() || media.partitions.is_some();
    let boot_code = code_file.map(BootCode::from_file).or(own_code);
    // A folder that was unpacked knows which trees its media had.
    let recorded = media.trees.iso9660;
    Ok(Options {
        volume,
        time,
        udf: args.trees.udf.or(media.trees.udf.is_some() || !recorded),
        joliet: match args.trees.joliet {
            JolietLimit::Auto if recorded && !media.trees.joliet => JolietNames::Off,
            JolietLimit::Auto => JolietNames::Auto,
            JolietLimit::Strict => JolietNames::Strict,
            JolietLimit::Relaxed => JolietNames::Relaxed,
            JolietLimit::Off => JolietNames::Off,
        },
        rock_ridge: args.trees.rock_ridge.or(media.trees.rock_ridge),
        boot,
        hybrid: wanted.then_some(Hybrid { boot_code }),
    })
}

/// A label from the folder's name: capital letters, digits and `_`.
fn label_from_name(dir: &Path) -> String {
    let full = dir.canonicalize().unwrap_or_else(|_| dir.to_owned());
    let name = full.file_name().map(|name| name.to_string_lossy().to_uppercase()).unwrap_or_default();
    name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).take(32).collect()
}

fn boot(
    args: &BootArgs,
    media: &Media,
    dir: &Path,
    time: neat_content::Timestamp,
) -> Result<Option<BootCatalog>> {
    let mut catalog = match (&args.bios, &args.uefi) {
        (None, None) => neat_stack::default_boot(&media.tree, media.boot.clone(), time)?.unwrap_or_default(),
        (bios, uefi) => {
            let found = find::find(&media.tree, time)?;
            let bios = match bios {
                Some(path) => Some(image(path, Platform::BIOS, &media.tree, dir)?),
                None => found.bios,
            };
            let uefi = match uefi {
                Some(path) => Some(image(path, Platform::UEFI, &media.tree, dir)?),
                None => found.uefi,
            };
            find::Found { bios, uefi }.into_catalog().unwrap_or_default()
        }
    };
    let changes = args.load_sectors.is_some()
        || args.load_segment.is_some()
        || args.emulation.is_some()
        || args.boot_info_table;
    let bios = catalog.entries.iter_mut().find(|entry| entry.platform == Platform::BIOS);
    match bios {
        Some(entry) => {
            entry.load_sectors = args.load_sectors.unwrap_or(entry.load_sectors);
            entry.load_segment = args.load_segment.unwrap_or(entry.load_segment);
            if let Some(kind) = args.emulation {
                set_emulation(entry, kind);
            }
            entry.patch.boot_info_table |= args.boot_info_table;
        }
        None if changes => {
            return Err(Error::request(
                "there is no boot image for BIOS that the options could apply to",
                "name one with --bios",
            ));
        }
        None => {}
    }
    Ok(Some(catalog).filter(|catalog| !catalog.entries.is_empty()))
}

fn set_emulation(entry: &mut BootEntry, kind: EmulationKind) {
    entry.emulation = match kind {
        EmulationKind::None => Emulation::None,
        EmulationKind::Floppy1200 => Emulation::Floppy1200,
        EmulationKind::Floppy1440 => Emulation::Floppy1440,
        EmulationKind::Floppy2880 => Emulation::Floppy2880,
        EmulationKind::HardDisk => Emulation::HardDisk,
    };
    if entry.emulation != Emulation::None {
        // An emulated drive is started by its first sector.
        entry.load_sectors = 1;
    }
}

/// An image named on the command line: a path in the folder, seen from its root or from here, or a file elsewhere.
fn image(path: &str, platform: Platform, tree: &Tree, dir: &Path) -> Result<BootEntry> {
    let entry_of = |path: &str| {
        if platform == Platform::BIOS { find::bios_entry(tree, path) } else { find::uefi_entry(tree, path) }
    };
    if tree.file(path).is_some() {
        return entry_of(path);
    }
    let local = Path::new(path);
    if let (Ok(full), Ok(root)) = (local.canonicalize(), dir.canonicalize())
        && let Ok(inside) = full.strip_prefix(&root)
        && let Some(inside) = inside.to_str()
        && tree.file(inside).is_some()
    {
        return entry_of(inside);
    }
    if !local.is_file() {
        return Err(Error::request(
            format!("there is no boot image {path}, neither in {} nor here", dir.display()),
            "check the path",
        ));
    }
    let content = Content::from_path(local)?;
    let load_sectors = u16::try_from(content.len().div_ceil(512)).unwrap_or(0);
    Ok(BootEntry { load_sectors, ..find::plain(platform, BootImage::Hidden(content)) })
}
