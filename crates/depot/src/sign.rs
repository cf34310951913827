//! Signatures of indexes and packages: Ed25519 in the text form of minisign, beside the file as `NAME.minisig`.

use minisign::{KeyPair, PublicKey, SecretKeyBox, SignatureBox};
use neat_content::{Content, Error, Job, ReadAt, Result};
use std::{
    fmt,
    io::{self, Read, Seek, SeekFrom},
    path::{Path, PathBuf},
};

/// What is put behind the name of a file for the name of its signature.
pub const SIGNATURE_ENDING: &str = ".minisig";
/// Largest signature that is read, in bytes.
pub const MAX_SIGNATURE_LEN: u64 = 16 << 10;

/// A public key.
#[derive(Clone, PartialEq, Eq)]
pub struct Key(PublicKey);

impl fmt::Debug for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Key({self})")
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.to_base64())
    }
}

impl Key {
    /// Reads a key as it is written in one word.
    ///
    /// # Errors
    /// `Request` for what is none.
    pub fn parse(text: &str) -> Result<Self> {
        PublicKey::from_base64(text.trim()).map(Self).map_err(|_| {
            Error::request(
                format!("{text:?} is no public key"),
                "write the second line of the key's .pub file",
            )
        })
    }

    /// Fails unless `signature` says that the holder of this key signed `content`; `name` is what it is called.
    ///
    /// # Errors
    /// `Mismatch` for another key, another content, or what is no signature; `Io` when it cannot be read.
    pub fn check(&self, content: &Content, signature: &[u8], name: &str) -> Result<()> {
        let hint = "it was changed, or signed by somebody else: get it again, and ask its maker for the key";
        let refused = |found: String| Error::mismatch(format!("{name} signed by {self}"), found, hint);
        let text =
            std::str::from_utf8(signature).map_err(|_| refused("something that is no signature".into()))?;
        let signature =
            SignatureBox::from_string(text).map_err(|_| refused("something that is no signature".into()))?;
        let mut reader = Reader { content, at: 0, fault: None };
        let result = minisign::verify(&self.0, &signature, &mut reader, true, false, false);
        match (reader.fault, result) {
            (Some(fault), _) => Err(fault),
            (None, Ok(())) => Ok(()),
            (None, Err(_)) if signature.keynum() != self.0.keynum() => {
                Err(refused("a signature with another key".into()))
            }
            (None, Err(_)) => Err(refused("a signature of something else".into())),
        }
    }
}

/// A new pair of keys: the texts of the public and of the secret file. The secret one has no password, so that it can
/// sign where nobody sits; its file is to be read by its owner alone.
///
/// # Errors
/// `Io` when the system has no random numbers.
pub fn new_keys() -> Result<(String, String)> {
    let failed =
        |error: minisign::PError| Error::system("make keys", io::Error::other(error.to_string()), "");
    let pair = KeyPair::generate_unencrypted_keypair().map_err(failed)?;
    let public = pair.pk.to_box().map_err(failed)?.into_string();
    let secret = pair.sk.to_box(None).map_err(failed)?.into_string();
    Ok((public, secret))
}

/// Signs `content`, called `name`, with the secret key whose file has this text: the text of the signature.
///
/// # Errors
/// `Request` for what is no secret key, or one with a password; `Io` when the content cannot be read.
pub fn sign(secret: &str, content: &Content, name: &str, job: &Job<'_>) -> Result<String> {
    job.check()?;
    let key = SecretKeyBox::from_string(secret).and_then(SecretKeyBox::into_unencrypted_secret_key).map_err(
        |_| {
            Error::request(
                "this is no secret key, or one with a password",
                "make a pair of keys for the depot, and keep the secret one to yourself",
            )
        },
    )?;
    let mut reader = Reader { content, at: 0, fault: None };
    let comment = format!("file:{}", name.replace(['\n', '\r'], " "));
    let signed = minisign::sign(None, &key, &mut reader, Some(&comment), Some("signature of a depot's file"));
    match (reader.fault, signed) {
        (Some(fault), _) => Err(fault),
        (None, Ok(signature)) => Ok(signature.into_string()),
        (None, Err(error)) => Err(Error::internal(format!("a file cannot be signed: {error}"))),
    }
}

/// Where the signature of a file lies.
pub fn signature_path(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(SIGNATURE_ENDING);
    name.into()
}

/// Fails unless the file at `path` has a signature of `key` beside it.
///
/// # Errors
/// `Mismatch` without one, and those of [`Key::check`].
pub fn check_file(key: &Key, path: &Path) -> Result<()> {
    let signature = signature_path(path);
    if !signature.is_file() {
        return Err(Error::mismatch(
            format!("{} signed by {key}", path.display()),
            format!("no signature: {} is not there", signature.display()),
            "get the signature from its maker and put it beside the file",
        ));
    }
    let bytes = neat_content::read_small(&signature, MAX_SIGNATURE_LEN, "signature")?;
    key.check(&Content::from_path(path)?, &bytes, &path.display().to_string())
}

/// Content as a file; a fault of reading is kept apart from what the library makes of it.
struct Reader<'a> {
    content: &'a Content,
    at: u64,
    fault: Option<Error>,
}

impl Read for &mut Reader<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = (ReadAt::len(self.content) - self.at).min(buffer.len() as u64) as usize;
        self.content.read_exact_at(self.at, &mut buffer[..len]).map_err(|error| {
            let text = error.to_string();
            self.fault = Some(error);
            io::Error::other(text)
        })?;
        self.at += len as u64;
        Ok(len)
    }
}

impl Seek for &mut Reader<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => ReadAt::len(self.content).checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.filter(|at| *at <= ReadAt::len(self.content)).ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;
    use neat_content::Class;

    #[test]
    fn only_what_was_signed_with_the_key_passes() {
        let (public, secret) = new_keys().unwrap();
        let (other, _) = new_keys().unwrap();
        let key = |text: &str| Key::parse(text.lines().nth(1).unwrap()).unwrap();
        let content = Content::from_bytes(b"{\"format\":1}".as_slice());
        let signature = sign(&secret, &content, "depot.json", &Job::silent()).unwrap();
        key(&public).check(&content, signature.as_bytes(), "depot.json").unwrap();
        assert_eq!(key(&public).to_string(), public.lines().nth(1).unwrap());
        let changed = Content::from_bytes(b"{\"format\":2}".as_slice());
        for (result, wanted) in [
            (key(&public).check(&changed, signature.as_bytes(), "depot.json"), "of something else"),
            (key(&other).check(&content, signature.as_bytes(), "depot.json"), "another key"),
            (key(&public).check(&content, b"hello", "depot.json"), "no signature"),
            (
                key(&public).check(&content, signature.replace("file:", "file;").as_bytes(), "depot.json"),
                "something else",
            ),
        ] {
            let error = result.unwrap_err();
            assert!(error.class() == Class::Corrupt && error.to_string().contains(wanted), "{error}");
        }
        assert_eq!(Key::parse("nonsense").unwrap_err().class(), Class::BadRequest);
        assert_eq!(sign("nonsense", &content, "a", &Job::silent()).unwrap_err().class(), Class::BadRequest);
    }
}
