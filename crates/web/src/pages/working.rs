//! The working of a figure: formula, numbers, window, source, and what is uncertain.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::evidence::{cost_per_conversion, least_cost_without_conversions, poisson, wilson};
use tiller_core::spot::Subject;
use tiller_core::{Tally, Target, Window};
use tiller_desk::book::Book;
use tiller_desk::numerals::{self, count, money, number, percent, signed, sum};
use tiller_desk::spend::{self, Level, Row, Within, rows, split, together};
use tiller_desk::{AdGroupId, CampaignId, ItemId};

use crate::App;
use crate::error::PageError;
use crate::extract::{Fragment, Member};
use crate::frame::{Frame, Station, span};
use crate::pages::book_of_reports;
use crate::pages::spend::within;
use crate::pages::split::of as split_of;
use crate::params::Params;

/// A figure's working.
pub(super) struct Working {
    pub title: &'static str,
    pub formula: &'static str,
    pub numbers: Vec<(&'static str, String)>,
    pub result: String,
    pub uncertain: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "working_fragment.html")]
pub(super) struct WorkingFragment {
    pub working: Working,
    pub name: String,
    pub window: String,
    pub source: String,
}

impl WorkingFragment {
    /// As the pop-over's content, or as a page of its own.
    pub fn shown(self, fragment: bool, frame: impl FnOnce() -> Frame) -> Response {
        if fragment {
            return self.into_response();
        }
        WorkingPage { frame: frame(), fragment: self }.into_response()
    }
}

#[derive(Template, WebTemplate)]
#[template(path = "working.html")]
struct WorkingPage {
    frame: Frame,
    fragment: WorkingFragment,
}

fn subject(text: &str) -> Result<(Subject, Level), PageError> {
    let unknown = || PageError::NotFound(format!("‘{text}’ names no campaign, ad group or item."));
    let (kind, id) = text.rsplit_once('-').ok_or_else(unknown)?;
    let id: i64 = id.parse().map_err(|_| unknown())?;
    match kind {
        "campaign" => Ok((Subject::Campaign(CampaignId(id)), Level::Campaigns)),
        "ad-group" => Ok((Subject::AdGroup(AdGroupId(id)), Level::AdGroups)),
        "item" => Ok((Subject::Item(ItemId(id)), Level::Items)),
        _ => Err(unknown()),
    }
}

/// The working, as a page of its own or as the pop-over's content.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Fragment(fragment): Fragment,
    params: Params,
) -> Result<Response, PageError> {
    let mut book = book_of_reports(&app.db, &member, &params).await?;
    if !params.text("settled").is_empty() {
        book = book.of_settled_days().into();
    }
    let of = params.text("of");
    let nothing = || PageError::NotFound("Nothing was counted for it in these days.".into());
    let (row, all) = match of {
        "all" => {
            let all = rows(&app.db, &book, Level::Campaigns, Within::default()).await?;
            (together(&all, &book).ok_or_else(nothing)?, all)
        }
        "part" => {
            let of = split_of(&params)?;
            let by = split::SplitBy::read(params.text("by")).0;
            let all = split::rows(&app.db, &book, by, &of).await?;
            let all: Vec<Row> =
                all.into_iter().map(|p| p.as_row(&book, &of)).collect::<Result<_, _>>()?;
            let name = params.text("row");
            (all.iter().find(|r| r.name == name).cloned().ok_or_else(nothing)?, all)
        }
        _ => {
            let (subject, level) = subject(of)?;
            let all = rows(&app.db, &book, level, within(&params)?).await?;
            (all.iter().find(|r| r.subject == subject).cloned().ok_or_else(nothing)?, all)
        }
    };
    let working = working(params.text("figure"), &row, &all, &book, of == "all")?;
    let body = WorkingFragment {
        working,
        name: row.name.clone(),
        window: days(book.period.window),
        source: format!("reports of {}, up to {}", row.channel, numerals::full_day(book.span.to())),
    };
    Ok(body.shown(fragment, || Frame::of_book(&member, Station::Spend, &params, &book)))
}

fn days(w: Window) -> String {
    format!("{}, {}", span(w), numerals::counted(w.days(), "day", "days"))
}

const EXACT: &str = "Nothing: channels count it exactly, and a day is final when it is reported.";

