//! Changes to a file that is there: each touches its own place, and everything else stays as it was written.

use super::{
    lists::{List, Meaning},
    node::Node,
    spots::{Single, Spot},
};
use crate::{
    model::Architecture,
    xml::{Document, Element, escape},
};
use neat_content::{Error, Result};
use std::ops::Range;

pub(super) const ACTIONS: &str = "http://schemas.microsoft.com/WMIConfig/2002/State";
/// Passes in the order in which setup goes through them.
pub(super) const PASSES: [&str; 7] =
    ["windowsPE", "offlineServicing", "generalize", "specialize", "auditSystem", "auditUser", "oobeSystem"];

/// What a component's architecture is called here.
pub(super) const fn architecture_name(architecture: Architecture) -> &'static str {
    match architecture {
        Architecture::X64 => "amd64",
        Architecture::X86 => "x86",
        Architecture::Arm64 => "arm64",
    }
}

pub(super) fn architecture_of(name: &str) -> Option<Architecture> {
    match name.to_ascii_lowercase().as_str() {
        "amd64" => Some(Architecture::X64),
        "x86" => Some(Architecture::X86),
        "arm64" => Some(Architecture::Arm64),
        _ => None,
    }
}

/// Components of a pass.
pub(super) fn components<'a>(root: &'a Element, pass: &str) -> impl Iterator<Item = &'a Element> {
    let settings = root.children.iter().filter(move |child| {
        child.name == "settings" && child.attribute("pass").is_some_and(|own| own.eq_ignore_ascii_case(pass))
    });
    settings.flat_map(|settings| settings.children.iter()).filter(|child| child.name == "component")
}

/// A component of a pass, for an architecture.
pub(super) fn component<'a>(
    root: &'a Element,
    pass: &str,
    name: &str,
    architecture: Architecture,
) -> Option<&'a Element> {
    components(root, pass).find(|component| {
        component.attribute("name") == Some(name)
            && component.attribute("processorArchitecture").and_then(architecture_of) == Some(architecture)
    })
}

/// A component as it is written.
pub(super) fn component_node(name: &str, architecture: Architecture) -> Node {
    Node::new("component")
        .attribute("name", name)
        .attribute("processorArchitecture", architecture_name(architecture))
        .attribute("publicKeyToken", "31bf3856ad364e35")
        .attribute("language", "neutral")
        .attribute("versionScope", "nonSxS")
}

/// A file being changed.
pub(super) struct Editor {
    pub document: Document,
}

impl Editor {
    pub fn new(document: Document) -> Result<Self> {
        let raw = document.text().get(document.root().span.clone()).unwrap_or_default();
        let name = raw.get(1..).unwrap_or_default().split(|c: char| c.is_whitespace() || c == '>').next();
        if name.is_some_and(|name| name.contains(':')) {
            return Err(Error::Unsupported {
                what: "an answer file whose elements have prefixes".into(),
                offset: 0,
            });
        }
        Ok(Self { document })
    }

    fn find(&self, spot: &Spot, architecture: Architecture) -> Option<&Element> {
        component(self.document.root(), spot.pass, spot.component, architecture)?.find(spot.path)
    }

    /// Sets a value at every place where it stands, or at its usual one.
    pub fn set(&mut self, single: &Single, architecture: Architecture, value: &str) -> Result<()> {
        let mut done = false;
        for spot in single.spots {
            let Some(element) = self.find(spot, architecture) else { continue };
            done = true;
            let (span, inner) = (element.span.clone(), element.inner.clone());
            if let Some(inner) = inner {
                self.document.splice(inner, &escape(value))?;
            } else {
                let opened = self.opened(&span);
                self.document.splice(span, &format!("{}{}{}", opened.0, escape(value), opened.1))?;
            }
        }
        if let (false, Some(spot)) = (done, single.spots.first()) {
            let (name, path) =
                spot.path.split_last().map_or(("", [].as_slice()), |(name, path)| (*name, path));
            let parent = self.ensure(spot.pass, spot.component, architecture, path)?;
            self.append(&parent, &Node::with_text(name, value))?;
        }
        Ok(())
    }

    /// Takes a value out wherever it stands.
    pub fn unset(&mut self, single: &Single, architecture: Architecture) -> Result<()> {
        for spot in single.spots {
            if let Some(span) = self.find(spot, architecture).map(|element| element.span.clone()) {
                self.remove(span)?;
            }
        }
        Ok(())
    }

    /// Start and end tag of an element that is written as one.
    fn opened(&self, span: &Range<usize>) -> (String, String) {
        let raw = self.document.text().get(span.clone()).unwrap_or_default();
        let tag = raw.trim_end_matches('>').trim_end_matches('/').trim_end();
        let name: String = tag.trim_start_matches('<').chars().take_while(|c| !c.is_whitespace()).collect();
        (format!("{tag}>"), format!("</{name}>"))
    }

