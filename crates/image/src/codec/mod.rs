//! The compression inside image files, and nothing about the files themselves.
//!
//! Each method is a module of its own with a decoder and, where we write it, an encoder. Both work from one slice
//! into another, keep their tables from call to call, and allocate nothing while they work.
//!
//! A *chunk* is what is compressed on its own: it refers to nothing before it.

#![expect(
    clippy::inline_always,
    reason = "the inner loops are measured; without it the compiler leaves calls in them"
)]

mod bits;
mod huffman;
pub mod lzms;
pub mod lzx;
mod matches;
pub mod xpress;

/// How hard an encoder tries.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Level {
    /// Hash chains and lazy matching.
    Fast,
    /// Nearly as small as [`Level::Max`], several times as fast.
    Good,
    /// Binary trees and a search for the cheapest way to write each block.
    Max,
}

/// What is wrong with a compressed chunk.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Fault {
    /// The chunk ends before all of it is decoded.
    #[error("the compressed data ends too early")]
    EndsEarly,
    /// Code lengths that no prefix code can have.
    #[error("the lengths of the {0} code contradict each other")]
    BadCode(&'static str),
    /// A code word that stands for nothing.
    #[error("a code word of the {0} code stands for nothing")]
    UnknownWord(&'static str),
    /// A match that begins before the chunk.
    #[error("a match reaches back {distance} bytes from byte {at}")]
    FarMatch {
        /// Bytes back from `at`.
        distance: u64,
        /// Position in the decoded chunk.
        at: u64,
    },
    /// A match or block that goes past the end of the chunk.
    #[error("{what} of {len} bytes at byte {at} goes past the end")]
    Overlong {
        /// What does.
        what: &'static str,
        /// Its length in bytes.
        len: u64,
        /// Position in the decoded chunk.
        at: u64,
    },
    /// Somebody asked to stop.
    #[error("stopped")]
    Stopped,
    /// A value that the description rules out.
    #[error("the {0} is not one that there is")]
    BadValue(&'static str),
}

/// Result of decoding a chunk.
pub type Decoded = std::result::Result<(), Fault>;

/// An array straight from the heap: it may be too large for the stack.
pub(crate) fn boxed<T: Copy, const N: usize>(value: T) -> Box<[T; N]> {
    vec![value; N].into_boxed_slice().try_into().unwrap_or_else(|_| Box::new([value; N]))
}

/// Copies `len` bytes from `distance` bytes before `at` to `at`, byte after byte as far as the result is concerned.
///
/// Fails if the match begins before the buffer or ends after it, or if `distance` is 0.
#[inline(never)]
pub(crate) fn copy_match(out: &mut [u8], at: usize, distance: usize, len: usize) -> Decoded {
    let Some(from) = at.checked_sub(distance).filter(|from| *from < at) else {
        return Err(Fault::FarMatch { distance: distance as u64, at: at as u64 });
    };
    if len > out.len() - at {
        return Err(Fault::Overlong { what: "a match", len: len as u64, at: at as u64 });
    }
    if distance >= len {
        out.copy_within(from..from + len, at);
    } else if distance == 1 {
        let byte = out[from];
        out[at..at + len].fill(byte);
    } else {
        // The copied part doubles each time, which is what copying byte after byte would give.
        let mut done = 0;
        while done < len {
            let step = (len - done).min(distance + done);
            out.copy_within(from..from + step, at + done);
            done += step;
        }
    }
    Ok(())
}

/// The same for the frequent case: most matches are short and reach back further than their own start, and moving 16
/// or 32 bytes at once costs less than a call. What is written too much is overwritten by what comes next. Returns the
/// position after the match.
#[inline(always)]
pub(crate) fn copy_match_quickly(
    out: &mut [u8],
    at: usize,
    distance: usize,
    len: usize,
) -> std::result::Result<usize, Fault> {
    const STEP: usize = 16;
    let (done, rest) = out.split_at_mut(at);
    let from = done.get(at.wrapping_sub(distance)..);
    match (from.and_then(<[u8]>::first_chunk::<STEP>), rest.first_chunk_mut::<{ 2 * STEP }>()) {
        (Some(first), Some(target)) if len <= 2 * STEP => {
            target[..STEP].copy_from_slice(first);
            if len > STEP {
                out.copy_within(at + STEP - distance..at + 2 * STEP - distance, at + STEP);
            }
        }
        _ => copy_match(out, at, distance, len)?,
    }
    Ok(at + len)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn matches_are_copied_as_if_byte_after_byte() {
        for distance in 1..40_usize {
            for len in 0..90 {
                for room in [0, 1, 15, 40] {
                    let mut fast: Vec<u8> = (0..40 + len + room).map(|n| n as u8).collect();
                    let mut slow = fast.clone();
                    let mut quick = fast.clone();
                    copy_match(&mut fast, 40, distance, len).unwrap();
                    assert_eq!(copy_match_quickly(&mut quick, 40, distance, len), Ok(40 + len));
                    assert_eq!(fast[..40 + len], quick[..40 + len]);
                    for n in 40..40 + len {
                        slow[n] = slow[n - distance];
                    }
                    assert_eq!(fast[..40 + len], slow[..40 + len], "{distance} {len} {room}");
                }
            }
        }
        assert!(matches!(copy_match(&mut [0; 9], 4, 5, 1), Err(Fault::FarMatch { distance: 5, at: 4 })));
        assert!(matches!(copy_match(&mut [0; 9], 4, 4, 6), Err(Fault::Overlong { len: 6, .. })));
    }
}
