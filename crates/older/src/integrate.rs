//! A service pack's files in place of those of the media, and fixes where setup runs them.

use crate::{
    FileVersion, OlderPackage, OlderSetup,
    text::{edit, with_line, with_value},
};
use neat_content::{Content, Error, Hold, Job, Meta, NodeId, Result, Tree, counted};
use neat_package::{SingleForm, compress_single, expand_single, single_name};

/// Longest content that is looked into, in bytes.
const LARGEST: u64 = 1 << 30;
/// The list of fixes that setup runs, the folder that they lie in, and the list of folders that setup copies.
const LIST: &str = "svcpack.inf";
const FOLDER: &str = "svcpack";
const COPIED: &str = "dosnet.inf";
/// Endings of files that describe what there is: those of the service pack know its files too.
const DESCRIPTIONS: [&str; 2] = [".sif", ".inf"];

/// What a service pack did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Integrated {
    /// Files that were replaced.
    pub replaced: u64,
    /// Files that the media did not have.
    pub added: u64,
    /// Files of the media that are as new or newer, and stayed.
    pub kept: u64,
    /// Bytes that the media has more now.
    pub bytes: i64,
}

impl Integrated {
    /// In words.
    pub fn words(&self) -> String {
        let replaced = counted(self.replaced, "file replaced", "files replaced");
        let added = counted(self.added, "new file", "new files");
        let kept = counted(self.kept, "file stays, as it is as new", "files stay, as they are as new");
        format!("{replaced}, {added}, {kept}")
    }
}

/// A file as it is without compression.
struct Plain {
    content: Content,
    /// Whether it was compressed by itself.
    was_packed: bool,
    version: Option<FileVersion>,
}

impl Plain {
    fn of(name: &str, content: &Content) -> Result<(String, Self)> {
        let expanded = expand_single(name, content, LARGEST)?;
        let was_packed = expanded.is_some();
        let (name, content) =
            expanded.map_or_else(|| (name.to_owned(), content.clone()), |own| (own.name, own.content));
        let mut first = [0; 2];
        let is_program = content.len() >= 2 && content.len() <= LARGEST && {
            neat_content::ReadAt::read_exact_at(&content, 0, &mut first)?;
            first == *b"MZ"
        };
        let version = if is_program {
            // What a damaged program says of its version is nothing.
            FileVersion::of(&content.to_vec(LARGEST, "program")?).ok().flatten()
        } else {
            None
        };
        Ok((name, Self { content, was_packed, version }))
    }
}

/// Puts the files of a service pack into a setup: in place of what is older there, by the versions of programs, and
/// otherwise by their times; each in the form in which the media has it. Information files are the service pack's.
///
/// # Errors
/// What the system refuses, those of damaged files of the package, and those of being stopped.
pub fn integrate(
    tree: &mut Tree,
    setup: &OlderSetup,
    package: &OlderPackage,
    hold: &Hold,
    job: &Job<'_>,
) -> Result<Integrated> {
    let mut done = Integrated::default();
    let inside = format!("{}/", package.folder);
    let own: Vec<(String, NodeId)> = package
        .tree
        .walk()
        .filter_map(|step| Some((step.path.strip_prefix(&inside)?.to_owned(), step.id)))
        .filter(|(path, id)| package.tree.node(*id).content().is_some() && !is_of_the_package(path))
        .collect();
    for (path, id) in own {
        job.check()?;
        let node = package.tree.node(id);
        let Some(content) = node.content() else { continue };
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
        let (name, new) = Plain::of(name, content).map_err(|error| error.within(&path))?;
        let base =
            if folder.is_empty() { setup.folder.clone() } else { format!("{}/{folder}", setup.folder) };
        let packed_name = single_name(&name);
        let plain = tree.find_ignoring_case(&format!("{base}/{name}"));
        let packed = packed_name.as_ref().and_then(|own| tree.find_ignoring_case(&format!("{base}/{own}")));
        let there = plain.or(packed);
        if let Some(there) = there {
            let old = tree.node(there);
            let Some(old_content) = old.content() else { continue };
            let (_, before) =
                Plain::of(old.name(), old_content).map_err(|error| error.within(tree.path(there)))?;
            if !is_newer(&name, &new, &before, node.meta, old.meta) {
                done.kept += 1;
                continue;
            }
            done.bytes -= old_content.len() as i64;
            done.replaced += 1;
        } else {
            done.added += 1;
        }
        let target = there.map_or_else(|| format!("{base}/{name}"), |there| tree.path(there));
        // As the media has it; what is new comes as the package has it.
        let is_packed = there.map_or(new.was_packed, |there| Some(there) == packed);
        let bytes = if is_packed {
            let plain = new.content.to_vec(LARGEST, "file of a service pack")?;
            let packed = compress_single(&name, &plain, SingleForm::Cabinet, node.meta.modified)?;
            let mut spool = hold.spool(packed.len() as u64);
            spool.push(&packed)?;
            spool.content()?
        } else {
            new.content
        };
        let target = match (there, is_packed, packed_name) {
            (None, true, Some(packed)) => format!("{base}/{packed}"),
            _ => target,
        };
        done.bytes += bytes.len() as i64;
        tree.put_file(&target, bytes, node.meta)?;
    }
    Ok(done)
}

