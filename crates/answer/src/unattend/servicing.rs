//! The servicing section: packages that setup installs.

use super::{NAMESPACE, node::Node};
use crate::{Dialect, xml::Document};
use neat_content::{Error, Result};

/// The dialect whose files name packages.
pub const DIALECT: Dialect = Dialect::Unattend;

/// A package that setup installs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Package {
    /// Name, version, processor, key token and language of its identity; what is empty is not said.
    pub identity: [(&'static str, String); 5],
    /// Its file, a path on the media.
    pub file: String,
}

/// An answer file that names packages, from one that is there or anew.
///
/// # Errors
/// `Corrupt` where `text` is no answer file of this dialect.
pub fn with_packages(text: Option<&str>, packages: &[Package]) -> Result<String> {
    let fresh = || {
        format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<unattend xmlns=\"{NAMESPACE}\">\r\n</unattend>\r\n"
        )
    };
    let mut document = Document::parse(text.map_or_else(fresh, str::to_owned))?;
    if document.root().name != "unattend" {
        return Err(Error::request("the answer file is no <unattend>", "correct the answer file"));
    }
    let line_end = document.line_end();
    if document.root().child("servicing").is_none() {
        let root = document.root();
        let Some(inner) = root.inner.clone() else {
            return Err(Error::request("the answer file is empty", "take it out, so that a new one is made"));
        };
        let raw = document.text().get(inner.clone()).unwrap_or_default();
        let at = inner.start + raw.trim_end().len();
        let gap = if raw[raw.trim_end().len()..].contains('\n') { "" } else { line_end };
        document.splice(at..at, &format!("{line_end}  <servicing></servicing>{gap}"))?;
    }
    for package in packages {
        let mut identity = Node::new("assemblyIdentity");
        for (name, value) in package.identity.iter().filter(|(_, value)| !value.is_empty()) {
            identity = identity.attribute(name, value);
        }
        let location = format!("%configsetroot%\\{}", package.file.replace('/', "\\"));
        let node = Node::new("package")
            .attribute("action", "install")
            .with(identity)
            .with(Node::new("source").attribute("location", &location));
        let Some(inner) = document.root().child("servicing").and_then(|own| own.inner.clone()) else {
            return Err(Error::request(
                "the answer file's <servicing> is written as one tag",
                "write it as two",
            ));
        };
        let raw = document.text().get(inner.clone()).unwrap_or_default();
        let at = inner.start + raw.trim_end().len();
        let end = inner.end;
        let text = format!("{line_end}    {}{line_end}  ", node.render("    ", "  ", line_end));
        document.splice(at..end, &text)?;
    }
    Ok(document.text().to_owned())
}

/// Whether a file says that setup uses a configuration set, from whose root packages are named.
pub fn uses_configuration_set(text: &str) -> bool {
    let Ok(document) = Document::parse(text.to_owned()) else { return false };
    super::all_components(document.root())
        .any(|(_, component)| component.text_at(&["UseConfigurationSet"]).is_some_and(super::spots::is_true))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_named_after_what_is_there() {
        let package = |name: &str| Package {
            identity: [
                ("name", name.to_owned()),
                ("version", "1.0".into()),
                ("processorArchitecture", "amd64".into()),
                ("publicKeyToken", String::new()),
                ("language", "neutral".into()),
            ],
            file: format!("updates/{name}.cab"),
        };
        let once = with_packages(None, &[package("A & B")]).unwrap();
        assert!(
            once.contains("name=\"A &amp; B\"") && once.contains("%configsetroot%\\updates\\A &amp; B.cab"),
            "{once}"
        );
        let twice = with_packages(Some(&once), &[package("C")]).unwrap();
        let document = Document::parse(twice).unwrap();
        assert_eq!(document.root().child("servicing").unwrap().children.len(), 2);
        assert!(!uses_configuration_set(document.text()));
    }
}
