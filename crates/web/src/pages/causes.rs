//! Causes: overspenders ranked, and one thing examined.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::bridge::Factor;
use tiller_core::spot::Subject;
use tiller_core::verdict::{Faults, Verdict};
use tiller_core::{Price, Tally, Target};
use tiller_desk::advice::{self, Cure};
use tiller_desk::book::{Book, Judged};
use tiller_desk::budgets::responses::next_of_account;
use tiller_desk::causes::beside::{Beside, Tone, beside};
use tiller_desk::causes::{self, Examined};
use tiller_desk::numerals::{self, counted, money, number, percent, probability, signed, sum};
use tiller_desk::rows::{Level, Within, rows};
use tiller_desk::wording::{self, Words};
use tiller_desk::{AdGroupId, CampaignId, ItemId, learning};

use crate::App;
use crate::chart::{BridgeChart, DayChart, Forms};
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::click_prices::ClickPrices;
use crate::pages::figures_table::key;
use crate::pages::findings;
use crate::pages::remedy::Remedy;
use crate::pages::spend::NoReports;
use crate::pages::{book, book_of_reports};
use crate::params::Params;

/// A ranked campaign.
pub struct Ranked {
    key: String,
    name: String,
    channel: String,
    href: String,
    excess: String,
    tone: &'static str,
    sure: String,
    cost: String,
    target: String,
    verdict: String,
    working: String,
    spend: f64,
    conversions: f64,
    value: f64,
    raw_excess: f64,
}

#[derive(Template, WebTemplate)]
#[template(path = "causes.html")]
struct CausesPage {
    frame: Frame,
    summary: Words,
    over: Vec<Ranked>,
    under: Vec<Ranked>,
    untargeted: usize,
    cost_title: &'static str,
}

/// A row of the benchmark table.
pub struct Compared {
    row: Beside,
    tone: &'static str,
    working: Option<String>,
}

/// A part of the thing examined.
pub struct Part {
    name: String,
    href: String,
    spend: String,
    conversions: String,
    cost: String,
    excess: String,
    tone: &'static str,
}

#[derive(Template, WebTemplate)]
#[template(path = "cause.html")]
struct CausePage {
    frame: Frame,
    crumbs: Vec<(String, String)>,
    name: String,
    facts: String,
    headline: Words,
    reasons: Vec<Words>,
    bridge: Option<Forms<BridgeChart>>,
    prices: Option<ClickPrices>,
    compared: Vec<Compared>,
    peers: String,
    advice: Option<Words>,
    since: Option<Words>,
    bridge_title: &'static str,
    cost_title: &'static str,
    peers_link: Option<String>,
    days: Option<Forms<DayChart>>,
    parts: Vec<Part>,
    parts_title: &'static str,
    look_back: Option<String>,
    window: String,
    target_link: Option<String>,
    judged: bool,
    more_money: bool,
    remedy: Option<Remedy>,
    found: Option<findings::View>,
    take: String,
    seen: String,
}

