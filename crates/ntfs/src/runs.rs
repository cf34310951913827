//! Runs of clusters.

use neat_content::{Error, Result};

/// Some clusters one after another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Run {
    /// The first, or none where nothing is stored and zeros are read.
    pub start: Option<u64>,
    /// How many.
    pub len: u64,
}

/// Reads a list of runs that stands for `wanted` clusters of a value in a volume of `clusters`. `at` is where the
/// attribute stands.
pub(crate) fn read(list: &[u8], wanted: u64, clusters: u64, at: u64) -> Result<Vec<Run>> {
    let bad = |expected: String, found: String| Error::bad_field("Runs", "clusters", at, expected, found);
    let (mut runs, mut rest, mut position, mut total) = (Vec::new(), list, 0_i64, 0_u64);
    while total < wanted {
        let (len_len, start_len) = match rest.first() {
            None | Some(0) => return Err(bad(format!("{wanted} clusters"), total.to_string())),
            Some(head) => (usize::from(head & 15), usize::from(head >> 4)),
        };
        let number = |from: usize, len: usize| -> Option<&[u8]> {
            (len <= 8).then(|| rest.get(from..from + len)).flatten()
        };
        let (Some(len), Some(start)) = (number(1, len_len), number(1 + len_len, start_len)) else {
            return Err(bad("numbers of at most 8 bytes".into(), format!("{:#x}", rest[0])));
        };
        let len = signed(len);
        let end = u64::try_from(len).ok().filter(|len| *len > 0).and_then(|len| total.checked_add(len));
        let Some(end) = end.filter(|end| *end <= wanted) else {
            return Err(bad(format!("at most {wanted} clusters"), format!("{total} and {len} more")));
        };
        let len = end - total;
        let start = if start.is_empty() {
            None
        } else {
            position = position.checked_add(signed(start)).unwrap_or(-1);
            let first = u64::try_from(position).ok();
            let inside = first.filter(|first| first.checked_add(len).is_some_and(|end| end <= clusters));
            let Some(first) = inside else {
                return Err(bad(
                    format!("clusters below {clusters}, the end of the volume"),
                    format!("{len} from {position} on"),
                ));
            };
            Some(first)
        };
        runs.push(Run { start, len });
        total = end;
        rest = &rest[1 + len_len + start_len..];
    }
    Ok(runs)
}

/// A number of up to eight bytes, little-endian, whose highest bit is its sign.
fn signed(bytes: &[u8]) -> i64 {
    let fill = if bytes.last().is_some_and(|last| *last >= 0x80) { 0xFF } else { 0 };
    let mut all = [fill; 8];
    all[..bytes.len()].copy_from_slice(bytes);
    i64::from_le_bytes(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_read_as_they_are_written_down() {
        // Three clusters at 100, two that are not stored, four at 90.
        let list = [0x11, 3, 100, 0x01, 2, 0x11, 4, 0xF6, 0];
        let runs = read(&list, 9, 200, 0).unwrap();
        let run = |start, len| Run { start, len };
        assert_eq!(runs, [run(Some(100), 3), run(None, 2), run(Some(90), 4)]);
        assert!(read(&list, 8, 200, 0).is_err(), "more than the attribute says");
        assert!(read(&list, 10, 200, 0).is_err(), "fewer");
        assert!(read(&list, 9, 102, 0).is_err(), "past the end of the volume");
    }

    #[test]
    fn what_cannot_be_is_refused() {
        for list in [
            &[0x11, 0, 5][..],
            &[0x19, 1, 5],
            &[0x91, 1, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5],
            &[0x11, 4, 0x80],
            &[0x18, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x7F, 1],
            &[0x81, 1, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x7F],
            &[0x21, 1, 5],
            &[],
        ] {
            assert!(read(list, 4, 1000, 0).is_err(), "{list:x?}");
        }
    }
}
