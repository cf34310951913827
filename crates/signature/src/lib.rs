//! Who signed a UEFI application or a driver, and whether the signature fits.
//!
//! * [`of_loader`]: the signatures of an application in the PE format, by its published description, and the security
//!   versions that it says of itself.
//! * [`Catalogue`]: a signed list of digests that covers the files of a driver.
//! * [`Trusted`]: roots that somebody says he trusts, and whether a signature leads to them.
//! * [`Revoked`]: a list of what was taken back, as firmware keeps it (UEFI specification 32.4.1).
//!
//! Nobody is trusted here: that a chain ends at some authority is said, and whether a firmware knows that authority is the
//! firmware's business.

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;

mod catalogue;
mod countersigned;
mod pe;
mod revoked;
mod signed;
mod trusted;
mod versions;

pub use catalogue::{Catalogue, Standing};
pub use countersigned::Countersigned;
pub use revoked::Revoked;
pub use signed::{Authority, Signature};
pub use trusted::Trusted;
pub use versions::SecurityVersion;

use neat_content::{Content, Result, Timestamp};
use serde::Serialize;

/// Largest application that is read, in bytes.
const LARGEST: u64 = 256 << 20;

/// What a loader's signatures come to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LoaderSignatures {
    /// Each signature; empty for an application that is not signed.
    pub signatures: Vec<Signature>,
    /// What the application says of its parts and their versions.
    pub versions: Vec<SecurityVersion>,
    /// SHA-256 of what a signature covers, in hexadecimal.
    pub sha256: String,
    /// Whether this digest, or a certificate of each signature, is on the list of what was taken back; nothing without a
    /// list.
    pub revoked: Option<bool>,
    /// What is wrong with the table of signatures.
    pub damage: Option<String>,
}

impl LoaderSignatures {
    /// Whether each signature that fits leads through an authority that has ended at this moment, so that firmware with
    /// newer ones alone does not start the application. The signer's own certificate does not count.
    pub fn has_only_ended_authorities(&self, now: Timestamp) -> bool {
        let mut sound = self.signatures.iter().filter(|own| own.is_sound()).peekable();
        sound.peek().is_some()
            && sound.all(|own| own.authorities.iter().skip(1).any(|own| own.is_expired(now)))
    }

    /// Whether a signature fits that was not taken back.
    pub fn is_sound(&self) -> bool {
        self.revoked != Some(true) && self.signatures.iter().any(Signature::is_sound)
    }
}

/// The signatures of the application in `content`.
///
/// # Errors
/// `Corrupt` where it is none, `LimitExceeded` above 256 MiB, `Io`.
pub fn of_loader(content: &Content, revoked: Option<&Revoked>) -> Result<LoaderSignatures> {
    let bytes = content.to_vec(LARGEST, "application")?;
    let loader = pe::Loader::read(&bytes)?;
    let (blobs, damage) = loader.signatures();
    let signatures: Vec<Signature> = blobs.iter().map(|blob| signed::read(blob, &loader)).collect();
    let sha256 = loader.digest::<sha2_of_rsa::Sha256>();
    let is_revoked = revoked.map(|list| {
        let all_taken_back = !signatures.is_empty()
            && signatures.iter().all(|own| own.authorities.iter().any(|own| list.has_certificate(&own.der)));
        list.has_digest(&sha256) || all_taken_back
    });
    Ok(LoaderSignatures {
        signatures,
        versions: versions::read(&loader),
        sha256: hex(&sha256),
        revoked: is_revoked,
        damage,
    })
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
