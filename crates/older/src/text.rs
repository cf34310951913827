//! Information files changed in one place.

use neat_content::{Content, Result, Tree};

/// Largest information file, in bytes.
const LARGEST_TEXT: u64 = 16 << 20;

/// Changes a text of the media, in the encoding that it has; nothing where there is none.
pub(crate) fn edit(tree: &mut Tree, path: &str, change: impl FnOnce(&str) -> String) -> Result<()> {
    let Some(id) = tree.find_ignoring_case(path) else { return Ok(()) };
    let (path, meta) = (tree.path(id), tree.node(id).meta);
    let Some(content) = tree.node(id).content() else { return Ok(()) };
    let bytes = content.to_vec(LARGEST_TEXT, "information file")?;
    let text = neat_content::Text::decode(&bytes);
    let new = change(&text.text);
    if new != text.text {
        tree.put_file(&path, Content::from_bytes(text.encoding.encode(&new)), meta)?;
    }
    Ok(())
}

/// Where the lines of a section end, and whether it has this line; nothing if there is no such section.
fn section_end(text: &str, section: &str, line: &str) -> Option<(usize, bool)> {
    let (mut inside, mut end, mut has_line, mut at) = (false, None, false, 0);
    for own in text.split_inclusive('\n') {
        let trimmed = own.trim();
        if let Some(name) = trimmed.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            inside = name.trim().eq_ignore_ascii_case(section);
            if inside {
                end = Some(at + own.len());
            }
        } else if inside && !trimmed.is_empty() {
            has_line |= trimmed.eq_ignore_ascii_case(line);
            end = Some(at + own.len());
        }
        at += own.len();
    }
    end.map(|end| (end, has_line))
}

/// A text with a line at the end of a section, which is added where it is missing. A line that is there already stays alone.
pub(crate) fn with_line(text: &str, section: &str, line: &str) -> String {
    match section_end(text, section, line) {
        Some((_, true)) => text.to_owned(),
        Some((end, false)) => {
            let (before, after) = text.split_at(end);
            let gap = if before.ends_with('\n') { "" } else { "\r\n" };
            format!("{before}{gap}{line}\r\n{after}")
        }
        None => {
            let gap = if text.is_empty() || text.ends_with('\n') { "" } else { "\r\n" };
            format!("{text}{gap}\r\n[{section}]\r\n{line}\r\n")
        }
    }
}

/// A text with the value of a key, which is added where it is missing.
pub(crate) fn with_value(text: &str, section: &str, key: &str, value: &str) -> String {
    let mut inside = false;
    let mut out = String::with_capacity(text.len() + 32);
    let mut is_set = false;
    for own in text.split_inclusive('\n') {
        let trimmed = own.trim();
        if let Some(name) = trimmed.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            inside = name.trim().eq_ignore_ascii_case(section);
        }
        let is_key = trimmed.split_once('=').is_some_and(|(own, _)| own.trim().eq_ignore_ascii_case(key));
        if inside && is_key {
            let end = &own[own.trim_end().len()..];
            out.push_str(&format!("{key}={value}{end}"));
            is_set = true;
        } else {
            out.push_str(own);
        }
    }
    if is_set { out } else { with_line(text, section, &format!("{key}={value}")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_changed_in_one_place() {
        let text = "; head\r\n[a]\r\nx=1\r\n\r\n[B]\r\none\r\ntwo";
        assert_eq!(with_line(text, "A", "y"), "; head\r\n[a]\r\nx=1\r\ny\r\n\r\n[B]\r\none\r\ntwo");
        assert_eq!(with_line(text, "b", "three"), format!("{text}\r\nthree\r\n"));
        assert_eq!(with_line(text, "b", "TWO"), text);
        assert_eq!(with_line(text, "c", "z"), format!("{text}\r\n\r\n[c]\r\nz\r\n"));
        assert_eq!(with_line("", "c", "z"), "\r\n[c]\r\nz\r\n");
        assert_eq!(with_value(text, "a", "X", "2"), text.replace("x=1", "X=2"));
        assert_eq!(with_value(text, "b", "n", "3"), format!("{text}\r\nn=3\r\n"));
    }
}
