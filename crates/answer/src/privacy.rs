//! Whether answers hold what not everybody may read: passwords, their hashes, keys of wireless networks.

use crate::{AnswerFile, Dialect, answer_files, face::Chooser, read_file};
use neat_content::{Content, Result, Tree, damage_apart};

/// Whether the text of an answer file holds a secret; `false` for what is none.
pub fn holds_secret(bytes: &[u8]) -> bool {
    reads_secret(bytes, None)
}

fn reads_secret(bytes: &[u8], dialect: Option<Dialect>) -> bool {
    let Ok(file) = AnswerFile::parse_as(bytes, dialect) else { return false };
    // What the neutral form has no place for may hold one too, and so may a file that cannot be understood.
    (file.dialect.face().about().looks_secret)(&file.text.to_lowercase())
        || read_file(&file).is_ok_and(|reading| !reading.vault.is_empty())
}

/// Whether an answer file where setup looks, or one of those that are chosen by serial number, holds a secret.
///
/// # Errors
/// `Io` when one cannot be read.
pub fn tree_holds_secret(tree: &Tree) -> Result<bool> {
    let named =
        answer_files(tree).into_iter().filter_map(|(path, dialect)| Some((tree.find(&path)?, Some(dialect))));
    let folder = tree.find_ignoring_case(Chooser::FOLDER).and_then(|id| tree.node(id).folder());
    let chosen = folder.into_iter().flat_map(neat_content::Folder::children).map(|id| (id, None));
    for (id, dialect) in named.chain(chosen) {
        if let Some(content) = tree.node(id).content()
            && small(content)?.is_some_and(|bytes| reads_secret(&bytes, dialect))
        {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Whether a content is an answer file that holds a secret.
///
/// # Errors
/// `Io` when it cannot be read.
pub fn content_holds_secret(content: &Content) -> Result<bool> {
    Ok(small(content)?.is_some_and(|bytes| holds_secret(&bytes)))
}

/// The bytes of what may be an answer file.
fn small(content: &Content) -> Result<Option<Vec<u8>>> {
    if content.len() > AnswerFile::MAX_LEN {
        return Ok(None);
    }
    Ok(damage_apart(content.to_vec(AnswerFile::MAX_LEN, "answer file"))?.ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn passwords_of_every_dialect_are_found() {
        for (text, secret) in [
            ("lang en_GB.UTF-8\nkeyboard gb\nrootpw --iscrypted $6$x$y\n%packages\n%end\n", true),
            ("lang en_GB.UTF-8\nkeyboard gb\nrootpw --lock\n%packages\n%end\n", false),
            ("d-i passwd/user-password-crypted password $6$x$y\n", true),
            ("d-i passwd/username string helm\n", false),
            (
                "#cloud-config\nautoinstall:\n  version: 1\n  identity:\n    hostname: a\n    username: b\n    password: $6$x$y\n",
                true,
            ),
            (
                "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><a><DomainPassword>x</DomainPassword></a></unattend>",
                true,
            ),
            (
                "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><a><Password><Value>x</Value><PlainText>true</PlainText></Password></a></unattend>",
                true,
            ),
            (
                "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><a><Password><Value></Value><PlainText>true</PlainText></Password></a></unattend>",
                false,
            ),
            ("not an answer file", false),
        ] {
            assert_eq!(holds_secret(text.as_bytes()), secret, "{text}");
        }
    }
}
