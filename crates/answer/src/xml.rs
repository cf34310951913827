//! XML kept exactly: a text, the elements in it, and where each stands, so that a change touches nothing else.

use neat_content::{Error, Result};
use quick_xml::{
    Reader,
    escape::resolve_predefined_entity,
    events::{BytesStart, Event},
};
use std::ops::Range;

/// Most elements and how deep they may nest.
const MAX_ELEMENTS: usize = 100_000;
const MAX_DEPTH: usize = 64;

/// An element and where it stands in the text.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Element {
    /// Name without its prefix.
    pub name: String,
    /// Attributes without the prefixes of their names, values decoded.
    pub attributes: Vec<(String, String)>,
    /// The whole of it.
    pub span: Range<usize>,
    /// What is between its tags; none for `<a/>`.
    pub inner: Option<Range<usize>>,
    /// Elements inside.
    pub children: Vec<Element>,
    /// Its own text, decoded.
    pub text: String,
}

/// A text and its root element.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Document {
    text: String,
    root: Element,
    is_typed: bool,
}

impl Element {
    /// The first element inside of this name.
    pub fn child(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|child| child.name == name)
    }

    /// The element at the end of a path of names.
    pub fn find(&self, path: &[&str]) -> Option<&Self> {
        path.iter().try_fold(self, |element, name| element.child(name))
    }

    /// Text at the end of a path, without space at its ends.
    pub fn text_at(&self, path: &[&str]) -> Option<&str> {
        self.find(path).map(|element| element.text.trim())
    }

    /// The value of an attribute.
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(own, _)| own == name).map(|(_, value)| value.as_str())
    }
}

impl Document {
    /// Reads a text. A document type is refused, so that there are no entities but XML's own.
    pub fn parse(text: String) -> Result<Self> {
        let root = parse(&text, false)?;
        Ok(Self { text, root, is_typed: false })
    }

    /// The same of a dialect whose files name a document type. Its own part, which could define entities, is refused all
    /// the same, and nothing is read from elsewhere.
    pub fn parse_typed(text: String) -> Result<Self> {
        let root = parse(&text, true)?;
        Ok(Self { text, root, is_typed: true })
    }

    /// The text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The outermost element.
    pub fn root(&self) -> &Element {
        &self.root
    }

    /// Line, from 1, of a place in the text.
    pub fn line(&self, at: usize) -> usize {
        line_of(&self.text, at)
    }

    /// Replaces a part of the text.
    pub fn splice(&mut self, range: Range<usize>, with: &str) -> Result<()> {
        let mut text = String::with_capacity(self.text.len() + with.len());
        text.push_str(self.text.get(..range.start).unwrap_or_default());
        text.push_str(with);
        text.push_str(self.text.get(range.end..).unwrap_or_default());
        *self = if self.is_typed { Self::parse_typed(text)? } else { Self::parse(text)? };
        Ok(())
    }

    /// The line end of the text.
    pub fn line_end(&self) -> &'static str {
        if self.text.contains("\r\n") { "\r\n" } else { "\n" }
    }

    /// The space before an element on its line; empty when something else stands there.
    pub fn indent(&self, element: &Element) -> &str {
        let before = self.text.get(..element.span.start).unwrap_or_default();
        let start = before.rfind('\n').map_or(0, |at| at + 1);
        let space = &before[start..];
        if space.chars().all(|c| c == ' ' || c == '\t') { space } else { "" }
    }
}

/// Line, from 1, of a place in a text.
pub(crate) fn line_of(text: &str, at: usize) -> usize {
    text.bytes().take(at).filter(|byte| *byte == b'\n').count() + 1
}

/// Text as it stands between tags.
pub(crate) fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            // A bare one becomes a line feed when XML is read.
            '\r' => out.push_str("&#13;"),
            c => out.push(c),
        }
    }
    out
}

