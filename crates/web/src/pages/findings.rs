//! What was found inside a campaign: sections of its page under Causes, and what is done about them.

use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::bridge::Effect;
use tiller_core::setting::Dimension as Told;
use tiller_core::spot::Subject;
use tiller_core::{Target, Window};
use tiller_desk::book::Book;
use tiller_desk::causes::findings as desk;
use tiller_desk::causes::findings::{
    BidPath, BidWeek, Broke, Dimension, Factor, Findings, Found, Gap,
};
use tiller_desk::numerals::{self, count, day, money, number, percent, probability, signed, sum};
use tiller_desk::wording::Words;
use tiller_desk::{CampaignId, change_words};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Id};
use crate::pages::book_of_reports;
use crate::pages::figures_table::key;
use crate::pages::tray::{put, said};
use crate::params::Params;
use crate::sent::Sent;

/// A finding as a row.
pub struct FindingLine {
    /// What it is about.
    pub what: String,
    /// Money spent on it.
    pub spend: String,
    /// Conversions that it brought.
    pub conversions: String,
    /// What one cost, or what it returned.
    pub cost: String,
    /// Money above target.
    pub excess: String,
    /// Its tone.
    pub tone: &'static str,
    /// Why.
    pub why: String,
    /// What to do; nothing where it is left alone.
    pub advice: String,
    /// Whether anything was found there.
    pub found: bool,
    /// What its box carries, where it can be put in the tray.
    pub button: Option<String>,
    /// Where its figures are worked out, but for which figure; nothing where that takes more than a formula.
    pub working: Option<Params>,
}

/// Rows under a title.
pub struct Section {
    /// Its title.
    pub title: String,
    /// What the first column holds.
    pub of: &'static str,
    /// What it says in short.
    pub words: String,
    /// Its rows.
    pub lines: Vec<FindingLine>,
}

/// What stands on the page.
pub struct View {
    /// The break of its cost, if there is one.
    pub broke: Option<BrokeView>,
    /// The gap to the comparison period: its title, its segments, and their sum.
    pub gap: Option<GapView>,
    /// The path of bids that follow their own averages.
    pub path: Option<PathView>,
    /// Everything else.
    pub sections: Vec<Section>,
    /// Splits whose parts do not part from each other surely enough.
    pub rest: Vec<Section>,
    /// Search terms that nobody has been through.
    pub new_terms: usize,
    /// The title over cost.
    pub cost_title: &'static str,
    /// The figure's name in addresses.
    pub cost_figure: &'static str,
}

impl View {
    /// Whether anything is advised.
    pub fn has_advice(&self) -> bool {
        self.sections.iter().flat_map(|s| &s.lines).any(|l| l.button.is_some())
    }
}

/// The gap by segments as it is shown: segment, price, rate, mix, together.
pub struct GapView {
    /// What it is of.
    pub title: String,
    /// Its rows, the sum last.
    pub rows: Vec<[String; 5]>,
}

/// A path of bids as it is told.
pub struct PathView {
    /// What happened, and where it leads.
    pub words: Words,
    /// Its weeks: first day, bid, CPC, clicks.
    pub weeks: Vec<[String; 4]>,
}

/// A break as it is told.
pub struct BrokeView {
    /// When and how much.
    pub words: Words,
    /// What moved: title, first day, before, after.
    pub moved: Vec<(&'static str, String, String, String)>,
    /// What was changed around that day.
    pub logged: Vec<String>,
}

fn cost(target: Target, t: &tiller_core::Tally) -> String {
    match target {
        Target::Cpa(_) => numerals::or_absent(t.cpa(), money),
        Target::Roas(_) => numerals::or_absent(t.roas(), |r| number(r, 2)),
    }
}

fn line(target: Target, f: &Found, working: Option<Params>) -> FindingLine {
    let told = |of: &dyn Fn(&tiller_core::Tally) -> String| {
        f.tally.as_ref().map_or(numerals::ABSENT.into(), of)
    };
    FindingLine {
        what: f.what.clone(),
        spend: told(&|t| sum(t.spend.to_units())),
        conversions: told(&|t| count(t.conversions)),
        cost: told(&|t| cost(target, t)),
        excess: if f.excess.abs() < 0.5 { numerals::ABSENT.into() } else { signed(f.excess, sum) },
        tone: tone(f.excess),
        why: f.why.clone(),
        advice: f.advice.clone(),
        found: true,
        button: f.offer().map(|o| o.button()),
        working,
    }
}

fn tone(excess: f64) -> &'static str {
    if excess > 0.0 { "harm" } else { "gain" }
}