    /// The element at a path, made where it is missing, as steps from the root.
    fn ensure(
        &mut self,
        pass: &'static str,
        name: &str,
        architecture: Architecture,
        path: &[&str],
    ) -> Result<Vec<usize>> {
        let root = self.document.root();
        let is_pass = |child: &Element, pass: &str| {
            child.name == "settings"
                && child.attribute("pass").is_some_and(|own| own.eq_ignore_ascii_case(pass))
        };
        if !root.children.iter().any(|child| is_pass(child, pass)) {
            let rank = |child: &Element| {
                PASSES.iter().position(|own| {
                    child.attribute("pass").is_some_and(|pass| pass.eq_ignore_ascii_case(own))
                })
            };
            let own = PASSES.iter().position(|own| *own == pass);
            let settings = root.children.iter().enumerate().filter(|(_, child)| child.name == "settings");
            let after = settings.filter(|(_, child)| rank(child) < own).map(|(index, _)| index).next_back();
            let node = Node::new("settings").attribute("pass", pass);
            match after {
                Some(index) => self.insert_after(&[index], &node)?,
                None if root.children.is_empty() => self.append(&[], &node)?,
                None => self.insert_before(&[0], &node)?,
            }
        }
        if component(self.document.root(), pass, name, architecture).is_none() {
            let at = self.document.root().children.iter().position(|child| is_pass(child, pass)).unwrap_or(0);
            self.append(&[at], &component_node(name, architecture))?;
        }
        let mut steps = self.steps(pass, name, architecture).unwrap_or_default();
        for part in path {
            let element = self.at(&steps);
            if let Some(index) = element.children.iter().position(|child| child.name == *part) {
                steps.push(index);
            } else {
                let index = element.children.len();
                self.append(&steps, &Node::new(part))?;
                steps.push(index);
            }
        }
        Ok(steps)
    }

    fn steps(&self, pass: &str, name: &str, architecture: Architecture) -> Option<Vec<usize>> {
        let wanted = component(self.document.root(), pass, name, architecture)?.span.start;
        for (outer, settings) in self.document.root().children.iter().enumerate() {
            if let Some(inner) = settings.children.iter().position(|child| child.span.start == wanted) {
                return Some(vec![outer, inner]);
            }
        }
        None
    }

    fn at(&self, steps: &[usize]) -> &Element {
        let root = self.document.root();
        steps.iter().fold(root, |element, index| element.children.get(*index).unwrap_or(element))
    }

    /// How much deeper the file's author wrote each level.
    fn step(&self) -> String {
        let first = self.document.root().children.first().map(|child| self.document.indent(child));
        first.filter(|step| !step.is_empty()).unwrap_or("  ").to_owned()
    }

    fn rendered(&self, node: &Node, indent: &str) -> String {
        let (step, line_end) = (self.step(), self.document.line_end());
        let text = node.render(indent, &step, line_end);
        if text.contains("wcm:") && !self.document.text().contains("xmlns:wcm=") {
            return node.clone().attribute("xmlns:wcm", ACTIONS).render(indent, &step, line_end);
        }
        text
    }

    /// Puts an element at the end of the one at `parent`.
    fn append(&mut self, parent: &[usize], node: &Node) -> Result<()> {
        let element = self.at(parent);
        let own = self.document.indent(element).to_owned();
        let indent = element.children.last().map_or_else(
            || if parent.is_empty() { "  ".into() } else { format!("{own}{}", self.step()) },
            |child| self.document.indent(child).to_owned(),
        );
        let line_end = self.document.line_end();
        let text = format!("{line_end}{indent}{}", self.rendered(node, &indent));
        let (span, inner) = (element.span.clone(), element.inner.clone());
        let Some(inner) = inner else {
            let (start, end) = self.opened(&span);
            return self.document.splice(span, &format!("{start}{text}{line_end}{own}{end}"));
        };
        let raw = self.document.text().get(inner.clone()).unwrap_or_default();
        let at = inner.start + raw.trim_end().len();
        let rest = &raw[raw.trim_end().len()..];
        if rest.contains('\n') {
            self.document.splice(at..at, &text)
        } else {
            self.document.splice(at..at, &format!("{text}{line_end}{own}"))
        }
    }

    fn insert_after(&mut self, steps: &[usize], node: &Node) -> Result<()> {
        let element = self.at(steps);
        let indent = self.document.indent(element).to_owned();
        let text = format!("{}{indent}{}", self.document.line_end(), self.rendered(node, &indent));
        let at = element.span.end;
        self.document.splice(at..at, &text)
    }

