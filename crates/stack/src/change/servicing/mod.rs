//! What the stack file does inside editions: updates, components, drivers, files, settings.

pub(crate) mod apps;
mod handed;
mod inputs;

pub(crate) use handed::{Handed, check_signature, name_in_answers};

use super::{Editor, environment, leave_out};
use crate::{
    editions::{open_image, setup_image_path},
    recipe::{CompanySection, FeatureValue, IntoValue, SettingsSection, StackFile},
    report::{EditionWork, Weight},
};
use handed::Switches;
use inputs::Inputs;
pub(crate) use inputs::update_paths;
use neat_content::{Content, Job, Result};
use neat_image::{ImageDraft, Times};
use neat_older::OlderSetup;
use neat_package::{Architecture, Ordered, VendorPackage, order_vendors};
use neat_service::{
    Category, Edition, Inventory, Item, OtherFiles, PreparedDrivers, Removal, RemovalRequest, Scans, Verdict,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// Sorts of items in the order in which they are done, with the action and the reason that the plan gives.
const STEPS: [(&str, &str, &str, &str); 10] = [
    ("update", "update", "updates", "first in the edition, the servicing ones before those that need them"),
    (
        "remove",
        "take out",
        "components",
        "after the updates, so that what they bring for a component goes with it",
    ),
    ("leave-out", "leave out", "paths", "after the components, before anything is put there"),
    ("driver", "add", "drivers", "after taking out, so that none of them is taken out again"),
    ("file", "put", "groups of files", "after the system's own files, so that yours win"),
    ("app", "stage", "applications", "they run on the installed system, in this order"),
    ("language", "set", "values of languages", "after the updates, which may bring the language"),
    ("setting", "set", "values", "last in the edition, so that your values win"),
    ("service", "set", "services", "last in the edition, so that your values win"),
    ("feature", "switch", "features", "last in the edition, so that your values win"),
];

/// Whether the stack file changes what is in the editions of the systems.
pub(crate) fn is_asked(stack: &StackFile) -> bool {
    let has_drivers = stack.driver.iter().any(|driver| driver.into.contains(&IntoValue::System));
    !stack.update.is_empty() || has_drivers || is_asked_beside_packages(stack)
}

/// The same, but for updates and drivers.
pub(crate) fn is_asked_beside_packages(stack: &StackFile) -> bool {
    stack.remove.is_some()
        || stack.settings.is_some()
        || !stack.app.is_empty()
        || stack.place.iter().any(|place| place.to.starts_with("system:"))
        || leave_out::is_asked(stack, leave_out::Place::System)
}

/// The drivers of each `[[driver]]` that go into `into`, sorted out for systems of an architecture and version.
pub(crate) fn prepared_drivers(
    stack: &StackFile,
    into: IntoValue,
    (architecture, version): (Option<Architecture>, Option<(u32, u32, u32)>),
    editor: &mut Editor,
    job: &Job<'_>,
) -> Result<Vec<Arc<PreparedDrivers>>> {
    let mut inputs = Inputs::default();
    inputs.read_drivers(stack, editor, into)?;
    let prepared: Result<Vec<_>> =
        (0..inputs.drivers.len()).map(|n| inputs.prepared_for(n, architecture, version, job)).collect();
    inputs.tell_altered(editor);
    prepared
}

/// Does what the stack file asks for in every edition of `draft`.
pub(crate) fn systems(
    stack: &StackFile,
    editor: &mut Editor,
    mut draft: ImageDraft,
    job: &Job<'_>,
) -> Result<(ImageDraft, Vec<EditionWork>)> {
    let mut inputs = Inputs::read(stack, editor, job)?;
    let left_out = leave_out::of_editions(stack, leave_out::Place::System)?;
    let times = Times::at(editor.newest());
    let before = Arc::new(draft.clone());
    let count = before.editions().len();
    // What the other editions have decides what would go from the image file.
    let is_weighed = inputs.remove.is_some() && count > 1;
    let others = is_weighed.then(|| OtherFiles::of(&before, 1..=count)).transpose()?;
    let scans = Scans::default();
    let mut work = Vec::new();
    let mut unmatched: BTreeMap<String, usize> = BTreeMap::new();
    let mut systems = BTreeSet::new();
    let packages = std::mem::take(&mut inputs.vendors);
    let vendors: Vec<&VendorPackage> = packages.iter().filter_map(|input| input.package.as_ref()).collect();
    let mut fits: Vec<(String, Ordered)> = Vec::new();
    let mut switches = Switches::of(stack.settings.as_ref());
    for number in 1..=count {
        job.check()?;
        let mut edition = Edition::open(&before, number, &inputs.layouts, times)?;
        edition.scans = scans.clone();
        let name = edition.name().to_owned();
        systems.insert((edition.architecture(), version_of(&edition)));
        let mut components = BTreeMap::new();
        if !vendors.is_empty() {
            fits.push((name.clone(), order_vendors(&vendors, &edition.vendor_target())));
        }
        let mut items = edition.add_updates(&inputs.updates)?;
        if let Some(request) = &inputs.remove {
            let removed = remove(&mut edition, &inputs, request, others.as_ref(), &mut unmatched)?;
            items.extend(removed.0);
            components = removed.1;
        }
        items.extend(edition.leave_out(&left_out));
        for n in 0..inputs.drivers.len() {
            if inputs.drivers[n].goes_into(IntoValue::System) {
                let prepared = inputs.prepared(n, &edition, job)?;
                items.extend(edition.add_drivers(&prepared.drivers)?);
                items.extend(prepared.items.iter().cloned());
            }
        }
        for place in inputs.places.iter().filter(|place| place.in_system) {
            items.extend(edition.add_files(
                "system",
                &place.target(&edition),
                &place.files,
                place.replace,
            )?);
        }
        items.extend(apps::register(stack, editor.answers_run_apps, &mut edition)?);
        if let Some(settings) = &stack.settings {
            items.extend(set_up(settings, &inputs, &mut edition)?);
        }
        switches.look_into(&edition)?;
        for note in std::mem::take(&mut edition.notes) {
            editor.find(Weight::Note, format!("{name}: {note}"), "");
        }
        edition.store(&mut draft, &editor.hold)?;
        work.push(EditionWork { edition: name, setup: false, items, components });
    }
    for (text, missed) in unmatched {
        if missed == count {
            // The edition that has something like it says most.
            let said = work.iter().flat_map(|work| &work.items).filter(|item| item.subject == text);
            let detail =
                said.map(|item| item.detail.as_str()).max_by_key(|text| text.len()).unwrap_or("nothing fits");
            editor.find(Weight::Note, format!("[remove] {text}: {detail}"), "correct it, or take it out");
        }
    }
    leave_out::tell_unmatched(&left_out, &work, editor);
    for (architecture, version) in &systems {
        for device in inputs.devices(*architecture, *version, job)? {
            if !editor.devices.contains(&device) {
                editor.devices.push(device);
            }
        }
    }
    let mut at_end = Vec::new();
    let applied = fits.iter().flat_map(|(_, ordered)| &ordered.order);
    switches.look_into_packages(applied.filter_map(|n| vendors.get(*n).copied()));
    let mut items = handed::hand_on_packages(stack, &packages, &fits, &mut switches, editor, &mut at_end)?;
    items.extend(handed::hand_on_drivers(&mut inputs, IntoValue::System, &systems, editor, job)?);
    inputs.tell_altered(editor);
    items.extend(switches.hand_on(stack, editor, &mut at_end)?);
    tell(&work, editor);
    work.extend(on_the_media(items, editor));
    apps::stage(stack, &inputs, &at_end, editor)?;
    Ok((draft, work))
}

/// Does what the stack file asks for in the setup environment.
pub(crate) fn setup(stack: &StackFile, editor: &mut Editor, job: &Job<'_>) -> Result<Vec<EditionWork>> {
    let wanted = stack.driver.iter().any(|driver| driver.into.contains(&IntoValue::Setup))
        || stack.place.iter().any(|place| place.to.starts_with("setup:"))
        || leave_out::is_asked(stack, leave_out::Place::Setup)
        || stack.environment.is_some()
        || environment::is_alone(stack);
    if !wanted {
        return Ok(Vec::new());
    }
    let Some(path) = setup_image_path(&editor.tree) else {
        // What does not matter when it is not there does not matter here.
        let left_out = leave_out::of_editions(stack, leave_out::Place::Setup)?;
        // Setups of the generation before image files take drivers in another way.
        let is_older = !OlderSetup::find(&editor.tree)?.is_empty();
        let others = !is_older && stack.driver.iter().any(|driver| driver.into.contains(&IntoValue::Setup))
            || stack.place.iter().any(|place| place.to.starts_with("setup:"))
            || stack.environment.is_some();
        if !others && left_out.iter().all(|own| own.optional) {
            return Ok(Vec::new());
        }
        editor.find(
            Weight::Refused,
            "the media has no setup environment (sources/boot.wim)".into(),
            "take out [environment], \"setup\" in `into`, and `setup:` in [[place]] and [[leave_out]]",
        );
        return Ok(Vec::new());
    };
    let mut inputs = Inputs::for_setup(stack, editor, job)?;
    let left_out = leave_out::of_editions(stack, leave_out::Place::Setup)?;
    let wishes =
        stack.environment.as_ref().map(|section| environment::wishes(section, editor)).transpose()?;
    let image = open_image(&editor.tree, &path)?;
    let mut draft = ImageDraft::of(&image);
    environment::select(stack, &mut draft)?;
    let before = Arc::new(draft.clone());
    let times = Times::at(editor.newest());
    let mut work = Vec::new();
    let mut systems = BTreeSet::new();
    for number in 1..=before.editions().len() {
        let mut edition = Edition::open(&before, number, &inputs.layouts, times)?;
        systems.insert((edition.architecture(), version_of(&edition)));
        let mut items = edition.leave_out(&left_out);
        for n in 0..inputs.drivers.len() {
            if inputs.drivers[n].goes_into(IntoValue::Setup) {
                let prepared = inputs.prepared(n, &edition, job)?;
                items.extend(edition.add_drivers(&prepared.drivers)?);
                items.extend(prepared.items.iter().cloned());
            }
        }
        for place in inputs.places.iter().filter(|place| !place.in_system) {
            items.extend(edition.add_files("setup", &place.target(&edition), &place.files, place.replace)?);
        }
        if let Some(wishes) = &wishes {
            items.extend(edition.set_environment(wishes)?);
        }
        work.push(EditionWork {
            edition: edition.name().to_owned(),
            setup: true,
            items,
            components: BTreeMap::new(),
        });
        edition.store(&mut draft, &editor.hold)?;
    }
    leave_out::tell_unmatched(&left_out, &work, editor);
    let meta = editor.tree.find(&path).map(|id| editor.tree.node(id).meta);
    let content = draft.to_content(&std::env::temp_dir(), 0, job)?;
    if let (Some(id), Some(meta)) = (editor.tree.find(&path), meta) {
        editor.tree.remove(id);
        editor.tree.put_file(&path, content, meta)?;
    }
    tell(&work, editor);
    let handed = handed::hand_on_drivers(&mut inputs, IntoValue::Setup, &systems, editor, job)?;
    inputs.tell_altered(editor);
    work.extend(on_the_media(handed, editor));
    Ok(work)
}

/// What is handed on is on the media, and not in an edition.
fn on_the_media(items: Vec<Item>, editor: &mut Editor) -> Option<EditionWork> {
    let edition = "the media".to_owned();
    let work = EditionWork { edition, setup: false, items, components: BTreeMap::new() };
    tell_refusals(std::slice::from_ref(&work), editor);
    (!work.items.is_empty()).then_some(work)
}

/// All components of some categories, by their words.
type Thinned = BTreeMap<&'static str, Vec<String>>;

fn remove(
    edition: &mut Edition,
    inputs: &Inputs,
    request: &RemovalRequest,
    others: Option<&OtherFiles>,
    unmatched: &mut BTreeMap<String, usize>,
) -> Result<(Vec<Item>, Thinned)> {
    let inventory = Inventory::of(edition, &inputs.catalogues, others)?;
    let plan = Removal::plan(&inventory, request, &edition.record.removed);
    for (text, _) in &plan.unknown {
        *unmatched.entry(text.clone()).or_default() += 1;
    }
    let mut items = plan.apply(edition, &inventory, others)?;
    if inputs.removal_is_optional {
        items.iter_mut().for_each(|item| item.optional = true);
    }
    let mut thinned: Thinned = plan.goes.keys().map(|id| (Category::of_id(id).word(), Vec::new())).collect();
    for id in inventory.components.into_keys() {
        if let Some(ids) = thinned.get_mut(Category::of_id(&id).word()) {
            ids.push(id);
        }
    }
    Ok((items, thinned))
}

fn set_up(settings: &SettingsSection, inputs: &Inputs, edition: &mut Edition) -> Result<Vec<Item>> {
    let mut items = Vec::new();
    for id in inputs.profile_settings.iter().chain(&settings.uses) {
        items.extend(edition.apply_setting(id, &inputs.catalogues)?);
    }
    for (name, text) in &inputs.registry {
        items.extend(edition.apply_reg(name, text)?);
    }
    if !settings.values.is_empty() {
        items.extend(edition.apply_values("[[settings.value]]", &settings.values)?);
    }
    for (name, start) in &settings.services {
        items.push(edition.set_service(name, start)?);
    }
    for (name, value) in &settings.features {
        if let FeatureValue::Switch(on) = value {
            items.push(edition.set_feature(name, *on, None)?);
        }
    }
    if let Some(CompanySection { name, model, phone, hours, url, .. }) = &settings.company {
        let all = [
            ("Manufacturer", name),
            ("Model", model),
            ("SupportPhone", phone),
            ("SupportHours", hours),
            ("SupportURL", url),
        ];
        let values: Vec<(&str, &str)> =
            all.iter().filter_map(|(key, text)| Some((*key, text.as_deref()?))).collect();
        let logo = inputs.logo.as_ref().map(|(name, content): &(String, Content)| (name.as_str(), content));
        items.extend(edition.set_company(&values, logo)?);
    }
    if let Some((name, content)) = &inputs.wallpaper {
        items.extend(edition.set_wallpaper(name, content)?);
    }
    if let Some(languages) = &settings.languages {
        items.extend(edition.set_languages(&languages.interface, &languages.region, &languages.keyboards)?);
    }
    Ok(items)
}

/// What an edition is called in steps and findings.
fn place(work: &EditionWork) -> String {
    if work.setup { "the setup environment".to_owned() } else { work.edition.clone() }
}

/// Says what is done in the plan: a step for each sort of item, a finding for each refusal.
pub(crate) fn tell(work: &[EditionWork], editor: &mut Editor) {
    for (kind, action, noun, reason) in STEPS {
        let applied = |work: &EditionWork| {
            let items =
                work.items.iter().filter(|item| item.kind == kind && item.verdict == Verdict::Applied);
            items.fold((0_u64, 0_i64), |(count, bytes), item| (count + 1, bytes + item.bytes))
        };
        let counts: Vec<(u64, i64)> = work.iter().map(applied).collect();
        let most = counts.iter().map(|(count, _)| *count).max().unwrap_or(0);
        if most == 0 {
            continue;
        }
        let least = counts.iter().map(|(count, _)| *count).min().unwrap_or(0);
        let number = if least == most { most.to_string() } else { format!("{least} to {most}") };
        let noun = if most == 1 { noun.strip_suffix('s').unwrap_or(noun) } else { noun };
        let whose = match work {
            [one] => place(one),
            several if several.iter().all(|work| work.setup) => "the setup environment".into(),
            several => format!("each of {} editions", several.len()),
        };
        // Editions share what they have alike, so the largest says most.
        let bytes = counts.iter().map(|(_, bytes)| *bytes).max_by_key(|bytes| bytes.abs()).unwrap_or(0);
        editor.step(action, format!("{number} {noun} in {whose}"), reason, bytes);
    }
    tell_refusals(work, editor);
}

/// A finding for each refusal.
fn tell_refusals(work: &[EditionWork], editor: &mut Editor) {
    let mut said: Vec<(&str, &str)> = Vec::new();
    for (work, item) in work.iter().flat_map(|work| work.items.iter().map(move |item| (work, item))) {
        if item.verdict != Verdict::Refused || said.contains(&(&item.subject, &item.detail)) {
            continue;
        }
        said.push((&item.subject, &item.detail));
        let (weight, hint) = match (item.optional, item.kind) {
            (true, _) => (Weight::Note, ""),
            (_, "remove") => (
                Weight::Refused,
                "name what needs it too, write `with_dependents = true`, or put it into `keep`",
            ),
            (_, "update" | "driver") => {
                (Weight::Refused, "take it out, or write `optional = true` beside it to build without it")
            }
            _ => (Weight::Refused, "correct it in the stack file"),
        };
        editor.find(
            weight,
            format!("{} {} ({}): {}", item.kind, item.subject, place(work), item.detail),
            hint,
        );
    }
}

/// Version of the system as three numbers: major, minor, build.
fn version_of(edition: &Edition) -> Option<(u32, u32, u32)> {
    let version = edition.version()?;
    let number = |n: usize| u32::try_from(version.0.get(n).copied().unwrap_or(0)).unwrap_or(u32::MAX);
    Some((number(0), number(1), number(2)))
}

/// Drivers made ready, by section and architecture.
type DriverCache =
    BTreeMap<(usize, Option<neat_package::Architecture>, Option<(u32, u32, u32)>), Arc<PreparedDrivers>>;
