//! Lists of what was taken back (UEFI specification 32.4.1): certificates, and digests of applications.

use neat_content::{Error, FieldReader, Result};
use std::collections::HashSet;

type Guid = [u8; 16];

/// SHA-256 digests: C1C41626-504C-4092-ACA9-41F936934328.
const SHA256: Guid =
    [0x26, 0x16, 0xC4, 0xC1, 0x4C, 0x50, 0x92, 0x40, 0xAC, 0xA9, 0x41, 0xF9, 0x36, 0x93, 0x43, 0x28];
/// Certificates: A5C059A1-94E4-4AA7-87B5-AB155C2BF072.
const X509: Guid =
    [0xA1, 0x59, 0xC0, 0xA5, 0xE4, 0x94, 0xA7, 0x4A, 0x87, 0xB5, 0xAB, 0x15, 0x5C, 0x2B, 0xF0, 0x72];

/// What was taken back.
#[derive(Clone, Debug, Default)]
pub struct Revoked {
    digests: HashSet<Vec<u8>>,
    certificates: HashSet<Vec<u8>>,
}

impl Revoked {
    /// Reads a list, with or without the head of an update that is signed.
    ///
    /// # Errors
    /// `Corrupt` with the place, where it is no such list.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let mut revoked = Self::default();
        let start = head_len(bytes);
        let mut fields =
            FieldReader::new(bytes.get(start..).unwrap_or_default(), start as u64, "SignatureList");
        if fields.remaining() == 0 {
            return Err(Error::bad_field("SignatureList", "length", start as u64, "a list", "nothing"));
        }
        while fields.remaining() > 0 {
            let at = fields.offset();
            let kind: Guid = fields.array()?;
            let (len, head, size) =
                (fields.u32_le()? as usize, fields.u32_le()? as usize, fields.u32_le()? as usize);
            let inside = len.checked_sub(28 + head);
            let Some(inside) = inside.filter(|inside| size > 16 && inside % size == 0) else {
                let found = format!("{len} bytes of entries with {size}");
                return Err(Error::bad_field("SignatureList", "sizes", at + 16, "whole entries", found));
            };
            fields.skip(head)?;
            for entry in fields.take(inside)?.chunks_exact(size) {
                // Before each stands who put it on the list.
                let data = entry[16..].to_vec();
                match kind {
                    SHA256 => revoked.digests.insert(data),
                    X509 => revoked.certificates.insert(data),
                    _ => false,
                };
            }
        }
        Ok(revoked)
    }

    /// How many digests and certificates are on it.
    pub fn counts(&self) -> (usize, usize) {
        (self.digests.len(), self.certificates.len())
    }

    pub(crate) fn has_digest(&self, sha256: &[u8]) -> bool {
        self.digests.contains(sha256)
    }

    pub(crate) fn has_certificate(&self, der: &[u8]) -> bool {
        self.certificates.contains(der)
    }
}

/// Length of the head of an update: a time of 16 bytes and a signature that says how long it is (32.3.2); 0 where there is
/// none.
fn head_len(bytes: &[u8]) -> usize {
    let number = |at: usize| bytes.get(at..at + 2).map(|two| u16::from_le_bytes([two[0], two[1]]));
    let is_update = number(20) == Some(0x0200) && number(22) == Some(0x0EF1);
    match bytes.get(16..20).filter(|_| is_update) {
        Some(four) => 16 + u32::from_le_bytes([four[0], four[1], four[2], four[3]]) as usize,
        None => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(kind: Guid, entries: &[&[u8]]) -> Vec<u8> {
        let size = 16 + entries[0].len();
        let mut bytes = kind.to_vec();
        for number in [28 + size * entries.len(), 0, size] {
            bytes.extend((number as u32).to_le_bytes());
        }
        entries.iter().for_each(|entry| {
            bytes.extend([9; 16]);
            bytes.extend_from_slice(entry);
        });
        bytes
    }

    #[test]
    fn lists_are_read_with_and_without_their_head() {
        let plain = [list(SHA256, &[&[1; 32], &[2; 32]]), list(X509, &[b"a certificate"])].concat();
        let mut update = vec![0; 16];
        update.extend(40_u32.to_le_bytes());
        update.extend([0x00, 0x02, 0xF1, 0x0E]);
        update.resize(16 + 40, 7);
        update.extend_from_slice(&plain);
        for bytes in [plain, update] {
            let read = Revoked::read(&bytes).unwrap();
            assert_eq!(read.counts(), (2, 1));
            assert!(read.has_digest(&[2; 32]) && !read.has_digest(&[3; 32]));
            assert!(read.has_certificate(b"a certificate"));
        }
        assert!(Revoked::read(&[]).is_err());
        assert!(Revoked::read(&[0; 40]).is_err());
        assert!(Revoked::read(&list(SHA256, &[&[1; 32]])[..50]).is_err());
    }
}
