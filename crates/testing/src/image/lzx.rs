//! LZX chunks of image files, bit by bit from [MS-PATCH] 2 and what image files change of it.

use super::bits::{BitPen, Bits, Code};

/// The same chunk in the form of cabinets: no translation of calls, the size of each block in 24 bits.
pub fn to_cabinet_form(input: &[u8], len: usize) -> Option<Vec<u8>> {
    let mut pen = BitPen::default();
    pen.put(0, 1);
    walk(input, len, 32768, &mut pen)?;
    pen.align();
    Some(pen.bytes)
}

pub fn decode(input: &[u8], len: usize, chunk_len: usize) -> Option<Vec<u8>> {
    walk(input, len, chunk_len, &mut BitPen::default())
}

/// Decodes; what is passed on the way is written to `pen` in the form of cabinets.
fn walk(input: &[u8], len: usize, chunk_len: usize, pen: &mut BitPen) -> Option<Vec<u8>> {
    let window = chunk_len.next_power_of_two().max(32768);
    let slots = match window.ilog2() {
        15 => 30,
        16 => 32,
        17 => 34,
        18 => 36,
        19 => 38,
        20 => 42,
        21 => 50,
        _ => return None,
    };
    let footer = |slot: usize| match slot {
        0..4 => 0,
        4..36 => slot as u32 / 2 - 1,
        _ => 17,
    };
    let base = |slot: usize| (0..slot).map(|slot| 1_u32 << footer(slot)).sum::<u32>();
    let mut bits = Bits::new(input);
    let mut main = vec![0; 256 + 8 * slots];
    let mut lengths = vec![0; 249];
    let mut recent = [1_u32; 3];
    let mut out = Vec::new();
    while out.len() < len {
        let kind = bits.bits(3)?;
        let block = match bits.bit()? {
            1 => 32768,
            _ if window > 32768 => bits.bits(24)?,
            _ => bits.bits(16)?,
        } as usize;
        if block == 0 || out.len() + block > len {
            return None;
        }
        let end = out.len() + block;
        pen.put(kind, 3).put(block as u32, 24);
        let start = bits.passed();
        if kind == 3 {
            bits.align();
            for offset in &mut recent {
                *offset = u32::from_le_bytes(input.get(bits.at..bits.at + 4)?.try_into().ok()?);
                bits.at += 4;
            }
            out.extend_from_slice(input.get(bits.at..bits.at + block)?);
            bits.at += block + block % 2;
            continue;
        }
        let aligned = match kind {
            1 => None,
            2 => Some(Code::new(&(0..8).map(|_| bits.bits(3)).collect::<Option<Vec<_>>>()?)),
            _ => return None,
        };
        let (literals, matches) = main.split_at_mut(256);
        read_lengths(&mut bits, literals)?;
        read_lengths(&mut bits, matches)?;
        read_lengths(&mut bits, &mut lengths)?;
        let (main_code, length_code) = (Code::new(&main), Code::new(&lengths));
        while out.len() < end {
            let symbol = main_code.symbol(|| bits.bit())?;
            if symbol < 256 {
                out.push(symbol as u8);
                continue;
            }
            let (slot, header) = ((symbol - 256) / 8, (symbol - 256) % 8);
            let length = 2 + header + if header == 7 { length_code.symbol(|| bits.bit())? } else { 0 };
            let offset = match slot {
                0 => recent[0],
                1 => {
                    recent = [recent[1], recent[0], recent[2]];
                    recent[0]
                }
                2 => {
                    recent = [recent[2], recent[1], recent[0]];
                    recent[0]
                }
                _ => {
                    let extra = footer(slot);
                    let written = match &aligned {
                        Some(code) if extra >= 3 => {
                            (bits.bits(extra - 3)? << 3) + code.symbol(|| bits.bit())? as u32
                        }
                        _ => bits.bits(extra)?,
                    };
                    recent = [base(slot) + written - 2, recent[0], recent[1]];
                    recent[0]
                }
            };
            for _ in 0..length {
                out.push(*out.get(out.len().checked_sub(offset as usize)?)?);
            }
        }
        if out.len() != end {
            return None;
        }
        let mut again = Bits::new(input);
        (0..start).try_for_each(|_| again.bit().map(drop))?;
        for _ in start..bits.passed() {
            pen.put(again.bit()?, 1);
        }
    }
    // x86 calls become relative again.
    let mut at = 0;
    while at + 10 < len {
        if out[at] == 0xE8 {
            let absolute = i32::from_le_bytes(out[at + 1..at + 5].try_into().ok()?);
            let here = at as i32;
            if absolute >= -here && absolute < 12_000_000 {
                let relative = if absolute >= 0 { absolute - here } else { absolute + 12_000_000 };
                out[at + 1..at + 5].copy_from_slice(&relative.to_le_bytes());
            }
            at += 4;
        }
        at += 1;
    }
    Some(out)
}

fn read_lengths(bits: &mut Bits<'_>, lengths: &mut [u32]) -> Option<()> {
    let pre = Code::new(&(0..20).map(|_| bits.bits(4)).collect::<Option<Vec<_>>>()?);
    let mut at = 0;
    while at < lengths.len() {
        let code = pre.symbol(|| bits.bit())? as u32;
        let (run, value) = match code {
            17 => (4 + bits.bits(4)?, 0),
            18 => (20 + bits.bits(5)?, 0),
            19 => {
                let run = 4 + bits.bit()?;
                let difference = pre.symbol(|| bits.bit())? as u32;
                (run, (lengths[at] + 17 - difference) % 17)
            }
            difference => (1, (lengths[at] + 17 - difference) % 17),
        };
        lengths.get_mut(at..at + run as usize)?.fill(value);
        at += run as usize;
    }
    Some(())
}
