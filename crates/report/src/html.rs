//! A page as HTML: one file, everything escaped, nothing fetched.

use crate::{
    map::{Area, Rect, squarified},
    model::{Block, Cell, Page, Remark, Section, Table, Weight, size},
    style::{SCRIPT, SHEET},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use maud::{DOCTYPE, Markup, PreEscaped, html};
use neat_content::counted;

/// Width and height of a map, in the units of its picture.
const MAP: (f64, f64) = (960.0, 520.0);
/// Height of the line with an area's name above what is in it.
const HEAD: f64 = 19.0;
/// Colours that areas have in turn.
const COLOURS: usize = 8;

impl Page {
    /// The page as one HTML file.
    pub fn html(&self) -> String {
        let mut maps = 0;
        html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    // Nothing may be fetched, whatever stands in the page.
                    meta http-equiv="Content-Security-Policy"
                        content="default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; img-src data:";
                    title { (self.title) }
                    style { (PreEscaped(SHEET)) }
                }
                body {
                    header {
                        h1 { (self.title) }
                        p.about { (self.about) }
                    }
                    @if !self.remarks.is_empty() { (remarks(&self.remarks)) }
                    @if self.sections.len() > 3 {
                        nav aria-label="Sections" {
                            @for (n, section) in self.sections.iter().enumerate().filter(|(_, own)| own.mark.is_none()) {
                                a href={ "#s" (n + 1) } { (section.title) }
                            }
                        }
                    }
                    main {
                        @for (n, own) in self.sections.iter().enumerate() { (section(own, n + 1, &mut maps)) }
                    }
                    footer { "Made by neatstack " (env!("CARGO_PKG_VERSION")) ". This page needs no network." }
                    script { (PreEscaped(SCRIPT)) }
                }
            }
        }
        .into_string()
    }
}

/// What weighs is there at once, notes when they are asked for.
fn remarks(all: &[Remark]) -> Markup {
    let (notes, heavy): (Vec<&Remark>, Vec<&Remark>) =
        all.iter().partition(|remark| remark.weight == Weight::Note);
    html! {
        @if !heavy.is_empty() { (list(&heavy)) }
        @if !notes.is_empty() {
            details {
                summary { (counted(notes.len() as u64, "note", "notes")) }
                (list(&notes))
            }
        }
    }
}

fn list(all: &[&Remark]) -> Markup {
    html! {
        ul.remarks {
            @for own in all {
                li class=(match own.weight { Weight::Bad => "bad", Weight::Danger => "danger", Weight::Note => "note" }) {
                    b { (own.word) } (own.message)
                    @if !own.hint.is_empty() { span.hint { (own.hint) } }
                }
            }
        }
    }
}

fn section(own: &Section, number: usize, maps: &mut usize) -> Markup {
    html! {
        section id={ @if let Some(mark) = &own.mark { (mark) } @else { "s" (number) } } class=[own.mark.as_ref().map(|_| "sheet")] {
            h2 { (own.title) }
            @for own in &own.blocks { (block(own, maps)) }
        }
    }
}

fn block(own: &Block, maps: &mut usize) -> Markup {
    match own {
        Block::Sheet(rows) => html! {
            dl { @for (name, value) in rows { dt { (name) } dd { (value) } } }
        },
        Block::Table(own) => table(own),
        Block::Map { caption, areas } => {
            *maps += 1;
            map(caption, areas, *maps)
        }
        Block::Bars { caption, bars } => self::bars(caption, bars),
        Block::Text(text) => html! { p { (text) } },
        Block::List(lines) => html! { ul { @for line in lines { li { (line) } } } },
        Block::Command(text) => html! { pre { code { (text) } } },
        Block::Picture { alt, png } => html! {
            figure { img alt=(alt) src={ "data:image/png;base64," (STANDARD.encode(png)) }; figcaption { (alt) } }
        },
    }
}

fn table(own: &Table) -> Markup {
    let class = |n: usize| own.heads.get(n).filter(|head| head.is_number).map(|_| "number");
    let cell = |n: usize, cell: &Cell| {
        let class = [class(n), cell.is_bad.then_some("bad")];
        let class = class.into_iter().flatten().collect::<Vec<_>>().join(" ");
        html! {
            td class=[(!class.is_empty()).then_some(class)] data-value=[cell.value] {
                @if let Some(mark) = &cell.leads_to { a href={ "#" (mark) } { (cell.text) } } @else { (cell.text) }
            }
        }
    };
    html! {
        div.wide {
            table {
                @if !own.caption.is_empty() { caption { (own.caption) } }
                thead { tr { @for (n, head) in own.heads.iter().enumerate() {
                    th scope="col" class=[class(n)] { (head.text) }
                } } }
                tbody { @for row in &own.rows { tr { @for (n, own) in row.iter().enumerate() { (cell(n, own)) } } } }
            }
        }
    }
}

