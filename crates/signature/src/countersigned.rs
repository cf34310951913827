//! When a signature was made, by the word of another who signed it.

use crate::{
    Signature,
    signed::{Opened, hash},
};
use cms::{content_info::ContentInfo, signed_data::SignerInfo};
use der::{
    Decode, Encode, Reader, SliceReader,
    asn1::{AnyRef, OctetStringRef},
    oid::ObjectIdentifier,
};
use neat_content::Timestamp;
use x509_cert::{attr::Attribute, spki::AlgorithmIdentifierRef, time::Time};

/// A token (RFC 3161), under the number that signatures of programs have for it.
const TOKEN: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.3.3.1");
const TOKEN_CONTENT: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.1.4");
/// The older form: a signer of the signature (RFC 5652 11.4).
const COUNTERSIGNATURE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.6");
const SIGNING_TIME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.5");

/// The word of another on when a signature was made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Countersigned {
    /// When, in seconds since 1970.
    pub seconds: i64,
    /// Who says so, and whether that fits.
    pub signature: Signature,
}

impl Countersigned {
    /// The moment.
    pub const fn moment(&self) -> Timestamp {
        Timestamp::from_seconds(self.seconds)
    }
}

/// What another says of the signature of `signer`; nothing where nobody does in a way that can be read.
pub(crate) fn countersigned(opened: &Opened, signer: &SignerInfo) -> Option<Countersigned> {
    let signature = signer.signature.as_bytes();
    let mut attributes = signer.unsigned_attrs.iter().flat_map(|all| all.iter());
    attributes.find_map(|own| of_attribute(own, opened, signature))
}

fn of_attribute(own: &Attribute, opened: &Opened, signature: &[u8]) -> Option<Countersigned> {
    let value = own.values.iter().next()?.to_der().ok()?;
    match own.oid {
        TOKEN => {
            let token = Opened::of_info(&ContentInfo::from_der(&value).ok()?).ok()?;
            if token.kind != TOKEN_CONTENT {
                return None;
            }
            let (kind, digest, seconds) = token_content(&token.content).ok()??;
            let signed = token.signature().ok()?;
            let digest_fits = hash(kind, signature) == Some(digest);
            Some(Countersigned { seconds, signature: Signature { digest_fits, ..signed } })
        }
        COUNTERSIGNATURE => {
            let witness = SignerInfo::from_der(&value).ok()?;
            let mut attributes = witness.signed_attrs.iter().flat_map(|all| all.iter());
            let time = attributes.find(|own| own.oid == SIGNING_TIME)?.values.iter().next()?;
            let time = Time::from_der(&time.to_der().ok()?).ok()?;
            let seconds = i64::try_from(time.to_unix_duration().as_secs()).ok()?;
            Some(Countersigned { seconds, signature: opened.signature_of(&witness, signature).ok()? })
        }
        _ => None,
    }
}

/// What a token says: the digest of what it is for, and when (RFC 3161 2.4.2).
fn token_content(bytes: &[u8]) -> der::Result<Option<(ObjectIdentifier, Vec<u8>, i64)>> {
    let outer = AnyRef::from_der(bytes)?;
    let mut reader = SliceReader::new(outer.value())?;
    // Version and policy.
    let _: AnyRef<'_> = reader.decode()?;
    let _: AnyRef<'_> = reader.decode()?;
    let imprint: AnyRef<'_> = reader.decode()?;
    let mut inner = SliceReader::new(imprint.value())?;
    let kind: AlgorithmIdentifierRef<'_> = inner.decode()?;
    let digest: OctetStringRef<'_> = inner.decode()?;
    // Number.
    let _: AnyRef<'_> = reader.decode()?;
    let time: AnyRef<'_> = reader.decode()?;
    Ok(seconds(time.value()).map(|seconds| (kind.oid, digest.as_bytes().to_vec(), seconds)))
}

/// A time as tokens write it: 14 digits, and parts of a second that do not count here.
fn seconds(text: &[u8]) -> Option<i64> {
    let whole = std::str::from_utf8(text.get(..14)?).ok()?;
    let part = |from: usize, to: usize| whole.get(from..to)?.parse::<u8>().ok();
    let year: u16 = whole.get(..4)?.parse().ok()?;
    let (month, day) = (part(4, 6)?, part(6, 8)?);
    let (hour, minute, second) = (part(8, 10)?, part(10, 12)?, part(12, 14)?);
    let time = der::DateTime::new(year, month, day, hour, minute, second).ok()?;
    i64::try_from(time.unix_duration().as_secs()).ok()
}