    fn insert_before(&mut self, steps: &[usize], node: &Node) -> Result<()> {
        let element = self.at(steps);
        let indent = self.document.indent(element).to_owned();
        let text = format!("{}{}{indent}", self.rendered(node, &indent), self.document.line_end());
        let at = element.span.start;
        self.document.splice(at..at, &text)
    }

    /// Takes an element out with the line it stands on, and what is empty around it then.
    fn remove(&mut self, span: Range<usize>) -> Result<()> {
        let parent = parent_of(self.document.root(), &span).cloned();
        let text = self.document.text();
        let before = text.get(..span.start).unwrap_or_default();
        let trimmed = before.trim_end_matches([' ', '\t']);
        let start = if let Some(trimmed) = trimmed.strip_suffix('\n') {
            trimmed.strip_suffix('\r').unwrap_or(trimmed).len()
        } else {
            span.start
        };
        self.document.splice(start..span.end, "")?;
        let Some(parent) = parent else { return Ok(()) };
        if parent.name == "unattend" || parent.children.len() > 1 {
            return Ok(());
        }
        let inner = parent.inner.clone().unwrap_or_default();
        let left = inner.start..inner.end.saturating_sub(span.end - start);
        if self.document.text().get(left.clone()).is_some_and(|text| text.trim().is_empty()) {
            let end = parent.span.end.saturating_sub(span.end - start);
            return self.remove(parent.span.start..end);
        }
        Ok(())
    }

    /// Takes out all components of an architecture.
    pub fn remove_architecture(&mut self, architecture: Architecture) -> Result<()> {
        loop {
            let root = self.document.root();
            let is_it = |component: &&Element| {
                component.attribute("processorArchitecture").and_then(architecture_of) == Some(architecture)
            };
            let all = PASSES.iter().flat_map(|pass| components(root, pass));
            let Some(span) = all.filter(is_it).map(|component| component.span.clone()).next() else {
                return Ok(());
            };
            self.remove(span)?;
        }
    }

    /// Puts a component in a dialect's own words into a pass.
    pub fn own(&mut self, pass: &'static str, architecture: Architecture, text: &str) -> Result<()> {
        let own = Document::parse(text.to_owned())?;
        let name = own.root().attribute("name").unwrap_or_default().to_owned();
        let is_component = own.root().name == "component" && !name.is_empty();
        if !is_component {
            return Err(Error::request(
                "`own`: the text is not a <component> with a name",
                "give the whole element, with its attributes",
            ));
        }
        let theirs = own.root().attribute("processorArchitecture").and_then(architecture_of);
        if theirs.is_some_and(|theirs| theirs != architecture) {
            return Ok(());
        }
        let inner = own.root().inner.clone().unwrap_or_default();
        let raw = own.text().get(inner).unwrap_or_default().trim().to_owned();
        let at = self.ensure(pass, &name, architecture, &[])?;
        let element = self.at(&at);
        let indent = self.document.indent(element).to_owned();
        let place = element.inner.as_ref().map_or(element.span.end, |inner| inner.end);
        let is_block = self
            .document
            .text()
            .get(..place)
            .is_some_and(|text| text.trim_end_matches([' ', '\t']).ends_with('\n'));
        let line_end = self.document.line_end();
        let text = if is_block {
            format!("  {raw}{line_end}{indent}")
        } else {
            format!("{line_end}{indent}  {raw}{line_end}{indent}")
        };
        self.document.splice(place..place, &text)
    }

    /// Elements of a list with what they mean, in the order of their numbers.
    pub fn items(&self, list: List, architecture: Architecture) -> Vec<(Range<usize>, Option<Meaning>)> {
        items(self.document.root(), list, architecture)
            .into_iter()
            .map(|element| (element.span.clone(), list.understand(element)))
            .collect()
    }

