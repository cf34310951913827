//! A signature: who made it, and whether it fits (RFC 5652, RFC 5280).

use crate::{hex, pe::Loader};
use cms::{
    content_info::ContentInfo,
    signed_data::{EncapsulatedContentInfo, SignerIdentifier, SignerInfo},
};
use der::{
    Decode, Encode, Reader, SliceReader, Tag, TagNumber, Tagged,
    asn1::{AnyRef, OctetString},
    oid::ObjectIdentifier,
};
use neat_content::Timestamp;
use rsa::{RsaPublicKey, pkcs1::DecodeRsaPublicKey, pkcs1v15};
use serde::Serialize;
use sha1_of_rsa::Sha1;
use sha2_of_rsa::{Sha256, Sha384, Sha512, digest::Digest};
use x509_cert::{
    Certificate,
    der::{oid::AssociatedOid, referenced::OwnedToRef},
    ext::pkix::{BasicConstraints, ExtendedKeyUsage, SubjectKeyIdentifier},
};

const SIGNED_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.2");
const MESSAGE_DIGEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.4");
const COMMON_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.4.3");
const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
const CODE_SIGNING: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.3");
const TIME_STAMPING: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.8");
/// Where certificates are in signed data.
const CERTIFICATES: Tag = Tag::ContextSpecific { constructed: true, number: TagNumber::N0 };
/// The first byte of a certificate.
const SEQUENCE: u8 = 0x30;
/// Most certificates that are read.
const MOST_CERTIFICATES: usize = 256;
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
    /// Whether the next certificate of the chain signed it; nothing for the last, and where that is not checked, as the
    /// key is of another kind than RSA.
    pub fits: Option<bool>,
    /// What it is for.
    #[serde(skip)]
    pub(crate) may: May,
    /// Its bytes.
    #[serde(skip)]
    pub(crate) der: Vec<u8>,
}

/// What a certificate is for (RFC 5280 4.2.1.9 and 4.2.1.12).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct May {
    /// It may issue others.
    pub issue: bool,
    /// It may sign programs.
    pub sign_code: bool,
    /// It may say when something was signed.
    pub tell_time: bool,
}

impl May {
    pub(crate) fn of(parts: &x509_cert::TbsCertificate) -> Self {
        let find = |kind| parts.extensions.iter().flatten().find(|own| own.extn_id == kind);
        let issue = find(BasicConstraints::OID)
            .and_then(|own| BasicConstraints::from_der(own.extn_value.as_bytes()).ok())
            .is_some_and(|own| own.ca);
        // Without a list it is for everything; with one that cannot be read, for nothing.
        let uses = find(ExtendedKeyUsage::OID)
            .map(|own| ExtendedKeyUsage::from_der(own.extn_value.as_bytes()).map_or(Vec::new(), |own| own.0));
        let has = |kind| uses.as_ref().is_none_or(|uses| uses.contains(&kind));
        Self { issue, sign_code: has(CODE_SIGNING), tell_time: uses.is_some() && has(TIME_STAMPING) }
    }
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
        let inner = self.authorities.len().saturating_sub(1);
        self.digest_fits
            && self.key_fits
            && self.authorities.iter().take(inner).all(|own| own.fits == Some(true))
            && self.authorities.last().is_some_and(|own| own.fits != Some(false))
    }

    /// Whether part of its chain is not checked, as it is of a kind that is not known here.
    pub(crate) fn is_of_another_kind(&self) -> bool {
        let inner = self.authorities.len().saturating_sub(1);
        self.authorities.iter().take(inner).any(|own| own.fits.is_none())
    }

    /// The authority that firmware has to know: the issuer of the last certificate.
    pub fn root(&self) -> Option<&str> {
        self.authorities.last().map(|own| own.issuer.as_str())
    }
}

/// Reads a signature and compares it with the application.
pub(crate) fn read(blob: &[u8], loader: &Loader<'_>) -> Signature {
    let checked = || {
        let opened = Opened::read(blob)?;
        let (said, kind) = signed_digest(&opened.content)?;
        let own = digest_of(kind, loader).ok_or_else(|| format!("its digest is of the kind {kind}"))?;
        Ok(Signature { digest_fits: said == own, ..opened.signature()? })
    };
    checked().unwrap_or_else(|problem| Signature { problem: Some(problem), ..Signature::default() })
}

/// What is signed, and by whom, before anything is checked.
pub(crate) struct Opened {
    /// The kind of what is signed.
    pub kind: ObjectIdentifier,
    /// What is signed, without the header of its own.
    pub content: Vec<u8>,
    /// Nothing where nobody signed.
    pub signer: Option<SignerInfo>,
    pub certificates: Vec<Certificate>,
}

impl Opened {
    /// Reads signed data (RFC 5652 5.1). Behind it there may be bytes that fill it up.
    pub(crate) fn read(blob: &[u8]) -> Result<Self, String> {
        let mut reader = SliceReader::new(blob).map_err(unreadable)?;
        let info = ContentInfo::decode(&mut reader).map_err(unreadable)?;
        Self::of_info(&info)
    }

