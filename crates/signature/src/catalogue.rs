//! Catalogues: lists of digests that somebody signed, so that many files need one signature.
//!
//! The list is of the form that the published description of certificate trust lists has (Microsoft's
//! "Certificate Trust List Overview"), each member with the digest of a file as signatures of applications have it. What is
//! an application is covered by the digest that leaves its own signatures out, everything else by that of all its bytes.

use crate::{
    Signature,
    countersigned::{Countersigned, countersigned},
    pe::Loader,
    signed::{OID_SHA1, OID_SHA256, Opened, signed_digest},
    trusted::Trusted,
};
use der::{
    Reader, SliceReader, Tag, Tagged,
    asn1::{AnyRef, OctetStringRef, SetOfVec},
    oid::ObjectIdentifier,
};
use neat_content::{Content, Error, Job, Result, Timestamp};
use sha1_of_rsa::Sha1;
use sha2_of_rsa::{Sha256, digest::Digest};
use std::{
    collections::{BTreeSet, HashSet},
    ops::Range,
};

const TRUST_LIST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.10.1");
const INDIRECT_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.2.1.4");
/// Largest catalogue that is read, in bytes.
const LARGEST: u64 = 64 << 20;
/// Bytes of an application in which its headers are.
const BEGINNING: u64 = 1 << 20;
/// Bytes that are digested at once.
const BLOCK: usize = 256 << 10;
/// Lengths of the digests that members have: SHA-1 and SHA-256.
const DIGEST_LENGTHS: [usize; 2] = [20, 32];

/// A catalogue.
#[derive(Debug)]
pub struct Catalogue {
    /// Who signed it; nothing where nobody did.
    pub signature: Option<Signature>,
    /// When it was signed, by the word of another.
    pub countersigned: Option<Countersigned>,
    digests: HashSet<(ObjectIdentifier, Vec<u8>)>,
    kinds: BTreeSet<ObjectIdentifier>,
}

/// What a signature is worth at a moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// Digest, key and chain fit, and all of them held when it was made, as far as is known.
    Sound,
    /// Nobody signed.
    Unsigned,
    /// Something was changed since.
    Altered,
    /// A certificate has ended, and nothing says that the signature was made before.
    Expired,
    /// It is of a kind that is not checked here.
    Unknown,
}

impl Catalogue {
    /// Reads a catalogue.
    ///
    /// # Errors
    /// `Corrupt` where it is none; `LimitExceeded` above 64 MiB; `Io`.
    pub fn read(content: &Content) -> Result<Self> {
        let bytes = content.to_vec(LARGEST, "catalogue")?;
        let bad = |why: String| Error::bad_field("Catalogue", "content", 0, "a signed list of digests", why);
        let opened = Opened::read(&bytes).map_err(bad)?;
        if opened.kind != TRUST_LIST {
            return Err(bad(format!("signed content of the kind {}", opened.kind)));
        }
        let digests =
            members(&opened.content).map_err(|error| bad(format!("a list that cannot be read: {error}")))?;
        let signature = opened.signer.as_ref().map(|_| {
            opened
                .signature()
                .unwrap_or_else(|problem| Signature { problem: Some(problem), ..Signature::default() })
        });
        let countersigned = opened.signer.as_ref().and_then(|signer| countersigned(&opened, signer));
        let kinds = digests.iter().map(|(kind, _)| *kind).collect();
        Ok(Self { signature, countersigned, digests, kinds })
    }

    /// Whether it has the digest of this file, read in blocks.
    ///
    /// # Errors
    /// What reading it gives.
    pub fn covers(&self, file: &Content, job: &Job<'_>) -> Result<bool> {
        if self.has(file, std::slice::from_ref(&(0..file.len())), job)? {
            return Ok(true);
        }
        let beginning = file.part(0, file.len().min(BEGINNING))?.to_vec(BEGINNING, "headers")?;
        let len = usize::try_from(file.len()).unwrap_or(usize::MAX);
        let Ok(loader) = Loader::of_beginning(&beginning, len) else { return Ok(false) };
        let covered: Vec<Range<u64>> =
            loader.covered().into_iter().map(|range| range.start as u64..range.end as u64).collect();
        self.has(file, &covered, job)
    }

