//! A campaign's response curve: its days, the fit, how it is held, and what would sharpen it.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::allocation::Response as Form;
use tiller_core::response::budget_response::{Bidding, Evidence};
use tiller_core::response::experiment::would_leave;
use tiller_core::response::regression::Prior;
use tiller_core::score::Kind as Score;
use tiller_desk::book::Book;
use tiller_desk::budgets::curves::{self, Examined, Taken};
use tiller_desk::budgets::responses;
use tiller_desk::courses::{self, Kind, Lever};
use tiller_desk::numerals::{count, money, number, percent};
use tiller_desk::scores::words::caveat;
use tiller_desk::wording::Words;
use tiller_desk::{CampaignId, change_words, plans, scores};

use crate::App;
use crate::chart::{CurveChart, DayPoint, Forms, ResidualChart, Stroke};
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, span};
use crate::pages::campaign_budget::{Head, Side, open};
use crate::pages::tray::said;
use crate::params::Params;
use crate::sent::Sent;

#[derive(Template, WebTemplate)]
#[template(path = "curve.html")]
struct CurvePage {
    frame: Frame,
    head: Head,
    lead: Words,
    chart: Option<Forms<CurveChart>>,
    residuals: Option<Forms<ResidualChart>>,
    check: String,
    taken: Option<String>,
    figures: Vec<(&'static str, String)>,
    groups: Vec<(String, String, String)>,
    sharpen: Vec<String>,
    caveat: Option<String>,
    /// Where the experiment is put in the tray, if it would tell anything.
    experiment: Option<String>,
    standing: Option<String>,
}

/// The curve of a campaign.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<Response, PageError> {
    let campaign = id;
    let (book, frame, head) = open(&app.db, &member, &params, campaign, Side::Curve).await?;
    let courses = courses::list(&app.db, &member.account).await?;
    let examined = curves::examine(&app.db, &book, campaign, &courses).await?;
    let (settings, known) = plans::known(&app.db, &book).await?;
    let line = known.iter().find(|l| l.campaign == campaign);
    let points = examined.as_ref().map(points);
    let chart = points.as_ref().zip(line).and_then(|(points, l)| {
        let line = Stroke {
            response: l.budget_response.response,
            precision: l.budget_response.precision,
            capacity: l.budget_response.capacity.most.map(|c| c.max(l.spend)),
            budget: l.budget,
        };
        let currency = &member.account.currency;
        Forms::of(|form| Some(CurveChart::new(points, &line, currency, form)))
    });
    let running = courses.iter().find(|c| c.campaign == campaign && c.plan.open());
    let experiment = (frame.editor
        && running.is_none()
        && line.is_some_and(|l| l.budget.is_some())
        && frame.connected)
        .then(|| format!("{}/experiment", head.base));
    let kept = curves::Curves::load(&app.db, &member.account).await?;
    let groups = kept
        .of_groups(campaign)
        .into_iter()
        .map(|(id, f)| {
            let name = settings.group_name(id).unwrap_or_default().to_owned();
            let known = if f.curve.leans { "mostly its channel’s" } else { "its own" };
            let elasticity = format!(
                "{} ± {}",
                number(f.curve.elasticity, 2),
                number(f.curve.elasticity_error, 2)
            );
            (
                name,
                elasticity,
                format!(
                    "{} days, {} conversions, {known}",
                    f.curve.days,
                    count(f.curve.conversions)
                ),
            )
        })
        .collect();
    Ok(CurvePage {
        lead: lead(line, examined.as_ref()),
        residuals: points
            .as_deref()
            .and_then(|days| Forms::of(|form| ResidualChart::new(days, form))),
        check: examined.as_ref().map_or(String::new(), check),
        taken: examined.as_ref().and_then(|e| e.taken.as_ref()).map(taken),
        figures: figures(line, examined.as_ref()),
        groups,
        sharpen: sharpen(&book, line, examined.as_ref()),
        caveat: caveat(scores::of_account(&app.db, &book).await?.as_ref(), Score::Measured),
        standing: running
            .map(|c| format!("{}: {}", change_words::course(c.plan.kind), c.standing())),
        experiment,
        chart,
        head,
        frame,
    }
    .into_response())
}