/// Overspenders ranked by excess.
pub async fn ranked(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let Some(book) = book(&app.db, &member, &params).await? else {
        let frame = Frame::new(&member, Station::Causes, &params);
        return Ok(NoReports {
            frame,
            title: "Causes",
            what: "the campaigns that cost more than they should, and why",
        }
        .into_response());
    };
    let all = causes::ranked(&book);
    let frame = Frame::of_book(&member, Station::Causes, &params, &book)
        .with_causes(all.iter().map(|(_, j)| j));
    let row = |(entry, j): &(&tiller_desk::book::Entry, Judged)| {
        let subject = Subject::Campaign(entry.campaign.id);
        let excess = j.diagnosis.excess;
        Ranked {
            key: key(subject),
            name: entry.campaign.name.clone(),
            channel: entry.campaign.channel.clone(),
            href: frame.base().causes(subject, &frame.days),
            excess: signed(excess, sum),
            tone: if excess > 0.0 { "harm" } else { "gain" },
            sure: numerals::or_absent(j.diagnosis.p_over, probability),
            cost: cost_text(j),
            target: numerals::target(j.target),
            verdict: wording::short(&j.diagnosis),
            working: format!(
                "{}/working{}",
                frame.base(),
                frame.days.with("of", key(subject)).with("figure", "excess").with("settled", "yes")
            ),
            spend: j.tally.spend.to_units(),
            conversions: j.tally.conversions,
            value: j.tally.value.to_units(),
            raw_excess: excess,
        }
    };
    let (over, under): (Vec<_>, Vec<_>) = all.iter().partition(|(_, j)| j.diagnosis.excess > 0.0);
    let above: f64 = over.iter().map(|(_, j)| j.diagnosis.excess).sum();
    let meets = book.settled().and_then(|w| book.meets_target(w));
    let summary = match over.first() {
        None => Words::say("No campaign has overspent in these settled days."),
        Some((entry, _)) => Words::default()
            .harm(sum(above))
            .and(format!(
                " overspent in {}; start with ",
                counted(over.len() as u64, "campaign", "campaigns")
            ))
            .strong(entry.campaign.name.clone())
            .and(". ")
            .and(meets.as_ref().map(wording::whole).unwrap_or_default()),
    };
    let page = CausesPage {
        summary,
        over: over.into_iter().map(row).collect(),
        under: under.into_iter().map(row).collect(),
        cost_title: if book.by_value() { "ROAS" } else { "CPA" },
        untargeted: book.entries.iter().filter(|e| e.target.is_none()).count(),
        frame,
    };
    Ok(page.into_response())
}

fn cost_text(j: &Judged) -> String {
    match j.target {
        Target::Cpa(_) => numerals::or_absent(j.tally.cpa(), money),
        Target::Roas(_) => numerals::or_absent(j.tally.roas(), |r| number(r, 2)),
    }
}

/// One campaign.
pub async fn campaign(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    examine(&app, &member, &params, Subject::Campaign(id)).await
}

/// One ad group.
pub async fn ad_group(
    member: Member,
    State(app): State<App>,
    Id(id): Id<AdGroupId>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    examine(&app, &member, &params, Subject::AdGroup(id)).await
}

/// One item.
pub async fn item(
    member: Member,
    State(app): State<App>,
    Id(id): Id<ItemId>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    examine(&app, &member, &params, Subject::Item(id)).await
}

