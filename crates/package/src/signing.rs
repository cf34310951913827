//! Whether the catalogue of a driver is signed, and covers each of its files.

use crate::{Architecture, Driver, DriverSet, FoundDriver};
use neat_content::{Content, Job, NodeKind, Result, Timestamp, Tree, and_more, damage_apart};
use neat_signature::{Catalogue, Standing, Trusted};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;

/// Files that are named before the rest is only counted.
const SHOWN: usize = 3;

/// What the signature of a driver is worth.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Signing {
    /// It fits, and covers each file.
    Signed,
    /// It fits and covers each file, but a certificate has ended, and nothing says that it was made before.
    Expired,
    /// It is of a kind that is not checked here.
    Unknown,
    /// Nobody signed it.
    Unsigned,
    /// Files, or what was signed, were changed since.
    Altered,
}

impl Signing {
    /// A word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Signed => "signed",
            Self::Expired => "expired",
            Self::Unknown => "unknown",
            Self::Unsigned => "not signed",
            Self::Altered => "altered",
        }
    }
}

/// The signature of a driver.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct DriverSignature {
    /// What it is worth.
    pub state: Signing,
    /// Who signed it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// The authority that a system has to know.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub root: Option<String>,
    /// When, in seconds since 1970, by the word of another.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub signed_at: Option<i64>,
    /// Files that its catalogue does not cover as they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub uncovered: Vec<String>,
    /// What is wrong, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Whether it leads to the authorities that were given; nothing without them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trusted: Option<bool>,
}

impl DriverSignature {
    fn of(state: Signing, why: impl Into<Option<String>>) -> Self {
        Self {
            state,
            by: None,
            root: None,
            signed_at: None,
            uncovered: Vec::new(),
            why: why.into(),
            trusted: None,
        }
    }

    /// What a person has to know of it; nothing where it is in order.
    pub fn remark(&self) -> Option<String> {
        match (self.state, &self.why) {
            (Signing::Signed, _) if self.trusted == Some(false) => {
                Some("signed, but not by an authority that was given".into())
            }
            (Signing::Signed, _) => None,
            (Signing::Unsigned, None) => Some("not signed".into()),
            (state, None) => Some(format!("its signature is {}", state.word())),
            (Signing::Unsigned, Some(why)) => Some(format!("not signed: {why}")),
            (Signing::Altered, Some(why)) => Some(format!("altered: {why}")),
            (_, Some(why)) => Some(why.clone()),
        }
    }
}

impl DriverSet {
    /// The signature of each driver, in their order, for a system of this architecture; of one that does not serve it, for
    /// those that it serves.
    ///
    /// # Errors
    /// As [`Driver::signature`].
    pub fn signatures(
        &self,
        architecture: Architecture,
        check: (Timestamp, Option<&Trusted>),
        job: &Job<'_>,
    ) -> Result<Vec<DriverSignature>> {
        let of = |found: &FoundDriver| {
            let serves = found.driver.architectures();
            let systems = if serves.contains(&architecture) { vec![architecture] } else { serves };
            found.driver.signature(&found.pack.tree, &systems, check, job)
        };
        self.drivers.par_iter().map(of).collect()
    }
}

impl Driver {
    /// The signature of the driver as a system of one of these architectures needs it: of its INF file and each file
    /// that it copies. `now` is when certificates have to hold that nobody vouches for; `roots` are the authorities that
    /// are trusted.
    ///
    /// # Errors
    /// What reading its files gives.
    pub fn signature(
        &self,
        tree: &Tree,
        architectures: &[Architecture],
        (now, roots): (Timestamp, Option<&Trusted>),
        job: &Job<'_>,
    ) -> Result<DriverSignature> {
        let folder = self.path.rsplit_once('/').map_or("", |(folder, _)| folder);
        let content = |path: &str| match tree.find(path).map(|id| &tree.node(id).kind) {
            Some(NodeKind::File(content)) => Some(content.clone()),
            _ => None,
        };
        let named: BTreeSet<String> = self
            .catalogues
            .iter()
            .filter_map(|name| tree.find_ignoring_case(&format!("{folder}/{name}")))
            .map(|id| tree.path(id))
            .collect();
        if named.is_empty() {
            let why = self.catalogues.first().map(|name| format!("its catalogue {name} is missing"));
            return Ok(DriverSignature::of(Signing::Unsigned, why));
        }
        let mut catalogues = Vec::new();
        let mut unreadable = None;
        for content in named.iter().filter_map(|path| content(path)) {
            match damage_apart(Catalogue::read(&content))? {
                Ok(catalogue) => catalogues.push(catalogue),
                Err(error) => unreadable = Some(error.to_string()),
            }
        }
        if catalogues.is_empty() {
            return Ok(DriverSignature::of(
                Signing::Altered,
                unreadable.map(|error| format!("its catalogue cannot be read: {error}")),
            ));
        }
        let mut files: BTreeSet<String> = [self.path.clone()].into();
        for architecture in architectures {
            files.extend(self.files(*architecture, tree).into_iter().filter_map(|file| file.found));
        }
        let files: Vec<(String, Content)> =
            files.into_iter().filter_map(|path| Some((path.clone(), content(&path)?))).collect();
        judge(&catalogues, &files, (now, roots), job)
    }
}

