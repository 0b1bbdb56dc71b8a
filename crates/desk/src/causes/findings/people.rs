//! People and hours that carry the excess: country first, then gender, age, income, placement, device, hours.

use tiller_core::hours::{advised, hopeless};
use tiller_core::segments::{self, Finding, Proposal as Advice, Segment};
use tiller_core::setting::{Adjustment, Budget, Dimension as Told, Hours, Setting};
use tiller_core::week::WeekHour;
use tiller_core::{Tally, Target};
use tiller_store::splits::SegmentTally;

use super::{Found, Scene};
use crate::budgets::hours::{week_of, window};
use crate::numerals::{counted, money, number, signed};
use crate::tray::proposal::{Adds, Proposal};
use crate::wording::capital;
use tiller_core::spot::Subject;

/// In this order segments are looked through.
const ORDER: [Told; 6] =
    [Told::Country, Told::Gender, Told::Age, Told::Income, Told::Placement, Told::Device];

/// One way to tell people apart.
#[derive(Clone, Debug)]
pub struct Dimension {
    /// Which.
    pub by: Told,
    /// Its segments, the most excess first; of hours, the blocks that are worth a change only.
    pub rows: Vec<Row>,
}

/// A segment.
#[derive(Clone, Debug)]
pub struct Row {
    /// Its name.
    pub segment: String,
    /// What was counted.
    pub tally: Tally,
    /// Money above target.
    pub excess: f64,
    /// Its conversions (or value) per click over the campaign's, drawn toward 1.
    pub ratio: f64,
    /// What is known of it, and what to do; none: leave it.
    pub found: Option<Found>,
}

pub(super) fn find(
    s: &Scene,
    split: &[SegmentTally],
    hours_of_week: &[(WeekHour, Tally)],
) -> Vec<Dimension> {
    let of = |by: Told| -> Vec<&SegmentTally> {
        split.iter().filter(|t| t.dimension == by.word()).collect()
    };
    let parts: Vec<(Told, Vec<&SegmentTally>)> =
        ORDER.iter().map(|by| (*by, of(*by))).filter(|(_, all)| all.len() > 1).collect();
    let dimensions: Vec<(Tally, Vec<Segment>)> = parts
        .iter()
        .map(|(by, all)| {
            let segments = all.iter().map(|t| Segment {
                name: &t.segment,
                tally: t.tally,
                present: present(s, *by, &t.segment),
            });
            (all.iter().map(|t| t.tally).sum(), segments.collect())
        })
        .collect();
    // All of them at once: chance has as many tries as there are segments.
    let judged = segments::judge_together(&dimensions, s.rules);
    let mut found: Vec<Dimension> = parts
        .iter()
        .zip(&dimensions)
        .zip(judged)
        .map(|(((by, _), (_, segments)), judged)| dimension(s, *by, segments, &judged))
        .collect();
    found.extend(hours(s, hours_of_week));
    found
}

/// The percent that is set for a segment now.
fn present(s: &Scene, by: Told, segment: &str) -> f64 {
    let set = s.settings.campaign(s.campaign()).map_or(&[][..], |c| &c.adjustments);
    let found = set.iter().find(|a| a.dimension == by && a.segment == segment);
    found.map_or(0.0, |a| f64::from(a.percent) / 100.0)
}

fn dimension(s: &Scene, by: Told, segments: &[Segment], judged: &[Finding]) -> Dimension {
    let mut rows: Vec<Row> = segments
        .iter()
        .zip(judged)
        .map(|(segment, f)| Row {
            segment: segment.name.to_owned(),
            tally: segment.tally,
            excess: f.excess,
            ratio: f.ratio,
            found: found(s, by, segment, f),
        })
        .collect();
    rows.sort_by(|a, b| b.excess.total_cmp(&a.excess));
    Dimension { by, rows }
}

/// A segment is worth a change where lowering it saves money above target, or raising it uses room below.
fn found(s: &Scene, by: Told, segment: &Segment, f: &Finding) -> Option<Found> {
    // Less than one conversion's worth is not worth a change.
    let worth = s.target.as_cpa(s.tally.aov()).is_some_and(|cpa| f.excess.abs() >= cpa.units());
    if !worth {
        return None;
    }
    let to = match f.proposal {
        Advice::Leave => return None,
        Advice::Exclude if f.excess > 0.0 => -1.0,
        Advice::Adjust(to) if (to < segment.present) == (f.excess > 0.0) => to,
        Advice::Exclude | Advice::Adjust(_) => return None,
    };
    let why = why(s.target, f);
    let percent_of = |x: f64| signed(x * 100.0, |x| number(x, 0));
    let advice = if to <= -1.0 {
        "exclude".to_owned()
    } else if (f.fair - to).abs() >= 0.05 {
        format!("bid {}%, a step toward {}%", percent_of(to), percent_of(f.fair))
    } else {
        format!("bid {}%", percent_of(to))
    };
    let set = Setting::Adjustment(Adjustment {
        dimension: by,
        segment: segment.name.to_owned(),
        percent: (to * 100.0).round() as i16,
    });
    let reason = format!("{}: {why}.", segment.name);
    let days = s.window.days() as f64;
    let (spend, conversions) = f.adds(segment);
    let adds = Adds::of(spend / days, conversions / days, segment.tally.aov());
    let effect = adds_words(&adds);
    let subject = Subject::Campaign(s.campaign());
    let proposal = s.propose(subject, set, &reason, &effect).map(|p| Proposal { adds, ..p });
    Some(Found {
        id: format!("{}:{}", by.word(), segment.name),
        what: segment.name.to_owned(),
        why: format!("{why}; {effect}"),
        tally: Some(segment.tally),
        excess: f.excess,
        advice,
        proposals: proposal.into_iter().collect(),
    })
}

