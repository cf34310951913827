//! What keys and the mouse do.

use super::{
    Left,
    state::{Above, Screen, Shown, Tab},
    views::{Row, feature_name},
};
use neat_service::Choice;
use ratatui::{
    crossterm::event::{
        KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
    },
    layout::{Position, Rect},
};

/// Lines that a page key and the wheel go.
const PAGE: usize = 10;
const WHEEL: usize = 3;

/// Does what a key asks for; how the screen is left, if it is.
pub(super) fn key(screen: &mut Screen, key: KeyEvent) -> Option<Left> {
    if key.kind == KeyEventKind::Release {
        return None;
    }
    if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
        return Some(Left::Drop);
    }
    screen.message.clear();
    match screen.above.clone() {
        Above::Nothing if screen.searching => {
            search(screen, key.code);
            None
        }
        Above::Nothing => page(screen, key.code),
        Above::Help => {
            screen.above = Above::Nothing;
            None
        }
        Above::Profiles(at) => {
            profiles(screen, at, key.code);
            None
        }
        Above::Leaving => match key.code {
            KeyCode::Char('s' | 'y') | KeyCode::Enter => Some(Left::Keep),
            KeyCode::Char('d' | 'n') => Some(Left::Drop),
            _ => {
                screen.above = Above::Nothing;
                None
            }
        },
    }
}

/// Pasted text is searched for.
pub(super) fn paste(screen: &mut Screen, text: &str) -> Option<Left> {
    if screen.searching {
        screen.search.extend(text.chars().filter(|c| !c.is_control()));
        screen.mark(0);
    }
    None
}

fn search(screen: &mut Screen, code: KeyCode) {
    match code {
        KeyCode::Esc => {
            screen.search.clear();
            screen.searching = false;
        }
        KeyCode::Enter | KeyCode::Down | KeyCode::Tab => screen.searching = false,
        KeyCode::Backspace => drop(screen.search.pop()),
        KeyCode::Char(c) => screen.search.push(c),
        _ => return,
    }
    screen.mark(0);
}

fn profiles(screen: &mut Screen, at: usize, code: KeyCode) {
    let Some(choice) = &mut screen.choice else { return };
    // The first line stands for none.
    let last = choice.profiles().len();
    screen.above = match code {
        KeyCode::Up | KeyCode::Char('k') => Above::Profiles(at.saturating_sub(1)),
        KeyCode::Down | KeyCode::Char('j') => Above::Profiles((at + 1).min(last)),
        KeyCode::Enter | KeyCode::Char(' ') => {
            let name = at.checked_sub(1).and_then(|n| choice.profiles().get(n)).map(|(name, _)| name.clone());
            choice.start_from(name.as_deref());
            screen.message = name.map_or_else(
                || "Nothing is taken out now.".into(),
                |name| format!("Starts from the profile {}.", super::views::clean(&name)),
            );
            Above::Nothing
        }
        _ => Above::Nothing,
    };
}

fn page(screen: &mut Screen, code: KeyCode) -> Option<Left> {
    let at = screen.at();
    let in_categories = screen.in_categories && screen.tab == Tab::Components;
    let go = |screen: &mut Screen, line: usize| {
        if in_categories { screen.show_category(line) } else { screen.mark(line) }
    };
    let from = if in_categories { screen.category } else { at };
    match code {
        KeyCode::Up | KeyCode::Char('k') => go(screen, from.saturating_sub(1)),
        KeyCode::Down | KeyCode::Char('j') => go(screen, from + 1),
        KeyCode::PageUp => go(screen, from.saturating_sub(PAGE)),
        KeyCode::PageDown => go(screen, from + PAGE),
        KeyCode::Home | KeyCode::Char('g') => go(screen, 0),
        KeyCode::End | KeyCode::Char('G') => go(screen, usize::MAX),
        KeyCode::Left | KeyCode::Char('h') => screen.in_categories = true,
        KeyCode::Right | KeyCode::Char('l') => screen.in_categories = false,
        KeyCode::Tab | KeyCode::BackTab => screen.in_categories = !screen.in_categories,
        KeyCode::Enter if in_categories => screen.in_categories = false,
        KeyCode::Char(' ') | KeyCode::Enter => turn(screen, at),
        KeyCode::Char(number @ '1'..='4') => {
            let (tab, _) = Tab::ALL[number as usize - '1' as usize];
            show_page(screen, tab);
        }
        KeyCode::Char('/') => {
            screen.searching = true;
            screen.in_categories = false;
        }
        KeyCode::Char('o') => {
            screen.by_size = !screen.by_size;
            screen.mark(0);
        }
        KeyCode::Char('m') => show_only(screen, Shown::Going),
        KeyCode::Char('d') if screen.earlier.is_some() => show_only(screen, Shown::Changed),
        KeyCode::Char('d') => {
            screen.message = "Name an earlier build with --since to see what differs from it.".into();
        }
        KeyCode::Char('p') if screen.reading => READING.clone_into(&mut screen.message),
        KeyCode::Char('p') => match &screen.choice {
            Some(choice) if !choice.profiles().is_empty() => screen.above = Above::Profiles(0),
            _ => screen.message = "No catalogue has profiles; name one with --catalogue.".into(),
        },
        KeyCode::Char('u') => step(screen, Choice::undo, "There is nothing to undo."),
        KeyCode::Char('r') => step(screen, Choice::redo, "There is nothing to do again."),
        KeyCode::Char('?') | KeyCode::F(1) => screen.above = Above::Help,
        KeyCode::Char('s') => return Some(if screen.is_changed() { Left::Keep } else { Left::Drop }),
        KeyCode::Esc if !screen.search.is_empty() || screen.shown != Shown::All => {
            screen.search.clear();
            screen.shown = Shown::All;
            screen.mark(0);
        }
        KeyCode::Esc | KeyCode::Char('q') if screen.is_changed() => screen.above = Above::Leaving,
        KeyCode::Esc | KeyCode::Char('q') => return Some(Left::Drop),
        _ => {}
    }
    None
}

