//! Which folder a dialect is in, and what is asked of all of them.

use crate::{
    Dialect, MediaFacts, autoinstall, autoyast,
    face::{Chooser, Face, Kernel},
    kickstart, preseed, sif, unattend,
};
use neat_content::{Content, Text, Tree};

/// Bytes of a file that are looked at.
const MAX_LEN: u64 = 4 << 20;

impl Dialect {
    /// What it can do.
    pub(crate) fn face(self) -> &'static dyn Face {
        match self {
            Self::Unattend => &unattend::Unattend,
            Self::Preseed => &preseed::Preseed,
            Self::Kickstart => &kickstart::Kickstart,
            Self::Autoinstall => &autoinstall::Autoinstall,
            Self::Autoyast => &autoyast::Autoyast,
            Self::Sif => &sif::Sif,
        }
    }

    /// The dialect of `text`; `None` when it is none that we know.
    pub fn of_text(text: &str) -> Option<Self> {
        let likeness = |dialect: &Self| (dialect.face().about().likeness)(text);
        Self::ALL.iter().copied().filter(|own| likeness(own) > 0).max_by_key(likeness)
    }

    /// The dialect of a file's content.
    pub fn of_content(content: &Content) -> Option<Self> {
        Self::of_text(&text_of(content)?)
    }

    /// The dialect of what is fetched from an address: nothing but its name shows it.
    pub fn of_address(address: &str) -> Self {
        let name = address.rsplit('/').next().unwrap_or_default();
        let is_one = |own: &Self| {
            own.kernel().is_some_and(|kernel| kernel.addresses.iter().any(|end| is_named(name, end)))
        };
        Self::ALL.iter().copied().find(is_one).unwrap_or(Self::OF_KERNELS)
    }

    /// Where this dialect is looked for on the media's root.
    pub fn place(self) -> &'static str {
        self.places().first().copied().unwrap_or_default()
    }

    /// All places on the media where setup looks, the first one first.
    pub fn places(self) -> &'static [&'static str] {
        self.face().about().places
    }

    /// Files without content that setup takes together with the answers, or neither.
    pub fn companions(self) -> &'static [&'static str] {
        self.face().about().companions
    }

    /// What the kernel's command line must say so that the installer finds the file on the media's root; `None` where
    /// setup looks there by itself.
    pub fn option_for_root(self) -> Option<&'static str> {
        self.kernel().map(|kernel| kernel.option_for_root)
    }

    /// How a kernel's installer is told where its answers are; `None` where no kernel reads them.
    pub fn kernel(self) -> Option<&'static Kernel> {
        self.face().about().kernel.as_ref()
    }

    /// Whether names of machines and accounts must be short.
    pub fn has_short_names(self) -> bool {
        self.face().about().rules.short_names
    }

    /// What chooses among the answers on a media by the machine's serial number; `None` where nothing can.
    pub fn chooser(self) -> Option<Chooser> {
        (self.face().about().chooser)()
    }
}

/// Whether a name is `end`, or ends in it where that begins with a point.
fn is_named(name: &str, end: &str) -> bool {
    if end.starts_with('.') { name.ends_with(end) } else { name == end }
}

/// The text of an answer file; `None` when it is too large to be one.
pub fn text_of(content: &Content) -> Option<String> {
    let bytes = content.to_vec(MAX_LEN, "answer file").ok()?;
    Some(Text::decode(&bytes).text)
}

/// Answer files on a media where setup would find them: path and dialect.
pub fn answer_files(tree: &Tree) -> Vec<(String, Dialect)> {
    let places = Dialect::ALL.iter().flat_map(|own| own.places().iter().map(move |place| (*own, *place)));
    let found = |(dialect, place): (Dialect, &str)| {
        let id = tree.find_ignoring_case(place)?;
        tree.node(id).content()?;
        Some((tree.path(id), dialect))
    };
    places.filter_map(found).collect()
}

impl MediaFacts {
    /// What a media's tree says; editions and architectures are for others to add.
    pub fn of_tree(tree: &Tree) -> Self {
        let entry =
            |step: neat_content::Step| (step.path.to_lowercase(), tree.node(step.id).content().cloned());
        let paths = tree.walk().map(entry).collect();
        Self { paths, answer_files: answer_files(tree), ..Self::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_known_by_what_stands_in_them() {
        for (text, dialect) in [
            ("<?xml version=\"1.0\"?><unattend xmlns=\"urn:x\"/>", Some(Dialect::Unattend)),
            ("#cloud-config\nautoinstall:\n  version: 1\n", Some(Dialect::Autoinstall)),
            ("d-i debian-installer/locale string en_GB\n", Some(Dialect::Preseed)),
            ("lang en_GB.UTF-8\nkeyboard gb\n", Some(Dialect::Kickstart)),
            // A script that writes answers of another kind is still what it is.
            ("lang en\nkeyboard gb\n%post\ncat >x <<E\nautoinstall:\nE\n%end\n", Some(Dialect::Autoinstall)),
            ("lang en\n", None),
            ("", None),
        ] {
            assert_eq!(Dialect::of_text(text), dialect, "{text}");
        }
    }

    #[test]
    fn an_address_tells_its_kind_by_name() {
        for (address, dialect) in [
            ("http://a/b/preseed.cfg", Dialect::Preseed),
            ("http://a/b/other", Dialect::Preseed),
            ("http://a/b/lab.ks", Dialect::Kickstart),
            ("http://a/b/ks.cfg", Dialect::Kickstart),
            ("http://a/b/", Dialect::Autoinstall),
            ("http://a/b/user-data", Dialect::Autoinstall),
            ("http://a/b/x.yaml", Dialect::Autoinstall),
        ] {
            assert_eq!(Dialect::of_address(address), dialect, "{address}");
        }
    }

    #[test]
    fn names_of_files_do_not_overlap() {
        let mut seen = std::collections::HashSet::new();
        for dialect in Dialect::ALL {
            assert!(!dialect.places().is_empty(), "{}", dialect.name());
            for place in dialect.places() {
                assert!(seen.insert(*place), "{place} belongs to two dialects");
            }
            assert_eq!(serde_json::to_value(dialect).unwrap(), dialect.name());
        }
    }
}
