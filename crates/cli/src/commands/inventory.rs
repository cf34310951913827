//! `inventory`: what is in an edition?

use super::images;
use crate::{args::InventoryArgs, context::Context, show};
use neat_content::{Error, Result};
use neat_image::{ImageDraft, Times};
use neat_service::{Catalogue, Category, Component, Edition, Inventory, Layout, OtherFiles, pattern};
use std::sync::Arc;

pub(crate) fn run(args: &InventoryArgs, context: &Context) -> Result<()> {
    let (draft, number) = opened(args, context)?;
    let categories = args.category.iter().map(|word| category(word)).collect::<Result<Vec<Category>>>()?;
    let mut layouts =
        args.layout.iter().map(|path| Layout::open(path).map(Arc::new)).collect::<Result<Vec<_>>>()?;
    layouts.push(Arc::new(Layout::common()?));
    let catalogues = args.catalogue.iter().map(|path| Catalogue::open(path)).collect::<Result<Vec<_>>>()?;
    let edition = Edition::open(&draft, number, &layouts, Times::default())?;
    let others = (1..=draft.editions().len()).filter(|other| *other != number);
    let others = OtherFiles::of(&draft, others)?;
    let inventory = Inventory::of(&edition, &catalogues, Some(&others))?;
    for note in edition.notes.iter().chain(&inventory.notes) {
        context.note(note);
    }
    let wanted = |component: &&Component| {
        (categories.is_empty() || categories.contains(&Category::of_id(&component.id)))
            && args.pattern.as_ref().is_none_or(|text| pattern::matches(text, &component.id))
            && args.least.is_none_or(|least| component.bytes >= least)
    };
    let components: Vec<&Component> = inventory.components.values().filter(wanted).collect();
    if context.json {
        return context.print_json(&show::inventory::InventoryView {
            edition: edition.name().to_owned(),
            number,
            components: components.into_iter().cloned().collect(),
            integrated: edition.record,
        });
    }
    if components.is_empty() {
        return Err(Error::request(
            "no component fits",
            format!("leave out filters; the categories are {}", category_words()),
        ));
    }
    context.print(&show::inventory::inventory(edition.name(), &components, &edition.record))
}

/// The edition that is meant, or the system on a disk as one.
fn opened(args: &InventoryArgs, context: &Context) -> Result<(Arc<ImageDraft>, usize)> {
    if let Some(disk) = images::on_disk(&args.path, &args.inside, context)? {
        let name = format!("the system on partition {}", disk.partition.number);
        return Ok((Arc::new(disk.draft(&name)?), 1));
    }
    let image = images::open_anywhere(&args.path, args.inside.image.as_deref())?;
    let number = images::the_edition(&image, args.inside.edition.as_deref(), &args.path)?;
    Ok((Arc::new(ImageDraft::of(&image)), number))
}

fn category(word: &str) -> Result<Category> {
    Category::ALL.into_iter().find(|category| category.word() == word).ok_or_else(|| {
        Error::request(format!("{word:?} is no category"), format!("the categories are {}", category_words()))
    })
}

fn category_words() -> String {
    Category::ALL.map(Category::word).join(", ")
}
