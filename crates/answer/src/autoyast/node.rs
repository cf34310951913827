//! What is said, as a tree of elements; and how a file that is there is changed into it, touching only what differs.

use crate::xml::{Document, Element, escape};
use std::ops::Range;

/// An element that is said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Node {
    pub name: &'static str,
    pub body: Body,
}

/// What is in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Body {
    /// Text, with the word for its type; none for a plain text.
    Text(&'static str, String),
    /// A script, as it is.
    Source(String),
    /// Elements that are there once.
    Map(Vec<Node>),
    /// Elements that are alike.
    List(Vec<Node>),
}

/// Elements that tell the items of a list apart, the first that an item has.
const KEYS: [&str; 8] =
    ["username", "groupname", "filename", "device", "mount", "label", "name", "destination"];

impl Node {
    pub fn text(name: &'static str, text: impl Into<String>) -> Self {
        Self { name, body: Body::Text("", text.into()) }
    }

    pub fn boolean(name: &'static str, own: bool) -> Self {
        Self { name, body: Body::Text("boolean", own.to_string()) }
    }

    pub fn typed(name: &'static str, kind: &'static str, text: impl Into<String>) -> Self {
        Self { name, body: Body::Text(kind, text.into()) }
    }

    pub fn map(name: &'static str, nodes: Vec<Self>) -> Self {
        Self { name, body: Body::Map(nodes) }
    }

    pub fn list(name: &'static str, nodes: Vec<Self>) -> Self {
        Self { name, body: Body::List(nodes) }
    }

    pub fn texts(name: &'static str, item: &'static str, texts: &[String]) -> Self {
        Self::list(name, texts.iter().map(|own| Self::text(item, own)).collect())
    }

    fn children(&self) -> &[Self] {
        match &self.body {
            Body::Map(nodes) | Body::List(nodes) => nodes,
            Body::Text(..) | Body::Source(_) => &[],
        }
    }

    fn child(&self, name: &str) -> Option<&Self> {
        self.children().iter().find(|own| own.name == name)
    }

    /// By which it is found among the items of a list.
    fn key(&self) -> String {
        let own = match &self.body {
            Body::Text(_, text) => Some(text.clone()),
            _ => KEYS.iter().find_map(|key| match &self.child(key)?.body {
                Body::Text(_, text) => Some(text.clone()),
                _ => None,
            }),
        };
        own.unwrap_or_default()
    }

    /// Its text with `indent` before each line; the first line has none.
    pub fn print(&self, indent: &str, line_end: &str) -> String {
        let name = self.name;
        let inside = |kind: &str, nodes: &[Self]| {
            let mut text = format!("<{name}{kind}>{line_end}");
            let deeper = format!("{indent}  ");
            for node in nodes {
                text.push_str(&format!("{deeper}{}{line_end}", node.print(&deeper, line_end)));
            }
            format!("{text}{indent}</{name}>")
        };
        match &self.body {
            Body::Text("", text) => format!("<{name}>{}</{name}>", escape(text)),
            Body::Text(kind, text) => format!("<{name} config:type=\"{kind}\">{}</{name}>", escape(text)),
            Body::Source(text) => {
                let text = text.replace("]]>", "]]]]><![CDATA[>");
                format!("<{name}><![CDATA[{text}]]></{name}>")
            }
            Body::Map(nodes) => inside("", nodes),
            Body::List(nodes) => inside(" config:type=\"list\"", nodes),
        }
    }
}

/// The item's key in a file.
fn key_of(element: &Element) -> String {
    if element.children.is_empty() {
        return element.text.trim().to_owned();
    }
    let own = KEYS.iter().find_map(|key| element.child(key));
    own.map(|own| own.text.trim().to_owned()).unwrap_or_default()
}

/// Changes that are gathered for a file.
struct Editor<'a> {
    document: &'a Document,
    line_end: &'static str,
    edits: Vec<(Range<usize>, String)>,
}

/// A file's text, in which what differs between `before` and `after` is changed below the outermost element.
pub(super) fn rewrite(document: &Document, before: &[Node], after: &[Node]) -> String {
    let mut editor = Editor { document, line_end: document.line_end(), edits: Vec::new() };
    let root = document.root();
    editor.children(root, before, after);
    let text = document.text();
    applied(text, 0..text.len(), editor.edits)
}

/// A part of a text with changes that lie in it.
fn applied(text: &str, part: Range<usize>, mut edits: Vec<(Range<usize>, String)>) -> String {
    edits.sort_by_key(|(range, _)| (range.start, range.end));
    let (mut out, mut done) = (String::with_capacity(part.len() + 256), part.start);
    for (range, new) in edits {
        out.push_str(text.get(done..range.start).unwrap_or_default());
        out.push_str(&new);
        done = done.max(range.end);
    }
    out.push_str(text.get(done..part.end).unwrap_or_default());
    out
}

