//! The XML data of an image file, kept as it is where we do not understand it.

use crate::{Limits, limits::at_most};
use neat_content::{Error, Result};
use quick_xml::{Reader, events::Event};
use std::borrow::Cow;

/// An element. Text and attributes are kept as they were written, with their entities.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Element {
    /// Name, case kept.
    pub name: String,
    /// What stands after the name, with the space before it.
    attributes: String,
    /// What is inside.
    pub children: Vec<Child>,
}

/// Something inside an element.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Child {
    /// An element.
    Element(Element),
    /// Anything else, as it was written.
    Text(String),
}

fn refused(at: u64, found: impl std::fmt::Display) -> Error {
    Error::bad_field("XmlData", "text", at, "well-formed XML", found)
}

impl Element {
    /// An element with text in it, or nothing.
    pub fn with_text(name: &str, text: &str) -> Self {
        let children = if text.is_empty() { Vec::new() } else { vec![Child::Text(escape(text))] };
        Self { name: name.into(), attributes: String::new(), children }
    }

    /// Reads the one element that `text` holds. Entities are not expanded.
    ///
    /// # Errors
    /// `Corrupt` for what is not well formed or more than one element, `LimitExceeded` for too many or too deep ones.
    pub fn parse(text: &str) -> Result<Self> {
        Self::parse_with(text, &Limits::default())
    }

    /// As [`Element::parse`], with limits of the caller's.
    ///
    /// # Errors
    /// As [`Element::parse`].
    pub fn parse_with(text: &str, limits: &Limits) -> Result<Self> {
        // The reader passes over a byte order mark and does not count it.
        let text = text.trim_start_matches('\u{feff}');
        let mut reader = Reader::from_str(text);
        reader.config_mut().expand_empty_elements = true;
        let mut open: Vec<Self> = vec![Self::default()];
        let mut count = 0;
        loop {
            let at = reader.buffer_position();
            let event = reader.read_event().map_err(|error| refused(at, error))?;
            let Some(parent) = open.last_mut() else { return Err(refused(at, "an end without a start")) };
            match event {
                Event::Start(start) => {
                    count += 1;
                    at_most("depth of the XML data", at, open.len(), limits.element_depth)?;
                    at_most("elements of the XML data", at, count, limits.elements)?;
                    if let Some(error) = start.attributes().find_map(std::result::Result::err) {
                        return Err(refused(at, error));
                    }
                    let name_len = start.name().as_ref().len();
                    let whole: &str = start.as_ref();
                    let (name, attributes) =
                        whole.split_at_checked(name_len).ok_or_else(|| refused(at, "a cut name"))?;
                    if !is_name(name) || attributes.contains('<') {
                        return Err(refused(at, format!("the tag {name:.40}")));
                    }
                    open.push(Self {
                        name: name.into(),
                        attributes: attributes.trim_end().into(),
                        children: Vec::new(),
                    });
                }
                Event::End(_) => {
                    let done = open.pop().unwrap_or_default();
                    match open.last_mut() {
                        Some(parent) => parent.children.push(Child::Element(done)),
                        None => return Err(refused(at, "an end without a start")),
                    }
                }
                Event::Eof => break,
                // Switched off above: empty elements come as a start and an end.
                Event::Empty(_) => return Err(refused(at, "an empty element")),
                Event::Decl(_) | Event::DocType(_) | Event::PI(_) | Event::Comment(_) => {
                    let end = reader.buffer_position();
                    if let (Some(raw), true) = (text.get(at as usize..end as usize), open.len() > 1) {
                        let raw = raw.to_owned();
                        if let Some(parent) = open.last_mut() {
                            parent.children.push(Child::Text(raw));
                        }
                    }
                }
                Event::Text(_) | Event::CData(_) | Event::GeneralRef(_) => {
                    let end = reader.buffer_position();
                    let raw = text.get(at as usize..end as usize).unwrap_or_default();
                    match parent.children.last_mut() {
                        Some(Child::Text(before)) => before.push_str(raw),
                        _ => parent.children.push(Child::Text(raw.into())),
                    }
                }
            }
        }
        let [root] = open.as_mut_slice() else {
            return Err(refused(text.len() as u64, "an element that does not end"));
        };
        let mut elements = std::mem::take(&mut root.children).into_iter().filter_map(|child| match child {
            Child::Element(element) => Some(element),
            Child::Text(_) => None,
        });
        match (elements.next(), elements.next()) {
            (Some(root), None) => Ok(root),
            _ => Err(refused(0, "not one root element")),
        }
    }