    /// Changes a list from what it means to what it shall mean.
    pub fn change(
        &mut self,
        list: List,
        architecture: Architecture,
        before: &[Meaning],
        after: &[Meaning],
    ) -> Result<()> {
        let Some(place) = list.place() else { return Ok(()) };
        if list.is_single() {
            // What is there gives way, also when the neutral form had no word for it.
            while let Some((span, _)) = self.items(list, architecture).first().cloned() {
                self.remove(span)?;
            }
        }
        let kept = if list.is_single() { Vec::new() } else { common(before, after) };
        for (index, meaning) in before.iter().enumerate().rev() {
            if kept.iter().any(|(own, _)| *own == index) {
                continue;
            }
            let items = self.items(list, architecture);
            if let Some((span, _)) = items.iter().rev().find(|(_, own)| own.as_ref() == Some(meaning)) {
                self.remove(span.clone())?;
            }
        }
        for (index, meaning) in after.iter().enumerate() {
            if kept.iter().any(|(_, own)| *own == index) {
                continue;
            }
            let node = list.node(meaning, index + 1);
            let items = self.items(list, architecture);
            let previous = index.checked_sub(1).and_then(|index| after.get(index));
            let previous =
                previous.and_then(|meaning| items.iter().rfind(|(_, own)| own.as_ref() == Some(meaning)));
            if let Some((span, _)) = previous {
                let steps = steps_to(self.document.root(), span).unwrap_or_default();
                self.insert_after(&steps, &node)?;
            } else if let Some((span, _)) = items.first() {
                let steps = steps_to(self.document.root(), span).unwrap_or_default();
                self.insert_before(&steps, &node)?;
            } else {
                let parent = self.ensure(place.pass, place.component, architecture, place.path)?;
                self.append(&parent, &node)?;
            }
        }
        if list.is_numbered() { self.number(list, architecture, after) } else { Ok(()) }
    }

    /// Gives the items of a list the numbers of their meanings.
    fn number(&mut self, list: List, architecture: Architecture, after: &[Meaning]) -> Result<()> {
        for (index, meaning) in after.iter().enumerate() {
            // Two items may mean the same: the n-th of them is the n-th here too.
            let nth = after[..index].iter().filter(|own| *own == meaning).count();
            let Some(place) = list.place() else { return Ok(()) };
            let root = self.document.root();
            let container = component(root, place.pass, place.component, architecture)
                .and_then(|own| own.find(place.path));
            let same = container
                .into_iter()
                .flat_map(|own| own.children.iter())
                .filter(|child| child.name == place.item && list.understand(child).as_ref() == Some(meaning));
            let Some(element) = same.into_iter().nth(nth) else { continue };
            let number = (index + 1).to_string();
            match element.child("Order") {
                Some(order) if order.text.trim() == number => {}
                Some(order) => {
                    let inner = order.inner.clone().unwrap_or_else(|| order.span.clone());
                    let text =
                        if order.inner.is_some() { number } else { format!("<Order>{number}</Order>") };
                    self.document.splice(inner, &text)?;
                }
                None => {
                    let steps = steps_to(root, &element.span).unwrap_or_default();
                    self.append(&steps, &Node::with_text("Order", number))?;
                }
            }
        }
        Ok(())
    }
}

/// Elements of a list, in the order of their numbers where they have some.
pub(super) fn items(root: &Element, list: List, architecture: Architecture) -> Vec<&Element> {
    let Some(place) = list.place() else { return Vec::new() };
    let container =
        component(root, place.pass, place.component, architecture).and_then(|own| own.find(place.path));
    let children = container.map(|own| own.children.as_slice()).unwrap_or_default();
    let mut items: Vec<&Element> = children.iter().filter(|child| child.name == place.item).collect();
    if list.is_numbered() {
        let order =
            |item: &&Element| item.text_at(&["Order"]).and_then(|text| text.parse().ok()).unwrap_or(u64::MAX);
        items.sort_by_key(order);
    }
    items
}

fn steps_to(root: &Element, span: &Range<usize>) -> Option<Vec<usize>> {
    if root.span == *span {
        return Some(Vec::new());
    }
    root.children.iter().enumerate().find_map(|(index, child)| {
        let mut steps = vec![index];
        steps.extend(steps_to(child, span)?);
        Some(steps)
    })
}

fn parent_of<'a>(root: &'a Element, span: &Range<usize>) -> Option<&'a Element> {
    if root.children.iter().any(|child| child.span == *span) {
        return Some(root);
    }
    root.children.iter().find_map(|child| parent_of(child, span))
}

/// Pairs of a longest common part of two lists, by index.
fn common<T: PartialEq>(before: &[T], after: &[T]) -> Vec<(usize, usize)> {
    let mut lengths = vec![vec![0_usize; after.len() + 1]; before.len() + 1];
    for i in (0..before.len()).rev() {
        for j in (0..after.len()).rev() {
            lengths[i][j] = if before[i] == after[j] {
                lengths[i + 1][j + 1] + 1
            } else {
                lengths[i + 1][j].max(lengths[i][j + 1])
            };
        }
    }
    let (mut i, mut j, mut pairs) = (0, 0, Vec::new());
    while i < before.len() && j < after.len() {
        if before[i] == after[j] {
            pairs.push((i, j));
            (i, j) = (i + 1, j + 1);
        } else if lengths[i + 1][j] >= lengths[i][j + 1] {
            i += 1;
        } else {
            j += 1;
        }
    }
    pairs
}
