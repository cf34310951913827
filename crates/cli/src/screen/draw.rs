//! How the screen of `pick` looks: nothing of it needs colours to be understood.

use super::{
    state::{Above, Devices, Places, Screen, Shown, Tab},
    views::{self, Row, Tone, clean},
};
use crate::show::{count, size};
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::{Color, Modifier, Style},
    text::{Line, Span},
    widgets::{Block, Clear, Paragraph, Wrap},
};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Columns of the word before a row.
pub(super) const WORD: u16 = 7;
/// Columns between the names of pages.
pub(super) const TAB_GAP: u16 = 3;
/// Columns of the categories.
const CATEGORIES: u16 = 22;
/// Columns of a size.
const SIZE: usize = 10;
/// Smallest screen that it is drawn on.
const SMALLEST: (u16, u16) = (60, 16);

const BOLD: Style = Style::new().add_modifier(Modifier::BOLD);
const QUIET: Style = Style::new().fg(Color::Cyan);
const DIM: Style = Style::new().add_modifier(Modifier::DIM);
const BAD: Style = Style::new().fg(Color::Red).add_modifier(Modifier::BOLD);
const CARE: Style = Style::new().fg(Color::Yellow).add_modifier(Modifier::BOLD);
const GOOD: Style = Style::new().fg(Color::Green);
const MARKED: Style = Style::new().add_modifier(Modifier::REVERSED);

/// The name of a page with its key.
pub(super) fn tab_text(n: usize, name: &str) -> String {
    format!("{} {name}", n + 1)
}

/// Draws everything.
pub(super) fn screen(screen: &mut Screen, frame: &mut Frame<'_>) {
    let area = frame.area();
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        let text = format!("This needs {} columns and {} lines; q leaves it.", SMALLEST.0, SMALLEST.1);
        frame.render_widget(Paragraph::new(text).wrap(Wrap { trim: true }), area);
        return;
    }
    let details_lines = (area.height / 4).clamp(6, 10);
    let [title, tabs, body, rule, details, totals, keys] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(1),
        Constraint::Min(5),
        Constraint::Length(1),
        Constraint::Length(details_lines),
        Constraint::Length(1),
        Constraint::Length(1),
    ])
    .areas(area);
    let subject = &screen.subject;
    frame.render_widget(
        Line::from(vec![
            Span::styled(clean(&subject.edition), BOLD),
            Span::raw(format!("  from {}", clean(&subject.source))),
            Span::styled(format!("  into {}", clean(&subject.target)), DIM),
        ]),
        title,
    );
    screen.places = Places { tabs, ..Places::default() };
    frame.render_widget(tab_line(screen), tabs);
    body_of(screen, frame, body);
    frame.render_widget(rule_line(screen, rule.width), rule);
    let at = screen.at();
    let said = screen.rows().get(at).map(|row| views::details(screen, row)).unwrap_or_default();
    let lines: Vec<Line<'_>> =
        said.into_iter().map(|(tone, text)| Line::styled(text, of_tone(tone))).collect();
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: true }), details);
    frame.render_widget(totals_line(screen), totals);
    frame.render_widget(keys_line(screen), keys);
    match screen.above.clone() {
        Above::Nothing => {}
        Above::Help => above(frame, "Keys", &help(), None),
        Above::Profiles(at) => {
            let lines = profile_lines(screen);
            above(frame, "Start from", &lines, Some(at));
        }
        Above::Leaving => {
            let lines = ["s  save the choice", "d  drop it and leave", "any other key: go on choosing"];
            above(frame, "Save?", &lines.map(str::to_owned), None);
        }
    }
}

const fn of_tone(tone: Tone) -> Style {
    match tone {
        Tone::Plain => Style::new(),
        Tone::Heading => BOLD,
        Tone::Quiet => DIM,
        Tone::Care => CARE,
        Tone::Follows => GOOD,
    }
}

fn tab_line(screen: &Screen) -> Line<'static> {
    let mut spans = Vec::new();
    for (n, (tab, name)) in Tab::ALL.into_iter().enumerate() {
        let style = if tab == screen.tab { MARKED } else { QUIET };
        spans.push(Span::styled(tab_text(n, name), style));
        spans.push(Span::raw(" ".repeat(TAB_GAP.into())));
    }
    Line::from(spans)
}

/// The line above the details: what is searched for and shown.
fn rule_line(screen: &Screen, width: u16) -> Line<'static> {
    let shown = match screen.shown {
        Shown::All => "",
        Shown::Going => " only what goes ",
        Shown::Changed => " only what differs from the earlier build ",
    };
    let search = match (screen.searching, screen.search.is_empty()) {
        (true, _) => format!(" search: {}▏", clean(&screen.search)),
        (false, false) => format!(" with {:?}, Esc shows all ", clean(&screen.search)),
        (false, true) => String::new(),
    };
    let said = format!("{search}{shown}");
    let rest = usize::from(width).saturating_sub(said.width() + 2);
    Line::from(vec![Span::styled("──", DIM), Span::styled(said, BOLD), Span::styled("─".repeat(rest), DIM)])
}