fn title(by: Told) -> &'static str {
    match by {
        Told::Country => "Countries",
        Told::Gender => "Genders",
        Told::Age => "Ages",
        Told::Income => "Incomes",
        Told::Placement => "Placements",
        Told::Device => "Devices",
        Told::Hour => "Hours",
    }
}

fn people(target: Target, d: &Dimension, part: &Params) -> Section {
    // Hours are looked at in blocks, which no split tells.
    let working = |segment: &str| {
        (d.by != Told::Hour).then(|| part.with("by", d.by.word()).with("row", segment))
    };
    Section {
        title: title(d.by).into(),
        of: "Segment",
        words: String::new(),
        lines: d
            .rows
            .iter()
            .map(|r| match &r.found {
                Some(f) => line(target, f, working(&r.segment)),
                None => FindingLine {
                    working: working(&r.segment),
                    what: r.segment.clone(),
                    spend: sum(r.tally.spend.to_units()),
                    conversions: count(r.tally.conversions),
                    cost: cost(target, &r.tally),
                    excess: signed(r.excess, sum),
                    tone: tone(r.excess),
                    why: format!("{}% of the average", percent(r.ratio)),
                    advice: "leave".into(),
                    found: false,
                    button: None,
                },
            })
            .collect(),
    }
}

/// Where a listing's figures over its own days are worked out.
fn item_working(f: &Found, window: Option<Window>, days: &Params) -> Option<Params> {
    let window = desk::listing_window(window?);
    let subject = f.proposals.first()?.subject;
    Some(days.with("of", key(subject)).with("from", window.from()).with("to", window.to()))
}

/// The sections of a campaign's page; `days` are the period in its address.
fn view(target: Target, f: &Findings, campaign: CampaignId, days: &Params) -> View {
    let section = |title: &str, of, words: String, all: &[Found]| {
        (!all.is_empty()).then(|| Section {
            title: title.into(),
            of,
            words,
            lines: all
                .iter()
                .map(|found| {
                    let listed = of == "Listing";
                    line(
                        target,
                        found,
                        listed.then(|| item_working(found, f.window, days)).flatten(),
                    )
                })
                .collect(),
        })
    };
    let part = days.with("of", "part").with("campaign", campaign).with("settled", "yes");
    let mut sections: Vec<Section> = Vec::new();
    sections.extend(section("Settings that cost money", "Setting", String::new(), &f.audit));
    let (telling, rest): (Vec<&Dimension>, Vec<&Dimension>) =
        f.people.iter().partition(|d| d.rows.iter().any(|r| r.found.is_some()));
    sections.extend(telling.into_iter().map(|d| people(target, d, &part)));
    let terms = format!("{} search terms in these days.", f.searches.terms);
    sections.extend(section(
        "Searches that cost money without a conversion",
        "Words",
        terms,
        &f.searches.waste,
    ));
    let keep = "About ten clicks tell whether an exact keyword is worth keeping.".to_owned();
    sections.extend(section("Searches worth a keyword", "Term", keep, &f.searches.promising));
    let every =
        format!("Bids follow returns every {} to 30 days.", tiller_core::listing_bids::EVERY_DAYS);
    sections.extend(section("Listings whose bids should move", "Listing", every, &f.listings));
    if let Some(p) = &f.path {
        let to = "Set them by what a click may cost, not by what it did cost.".to_owned();
        sections.extend(section("Bids to raise again", "Item", to, &p.items));
    }
    View {
        broke: f.broke.as_ref().map(|b| broke(target, b)),
        gap: f.gap.as_ref().map(gap),
        path: f.path.as_ref().map(path),
        sections,
        new_terms: f.searches.new.len(),
        rest: rest.into_iter().map(|d| people(target, d, &part)).collect(),
        cost_title: match target {
            Target::Cpa(_) => "CPA",
            Target::Roas(_) => "ROAS",
        },
        cost_figure: match target {
            Target::Cpa(_) => "cpa",
            Target::Roas(_) => "roas",
        },
    }
}

