//! Roots that somebody trusts, and whether a signature leads to them.

use crate::{
    Signature,
    signed::{May, is_issued_by},
};
use base64::prelude::{BASE64_STANDARD, Engine};
use der::{Decode, Encode};
use neat_content::{Error, Result};
use x509_cert::Certificate;

/// What stands before a certificate in text, and behind it.
const BEGIN: &str = "-----BEGIN CERTIFICATE-----";
const END: &str = "-----END CERTIFICATE-----";

/// Certificates of authorities that are trusted.
#[derive(Clone, Debug)]
pub struct Trusted(Vec<Certificate>);

impl Trusted {
    /// Reads certificates: one as it is (DER), or any number as text (PEM, RFC 7468).
    ///
    /// # Errors
    /// `BadRequest` where there is none.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        if bytes.first() == Some(&0x30) {
            let root = Certificate::from_der(bytes).map_err(|error| no_roots(&error.to_string()))?;
            return Ok(Self(vec![root]));
        }
        let text =
            std::str::from_utf8(bytes).map_err(|_| no_roots("it is neither text nor a certificate"))?;
        let mut roots = Vec::new();
        for block in text.split(BEGIN).skip(1) {
            let (body, _) = block.split_once(END).ok_or_else(|| no_roots("one has no end"))?;
            let body: String = body.split_whitespace().collect();
            let der = BASE64_STANDARD.decode(body).map_err(|error| no_roots(&error.to_string()))?;
            roots.push(Certificate::from_der(&der).map_err(|error| no_roots(&error.to_string()))?);
        }
        if roots.is_empty() {
            return Err(no_roots("there is none"));
        }
        Ok(Self(roots))
    }

    /// Whether a signature leads to one of them: it fits, its signer is for that, and all in between may issue others.
    pub(crate) fn reach(&self, signature: &Signature, is_for: impl Fn(&May) -> bool) -> bool {
        if !signature.is_sound() || !signature.authorities.first().is_some_and(|own| is_for(&own.may)) {
            return false;
        }
        for (n, own) in signature.authorities.iter().enumerate() {
            if n > 0 && !own.may.issue {
                return false;
            }
            let Ok(certificate) = Certificate::from_der(&own.der) else { return false };
            let is_here = self.0.iter().any(|root| {
                root.to_der().is_ok_and(|der| der == own.der)
                    || root.tbs_certificate.subject == certificate.tbs_certificate.issuer
                        && May::of(&root.tbs_certificate).issue
                        && is_issued_by(&certificate, root) == Some(true)
            });
            if is_here {
                return true;
            }
        }
        false
    }

    /// Whether the signature of a catalogue leads to one of them.
    pub fn reach_catalogue(&self, catalogue: &crate::Catalogue) -> bool {
        catalogue.signature.as_ref().is_some_and(|own| self.reach(own, |may| may.sign_code))
    }
}

fn no_roots(why: &str) -> Error {
    Error::request(
        format!("the certificates cannot be read: {why}"),
        "give certificates of authorities, as they are or as text (PEM)",
    )
}
