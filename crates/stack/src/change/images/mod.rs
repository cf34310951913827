//! The image file with the systems: which editions stay, what is done in them, how it is compressed and split.

mod fit;
mod older;
mod pending;

pub(crate) use fit::{fit_estimate, fit_fat32};
pub(crate) use pending::PendingImage;

use super::{Editor, beside::Beside, servicing};
use crate::{
    editions::{
        INSTALL_STEM, compression_for, edition_summaries, edition_summaries_quickly, install_image_path,
        open_image, part_paths,
    },
    recipe::{CompressionValue, FileLimitValue, StackFile},
    report::{EditionSummary, EditionWork, Weight},
};
use fit::{check_limit, put_limited};
use neat_content::{Content, Error, Job, Meta, Result, Timestamp, Tree, counted};
use neat_image::{FAT32_LIMIT, ImageDraft, ImageFile, Level, SolidCompression, is_image_file, open_path};
use neat_media::read;

/// New content up to this many bytes is compressed while planning, so that the plan's sizes are exact; more of it waits,
/// and need not be kept where nothing will be built.
pub(crate) const PACKED_WHEN_PLANNED: u64 = 4 << 20;

/// What was done with the image file.
#[derive(Default)]
pub(crate) struct ImageOutcome {
    pub editions: Vec<EditionSummary>,
    pub work: Vec<EditionWork>,
    pub pending: Option<PendingImage>,
}

/// What a stack file wants of the image file.
struct Wish<'a> {
    editions: &'a [String],
    from: Option<&'a str>,
    compression: Option<CompressionValue>,
    limit: Option<u64>,
    services: bool,
    /// Whether the systems of other media come into it.
    merges: bool,
}

/// How an image file is compressed anew.
#[derive(Clone, Copy)]
struct Repack {
    how: Form,
    /// Whether the stack file asks for it; else it is because the source is solid.
    is_asked: bool,
}

/// The form that everything gets.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    Stored,
    Compressed(Level),
    Solid,
}

impl<'a> Wish<'a> {
    fn of(stack: &'a StackFile) -> Self {
        let section = stack.source.as_ref();
        Self {
            editions: section.map_or(&[][..], |section| &section.editions),
            // With the setup environment alone it names the environment.
            from: section.filter(|own| own.only.is_none()).and_then(|own| own.image_from.as_deref()),
            compression: stack.media.compression,
            limit: matches!(stack.media.file_limit, Some(FileLimitValue::Fat32)).then_some(FAT32_LIMIT),
            services: servicing::is_asked(stack),
            merges: false,
        }
    }

    /// Whether it cannot be met without an image file.
    fn needs_image(&self) -> bool {
        !self.editions.is_empty()
            || self.from.is_some()
            || self.compression.is_some()
            || self.services
            || self.merges
    }

    /// Whether `image` goes onto the media as it is.
    fn leaves(&self, image: &ImageFile) -> bool {
        let fits = |limit| image.parts().iter().all(|part| part.content.len() <= limit);
        !self.needs_image() && self.limit.is_none_or(fits)
    }

    fn repack(&self, is_solid: bool) -> Option<Repack> {
        let how = match self.compression {
            None if is_solid => return Some(Repack { how: Form::Compressed(Level::Good), is_asked: false }),
            None => return None,
            Some(CompressionValue::None) => Form::Stored,
            Some(CompressionValue::Fast) => Form::Compressed(Level::Fast),
            Some(CompressionValue::Good) => Form::Compressed(Level::Good),
            Some(CompressionValue::Max) => Form::Compressed(Level::Max),
            Some(CompressionValue::Solid) => Form::Solid,
        };
        Some(Repack { how, is_asked: true })
    }
}