impl Editor<'_> {
    /// Elements that are there once, in an element.
    fn children(&mut self, element: &Element, before: &[Node], after: &[Node]) {
        for node in after {
            let was = before.iter().find(|own| own.name == node.name);
            match element.child(node.name) {
                Some(own) => self.change(own, was, node),
                None => self.insert(element, node),
            }
        }
        for was in before.iter().filter(|was| !after.iter().any(|own| own.name == was.name)) {
            if let Some(own) = element.child(was.name) {
                self.take_out(own, was);
            }
        }
    }

    fn change(&mut self, element: &Element, was: Option<&Node>, node: &Node) {
        if was == Some(node) {
            return;
        }
        let none: &[Node] = &[];
        let was_children = was.map_or(none, Node::children);
        match &node.body {
            Body::Map(nodes) if element.inner.is_some() => self.children(element, was_children, nodes),
            Body::List(nodes) if element.inner.is_some() => self.items(element, was_children, nodes),
            _ => self.replace(element, &node.print(self.document.indent(element), self.line_end)),
        }
    }

    /// Elements that are alike, found by their keys.
    fn items(&mut self, element: &Element, before: &[Node], after: &[Node]) {
        let known = |own: &Element| before.iter().any(|was| was.key() == key_of(own));
        let there: Vec<String> = element
            .children
            .iter()
            .map(key_of)
            .filter(|key| after.iter().any(|own| own.key() == *key))
            .collect();
        // Those that are there, in their order, and the new ones behind them.
        let starts = after.iter().map(Node::key).take(there.len()).eq(there.iter().cloned());
        if !starts {
            return self.compose(element, before, after);
        }
        for node in after {
            let was = before.iter().find(|own| own.key() == node.key());
            match element.children.iter().find(|own| key_of(own) == node.key()) {
                Some(own) => self.change(own, was, node),
                None => self.insert(element, node),
            }
        }
        for own in element.children.iter().filter(|own| known(own)) {
            if !after.iter().any(|node| node.key() == key_of(own)) {
                self.remove(own);
            }
        }
    }

    /// A list in another order: each item as it is, changed where it differs, and behind them what was not ours.
    fn compose(&mut self, element: &Element, before: &[Node], after: &[Node]) {
        let Some(inner) = element.inner.clone() else { return };
        let indent = self.document.indent(element).to_owned();
        let deeper = format!("{indent}  ");
        let mut all = Vec::new();
        for node in after {
            let was = before.iter().find(|own| own.key() == node.key());
            all.push(match element.children.iter().find(|own| key_of(own) == node.key()) {
                Some(own) => self.changed(own, was, node),
                None => node.print(&deeper, self.line_end),
            });
        }
        let is_ours = |own: &&Element| {
            let key = key_of(own);
            before.iter().chain(after).any(|node| node.key() == key)
        };
        let rest = element.children.iter().filter(|own| !is_ours(own));
        all.extend(rest.map(|own| self.document.text().get(own.span.clone()).unwrap_or_default().to_owned()));
        let mut text = String::new();
        for item in all {
            text.push_str(&format!("{}{deeper}{item}", self.line_end));
        }
        self.edits.push((inner, format!("{text}{}{indent}", self.line_end)));
    }

    /// The text of an element with its changes.
    fn changed(&self, element: &Element, was: Option<&Node>, node: &Node) -> String {
        let mut own = Editor { document: self.document, line_end: self.line_end, edits: Vec::new() };
        own.change(element, was, node);
        applied(self.document.text(), element.span.clone(), own.edits)
    }

    /// Takes away what was said, and the element itself when nothing else is in it.
    fn take_out(&mut self, element: &Element, was: &Node) {
        if is_all(element, was) {
            return self.remove(element);
        }
        match &was.body {
            Body::Map(nodes) => {
                for node in nodes {
                    if let Some(own) = element.child(node.name) {
                        self.take_out(own, node);
                    }
                }
            }
            Body::List(nodes) => {
                for own in &element.children {
                    if nodes.iter().any(|node| node.key() == key_of(own)) {
                        self.remove(own);
                    }
                }
            }
            Body::Text(..) | Body::Source(_) => {}
        }
    }

    fn insert(&mut self, into: &Element, node: &Node) {
        let indent = self.document.indent(into);
        let deeper = format!("{indent}  ");
        let new = format!("{}{deeper}{}", self.line_end, node.print(&deeper, self.line_end));
        let Some(inner) = &into.inner else {
            // `<a/>` has no room.
            let text = format!("<{}>{new}{}{indent}</{}>", into.name, self.line_end, into.name);
            return self.replace(into, &text);
        };
        let raw = self.document.text().get(inner.clone()).unwrap_or_default();
        let end = raw.trim_end().len();
        let tail = if end == raw.len() { format!("{}{indent}", self.line_end) } else { String::new() };
        self.edits.push((inner.start + end..inner.start + end, new + &tail));
    }

    fn replace(&mut self, element: &Element, with: &str) {
        self.edits.push((element.span.clone(), with.to_owned()));
    }

    /// Takes an element away, with the space before it.
    fn remove(&mut self, element: &Element) {
        let before = self.document.text().get(..element.span.start).unwrap_or_default();
        self.edits.push((before.trim_end().len()..element.span.end, String::new()));
    }
}

/// Whether an element has nothing but what was said.
fn is_all(element: &Element, was: &Node) -> bool {
    match &was.body {
        Body::Text(..) | Body::Source(_) => true,
        Body::Map(_) => {
            element.children.iter().all(|own| was.child(&own.name).is_some_and(|node| is_all(own, node)))
        }
        Body::List(nodes) => {
            element.children.iter().all(|own| nodes.iter().any(|node| node.key() == key_of(own)))
        }
    }
}
