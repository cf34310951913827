//! Disks that no other program here makes: with an open log, and standing on another. Written by hand as the public
//! descriptions say, from disks of another program's making.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

mod support;

use neat_drive::open_path;
use std::{fs, path::Path};
use support::{bytes_of, known, read, sample};

const MIB: usize = 1 << 20;

fn set(bytes: &mut [u8], at: usize, new: &[u8]) {
    bytes[at..at + new.len()].copy_from_slice(new);
}

fn u64_at(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap())
}

fn u32_at(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap())
}

/// CRC-32C, bit by bit.
fn sum(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(u32::MAX, |sum, byte| {
        (0..8).fold(
            sum ^ u32::from(*byte),
            |sum, _| if sum & 1 == 1 { sum >> 1 ^ 0x82F6_3B78 } else { sum >> 1 },
        )
    })
}

fn sign(bytes: &mut [u8], at: usize, len: usize) {
    set(bytes, at + 4, &[0; 4]);
    let own = sum(&bytes[at..at + len]);
    set(bytes, at + 4, &own.to_le_bytes());
}

const LOG_ID: [u8; 16] = *b"brackwater ferry";

/// An entry of the log that writes a sector at `data_at` and zeros at `zero_at`.
fn log_entry(sequence: u64, tail: u32, data_at: u64, fill: u8, zero_at: u64, file_len: u64) -> Vec<u8> {
    let mut entry = vec![0; 8192];
    set(&mut entry, 0, b"loge");
    set(&mut entry, 8, &8192_u32.to_le_bytes());
    set(&mut entry, 12, &tail.to_le_bytes());
    set(&mut entry, 16, &sequence.to_le_bytes());
    set(&mut entry, 24, &2_u32.to_le_bytes());
    set(&mut entry, 32, &LOG_ID);
    set(&mut entry, 48, &file_len.to_le_bytes());
    set(&mut entry, 56, &file_len.to_le_bytes());
    // A sector: its first eight and last four bytes stand in the descriptor.
    set(&mut entry, 64, b"desc");
    set(&mut entry, 68, &[fill; 12]);
    set(&mut entry, 80, &data_at.to_le_bytes());
    set(&mut entry, 88, &sequence.to_le_bytes());
    set(&mut entry, 96, b"zero");
    set(&mut entry, 104, &4096_u64.to_le_bytes());
    set(&mut entry, 112, &zero_at.to_le_bytes());
    set(&mut entry, 120, &sequence.to_le_bytes());
    entry[4096..].fill(fill);
    set(&mut entry, 4096, b"data");
    set(&mut entry, 4100, &((sequence >> 32) as u32).to_le_bytes());
    set(&mut entry, 8188, &(sequence as u32).to_le_bytes());
    sign(&mut entry, 0, 8192);
    entry
}

/// A disk whose newer header says that its log counts; where the log lies, and where blocks 1 and 2 of the disk do.
fn with_log() -> (Vec<u8>, usize, [u64; 2]) {
    let mut bytes = sample("grows.vhdx");
    let newer = if u64_at(&bytes, 0x1_0008) > u64_at(&bytes, 0x2_0008) { 0x1_0000 } else { 0x2_0000 };
    set(&mut bytes, newer + 48, &LOG_ID);
    sign(&mut bytes, newer, 4096);
    let log = u64_at(&bytes, newer + 72) as usize;
    let table = block_table(&bytes);
    let block = |n: usize| u64_at(&bytes, table + 8 * n) >> 20 << 20;
    let blocks = [block(1), block(2)];
    (bytes, log, blocks)
}

/// Where a part of the file lies, by how its identifier begins.
fn region(bytes: &[u8], id: [u8; 4]) -> usize {
    let entry = (0..4).map(|n| 0x3_0010 + 32 * n).find(|at| bytes[*at..at + 4] == id).unwrap();
    u64_at(bytes, entry + 16) as usize
}

/// Where the table of blocks lies.
fn block_table(bytes: &[u8]) -> usize {
    region(bytes, [0x66, 0x77, 0xC2, 0x2D])
}

