//! Elements that are written: built first, then turned into text.

use crate::xml::escape;

/// An element to write.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Node {
    pub name: String,
    pub attributes: Vec<(String, String)>,
    pub text: String,
    pub children: Vec<Node>,
    /// Written as it is, before the children.
    pub raw: String,
}

impl Node {
    pub fn new(name: &str) -> Self {
        Self { name: name.into(), ..Self::default() }
    }

    pub fn with_text(name: &str, text: impl Into<String>) -> Self {
        Self { text: text.into(), ..Self::new(name) }
    }

    /// An item of a list, which says that it is added to what is there.
    pub fn item(name: &str) -> Self {
        Self::new(name).attribute("wcm:action", "add")
    }

    pub fn attribute(mut self, name: &str, value: &str) -> Self {
        self.attributes.push((name.into(), value.into()));
        self
    }

    /// With an element that holds a text.
    pub fn and(self, name: &str, text: impl Into<String>) -> Self {
        self.with(Self::with_text(name, text))
    }

    /// With an element, unless the text is empty.
    pub fn and_some(self, name: &str, text: &str) -> Self {
        if text.is_empty() { self } else { self.and(name, text) }
    }

    pub fn with(mut self, child: Self) -> Self {
        self.children.push(child);
        self
    }

    /// The element of this name inside, made where it is missing.
    pub fn ensure(&mut self, name: &str) -> &mut Self {
        let place = self.children.iter().position(|child| child.name == name);
        let place = place.unwrap_or_else(|| {
            self.children.push(Self::new(name));
            self.children.len() - 1
        });
        &mut self.children[place]
    }

    /// The element as lines, each after `indent`, each level deeper by `step`, without the first indent and the last
    /// line end.
    pub fn render(&self, indent: &str, step: &str, line_end: &str) -> String {
        let mut out = format!("<{}", self.name);
        for (name, value) in &self.attributes {
            out.push_str(&format!(" {name}=\"{}\"", escape(value)));
        }
        if self.text.is_empty() && self.raw.is_empty() && self.children.is_empty() {
            out.push_str(" />");
            return out;
        }
        out.push('>');
        out.push_str(&escape(&self.text));
        if !self.raw.is_empty() {
            out.push_str(&format!("{line_end}{indent}{step}{}{line_end}{indent}", self.raw.trim()));
        }
        if !self.children.is_empty() {
            let inner = format!("{indent}{step}");
            for child in &self.children {
                out.push_str(&format!("{line_end}{inner}{}", child.render(&inner, step, line_end)));
            }
            out.push_str(&format!("{line_end}{indent}"));
        }
        out.push_str(&format!("</{}>", self.name));
        out
    }
}