/// `source.editions`, `source.image_from`, `media.compression` and `media.file_limit`.
pub(crate) fn apply(
    stack: &StackFile,
    besides: &[Beside<'_>],
    editor: &mut Editor,
    job: &Job<'_>,
) -> Result<ImageOutcome> {
    let wish = Wish { merges: besides.iter().any(|own| own.merged().is_some()), ..Wish::of(stack) };
    let own_path = install_image_path(&editor.tree);
    let Some(FoundImage { image, meta }) = find_image(wish.from, own_path.as_deref(), editor)? else {
        let is_more = wish.merges
            || !wish.editions.is_empty()
            || wish.from.is_some()
            || servicing::is_asked_beside_packages(stack);
        if let Some(work) = older::apply(stack, is_more, editor, job)? {
            check_limit(wish.limit, editor);
            return Ok(ImageOutcome { work, ..ImageOutcome::default() });
        }
        if wish.needs_image() {
            return Err(Error::request(
                "the media has no image file with systems (sources/install.wim, .esd or .swm)",
                "take out `editions`, `image_from`, `compression` and what changes editions, or name the media that has one",
            ));
        }
        check_limit(wish.limit, editor);
        return Ok(ImageOutcome::default());
    };
    // Reading all trees takes a while where they are large, and only a choice needs what it tells.
    let mut editions =
        if wish.needs_image() { edition_summaries(&image)? } else { edition_summaries_quickly(&image)? };
    for warning in image.warnings() {
        editor.find(Weight::Note, warning.clone(), "");
    }
    if wish.leaves(&image) {
        check_limit(wish.limit, editor);
        return Ok(ImageOutcome { editions, ..ImageOutcome::default() });
    }
    refuse_unfinished(&image, editor);
    let mut draft = ImageDraft::of(&image);
    select(&wish, &image, &mut draft, &mut editions)?;
    let came = merge(besides, &mut draft, &mut editions, editor)?;
    let repack = wish.repack(image.solid_count() > 0);
    let is_solid = repack.is_some_and(|repack| repack.how == Form::Solid);
    match repack.map(|repack| repack.how) {
        None => draft.set_level(Level::Good),
        Some(Form::Stored) => draft.repack(None)?,
        Some(Form::Compressed(level)) => {
            draft.repack(Some(compression_for(level, image.header().compression)))?;
        }
        Some(Form::Solid) => draft.repack_solid(SolidCompression::new(Level::Good))?,
    }
    let as_it_is = estimated_len(&image, editions.get(..image.editions().len()).unwrap_or(&editions));
    let place = Place { path: target_path(own_path.as_deref(), is_solid), meta, limit: wish.limit };
    take_out(&mut editor.tree, own_path.as_deref())?;
    tell_choice(&wish, &image, &editions, editor);
    let mut work = Vec::new();
    if wish.services {
        (draft, work) = servicing::systems(stack, editor, draft, job)?;
        take_over(&draft, &mut editions);
    }
    let path = place.path.clone();
    let pending = put(draft, place, repack, as_it_is + came, editor, job)?;
    if let Some(repack) = repack {
        tell_repack(repack, path, editor);
    }
    check_limit(wish.limit, editor);
    Ok(ImageOutcome { editions, work, pending })
}

fn refuse_unfinished(image: &ImageFile, editor: &mut Editor) {
    if let Some(part) = image.parts().iter().find(|part| part.header.is_unfinished()) {
        editor.find(
            Weight::Refused,
            format!("{} says that somebody was still writing to it", part.name),
            "use a copy whose writing was finished",
        );
    }
}

/// `source.editions`
fn select(
    wish: &Wish<'_>,
    image: &ImageFile,
    draft: &mut ImageDraft,
    editions: &mut [EditionSummary],
) -> Result<()> {
    if wish.editions.is_empty() {
        return Ok(());
    }
    let numbers = wish.editions.iter().map(|wanted| image.find_edition(wanted));
    let numbers = numbers.collect::<Result<Vec<usize>>>()?;
    draft.select(&numbers)?;
    editions.iter_mut().for_each(|edition| edition.kept = numbers.contains(&edition.number));
    Ok(())
}

/// `beside.systems = "merged"`: editions of other media. Gives an estimate of what comes with them, in bytes.
fn merge(
    besides: &[Beside<'_>],
    draft: &mut ImageDraft,
    editions: &mut Vec<EditionSummary>,
    editor: &mut Editor,
) -> Result<u64> {
    let mut came = 0;
    for own in besides {
        let Some((image, numbers)) = own.merged() else { continue };
        let before = draft.editions().len();
        draft.append_apart(image, numbers, own.mark())?;
        let (all, new) = draft.stored_from(before + 1)?;
        let names: Vec<String> = draft.editions()[before..].iter().map(|info| info.name.clone()).collect();
        for info in &draft.editions()[before..] {
            editions.push(EditionSummary::new(editions.len() + 1, info, None));
        }
        let subject = format!(
            "{} of {}: {}",
            counted(names.len() as u64, "edition", "editions"),
            own.section.media,
            names.join(", ")
        );
        let why = format!("into the media's own image file; {} of {all} bytes are there already", all - new);
        editor.step("merge", subject, &why, new as i64);
        came += new;
    }
    Ok(came)
}

fn tell_choice(wish: &Wish<'_>, image: &ImageFile, editions: &[EditionSummary], editor: &mut Editor) {
    if let Some(from) = wish.from {
        let why = "this media's setup installs that media's systems";
        editor.step("take", format!("the systems of {from}"), why, 0);
    }
    if !wish.editions.is_empty() {
        let kept: Vec<&str> =
            editions.iter().filter(|edition| edition.kept).map(|edition| edition.name.as_str()).collect();
        let chosen = format!("{} of {} editions: {}", kept.len(), editions.len(), kept.join(", "));
        let saved = estimated_len(image, editions) as i64 - image.len() as i64;
        editor.step("keep", chosen, "first of all, so that no work goes into what is not wanted", saved);
    }
}

/// What servicing changed in the editions of `draft`.
fn take_over(draft: &ImageDraft, editions: &mut [EditionSummary]) {
    for info in draft.editions() {
        if let Some(edition) = editions.iter_mut().find(|edition| edition.name == info.name) {
            edition.update(&info);
        }
    }
}

/// Where an image file goes on the media.
struct Place {
    path: String,
    meta: Meta,
    limit: Option<u64>,
}

/// Puts the image file onto the media: now, or an estimate of `as_it_is` bytes and more that stands there until the
/// media is built.
fn put(
    draft: ImageDraft,
    Place { path, meta, limit }: Place,
    repack: Option<Repack>,
    as_it_is: u64,
    editor: &mut Editor,
    job: &Job<'_>,
) -> Result<Option<PendingImage>> {
    let to_pack = draft.bytes_to_pack()?;
    let is_compressed = repack.is_some_and(|repack| repack.how != Form::Stored);
    if to_pack > PACKED_WHEN_PLANNED || to_pack > 0 && is_compressed {
        // Its size is known when it is compressed; until then the media is planned with what it has now.
        let new = if repack.is_none() { to_pack / 2 } else { 0 };
        editor.tree.put_file(&path, Content::zeros(as_it_is + new), meta)?;
        editor.find(
            Weight::Note,
            format!("the size of {path} is an estimate: it is compressed anew when the media is built"),
            "",
        );
        return Ok(Some(PendingImage { draft, path, meta, limit }));
    }
    let content = draft.to_content(&std::env::temp_dir(), 0, job)?;
    let parts = put_limited(&mut editor.tree, &path, content, meta, limit, job)?;
    if parts > 1 {
        let why = "no file may be larger than FAT32 holds";
        editor.step("split", format!("{path} into {parts} parts"), why, 0);
    }
    Ok(None)
}

fn tell_repack(Repack { how, is_asked }: Repack, path: String, editor: &mut Editor) {
    if !is_asked {
        let why = "the source is solid, and only an ordinary image file can be changed quickly";
        return editor.step("repack", path, why, 0);
    }
    let how = match how {
        Form::Stored => "with level none",
        Form::Compressed(Level::Fast) => "with level fast",
        Form::Compressed(Level::Good) => "with level good",
        Form::Compressed(Level::Max) => "with level max",
        Form::Solid => "into solid resources",
    };
    editor.step("repack", format!("{path} {how}"), "the stack file asks for this compression", 0);
    if how == "into solid resources" {
        editor.find(
            Weight::Note,
            format!("{path} is solid: no reader of another maker has confirmed yet what is written into such files"),
            "start setup from the result before you hand it on, or take another `compression`",
        );
    }
}

struct FoundImage {
    image: ImageFile,
    meta: Meta,
}

/// The image file that the systems come from.
fn find_image(from: Option<&str>, own: Option<&str>, editor: &Editor) -> Result<Option<FoundImage>> {
    let Some(from) = from else {
        let Some(path) = own else { return Ok(None) };
        let image = open_image(&editor.tree, path)?;
        let meta = editor.tree.find(path).map(|id| editor.tree.node(id).meta);
        return Ok(Some(FoundImage { image, meta: meta.unwrap_or(Meta::at(editor.newest())) }));
    };
    let place = editor.local(from);
    if place.is_file() && is_image_file(&Content::from_path(&place)?) {
        let metadata = std::fs::metadata(&place).map_err(Error::io("examine", &place))?;
        let meta = Meta::at(Timestamp::from_metadata(&metadata));
        return Ok(Some(FoundImage { image: open_path(&place)?, meta: editor.meta(meta) }));
    }
    let media = read::open(&place)?;
    let Some(path) = install_image_path(&media.tree) else {
        return Err(Error::request(
            format!("{from} has no image file with systems (sources/install.wim, .esd or .swm)"),
            "name a media or an image file that has the systems",
        ));
    };
    let image = open_image(&media.tree, &path).map_err(|error| error.within(from))?;
    let meta = media.tree.find(&path).map_or(Meta::at(editor.newest()), |id| media.tree.node(id).meta);
    Ok(Some(FoundImage { image, meta: editor.meta(meta) }))
}

/// The image file has the usual name of its form, whatever the source's was.
fn target_path(own: Option<&str>, is_solid: bool) -> String {
    let usual = if is_solid { "esd" } else { "wim" };
    match own.and_then(|path| path.rsplit_once('.')) {
        Some((stem, ending)) if ending.eq_ignore_ascii_case(usual) => format!("{stem}.{ending}"),
        Some((stem, _)) => format!("{stem}.{usual}"),
        None => format!("{INSTALL_STEM}.{usual}"),
    }
}

fn take_out(tree: &mut Tree, path: Option<&str>) -> Result<()> {
    let Some(path) = path else { return Ok(()) };
    for path in part_paths(tree, path)? {
        if let Some(id) = tree.find(&path) {
            tree.remove(id);
        }
    }
    Ok(())
}

/// What the kept editions take now.
fn estimated_len(image: &ImageFile, editions: &[EditionSummary]) -> u64 {
    let dropped: u64 =
        editions.iter().filter(|edition| !edition.kept).filter_map(|edition| edition.only_here).sum();
    image.len().saturating_sub(dropped)
}