fn path(p: &BidPath) -> PathView {
    let clicks = |of: Option<&tiller_core::Tally>| {
        of.map_or(numerals::ABSENT.into(), |t| number(t.clicks as f64, 0))
    };
    let (first, last) = (p.weeks.first(), p.weeks.last());
    let bid = |w: Option<&BidWeek>| w.map_or(numerals::ABSENT.into(), |w| money(w.bid));
    let words = Words::say("Each bid has been set from its own average plus ")
        .strong(money(p.headroom))
        .and(", and since a click costs ")
        .strong(format!("{}%", percent(p.per_bid)))
        .and(format!(
            " of the bid, the next average is lower: from {} to {} so far, {} clicks a week then and {} now. It comes to rest at ",
            bid(first),
            bid(last),
            clicks(first.map(|w| &w.tally)),
            clicks(last.map(|w| &w.tally)),
        ))
        .strong(money(p.rests_at))
        .and(format!("; adding {} would have held it.", money(p.steady)));
    let week = |w: &BidWeek| {
        let cpc = numerals::or_absent(w.tally.cpc(), money);
        [day(w.from), money(w.bid), cpc, number(w.tally.clicks as f64, 0)]
    };
    PathView { words, weeks: p.weeks.iter().map(week).collect() }
}

fn gap(g: &Gap) -> GapView {
    let row = |name: &str, e: Effect| {
        let parts = [e.cpc, e.cvr, e.mix, e.sum()].map(|x| signed(x, money));
        let [cpc, cvr, mix, sum] = parts;
        [name.to_owned(), cpc, cvr, mix, sum]
    };
    let all = g.rows.iter().fold(Effect::default(), |a, (_, e)| Effect {
        cpc: a.cpc + e.cpc,
        cvr: a.cvr + e.cvr,
        mix: a.mix + e.mix,
    });
    GapView {
        title: format!(
            "From {} to {} a conversion since the period before, by {}",
            money(g.from),
            money(g.to),
            g.by.word()
        ),
        rows: g.rows.iter().map(|(n, e)| row(n, *e)).chain([row("Together", all)]).collect(),
    }
}

fn factor(f: Factor, t: &tiller_core::Tally, days: f64) -> String {
    match f {
        Factor::Impressions => format!("{} a day", number(t.impressions as f64 / days, 0)),
        Factor::Ctr | Factor::Cvr => numerals::or_absent(f.of(t), |x| percent(x) + "%"),
        Factor::Cpc => numerals::or_absent(f.of(t), money),
    }
}

fn broke(target: Target, b: &Broke) -> BrokeView {
    let days = (b.days.0 as f64, b.days.1 as f64);
    let what = match target {
        Target::Cpa(_) => "A conversion cost ",
        Target::Roas(_) => "A unit of spend returned ",
    };
    let first = b.moved.first().map_or(String::new(), |(f, on)| {
        format!(" What moved first is {}, on {}.", f.title(), day(*on))
    });
    BrokeView {
        words: Words::say(what)
            .strong(cost(target, &b.before))
            .and(format!(" up to {} and ", b.on.pred_opt().map_or(String::new(), day)))
            .strong(cost(target, &b.after))
            .and(format!(" since {}. By chance alone: {}.{first}", day(b.on), probability(b.p))),
        moved: b
            .moved
            .iter()
            .map(|(f, on)| {
                (f.title(), day(*on), factor(*f, &b.before, days.0), factor(*f, &b.after, days.1))
            })
            .collect(),
        logged: b
            .logged
            .iter()
            .map(|e| {
                let c = &e.change;
                format!(
                    "{}: {} of {} to {}",
                    c.from_day.map_or(String::new(), day),
                    change_words::title(&e.set_to),
                    c.place,
                    change_words::value(&e.set_to)
                )
            })
            .collect(),
    }
}

/// Puts the changes of chosen findings in the tray.
pub async fn take(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let findings = desk::of_campaign(&app.db, &book, id).await?;
    let outcome =
        desk::take(&app.db, &member.account, sent.person(), &findings, &fields.buttons()).await;
    said(&sent, outcome.map(put)).await
}

/// Remembers that the campaign's search terms have been gone through.
pub async fn seen(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let findings = desk::of_campaign(&app.db, &book, id).await?;
    desk::seen(&app.db, &member.account, &findings.searches.new).await?;
    let to = member.paths().causes(Subject::Campaign(id), &params.only_period());
    Ok(Redirect::to(&to).into_response())
}

/// The findings of a member's campaign, as its page shows them.
pub async fn of(
    app: &App,
    book: &Book,
    campaign: CampaignId,
    days: &Params,
) -> Result<Option<View>, PageError> {
    let Some(target) = book.entry(campaign)?.target else { return Ok(None) };
    let found = desk::of_campaign(&app.db, book, campaign).await?;
    Ok(Some(view(target, &found, campaign, days)))
}