fn bars(caption: &str, bars: &[(String, u64)]) -> Markup {
    let most = bars.iter().map(|(_, bytes)| *bytes).max().unwrap_or(0).max(1) as f64;
    html! {
        figure {
            figcaption { (caption) }
            div.bars {
                @for (name, bytes) in bars {
                    span { (name) }
                    span.track { span.bar style={ "width:" (number(*bytes as f64 * 100.0 / most).max(0.3)) "%" } {} }
                    span.number { (size(*bytes)) }
                }
            }
        }
    }
}

/// A place in a picture, to a tenth of a unit.
fn number(value: f64) -> f64 {
    (value * 10.0).round() / 10.0
}

/// As much of a text as there is room for, with letters as wide as `letter`; nothing when it is hardly any.
fn fitting(text: &str, width: f64, letter: f64) -> String {
    let room = (width / letter) as usize;
    let len = text.chars().count();
    match room {
        _ if len <= room => text.to_owned(),
        0..=4 => String::new(),
        room => text.chars().take(room - 1).chain(['…']).collect(),
    }
}

fn map(caption: &str, areas: &[Area], number_of_map: usize) -> Markup {
    let total: u64 = areas.iter().map(|area| area.bytes).sum();
    let sizes: Vec<u64> = areas.iter().map(|area| area.bytes).collect();
    let rects = squarified(&sizes, Rect { x: 0.0, y: 0.0, w: MAP.0, h: MAP.1 });
    let share = |bytes: u64| format!("{:.1} %", bytes as f64 * 100.0 / total.max(1) as f64);
    let id = |n: usize| format!("m{number_of_map}-{}", n + 1);
    html! {
        figure {
            figcaption { (caption) ": " (size(total)) ". Press an area for its line in the table below." }
            div.wide {
                svg role="group" aria-label=(caption) viewBox={ "0 0 " (MAP.0) " " (MAP.1) } style="min-width:36rem" {
                    @for (n, (area, rect)) in areas.iter().zip(&rects).enumerate() {
                        a href={ "#" (id(n)) } aria-label={ (area.name) ", " (size(area.bytes)) } {
                            (rectangle(*rect, n, 1.0, &format!("{}: {}, {}", area.name, size(area.bytes), share(area.bytes))))
                            (inside(area, *rect, n))
                        }
                    }
                }
            }
        }
        details {
            summary { "The same as a table" }
            div.wide {
                table {
                    thead { tr { th scope="col" { "Area" } th.number scope="col" { "Size" } th.number scope="col" { "Share" }
                        th scope="col" { "Largest in it" } } }
                    tbody { @for (n, area) in areas.iter().enumerate() {
                        tr id=(id(n)) {
                            td { (area.name) }
                            td.number data-value=(area.bytes) { (size(area.bytes)) }
                            td.number data-value=(area.bytes) { (share(area.bytes)) }
                            td { (largest(area)) }
                        }
                    } }
                }
            }
        }
    }
}

fn largest(area: &Area) -> String {
    let named = area.inside.iter().take(4).map(|own| format!("{} ({})", own.name, size(own.bytes)));
    named.collect::<Vec<_>>().join(", ")
}

fn rectangle(rect: Rect, colour: usize, opacity: f64, title: &str) -> Markup {
    html! {
        rect x=(number(rect.x)) y=(number(rect.y)) width=(number(rect.w)) height=(number(rect.h))
            fill={ "var(--c" (colour % COLOURS) ")" } fill-opacity=(opacity) { title { (title) } }
    }
}

/// The name of an area, and what is in it where there is room.
fn inside(area: &Area, rect: Rect, colour: usize) -> Markup {
    let head = format!("{}  {}", area.name, size(area.bytes));
    let room = rect.inset(3.0, HEAD);
    let sizes: Vec<u64> = area.inside.iter().map(|own| own.bytes).collect();
    let known: u64 = sizes.iter().sum();
    // What is not told stays empty at the end.
    let mut all = sizes;
    let rest = area.bytes.saturating_sub(known);
    if rest > 0 {
        all.push(rest);
        all.sort_unstable_by(|a, b| b.cmp(a));
    }
    let is_shown = room.w > 40.0 && room.h > 24.0 && area.inside.len() > 1;
    let rects = if is_shown { squarified(&all, room) } else { Vec::new() };
    let mut told = false;
    // Where the untold rest lies among the others of its size, it is passed over once.
    let mut rects = rects.into_iter().zip(all).filter(move |(_, bytes)| {
        let is_rest = rest > 0 && *bytes == rest && !told;
        told |= is_rest;
        !is_rest
    });
    html! {
        @if rect.h > 16.0 {
            text.head x=(number(rect.x + 6.0)) y=(number(rect.y + 15.0)) { (fitting(&head, rect.w - 12.0, 8.0)) }
        }
        @for own in &area.inside {
            @if let Some((place, _)) = rects.next() {
                @if place.w > 2.0 && place.h > 2.0 {
                    (rectangle(place, colour, 0.55, &format!("{} / {}: {}", area.name, own.name, size(own.bytes))))
                    @if place.h > 15.0 {
                        text x=(number(place.x + 4.0)) y=(number(place.y + 13.0)) { (fitting(&own.name, place.w - 8.0, 6.9)) }
                    }
                }
            }
        }
    }
}
