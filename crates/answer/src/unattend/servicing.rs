//! The servicing section: packages that setup installs, and features that it switches.

use super::{NAMESPACE, node::Node};
use crate::{Dialect, xml::Document};
use neat_content::{Error, Result};

/// The dialect whose files name packages.
pub const DIALECT: Dialect = Dialect::Unattend;

/// A package that setup installs, or one of the system whose features it switches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Package {
    /// Name, version, processor, key token and language of its identity; what is empty is not said.
    pub identity: [(&'static str, String); 5],
    /// Where it comes from.
    pub source: PackageSource,
    /// Features that are switched, and whether they are on afterwards.
    pub features: Vec<(String, bool)>,
}

/// Where a package, or what its features need, comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PackageSource {
    /// The system has it.
    System,
    /// A cabinet: a path on the media. It is installed.
    Cabinet(String),
    /// The system has the package, and a folder of the media what its features need.
    Folder(String),
}

/// A path on the media as setup finds it: from the root of the configuration set.
#[must_use]
pub fn from_set(path: &str) -> String {
    format!("%configsetroot%\\{}", path.replace('/', "\\"))
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
    if document.root().inner.is_none() {
        // One tag, with nothing in it.
        document = Document::parse(fresh())?;
    }
    let line_end = document.line_end();
    if document.root().child("servicing").is_none() && !packages.is_empty() {
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
        let (action, place) = match &package.source {
            PackageSource::System => ("configure", None),
            PackageSource::Cabinet(path) => ("install", Some(path)),
            PackageSource::Folder(path) => ("configure", Some(path)),
        };
        let mut node = Node::new("package").attribute("action", action).with(identity);
        for (name, on) in &package.features {
            let selection = Node::new("selection").attribute("name", name);
            node = node.with(selection.attribute("state", if *on { "true" } else { "false" }));
        }
        if let Some(path) = place {
            node = node.with(Node::new("source").attribute("location", &from_set(path)));
        }
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
            source: PackageSource::Cabinet(format!("updates/{name}.cab")),
            features: Vec::new(),
        };
        let once = with_packages(None, &[package("A & B")]).unwrap();
        assert!(
            once.contains("name=\"A &amp; B\"") && once.contains("%configsetroot%\\updates\\A &amp; B.cab"),
            "{once}"
        );
        let empty = "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\" />\r\n";
        assert_eq!(with_packages(Some(empty), &[package("A & B")]).unwrap(), once);
        let twice = with_packages(Some(&once), &[package("C")]).unwrap();
        let document = Document::parse(twice).unwrap();
        assert_eq!(document.root().child("servicing").unwrap().children.len(), 2);
        let features = vec![("Telex".to_owned(), true), ("Fax & more".to_owned(), false)];
        let switched =
            Package { source: PackageSource::Folder("sources/extras".into()), features, ..package("System") };
        let thrice = with_packages(Some(document.text()), &[switched]).unwrap();
        for line in [
            "<package action=\"configure\">",
            "<selection name=\"Telex\" state=\"true\" />",
            "<selection name=\"Fax &amp; more\" state=\"false\" />",
            "<source location=\"%configsetroot%\\sources\\extras\" />",
        ] {
            assert!(thrice.contains(line), "{line}: {thrice}");
        }
        assert!(!uses_configuration_set(document.text()));
    }
}