fn totals_line(screen: &Screen) -> Line<'static> {
    if !screen.message.is_empty() {
        return Line::styled(screen.message.clone(), CARE);
    }
    if screen.tab == Tab::Editions {
        let kept = screen.editions.iter().filter(|row| row.kept).count();
        return Line::styled(
            format!("{kept} of {} kept", count(screen.editions.len() as u64, "edition", "editions")),
            BOLD,
        );
    }
    if screen.tab == Tab::Devices {
        let Devices::Known(Ok(devices)) = &screen.devices else { return Line::default() };
        let served = devices.iter().filter(|own| own.driver.is_some()).count();
        return Line::styled(
            format!("{served} of {} served", count(devices.len() as u64, "device", "devices")),
            BOLD,
        );
    }
    let Some(choice) = &screen.choice else { return Line::default() };
    if screen.reading {
        let so_far = count(choice.components().count() as u64, "component", "components");
        return Line::styled(
            format!("{so_far} so far; services, packages and drivers are being read …"),
            BOLD,
        );
    }
    let totals = choice.totals();
    let mut text = format!("{} out", totals.components);
    if screen.weighed {
        text.push_str(&format!(
            ", {} installed, {} of the image file",
            size(totals.bytes),
            size(totals.packed)
        ));
    } else if let Some(why) = &screen.failed {
        text.push_str(&format!("; sizes are not known: {}", clean(why)));
    } else {
        text.push_str("; sizes are being worked out …");
    }
    if let Some(profile) = choice.profile_name() {
        text.push_str(&format!("; profile {}", clean(profile)));
    }
    Line::styled(text, BOLD)
}

fn keys_line(screen: &Screen) -> Line<'static> {
    let keys: &[(&str, &str)] = match screen.tab {
        _ if screen.searching => &[("Enter", "to the list"), ("Esc", "show all")],
        Tab::Components => &[
            ("Space", "out or back"),
            ("/", "search"),
            ("p", "profiles"),
            ("u", "undo"),
            ("s", "save"),
            ("q", "leave"),
            ("?", "keys"),
        ],
        Tab::Devices => &[("/", "search"), ("q", "leave"), ("?", "keys")],
        _ => &[("Space", "change"), ("/", "search"), ("s", "save"), ("q", "leave"), ("?", "keys")],
    };
    let spans = keys.iter().flat_map(|(key, what)| {
        [Span::styled((*key).to_owned(), BOLD), Span::styled(format!(" {what}  "), DIM)]
    });
    Line::from(spans.collect::<Vec<_>>())
}

/// What stands where there are no rows.
fn nothing(screen: &Screen) -> String {
    let is_narrowed = !screen.search.is_empty() || screen.shown != Shown::All;
    match (screen.tab, &screen.failed, &screen.choice, &screen.devices) {
        (Tab::Components | Tab::Features, Some(why), _, _) => {
            format!("There is nothing to choose from: {}", clean(why))
        }
        (Tab::Components | Tab::Features, None, _, _) if screen.reading && !is_narrowed => {
            "The edition is being read …".into()
        }
        (Tab::Devices, _, _, Devices::Pending) => "Drivers are being compared with the devices …".into(),
        (Tab::Devices, _, _, Devices::Known(Err(why))) => {
            format!("What serves the devices is not known: {}", clean(why))
        }
        _ if is_narrowed => "Nothing fits; Esc shows all.".into(),
        (Tab::Devices, ..) => {
            "The stack file names no list of devices: [[driver]] devices = \"devices.txt\"".into()
        }
        _ => "There is none.".into(),
    }
}

fn body_of(screen: &mut Screen, frame: &mut Frame<'_>, area: Rect) {
    let list = if screen.tab == Tab::Components && screen.choice.is_some() {
        let [categories, _, list] =
            Layout::horizontal([Constraint::Length(CATEGORIES), Constraint::Length(2), Constraint::Min(20)])
                .areas(area);
        categories_of(screen, frame, categories);
        list
    } else {
        area
    };
    let at = screen.at();
    let (lines, from) = {
        let rows = screen.rows();
        if rows.is_empty() {
            let text = Paragraph::new(nothing(screen)).wrap(Wrap { trim: true });
            frame.render_widget(text, list);
            return;
        }
        let window = Screen::window(at, screen.places.list_from, rows.len(), list.height.into());
        let from = window.start;
        let has_focus = !(screen.in_categories && screen.tab == Tab::Components);
        let lines: Vec<Line<'static>> = window
            .map(|n| {
                let line = row_line(screen, &rows[n], list.width.into());
                if n == at && has_focus { marked(&line) } else { line }
            })
            .collect();
        (lines, from)
    };
    frame.render_widget(Paragraph::new(lines), list);
    screen.places.list = list;
    screen.places.list_from = from;
}

