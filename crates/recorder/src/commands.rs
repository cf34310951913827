//! The commands that are sent, as the standard lays them out. Lengths of CDBs are those of their operation codes.

/// `TEST UNIT READY` (SPC-4, 6.37).
#[must_use]
pub const fn test_unit_ready() -> [u8; 6] {
    [0x00, 0, 0, 0, 0, 0]
}

/// `INQUIRY` (SPC-4, 6.4); with a page of vital product data, or the standard data.
#[must_use]
pub const fn inquiry(page: Option<u8>, len: u8) -> [u8; 6] {
    match page {
        Some(page) => [0x12, 1, page, 0, len, 0],
        None => [0x12, 0, 0, 0, len, 0],
    }
}

/// `GET CONFIGURATION` (MMC-5, 6.6): one feature.
#[must_use]
pub fn get_configuration(feature: u16, len: u16) -> [u8; 10] {
    let ([f0, f1], [l0, l1]) = (feature.to_be_bytes(), len.to_be_bytes());
    [0x46, 0x02, f0, f1, 0, 0, 0, l0, l1, 0]
}

/// `READ DISC INFORMATION` (MMC-5, 6.22): the standard block.
#[must_use]
pub fn read_disc_information(len: u16) -> [u8; 10] {
    let [l0, l1] = len.to_be_bytes();
    [0x51, 0, 0, 0, 0, 0, 0, l0, l1, 0]
}

/// `READ TRACK INFORMATION` (MMC-5, 6.27) by the track's number; 0xFF is the one that is not there yet.
#[must_use]
pub fn read_track_information(track: u32, len: u16) -> [u8; 10] {
    let ([t0, t1, t2, t3], [l0, l1]) = (track.to_be_bytes(), len.to_be_bytes());
    [0x52, 0x01, t0, t1, t2, t3, 0, l0, l1, 0]
}

/// `READ FORMAT CAPACITIES` (MMC-5, 6.24).
#[must_use]
pub fn read_format_capacities(len: u16) -> [u8; 10] {
    let [l0, l1] = len.to_be_bytes();
    [0x23, 0, 0, 0, 0, 0, 0, l0, l1, 0]
}

/// `READ CAPACITY` (MMC-5, 6.21).
#[must_use]
pub const fn read_capacity() -> [u8; 10] {
    [0x25, 0, 0, 0, 0, 0, 0, 0, 0, 0]
}

/// `GET PERFORMANCE` (MMC-5, 6.8): descriptors of speeds of writing.
#[must_use]
pub fn get_write_speeds(count: u16) -> [u8; 12] {
    let [c0, c1] = count.to_be_bytes();
    [0xAC, 0, 0, 0, 0, 0, 0, 0, c0, c1, 0x03, 0]
}

/// `SET CD SPEED` (MMC-5, annex): kilobytes in a second, for reading the most.
#[must_use]
pub fn set_cd_speed(kilobytes: u16) -> [u8; 12] {
    let [k0, k1] = kilobytes.to_be_bytes();
    [0xBB, 0, 0xFF, 0xFF, k0, k1, 0, 0, 0, 0, 0, 0]
}

/// `SET STREAMING` (MMC-5, 6.39), and its descriptor: the whole disc, kilobytes in a thousand milliseconds.
#[must_use]
pub fn set_streaming(blocks: u32, kilobytes: u32) -> ([u8; 12], [u8; 28]) {
    let mut descriptor = [0; 28];
    for (at, value) in
        [(8, blocks.saturating_sub(1)), (12, kilobytes), (16, 1000), (20, kilobytes), (24, 1000)]
    {
        descriptor[at..at + 4].copy_from_slice(&value.to_be_bytes());
    }
    ([0xB6, 0, 0, 0, 0, 0, 0, 0, 0, 0, 28, 0], descriptor)
}

/// `MODE SENSE (10)` (SPC-4, 6.12) of the page of write parameters, 0x05.
#[must_use]
pub fn mode_sense_write(len: u16) -> [u8; 10] {
    let [l0, l1] = len.to_be_bytes();
    [0x5A, 0x08, 0x05, 0, 0, 0, 0, l0, l1, 0]
}

/// `MODE SELECT (10)` (SPC-4, 6.10).
#[must_use]
pub fn mode_select(len: u16) -> [u8; 10] {
    let [l0, l1] = len.to_be_bytes();
    [0x55, 0x10, 0, 0, 0, 0, 0, l0, l1, 0]
}

/// `SEND OPC INFORMATION` (MMC-5, 6.35): calibrate the power.
#[must_use]
pub const fn send_opc() -> [u8; 10] {
    [0x54, 0x01, 0, 0, 0, 0, 0, 0, 0, 0]
}