/// What of the days can still change.
fn late(book: &Book) -> String {
    let settled = book.last_settled();
    match book.period.window {
        w if w.to() <= settled => "All of these days have settled.".into(),
        w if w.from() > settled => "Conversions of these days are still coming in.".into(),
        _ => {
            format!("Conversions of the days after {} are still coming in.", numerals::day(settled))
        }
    }
}

fn working(
    figure: &str,
    row: &Row,
    all: &[Row],
    book: &Book,
    of_all: bool,
) -> Result<Working, PageError> {
    let t = &row.tally;
    let late = late(book);
    let currency = &book.account.currency;
    let paid = |x: f64| format!("{} {currency}", money(x));
    let (spend, value) = (t.spend.to_units(), t.value.to_units());
    let number_of = |title, x: f64| (title, count(x));
    let of = |title, formula, numbers, result: String, uncertain: String| Working {
        title,
        formula,
        numbers,
        result,
        uncertain,
    };
    let counted = |x: f64| {
        let i = poisson(x, 0.95);
        format!(
            "If the same days came again, 95% of the time between {} and {} (Poisson).",
            number(i.low, 1),
            number(i.high, 1)
        )
    };
    Ok(match figure {
        "spend" => of(
            "Spend",
            "sum of what the channel charged",
            vec![("Clicks", sum(t.clicks as f64)), ("CPC", numerals::or_absent(t.cpc(), money))],
            paid(spend),
            EXACT.into(),
        ),
        "share" | "result_share" | "pool_share" | "pool_results" => {
            share(figure, row, all, &paid, &late).ok_or_else(|| no_figure(figure))?
        }
        "impressions" => of(
            "Impressions",
            "times shown, as reported",
            vec![],
            sum(t.impressions as f64),
            EXACT.into(),
        ),
        "clicks" => {
            of("Clicks", "times clicked, as reported", vec![], sum(t.clicks as f64), EXACT.into())
        }
        "ctr" => of(
            "Click-through rate (CTR)",
            "clicks ÷ impressions",
            vec![
                number_of("Clicks", t.clicks as f64),
                number_of("Impressions", t.impressions as f64),
            ],
            numerals::or_absent(t.ctr(), |x| format!("{}%", percent(x))),
            rate_range(t.clicks as f64, t.impressions as f64),
        ),
        "cpc" => of(
            "Cost per click (CPC)",
            "spend ÷ clicks",
            vec![("Spend", paid(spend)), number_of("Clicks", t.clicks as f64)],
            numerals::or_absent(t.cpc(), paid),
            EXACT.into(),
        ),
        "cvr" => of(
            "Conversion rate (CVR)",
            "conversions ÷ clicks",
            vec![number_of("Conversions", t.conversions), number_of("Clicks", t.clicks as f64)],
            numerals::or_absent(t.cvr(), |x| format!("{}%", percent(x))),
            rate_range(t.conversions, t.clicks as f64),
        ),
        "conversions" => of(
            "Conversions",
            "results, by the day of their click",
            vec![],
            count(t.conversions),
            format!("{} {late}", counted(t.conversions)),
        ),
        "cpa" => of(
            "Cost per acquisition (CPA)",
            "spend ÷ conversions",
            vec![("Spend", paid(spend)), number_of("Conversions", t.conversions)],
            numerals::or_absent(t.cpa(), paid),
            cost_range(spend, t.conversions, &late),
        ),
        "value" => of(
            "Conversion value",
            "sum of the values of its conversions",
            vec![
                number_of("Conversions", t.conversions),
                ("Value each", numerals::or_absent(t.aov(), money)),
            ],
            paid(value),
            late,
        ),
        "roas" => of(
            "Return on ad spend (ROAS)",
            "value ÷ spend",
            vec![("Value", paid(value)), ("Spend", paid(spend))],
            numerals::or_absent(t.roas(), |x| number(x, 2)),
            value_range(t, &late),
        ),
        "acos" => of(
            "Advertising cost of sales (ACoS)",
            "spend ÷ value",
            vec![("Spend", paid(spend)), ("Value", paid(value))],
            numerals::or_absent(t.acos(), |x| format!("{}%", percent(x))),
            value_range(t, &late),
        ),
        "target" => of(
            "Target",
            if row.own_target { "set for this campaign" } else { "the account’s default" },
            vec![],
            numerals::or_absent(row.target.map(Target::number), |x| number(x, 2)),
            "It is a decision, not a measurement.".into(),
        ),
        "excess" if of_all => excess_of_all(all, &paid, late),
        "excess" => excess(row, &paid, late),
        "spend_change" | "conversions_change" | "cpa_change" | "roas_change" => {
            change(figure, row, book)?
        }
        "cpc_peers" | "cvr_peers" | "cpa_peers" | "roas_peers" => beside_peers(figure, row)?,
        other => return Err(no_figure(other)),
    })
}

