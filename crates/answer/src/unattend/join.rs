//! Answers for several architectures in one file: setup takes the components of its own.

use super::edit::{PASSES, architecture_of, components};
use crate::xml::{Document, Element};
use neat_content::{Error, Result};

/// The text of `first` with the components of `second`, which are for other architectures.
///
/// # Errors
/// `Corrupt` for what is no answer file of this dialect; `Request` where both answer for one architecture, or `second` has
/// prefixes of names that `first` does not know.
pub fn join(first: &str, second: &str) -> Result<String> {
    let mut document = Document::parse(first.to_owned())?;
    let other = Document::parse(second.to_owned())?;
    for prefix in prefixes(&other) {
        if !prefixes(&document).contains(&prefix) {
            return Err(Error::request(
                format!(
                    "the second answer file names {prefix} in its first tag, and the other has no such name"
                ),
                "write both from models",
            ));
        }
    }
    for pass in PASSES {
        for component in components(other.root(), pass) {
            refuse_same(document.root(), pass, component)?;
            let text = other.text().get(component.span.clone()).unwrap_or_default();
            insert(&mut document, pass, text)?;
        }
    }
    Ok(document.text().to_owned())
}

/// Names of name spaces in the first tag, as they are written.
fn prefixes(document: &Document) -> Vec<String> {
    let text = document.text().get(document.root().span.clone()).unwrap_or_default();
    let head = text.split('>').next().unwrap_or_default();
    head.split_whitespace()
        .filter(|word| word.starts_with("xmlns:"))
        .map(|word| word.trim_end_matches('/').to_owned())
        .collect()
}

fn refuse_same(root: &Element, pass: &str, component: &Element) -> Result<()> {
    let of = |own: &Element| own.attribute("processorArchitecture").and_then(architecture_of);
    let name = component.attribute("name").unwrap_or_default();
    let is_same = |own: &Element| own.attribute("name") == Some(name) && of(own) == of(component);
    if components(root, pass).any(is_same) {
        let architecture = of(component).map_or("one architecture", |own| own.name());
        return Err(Error::request(
            format!(
                "both answer files say {name} of the pass {pass} for {architecture}, and setup would find one of them"
            ),
            "setups of one architecture have one answer file in the media's root: put both into one, or make two media",
        ));
    }
    Ok(())
}

/// Puts a component at the end of its pass, which is made where it is missing.
fn insert(document: &mut Document, pass: &str, component: &str) -> Result<()> {
    let line_end = document.line_end();
    let is_pass = |own: &&Element| {
        own.name == "settings" && own.attribute("pass").is_some_and(|own| own.eq_ignore_ascii_case(pass))
    };
    let there = document.root().children.iter().find(|own| is_pass(own) && own.inner.is_some());
    let (inner, text) = if let Some(settings) = there {
        (settings.inner.clone(), format!("{line_end}    {component}"))
    } else {
        let settings = format!("<settings pass=\"{pass}\">{line_end}    {component}{line_end}  </settings>");
        (document.root().inner.clone(), format!("{line_end}  {settings}"))
    };
    let Some(inner) = inner else {
        return Err(Error::request("the answer file is empty", "take it out, so that a new one is made"));
    };
    let raw = document.text().get(inner.clone()).unwrap_or_default();
    let at = inner.start + raw.trim_end().len();
    document.splice(at..at, &text)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::join;
    use crate::{AnswerFile, Dialect, Model, Secrets, read_file, write_model};

    fn written(text: &str) -> String {
        let model = Model::parse(&format!("format = 1\n{text}")).unwrap();
        write_model(&model, Dialect::Unattend, &mut Secrets::default()).unwrap().text
    }

    #[test]
    fn each_architecture_keeps_its_own_answers() {
        let first = written(
            "architectures = [\"x64\"]\n[machine]\nname = \"DECK-64\"\n[language]\nsetup = \"en-GB\"\n",
        );
        let second = written(
            "architectures = [\"x86\"]\n[machine]\nname = \"DECK-32\"\n[system]\nlicence = \"accept\"\n",
        );
        let joined = join(&first, &second).unwrap();
        assert_eq!(joined.matches("<ComputerName>").count(), 2);
        let file = AnswerFile::parse(joined.as_bytes()).unwrap();
        let model = read_file(&file).unwrap().model;
        assert_eq!(model.architectures.len(), 2, "{joined}");
        // Each is what it was when the other is taken out again.
        for (own, name) in [("amd64", "DECK-64"), ("x86", "DECK-32")] {
            let at = joined.find(name).unwrap();
            let before = &joined[..at];
            let component = before.rfind("<component").unwrap();
            assert!(joined[component..at].contains(own), "{joined}");
        }
        let error =
            join(&first, &written("architectures = [\"x64\"]\n[machine]\nname = \"B\"\n")).unwrap_err();
        assert!(error.to_string().contains("for x64"), "{error}");
        assert!(join(&first, "<unattend").is_err());
        let prefixed = second.replacen("<unattend ", "<unattend xmlns:own=\"urn:x\" ", 1);
        assert!(join(&first, &prefixed).is_err());
        assert_eq!(
            join(&first, "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"></unattend>").unwrap(),
            first
        );
    }
}
