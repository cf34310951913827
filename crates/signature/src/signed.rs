//! A signature: who made it, and whether it fits (RFC 5652, RFC 5280).

use crate::{hex, pe::Loader};
use cms::{
    cert::CertificateChoices,
    content_info::ContentInfo,
    signed_data::{SignedData, SignerIdentifier, SignerInfo},
};
use der::{Decode, Encode, Reader, SliceReader, asn1::OctetString, oid::ObjectIdentifier};
use neat_content::Timestamp;
use rsa::{RsaPublicKey, pkcs1::DecodeRsaPublicKey, pkcs1v15};
use serde::Serialize;
use sha1_of_rsa::Sha1;
use sha2_of_rsa::{Sha256, Sha384, Sha512, digest::Digest};
use x509_cert::{Certificate, der::referenced::OwnedToRef};

const SIGNED_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.2");
const MESSAGE_DIGEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.4");
const COMMON_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.4.3");
/// Most certificates of a chain.
const LONGEST_CHAIN: usize = 10;

/// A certificate of a chain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Authority {
    /// Whom it names.
    pub name: String,
    /// Who issued it.
    pub issuer: String,
    /// From when on it holds, in seconds since 1970.
    pub from: i64,
    /// Until when.
    pub until: i64,
    /// Its number, in hexadecimal.
    pub number: String,
    /// Whether the next certificate of the chain signed it; nothing for the last.
    pub fits: Option<bool>,
    /// Its bytes.
    #[serde(skip)]
    pub(crate) der: Vec<u8>,
}

impl Authority {
    /// Whether it does not hold at this moment.
    pub const fn is_expired(&self, now: Timestamp) -> bool {
        now.seconds > self.until || now.seconds < self.from
    }
}

/// A signature of an application.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Signature {
    /// Whether the digest that was signed is that of the application.
    pub digest_fits: bool,
    /// Whether the signer's key made the signature.
    pub key_fits: bool,
    /// The chain, the signer first; the last one's issuer may not be in the file.
    pub authorities: Vec<Authority>,
    /// What is wrong.
    pub problem: Option<String>,
}

impl Signature {
    /// Whether digest, key and chain fit.
    pub fn is_sound(&self) -> bool {
        self.digest_fits && self.key_fits && self.authorities.iter().all(|own| own.fits != Some(false))
    }

    /// The authority that firmware has to know: the issuer of the last certificate.
    pub fn root(&self) -> Option<&str> {
        self.authorities.last().map(|own| own.issuer.as_str())
    }
}

/// Reads a signature and compares it with the application.
pub(crate) fn read(blob: &[u8], loader: &Loader<'_>) -> Signature {
    checked(blob, loader)
        .unwrap_or_else(|problem| Signature { problem: Some(problem), ..Signature::default() })
}

fn checked(blob: &[u8], loader: &Loader<'_>) -> Result<Signature, String> {
    let unreadable = |error: der::Error| format!("it cannot be read: {error}");
    // Behind it there may be bytes that fill it up.
    let mut reader = SliceReader::new(blob).map_err(unreadable)?;
    let info = ContentInfo::decode(&mut reader).map_err(unreadable)?;
    if info.content_type != SIGNED_DATA {
        return Err(format!("it is of the kind {}", info.content_type));
    }
    let signed: SignedData = info.content.decode_as().map_err(unreadable)?;
    let content = signed.encap_content_info.econtent.as_ref().ok_or("it signs nothing")?.value();
    let (said, kind) = signed_digest(content)?;
    let own = digest_of(kind, loader).ok_or_else(|| format!("its digest is of the kind {kind}"))?;
    let signer = match signed.signer_infos.0.as_slice() {
        [signer] => signer,
        others => return Err(format!("it has {} signers", others.len())),
    };
    let certificates: Vec<Certificate> = signed
        .certificates
        .iter()
        .flat_map(|all| all.0.iter())
        .filter_map(|own| match own {
            CertificateChoices::Certificate(own) => Some(own.clone()),
            CertificateChoices::Other(_) => None,
        })
        .collect();
    let first = certificates
        .iter()
        .find(|own| is_signer(own, &signer.sid))
        .ok_or("its signer's certificate is missing")?;
    Ok(Signature {
        digest_fits: said == own,
        key_fits: signer_fits(signer, content, first)?,
        authorities: chain(first, &certificates),
        problem: None,
    })
}

/// The digest in the content that is signed, and its kind: the second part of a sequence, whose own parts are the kind
/// and the digest.
fn signed_digest(content: &[u8]) -> Result<(Vec<u8>, ObjectIdentifier), String> {
    let unreadable = |error: der::Error| format!("what it signs cannot be read: {error}");
    let mut reader = SliceReader::new(content).map_err(unreadable)?;
    reader.tlv_bytes().map_err(unreadable)?;
    let info: DigestInfo = reader.decode().map_err(unreadable)?;
    Ok((info.digest.as_bytes().to_vec(), info.algorithm.oid))
}

#[derive(der::Sequence)]
struct DigestInfo {
    algorithm: x509_cert::spki::AlgorithmIdentifierOwned,
    digest: OctetString,
}

const OID_SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const OID_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const OID_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
const OID_SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");