fn step(screen: &mut Screen, way: fn(&mut Choice) -> bool, otherwise: &str) {
    if !screen.choice.as_mut().is_some_and(way) {
        otherwise.clone_into(&mut screen.message);
    }
}

/// Why nothing can be taken out yet.
const READING: &str = "Services, packages and drivers are still being read; wait a moment.";

/// What was searched for on another page is not meant here.
fn show_page(screen: &mut Screen, tab: Tab) {
    screen.search.clear();
    screen.tab = tab;
    screen.mark(screen.at());
}

fn show_only(screen: &mut Screen, shown: Shown) {
    screen.shown = if screen.shown == shown { Shown::All } else { shown };
    screen.mark(0);
}

/// What a row is about, apart from the screen that is changed by it.
enum Target {
    Component(String),
    Unknown(String),
    Feature(String),
    Edition(String),
}

/// Changes what the line is about.
fn turn(screen: &mut Screen, line: usize) {
    let target = match screen.rows().get(line) {
        Some(Row::Component(own)) => Target::Component(own.id.clone()),
        Some(Row::Unknown(text)) => Target::Unknown((*text).to_owned()),
        Some(Row::Feature(own)) => Target::Feature(feature_name(own).to_owned()),
        Some(Row::Edition(own)) => Target::Edition(own.name.clone()),
        Some(Row::Device(_)) | None => return,
    };
    match target {
        Target::Component(_) if screen.reading => READING.clone_into(&mut screen.message),
        Target::Component(id) => {
            let Some(choice) = &mut screen.choice else { return };
            let follows = choice.turn(&id);
            if !follows.refused.is_empty() {
                screen.message = format!("It stays: {}", super::views::clean(&follows.refused));
            }
        }
        Target::Unknown(text) => {
            if let Some(choice) = &mut screen.choice {
                choice.forget(&text);
            }
        }
        Target::Feature(name) => {
            let next = match screen.features.get(&name) {
                None => Some(true),
                Some(true) => Some(false),
                Some(false) => None,
            };
            match next {
                Some(on) => drop(screen.features.insert(name, on)),
                None => drop(screen.features.remove(&name)),
            }
        }
        Target::Edition(name) => {
            let kept = screen.editions.iter().filter(|row| row.kept).count();
            let Some(row) = screen.editions.iter_mut().find(|row| row.name == name) else { return };
            if row.kept && kept == 1 {
                screen.message = "One edition must stay.".into();
            } else {
                row.kept = !row.kept;
            }
        }
    }
    screen.mark(screen.at());
}

/// Does what the mouse asks for.
pub(super) fn mouse(screen: &mut Screen, mouse: MouseEvent) -> Option<Left> {
    if screen.above != Above::Nothing {
        if matches!(mouse.kind, MouseEventKind::Down(_)) && screen.above == Above::Help {
            screen.above = Above::Nothing;
        }
        return None;
    }
    let at = Position::new(mouse.column, mouse.row);
    let line = |area: Rect| usize::from(mouse.row - area.y);
    let places = screen.places;
    match mouse.kind {
        MouseEventKind::ScrollDown => screen.mark(screen.at() + WHEEL),
        MouseEventKind::ScrollUp => screen.mark(screen.at().saturating_sub(WHEEL)),
        MouseEventKind::Down(MouseButton::Left) if places.categories.contains(at) => {
            screen.in_categories = true;
            screen.show_category(places.categories_from + line(places.categories));
        }
        MouseEventKind::Down(MouseButton::Left) if places.list.contains(at) => {
            screen.in_categories = false;
            let row = places.list_from + line(places.list);
            if row < screen.rows().len() {
                // A second click on a line, or one on its word, changes it.
                let again = screen.at() == row || mouse.column < places.list.x + super::draw::WORD;
                screen.mark(row);
                if again {
                    turn(screen, row);
                }
            }
        }
        MouseEventKind::Down(MouseButton::Left) if places.tabs.contains(at) => {
            let mut from = places.tabs.x;
            for (n, (tab, name)) in Tab::ALL.iter().enumerate() {
                let wide = super::draw::tab_text(n, name).chars().count() as u16 + super::draw::TAB_GAP;
                if (from..from + wide).contains(&mouse.column) {
                    show_page(screen, *tab);
                }
                from += wide;
            }
        }
        _ => {}
    }
    None
}
