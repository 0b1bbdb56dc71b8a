//! What tables of figures share: levels, order, columns, cells with the way to their working.

use tiller_core::Tally;
use tiller_core::spot::Subject;
use tiller_desk::book::Book;
use tiller_desk::figure::{CATALOGUE, Figure, Seen};
use tiller_desk::numerals;
use tiller_desk::rows::{Level, Row, Within, together};
use tiller_desk::{AdGroupId, CampaignId, ItemId};

use crate::error::PageError;
use crate::frame::Frame;
use crate::params::Params;

/// Rows shown at once; more are a filter away, and all are in the CSV.
pub const MOST_ROWS: usize = 200;

/// A table header.
pub struct Header {
    /// What it says.
    pub title: &'static str,
    /// Where it sorts.
    pub link: Params,
    /// How it is sorted now.
    pub sorted: &'static str,
}

/// A cell.
pub struct Cell {
    pub text: String,
    pub tone: &'static str,
    pub working: Option<String>,
}

/// A choosable column.
pub struct Choice {
    pub key: &'static str,
    pub title: &'static str,
    pub on: bool,
}

/// What an address looks at.
pub struct View {
    /// The level.
    pub level: Level,
    /// What is looked into.
    pub within: Within,
    sort: String,
    filter: String,
}

/// What an address looks into.
pub fn within(params: &Params) -> Result<Within, PageError> {
    Ok(Within {
        campaign: params.number("campaign")?.map(CampaignId),
        ad_group: params.number("ad_group")?.map(AdGroupId),
    })
}

impl View {
    /// As the address says.
    pub fn of(params: &Params) -> Result<Self, PageError> {
        Ok(Self {
            level: Level::read(params.text("level")),
            within: within(params)?,
            sort: params.text("sort").to_owned(),
            filter: params.text("q").to_lowercase(),
        })
    }

    /// Filtered and in order; `-spend` is descending.
    pub fn arrange<T>(&self, all: Vec<T>, row: impl Fn(&T) -> &Row, default: &str) -> Vec<T> {
        let (key, down) = parts(self.sorted_by(default));
        let matches = |x: &T| {
            let r = row(x);
            self.filter.is_empty()
                || r.name.to_lowercase().contains(&self.filter)
                || r.home.to_lowercase().contains(&self.filter)
        };
        let mut all: Vec<T> = all.into_iter().filter(matches).collect();
        let nothing = Tally::default();
        if let Some(c) = Figure::of(key) {
            let value = |x: T| ((c.value)(&Seen::of(row(&x), &nothing)), x);
            let mut by_value: Vec<(Option<f64>, T)> = all.into_iter().map(value).collect();
            // What is absent stands last in either order.
            by_value.sort_by(|(x, _), (y, _)| match (x, y) {
                (Some(x), Some(y)) if down => y.total_cmp(x),
                (Some(x), Some(y)) => x.total_cmp(y),
                (x, y) => y.is_some().cmp(&x.is_some()),
            });
            return by_value.into_iter().map(|(_, x)| x).collect();
        }
        all.sort_by_cached_key(|x| row(x).name.to_lowercase());
        if down {
            all.reverse();
        }
        all
    }

    /// Whether all of the level is seen.
    pub fn whole(&self) -> bool {
        self.level == Level::Campaigns && self.filter.is_empty()
    }

    fn sorted_by<'a>(&'a self, default: &'a str) -> &'a str {
        if self.sort.is_empty() { default } else { &self.sort }
    }
}

/// A figure's key, and whether its greatest comes first.
fn parts(sort: &str) -> (&str, bool) {
    sort.strip_prefix('-').map_or((sort, false), |key| (key, true))
}

