//! What the screen of `pick` shows.

use super::views::{self, Row};
use neat_service::{Category, Choice, Inventory};
use neat_stack::DeviceSummary;
use ratatui::layout::Rect;
use std::{
    collections::{BTreeMap, BTreeSet},
    ops::Range,
};

/// What is chosen from, in words.
#[derive(Clone, Debug, Default)]
pub(crate) struct Subject {
    /// The edition whose components are shown.
    pub edition: String,
    /// Where it comes from.
    pub source: String,
    /// What the choice is written into.
    pub target: String,
}

/// An edition that can be kept.
#[derive(Clone, Debug)]
pub(crate) struct EditionRow {
    pub name: String,
    pub facts: String,
    pub bytes: u64,
    pub kept: bool,
}

/// The devices of the lists that the stack file names.
#[derive(Clone, Debug)]
pub(crate) enum Devices {
    /// Still being worked out.
    Pending,
    /// What serves each, or why that is not known.
    Known(Result<Vec<DeviceSummary>, String>),
}

/// What has been worked out meanwhile.
#[derive(Debug)]
pub(crate) enum News {
    /// The components that are known before hives, packages and drivers have been read.
    Early(Box<Choice>),
    /// All components, without sizes.
    Choice(Box<Choice>),
    /// Their sizes.
    Weighed(Inventory),
    /// What serves the devices.
    Devices(Result<Vec<DeviceSummary>, String>),
    /// Why there is nothing to choose from.
    Failed(String),
}

/// What is chosen on a page of the screen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Tab {
    Components,
    Features,
    Editions,
    Devices,
}

impl Tab {
    pub const ALL: [(Self, &'static str); 4] = [
        (Self::Components, "Components"),
        (Self::Features, "Features"),
        (Self::Editions, "Editions"),
        (Self::Devices, "Devices"),
    ];
}

/// Which components are shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Shown {
    All,
    /// Those that go.
    Going,
    /// Those that the earlier choice has otherwise.
    Changed,
}

/// What lies over the page.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Above {
    Nothing,
    Help,
    /// Profiles; the number is the line that is marked.
    Profiles(usize),
    /// Whether the choice is to be kept.
    Leaving,
}

/// Where the parts of the page were drawn last, for the mouse.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Places {
    pub tabs: Rect,
    pub categories: Rect,
    pub list: Rect,
    pub list_from: usize,
    pub categories_from: usize,
}

/// A screen and all that was chosen on it.
#[derive(Debug)]
pub(crate) struct Screen {
    pub subject: Subject,
    pub(super) tab: Tab,
    pub(super) choice: Option<Choice>,
    /// Whether services, packages and drivers are still being read: until then nothing can be taken out.
    pub(super) reading: bool,
    pub(super) weighed: bool,
    pub(super) failed: Option<String>,
    pub(super) editions: Vec<EditionRow>,
    editions_before: Vec<bool>,
    pub(super) features: BTreeMap<String, bool>,
    features_before: BTreeMap<String, bool>,
    pub(super) devices: Devices,
    /// Ids that an earlier build took out.
    pub(super) earlier: Option<BTreeSet<String>>,
    first: Option<Choice>,
    /// Which line of each page is marked.
    marked: [usize; 4],
    /// Which category is shown: 0 for all.
    pub(super) category: usize,
    pub(super) in_categories: bool,
    pub(super) search: String,
    pub(super) searching: bool,
    pub(super) shown: Shown,
    pub(super) by_size: bool,
    pub(super) above: Above,
    pub(super) message: String,
    pub(super) places: Places,
    /// Whether it is drawn in colours.
    pub colours: bool,
}