fn categories_of(screen: &mut Screen, frame: &mut Frame<'_>, area: Rect) {
    let all = screen.categories();
    let at = screen.category;
    let window = Screen::window(at, 0, all.len(), area.height.into());
    screen.places.categories = area;
    screen.places.categories_from = window.start;
    let lines: Vec<Line<'static>> = window
        .map(|n| {
            let (category, number, going) = all[n];
            let name = category.map_or("all", neat_service::Category::word);
            let amount = if going > 0 { format!("{going} of {number}") } else { number.to_string() };
            let text = format!("{}{amount:>1$}", fit(name, 11), usize::from(CATEGORIES) - 11);
            match (n == at, screen.in_categories) {
                (true, true) => Line::styled(text, MARKED),
                (true, false) => Line::styled(text, BOLD.add_modifier(Modifier::UNDERLINED)),
                _ => Line::raw(text),
            }
        })
        .collect();
    frame.render_widget(Paragraph::new(lines), area);
}

fn row_line(screen: &Screen, row: &Row<'_>, width: usize) -> Line<'static> {
    let word = views::word(screen, row);
    let style = match word {
        "out" | "drop" | "off" => BAD,
        "none" | "open" => CARE,
        "stays" => DIM,
        _ => GOOD,
    };
    let differs = match (row, &screen.choice) {
        (Row::Component(own), Some(choice)) => views::change(screen, choice, &own.id),
        _ => ' ',
    };
    let lasting = matches!(row, Row::Component(own) if own.gone_for_good);
    let [name, state, amount] = views::texts(screen, row);
    let columns = width.saturating_sub(usize::from(WORD) + 2 + SIZE + 1);
    let for_state = state.width().min(columns / 3);
    let for_name = columns.saturating_sub(for_state + 1);
    Line::from(vec![
        Span::styled(format!("{word:<5}"), style),
        Span::styled(format!("{differs} "), CARE),
        Span::raw(if lasting { "! " } else { "  " }),
        Span::raw(fit(&name, for_name)),
        Span::raw(" "),
        Span::styled(fit(&state, for_state), DIM),
        Span::raw(format!(" {amount:>SIZE$}")),
    ])
}

/// A line in one colour, reversed: several would be hard to read.
fn marked(line: &Line<'static>) -> Line<'static> {
    let text: String = line.spans.iter().map(|span| span.content.as_ref()).collect();
    Line::styled(text, MARKED)
}

/// A text in so many columns: filled up, or with a mark where it was cut.
fn fit(text: &str, columns: usize) -> String {
    if text.width() <= columns {
        return format!("{text}{}", " ".repeat(columns - text.width()));
    }
    let mut out = String::new();
    let mut at = 0;
    for c in text.chars() {
        let wide = c.width().unwrap_or(0);
        if at + wide + 1 > columns {
            break;
        }
        out.push(c);
        at += wide;
    }
    if at < columns {
        out.push('…');
        at += 1;
    }
    out + &" ".repeat(columns - at)
}

fn profile_lines(screen: &Screen) -> Vec<String> {
    let none = "nothing: put everything back".to_owned();
    let profiles = screen.choice.iter().flat_map(neat_service::Choice::profiles);
    let each = profiles.map(|(name, profile)| {
        let about = if profile.description.is_empty() { &profile.title } else { &profile.description };
        format!("{}  {}", clean(name), clean(about))
    });
    std::iter::once(none).chain(each).collect()
}

fn help() -> Vec<String> {
    [
        "Space      take out, or put back, with all that follows",
        "↑ ↓ PgUp PgDn Home End   go through the list",
        "← → Tab    between categories and list",
        "1 2 3 4    components, features, editions, devices",
        "/          search as you type",
        "p          start from a profile",
        "m          only what goes",
        "d          only what differs from the earlier build",
        "o          by size, or by name",
        "u r        undo, and do again",
        "s          save and leave",
        "q          leave",
        "!          stands for: cannot be put back after installation",
        "+ -        goes now and did not, went and stays now",
    ]
    .map(str::to_owned)
    .to_vec()
}

/// A box over the page.
fn above(frame: &mut Frame<'_>, title: &str, lines: &[String], marked: Option<usize>) {
    let area = frame.area();
    let wide = lines.iter().map(|line| line.width()).max().unwrap_or(0) + 4;
    let width = (wide as u16).clamp(24, area.width - 4);
    let height = (lines.len() as u16 + 2).min(area.height - 2);
    let place = Rect { x: (area.width - width) / 2, y: (area.height - height) / 2, width, height };
    let inside = usize::from(height) - 2;
    let window = Screen::window(marked.unwrap_or(0), 0, lines.len(), inside);
    let shown: Vec<Line<'_>> = window
        .map(|n| {
            let text = fit(&lines[n], usize::from(width) - 4);
            let style = if marked == Some(n) { MARKED } else { Style::new() };
            Line::styled(format!(" {text} "), style)
        })
        .collect();
    frame.render_widget(Clear, place);
    frame.render_widget(Paragraph::new(shown).block(Block::bordered().title(format!(" {title} "))), place);
}

/// Takes the colours out of what was drawn, for those who do not want any.
pub(super) fn without_colours(frame: &mut Frame<'_>) {
    for cell in &mut frame.buffer_mut().content {
        cell.fg = Color::Reset;
        cell.bg = Color::Reset;
    }
}
