//! What has changed since an earlier build, in lines.

use super::{count, heading, outside, size, style, wrapped};
use neat_content::and_more;
use neat_stack::{ItemChange, Since};

/// Ids and names that a line has at most.
const SHOWN: usize = 6;

/// What differs, under a heading.
pub(crate) fn since(since: &Since, title: &str) -> String {
    let mut text = heading(title);
    if since.is_nothing() {
        text.push_str("  nothing: the same items, the same sizes\n");
        return text;
    }
    let mut line = |word: &str, said: &str| {
        text.push_str(&format!("  {}{word:<13}{:#} {}\n", style::QUIET, style::QUIET, wrapped(said, 16)));
    };
    match (since.editions_gone.as_slice(), since.editions_new.as_slice()) {
        ([from], [to]) => line("edition", &format!("{from} is called {to} now")),
        (gone, new) => {
            gone.iter().for_each(|name| line("edition", &format!("{name} is gone")));
            new.iter().for_each(|name| line("edition", &format!("{name} is new")));
        }
    }
    for (word, changes) in grouped(&since.items) {
        for (said, editions) in changes {
            let places = if editions.len() > 1 {
                format!(" in {}", count(editions.len() as u64, "edition", "editions"))
            } else {
                String::new()
            };
            line(word, &format!("{said}{places}"));
        }
    }
    for new in &since.new_components {
        let ids = new.ids.iter().take(SHOWN).map(String::as_str).collect::<Vec<_>>().join(", ");
        let more = and_more(new.ids.len().saturating_sub(SHOWN));
        line("new", &format!("{}: {ids}{more}", new.edition));
    }
    for own in &since.sizes {
        let bytes = |size_of: Option<u64>| size_of.map_or_else(|| "nothing".to_owned(), size);
        line("size", &format!("{}: {} → {}", own.path, bytes(own.before), bytes(own.after)));
    }
    text
}

/// Words with what they say, and in which editions.
type Group<'a> = Vec<(&'static str, Vec<(String, Vec<&'a str>)>)>;

/// Items by what has become of them; the same in several editions once.
fn grouped(items: &[ItemChange]) -> Group<'_> {
    let mut groups: Group<'_> = Vec::new();
    for item in items {
        let word = word(item);
        let subject = outside::line(&item.subject);
        let detail = if item.detail.is_empty() { String::new() } else { format!(": {}", item.detail) };
        let said = format!("{} {subject}{detail}", item.kind);
        let at = groups.iter().position(|(own, _)| *own == word).unwrap_or_else(|| {
            groups.push((word, Vec::new()));
            groups.len() - 1
        });
        let lines = &mut groups[at].1;
        match lines.iter_mut().find(|(own, _)| *own == said) {
            Some((_, editions)) => editions.push(&item.edition),
            None => lines.push((said, vec![&item.edition])),
        }
    }
    groups
}

fn word(item: &ItemChange) -> &'static str {
    match (item.before.as_deref(), item.after.as_deref()) {
        (Some("applied"), None) => "no longer",
        (Some("applied"), Some("skipped")) => "skipped now",
        (_, Some("refused")) => "refused now",
        (_, Some("applied")) => "done now",
        (_, None) => "gone",
        _ => "otherwise",
    }
}