fn points(e: &Examined) -> Vec<DayPoint> {
    let off = e.fit.residuals();
    let day = |at: f64| e.window.from() + chrono::Days::new(at as u64);
    let point = |i: usize| {
        let (d, expected) = (&e.fit.days[i], e.fit.expected[i]);
        let on = day(d.at);
        DayPoint {
            day: on,
            spend: d.spend,
            // What it would have been on a mean weekday at the level of the last days.
            conversions: d.conversions * e.fit.curve.at(d.spend) / expected.max(1e-9),
            off: off[i],
            experiment: e.steps.get(&on).map(|step| *step > 0.0),
        }
    };
    (0..e.fit.days.len()).map(point).collect()
}

fn plus_minus(p: Prior) -> String {
    format!("{} ± {}", number(p.mean, 2), number(p.deviation, 2))
}

fn lead(line: Option<&responses::Spender>, e: Option<&Examined>) -> Words {
    let Some(l) = line else {
        return Words::say(
            "Its conversions can’t be trusted, or it has spent nothing lately, so no curve can be fitted. Measure shows what is wrong.",
        );
    };
    let end = match (l.budget_response.capacity.most, l.budget_response.capacity.evidence) {
        (Some(most), Evidence::LostAuctions) => {
            Some((most, "from the auctions it lost because of its budget"))
        }
        (Some(most), _) => Some((most, "seen on days when its budget was not the limit")),
        (None, _) => None,
    };
    match (l.budget_response.response, e) {
        (Form::Constant { .. }, _) => {
            let words = Words::say(
                "Its bids are set by hand or by a target, so money buys the same clicks at one price",
            );
            match end {
                Some((most, how)) => words
                    .and(" until its demand ends, at about ")
                    .strong(format!("{} a day", money(most.max(l.spend))))
                    .and(format!(" ({how}). Beyond that only another bid or target buys more.")),
                None => words.and(". How far that goes is not known: its budget holds it every day. It may grow by a fifth at a time, and what follows will tell."),
            }
        }
        (_, Some(e)) => {
            let reach = 1.645 * e.fit.curve.elasticity_error;
            let b = e.fit.curve.elasticity;
            let bids = match l.bidding {
                Some(Bidding::SpendsAll) => "Its strategy spends what it gets, at rising prices",
                Some(_) => "Its step experiment showed that more money brings less each",
                None => {
                    "How it bids is not known, so more money is believed to bring less and less"
                }
            };
            let words = Words::say(format!("{bids}: 1% more money brings "))
                .strong(format!("{}% more conversions", number(b, 2)))
                .and(format!(
                    " (90% between {} and {}).{}",
                    number((b - reach).max(0.0), 2),
                    number((b + reach).min(1.0), 2),
                    if e.fit.curve.leans {
                        " This relies mostly on what is typical for its channel: its own days say little of what another budget would bring."
                    } else {
                        ""
                    }
                ));
            match end {
                Some((most, how)) => words
                    .and(format!(" It spends no more than about {} a day ({how}).", money(most))),
                None => words,
            }
        }
        (_, None) => Words::say(
            "Too little has been counted for a curve of its own: 14 days with spend and 5 conversions are needed.",
        ),
    }
}

fn figures(line: Option<&responses::Spender>, e: Option<&Examined>) -> Vec<(&'static str, String)> {
    let mut all = Vec::new();
    if let Some(l) = line {
        all.push(("Spends a day", money(l.spend)));
        all.push(("Conversions a day there", number(l.budget_response.response.at(l.spend), 2)));
    }
    if let Some(e) = e {
        let c = &e.fit.curve;
        let form = match c.response {
            Form::Saturating { .. } => "saturating",
            _ => "power",
        };
        all.extend([
            ("Form that fits best", form.to_owned()),
            ("Elasticity", plus_minus(Prior { mean: c.elasticity, deviation: c.elasticity_error })),
            ("Typical for its channel", plus_minus(e.channel)),
            ("Measured by experiment", e.fit.curve.measured.map_or("–".into(), plus_minus)),
            ("Variance over mean of a day", number(c.dispersion, 2)),
            ("Other budgets moved spend by", format!("{}%", percent(c.spread))),
            (
                "Trend at constant spend",
                format!("{}% over these days", percent(e.fit.trend.exp_m1())),
            ),
            ("Rests on", format!("{}, {} conversions", span(e.window), count(c.conversions))),
        ]);
    }
    all
}