/// Files that only the package's own program needs.
fn is_of_the_package(path: &str) -> bool {
    path.to_ascii_lowercase().starts_with("update/")
}

fn is_newer(name: &str, new: &Plain, old: &Plain, new_meta: Meta, old_meta: Meta) -> bool {
    let lower = name.to_ascii_lowercase();
    match (new.version, old.version) {
        (Some(new), Some(old)) => new.numbers > old.numbers,
        (Some(_), None) => true,
        (None, Some(_)) => false,
        (None, None) => {
            DESCRIPTIONS.iter().any(|ending| lower.ends_with(ending)) || new_meta.modified > old_meta.modified
        }
    }
}

/// Notes the number of the service pack where the media says what it is.
///
/// # Errors
/// What the system refuses to read.
pub fn note_service_pack(tree: &mut Tree, setup: &OlderSetup, number: u32) -> Result<()> {
    edit(tree, &format!("{}/prodspec.ini", setup.folder), |text| {
        with_value(text, "Product Specification", "ServicePackNumber", &number.to_string())
    })
}

/// Puts a fix where setup copies it from, and into the list of those that it runs when it ends, after those that are there.
/// Returns its path on the media.
///
/// # Errors
/// `Request` for a name that setup cannot have (eight letters or digits and the ending `exe`); what the system refuses.
pub fn stage_fix(
    tree: &mut Tree,
    setup: &OlderSetup,
    name: &str,
    content: Content,
    meta: Meta,
    arguments: &str,
) -> Result<String> {
    let is_plain = |text: &str, most: usize| {
        (1..=most).contains(&text.len())
            && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_')
    };
    let fits = name
        .rsplit_once('.')
        .is_some_and(|(stem, ending)| is_plain(stem, 8) && ending.eq_ignore_ascii_case("exe"));
    if !fits {
        return Err(Error::request(
            format!("setup copies no file with the name {name}"),
            "give the fix a name of at most eight letters, digits and `_`, with the ending .exe",
        ));
    }
    if arguments.contains(['\r', '\n', '"', ';', '\0']) {
        return Err(Error::request(
            format!("{name}: its arguments cannot stand in setup's list of fixes: {arguments:?}"),
            "write them in one line, without quotes and semicolons",
        ));
    }
    let path = format!("{}/{FOLDER}/{}", setup.folder, name.to_ascii_uppercase());
    tree.put_file(&path, content, meta)?;
    let list = format!("{}/{LIST}", setup.folder);
    if tree.file(&list).is_none() {
        let fresh = "[Version]\r\nSignature=\"$Windows NT$\"\r\n\r\n[SetupHotfixesToRun]\r\n";
        tree.put_file(&list.to_ascii_uppercase(), Content::from_bytes(fresh.as_bytes()), meta)?;
    }
    let line = format!("{} {arguments}", name.to_ascii_uppercase());
    edit(tree, &list, |text| with_line(text, "SetupHotfixesToRun", line.trim()))?;
    edit(tree, &format!("{}/{COPIED}", setup.folder), |text| with_line(text, "OptionalSrcDirs", FOLDER))?;
    Ok(path)
}
