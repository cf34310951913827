//! Which vendors' packages go into an edition, and in which order.

use super::{Identity, PackageManifest, Parent, VendorPackage};
use crate::{Architecture, Ordered, Outcome};

/// The edition that packages go into, as its package records tell.
#[derive(Clone, Debug, Default)]
pub struct VendorTarget {
    /// Its architecture, if it says.
    pub architecture: Option<Architecture>,
    /// Its languages.
    pub languages: Vec<String>,
    /// What is in it. An edition without records decides itself, when setup installs.
    pub records: Vec<Identity>,
}

/// Works out which packages go into an edition, and in which order: those that install others first, then each after
/// what it goes into, by name and version. Of the versions of one package the highest goes in, and with it those that it
/// says must be in before.
pub fn order_vendors(packages: &[&VendorPackage], target: &VendorTarget) -> Ordered {
    let manifests: Vec<&PackageManifest> = packages.iter().map(|package| &package.main.manifest).collect();
    let mut outcomes: Vec<Option<Outcome>> =
        manifests.iter().map(|own| elsewhere(own, target).map(Outcome::Elsewhere)).collect();
    for n in 0..packages.len() {
        if outcomes[n].is_none() {
            outcomes[n] = not_needed(n, packages, &manifests, &outcomes, target).map(Outcome::Skipped);
        }
    }
    let mut order: Vec<usize> = Vec::new();
    loop {
        let is_ready =
            |n: &usize| outcomes[*n].is_none() && missing(packages[*n], packages, &order, target).is_none();
        let next = (0..packages.len()).filter(is_ready).min_by(|a, b| {
            let turn = |n: usize| (!manifests[n].is_servicing(), &manifests[n].identity.name);
            let versions = manifests[*a].identity.version().cmp(&manifests[*b].identity.version());
            turn(*a).cmp(&turn(*b)).then(versions).then(a.cmp(b))
        });
        let Some(next) = next else { break };
        outcomes[next] = Some(Outcome::Applied(order.len()));
        order.push(next);
    }
    let finished = outcomes.into_iter().enumerate().map(|(n, outcome)| {
        outcome.unwrap_or_else(|| {
            let parent = missing(packages[n], packages, &order, target);
            Outcome::Elsewhere(parent.map(does_not_apply).unwrap_or_default())
        })
    });
    Ordered { outcomes: finished.collect(), order }
}

fn elsewhere(manifest: &PackageManifest, target: &VendorTarget) -> Option<String> {
    if let (Some(own), Some(wanted)) = (manifest.identity.architecture(), target.architecture)
        && own != wanted
    {
        return Some(format!("it is for {}, and the edition is {}", own.name(), wanted.name()));
    }
    let language = manifest.identity.language().filter(|_| !manifest.is_language())?;
    let is_there = target.languages.iter().any(|own| own.eq_ignore_ascii_case(language));
    (!is_there && !target.languages.is_empty())
        .then(|| format!("it is for {language}, and the edition has {}", target.languages.join(", ")))
}

fn not_needed(
    n: usize,
    packages: &[&VendorPackage],
    manifests: &[&PackageManifest],
    outcomes: &[Option<Outcome>],
    target: &VendorTarget,
) -> Option<String> {
    let own = &manifests[n].identity;
    let kin = target.records.iter().filter(|there| there.is_kin(own));
    if let Some(there) =
        kin.max_by_key(|there| there.version()).filter(|there| there.version() >= own.version())
    {
        return Some(if there.version() == own.version() {
            "it is in the edition already".into()
        } else {
            format!("the edition has {there} already")
        });
    }
    for (m, other) in manifests.iter().enumerate() {
        if m == n || matches!(outcomes[m], Some(Outcome::Elsewhere(_) | Outcome::Skipped(_))) {
            continue;
        }
        // What must be in before another is needed for that, though the other holds it.
        let is_twin = other.identity.is_kin(own) && other.identity.version() <= own.version();
        if !is_twin && packages[m].parents().any(|parent| parent.is_met_by(own)) {
            continue;
        }
        if other
            .replaces
            .iter()
            .any(|gone| gone.is_kin(own) && (gone.version.is_empty() || gone.version() >= own.version()))
        {
            return Some(format!("{} replaces it", other.identity));
        }
        let newer = (other.identity.version(), m) > (own.version(), n);
        if other.identity.is_kin(own) && newer {
            let is_same = other.identity.version() == own.version();
            let word = if is_same { "is the same" } else { "is newer" };
            return Some(format!("{} {word}", other.identity));
        }
    }
    None
}

/// The first that a package goes into and that is not there.
fn missing<'a>(
    package: &'a VendorPackage,
    packages: &[&VendorPackage],
    order: &[usize],
    target: &VendorTarget,
) -> Option<&'a Parent> {
    let others = || packages.iter().filter(|other| !std::ptr::eq(**other, package));
    let known = |parent: &&Parent| {
        // Without records nobody can say what the edition has; what is among the packages still goes in before.
        let is_among = || others().any(|other| other.identities().any(|own| parent.is_met_by(own)));
        !target.records.is_empty() || is_among()
    };
    let mut wanted = package.parents().filter(known);
    wanted.find(|parent| {
        let brought = order.iter().flat_map(|n| packages[*n].identities());
        !target.records.iter().chain(brought).any(|there| parent.is_met_by(there))
    })
}

/// Why a package that goes into something that is not there stays out.
fn does_not_apply(parent: &Parent) -> String {
    const SHOWN: usize = 3;
    let names: Vec<String> = parent.any_of.iter().take(SHOWN).map(ToString::to_string).collect();
    let more = if parent.any_of.len() > SHOWN { " or others" } else { "" };
    format!(
        "it goes into {}{more}, which is neither in the edition nor among the packages that go in",
        names.join(" or ")
    )
}