fn digest_of(kind: ObjectIdentifier, loader: &Loader<'_>) -> Option<Vec<u8>> {
    Some(match kind {
        OID_SHA1 => loader.digest::<Sha1>(),
        OID_SHA256 => loader.digest::<Sha256>(),
        OID_SHA384 => loader.digest::<Sha384>(),
        OID_SHA512 => loader.digest::<Sha512>(),
        _ => return None,
    })
}

fn is_signer(certificate: &Certificate, wanted: &SignerIdentifier) -> bool {
    match wanted {
        SignerIdentifier::IssuerAndSerialNumber(wanted) => {
            let own = &certificate.tbs_certificate;
            own.issuer == wanted.issuer && own.serial_number == wanted.serial_number
        }
        SignerIdentifier::SubjectKeyIdentifier(_) => false,
    }
}

/// Whether the signer's key made the signature: over the attributes, which must have the digest of the content.
fn signer_fits(signer: &SignerInfo, content: &[u8], certificate: &Certificate) -> Result<bool, String> {
    let kind = signer.digest_alg.oid;
    let over = match &signer.signed_attrs {
        None => content.to_vec(),
        Some(attributes) => {
            let said = attributes.iter().find(|own| own.oid == MESSAGE_DIGEST);
            let said = said.and_then(|own| own.values.iter().next()).map(|own| own.value().to_vec());
            if said != hash(kind, content) {
                return Ok(false);
            }
            attributes.to_der().map_err(|error| format!("its attributes cannot be written: {error}"))?
        }
    };
    Ok(verify(certificate, kind, &over, signer.signature.as_bytes()))
}

fn hash(kind: ObjectIdentifier, bytes: &[u8]) -> Option<Vec<u8>> {
    Some(match kind {
        OID_SHA1 => Sha1::digest(bytes).to_vec(),
        OID_SHA256 => Sha256::digest(bytes).to_vec(),
        OID_SHA384 => Sha384::digest(bytes).to_vec(),
        OID_SHA512 => Sha512::digest(bytes).to_vec(),
        _ => return None,
    })
}

/// Whether the key of a certificate made a signature of `bytes` (RFC 8017 8.2).
fn verify(certificate: &Certificate, kind: ObjectIdentifier, bytes: &[u8], signature: &[u8]) -> bool {
    use pkcs1v15::{Signature, VerifyingKey};
    use rsa::signature::Verifier;
    let key = certificate.tbs_certificate.subject_public_key_info.owned_to_ref();
    let Some(key) = key.subject_public_key.as_bytes().and_then(|key| RsaPublicKey::from_pkcs1_der(key).ok())
    else {
        return false;
    };
    let Ok(signature) = Signature::try_from(signature) else { return false };
    match kind {
        OID_SHA1 => VerifyingKey::<Sha1>::new(key).verify(bytes, &signature).is_ok(),
        OID_SHA256 => VerifyingKey::<Sha256>::new(key).verify(bytes, &signature).is_ok(),
        OID_SHA384 => VerifyingKey::<Sha384>::new(key).verify(bytes, &signature).is_ok(),
        OID_SHA512 => VerifyingKey::<Sha512>::new(key).verify(bytes, &signature).is_ok(),
        _ => false,
    }
}

/// The digest that a certificate's own signature is over, by the kind of that (RFC 4055 5, RFC 3279 2.2.1).
fn certificate_digest(kind: ObjectIdentifier) -> Option<ObjectIdentifier> {
    match kind.to_string().as_str() {
        "1.2.840.113549.1.1.5" => Some(OID_SHA1),
        "1.2.840.113549.1.1.11" => Some(OID_SHA256),
        "1.2.840.113549.1.1.12" => Some(OID_SHA384),
        "1.2.840.113549.1.1.13" => Some(OID_SHA512),
        _ => None,
    }
}

/// From the signer's certificate up, as far as the file has them.
fn chain(first: &Certificate, all: &[Certificate]) -> Vec<Authority> {
    let mut chain = Vec::new();
    let mut own = first;
    while chain.len() < LONGEST_CHAIN {
        let parts = &own.tbs_certificate;
        let is_root = parts.issuer == parts.subject;
        let next = all.iter().find(|next| !is_root && next.tbs_certificate.subject == parts.issuer);
        let by = if is_root { Some(own) } else { next };
        let fits = by.map(|by| {
            let (kind, bytes) = (certificate_digest(own.signature_algorithm.oid), parts.to_der());
            let (Some(kind), Ok(bytes), Some(signature)) = (kind, bytes, own.signature.as_bytes()) else {
                return false;
            };
            verify(by, kind, &bytes, signature)
        });
        chain.push(Authority {
            name: shown(&parts.subject),
            issuer: shown(&parts.issuer),
            from: parts.validity.not_before.to_unix_duration().as_secs() as i64,
            until: parts.validity.not_after.to_unix_duration().as_secs() as i64,
            number: hex(parts.serial_number.as_bytes()),
            fits,
            der: own.to_der().unwrap_or_default(),
        });
        match next {
            Some(next) => own = next,
            None => break,
        }
    }
    chain
}

/// The name that people know, or all of it.
fn shown(name: &x509_cert::name::Name) -> String {
    let parts = name.0.iter().flat_map(|part| part.0.iter());
    let common = parts.filter(|part| part.oid == COMMON_NAME).find_map(|part| {
        let text = String::from_utf8_lossy(part.value.value()).into_owned();
        (!text.is_empty()).then_some(text)
    });
    common.unwrap_or_else(|| name.to_string())
}
