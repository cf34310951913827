//! A second reading of files that are compressed each by itself: without a window, over all that came out so far.

/// The content of a file of the older form, or nothing if it is none. What comes before the first byte is blanks.
pub fn expand_older(bytes: &[u8]) -> Option<Vec<u8>> {
    let rest = bytes.strip_prefix(b"SZDD\x88\xF0\x27\x33A")?;
    let len = u32::from_le_bytes(rest.get(1..5)?.try_into().ok()?) as usize;
    let mut out = vec![b' '; 4096];
    let mut rest = rest.get(5..)?.iter();
    while out.len() < 4096 + len {
        let mut bits = *rest.next()?;
        for _ in 0..8 {
            if out.len() >= 4096 + len {
                break;
            }
            let first = *rest.next()?;
            if bits & 1 == 1 {
                out.push(first);
            } else {
                let second = *rest.next()?;
                let place = i64::from(first) + (i64::from(second) >> 4) * 256;
                // The window's place 4,080 is the first byte; of all bytes at that place the latest is meant.
                let now = out.len() as i64 - 4096;
                let back = (now + 4080 - place).rem_euclid(4096);
                let back = if back == 0 { 4096 } else { back };
                for _ in 0..(second & 15) + 3 {
                    let byte = out[out.len() - back as usize];
                    out.push(byte);
                }
            }
            bits >>= 1;
        }
    }
    out.truncate(4096 + len);
    Some(out.split_off(4096))
}