impl Screen {
    /// A screen on which nothing has been chosen yet.
    pub(crate) fn new(
        subject: Subject,
        editions: Vec<EditionRow>,
        features: BTreeMap<String, bool>,
        earlier: Option<BTreeSet<String>>,
    ) -> Self {
        Self {
            subject,
            tab: Tab::Components,
            choice: None,
            reading: true,
            weighed: false,
            failed: None,
            editions_before: editions.iter().map(|row| row.kept).collect(),
            editions,
            features_before: features.clone(),
            features,
            devices: Devices::Pending,
            earlier,
            first: None,
            marked: [0; 4],
            category: 0,
            in_categories: false,
            search: String::new(),
            searching: false,
            shown: Shown::All,
            by_size: false,
            above: Above::Nothing,
            message: String::new(),
            places: Places::default(),
            colours: true,
        }
    }

    /// Takes in what has been worked out.
    pub(crate) fn hear(&mut self, news: News) {
        match news {
            News::Early(choice) => self.choice = Some(*choice),
            News::Choice(choice) => {
                let category = self.shown_category();
                let marked = self.rows().get(self.at()).and_then(Row::id).map(str::to_owned);
                self.first = Some((*choice).clone());
                self.choice = Some(*choice);
                self.reading = false;
                // More has come before what was marked, which stays marked unless it is the top.
                let at = self.categories().iter().position(|own| own.0 == category);
                self.category = at.unwrap_or(0);
                if let Some(marked) = marked.filter(|_| self.at() > 0) {
                    let at = self.rows().iter().position(|row| row.id() == Some(&marked));
                    self.mark(at.unwrap_or(0));
                }
            }
            News::Weighed(inventory) => {
                if let Some(choice) = &mut self.choice {
                    choice.weigh(&inventory);
                }
                self.weighed = true;
            }
            News::Devices(devices) => self.devices = Devices::Known(devices),
            News::Failed(why) => {
                // What is known of a part is nothing to choose from.
                self.choice = self.choice.take().filter(|_| !self.reading);
                self.failed = Some(why);
            }
        }
    }

    /// Whether something is still being worked out.
    pub(super) fn is_waiting(&self) -> bool {
        matches!(self.devices, Devices::Pending)
    }

    /// Nothing more will be worked out.
    pub(super) fn hear_no_more(&mut self) {
        if self.is_waiting() {
            self.devices = Devices::Known(Ok(Vec::new()));
        }
        if self.reading && self.failed.is_none() {
            self.failed = Some("reading the edition ended without a result".into());
        }
    }

    /// The components that were chosen, if all could be read.
    pub(crate) fn choice(&self) -> Option<&Choice> {
        self.choice.as_ref().filter(|_| !self.reading)
    }

    /// The same before anything was chosen.
    pub(crate) const fn first(&self) -> Option<&Choice> {
        self.first.as_ref()
    }

    /// The editions, with what was chosen.
    pub(crate) fn editions(&self) -> &[EditionRow] {
        &self.editions
    }

    /// The features that are switched.
    pub(crate) const fn features(&self) -> &BTreeMap<String, bool> {
        &self.features
    }

    /// Whether anything is otherwise than it was.
    pub(super) fn is_changed(&self) -> bool {
        self.choice().map(Choice::text) != self.first.as_ref().map(Choice::text)
            || self.features != self.features_before
            || self.editions.iter().map(|row| row.kept).ne(self.editions_before.iter().copied())
    }

    fn page(&self) -> usize {
        Tab::ALL.iter().position(|(tab, _)| *tab == self.tab).unwrap_or(0)
    }

    /// The marked line of this page.
    pub(super) fn at(&self) -> usize {
        self.marked[self.page()]
    }

    /// Marks another line, or the last where there are fewer.
    pub(super) fn mark(&mut self, line: usize) {
        let count = self.rows().len();
        let page = self.page();
        self.marked[page] = line.min(count.saturating_sub(1));
    }