/// `−12.40 spend and −0.1 conversions a day`.
pub(super) fn adds_words(adds: &Adds) -> String {
    format!(
        "{} spend and {} conversions a day",
        signed(adds.spend.unwrap_or(0.0), money),
        signed(adds.conversions.unwrap_or(0.0), |x| number(x, 1))
    )
}

fn why(target: Target, f: &Finding) -> String {
    let what = match target {
        Target::Cpa(_) => "a click converts",
        Target::Roas(_) => "a click is worth",
    };
    format!(
        "{what} {}% of the average (with a probability of 80% between {} and {}%)",
        number(100.0 * f.own, 0),
        number(100.0 * f.ratio_at_least, 0),
        number(100.0 * f.ratio_at_most, 0)
    )
}

/// The block of hours that surely brings less than half and costs most above target, from the same days as on the
/// page of hours.
fn hours(s: &Scene, of_week: &[(WeekHour, Tally)]) -> Option<Dimension> {
    let mut by_hour = [Tally::default(); 24];
    for (at, tally) in of_week {
        by_hour[at.hour()] += *tally;
    }
    let block = hopeless(&by_hour, s.rules)?;
    let (f, tally) = (block.finding, block.tally);
    let segment = format!("{}:00 to {}:00", block.from, block.to());
    let why = why(s.target, &f);
    let reason = format!("{segment}: {why}.");
    let off: Vec<usize> = (0..24).filter(|h| block.has(*h)).collect();
    Some(Dimension {
        by: Told::Hour,
        rows: vec![Row {
            segment: segment.clone(),
            tally,
            excess: f.excess,
            ratio: f.ratio,
            found: Some(Found {
                id: format!("hour:{}+{}", block.from, block.length),
                what: segment,
                why,
                tally: Some(tally),
                excess: f.excess,
                advice: if needs_lifetime(s) {
                    "turn these hours off; this channel takes hours with a lifetime budget only, so change the budget first".into()
                } else {
                    "turn these hours off".into()
                },
                proposals: hours_off(s, &off, &reason),
            }),
        }],
    })
}

/// The week's hours, each with the bid that what it brings is worth: of weekdays and of weekends, three hours together.
pub(super) fn week(s: &Scene, of_week: &[(WeekHour, Tally)]) -> Option<Found> {
    if needs_lifetime(s) {
        return None;
    }
    let set = s.settings.campaign(s.campaign())?.hours.as_ref();
    let present = week_of(set);
    let advised = advised(&present, of_week, s.rules)?;
    let differ = |at: &WeekHour| present[at.index()] != advised[at.index()];
    let of = |pick: &dyn Fn(Option<i16>, i16) -> bool| {
        let all = WeekHour::all().filter(differ).map(WeekHour::index);
        all.filter(|i| present[*i].is_some_and(|was| pick(advised[*i], was))).count() as u64
    };
    let parts = [
        (of(&|to, _| to.is_none()), "off"),
        (of(&|to, was| to.is_some_and(|to| to < was)), "at a lower bid"),
        (of(&|to, was| to.is_some_and(|to| to > was)), "at a higher bid"),
    ];
    let mut parts = parts.into_iter().filter(|(n, _)| *n > 0);
    let (first, how) = parts.next()?;
    let first = format!("{} {how}", counted(first, "hour", "hours"));
    let rest = parts.map(|(n, how)| format!("{n} {how}"));
    let advice = std::iter::once(first).chain(rest).collect::<Vec<_>>().join(", ");
    let tally: Tally = of_week.iter().filter(|(at, _)| differ(at)).map(|(_, t)| *t).sum();
    let why = format!(
        "over {} days these hours bring more or less than the rest of the week, by more than chance explains",
        window(s.window.to()).days()
    );
    let hours = Hours::new(advised.to_vec()).ok()?;
    let subject = Subject::Campaign(s.campaign());
    let proposal =
        s.propose(subject, Setting::Hours(Some(hours)), &format!("{}.", capital(&why)), "")?;
    Some(Found {
        id: "week".into(),
        what: "hours of the week".into(),
        why,
        tally: Some(tally),
        excess: s.target.excess(&tally),
        advice,
        proposals: vec![proposal],
    })
}

/// Hours off by the week's hours; nothing where the channel takes those with a lifetime budget only and there is
/// none: it would refuse them.
fn hours_off(s: &Scene, off: &[usize], reason: &str) -> Vec<Proposal> {
    if needs_lifetime(s) {
        return Vec::new();
    }
    let now = s.settings.campaign(s.campaign()).and_then(|c| c.hours.as_ref());
    let week = WeekHour::all()
        .map(|h| {
            let at = now.map_or(Some(0), |hours| hours.at(h));
            at.filter(|_| !off.contains(&h.hour()))
        })
        .collect();
    let set = Hours::new(week).ok().map(|h| Setting::Hours(Some(h)));
    let subject = Subject::Campaign(s.campaign());
    set.and_then(|set| s.propose(subject, set, reason, "")).into_iter().collect()
}

/// Whether hours can't be set as the budget is.
fn needs_lifetime(s: &Scene) -> bool {
    let budget = s.settings.campaign(s.campaign()).and_then(|c| c.budget);
    let lifetime = matches!(budget, Some(Budget::Lifetime { .. }));
    !lifetime && s.settings.limits(s.campaign()).hours_need_lifetime
}