/// What stands around the rows: levels, the way back, filter, headers, columns.
pub struct Table {
    /// The page, below the account.
    pub place: &'static str,
    pub levels: Vec<(&'static str, bool, Params)>,
    pub crumbs: Vec<(String, String)>,
    pub headers: Vec<Header>,
    pub name_header: Header,
    pub choices: Vec<Choice>,
    pub hidden: Vec<(String, String)>,
    pub filter: String,
    pub filter_hidden: Vec<(String, String)>,
    pub left_out: usize,
    /// Whether its rows are campaigns.
    pub of_campaigns: bool,
}

impl Table {
    /// Of `rows` that an address looks at.
    pub fn new(
        place: &'static str,
        view: &View,
        params: &Params,
        columns: &[&'static Figure],
        default: &str,
    ) -> Self {
        let owned = |pairs: Vec<(&str, &str)>| {
            pairs.into_iter().map(|(a, b)| (a.to_owned(), b.to_owned())).collect()
        };
        let sort = view.sorted_by(default);
        let title = Level::ALL.iter().find(|(l, _, _)| *l == view.level).map_or("", |l| l.2);
        Self {
            place,
            levels: Level::ALL
                .iter()
                .map(|(l, word, title)| {
                    (*title, *l == view.level, params.with("level", word).with("sort", ""))
                })
                .collect(),
            crumbs: Vec::new(),
            headers: columns.iter().map(|c| header(c.key, c.title, sort, params, true)).collect(),
            name_header: header("name", title, sort, params, false),
            choices: choices(columns),
            hidden: owned(params.others(&["columns"])),
            filter: params.text("q").to_owned(),
            filter_hidden: owned(params.others(&["q"])),
            left_out: 0,
            of_campaigns: view.level == Level::Campaigns,
        }
    }

    /// With the way back up from its rows, and how many of them there is no room for.
    #[must_use]
    pub fn of_rows<'a>(
        mut self,
        book: &Book,
        view: &View,
        mut rows: impl ExactSizeIterator<Item = &'a Row>,
        params: &Params,
    ) -> Self {
        self.left_out = rows.len().saturating_sub(MOST_ROWS);
        self.crumbs = crumbs(book, view, rows.next(), params);
        self
    }
}

/// The cells of a row, with the way to each figure's working.
pub fn cells(
    row: &Row,
    columns: &[&'static Figure],
    whole: &Tally,
    settled: bool,
    frame: &Frame,
) -> Vec<Cell> {
    let seen = Seen::of(row, whole);
    // Its peers are those beside it in the table.
    let looked_into = frame.days.with("of", key(row.subject));
    let looked_into = ["campaign", "ad_group"]
        .into_iter()
        .fold(looked_into, |p, k| p.with(k, frame.params.text(k)))
        .with("settled", if settled { "yes" } else { "" });
    let working =
        |c: &Figure| format!("{}/working{}", frame.base(), looked_into.with("figure", c.key));
    columns.iter().map(|c| cell(c, &seen, working(c))).collect()
}

/// The way to what a row is made of, on a page with levels.
pub fn parts_of(row: &Row, place: &str, frame: &Frame) -> Option<(String, &'static str)> {
    let at = |p: Params| format!("{}/{place}{p}", frame.base());
    match row.subject {
        Subject::Campaign(id) => {
            let of = frame.days.with("level", "ad-groups").with("campaign", id);
            Some((at(of), "ad groups"))
        }
        Subject::AdGroup(id) => {
            let of = frame.days.with("level", "items").with("campaign", row.campaign);
            Some((at(of.with("ad_group", id)), "items"))
        }
        Subject::Item(_) => None,
    }
}

/// All columns, the shown ones first, in their order.
fn choices(shown: &[&Figure]) -> Vec<Choice> {
    let choice = |on: bool| move |c: &Figure| Choice { key: c.key, title: c.title, on };
    let hidden = CATALOGUE.iter().filter(|c| shown.iter().all(|s| s.key != c.key));
    shown.iter().copied().map(choice(true)).chain(hidden.map(choice(false))).collect()
}

fn header(key: &str, title: &'static str, sort: &str, params: &Params, down_first: bool) -> Header {
    let down = format!("-{key}");
    let (sorted, next) = match sort {
        s if s == down => ("descending", key.to_owned()),
        s if s == key => ("ascending", down),
        _ if down_first => ("", down),
        _ => ("", key.to_owned()),
    };
    Header { title, link: params.with("sort", next), sorted }
}

/// `campaign-12`: names a row in the table, its block in the chart, its place in addresses.
pub fn key(subject: Subject) -> String {
    match subject {
        Subject::Campaign(id) => format!("campaign-{id}"),
        Subject::AdGroup(id) => format!("ad-group-{id}"),
        Subject::Item(id) => format!("item-{id}"),
    }
}

/// The thing that such a key names.
pub fn subject(key: &str) -> Option<Subject> {
    let (kind, id) = key.rsplit_once('-')?;
    let id = id.parse().ok()?;
    match kind {
        "campaign" => Some(Subject::Campaign(CampaignId(id))),
        "ad-group" => Some(Subject::AdGroup(AdGroupId(id))),
        "item" => Some(Subject::Item(ItemId(id))),
        _ => None,
    }
}

fn cell(c: &Figure, seen: &Seen, working: String) -> Cell {
    let Some(x) = (c.value)(seen) else {
        return Cell { text: numerals::ABSENT.into(), tone: "quiet", working: None };
    };
    let harm = f64::from(c.sign) * x;
    let tone = match harm {
        h if h > 0.0 => "harm",
        h if h < 0.0 => "gain",
        _ => "",
    };
    Cell { text: c.written(seen, x), tone, working: Some(working) }
}

/// The total of each column: the ratio of the sums. Its working is that of all campaigns, so a filtered or
/// deeper table has none.
pub fn totals(
    columns: &[&'static Figure],
    rows: &[Row],
    book: &Book,
    workings: Option<&str>,
) -> Vec<Cell> {
    let Some(all) = together(rows, book) else { return Vec::new() };
    let account = book.total(book.period.window);
    let seen = Seen::of(&all, &account);
    let cell = |c: &&'static Figure| {
        let raw = (c.value)(&seen);
        let working =
            workings.filter(|_| raw.is_some()).map(|link| format!("{link}&figure={}", c.key));
        Cell { text: numerals::or_absent(raw, |x| c.written(&seen, x)), tone: "", working }
    };
    columns.iter().map(cell).collect()
}

fn crumbs(book: &Book, view: &View, first: Option<&Row>, params: &Params) -> Vec<(String, String)> {
    let Some(entry) = view.within.campaign.and_then(|id| book.entry(id).ok()) else {
        return Vec::new();
    };
    let top = params.with("level", "").with("campaign", "").with("ad_group", "").with("sort", "");
    let mut crumbs = vec![("All campaigns".to_owned(), top.to_string())];
    let campaign = params.with("level", "ad-groups").with("ad_group", "").with("sort", "");
    crumbs.push((entry.campaign.name.clone(), campaign.to_string()));
    if view.within.ad_group.is_some()
        && let Some(row) = first
    {
        crumbs.push((row.home.rsplit(" › ").next().unwrap_or_default().to_owned(), String::new()));
    }
    crumbs
}
