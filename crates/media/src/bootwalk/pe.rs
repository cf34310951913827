//! Headers of UEFI applications (PE format, Microsoft's published description, sections 2 to 4).

use neat_content::{Content, ReadAt, Result, read_vec};

/// For which processors an application is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Machine(pub u16);

impl Machine {
    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self.0 {
            0x014C => "x86",
            0x8664 => "x64",
            0xAA64 => "arm64",
            0x01C2 | 0x01C4 => "arm",
            0x5064 => "riscv64",
            0x6264 => "loongarch64",
            _ => "an unknown processor",
        }
    }

    /// The removable-media name that firmware of this kind looks for (UEFI specification 3.5.1.1).
    pub const fn loader_name(self) -> Option<&'static str> {
        match self.0 {
            0x014C => Some("bootia32.efi"),
            0x8664 => Some("bootx64.efi"),
            0xAA64 => Some("bootaa64.efi"),
            0x01C2 | 0x01C4 => Some("bootarm.efi"),
            0x5064 => Some("bootriscv64.efi"),
            0x6264 => Some("bootloongarch64.efi"),
            _ => None,
        }
    }
}

/// For which processor the UEFI application in `content` is; the text says why it is none.
///
/// # Errors
/// Only when reading fails.
pub fn loader_machine(content: &Content) -> Result<std::result::Result<Machine, String>> {
    let len = ReadAt::len(content);
    if len < 0x40 {
        return Ok(Err(format!("{len} bytes are too few for an application")));
    }
    let dos = read_vec(content, 0, 0x40, 0x40, "DOS header")?;
    if dos[..2] != *b"MZ" {
        return Ok(Err("it does not begin with MZ".into()));
    }
    let word = |bytes: &[u8], at: usize| u16::from_le_bytes([bytes[at], bytes[at + 1]]);
    let at = u64::from(u32::from_le_bytes([dos[0x3C], dos[0x3D], dos[0x3E], dos[0x3F]]));
    if at + 94 > len {
        return Ok(Err(format!("its PE header would begin at byte {at}, past the end")));
    }
    // Signature, COFF header (20 bytes), optional header up to the subsystem.
    let header = read_vec(content, at, 94, 94, "PE header")?;
    if header[..4] != *b"PE\0\0" {
        return Ok(Err(format!("there is no PE header at byte {at}")));
    }
    let magic = word(&header, 24);
    if ![0x10B, 0x20B].contains(&magic) {
        return Ok(Err(format!("its optional header is of the unknown kind {magic:#x}")));
    }
    let subsystem = word(&header, 24 + 68);
    if subsystem != 10 {
        return Ok(Err(format!("it is for the subsystem {subsystem}, not a UEFI application (10)")));
    }
    Ok(Ok(Machine(word(&header, 4))))
}
