//! Vendors' packages: which go in, in which order, and who installs them.

use super::{AtEnd, answers_use_a_set, features::Switches, file_name};
use crate::{
    change::{Editor, servicing::inputs::update_paths},
    recipe::{StackFile, ThroughValue, UpdateSection},
};
use neat_answer::servicing;
use neat_content::{Content, Error, Job, ReadAt, Result};
use neat_depot::{Key, check_file};
use neat_package::{Identity, Ordered, Outcome, VendorForm, VendorPackage};
use neat_service::Item;
use std::path::Path;

/// Folder on the media for packages that setup installs.
const FOLDER: &str = "updates";
/// Arguments of programs that nobody gave any.
const QUIET: &str = "/quiet /norestart";

/// A vendor's package as the stack file names it.
pub(in crate::change::servicing) struct VendorInput {
    /// What it is called in the plan.
    pub name: String,
    /// What it holds; none if it has no manifest.
    pub package: Option<VendorPackage>,
    content: Content,
    from_folder: bool,
    optional: bool,
    through: Option<ThroughValue>,
    arguments: String,
}

/// Whether a file is of a kind that vendors' packages have, by its first bytes: a cabinet, an image file or a program.
fn is_vendors(content: &Content) -> Result<bool> {
    let mut first = [0; 4];
    if content.len() >= 4 {
        content.read_exact_at(0, &mut first)?;
    }
    Ok(first == *b"MSCF" || first.starts_with(b"MZ") || neat_image::is_image_file(content))
}

/// Compares a package with its signature, where the stack file wants one.
///
/// # Errors
/// `Request` for a folder, which has none; `Mismatch` for a wrong one, and `Io`.
pub(crate) fn check_signature(
    stack: &StackFile,
    section: &UpdateSection,
    path: &Path,
    name: &str,
) -> Result<()> {
    let key = stack.signed_by.as_deref().map(Key::parse).transpose()?;
    // What came from a depot was compared with its index, and that with the key.
    let Some(key) = key.filter(|_| !stack.vouched_for.contains(&section.from)) else { return Ok(()) };
    if path.is_dir() {
        return Err(Error::request(
            format!("{name} is a folder, and `signed_by` wants signed packages"),
            "make a package of it with `neatstack update new` and sign that with `neatstack depot sign`",
        ));
    }
    check_file(&key, path)
}

/// What the `[[update]]` sections name: packages of our own to `own`, and vendors' as a list.
pub(in crate::change::servicing) fn read(
    stack: &StackFile,
    editor: &Editor,
    job: &Job<'_>,
    own: &mut dyn FnMut(&UpdateSection, &Path, String) -> Result<()>,
) -> Result<Vec<VendorInput>> {
    let mut found = Vec::new();
    for section in &stack.update {
        for (path, name) in update_paths(&editor.local(&section.from), &section.from)? {
            job.check()?;
            check_signature(stack, section, &path, &name)?;
            let content = if path.is_dir() { None } else { Some(Content::from_path(&path)?) };
            let vendors = content.map(|own| Ok((is_vendors(&own)?, own))).transpose()?;
            let Some((true, content)) = vendors else {
                // In a folder they are meant for the others.
                if name == section.from && (section.through.is_some() || section.arguments.is_some()) {
                    return Err(Error::request(
                        format!(
                            "[[update]] {name}: it goes into the edition itself, and nobody else installs it"
                        ),
                        "take out `through` and `arguments`: they are for vendors' packages",
                    ));
                }
                own(section, &path, name)?;
                continue;
            };
            let package = VendorPackage::of_content(&content).map_err(|error| error.within(&name))?;
            let from_folder = name != section.from;
            // Other programs may lie in a folder of packages.
            if package.is_none() && from_folder && name.to_lowercase().ends_with(".exe") {
                continue;
            }
            found.push(VendorInput {
                package,
                content,
                from_folder,
                name,
                optional: section.optional,
                through: section.through,
                arguments: section.arguments.clone().unwrap_or_else(|| QUIET.to_owned()),
            });
        }
    }
    Ok(found)
}