    /// The element as text.
    pub fn to_text(&self) -> String {
        let mut text = String::new();
        self.write(&mut text);
        text
    }

    fn write(&self, text: &mut String) {
        text.push_str(&format!("<{}{}>", self.name, self.attributes));
        for child in &self.children {
            match child {
                Child::Element(element) => element.write(text),
                Child::Text(raw) => text.push_str(raw),
            }
        }
        text.push_str(&format!("</{}>", self.name));
    }

    /// The elements inside.
    pub fn elements(&self) -> impl Iterator<Item = &Self> {
        self.children.iter().filter_map(|child| match child {
            Child::Element(element) => Some(element),
            Child::Text(_) => None,
        })
    }

    /// Its name without the prefix of a namespace.
    pub fn local_name(&self) -> &str {
        self.name.rsplit(':').next().unwrap_or(&self.name)
    }

    /// The elements inside with this name, whatever their prefixes.
    pub fn locals<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.elements().filter(move |inner| inner.local_name() == name)
    }

    /// The first element inside with this name, whatever its prefix.
    pub fn local(&self, name: &str) -> Option<&Self> {
        self.elements().find(|inner| inner.local_name() == name)
    }

    /// The first element of this name inside.
    pub fn child(&self, name: &str) -> Option<&Self> {
        self.elements().find(|element| element.name == name)
    }

    /// The element at the end of a path of names.
    pub fn find(&self, path: &[&str]) -> Option<&Self> {
        path.iter().try_fold(self, |element, name| element.child(name))
    }

    /// The text inside, entities resolved, without space at its ends.
    pub fn text(&self) -> String {
        let raw: String = self
            .children
            .iter()
            .filter_map(|child| match child {
                Child::Text(raw) => Some(raw.as_str()),
                Child::Element(_) => None,
            })
            .collect();
        let text = quick_xml::escape::unescape(&raw).map_or_else(|_| raw.clone(), Cow::into_owned);
        text.trim().to_owned()
    }

    /// The text of the element at the end of a path, if it is there and not empty.
    pub fn text_at(&self, path: &[&str]) -> Option<String> {
        self.find(path).map(Self::text).filter(|text| !text.is_empty())
    }

    /// The number at the end of a path.
    pub fn number_at(&self, path: &[&str]) -> Option<u64> {
        self.text_at(path)?.parse().ok()
    }

    /// Sets the text of the element `name` inside, which is added at the end where it is missing. Without a text it is
    /// taken out.
    pub fn set(&mut self, name: &str, text: Option<&str>) {
        let place = self
            .children
            .iter()
            .position(|child| matches!(child, Child::Element(element) if element.name == name));
        match (place, text) {
            (Some(place), Some(text)) => {
                if let Child::Element(element) = &mut self.children[place] {
                    element.children = Self::with_text(name, text).children;
                }
            }
            (Some(place), None) => {
                self.children.remove(place);
            }
            (None, Some(text)) => self.children.push(Child::Element(Self::with_text(name, text))),
            (None, None) => {}
        }
    }

    /// The value of an attribute.
    pub fn attribute(&self, name: &str) -> Option<Cow<'_, str>> {
        let mut rest = self.attributes.trim_start();
        while let Some((own, after)) = rest.split_once('=') {
            let after = after.trim_start();
            let quote = after.chars().next().filter(|c| matches!(c, '"' | '\''))?;
            let (value, behind) = after.get(1..)?.split_once(quote)?;
            if own.trim_end() == name {
                return Some(if value.contains('&') {
                    quick_xml::escape::unescape(value).unwrap_or(Cow::Borrowed(value))
                } else {
                    Cow::Borrowed(value)
                });
            }
            rest = behind.trim_start();
        }
        None
    }

    /// The first element inside with this name, to change it.
    pub fn child_mut(&mut self, name: &str) -> Option<&mut Self> {
        self.children.iter_mut().find_map(|child| match child {
            Child::Element(element) if element.name == name => Some(element),
            _ => None,
        })
    }

    /// Sets an attribute; there must be no other that is to be kept.
    pub fn set_only_attribute(&mut self, name: &str, value: &str) {
        self.attributes = format!(" {name}=\"{}\"", escape(value));
    }
}

