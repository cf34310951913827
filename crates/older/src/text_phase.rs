//! Drivers for the text phase: setup loads them before it looks for a disk, by what its description says of them.

use crate::{
    OlderSetup,
    text::{edit, with_line, with_value},
};
use neat_content::{Content, Error, Meta, Result, Tree};
use neat_package::{Inf, Service, SingleForm, compress_single, single_name};

/// Largest program of a driver, in bytes.
const LARGEST: u64 = 64 << 20;
/// The list of files that setup copies when it is not started from a disc.
const COPIED: &str = "dosnet.inf";
/// Longest description, in characters.
const LONGEST: usize = 60;

/// What became of a driver of the text phase.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextDriver {
    /// Path of its program on the media.
    pub path: String,
    /// Hardware ids that setup loads it for.
    pub ids: usize,
    /// Whether the media had a driver of this name.
    pub replaced: bool,
    /// Bytes that the media has more now.
    pub bytes: i64,
}

/// Puts a service's program where setup loads it from in its text phase, and describes it: its file
/// (`[SourceDisksFiles]`), its devices (`[HardwareIdsDatabase]`), and that it is one for disks (`[SCSI.load]`, `[SCSI]`).
/// One of the same name makes room.
///
/// # Errors
/// `Request` for what setup could not load: names that are longer than eight letters, devices that are on no bus; what the
/// system refuses.
pub fn add_text_driver(
    tree: &mut Tree,
    setup: &OlderSetup,
    service: &Service,
    program: &Content,
    meta: Meta,
) -> Result<TextDriver> {
    let (name, binary) = (service.name.as_str(), service.binary.as_str());
    if !is_short(binary) || single_name(binary).is_none() {
        return Err(Error::request(
            format!("setup's text phase loads no file with the name {binary}"),
            "take a driver whose file has a name of at most eight letters, digits and `_`, and an ending",
        ));
    }
    if !is_word(name) {
        return Err(Error::request(
            format!("setup's text phase has no driver with the name {name:?}"),
            "take a driver whose service has a name of letters, digits and `_`",
        ));
    }
    let ids: Vec<&str> =
        service.hardware_ids.iter().map(String::as_str).filter(|id| is_on_a_bus(id)).collect();
    if ids.is_empty() {
        return Err(Error::request(
            format!("{name} names no device that setup's text phase finds"),
            "take a driver for a device on a bus, such as PCI\\VEN_…&DEV_…",
        ));
    }
    let description = setup.description.clone();
    let Some(content) = tree.file(&description) else {
        return Err(Error::request(
            format!("{description} is not on the media"),
            "take a media that setup starts from",
        ));
    };
    let said = Inf::read(&content.to_vec(16 << 20, "description of setup")?)?;
    let files = format!("{}/{binary}", setup.folder);
    let packed = single_name(binary).unwrap_or_default();
    let mut bytes = 0;
    let mut replaced = false;
    for old in [files, format!("{}/{packed}", setup.folder)] {
        if let Some(id) = tree.find_ignoring_case(&old) {
            bytes -= tree.node(id).content().map_or(0, Content::len) as i64;
            tree.remove(id);
            replaced = true;
        }
    }
    let plain = program.to_vec(LARGEST, "program of a driver")?;
    let compressed = compress_single(binary, &plain, SingleForm::Cabinet, meta.modified)?;
    bytes += compressed.len() as i64;
    let path = format!("{}/{}", setup.folder, packed.to_ascii_uppercase());
    tree.put_file(&path, Content::from_bytes(compressed), meta)?;
    let section = section_of(&said, binary, &setup.architecture);
    // Compressed in the place of drivers; copied there, and only when a system is new.
    let line = format!("{},,,,,,4_,4,1,,,1,4", disk_of(&said));
    let lower = binary.to_ascii_lowercase();
    edit(tree, &description, |text| {
        let mut text = with_value(text, &section, &lower, &line);
        for id in &ids {
            text = with_value(&text, "HardwareIdsDatabase", id, &format!("\"{name}\""));
        }
        let text = with_value(&text, "SCSI.load", name, &format!("{lower},4"));
        with_value(&text, "SCSI", name, &format!("\"{}\"", shown(&service.description, name)))
    })?;
    // What installs from a folder or over the network copies what is listed there.
    edit(tree, &format!("{}/{COPIED}", setup.folder), |text| {
        with_line(text, "Files", &format!("d1,{lower}"))
    })?;
    Ok(TextDriver { path, ids: ids.len(), replaced, bytes })
}

fn is_word(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-'))
}

/// Whether a name has at most eight characters, a point, and at most three.
fn is_short(name: &str) -> bool {
    let short = |text: &str, most: usize| text.len() <= most && is_word(text);
    name.rsplit_once('.').is_some_and(|(stem, ending)| short(stem, 8) && short(ending, 3))
}

/// Whether an id is a device's on a bus, without what would end it in a line of a description.
fn is_on_a_bus(id: &str) -> bool {
    let is_plain = |c: char| c.is_ascii_graphic() && !matches!(c, '"' | '=' | ';' | '[' | ']' | '%' | ',');
    id.contains('\\') && !id.starts_with('*') && id.chars().all(is_plain)
}

/// A description in one line, without signs that mean something there.
fn shown(text: &str, name: &str) -> String {
    let clean: String =
        text.chars().filter(|c| !c.is_control() && !matches!(c, '"' | '%')).take(LONGEST).collect();
    if clean.trim().is_empty() { name.to_owned() } else { clean.trim().to_owned() }
}

/// The section that says where the file comes from: the architecture's own, if it is there already.
fn section_of(said: &Inf, binary: &str, architecture: &str) -> String {
    let word = if architecture == "x64" { "amd64" } else { architecture };
    let own = format!("SourceDisksFiles.{word}");
    if said.line(&own, binary).is_some() { own } else { "SourceDisksFiles".into() }
}

/// The number of the disc that drivers come from.
fn disk_of(said: &Inf) -> String {
    let lines = said.sections().filter(|name| name.to_ascii_lowercase().starts_with("sourcedisksfiles"));
    let is_driver = |line: &&neat_package::InfLine| line.value(7) == "4";
    let found = lines.flat_map(|name| said.lines(name)).find(is_driver).map(|line| line.value(0).to_owned());
    found.filter(|own| is_word(own)).unwrap_or_else(|| "1".into())
}