fn no_figure(figure: &str) -> PageError {
    PageError::NotFound(format!("There is no figure ‘{figure}’ of this."))
}

/// What a share is of, and how that is written.
type Measure<'a> = (&'a dyn Fn(&Tally) -> f64, &'a dyn Fn(f64) -> String);

/// A share of all rows, or of the campaign that a part belongs to.
fn share(
    figure: &str,
    row: &Row,
    all: &[Row],
    paid: &dyn Fn(f64) -> String,
    late: &str,
) -> Option<Working> {
    let of_pool = figure.starts_with("pool");
    let whole = if of_pool { row.pool? } else { all.iter().map(|r| r.tally).sum() };
    let by_value = matches!(row.target, Some(Target::Roas(_)));
    let (title, formula, uncertain, (measure, text)): (_, _, _, Measure) = match (figure, by_value)
    {
        ("share" | "pool_share", _) => (
            "Share of spend",
            if of_pool { "spend ÷ spend of its campaign" } else { "spend ÷ spend of all rows" },
            EXACT,
            (&|t| t.spend.to_units(), paid),
        ),
        (_, true) => (
            "Share of results",
            if of_pool { "value ÷ value of its campaign" } else { "value ÷ value of all rows" },
            late,
            (&|t| t.value.to_units(), paid),
        ),
        (_, false) => (
            "Share of results",
            if of_pool {
                "conversions ÷ conversions of its campaign"
            } else {
                "conversions ÷ conversions of all rows"
            },
            late,
            (&|t| t.conversions, &count),
        ),
    };
    let (own, whole) = (measure(&row.tally), measure(&whole));
    let share = (whole > 0.0).then(|| own / whole);
    Some(Working {
        title,
        formula,
        numbers: vec![
            ("Its own", text(own)),
            (if of_pool { "Its campaign" } else { "All rows" }, text(whole)),
        ],
        result: numerals::or_absent(share, |x| format!("{}%", percent(x))),
        uncertain: uncertain.into(),
    })
}

/// A ratio of what was counted.
type Ratio = fn(&Tally) -> Option<f64>;

fn beside_peers(figure: &str, row: &Row) -> Result<Working, PageError> {
    let (title, of, text): (_, Ratio, fn(f64) -> String) = match figure {
        "cpc_peers" => ("Cost per click beside its peers’", Tally::cpc, money),
        "cvr_peers" => {
            ("Conversion rate beside its peers’", Tally::cvr, |x| format!("{}%", percent(x)))
        }
        "cpa_peers" => ("CPA beside its peers’", Tally::cpa, money),
        _ => ("ROAS beside its peers’", Tally::roas, |x| number(x, 2)),
    };
    let (own, peers) = row.peers.as_ref().ok_or_else(|| no_figure(figure))?;
    let (mine, theirs) = (of(own), of(peers));
    let ratio = mine.zip(theirs).filter(|(_, t)| *t > 0.0).map(|(m, t)| m / t - 1.0);
    let p = tiller_core::evidence::two_rates(
        own.conversions,
        own.clicks as f64,
        peers.conversions,
        peers.clicks as f64,
    );
    let uncertain = match figure {
        "cpc_peers" => EXACT.to_owned(),
        _ if p < 0.05 => {
            format!(
                "Its clicks convert at a different rate from its peers’, by more than chance explains (p {}).",
                number(p.max(0.001), 3)
            )
        }
        _ => format!("Chance alone could explain how its clicks convert (p {}).", number(p, 2)),
    };
    Ok(Working {
        title,
        formula: "its own ÷ its peers’ together − 1",
        numbers: vec![
            ("Its own", numerals::or_absent(mine, text)),
            ("Peers", numerals::or_absent(theirs, text)),
            ("Peers’ clicks", sum(peers.clicks as f64)),
        ],
        result: numerals::or_absent(ratio, |x| format!("{}%", signed(x * 100.0, |x| number(x, 0)))),
        uncertain,
    })
}