#[test]
fn an_open_log_is_applied_in_memory() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("open.vhdx");
    let (mut bytes, log, [first, second]) = with_log();
    let len = bytes.len() as u64;
    // An entry that no longer counts, two that do, and one that was not finished.
    set(&mut bytes, log + 4096, &log_entry(6, 4096, first + 8192, 0xEE, second + 8192, len));
    set(&mut bytes, log + 3 * 4096, &log_entry(7, 3 * 4096, first + 4096, 0xAB, second, len));
    set(&mut bytes, log + 5 * 4096, &log_entry(8, 3 * 4096, first, 0xCD, second + 4096, len));
    let unfinished = log_entry(9, 3 * 4096, first + 12_288, 0xBD, second + 12_288, len);
    set(&mut bytes, log + 7 * 4096, &unfinished[..5000]);
    fs::write(&path, &bytes).unwrap();
    let mut expected = known();
    expected[MIB..MIB + 4096].fill(0xCD);
    expected[MIB + 4096..MIB + 8192].fill(0xAB);
    expected[2 * MIB..2 * MIB + 8192].fill(0);
    let disk = open_path(&path).unwrap();
    assert!(bytes_of(&disk.content) == expected);
    assert!(disk.notes.iter().any(|note| note.contains("2 entries of its log")), "{:?}", disk.notes);
    assert!(fs::read(&path).unwrap() == bytes, "the disk was written to");
}

#[test]
fn a_log_leads_from_its_end_to_its_start() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("open.vhdx");
    let (mut bytes, log, [first, second]) = with_log();
    let len = bytes.len() as u64;
    let entry = log_entry(7, (MIB - 4096) as u32, first, 0xAB, second, len);
    set(&mut bytes, log + MIB - 4096, &entry[..4096]);
    set(&mut bytes, log, &entry[4096..]);
    fs::write(&path, &bytes).unwrap();
    assert!(read(&open_path(&path).unwrap().content, MIB, 4096) == vec![0xAB; 4096]);
    // Without a whole entry nothing may be read as if the log were not there.
    bytes[log + 100] ^= 1;
    fs::write(&path, &bytes).unwrap();
    let error = open_path(&path).unwrap_err().to_string();
    assert!(error.contains("VhdxLog.entries at byte 0x"), "{error}");
}

/// The other disk, whose bytes are those of the first turned over.
fn parent(dir: &Path, name: &str) -> Vec<u8> {
    let turned: Vec<u8> = known().iter().map(|byte| !byte).collect();
    fs::write(dir.join(name), &turned).unwrap();
    turned
}

#[test]
fn a_vhdx_stands_on_another() {
    let dir = tempfile::tempdir().unwrap();
    let turned = parent(dir.path(), "harbour.img");
    let mut bytes = sample("grows.vhdx");
    let metadata = region(&bytes, [0x06, 0xA2, 0x7C, 0x8B]);
    assert_eq!(&bytes[metadata..metadata + 8], b"metadata");
    let count = usize::from(u16::from_le_bytes([bytes[metadata + 10], bytes[metadata + 11]]));
    // The parameters say that there is a disk behind; a further item says which.
    let parameters =
        (0..count).map(|n| metadata + 32 + 32 * n).find(|at| u32_at(&bytes, *at) == 0xCAA1_6737).unwrap();
    let place = metadata + u32_at(&bytes, parameters + 16) as usize;
    bytes[place + 4] |= 2;
    let item = metadata + 32 + 32 * count;
    let id = [0x2D, 0x5F, 0xD3, 0xA8, 0x0B, 0xB3, 0x4D, 0x45, 0xAB, 0xF7, 0xD3, 0xD8, 0x48, 0x34, 0xAB, 0x0C];
    set(&mut bytes, item, &id);
    let mut locator = vec![0; 32];
    set(&mut locator, 18, &1_u16.to_le_bytes());
    let text = |text: &str| -> Vec<u8> { text.encode_utf16().flat_map(u16::to_le_bytes).collect() };
    let (key, value) = (text("relative_path"), text(".\\harbour.img"));
    set(&mut locator, 20, &32_u32.to_le_bytes());
    set(&mut locator, 24, &(32 + key.len() as u32).to_le_bytes());
    set(&mut locator, 28, &(key.len() as u16).to_le_bytes());
    set(&mut locator, 30, &(value.len() as u16).to_le_bytes());
    locator.extend([key, value].concat());
    set(&mut bytes, item + 16, &0x2_0000_u32.to_le_bytes());
    set(&mut bytes, item + 20, &(locator.len() as u32).to_le_bytes());
    set(&mut bytes, item + 24, &4_u32.to_le_bytes());
    set(&mut bytes, metadata + 10, &(count as u16 + 1).to_le_bytes());
    set(&mut bytes, metadata + 0x2_0000, &locator);
    // Block 1 is here in part, block 2 not at all; a map of sectors stands behind all of them.
    let table = block_table(&bytes);
    let one = u64_at(&bytes, table + 8);
    set(&mut bytes, table + 8, &(one & !7 | 7).to_le_bytes());
    set(&mut bytes, table + 16, &0_u64.to_le_bytes());
    let map_at = bytes.len().next_multiple_of(MIB);
    bytes.resize(map_at + MIB, 0);
    // A bit for each sector of 512 bytes; the map begins with block 0.
    set(&mut bytes, map_at + 256, &[0b0000_0110, 0, 0xFF]);
    set(&mut bytes, table + 8 * 4096, &(map_at as u64 | 6).to_le_bytes());
    let path = dir.path().join("top.vhdx");
    fs::write(&path, &bytes).unwrap();
    let mut expected = known();
    expected[MIB..3 * MIB].copy_from_slice(&turned[MIB..3 * MIB]);
    for (from, to) in [(1, 3), (16, 24)] {
        let (from, to) = (MIB + 512 * from, MIB + 512 * to);
        expected[from..to].copy_from_slice(&known()[from..to]);
    }
    // What is not present of other blocks lies behind too.
    let found = bytes_of(&open_path(&path).unwrap().content);
    for (n, (found, expected)) in found.chunks(MIB).zip(expected.chunks(MIB)).enumerate() {
        let state = u64_at(&bytes, table + 8 * n) & 7;
        let expected = if state == 0 { &turned[n * MIB..(n + 1) * MIB] } else { expected };
        assert!(found == expected, "block {n}, state {state}");
    }
}

