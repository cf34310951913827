//! Whether answers hold what not everybody may read: passwords, their hashes, keys of wireless networks.

use crate::{AnswerFile, Dialect, answer_files, choose, read_file};
use neat_content::{Content, Result, Tree, damage_apart};

/// Whether the text of an answer file holds a secret; `false` for what is none.
pub fn holds_secret(bytes: &[u8]) -> bool {
    reads_secret(bytes, None)
}

fn reads_secret(bytes: &[u8], dialect: Option<Dialect>) -> bool {
    let Ok(file) = AnswerFile::parse_as(bytes, dialect) else { return false };
    // What the neutral form has no place for may hold one too, and so may a file that cannot be understood.
    looks_secret(file.dialect, &file.text) || read_file(&file).is_ok_and(|reading| !reading.vault.is_empty())
}

/// Whether a text has something that looks like a password or key, wherever it stands: rather once too often.
fn looks_secret(dialect: Dialect, text: &str) -> bool {
    let lower = text.to_lowercase();
    let mut lines = lower.lines().map(str::trim).filter(|line| !line.starts_with('#'));
    match dialect {
        Dialect::Unattend => xml_looks_secret(&lower),
        Dialect::Preseed => lines.any(|line| {
            let mut words = line.split_whitespace().skip(2);
            words.next() == Some("password") && words.next().is_some()
        }),
        Dialect::Kickstart => lines.any(|line| {
            let has_value =
                |option: &str| line.split_once(option).is_some_and(|(_, value)| !value.trim().is_empty());
            let is_root = line
                .strip_prefix("rootpw")
                .is_some_and(|rest| rest.split_whitespace().any(|word| !word.starts_with("--")));
            is_root || ["--password", "--wpakey", "--passphrase"].iter().any(|option| has_value(option))
        }),
        Dialect::Autoinstall => lines.any(|line| {
            line.split_once(':').is_some_and(|(key, value)| {
                let value = value.trim().trim_matches(['"', '\'']);
                ["passw", "passphrase", "secret"].iter().any(|word| key.contains(word)) && !value.is_empty()
            })
        }),
    }
}

/// Elements whose names speak of passwords or keys and that have a text; `true` and `false` only say how it is stored.
fn xml_looks_secret(lower: &str) -> bool {
    const NAMES: [&str; 4] = ["password", "keymaterial", "credential", "secret"];
    let mut rest = lower;
    while let Some(at) = rest.find('<') {
        rest = &rest[at + 1..];
        let Some(end) = rest.find('>') else { return false };
        let name: String = rest[..end].chars().take_while(|c| !c.is_whitespace() && *c != '/').collect();
        rest = &rest[end + 1..];
        if name.starts_with('?') || name.starts_with('!') || !NAMES.iter().any(|word| name.contains(word)) {
            continue;
        }
        let inside = rest.split(&format!("</{name}")).next().unwrap_or(rest);
        let mut texts = inside.split('<').enumerate().map(|(number, piece)| {
            // Behind the first one a piece begins with the rest of a tag.
            if number == 0 { piece } else { piece.split_once('>').map_or("", |(_, text)| text) }
        });
        if texts.any(|text| !matches!(text.trim(), "" | "true" | "false")) {
            return true;
        }
    }
    false
}

/// Whether an answer file where setup looks, or one of those that are chosen by serial number, holds a secret.
///
/// # Errors
/// `Io` when one cannot be read.
pub fn tree_holds_secret(tree: &Tree) -> Result<bool> {
    let named =
        answer_files(tree).into_iter().filter_map(|(path, dialect)| Some((tree.find(&path)?, Some(dialect))));
    let folder = tree.find_ignoring_case(choose::FOLDER).and_then(|id| tree.node(id).folder());
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