async fn examine(
    app: &App,
    member: &Member,
    params: &Params,
    subject: Subject,
) -> Result<CausePage, PageError> {
    let book = book_of_reports(&app.db, member, params).await?;
    let e = causes::examine(&app.db, &book, subject).await?;
    let all = book.judge_all();
    let frame =
        Frame::of_book(member, Station::Causes, params, &book).with_causes(all.iter().flatten());
    let parts = parts(app, &book, subject, &frame).await?;
    let cure = advice::cure(&app.db, &book, subject, &e).await?;
    let margins = next_of_account(&app.db, &book).await?;
    let next = match subject {
        Subject::Campaign(id) => margins.get(&id),
        _ => None,
    };
    let (found, here) = match subject {
        Subject::Campaign(id) => (
            findings::of(app, &book, id, &frame.days).await?,
            frame.base().causes(subject, &Params::default()),
        ),
        _ => (None, String::new()),
    };
    let entry = book
        .entries
        .iter()
        .find(|x| x.campaign.name == e.campaign && x.campaign.channel == e.channel);
    let campaign_link = entry
        .map(|x| frame.base().causes(Subject::Campaign(x.campaign.id), &frame.days))
        .unwrap_or_default();
    let mut crumbs = vec![
        ("Causes".to_owned(), format!("{}/causes{}", frame.base(), frame.days)),
        (e.channel.clone(), String::new()),
    ];
    if !matches!(subject, Subject::Campaign(_)) {
        crumbs.push((e.campaign.clone(), campaign_link));
    }
    // A strategy is its campaign's; its parts learn with it.
    let learners = learning::of_account(&app.db, &book).await?;
    let learns = entry.and_then(|x| learners.get(&x.campaign.id)).copied();
    let settled = book.last_settled();
    let target = e.judged.as_ref().map(|j| j.target);
    let j = e.judged.as_ref();
    Ok(CausePage {
        take: format!("{here}/tray{}", frame.days),
        seen: format!("{here}/seen{}", frame.days),
        crumbs,
        facts: facts(&e, entry, &book),
        headline: j.map_or_else(
            || Words::default().strong("It has no target."),
            |j| wording::headline(&j.diagnosis),
        ),
        reasons: j.map_or_else(
            || vec![Words::say("Set one to see its verdict and what it overspends.")],
            wording::reasons,
        ),
        bridge: j.and_then(bridge),
        prices: j.map(ClickPrices::of),
        compared: j.map(|j| compared(j, &frame, subject)).unwrap_or_default(),
        peers: j.map(|j| wording::peers(j.peers.0, &j.peers.1)).unwrap_or_default(),
        advice: j.map(|j| {
            let advice = wording::advice(j, e.trade_off, e.meets.as_ref(), next);
            if let Some(Cure::Budget(m, _)) = &cure {
                // A verdict that asks for something else would not be enough.
                let better = j.diagnosis.verdict == Verdict::OnTarget;
                let advice = if better { advice.and(" ") } else { Words::default() };
                return advice.and(m.sentence());
            }
            if let Some(said) = cure.as_ref().and_then(Cure::on_target) {
                return Words::say(said);
            }
            // What came since its last step does not ask for another, whatever its verdict says of all days.
            if let Some(Cure::Quiet(quiet)) = cure.as_ref().filter(|c| c.waits_for_results()) {
                return Words::say(quiet.advice());
            }
            let better = found.as_ref().is_some_and(findings::View::has_advice);
            if better && j.diagnosis.verdict == Verdict::OnTarget {
                advice.and(" What could still be better is below.")
            } else {
                advice
            }
        }),
        since: entry
            .and_then(|x| book.touched.get(&x.campaign.id))
            .and_then(|touches| wording::since(touches)),
        bridge_title: match target {
            Some(Target::Roas(_)) => "From its peers’ ACoS to its own, spend as % of revenue",
            _ => "From its peers’ CPA to its own, a conversion",
        },
        cost_title: target.map_or("CPA", wording::measure),
        peers_link: match subject {
            Subject::Campaign(id) if frame.editor => Some(frame.base().peers(id, &frame.days)),
            _ => None,
        },
        days: Forms::of(|form| {
            let currency = &book.account.currency;
            DayChart::new(&e.days, &e.expected, settled, target, learns, currency, form)
        }),
        look_back: j
            .filter(|j| j.diagnosis.faults != Faults::default())
            .map(|_| wording::look_back(book.span.to(), book.account.settle_days())),
        window: j
            .map(|j| format!("{} settled days, {}", j.window.days(), crate::frame::span(j.window)))
            .unwrap_or_default(),
        target_link: match subject {
            Subject::Campaign(id) if frame.editor => {
                Some(format!("{}/targets/{id}{}", frame.base(), frame.days))
            }
            _ => None,
        },
        parts_title: if matches!(subject, Subject::Campaign(_)) { "Ad groups" } else { "Items" },
        parts,
        name: e.name,
        more_money: frame.editor
            && j.is_some_and(|j| {
                j.diagnosis.verdict == Verdict::OnTarget
                    && j.diagnosis.limited_by == tiller_core::verdict::LimitedBy::Budget
            }),
        judged: e.judged.is_some(),
        found,
        remedy: cure.filter(|_| frame.editor).and_then(|c| match c {
            Cure::Change(p) => Some(Remedy::change(subject, &p)),
            Cure::Budget(_, all) => Some(Remedy::budgets(&all)),
            Cure::Quiet(_) => None,
        }),
        frame,
    })
}