    pub(crate) fn of_info(info: &ContentInfo) -> Result<Self, String> {
        if info.content_type != SIGNED_DATA {
            return Err(format!("it is of the kind {}", info.content_type));
        }
        let mut reader = SliceReader::new(info.content.value()).map_err(unreadable)?;
        // Version, and kinds of digests. Part by part, as sets are not in order, or have the same twice, in some files.
        let _: AnyRef<'_> = reader.decode().map_err(unreadable)?;
        let _: AnyRef<'_> = reader.decode().map_err(unreadable)?;
        let encapsulated: EncapsulatedContentInfo = reader.decode().map_err(unreadable)?;
        let content = encapsulated.econtent.as_ref().ok_or("it signs nothing")?;
        let mut certificates = Vec::new();
        let mut signers = Vec::new();
        while !reader.is_finished() {
            let part: AnyRef<'_> = reader.decode().map_err(unreadable)?;
            let mut inner = SliceReader::new(part.value()).map_err(unreadable)?;
            while !inner.is_finished() && certificates.len() < MOST_CERTIFICATES {
                let bytes = inner.tlv_bytes().map_err(unreadable)?;
                match part.tag() {
                    // Certificates of other kinds, and lists of what was taken back, do not count here.
                    CERTIFICATES if bytes.first() == Some(&SEQUENCE) => {
                        certificates.push(Certificate::from_der(bytes).map_err(unreadable)?);
                    }
                    Tag::Set => signers.push(SignerInfo::from_der(bytes).map_err(unreadable)?),
                    _ => {}
                }
            }
        }
        if signers.len() > 1 {
            return Err(format!("it has {} signers", signers.len()));
        }
        Ok(Self {
            kind: encapsulated.econtent_type,
            content: content.value().to_vec(),
            signer: signers.pop(),
            certificates,
        })
    }

    /// Who signed it, and whether that fits what is signed; whether what is signed fits is for the caller to say.
    pub(crate) fn signature(&self) -> Result<Signature, String> {
        let signer = self.signer.as_ref().ok_or("nobody signed it")?;
        self.signature_of(signer, &self.content)
    }

    /// The same for another signer of other content, whose certificates are here.
    pub(crate) fn signature_of(&self, signer: &SignerInfo, content: &[u8]) -> Result<Signature, String> {
        let first = self
            .certificates
            .iter()
            .find(|own| is_signer(own, &signer.sid))
            .ok_or("its signer's certificate is missing")?;
        Ok(Signature {
            digest_fits: true,
            key_fits: signer_fits(signer, content, first)?,
            authorities: chain(first, &self.certificates),
            problem: None,
        })
    }
}

fn unreadable(error: der::Error) -> String {
    format!("it cannot be read: {error}")
}

/// The digest in the content that is signed, and its kind: the second part of a sequence, whose own parts are the kind
/// and the digest.
pub(crate) fn signed_digest(content: &[u8]) -> Result<(Vec<u8>, ObjectIdentifier), String> {
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

pub(crate) const OID_SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
pub(crate) const OID_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const OID_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
const OID_SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");

pub(crate) fn digest_of(kind: ObjectIdentifier, loader: &Loader<'_>) -> Option<Vec<u8>> {
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
        SignerIdentifier::SubjectKeyIdentifier(wanted) => {
            let mut extensions = certificate.tbs_certificate.extensions.iter().flatten();
            let own = extensions.find(|own| own.extn_id == SubjectKeyIdentifier::OID);
            let own = own.and_then(|own| SubjectKeyIdentifier::from_der(own.extn_value.as_bytes()).ok());
            own.as_ref() == Some(wanted)
        }
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
    let key = key_of(certificate).ok_or("its key is of a kind that is not checked here")?;
    let how = signer.signature_algorithm.oid;
    if how != RSA && certificate_digest(how) != Some(kind) {
        return Err(format!("it was made in the way {how}, which is not checked here"));
    }
    Ok(verify(key, kind, &over, signer.signature.as_bytes()))
}

pub(crate) fn hash(kind: ObjectIdentifier, bytes: &[u8]) -> Option<Vec<u8>> {
    Some(match kind {
        OID_SHA1 => Sha1::digest(bytes).to_vec(),
        OID_SHA256 => Sha256::digest(bytes).to_vec(),
        OID_SHA384 => Sha384::digest(bytes).to_vec(),
        OID_SHA512 => Sha512::digest(bytes).to_vec(),
        _ => return None,
    })
}

/// The key of a certificate, where it is of the kind that is checked here.
fn key_of(certificate: &Certificate) -> Option<RsaPublicKey> {
    let key = certificate.tbs_certificate.subject_public_key_info.owned_to_ref();
    if key.algorithm.oid != RSA {
        return None;
    }
    RsaPublicKey::from_pkcs1_der(key.subject_public_key.as_bytes()?).ok()
}

/// Whether a key made a signature of `bytes` (RFC 8017 8.2).
fn verify(key: RsaPublicKey, kind: ObjectIdentifier, bytes: &[u8], signature: &[u8]) -> bool {
    use pkcs1v15::{Signature, VerifyingKey};
    use rsa::signature::Verifier;
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

/// Whether the key of `by` signed this certificate; nothing where it is of a kind that is not checked.
pub(crate) fn is_issued_by(own: &Certificate, by: &Certificate) -> Option<bool> {
    let kind = certificate_digest(own.signature_algorithm.oid)?;
    let key = key_of(by)?;
    let (Ok(bytes), Some(signature)) = (own.tbs_certificate.to_der(), own.signature.as_bytes()) else {
        return Some(false);
    };
    Some(verify(key, kind, &bytes, signature))
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
        let fits = by.and_then(|by| is_issued_by(own, by));
        chain.push(Authority {
            name: shown(&parts.subject),
            issuer: shown(&parts.issuer),
            from: parts.validity.not_before.to_unix_duration().as_secs() as i64,
            until: parts.validity.not_after.to_unix_duration().as_secs() as i64,
            number: hex(parts.serial_number.as_bytes()),
            fits,
            may: May::of(parts),
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