/// `RESERVE TRACK` (MMC-5, 6.32): so many blocks.
#[must_use]
pub fn reserve_track(blocks: u32) -> [u8; 10] {
    let [b0, b1, b2, b3] = blocks.to_be_bytes();
    [0x53, 0, 0, 0, 0, b0, b1, b2, b3, 0]
}

/// `WRITE (10)` (MMC-5, 6.44).
#[must_use]
pub fn write_blocks(block: u32, count: u16) -> [u8; 10] {
    let ([b0, b1, b2, b3], [c0, c1]) = (block.to_be_bytes(), count.to_be_bytes());
    [0x2A, 0, b0, b1, b2, b3, 0, c0, c1, 0]
}

/// `READ (10)` (MMC-5, 6.15).
#[must_use]
pub fn read_blocks(block: u32, count: u16) -> [u8; 10] {
    let ([b0, b1, b2, b3], [c0, c1]) = (block.to_be_bytes(), count.to_be_bytes());
    [0x28, 0, b0, b1, b2, b3, 0, c0, c1, 0]
}

/// `SYNCHRONIZE CACHE` (MMC-5, 6.41), without waiting for its end.
#[must_use]
pub const fn synchronize_cache() -> [u8; 10] {
    [0x35, 0x02, 0, 0, 0, 0, 0, 0, 0, 0]
}

/// What `CLOSE TRACK SESSION` closes (MMC-5, 6.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Close {
    /// A track.
    Track(u16),
    /// The session; a CD or DVD-R is complete then. On DVD+RW formatting in the background ends.
    Session,
    /// The whole disc, so that every drive reads it (DVD+R, BD-R).
    Disc,
}

/// `CLOSE TRACK SESSION` (MMC-5, 6.3), without waiting for its end.
#[must_use]
pub fn close(what: Close) -> [u8; 10] {
    let (function, track) = match what {
        Close::Track(track) => (1, track),
        Close::Session => (2, 0),
        Close::Disc => (6, 0),
    };
    let [t0, t1] = track.to_be_bytes();
    [0x5B, 0x01, function, 0, t0, t1, 0, 0, 0, 0]
}

/// `BLANK` (MMC-5, 6.2), without waiting for its end: all of the disc, or what says what is on it.
#[must_use]
pub const fn blank(whole: bool) -> [u8; 12] {
    [0xA1, if whole { 0x10 } else { 0x11 }, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]
}

/// `FORMAT UNIT` (MMC-5, 6.5), without waiting for its end, and its parameters.
#[must_use]
pub fn format_unit(blocks: u32, kind: u8, parameter: u32) -> ([u8; 6], [u8; 12]) {
    let [b0, b1, b2, b3] = blocks.to_be_bytes();
    let [_, p0, p1, p2] = parameter.to_be_bytes();
    ([0x04, 0x11, 0, 0, 0, 0], [0, 0x82, 0, 8, b0, b1, b2, b3, kind << 2, p0, p1, p2])
}

/// `PREVENT ALLOW MEDIUM REMOVAL` (MMC-5, 6.13).
#[must_use]
pub const fn prevent_removal(prevent: bool) -> [u8; 6] {
    [0x1E, 0, 0, 0, prevent as u8, 0]
}

/// `START STOP UNIT` (MMC-5, 6.40): takes the disc out.
#[must_use]
pub const fn eject() -> [u8; 6] {
    [0x1B, 0, 0, 0, 0x02, 0]
}

/// `START STOP UNIT` (MMC-5, 6.40): has the disc turn, or stop.
#[must_use]
pub const fn turn(on: bool) -> [u8; 6] {
    [0x1B, 0, 0, 0, on as u8, 0]
}

/// The name of a command, for people and for lists.
#[must_use]
pub fn name(command: &[u8]) -> &'static str {
    match command.first().copied().unwrap_or(0xFF) {
        0x00 => "TEST UNIT READY",
        0x04 => "FORMAT UNIT",
        0x12 => "INQUIRY",
        0x1B => "START STOP UNIT",
        0x1E => "PREVENT ALLOW MEDIUM REMOVAL",
        0x23 => "READ FORMAT CAPACITIES",
        0x25 => "READ CAPACITY",
        0x28 => "READ (10)",
        0x2A => "WRITE (10)",
        0x35 => "SYNCHRONIZE CACHE",
        0x46 => "GET CONFIGURATION",
        0x51 => "READ DISC INFORMATION",
        0x52 => "READ TRACK INFORMATION",
        0x53 => "RESERVE TRACK",
        0x54 => "SEND OPC INFORMATION",
        0x55 => "MODE SELECT (10)",
        0x5A => "MODE SENSE (10)",
        0x5B => "CLOSE TRACK SESSION",
        0xA1 => "BLANK",
        0xAC => "GET PERFORMANCE",
        0xB6 => "SET STREAMING",
        0xBB => "SET CD SPEED",
        _ => "an unknown command",
    }
}