fn facts(e: &Examined, entry: Option<&tiller_desk::book::Entry>, book: &Book) -> String {
    let target = e.judged.as_ref().map(|j| match j.target {
        Target::Cpa(x) => format!("target CPA {}", money(x)),
        Target::Roas(x) => format!("target ROAS {}", number(x, 2)),
    });
    let budget = entry
        .and_then(tiller_desk::book::Entry::budget)
        .map(|b| format!("daily budget {}", money(b)));
    let status = entry.and_then(|e| e.campaign.status.clone());
    let since = entry.and_then(|e| e.campaign.first_day).map(|d| {
        if d > book.span.from() {
            format!("launched {}", numerals::day(d))
        } else {
            format!("reported since {}", numerals::day(d))
        }
    });
    [target, budget, status, since].into_iter().flatten().collect::<Vec<_>>().join(" · ")
}

fn bridge(j: &Judged) -> Option<Forms<BridgeChart>> {
    let b = j.diagnosis.bridge?;
    let (own, peers) = (&j.tally, &j.diagnosis.peers);
    let pair = |name: &str, of: fn(&Tally) -> Option<f64>, text: &dyn Fn(f64) -> String| {
        let text = |t| numerals::or_absent(of(t), text);
        format!("{name} {}, peers {}", text(own), text(peers))
    };
    let captions = b.effects().map(|(factor, _)| match factor {
        Factor::Cpc => pair("CPC", |t| t.cpc().map(Price::units), &|x| money(x)),
        Factor::Cvr => pair("CVR", Tally::cvr, &|x| percent(x) + "%"),
        Factor::OrderValue => pair("order", |t| t.aov().map(Price::units), &|x| money(x)),
    });
    let captions: Vec<String> = std::iter::once(counted(j.peers.0 as u64, "peer", "peers"))
        .chain(captions)
        .chain(["this one".to_owned()])
        .collect();
    let target = match j.target {
        Target::Cpa(cpa) => cpa.units(),
        Target::Roas(roas) => 1.0 / roas,
    };
    Forms::of(|form| Some(BridgeChart::new(&b, &captions, Some(target), form)))
}

/// It and its peers, with the way to each figure's working.
fn compared(j: &Judged, frame: &Frame, subject: Subject) -> Vec<Compared> {
    let working = |figure: &str| {
        let of = frame.days.with("of", key(subject)).with("figure", figure);
        format!("{}/working{}", frame.base(), of.with("settled", "yes"))
    };
    beside(j)
        .into_iter()
        .map(|row| Compared {
            tone: match row.tone {
                Tone::Harm => "harm",
                Tone::Gain => "gain",
                Tone::Quiet => "quiet",
            },
            working: row.figure.map(working),
            row,
        })
        .collect()
}

/// The ad groups of a campaign or the items of an ad group, the most excess first.
async fn parts(
    app: &App,
    book: &Book,
    subject: Subject,
    frame: &Frame,
) -> Result<Vec<Part>, PageError> {
    let (level, within) = match subject {
        Subject::Campaign(id) => (Level::AdGroups, Within { campaign: Some(id), ad_group: None }),
        Subject::AdGroup(id) => (Level::Items, Within { campaign: None, ad_group: Some(id) }),
        Subject::Item(_) => return Ok(Vec::new()),
    };
    let mut rows = rows(&app.db, book, level, within).await?;
    rows.sort_by(|a, b| b.excess().unwrap_or(0.0).total_cmp(&a.excess().unwrap_or(0.0)));
    let part = |r: &tiller_desk::rows::Row| {
        let cost = match r.target {
            Some(Target::Roas(_)) => numerals::or_absent(r.tally.roas(), |x| number(x, 2)),
            _ => numerals::or_absent(r.tally.cpa(), money),
        };
        Part {
            name: r.name.clone(),
            href: frame.base().causes(r.subject, &frame.days),
            spend: sum(r.tally.spend.to_units()),
            conversions: numerals::count(r.tally.conversions),
            cost,
            excess: numerals::or_absent(r.excess(), |x| signed(x, sum)),
            tone: if r.excess().is_some_and(|x| x > 0.0) { "harm" } else { "gain" },
        }
    };
    Ok(rows.iter().take(20).map(part).collect())
}
