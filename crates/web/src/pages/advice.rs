//! The week's advice on daily budgets, on the page of Budgets.

use axum::response::Response;
use tiller_core::allocation::Totals;
use tiller_core::spot::Subject;
use tiller_desk::advice::Advised;
use tiller_desk::book::Book;
use tiller_desk::budgets::weekly::{self, Move, Week};
use tiller_desk::numerals::{counted, money, number, or_absent, probability, signed, sum};
use tiller_desk::tray::offer;
use tiller_desk::{DeskError, advice as desk};

use crate::error::PageError;
use crate::frame::Frame;
use crate::pages::book_of_reports;
use crate::pages::tray::{put, said};
use crate::sent::Sent;

/// A budget to be moved, as a row.
pub struct MoveLine {
    /// What its box carries.
    pub button: String,
    /// Its name.
    pub name: String,
    /// Its page.
    pub href: String,
    /// Its daily budget.
    pub now: String,
    /// What that should be.
    pub to: String,
    /// The change, in %, and its steps where it is more than one.
    pub change: String,
    /// What it adds to what is spent a day.
    pub spend: String,
    /// What it brings more a day.
    pub more: String,
    /// The tone of that.
    pub tone: &'static str,
    /// How that is known.
    pub why: String,
}

/// A campaign that is left alone.
pub struct Left {
    /// Its name.
    pub name: String,
    /// Its page.
    pub href: String,
    /// Why, and until when.
    pub why: String,
}

/// The whole a day: spend, results, what one costs or returns, and how much more that is.
pub struct WholeRow {
    /// Now, or as proposed.
    pub title: &'static str,
    /// Money.
    pub spend: String,
    /// Conversions, or their revenue.
    pub results: String,
    /// CPA, or ROAS.
    pub cost: String,
}

/// The week's advice as it is shown.
pub struct Advice {
    /// Its rows; none if the budgets are about right.
    pub lines: Vec<MoveLine>,
    /// The whole now and then.
    pub whole: Vec<WholeRow>,
    /// What the moves come to together, with their interval.
    pub gain: String,
    /// What results are.
    pub results_title: &'static str,
    /// What one costs, or what spend returns.
    pub cost_title: &'static str,
    /// Campaigns that are left alone until their look-back.
    pub left: Vec<Left>,
}

fn row(title: &'static str, t: &Totals, by_value: bool) -> WholeRow {
    let results = if by_value { or_absent(t.value, sum) } else { number(t.conversions, 1) };
    let cost =
        if by_value { or_absent(t.roas(), |r| number(r, 2)) } else { or_absent(t.cpa(), money) };
    WholeRow { title, spend: money(t.budget), results, cost }
}

fn more(x: f64, by_value: bool) -> String {
    signed(x, |x| if by_value { sum(x) } else { number(x, 2) })
}

/// What the week's moves bring together: `+2.38 extra conversions a day (80%: +1.98 to +2.80; any gain at all 97%)`.
pub fn gain(week: &Week, by_value: bool) -> Option<String> {
    let o = week.whole.filter(|_| !week.moves.is_empty())?.outlook?;
    let unit = if by_value { "revenue" } else { "conversions" };
    let [mid, low, high] = [o.gain.mid, o.gain.low, o.gain.high].map(|x| more(x, by_value));
    let better = probability(o.better);
    Some(format!("{mid} extra {unit} a day (80%: {low} to {high}; any gain at all {better})"))
}

/// The advice for an account whose channels are connected.
pub fn of(advised: &Advised, book: &Book, frame: &Frame) -> Option<Advice> {
    if !frame.connected {
        return None;
    }
    let by_value = book.by_value();
    let text = |x: f64| more(x, by_value);
    let line = |m: &Move| {
        let adds = m.adds();
        let gain = if by_value { adds.value } else { adds.conversions }.unwrap_or(0.0);
        let percent = signed(100.0 * (m.to.units() / m.from.units() - 1.0), |x| number(x, 0));
        MoveLine {
            button: weekly::offer(m).button(),
            name: m.line.name.clone(),
            href: frame.base().causes(Subject::Campaign(m.line.campaign), &frame.days),
            now: money(m.from),
            to: money(m.to),
            change: match m.steps.len() {
                0 | 1 => percent,
                n => format!("{percent} in {n} steps"),
            },
            spend: signed(adds.spend.unwrap_or(0.0), money),
            more: text(gain),
            tone: match gain {
                g if g.abs() < 0.005 => "quiet",
                g if g > 0.0 => "gain",
                _ => "harm",
            },
            why: m.because(),
        }
    };
    let left = book
        .entries
        .iter()
        .filter_map(|e| {
            let quiet = advised.quiet(e.campaign.id)?;
            Some(Left {
                name: e.campaign.name.clone(),
                href: frame.base().causes(Subject::Campaign(e.campaign.id), &frame.days),
                why: quiet.sentence(),
            })
        })
        .collect();
    let whole = advised.week.whole.filter(|_| !advised.week.moves.is_empty());
    Some(Advice {
        lines: advised.week.moves.iter().map(line).collect(),
        whole: whole
            .iter()
            .flat_map(|w| [row("now", &w.now, by_value), row("proposed", &w.then, by_value)])
            .collect(),
        gain: gain(&advised.week, by_value)
            .map_or_else(String::new, |gain| format!("{gain}, {}", advised.week.for_what())),
        results_title: if by_value { "Revenue a day" } else { "Conversions a day" },
        cost_title: if by_value { "ROAS" } else { "CPA" },
        left,
    })
}

/// Puts chosen rows in the tray.
pub async fn take(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let advised = desk::of_account(&app.db, &book).await?;
    let offers = advised.week.moves.iter().map(weekly::offer).collect();
    let outcome = match offer::taken(&fields.buttons(), offers) {
        Ok(moves) if moves.is_empty() => {
            Err(DeskError::Invalid("choose at least one budget; then put it in the tray".into()))
        }
        Ok(moves) => weekly::propose(&app.db, &member.account, sent.person(), &moves).await,
        Err(error) => Err(error),
    };
    let outcome = outcome.map(|(n, left)| match left.len() {
        0 => put(n),
        m => format!(
            "{} {} left as {}: {}.",
            put(n),
            counted(m as u64, "campaign is", "campaigns are"),
            if m == 1 { "it is" } else { "they are" },
            left.join("; ")
        ),
    });
    said(&sent, outcome).await
}
