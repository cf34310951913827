//! `report`: a page to hand on.

use super::{depot, images, kind, plan};
use crate::{
    args::ReportArgs,
    context::{Context, clock},
    show,
};
use neat_content::{Content, IfThere, PendingFile, Result};
use neat_image::{ImageDraft, ImageFile};
use neat_report::{EditionMap, Page, of_image, of_ledger, of_plan};
use neat_service::Catalogue;
use neat_stack::{Prepared, Wishes, edition_summaries, install_image_path, open_image};
use std::{path::Path, sync::Arc};

/// Largest picture that goes into a page, in bytes.
const LARGEST_PICTURE: u64 = 8 << 20;

pub(crate) fn run(args: &ReportArgs, context: &Context) -> Result<()> {
    let path = &args.path;
    let page = match kind::Kind::of(path)? {
        Some(kind::Kind::Ledger) => ledger(path)?,
        Some(kind::Kind::Stack) => stack(args, context)?,
        _ => image(args)?,
    };
    write_page(&page, &args.output, args.replace, context)
}

/// Writes a page and says where.
pub(super) fn write_page(page: &Page, to: &Path, replace: bool, context: &Context) -> Result<()> {
    let html = page.html();
    let (pending, mut output) = PendingFile::create_output(to, IfThere::replace(replace), None)?;
    output.write_bytes(html.as_bytes())?;
    pending.commit(output.finish()?.0)?;
    let view = show::build::PageView { page: to.display().to_string(), size: html.len() as u64 };
    if context.json {
        return context.print_json(&view);
    }
    context.print(&show::heading_line(&view.page, &show::size(view.size)))
}

pub(super) fn name_of(path: &Path) -> String {
    path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
}

fn ledger(path: &Path) -> Result<Page> {
    let ledger = plan::read_ledger(path)?;
    let folder = path.parent().unwrap_or(Path::new("")).to_owned();
    // Beside the ledger, where a build leaves them; a ledger of somebody else does not fetch other files.
    let picture = |name: &str| {
        let name = Path::new(name).file_name()?;
        let png = Content::from_path(&folder.join(name)).ok()?.to_vec(LARGEST_PICTURE, "picture").ok()?;
        png.starts_with(b"\x89PNG").then_some(png)
    };
    Ok(of_ledger(&ledger, &name_of(path), &picture))
}

fn stack(args: &ReportArgs, context: &Context) -> Result<Page> {
    let (_, mut stack) = plan::open(&args.path)?;
    let uses = depot::resolve_here(&mut stack, &args.path, &args.depot, context)?;
    let clock = clock()?;
    let wishes = Wishes { only_plan: true, ..plan::wishes(&[]) };
    let mut prepared = Prepared::new(&stack, &args.path, &clock, wishes, &context.job())?;
    prepared.report.depot = uses;
    let report = &prepared.report;
    let mut maps = Vec::new();
    if let Some(source) = report.source.as_ref() {
        let base = args.path.parent().unwrap_or(Path::new(""));
        let media = kind::media(Path::new(&source.path))?;
        let mut catalogues = Vec::new();
        for own in &stack.catalogues {
            catalogues.push(Catalogue::open(&base.join(own))?);
        }
        if let Some(place) = install_image_path(&media.tree) {
            let image = open_image(&media.tree, &place)?;
            let kept = report.editions.iter().filter(|own| own.kept).map(|own| own.number);
            maps = maps_of(&image, kept, &catalogues)?;
        }
    }
    Ok(of_plan(report, &name_of(&args.path), &maps))
}

fn image(args: &ReportArgs) -> Result<Page> {
    let image = images::open_anywhere(&args.path, None)?;
    let numbers = if args.edition.is_empty() {
        (1..=image.editions().len()).collect()
    } else {
        args.edition.iter().map(|own| image.find_edition(own)).collect::<Result<Vec<usize>>>()?
    };
    let catalogues = args.catalogue.iter().map(|own| Catalogue::open(own)).collect::<Result<Vec<_>>>()?;
    let maps = maps_of(&image, numbers.into_iter(), &catalogues)?;
    Ok(of_image(&name_of(&args.path), &edition_summaries(&image)?, &maps))
}

fn maps_of(
    image: &ImageFile,
    numbers: impl Iterator<Item = usize>,
    catalogues: &[Catalogue],
) -> Result<Vec<EditionMap>> {
    let draft = Arc::new(ImageDraft::of(image));
    numbers.map(|number| EditionMap::of(&draft, number, catalogues)).collect()
}