/// What catalogues come to for the files of a driver: as little as the least of those that cover a file.
fn judge(
    catalogues: &[Catalogue],
    files: &[(String, Content)],
    (now, roots): (Timestamp, Option<&Trusted>),
    job: &Job<'_>,
) -> Result<DriverSignature> {
    let mut used = BTreeSet::new();
    let mut uncovered = Vec::new();
    for (path, content) in files {
        let mut by = None;
        for (n, catalogue) in catalogues.iter().enumerate() {
            if catalogue.covers(content, job)? {
                by = Some(n);
                break;
            }
        }
        match by {
            Some(n) => drop(used.insert(n)),
            None => uncovered.push(path.rsplit('/').next().unwrap_or(path).to_owned()),
        }
    }
    let used: Vec<&Catalogue> = if used.is_empty() {
        catalogues.iter().take(1).collect()
    } else {
        used.into_iter().map(|n| &catalogues[n]).collect()
    };
    let state = |own: &Catalogue| match own.standing(now, roots) {
        Standing::Sound => Signing::Signed,
        Standing::Unsigned => Signing::Unsigned,
        Standing::Altered => Signing::Altered,
        Standing::Expired => Signing::Expired,
        Standing::Unknown => Signing::Unknown,
    };
    let Some(worst) = used.iter().copied().max_by_key(|own| state(own)) else {
        return Ok(DriverSignature::of(Signing::Unsigned, None));
    };
    let mut found = DriverSignature::of(state(worst), why(worst, state(worst), now));
    if !uncovered.is_empty() && found.state != Signing::Unsigned {
        found.state = Signing::Altered;
        let rest = and_more(uncovered.len().saturating_sub(SHOWN));
        let names = uncovered.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
        found.why = Some(format!("{names}{rest}: not as the catalogue has it"));
    }
    found.uncovered = uncovered;
    if let Some(signature) = &worst.signature {
        found.by = signature.authorities.first().map(|own| own.name.clone());
        found.root = signature.root().map(str::to_owned);
    }
    found.signed_at =
        worst.countersigned.as_ref().filter(|own| own.signature.is_sound()).map(|own| own.seconds);
    found.trusted = roots.map(|roots| used.iter().all(|own| roots.reach_catalogue(own)));
    Ok(found)
}

fn why(catalogue: &Catalogue, state: Signing, now: Timestamp) -> Option<String> {
    let signature = catalogue.signature.as_ref();
    match state {
        Signing::Signed => None,
        Signing::Unsigned => Some("its catalogue has no signature".into()),
        Signing::Altered => {
            Some("its catalogue was changed since it was signed, or its chain does not fit".into())
        }
        Signing::Expired => {
            let all = || signature.iter().flat_map(|own| &own.authorities);
            let day = |seconds| {
                let time = jiff::Timestamp::from_second(seconds).ok();
                time.map_or_else(String::new, |time| format!(" on {}", time.strftime("%Y-%m-%d")))
            };
            let ended = all().map(|own| own.until).filter(|until| *until < now.seconds).min();
            let begins = all().map(|own| own.from).filter(|from| *from > now.seconds).max();
            Some(match (ended, begins) {
                (Some(ended), _) => {
                    format!("its certificate ended{}, and nothing says that it was signed before", day(ended))
                }
                (None, Some(begins)) => {
                    format!("its certificate begins{}, after the day of this check", day(begins))
                }
                (None, None) => "its certificate did not hold when it was signed".into(),
            })
        }
        Signing::Unknown => {
            let problem = signature.and_then(|own| own.problem.clone());
            Some(format!(
                "its signature is not checked: {}",
                problem.unwrap_or_else(|| "its chain has keys of a kind that is not known here".into())
            ))
        }
    }
}