    /// The rows of this page.
    pub(super) fn rows(&self) -> Vec<Row<'_>> {
        views::rows(self)
    }

    /// Categories that the edition has, with how many components each has and how many of them go.
    pub(super) fn categories(&self) -> Vec<(Option<Category>, usize, usize)> {
        let Some(choice) = &self.choice else { return Vec::new() };
        let mut counts: BTreeMap<Category, (usize, usize)> = BTreeMap::new();
        for component in choice.components() {
            let own = counts.entry(Category::of_id(&component.id)).or_default();
            own.0 += 1;
            own.1 += usize::from(choice.taken().contains(&component.id));
        }
        let all = counts.values().fold((0, 0), |all, own| (all.0 + own.0, all.1 + own.1));
        let each = Category::ALL.into_iter().filter_map(|category| {
            counts.get(&category).map(|(count, going)| (Some(category), *count, *going))
        });
        std::iter::once((None, all.0, all.1)).chain(each).collect()
    }

    /// Shows another category, from its top.
    pub(super) fn show_category(&mut self, number: usize) {
        self.category = number.min(self.categories().len().saturating_sub(1));
        self.mark(0);
    }

    /// The category that is shown; nothing for all.
    pub(super) fn shown_category(&self) -> Option<Category> {
        self.categories().get(self.category).and_then(|(category, _, _)| *category)
    }

    /// Which of `count` rows fit into `height` lines, so that the marked one is among them.
    pub(super) fn window(at: usize, before: usize, count: usize, height: usize) -> Range<usize> {
        let last_first = count.saturating_sub(height);
        let first = before.max((at + 1).saturating_sub(height.max(1))).min(at).min(last_first);
        first..(first + height).min(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use neat_service::{Component, RemovalRequest};

    fn choice(ids: &[&str]) -> Box<Choice> {
        let component = |id: &&str| {
            let mut component = Component::default();
            component.id = (*id).to_owned();
            (component.id.clone(), component)
        };
        let mut inventory = Inventory::default();
        inventory.components = ids.iter().map(component).collect();
        Box::new(Choice::new(inventory, Vec::new(), None, &RemovalRequest::default()))
    }

    fn marked(screen: &Screen) -> Option<String> {
        screen.rows().get(screen.at()).and_then(Row::id).map(str::to_owned)
    }

    #[test]
    fn what_is_known_first_is_shown_and_stays_marked_when_more_comes() {
        let mut screen = Screen::new(Subject::default(), Vec::new(), BTreeMap::new(), None);
        screen.hear(News::Early(choice(&["app/chart", "font/sans", "font/serif"])));
        assert_eq!(screen.rows().len(), 3);
        assert!(screen.choice().is_none() && !screen.is_changed());
        screen.show_category(2);
        screen.mark(1);
        screen.hear(News::Choice(choice(&[
            "app/chart",
            "driver/net",
            "feature/fax",
            "font/sans",
            "font/serif",
        ])));
        assert_eq!(screen.shown_category(), Some(Category::Font));
        assert_eq!(marked(&screen).as_deref(), Some("font/serif"));
        assert!(screen.choice().is_some());
        screen.hear(News::Failed("the sizes cannot be read".into()));
        assert!(screen.choice().is_some());
    }

    #[test]
    fn a_part_alone_is_nothing_to_choose_from() {
        let mut screen = Screen::new(Subject::default(), Vec::new(), BTreeMap::new(), None);
        screen.hear(News::Early(choice(&["app/chart"])));
        screen.hear(News::Failed("a hive is damaged".into()));
        screen.hear_no_more();
        assert!(screen.rows().is_empty() && screen.failed.as_deref() == Some("a hive is damaged"));
    }

    #[test]
    fn the_marked_line_is_always_seen() {
        assert_eq!(Screen::window(0, 0, 100, 10), 0..10);
        assert_eq!(Screen::window(9, 0, 100, 10), 0..10);
        assert_eq!(Screen::window(10, 0, 100, 10), 1..11);
        assert_eq!(Screen::window(5, 20, 100, 10), 5..15);
        assert_eq!(Screen::window(99, 0, 100, 10), 90..100);
        assert_eq!(Screen::window(2, 50, 3, 10), 0..3);
        assert_eq!(Screen::window(0, 0, 0, 10), 0..0);
        assert_eq!(Screen::window(3, 0, 9, 0), 3..3);
    }
}
