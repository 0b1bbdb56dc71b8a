//! One rule on the past: what it would have done on what was known each day, and what came of that.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use chrono::NaiveDate;
use tiller_core::bid_rule::Field;
use tiller_core::bid_volume::Range;
use tiller_core::custom_rule::Action;
use tiller_core::evidence::Interval;
use tiller_core::ids::RuleId;
use tiller_core::rehearsal::{Act, Outcome, Sum};
use tiller_core::rule::{Body, Rule};
use tiller_desk::numerals::{conversions, count, counted, day, full_day, money, number, signed};
use tiller_desk::rules::ground::Ground;
use tiller_desk::rules::keeping;
use tiller_desk::rules::rehearsal::{Rehearsed, pulls, rehearse, times};
use tiller_desk::rules::sentence::threshold;
use tiller_desk::rules::words;
use tiller_desk::wording::{Words, as_sentence};

use crate::App;
use crate::chart::{BidPath, Forms};
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::{book_of_reports, csv_file};
use crate::params::Params;
use crate::sent::Sent;

/// As many rows as the table shows.
const MOST: usize = 200;

/// Something that it would have done.
pub struct Line {
    day: String,
    place: String,
    action: String,
    known: String,
    followed: String,
    worth: String,
    tone: &'static str,
}

/// Values that a button sets before the rule is rehearsed again.
pub struct Button {
    text: String,
    fields: Vec<(&'static str, String)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "rehearsal.html")]
struct RehearsalPage {
    frame: Frame,
    id: RuleId,
    name: String,
    lead: Words,
    from: NaiveDate,
    to: NaiveDate,
    chart: Option<Forms<BidPath>>,
    sinks: Option<Words>,
    buttons: Vec<Button>,
    pulls: Vec<String>,
    notes: Vec<String>,
    lines: Vec<Line>,
    left: usize,
}

/// `214 (80% between 150 and 270)`; without an interval where there is nothing to tell.
fn range(of: &Range, text: impl Fn(f64) -> String) -> String {
    let (low, high) = (of.around.low, of.around.high);
    if (high - low).abs() < 0.005 * of.mid.abs().max(0.01) {
        return text(of.mid);
    }
    format!("{} (80% between {} and {})", text(of.mid), text(low), text(high))
}

/// Whether it could as well be nothing.
fn unclear(of: &Range) -> bool {
    of.around.low < 0.0 && of.around.high > 0.0
}

/// `no clear effect on spend (80% between −290 and +302)`.
fn no_effect(of: &Range, on: &str, text: impl Fn(f64) -> String) -> String {
    let more = flipped(of);
    let (low, high) = (signed(more.around.low, &text), signed(more.around.high, &text));
    format!("no clear effect on {on} (80% between {low} and {high})")
}

/// A range of what is less, as one of what is more.
fn flipped(of: &Range) -> Range {
    let Interval { low, high } = of.around;
    Range { mid: -of.mid, around: Interval { low: -high, high: -low } }
}

fn lead(r: &Rehearsed, by_value: bool) -> Words {
    let days = (r.days.to - r.days.from).num_days().unsigned_abs() + 1;
    let span =
        if days >= 14 { counted(days / 7, "week", "weeks") } else { counted(days, "day", "days") };
    let acts = r.rehearsal.acts.len();
    let words = Words::say(format!("In {span} it {}", times(acts)));
    if acts == 0 {
        let waits = match r.rehearsal.waits {
            0 => ".".into(),
            n => format!(": {} for evidence.", counted(n as u64, "look waited", "looks waited")),
        };
        return words.and(waits).and(" Nothing was changed.");
    }
    let kept = &r.sum.kept;
    let words = match kept.mid {
        _ if unclear(kept) => words.and(", with ").strong(no_effect(kept, "spend", money)),
        x if x < 0.0 => {
            words.and(", ").strong(format!("spent {} more", range(&flipped(kept), money)))
        }
        _ => words.and(", ").gain(format!("kept {}", range(kept, money))),
    };
    let (lost, what) =
        if by_value { (&r.sum.lost_value, "revenue") } else { (&r.sum.lost, "conversions") };
    let results = |x: f64| if by_value { money(x) } else { count(x) };
    let words = match lost.mid {
        _ if unclear(lost) => words.and(" and ").strong(no_effect(lost, what, results)),
        x if x > 0.005 => {
            words.and(" and ").harm(format!("cost {} of {what}", range(lost, results)))
        }
        x if x < -0.005 => words
            .and(" and ")
            .gain(format!("got {} more of {what}", range(&flipped(lost), results))),
        _ => words.and(" and cost no ").and(what),
    };
    let words = match stops(&r.sum) {
        Some(said) => words.and(". ").and(said),
        None => words,
    };
    let words = match &r.better {
        Some(better) => {
            let left = match better.mistakes {
                0 => "no mistake".to_owned(),
                n => format!("{n} of its {} mistakes", r.sum.mistakes),
            };
            words
                .and("; with ")
                .strong(better.with.clone())
                .and(format!(" instead of {} it would have made {left}.", better.instead))
        }
        None => words.and("."),
    };
    words.and(" Nothing was changed.")
}

/// Whether its stops were right, without the end of the sentence; none where it stopped nothing.
fn stops(sum: &Sum) -> Option<String> {
    let said = match (sum.right as u64, sum.mistakes as u64) {
        (0, 0) => None,
        (0, n) => {
            Some(counted(n, "stop was a mistake", "stops were mistakes") + " by what followed")
        }
        (n, mistakes) => Some(format!(
            "{} right by what followed, {}",
            counted(n, "stop was", "stops were"),
            match mistakes {
                0 => "none a mistake".into(),
                n => counted(n, "was a mistake", "were mistakes"),
            }
        )),
    };
    match (said, sum.open as u64) {
        (said, 0) => said,
        (Some(said), open) => Some(format!("{said}, {open} can’t be judged")),
        (None, open) => Some(counted(open, "stop", "stops") + " can’t be judged"),
    }
}

fn line(act: &Act, r: &Rehearsed, rule: &Rule) -> Line {
    let limits = match &rule.body {
        Body::Bid(of) => of.limits.at(r.things.stage.things[act.found.thing].spot).complete().ok(),
        Body::Custom(_) => None,
    };
    let stopped = matches!(act.found.action, Some(Action::Pause | Action::Exclude));
    let action = match act.from_to {
        Some((from, to)) => {
            format!("{} {} → {}", words::action(act.found.action), money(from), money(to))
        }
        None => words::action(act.found.action).to_owned(),
    };
    let followed = match (stopped, act.followed.spend.get()) {
        (true, 0) => "nothing followed".into(),
        (true, _) => words::in_short(&act.followed),
        (false, _) => "by estimate".into(),
    };
    let (worth, tone) = match act.outcome {
        Outcome::Right => (format!("kept {}", money(act.kept.mid)), "gain"),
        Outcome::Mistake => (format!("cost {}", conversions(act.lost.mid.max(0.0))), "harm"),
        Outcome::Open if act.estimated() && act.from_to.is_some() => {
            let (word, kept) = if act.kept.mid >= 0.0 {
                ("keeps", act.kept)
            } else {
                ("spends", flipped(&act.kept))
            };
            let (low, high) = (money(kept.around.low), money(kept.around.high));
            (format!("{word} {} ({low} to {high})", money(kept.mid)), "quiet")
        }
        Outcome::Open => ("–".into(), "quiet"),
    };
    Line {
        day: day(act.day),
        place: r.things.places[act.found.thing]
            .iter()
            .filter(|n| !n.is_empty())
            .cloned()
            .collect::<Vec<_>>()
            .join(" › "),
        action,
        known: words::because(&act.found, limits.as_ref()),
        followed,
        worth,
        tone,
    }
}

/// The page, or its table as CSV.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<RuleId>,
    params: Params,
) -> Result<Response, PageError> {
    let kept = keeping::one(&app.db, &member.account, id).await?;
    let rule = &kept.rule;
    let book = book_of_reports(&app.db, &member, &params).await?;
    let by_value = book.by_value();
    let mut ground = Ground::load(&app.db, &member.account)
        .await?
        .ok_or_else(|| PageError::NotFound("This account has no figures yet.".into()))?;
    let (from, to) = (params.date("since")?, params.date("until")?);
    let r = rehearse(&app.db, &mut ground, rule, from, to).await?;
    if params.text("as") == "csv" {
        return csv(&r, rule);
    }
    let all = keeping::list(&app.db, &member.account).await?;
    let pulls = pulls(&app.db, &member.account, &ground, rule, &all, Some(id)).await?;
    let chart = r.path.as_ref().and_then(|(n, rounds)| {
        let item =
            r.things.places[*n].iter().rev().find(|p| !p.is_empty()).cloned().unwrap_or_default();
        let paused = |d| {
            let stops = r.rehearsal.acts.iter().filter(move |a| a.day == d);
            stops.filter(|a| a.found.action == Some(Action::Pause)).count()
        };
        let sinks = r.sinking.filter(|s| s.thing == *n);
        Forms::of(|form| BidPath::new(form, &item, rounds, sinks.as_ref(), paused))
    });
    let page = RehearsalPage {
        id,
        name: rule.name.clone(),
        lead: lead(&r, by_value),
        from: r.days.from,
        to: r.days.to,
        chart,
        sinks: r.sinking.as_ref().map(sinks),
        buttons: buttons(&r),
        pulls,
        notes: notes(&r),
        lines: r.rehearsal.acts.iter().rev().take(MOST).map(|a| line(a, &r, rule)).collect(),
        left: r.rehearsal.acts.len().saturating_sub(MOST),
        frame: Frame::new(&member, Station::Rules, &params),
    };
    Ok(page.into_response())
}

fn sinks(s: &tiller_core::rehearsal::path::Sinking) -> Words {
    let share = number(s.spiral.share * 100.0, 0);
    Words::default()
        .harm("Its bids sink.")
        .and(format!(
            " Each is set {} above an average click that is itself {share}% of the bid, so every round is lower than the last. ",
            money(s.headroom)
        ))
        .and(format!(
            "That goes for {} of the {} whose bids go by their average click: counting those that rise, their clicks would go from {} to about {} in as many days.",
            s.things.0,
            counted(s.things.1 as u64, "item", "items"),
            number(s.clicks.0, 0),
            number(s.clicks.1, 0)
        ))
}

fn buttons(r: &Rehearsed) -> Vec<Button> {
    let mut all = Vec::new();
    if let Some(s) = &r.sinking {
        let holds = format!("{:.2}", s.holds.units());
        all.push(Button {
            text: format!("Use {holds} above and rehearse again"),
            fields: vec![(Field::Headroom.word(), holds)],
        });
    }
    if let Some(better) = &r.better {
        let fields = match &better.rule.body {
            Body::Bid(of) => [Field::Clicks, Field::SpendWithoutSale]
                .into_iter()
                .map(|f| (f.word(), words::value(f, &of.limits.top)))
                .collect(),
            Body::Custom(of) => vec![
                ("evidence.clicks", of.evidence.clicks.to_string()),
                ("evidence.sure", of.evidence.sure.map(|p| p.to_string()).unwrap_or_default()),
            ],
        };
        all.push(Button { text: format!("Use {} and rehearse again", better.with), fields });
    }
    all
}

fn notes(r: &Rehearsed) -> Vec<String> {
    let mut notes = Vec::new();
    let now = r.sum.mistakes;
    if let Some((mistakes, of)) = r.without_evidence
        && mistakes > now
    {
        notes.push(format!(
            "Without the evidence that it asks for it would have stopped {}, {} of them by mistake.",
            counted(of as u64, "thing", "things"),
            number(mistakes as f64, 0)
        ));
    }
    if !r.rehearsal.undone.is_empty() {
        let undone = r.rehearsal.undone.len() as u64;
        notes.push(format!(
            "It would have undone its own work at {}: moved up and down again, or stopped and let run.",
            counted(undone, "thing", "things")
        ));
    }
    notes.push(format!(
        "Each morning it knew what had been reported by the evening before, up to {}. What it stopped is judged by what really followed, with the conversions still to come, less what the rest of its campaign would have spent instead; other bids and budgets are estimates. Ranges allow for the luck of other weeks.",
        full_day(r.days.known)
    ));
    notes
}

fn csv(r: &Rehearsed, rule: &Rule) -> Result<Response, PageError> {
    let headers = [
        "day",
        "place",
        "action",
        "known",
        "followed",
        "kept",
        "kept_low",
        "kept_high",
        "conversions_lost",
        "outcome",
    ]
    .map(str::to_owned);
    let rows = r.rehearsal.acts.iter().map(|a| {
        let l = line(a, r, rule);
        vec![
            a.day.to_string(),
            l.place,
            l.action,
            l.known,
            l.followed,
            format!("{:.2}", a.kept.mid),
            format!("{:.2}", a.kept.around.low),
            format!("{:.2}", a.kept.around.high),
            count(a.lost.mid),
            match a.outcome {
                Outcome::Right => "right",
                Outcome::Mistake => "mistake",
                Outcome::Open => "open",
            }
            .to_owned(),
        ]
    });
    csv_file("rehearsal.csv", &headers, rows)
}

/// Sets thresholds of the rule, or the evidence that it asks for, and goes on to what that leads to.
pub async fn apply(Id(id): Id<RuleId>, sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let kept = keeping::one(&app.db, &member.account, id).await?;
    let mut rule = kept.rule.clone();
    match &mut rule.body {
        Body::Bid(of) => {
            for field in Field::ALL {
                let text = fields.text(field.word());
                if text.is_empty() {
                    continue;
                }
                let text = if text == "none" { "0%" } else { text };
                let limits =
                    threshold(field, text).map_err(|why| PageError::Invalid(as_sentence(&why)))?;
                of.limits.top = limits.or(of.limits.top);
            }
        }
        Body::Custom(of) => {
            of.evidence.clicks = fields.read("evidence.clicks").unwrap_or(of.evidence.clicks);
            of.evidence.sure = fields.read("evidence.sure").or(of.evidence.sure);
            of.check().map_err(|e| PageError::Invalid(as_sentence(&e.to_string())))?;
        }
    }
    let book = book_of_reports(&app.db, member, params).await?;
    let naming = keeping::naming(&book);
    keeping::save(&app.db, &member.account, sent.person(), &kept, &rule, &naming).await?;
    let on = if fields.text("then") == "rule" {
        format!("rules/{id}")
    } else {
        format!("rules/{id}/rehearsal")
    };
    let days = |q: Params, name: &str| q.with(name, params.text(name));
    let query = days(days(params.only_period(), "since"), "until");
    Ok(Redirect::to(&format!("{}{query}", member.path(&on))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::rehearsal::sum;

    #[test]
    fn stops_are_told_with_what_became_of_them() {
        let none = sum([]);
        let said = |right, mistakes, open| stops(&Sum { right, mistakes, open, ..none });
        assert_eq!(said(0, 0, 0), None);
        for (of, told) in [
            ((0, 1, 0), "1 stop was a mistake by what followed"),
            ((0, 3, 1), "3 stops were mistakes by what followed, 1 can’t be judged"),
            ((1, 0, 0), "1 stop was right by what followed, none a mistake"),
            (
                (14, 3, 2),
                "14 stops were right by what followed, 3 were mistakes, 2 can’t be judged",
            ),
            ((0, 0, 2), "2 stops can’t be judged"),
        ] {
            assert_eq!(said(of.0, of.1, of.2).as_deref(), Some(told));
        }
    }
}