/// Stages the vendors' packages: `fits` tells for each edition which of them go in, in the order of `inputs` without those
/// that hold no package. Returns what becomes of each.
pub(in crate::change::servicing) fn hand_on(
    stack: &StackFile,
    inputs: &[VendorInput],
    fits: &[(String, Ordered)],
    switches: &mut Switches,
    editor: &mut Editor,
    at_end: &mut Vec<AtEnd>,
) -> Result<Vec<Item>> {
    let mut items = Vec::new();
    let known: Vec<(&VendorInput, &VendorPackage)> =
        inputs.iter().filter_map(|input| Some((input, input.package.as_ref()?))).collect();
    // The editions may differ in what they take; what one of them takes is on the media.
    let mut order: Vec<usize> = Vec::new();
    for n in fits.iter().flat_map(|(_, ordered)| &ordered.order) {
        if !order.contains(n) {
            order.push(*n);
        }
    }
    let uses_a_set = answers_use_a_set(stack, editor);
    let mut later: Vec<&Identity> = Vec::new();
    for n in &order {
        let (input, package) = known[*n];
        // What needs a package that the installed system gets cannot come before it.
        let waits = package.parents().find_map(|parent| later.iter().find(|own| parent.is_met_by(own)));
        let through = match way(input, package, uses_a_set, waits.copied()) {
            Ok(through) => through,
            Err(why) => {
                items.push(Item { optional: input.optional, ..Item::refused("update", &input.name, why) });
                continue;
            }
        };
        let identity = &package.main.manifest.identity;
        let bytes = match through {
            ThroughValue::Answers => stage(package, switches, editor)?,
            ThroughValue::SetupEnd => {
                later.extend(package.identities());
                let name = input.name.rsplit('/').next().unwrap_or(&input.name).to_owned();
                let arguments =
                    if package.form == VendorForm::Program { input.arguments.clone() } else { String::new() };
                at_end.push(AtEnd::Package { name, content: input.content.clone(), arguments });
                input.content.len()
            }
        };
        let who = match through {
            ThroughValue::Answers => "staged on the media, installed by setup through the answer file",
            ThroughValue::SetupEnd => {
                "staged on the media, installed at the end of setup by the system's handler for such files"
            }
        };
        let not = elsewhere(*n, fits);
        let others = package.others.iter().map(|own| own.manifest.identity.to_string());
        let with = others.map(|own| format!(", with {own}")).collect::<String>();
        items.push(Item::applied(
            "update",
            &input.name,
            format!("{identity}{with}: {who}{not}"),
            bytes as i64,
        ));
    }
    for (n, (input, package)) in known.iter().enumerate().filter(|(n, _)| !order.contains(n)) {
        let identity = &package.main.manifest.identity;
        let Some((_, ordered)) = fits.first() else { continue };
        items.push(match &ordered.outcomes[n] {
            Outcome::Skipped(why) => Item::skipped("update", &input.name, format!("{identity}: {why}")),
            // In a folder of packages some are for other systems.
            Outcome::Elsewhere(why) if input.from_folder => {
                Item::skipped("update", &input.name, format!("{identity}: {why}"))
            }
            Outcome::Elsewhere(why) | Outcome::Refused(why) => Item {
                optional: input.optional,
                ..Item::refused("update", &input.name, format!("{identity}: {why}"))
            },
            Outcome::Applied(_) => continue,
        });
    }
    for input in inputs.iter().filter(|input| input.package.is_none()) {
        let why = "it is a cabinet, image file or program without a package manifest";
        items.push(Item { optional: input.optional, ..Item::refused("update", &input.name, why) });
    }
    Ok(items)
}

/// Which editions a package is not for, in words.
fn elsewhere(n: usize, fits: &[(String, Ordered)]) -> String {
    let not = fits.iter().filter_map(|(edition, ordered)| match &ordered.outcomes[n] {
        Outcome::Applied(_) => None,
        Outcome::Skipped(why) | Outcome::Elsewhere(why) | Outcome::Refused(why) => {
            Some(format!("; not for {edition}: {why}"))
        }
    });
    not.collect()
}

/// Who installs a package, or why nobody can. `waits` is what it needs and the installed system gets.
fn way(
    input: &VendorInput,
    package: &VendorPackage,
    uses_a_set: bool,
    waits: Option<&Identity>,
) -> std::result::Result<ThroughValue, String> {
    let lower = input.name.to_lowercase();
    let has_handler = package.form == VendorForm::Program || lower.ends_with(".msu");
    let not_by_setup = if let Some(own) = waits {
        Some(format!("it needs {own}, which goes in at the end of setup"))
    } else if package.has_patches {
        Some("it has a store of patches, of which only the installed system makes files".into())
    } else if package.packages().any(|own| own.cabinet.is_none()) {
        Some(
            "its manifest lies in an image file, and the answer file's servicing section takes cabinets"
                .into(),
        )
    } else {
        None
    };
    match (input.through, not_by_setup) {
        (Some(ThroughValue::SetupEnd), _) if has_handler => Ok(ThroughValue::SetupEnd),
        (Some(ThroughValue::SetupEnd), _) => {
            Err("the installed system has no handler for such files: write through = \"answers\"".into())
        }
        (Some(ThroughValue::Answers), None) => Ok(ThroughValue::Answers),
        (Some(ThroughValue::Answers), Some(why)) => Err(format!("{why}: take out through = \"answers\"")),
        // Setup finds what the answer file names only from the root of a configuration set.
        (None, None) if uses_a_set || !has_handler => Ok(ThroughValue::Answers),
        (None, _) if has_handler => Ok(ThroughValue::SetupEnd),
        (None, why) => Err(why.unwrap_or_default()),
    }
}

/// Puts the cabinets of a package on the media, and notes how the answer file names them. Returns their bytes.
fn stage(package: &VendorPackage, switches: &mut Switches, editor: &mut Editor) -> Result<u64> {
    let mut bytes = 0;
    for own in package.packages() {
        let Some(cabinet) = &own.cabinet else { continue };
        let identity = &own.manifest.identity;
        let path = format!("{FOLDER}/{}.cab", file_name(&format!("{}~{}", identity.name, identity.version)));
        editor.put_made(&path, cabinet.clone(), true, "setup installs it: the answer file names it")?;
        bytes += cabinet.len();
        let manifests = std::iter::once(&own.manifest).chain(&own.nested);
        let features = manifests.flat_map(|manifest| &manifest.features).map(|own| own.name.as_str());
        editor.handed.packages.push(servicing::Package {
            identity: element(identity),
            source: servicing::PackageSource::Cabinet(path),
            features: switches.of_package(features),
        });
    }
    Ok(bytes)
}

/// The package as the answer file names it.
pub(super) fn element(identity: &Identity) -> [(&'static str, String); 5] {
    [
        ("name", identity.name.clone()),
        ("version", identity.version.clone()),
        ("processorArchitecture", identity.architecture.clone()),
        ("publicKeyToken", identity.token.clone()),
        ("language", identity.language.clone()),
    ]
}