fn check(e: &Examined) -> String {
    let (correlation, runs) = e.fit.runs();
    if runs {
        format!(
            "Days off the curve come in runs (correlation {} from one to the next): something moved that neither money nor weekdays explain. The intervals allow for that. Causes shows what changed.",
            number(correlation, 2)
        )
    } else {
        "Days off the curve come singly, as chance would have it: nothing speaks against the fit."
            .into()
    }
}

/// Whether what an experiment won may have been taken from the account's other campaigns.
fn taken(t: &Taken) -> String {
    let apart = |sides: [f64; 2]| sides[0] - sides[1];
    let (own, account) = (apart(t.own), apart(t.account));
    let reach = 1.2816 * t.error;
    let told = if account - reach > 0.0 {
        "The account as a whole gained too."
    } else if account + reach < own {
        "The account as a whole gained less than the campaign: part of it was probably taken from other campaigns."
    } else {
        "That is too uneven to tell whether part of it was taken from other campaigns."
    };
    format!(
        "In the experiment’s weeks up the campaign brought {} conversions a day, in its weeks down {}; the whole account {} and {}, which differ by {} ({} to {} with 80% confidence). {told}",
        number(t.own[0], 1),
        number(t.own[1], 1),
        number(t.account[0], 1),
        number(t.account[1], 1),
        number(account, 1),
        number(account - reach, 1),
        number(account + reach, 1)
    )
}

/// Money that was moved by less tells little of what it brings, however much is counted.
const LEAST_MOVED: f64 = 0.15;

fn sharpen(book: &Book, line: Option<&responses::Spender>, e: Option<&Examined>) -> Vec<String> {
    let mut all = Vec::new();
    if line.is_some_and(|l| l.fresh) {
        all.push("It has just been launched: leave it in peace until it has learned.".into());
    }
    let Some(e) = e else {
        all.push("More days with spend.".into());
        return all;
    };
    let c = &e.fit.curve;
    if c.leans {
        all.push(if c.spread < LEAST_MOVED {
            let moved = match percent(c.spread).as_str() {
                "0.0" => "No other budget has moved its spend".to_owned(),
                by => format!("Other budgets moved its spend by only {by}%"),
            };
            format!(
                "{moved}. What moves with demand doesn’t show what more money brings, so the value typical for its channel is used."
            )
        } else {
            format!(
                "Its budget was moved, but {} conversions are too few to show what that brought, so the value typical for its channel is mostly used.",
                count(c.conversions)
            )
        });
    }
    if let Some(l) = line {
        let a_day = l.budget_response.response.at(l.spend).max(1e-9);
        let left = would_leave(a_day, c.dispersion, c.follows);
        let after = (c.elasticity_error.powi(-2) + left.powi(-2)).powf(-0.5);
        all.push(if after < 0.85 * c.elasticity_error {
            format!(
                "A step experiment: a week with a fifth more budget, two with a fifth less, one with a fifth more again, for about the same spend. It would bring the error of the elasticity from {} to about {}.",
                number(c.elasticity_error, 2),
                number(after, 2)
            )
        } else {
            format!(
                "A step experiment of four weeks would be too short to tell: with {} conversions a day its own error would be {}.",
                number(a_day, 1),
                number(left, 2)
            )
        });
    }
    if c.conversions < 100.0 {
        all.push(format!("It has {} conversions in these days; from 100 on its own data weigh more than its channel’s.", count(c.conversions)));
    }
    if book.by_value() {
        all.push(
            "The curve counts conversions; their value is taken as the same at any spend.".into(),
        );
    }
    all
}

/// Puts a step experiment in the tray.
pub async fn experiment(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, .. } = &sent;
    let outcome =
        courses::experiment(&app.db, &member.account, sent.person(), id, Lever::Budget).await;
    let told = outcome.map(|()| {
        format!(
            "The first step of the {} waits in the tray; the others follow by themselves.",
            change_words::course(Kind::Experiment)
        )
    });
    said(&sent, told).await
}