/// Whether XML 1.0, 2.2 can hold every character.
pub(crate) fn is_sayable(text: &str) -> bool {
    !text
        .chars()
        .any(|c| (c < ' ' && !matches!(c, '\t' | '\n' | '\r')) || matches!(c, '\u{FFFE}' | '\u{FFFF}'))
}

fn wrong(text: &str, at: usize, what: impl std::fmt::Display) -> Error {
    Error::Mismatch {
        expected: "well-formed XML".into(),
        found: format!("at line {}: {what}", line_of(text, at)),
        hint: "correct the answer file in an editor".into(),
    }
}

fn local(name: &str) -> String {
    name.rsplit(':').next().unwrap_or_default().to_owned()
}

/// A reference's character; only XML's own names and numbers.
fn resolve(text: &str, at: usize, name: &str) -> Result<String> {
    if let Some(number) = name.strip_prefix('#') {
        let code =
            number.strip_prefix('x').map_or_else(|| number.parse(), |hex| u32::from_str_radix(hex, 16));
        let c = code.ok().and_then(char::from_u32).filter(|c| is_sayable(&c.to_string()));
        return c.map(String::from).ok_or_else(|| wrong(text, at, format!("the reference &{name};")));
    }
    resolve_predefined_entity(name)
        .map(str::to_owned)
        .ok_or_else(|| wrong(text, at, format!("the entity &{name};, which is not one of XML's own")))
}

fn decode(text: &str, at: usize, raw: &str) -> Result<String> {
    let mut out = String::new();
    let mut rest = raw;
    while let Some(start) = rest.find('&') {
        out.push_str(&rest[..start]);
        let end =
            rest[start..].find(';').ok_or_else(|| wrong(text, at, "a reference that does not end"))? + start;
        out.push_str(&resolve(text, at, &rest[start + 1..end])?);
        rest = &rest[end + 1..];
    }
    out.push_str(rest);
    Ok(out)
}

fn start(text: &str, at: usize, end: usize, tag: &BytesStart<'_>, is_empty: bool) -> Result<Element> {
    let name: &str = tag.name().0;
    let mut attributes = Vec::new();
    for attribute in tag.attributes() {
        let attribute = attribute.map_err(|error| wrong(text, at, error))?;
        let value: &str = &attribute.value;
        if value.contains('<') {
            return Err(wrong(text, at, "a < in an attribute"));
        }
        attributes.push((local(attribute.key.0), decode(text, at, value)?));
    }
    let is_name = |c: char| c.is_alphanumeric() || matches!(c, '_' | ':' | '.' | '-');
    if name.is_empty() || !name.chars().all(is_name) {
        return Err(wrong(text, at, format!("the tag {name:.40}")));
    }
    let inner = (!is_empty).then_some(end..end);
    Ok(Element { name: local(name), attributes, span: at..end, inner, ..Element::default() })
}

