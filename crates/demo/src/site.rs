//! What the technician of Brackwater Ferries brings: an answer file, site files and the stack file.

use crate::{DISK_BOOT_CODE, MEDIA_NAME, RELEASED, STACK_NAME};
use neat_content::{Content, Meta, Result, Tree};

const STACK: &str = r#"# The bridge consoles of Brackwater Ferries.
# `neatstack plan bridge.stack.toml` shows what this does, `neatstack build bridge.stack.toml` does it.
title = "Bridge console"

[source]
media = "@MEDIA@"
# Consoles on the bridge need one of the three editions.
editions = ["Quay OS 7 Bridge"]

# Wallpaper, charts and the telephone list go along on the media.
[[place]]
from = "site-files/"
to = "media:/brackwater"

# Setup finds this in the root of the media and asks nothing.
[answer]
file = "bridge-answers.xml"

[media]
label = "BRIDGE_7"
iso = "out/bridge.iso"
publisher = "BRACKWATER FERRIES"
# The same file starts from a disc and, written to a stick, as a disk.
hybrid = true
boot_code = "boot-code.bin"
"#;

const ANSWERS: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<unattend xmlns="urn:schemas-brackwater:unattend">
  <settings pass="setup">
    <component name="Quay-Setup" processorArchitecture="amd64">
      <DiskConfiguration>
        <Disk>
          <DiskID>0</DiskID>
          <WillWipeDisk>true</WillWipeDisk>
        </Disk>
      </DiskConfiguration>
      <ComputerName>BRIDGE-01</ComputerName>
      <TimeZone>Europe/London</TimeZone>
    </component>
  </settings>
</unattend>
"#;

/// The files, by their path in the demo folder.
pub(crate) fn tree() -> Result<Tree> {
    let meta = Meta::at(RELEASED);
    let mut tree = Tree::new(meta);
    let mut put = |path: &str, bytes: &[u8]| tree.put_file(path, Content::from_bytes(bytes), meta).map(drop);
    put(STACK_NAME, STACK.replace("@MEDIA@", MEDIA_NAME).as_bytes())?;
    put("bridge-answers.xml", ANSWERS.as_bytes())?;
    put("boot-code.bin", DISK_BOOT_CODE)?;
    put("site-files/telephone-list.txt", b"Bridge 100\r\nEngine room 200\r\nHarbour office 300\r\n")?;
    put("site-files/charts/approach.txt", &crate::words::prose("approach", 12_000))?;
    put("site-files/wallpaper.bmp", &bitmap())?;
    Ok(tree)
}

/// A small picture: a flag of two colours.
fn bitmap() -> Vec<u8> {
    const SIDE: u32 = 64;
    let data_len = SIDE * SIDE * 3;
    let mut bytes = b"BM".to_vec();
    for word in [54 + data_len, 0, 54, 40, SIDE, SIDE, 1 | 24 << 16, 0, data_len, 2835, 2835, 0, 0] {
        bytes.extend(word.to_le_bytes());
    }
    for row in 0..SIDE {
        for _ in 0..SIDE {
            bytes.extend(if row < SIDE / 2 { [0x8B, 0x3A, 0x0E] } else { [0xF4, 0xEF, 0xE6] });
        }
    }
    bytes
}