    /// Whether it has the digest of these parts of a file. What is out of order or ends outside of it is nowhere.
    fn has(&self, file: &Content, parts: &[Range<u64>], job: &Job<'_>) -> Result<bool> {
        let mut digests: Vec<(ObjectIdentifier, Running)> =
            self.kinds.iter().filter_map(|kind| Some((*kind, Running::of(*kind)?))).collect();
        for part in parts {
            if part.start > part.end || part.end > file.len() {
                return Ok(false);
            }
            file.part(part.start, part.end - part.start)?.for_each_block(BLOCK, job, &mut |bytes| {
                digests.iter_mut().for_each(|(_, digest)| digest.add(bytes));
                Ok(())
            })?;
        }
        Ok(digests.into_iter().any(|(kind, digest)| self.digests.contains(&(kind, digest.finish()))))
    }

    /// How many digests it has.
    pub fn members(&self) -> usize {
        self.digests.len()
    }

    /// What its signature is worth now. `roots` are those whose word counts for the time of the signature; without them
    /// everybody's does.
    pub fn standing(&self, now: Timestamp, roots: Option<&Trusted>) -> Standing {
        let Some(signature) = &self.signature else { return Standing::Unsigned };
        if signature.problem.is_some() || signature.is_of_another_kind() {
            return Standing::Unknown;
        }
        if !signature.is_sound() {
            return Standing::Altered;
        }
        let witness = self.countersigned.as_ref().filter(|own| {
            own.signature.is_sound()
                && roots.is_none_or(|roots| roots.reach(&own.signature, |may| may.tell_time))
        });
        let moment = witness.map_or(now, Countersigned::moment);
        let held = signature.authorities.iter().all(|own| !own.is_expired(moment));
        if held { Standing::Sound } else { Standing::Expired }
    }
}

/// The digests of a list: a sequence of its kind, its number, its date, the kind of its members, and these.
fn members(list: &[u8]) -> der::Result<HashSet<(ObjectIdentifier, Vec<u8>)>> {
    let mut reader = SliceReader::new(list)?;
    let mut digests = HashSet::new();
    // Kind; number, which may be missing; date; kind of the members. Then comes a sequence of sequences.
    let mut sequences = 0;
    while !reader.is_finished() {
        let part: AnyRef<'_> = reader.decode()?;
        if part.tag() != Tag::Sequence {
            continue;
        }
        sequences += 1;
        if sequences == 3 {
            let mut inner = SliceReader::new(part.value())?;
            while !inner.is_finished() {
                let own: AnyRef<'_> = inner.decode()?;
                member(own.value(), &mut digests)?;
            }
        }
    }
    Ok(digests)
}

/// One member: its name, and attributes, of which one has its digest. Where none has, the name is the digest.
fn member(bytes: &[u8], digests: &mut HashSet<(ObjectIdentifier, Vec<u8>)>) -> der::Result<()> {
    let mut reader = SliceReader::new(bytes)?;
    let name: OctetStringRef<'_> = reader.decode()?;
    let mut has_digest = false;
    if !reader.is_finished() {
        let attributes: SetOfVec<x509_cert::attr::Attribute> = reader.decode()?;
        for attribute in attributes.iter().filter(|own| own.oid == INDIRECT_DATA) {
            for value in attribute.values.iter() {
                has_digest = true;
                if let Ok((digest, kind)) = signed_digest(value.value()) {
                    digests.insert((kind, digest));
                }
            }
        }
    }
    if !has_digest && DIGEST_LENGTHS.contains(&name.as_bytes().len()) {
        let kind = if name.as_bytes().len() == 20 { OID_SHA1 } else { OID_SHA256 };
        digests.insert((kind, name.as_bytes().to_vec()));
    }
    Ok(())
}

/// A digest that is taken of block after block.
enum Running {
    Sha1(Sha1),
    Sha256(Sha256),
}

impl Running {
    /// Nothing for kinds that no member of a catalogue has.
    fn of(kind: ObjectIdentifier) -> Option<Self> {
        match kind {
            OID_SHA1 => Some(Self::Sha1(Sha1::new())),
            OID_SHA256 => Some(Self::Sha256(Sha256::new())),
            _ => None,
        }
    }

    fn add(&mut self, bytes: &[u8]) {
        match self {
            Self::Sha1(digest) => digest.update(bytes),
            Self::Sha256(digest) => digest.update(bytes),
        }
    }

    fn finish(self) -> Vec<u8> {
        match self {
            Self::Sha1(digest) => digest.finalize().to_vec(),
            Self::Sha256(digest) => digest.finalize().to_vec(),
        }
    }
}