fn parse(text: &str, may_be_typed: bool) -> Result<Element> {
    let mut reader = Reader::from_str(text);
    // The reader passes over a byte order mark and does not count it.
    let skipped = text.len() - text.trim_start_matches('\u{feff}').len();
    let mut open = vec![Element::default()];
    let mut count = 0;
    loop {
        let at = reader.buffer_position() as usize + skipped;
        let event = reader.read_event().map_err(|error| wrong(text, at, error))?;
        let end = reader.buffer_position() as usize + skipped;
        let depth = open.len();
        let Some(parent) = open.last_mut() else { return Err(wrong(text, at, "an end without a start")) };
        match event {
            Event::Start(tag) => {
                count += 1;
                if depth > MAX_DEPTH || count > MAX_ELEMENTS {
                    return Err(wrong(text, at, "more elements, or deeper ones, than an answer file has"));
                }
                open.push(start(text, at, end, &tag, false)?);
            }
            Event::Empty(tag) => {
                count += 1;
                if count > MAX_ELEMENTS {
                    return Err(wrong(text, at, "more elements than an answer file has"));
                }
                let element = start(text, at, end, &tag, true)?;
                parent.children.push(element);
            }
            Event::End(_) => {
                let mut done = open.pop().unwrap_or_default();
                done.span.end = end;
                done.inner = done.inner.map(|inner| inner.start..at);
                match open.last_mut() {
                    Some(parent) => parent.children.push(done),
                    None => return Err(wrong(text, at, "an end without a start")),
                }
            }
            Event::Text(_) => {
                let raw = text.get(at..end).unwrap_or_default();
                if depth == 1 && !raw.trim_matches(|c: char| c.is_whitespace() || c == '\u{feff}').is_empty()
                {
                    return Err(wrong(text, at, "text outside of all elements"));
                }
                // XML 1.0, 2.11: line ends are read as one line feed.
                parent.text.push_str(&raw.replace("\r\n", "\n").replace('\r', "\n"));
            }
            Event::CData(data) => {
                let data: &str = &data;
                parent.text.push_str(&data.replace("\r\n", "\n").replace('\r', "\n"));
            }
            Event::GeneralRef(name) => {
                let name: &str = &name;
                let c = resolve(text, at, name)?;
                parent.text.push_str(&c);
            }
            Event::DocType(_) if may_be_typed && !text.get(at..end).unwrap_or_default().contains('[') => {}
            Event::DocType(_) => {
                return Err(wrong(
                    text,
                    at,
                    "a document type, which could bring in other files; take it out",
                ));
            }
            Event::Decl(_) | Event::PI(_) | Event::Comment(_) => {}
            Event::Eof => break,
        }
    }
    let [outside] = open.as_mut_slice() else {
        let name = open.last().map(|element| element.name.clone()).unwrap_or_default();
        return Err(wrong(text, text.len(), format!("the end of the file before </{name}>")));
    };
    let mut roots = std::mem::take(&mut outside.children).into_iter();
    match (roots.next(), roots.next()) {
        (Some(root), None) => Ok(root),
        (None, _) => Err(wrong(text, 0, "no element")),
        (_, Some(second)) => Err(wrong(text, second.span.start, "a second outermost element")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn elements_know_where_they_stand_and_text_is_decoded() {
        let text = "\u{feff}<?xml version=\"1.0\"?>\r\n<!-- é -->\r\n<a x:b='1 &amp; 2'>\r\n  <c/>&#x20;<d><![CDATA[<]]>]]&gt;&quot;𐐷</d>\r\n</a>\r\n";
        let mut document = Document::parse(text.into()).unwrap();
        let a = document.root();
        assert_eq!(a.attribute("b"), Some("1 & 2"));
        assert_eq!(&text[a.child("c").unwrap().span.clone()], "<c/>");
        let d = a.child("d").unwrap();
        assert_eq!(d.text, "<]]>\"𐐷");
        assert_eq!(document.line(d.span.start), 4);
        let inner = d.inner.clone().unwrap();
        document.splice(inner, &escape("a]]>\r\n&")).unwrap();
        assert_eq!(document.root().text_at(&["d"]), Some("a]]>\r\n&"));
        assert_eq!(
            document.text().len(),
            text.len() - "<![CDATA[<]]>]]&gt;&quot;𐐷".len() + "a]]&gt;&#13;\n&amp;".len()
        );
    }

    #[test]
    fn entities_of_others_and_broken_text_are_refused() {
        let deep = "<a>".repeat(1000);
        for text in [
            "<!DOCTYPE a [<!ENTITY b SYSTEM \"file:///etc/passwd\">]><a>&b;</a>",
            "<a>&b;</a>",
            "<a b=\"&c;\"/>",
            "<a>&#0;</a>",
            "<a>",
            "<a></b>",
            "</a>",
            "<a/><b/>",
            "x<a/>",
            "",
            "<a b=1/>",
            deep.as_str(),
        ] {
            assert!(Document::parse(text.into()).is_err(), "{text:.40}");
        }
    }
}
