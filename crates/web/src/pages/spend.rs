//! Spend: the table and the spend field.

use crate::paths::Paths;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::Tally;
use tiller_core::spot::Subject;
use tiller_desk::book::Book;
use tiller_desk::figure::{CATALOGUE, Figure, Seen, beside_peers, usual};
use tiller_desk::numerals::{self, count, money, number, sum};
use tiller_desk::spend::{self, Level, Row, Within, rows};
use tiller_desk::tray::Edit;
use tiller_desk::wording::{self, Words};
use tiller_desk::{AdGroupId, CampaignId, ItemId};
use tower_sessions::Session;

use crate::App;
use crate::chart::{FieldRow, Forms, SpendField};
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::spend_columns::chosen;
use crate::pages::{book, book_of_reports, csv_file, plain};
use crate::params::Params;

/// Rows shown at once; more are a filter away, and all are in the CSV.
const MOST_ROWS: usize = 200;
/// A table header.
pub struct Header {
    title: &'static str,
    link: Params,
    sorted: &'static str,
}

/// A cell.
pub struct Cell {
    text: String,
    tone: &'static str,
    working: Option<String>,
}

/// A row of the table.
pub struct RowLine {
    key: String,
    href: String,
    name: String,
    home: String,
    status: String,
    drill: Option<(String, &'static str)>,
    cells: Vec<Cell>,
    verdict: Option<(String, &'static str)>,
    target_link: Option<String>,
    spend: f64,
    conversions: f64,
    value: f64,
    excess: f64,
}

/// A choosable column.
pub struct Choice {
    key: &'static str,
    title: &'static str,
    on: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "spend.html")]
struct SpendPage {
    frame: Frame,
    summary: Words,
    field: Option<Forms<SpendField>>,
    levels: Vec<(&'static str, bool, Params)>,
    crumbs: Vec<(String, String)>,
    headers: Vec<Header>,
    name_header: Header,
    lines: Vec<RowLine>,
    totals: Vec<Cell>,
    choices: Vec<Choice>,
    beside: (&'static str, Params),
    hidden: Vec<(String, String)>,
    filter: String,
    filter_hidden: Vec<(String, String)>,
    csv: String,
    left_out: usize,
    with_verdict: bool,
    no_targets: bool,
    edits: Vec<(&'static str, &'static str)>,
    views: Vec<(String, String)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "no_reports.html")]
pub struct NoReports {
    pub frame: Frame,
    pub title: &'static str,
    pub what: &'static str,
}

struct View {
    level: Level,
    within: Within,
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
    fn of(params: &Params) -> Result<Self, PageError> {
        Ok(Self {
            level: Level::read(params.text("level")),
            within: within(params)?,
            sort: params.text("sort").to_owned(),
            filter: params.text("q").to_lowercase(),
        })
    }