/// Whether it can be the name of an element, a little more narrowly than XML 1.0, 2.3 has it.
fn is_name(text: &str) -> bool {
    let mut chars = text.chars();
    chars.next().is_some_and(|c| c.is_alphabetic() || matches!(c, '_' | ':'))
        && chars.all(|c| c.is_alphanumeric() || matches!(c, '_' | ':' | '.' | '-'))
}

fn escape(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

/// The text of XML data: UTF-16 with a byte order mark.
///
/// # Errors
/// `Corrupt` with the offset, for an odd number of bytes and halves of characters.
pub fn decode(bytes: &[u8], offset: u64) -> Result<String> {
    let bytes = match bytes {
        [0xFF, 0xFE, rest @ ..] => rest,
        [] => return Ok(String::new()),
        other => other,
    };
    if bytes.len() % 2 != 0 {
        return Err(Error::bad_field("XmlData", "text", offset, "UTF-16", "an odd number of bytes"));
    }
    let units = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
    let text: String = char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect();
    Ok(text.trim_end_matches('\0').to_owned())
}

/// XML data as bytes.
pub fn encode(text: &str) -> Vec<u8> {
    let mut bytes = vec![0xFF, 0xFE];
    bytes.extend(text.encode_utf16().flat_map(u16::to_le_bytes));
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_understood_is_kept() {
        let text = "<WIM><TOTALBYTES>7</TOTALBYTES><IMAGE INDEX=\"1\" own='x &amp; y'>\n  <ODD a=\"1\"><![CDATA[<&>]]>&amp;&#65;<!-- c --></ODD><NAME>A &amp; B</NAME></IMAGE></WIM>";
        let mut root = Element::parse(&format!("<?xml version=\"1.0\"?>{text}")).unwrap();
        assert_eq!(root.to_text(), text);
        let image = root.child("IMAGE").unwrap();
        assert_eq!(image.attribute("INDEX").as_deref(), Some("1"));
        assert_eq!(image.text_at(&["NAME"]).unwrap(), "A & B");
        let Some(Child::Element(image)) = root.children.get_mut(1) else { panic!() };
        image.set("NAME", Some("C<D"));
        image.set("FLAGS", Some("x"));
        image.set("ODD", None);
        assert!(root.to_text().ends_with("\n  <NAME>C&lt;D</NAME><FLAGS>x</FLAGS></IMAGE></WIM>"));
        let marked = "\u{feff}<a><?b c?></a>";
        assert_eq!(Element::parse(marked).unwrap().to_text(), "<a><?b c?></a>");
        assert_eq!(decode(&encode("a𐐷"), 0).unwrap(), "a𐐷");
    }

    #[test]
    fn attributes_are_found_by_their_whole_names_and_resolved() {
        let text = "<a bc=' b=\"no\" ' b = \"&lt;yes&gt; &amp; 'so'\"\n  x:y=\"\" z='\"'/>";
        let element = Element::parse(text).unwrap();
        for (name, value) in [
            ("bc", " b=\"no\" "),
            ("b", "<yes> & 'so'"),
            ("x:y", ""),
            ("z", "\""),
            ("y", "none"),
            ("c", "none"),
        ] {
            assert_eq!(element.attribute(name).as_deref().unwrap_or("none"), value, "{name}");
        }
    }

    #[test]
    fn broken_and_hostile_text_is_refused() {
        let deep = "<a>".repeat(100_000);
        for text in [
            "",
            "<a>",
            "<a></b>",
            "</a>",
            "<a/><b/>",
            "text",
            "<a b=\"</a>",
            "<WIMA<T<<A O//>>A",
            "1<WTM//>G",
            deep.as_str(),
        ] {
            assert!(Element::parse(text).is_err(), "{text:.20}");
        }
        let bomb = "<!DOCTYPE a [<!ENTITY b \"bbbb\">]><a>&b;&b;</a>";
        assert_eq!(Element::parse(bomb).unwrap().text(), "&b;&b;");
        assert!(decode(&[0xFF, 0xFE, 0x41], 0).is_err());
    }
}
