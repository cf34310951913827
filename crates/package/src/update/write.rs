//! A folder to a package.

use super::{FILES_FOLDER, ListedFile, MANIFEST_NAME, Manifest, Update, UpdateSection};
use neat_content::{Content, DigestKind, Error, Job, Output, Result, Tree, digest_of};
use ruzstd::encoding::{CompressionLevel, compress_to_vec};

/// Bytes of the tar file that are packed together; each part is a frame of its own, so that memory stays bounded.
const FRAME: usize = 8 << 20;

/// Writes an update package to `output`: the manifest, the files of `tree` below `files/`, and the registration texts
/// that the manifest names, which are found in `texts` in the same order. The manifest lists all of them with length and
/// digest. The same input gives the same bytes.
///
/// # Errors
/// `Io`, `BadRequest` for names that no package can hold, `Cancelled`.
pub fn write_update(
    section: &UpdateSection,
    tree: &Tree,
    texts: &[(String, Content)],
    output: &mut Output,
    job: &Job<'_>,
) -> Result<()> {
    super::model::check(section)?;
    let mut packed: Vec<(String, &Content)> = texts.iter().map(|(name, text)| (name.clone(), text)).collect();
    for step in tree.walk() {
        if let Some(content) = tree.node(step.id).content() {
            packed.push((format!("{FILES_FOLDER}/{}", step.path), content));
        }
    }
    let list = |(path, content): &(String, &Content)| {
        let sha256 = digest_of(content, DigestKind::Sha256, job)?;
        Ok(ListedFile { path: path.clone(), size: content.len(), sha256 })
    };
    let files = packed.iter().map(list).collect::<Result<_>>()?;
    let manifest = Manifest { format: Manifest::FORMAT, update: section.clone(), files };
    let text = toml::to_string(&manifest)
        .map_err(|error| Error::request(format!("the manifest: {error}"), "give plain texts"))?;
    let mut frames = Frames { output, held: Vec::new() };
    frames.entry(MANIFEST_NAME, &Content::from_bytes(text.into_bytes()), job)?;
    for (path, content) in packed {
        frames.entry(&path, content, job)?;
    }
    // Two empty blocks end a tar file.
    frames.push(&[0; 1024])?;
    frames.flush()
}

struct Frames<'a> {
    output: &'a mut Output,
    held: Vec<u8>,
}

impl Frames<'_> {
    fn entry(&mut self, path: &str, content: &Content, job: &Job<'_>) -> Result<()> {
        job.check()?;
        let mut header = tar::Header::new_ustar();
        header.set_entry_type(tar::EntryType::Regular);
        header.set_mode(0o644);
        header.set_mtime(0);
        header.set_uid(0);
        header.set_gid(0);
        header.set_size(content.len());
        if header.set_path(path).is_err() {
            return Err(Error::request(
                format!("{path} is too long for an update package"),
                "use shorter folder names; 100 bytes for a name and 155 for its folders fit",
            ));
        }
        header.set_cksum();
        self.push(header.as_bytes())?;
        content.for_each_block(1 << 20, job, &mut |block| self.push(block))?;
        let padding = (512 - content.len() % 512) % 512;
        self.push(&[0; 512][..padding as usize])
    }

    fn push(&mut self, bytes: &[u8]) -> Result<()> {
        self.held.extend_from_slice(bytes);
        if self.held.len() >= FRAME { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> Result<()> {
        let packed = compress_to_vec(self.held.as_slice(), CompressionLevel::Fastest);
        self.held.clear();
        self.output.write_bytes(&packed)
    }
}

impl Update {
    /// One line for a list.
    pub fn line(&self) -> String {
        let section = &self.section;
        let title = if section.title.is_empty() { "" } else { ": " };
        format!("{} {}{title}{}", section.id, section.version, section.title)
    }
}