    /// Filtered and in order; `-spend` is descending.
    fn arrange(&self, rows: Vec<Row>, default: &str) -> Vec<Row> {
        let sort = if self.sort.is_empty() { default } else { &self.sort };
        let (key, down) = sort.strip_prefix('-').map_or((sort, false), |k| (k, true));
        let matches = |r: &Row| {
            self.filter.is_empty()
                || r.name.to_lowercase().contains(&self.filter)
                || r.home.to_lowercase().contains(&self.filter)
        };
        let mut rows: Vec<Row> = rows.into_iter().filter(matches).collect();
        let nothing = Tally::default();
        match Figure::of(key) {
            // What is absent stands last in either order.
            Some(c) => rows.sort_by(|a, b| {
                let [x, y] = [a, b].map(|row| (c.value)(&Seen::of(row, &nothing)));
                match (x, y) {
                    (Some(x), Some(y)) if down => y.total_cmp(&x),
                    (Some(x), Some(y)) => x.total_cmp(&y),
                    (x, y) => y.is_some().cmp(&x.is_some()),
                }
            }),
            None => {
                rows.sort_by_key(|r| r.name.to_lowercase());
                if down {
                    rows.reverse();
                }
            }
        }
        rows
    }
}

/// What shares are shares of: the whole account, however the table is filtered.
fn whole(book: &Book) -> Tally {
    book.total(book.period.window)
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    session: Session,
    params: Params,
) -> Result<Response, PageError> {
    let Some(book) = book(&app.db, &member, &params).await? else {
        let frame = Frame::new(&member, Station::Spend, &params);
        return Ok(NoReports {
            frame,
            title: "Spend",
            what: "every campaign of all channels against its target",
        }
        .into_response());
    };
    let view = View::of(&params)?;
    let columns = chosen(&session, &params, book.account.id, book.by_value(), view.level).await?;
    let all = rows(&app.db, &book, view.level, view.within).await?;
    let judged: Vec<_> = all.iter().filter_map(|r| r.judged.as_ref()).collect();
    let frame =
        Frame::of_book(&member, Station::Spend, &params, &book).with_causes(judged.into_iter());
    let summary = summary(&book);
    let no_targets = book.entries.iter().all(|e| e.target.is_none());
    let all = view.arrange(all, "-excess");
    let base = frame.base();
    let field_rows: Vec<FieldRow> = all
        .iter()
        .filter_map(|r| {
            Some(FieldRow {
                key: key(r.subject),
                href: base.causes(r.subject, &frame.days),
                name: &r.name,
                sub: &r.channel,
                tally: r.tally,
                target: r.target?,
            })
        })
        .collect();
    let (target, currency) = (book.account.target(), &book.account.currency);
    let field =
        Forms::of(|form| SpendField::new(&field_rows, target, book.by_value(), currency, form));
    let account = whole(&book);
    let whole = view.level == Level::Campaigns && view.filter.is_empty();
    let total_working = whole.then(|| format!("{base}/working{}", frame.days.with("of", "all")));
    let left_out = all.len().saturating_sub(MOST_ROWS);
    let lines =
        all.iter().take(MOST_ROWS).map(|r| line(r, &columns, &account, &base, &frame)).collect();
    let owned = |pairs: Vec<(&str, &str)>| {
        pairs.into_iter().map(|(a, b)| (a.to_owned(), b.to_owned())).collect()
    };
    let sort_now = if view.sort.is_empty() { "-excess" } else { &view.sort };
    let page = SpendPage {
        views: tiller_desk::account::views::list(&app.db, &member.account, member.person.id)
            .await?,
        summary,
        field,
        levels: Level::ALL
            .iter()
            .map(|(l, word, title)| {
                (*title, *l == view.level, params.with("level", word).with("sort", ""))
            })
            .collect(),
        crumbs: crumbs(&book, &view, &all, &params),
        headers: columns.iter().map(|c| header(c.key, c.title, sort_now, &params, true)).collect(),
        name_header: header(
            "name",
            Level::ALL.iter().find(|(l, _, _)| *l == view.level).map_or("", |l| l.2),
            sort_now,
            &params,
            false,
        ),
        totals: total_cells(&columns, &all, &book, total_working.as_deref()),
        choices: choices(&columns),
        beside: beside(&columns, &params, &book, view.level),
        hidden: owned(params.others(&["columns"])),
        filter: params.text("q").to_owned(),
        filter_hidden: owned(params.others(&["q"])),
        csv: format!("{base}/spend.csv{params}"),
        left_out,
        with_verdict: view.level == Level::Campaigns,
        no_targets,
        lines,
        edits: if frame.editor && frame.connected {
            Edit::ALL.map(|e| (e.word(), e.title())).to_vec()
        } else {
            Vec::new()
        },
        frame,
    };
    Ok(page.into_response())
}

/// The table as it is seen, as CSV: all rows, plain numbers.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    session: Session,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let view = View::of(&params)?;
    let columns = chosen(&session, &params, book.account.id, book.by_value(), view.level).await?;
    let all = view.arrange(rows(&app.db, &book, view.level, view.within).await?, "-excess");
    let account = whole(&book);
    let header: Vec<String> = ["name", "belongs_to", "channel"]
        .into_iter()
        .chain(columns.iter().map(|c| c.key))
        .map(str::to_owned)
        .collect();
    let lines = all.iter().map(|row| {
        let seen = Seen::of(row, &account);
        let texts = [row.name.clone(), row.home.clone(), row.channel.clone()];
        texts.into_iter().chain(columns.iter().map(|c| plain((c.value)(&seen)))).collect()
    });
    csv_file(
        &format!("spend-{}-{}.csv", member.account.slug, book.period.window.to()),
        &header,
        lines,
    )
}

/// The way to the columns that set rows beside their peers, and back to the usual ones.
fn beside(shown: &[&Figure], params: &Params, book: &Book, level: Level) -> (&'static str, Params) {
    if shown.iter().any(|c| c.key == "cvr_peers") {
        let keys: Vec<&str> = usual(book.by_value(), level).map(|c| c.key).collect();
        ("usual columns", params.with("columns", keys.join(",")))
    } else {
        ("beside peers", params.with("columns", beside_peers(book.by_value())))
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

fn line(
    r: &Row,
    columns: &[&'static Figure],
    whole: &Tally,
    base: &Paths,
    frame: &Frame,
) -> RowLine {
    let seen = Seen::of(r, whole);
    let subject = key(r.subject);
    let params = &frame.days;
    // Its peers are those beside it in the table.
    let looked_into = params.with("of", &subject);
    let looked_into = ["campaign", "ad_group"]
        .into_iter()
        .fold(looked_into, |p, k| p.with(k, frame.params.text(k)));
    let cells = columns
        .iter()
        .map(|c| cell(c, &seen, format!("{base}/working{}", looked_into.with("figure", c.key))))
        .collect();
    let drill = match r.subject {
        Subject::Campaign(id) => Some((
            format!("{base}/spend{}", params.with("level", "ad-groups").with("campaign", id)),
            "ad groups",
        )),
        Subject::AdGroup(id) => Some((
            format!(
                "{base}/spend{}",
                params.with("level", "items").with("campaign", r.campaign).with("ad_group", id)
            ),
            "items",
        )),
        Subject::Item(_) => None,
    };
    RowLine {
        href: base.causes(r.subject, params),
        name: r.name.clone(),
        home: r.home.clone(),
        status: r.status.clone().filter(|s| s != "active").unwrap_or_default(),
        drill,
        cells,
        verdict: r.judged.as_ref().map(|j| (wording::short(&j.diagnosis), tone(j))),
        target_link: match r.subject {
            Subject::Campaign(id) if frame.editor => Some(format!("{base}/targets/{id}{params}")),
            _ => None,
        },
        spend: r.tally.spend.to_units(),
        conversions: r.tally.conversions,
        value: r.tally.value.to_units(),
        excess: r.excess().unwrap_or(0.0),
        key: subject,
    }
}

fn tone(j: &tiller_desk::book::Judged) -> &'static str {
    use tiller_core::verdict::Verdict;
    match j.diagnosis.verdict {
        Verdict::OnTarget | Verdict::TooEarly => "quiet",
        _ => "",
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

/// The total of a column: the ratio of the sums. Its working is that of all campaigns, so a filtered or
/// deeper table has none.
fn total_cells(
    columns: &[&'static Figure],
    rows: &[Row],
    book: &Book,
    workings: Option<&str>,
) -> Vec<Cell> {
    let Some(all) = spend::together(rows, book) else { return Vec::new() };
    let account = whole(book);
    let seen = Seen::of(&all, &account);
    let cell = |c: &&'static Figure| {
        let raw = (c.value)(&seen);
        let working =
            workings.filter(|_| raw.is_some()).map(|link| format!("{link}&figure={}", c.key));
        Cell { text: numerals::or_absent(raw, |x| c.written(&seen, x)), tone: "", working }
    };
    columns.iter().map(cell).collect()
}

fn crumbs(book: &Book, view: &View, rows: &[Row], params: &Params) -> Vec<(String, String)> {
    let Some(entry) = view.within.campaign.and_then(|id| book.entry(id).ok()) else {
        return Vec::new();
    };
    let top = params.with("level", "").with("campaign", "").with("ad_group", "").with("sort", "");
    let mut crumbs = vec![("All campaigns".to_owned(), top.to_string())];
    let campaign = params.with("level", "ad-groups").with("ad_group", "").with("sort", "");
    crumbs.push((entry.campaign.name.clone(), campaign.to_string()));
    if view.within.ad_group.is_some()
        && let Some(row) = rows.first()
    {
        crumbs.push((row.home.rsplit(" › ").next().unwrap_or_default().to_owned(), String::new()));
    }
    crumbs
}

/// What the period comes to, in a sentence.
fn summary(book: &Book) -> Words {
    let window = book.period.window;
    let total = book.total(window);
    let spent =
        Words::say(format!("{} spent ", book.account.name)).strong(sum(total.spend.to_units()));
    let results = match (book.by_value(), total.roas(), total.cpa()) {
        (true, Some(roas), _) => spent
            .and(" and brought in ")
            .strong(sum(total.value.to_units()))
            .and(" of revenue, a ROAS of ")
            .strong(number(roas, 2)),
        (false, _, Some(cpa)) => spent
            .and(" and got ")
            .strong(count(total.conversions))
            .and(" conversions at a CPA of ")
            .strong(money(cpa)),
        _ => return spent.and(" and counted no conversions."),
    };
    let Some(target) = book.account.target() else {
        return results.and(". Set a target to see what is too much.");
    };
    let over: Vec<f64> = book
        .entries
        .iter()
        .filter_map(|e| Some(e.target?.excess(&e.tally(window))))
        .filter(|x| *x > 0.0)
        .collect();
    let above: f64 = over.iter().sum();
    let results = results.and(format!(
        " against a target of {}. ",
        numerals::target(target).trim_end_matches(".00")
    ));
    let met = if target.excess(&total) <= 0.0 { "That meets it" } else { "That misses it" };
    if over.is_empty() {
        return results.and(format!("{met}, and no campaign is above it."));
    }
    let largest = over.iter().copied().fold(0.0, f64::max);
    let place = if over.len() == 1 {
        "in one campaign.".to_owned()
    } else {
        format!(
            "in {} campaigns, {}% of it in one.",
            over.len(),
            number(100.0 * largest / above, 0)
        )
    };
    results.and(format!("{met}; ")).harm(sum(above)).and(format!(" was overspent, {place}"))
}
