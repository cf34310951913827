//! JSON forms of `look` at things that are no media and no image file.

use neat_answer::Report;
use neat_depot::Item;
use neat_package::{Identity, UpdateSection, VendorPackage};
use neat_stack::Ledger;
use schemars::JsonSchema;
use serde::Serialize;

/// A registry hive.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct HiveView {
    pub kind: &'static str,
    pub path: String,
    pub size: u64,
    pub digest: Option<String>,
    pub version: String,
    /// Name of the root.
    pub root: String,
    /// The name that the hive has in itself.
    pub file_name: String,
    pub keys: u64,
    pub values: u64,
    /// Bytes of data.
    pub data: u64,
    /// Whether it was not put away in order.
    pub dirty: bool,
    /// Names of keys in the root.
    pub top: Vec<String>,
    pub notes: Vec<String>,
}

/// A registration text.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct RegView {
    pub kind: &'static str,
    pub path: String,
    pub values_set: u64,
    pub deletions: u64,
    pub keys: Vec<String>,
}

/// A pack of drivers, or a folder of them.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DriversView {
    pub kind: &'static str,
    pub path: String,
    pub drivers: Vec<FoundDriver>,
}

/// A driver in a pack.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct FoundDriver {
    pub path: String,
    pub class: String,
    pub version: String,
    pub provider: String,
}

/// A driver's INF file.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DriverView {
    pub kind: &'static str,
    pub path: String,
    pub class: String,
    pub class_guid: String,
    pub provider: String,
    pub version: String,
    pub date: String,
    pub architectures: Vec<&'static str>,
    pub hardware_ids: Vec<String>,
}

/// An update package.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct UpdateView {
    pub kind: &'static str,
    pub path: String,
    /// As in `update.toml`.
    pub update: UpdateSection,
    pub files: usize,
    pub bytes: u64,
}

/// A vendor's package.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct VendorView {
    pub kind: &'static str,
    pub path: String,
    pub name: String,
    pub version: String,
    pub architecture: String,
    pub language: String,
    pub identifier: String,
    pub release_type: String,
    /// What it is as a file.
    pub form: &'static str,
    /// Names from the file down to what has its manifest.
    pub inside: Vec<String>,
    /// Whether it has a store of patches.
    pub has_patches: bool,
    /// Whether the system must start anew afterwards, in the vendor's word.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub restart: String,
    /// Further packages in the file, which go in before it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<String>,
    /// What it goes into: of each item one.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<Vec<String>>,
    /// What is not needed any more when it is in.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub replaces: Vec<String>,
    /// Features that it brings.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub features: Vec<String>,
}

impl VendorView {
    pub(crate) fn of(path: &std::path::Path, package: &VendorPackage) -> Self {
        let own = &package.main;
        let identity = &own.manifest.identity;
        let manifests =
            || package.packages().flat_map(|own| std::iter::once(&own.manifest).chain(&own.nested));
        let texts = |list: &[Identity]| list.iter().map(ToString::to_string).collect::<Vec<_>>();
        let mut needs: Vec<Vec<String>> = package.parents().map(|parent| texts(&parent.any_of)).collect();
        needs.sort();
        needs.dedup();
        let shown = manifests().flat_map(|own| &own.features).filter(|own| own.is_shown);
        Self {
            kind: "vendor-package",
            path: path.display().to_string(),
            name: identity.name.clone(),
            version: identity.version.clone(),
            architecture: identity.architecture.clone(),
            language: identity.language.clone(),
            identifier: own.manifest.identifier.clone(),
            release_type: own.manifest.release_type.clone(),
            form: package.form.name(),
            inside: own.inside.clone(),
            has_patches: package.has_patches,
            restart: own.manifest.restart.clone(),
            with: package.others.iter().map(|own| own.manifest.identity.to_string()).collect(),
            needs,
            replaces: manifests().flat_map(|own| texts(&own.replaces)).collect(),
            features: shown.map(|own| own.name.clone()).collect(),
        }
    }
}

/// What only its kind can be said of: a catalogue, a layout, a site list, a list of devices, a folder of updates.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub(crate) struct KindView {
    pub kind: String,
    pub path: String,
    /// Of a catalogue or a layout.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// What a catalogue describes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub describes: Option<String>,
    /// What a list names.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub names: Option<String>,
    /// What a folder holds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub holds: Option<String>,
}

/// The ledger of a build.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct LedgerView {
    #[serde(flatten)]
    pub ledger: Ledger,
    /// What became of the outputs.
    pub now: Vec<OutputNow>,
}

/// What became of an output of a build.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct OutputNow {
    pub path: String,
    /// `as built`, or what became of it.
    pub state: &'static str,
}

/// The index of a depot.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DepotView {
    pub kind: &'static str,
    pub path: String,
    pub title: String,
    pub items: Vec<Item>,
}

/// A stack file.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct StackView {
    pub kind: &'static str,
    pub path: String,
    pub title: String,
    pub source: Option<String>,
    pub iso: Option<String>,
    pub stick: Option<String>,
    pub outputs: Vec<OutputView>,
}

/// An output of a stack file.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct OutputView {
    /// `disc` or `stick`.
    pub form: &'static str,
    pub path: String,
}

/// An answer file of any dialect, or a model.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct AnswerView {
    pub kind: &'static str,
    pub path: String,
    pub dialect: &'static str,
    pub report: Report,
}