fn excess_of_all(rows: &[Row], paid: &dyn Fn(f64) -> String, late: String) -> Working {
    let each = || rows.iter().filter_map(Row::excess);
    Working {
        title: "Excess",
        formula: "sum of every campaign’s excess, each by its own target",
        numbers: vec![
            ("Above target", paid(each().filter(|x| *x > 0.0).sum())),
            ("Under target", paid(each().filter(|x| *x < 0.0).sum())),
        ],
        result: numerals::or_absent(spend::excess(rows), |x| signed(x, paid)),
        uncertain: late,
    }
}

fn excess(row: &Row, paid: &dyn Fn(f64) -> String, late: String) -> Working {
    let t = &row.tally;
    let spend = ("Spend", paid(t.spend.to_units()));
    let (formula, numbers) = match row.target {
        Some(Target::Cpa(x)) => (
            "spend − conversions × target CPA",
            vec![spend, ("Conversions", count(t.conversions)), ("Target CPA", paid(x))],
        ),
        Some(Target::Roas(x)) => (
            "spend − value ÷ target ROAS",
            vec![spend, ("Value", paid(t.value.to_units())), ("Target ROAS", number(x, 2))],
        ),
        None => ("needs a target", vec![spend]),
    };
    let uncertain = row.judged.as_ref().and_then(|j| j.diagnosis.p_over).map_or(late, |p| {
        format!(
            "That the true cost is above target has a probability of {}, from the settled days.",
            numerals::probability(p)
        )
    });
    Working {
        title: "Excess",
        formula,
        numbers,
        result: numerals::or_absent(row.excess(), |x| signed(x, paid)),
        uncertain,
    }
}

fn change(figure: &str, row: &Row, book: &Book) -> Result<Working, PageError> {
    let (title, of): (_, Ratio) = match figure {
        "spend_change" => ("Change of spend", |t| Some(t.spend.to_units())),
        "conversions_change" => ("Change of conversions", |t| Some(t.conversions)),
        "cpa_change" => ("Change of CPA", Tally::cpa),
        _ => ("Change of ROAS", Tally::roas),
    };
    let none = || PageError::NotFound("The page compares with no other period.".into());
    let (before, window) = row.against.as_ref().zip(book.period.against).ok_or_else(none)?;
    let (then, now) = (of(before), of(&row.tally));
    let ratio = now.zip(then).filter(|(_, t)| *t > 0.0).map(|(n, t)| n / t - 1.0);
    let p = tiller_core::evidence::two_rates(
        row.tally.conversions,
        row.tally.spend.to_units(),
        before.conversions,
        before.spend.to_units(),
    );
    let uncertain = match figure {
        "spend_change" => EXACT.to_owned(),
        _ if p < 0.05 => format!(
            "Conversions for the money differ by more than chance explains (p {}).",
            number(p.max(0.001), 3)
        ),
        _ => format!(
            "Chance alone could explain the difference in conversions for the money (p {}).",
            number(p, 2)
        ),
    };
    Ok(Working {
        title,
        formula: "now ÷ before − 1",
        numbers: vec![
            ("Now", numerals::or_absent(now, money)),
            ("Before", format!("{} ({})", numerals::or_absent(then, money), span(window))),
        ],
        result: numerals::or_absent(ratio, |x| format!("{}%", signed(x * 100.0, |x| number(x, 0)))),
        uncertain,
    })
}

fn rate_range(successes: f64, trials: f64) -> String {
    wilson(successes, trials, 0.95).map_or("Nothing to compute it from yet.".into(), |i| {
        format!(
            "95% of the time the true rate lies between {}% and {}% (Wilson).",
            percent(i.low),
            percent(i.high)
        )
    })
}

fn cost_range(spend: f64, conversions: f64, late: &str) -> String {
    match cost_per_conversion(spend, conversions, 0.95) {
        (low, Some(high)) => format!(
            "With 95% confidence between {} and {} (exact Poisson). {late}",
            money(low),
            money(high)
        ),
        (_, None) => format!(
            "No conversion yet: the true CPA is at least {} with 95% confidence (rule of three).",
            money(least_cost_without_conversions(spend))
        ),
    }
}

fn value_range(t: &Tally, late: &str) -> String {
    let i = poisson(t.conversions, 0.95);
    match (t.roas(), t.conversions > 0.0) {
        (Some(roas), true) => {
            let scale = |n: f64| number(roas * n / t.conversions, 2);
            format!(
                "From the number of conversions alone, ROAS lies between {} and {} with 95% confidence. {late}",
                scale(i.low),
                scale(i.high)
            )
        }
        _ => "No conversion yet.".into(),
    }
}