/// The complement of the sum of all bytes but those of the sum.
fn seal(bytes: &mut [u8], at: usize, len: usize, place: usize) {
    set(bytes, at + place, &[0; 4]);
    let sum: u32 = bytes[at..at + len].iter().map(|byte| u32::from(*byte)).sum();
    set(bytes, at + place, &(!sum).to_be_bytes());
}

#[test]
fn a_vhd_stands_on_another() {
    let dir = tempfile::tempdir().unwrap();
    let mut behind = sample("fixed.vhd");
    let turned: Vec<u8> = known().iter().map(|byte| !byte).collect();
    set(&mut behind, 0, &turned);
    fs::write(dir.path().join("harbour.vhd"), &behind).unwrap();
    let footer = behind.len() - 512;
    let id = behind[footer + 68..footer + 84].to_vec();

    let mut bytes = sample("grows.vhd");
    let end = bytes.len() - 512;
    for at in [0, end] {
        set(&mut bytes, at + 60, &4_u32.to_be_bytes());
        seal(&mut bytes, at, 512, 64);
    }
    set(&mut bytes, 512 + 40, &id);
    let name: Vec<u8> = "harbour.vhd".encode_utf16().flat_map(u16::to_be_bytes).collect();
    set(&mut bytes, 512 + 64, &name);
    seal(&mut bytes, 512, 1024, 36);
    let table = u64::from_be_bytes(bytes[512 + 16..512 + 24].try_into().unwrap()) as usize;
    // Block 1 lies behind, of block 2 every second group of eight sectors.
    set(&mut bytes, table + 4, &u32::MAX.to_be_bytes());
    let block = u32::from_be_bytes(bytes[table + 8..table + 12].try_into().unwrap()) as usize * 512;
    for n in 0..512 {
        bytes[block + n] = if n % 2 == 0 { 0xFF } else { 0 };
    }
    let path = dir.path().join("top.vhd");
    fs::write(&path, &bytes).unwrap();
    let mut expected = known();
    expected[2 * MIB..4 * MIB].copy_from_slice(&turned[2 * MIB..4 * MIB]);
    for n in (1..512).step_by(2) {
        let at = 4 * MIB + n * 4096;
        expected[at..at + 4096].copy_from_slice(&turned[at..at + 4096]);
    }
    assert!(bytes_of(&open_path(&path).unwrap().content) == expected);

    // Another disk of that name is noticed.
    behind[footer + 70] ^= 1;
    seal(&mut behind, footer, 512, 64);
    fs::write(dir.path().join("harbour.vhd"), &behind).unwrap();
    let error = open_path(&path).unwrap_err().to_string();
    assert!(error.contains("another disk of that name"), "{error}");
}
