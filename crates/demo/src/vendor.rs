//! A vendor's packages for Quay OS 7, as vendors make them: setup or the installed system puts them in.

use crate::{RELEASED, packs::cabinet, words};
use neat_content::{Content, Job, Meta, Result, Tree};
use neat_image::{ImageDraft, capture};

fn manifest(name: &str, version: &str, attributes: &str, inside: &str) -> Vec<u8> {
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<assembly xmlns=\"urn:schemas-brackwater:package\">\r\n  \
         <assemblyIdentity name=\"{name}\" version=\"{version}\" processorArchitecture=\"amd64\" language=\"neutral\" \
         publicKeyToken=\"bw7ferry\" />\r\n  <package identifier=\"{name}\" {attributes}>\r\n{inside}  \
         </package>\r\n</assembly>\r\n"
    )
    .into_bytes()
}

fn parent(name: &str, version: &str) -> String {
    format!("    <parent><assemblyIdentity name=\"{name}\" version=\"{version}\" /></parent>\r\n")
}

/// Puts the packages into the demo folder's tree.
pub(crate) fn put_all(tree: &mut Tree, job: &Job<'_>) -> Result<()> {
    let meta = Meta::at(RELEASED);
    let mut put = |path: &str, bytes: Content| tree.put_file(path, bytes, meta).map(drop);
    let fix =
        manifest("QB900112", "7.0.7042.12", "releaseType=\"Update\"", &parent("printing-base", "7.0.7042.0"));
    let fix = cabinet(&[("update.mum".into(), fix), ("tickets.lib".into(), words::program(711, 40_000))])?;
    let bundle =
        cabinet(&[("qb900112-x64.cab".into(), fix), ("readme.txt".into(), words::prose("qb900112", 900))])?;
    put("vendor/qb900112-x64.msu", Content::from_bytes(bundle))?;
    let semaphore = "    <update name=\"semaphore\" displayName=\"Semaphore\" />\r\n";
    let semaphore = manifest("Quay-Semaphore", "7.0.7042.1", "releaseType=\"Feature Pack\"", semaphore);
    let semaphore =
        cabinet(&[("update.mum".into(), semaphore), ("semaphore.lib".into(), words::program(712, 30_000))])?;
    put("vendor/quay-semaphore-x64.cab", Content::from_bytes(semaphore))?;
    // The newer kind is an image file, with what patches are made into files by the system that gets them.
    let rollup = manifest(
        "QB900115",
        "7.0.7091.40",
        "releaseType=\"Update\" restart=\"required\"",
        &parent("QB900112", ""),
    );
    let mut inside = Tree::new(meta);
    inside.put_file("update.mum", Content::from_bytes(rollup), meta)?;
    inside.put_file("qb900115-x64.psf", Content::from_bytes(words::program(713, 60_000)), meta)?;
    let mut draft = ImageDraft::new(None);
    let captured = capture::from_tree(&inside, job)?;
    for (digest, content) in captured.blobs {
        draft.add_blob(digest, content);
    }
    draft.add_edition(captured.files, capture::image_element("QB900115", "", 0))?;
    put("vendor/qb900115-x64.msu", draft.to_content(&std::env::temp_dir(), 0, job)?)
}
