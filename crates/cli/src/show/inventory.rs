//! What `inventory` says.

use super::{count, heading, outside, size, style, table};
use neat_content::and_more;
use neat_service::{Category, Component, EditionRecord};
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `inventory`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct InventoryView {
    pub edition: String,
    pub number: usize,
    pub components: Vec<Component>,
    /// What builds put in.
    pub integrated: EditionRecord,
}

/// Components of an edition, by category and group.
pub(crate) fn inventory(edition: &str, components: &[&Component], record: &EditionRecord) -> String {
    let mut text = format!("{}{}{:#}\n", style::HEADING, outside::line(edition), style::HEADING);
    for category in Category::ALL {
        let mut own: Vec<&&Component> =
            components.iter().filter(|component| Category::of_id(&component.id) == category).collect();
        if own.is_empty() {
            continue;
        }
        own.sort_by(|a, b| (&a.group, &a.id).cmp(&(&b.group, &b.id)));
        let bytes: u64 = own.iter().map(|component| component.bytes).sum();
        text.push_str(&format!(
            "\n{}{}{:#}  {}, {}\n",
            style::HEADING,
            category.word(),
            style::HEADING,
            count(own.len() as u64, "component", "components"),
            size(bytes)
        ));
        let mut rows: Vec<Vec<String>> =
            vec![["", "", "", "", "", "installed", "image file"].map(str::to_owned).to_vec()];
        rows.extend(own.iter().map(|component| {
            let title = if component.title.eq_ignore_ascii_case(component.id.rsplit('/').next().unwrap_or(""))
            {
                String::new()
            } else {
                component.title.clone()
            };
            vec![
                if component.gone_for_good { "!".into() } else { String::new() },
                component.id.clone(),
                title,
                component.state.clone(),
                component.group.clone(),
                if component.bytes > 0 { size(component.bytes) } else { String::new() },
                if component.packed > 0 { size(component.packed) } else { String::new() },
            ]
        }));
        let mut lines = table(&rows, &[5, 6]).into_iter();
        if let Some(line) = lines.next() {
            text.push_str(&format!("  {}{line}{:#}\n", style::QUIET, style::QUIET));
        }
        for (line, component) in lines.zip(own) {
            text.push_str(&format!("  {line}\n"));
            let list = |name: &str, ids: &[String]| {
                const SHOWN: usize = 6;
                if ids.is_empty() {
                    return String::new();
                }
                let more = and_more(ids.len().saturating_sub(SHOWN));
                format!(
                    "      {}{name} {}{more}{:#}\n",
                    style::REASON,
                    outside::line(&ids[..ids.len().min(SHOWN)].join(", ")),
                    style::REASON
                )
            };
            text.push_str(&list("needs", &component.needs));
            text.push_str(&list("needed by", &component.needed_by));
            if !component.description.is_empty() {
                text.push_str(&format!(
                    "      {}{}{:#}\n",
                    style::REASON,
                    outside::line(&component.description),
                    style::REASON
                ));
            }
            if !component.caution.is_empty() {
                text.push_str(&format!(
                    "      {}{}{:#}\n",
                    style::CARE,
                    outside::line(&component.caution),
                    style::CARE
                ));
            }
            if !component.required.is_empty() {
                text.push_str(&format!(
                    "      {}stays: {}{:#}\n",
                    style::CARE,
                    outside::line(&component.required),
                    style::CARE
                ));
            }
        }
    }
    text.push_str(&integrated(record));
    text
}

/// What builds did to an edition.
pub(crate) fn integrated(record: &EditionRecord) -> String {
    if record.is_empty() {
        return String::new();
    }
    let mut text = heading("By earlier builds");
    let mut rows: Vec<Vec<String>> = Vec::new();
    for update in &record.updates {
        rows.push(vec!["update".into(), update.id.clone(), update.version.clone(), update.title.clone()]);
    }
    for driver in &record.drivers {
        rows.push(vec!["driver".into(), driver.inf.clone(), driver.version.clone(), driver.provider.clone()]);
    }
    rows.extend(record.removed.iter().map(|id| vec!["taken out".into(), id.clone()]));
    rows.extend(record.settings.iter().map(|id| vec!["setting".into(), id.clone()]));
    rows.extend(record.apps.iter().map(|app| vec!["app".into(), app.clone()]));
    table(&rows, &[]).into_iter().for_each(|line| text.push_str(&format!("  {line}\n")));
    text
}
