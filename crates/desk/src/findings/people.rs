//! People and hours that carry the excess: country first, then gender, age, placement, device, hours.

use tiller_channel::wire::{Adjustment, Budget, Dimension as By, Hours, Setting};
use tiller_core::hours::hopeless;
use tiller_core::segments::{self, Finding, Proposal as Advice, Segment};
use tiller_core::{Tally, Target};
use tiller_store::splits::SegmentTally;

use super::{Found, Scene};
use crate::book::Subject;
use crate::figures::{number, percent, signed};
use crate::tray::Proposal;

/// In this order segments are looked through.
const ORDER: [By; 5] = [By::Country, By::Gender, By::Age, By::Placement, By::Device];

/// One way to tell people apart.
#[derive(Clone, Debug)]
pub struct Dimension {
    /// Which.
    pub by: By,
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

pub(super) fn find(s: &Scene, split: &[SegmentTally]) -> Vec<Dimension> {
    let of = |by: By| -> Vec<&SegmentTally> {
        split.iter().filter(|t| t.dimension == by.word()).collect()
    };
    let mut all: Vec<Dimension> =
        ORDER.iter().filter_map(|by| dimension(s, *by, &of(*by))).collect();
    all.extend(hours(s, &of(By::Hour)));
    all
}

/// The percent that is set for a segment now.
fn present(s: &Scene, by: By, segment: &str) -> f64 {
    let set = s.settings.campaign(s.campaign()).map_or(&[][..], |c| &c.adjustments);
    let found = set.iter().find(|a| a.dimension == by && a.segment == segment);
    found.map_or(0.0, |a| f64::from(a.percent) / 100.0)
}

fn dimension(s: &Scene, by: By, split: &[&SegmentTally]) -> Option<Dimension> {
    if split.len() < 2 {
        return None;
    }
    let parent: Tally = split.iter().map(|t| t.tally).sum();
    let segments: Vec<Segment> = split
        .iter()
        .map(|t| Segment { name: &t.segment, tally: t.tally, present: present(s, by, &t.segment) })
        .collect();
    let judged = segments::judge(&parent, &segments, s.target);
    let mut rows: Vec<Row> = segments
        .iter()
        .zip(judged)
        .map(|(segment, f)| Row {
            segment: segment.name.to_owned(),
            tally: segment.tally,
            excess: f.excess,
            ratio: f.ratio,
            found: found(s, by, segment, &f),
        })
        .collect();
    rows.sort_by(|a, b| b.excess.total_cmp(&a.excess));
    Some(Dimension { by, rows })
}

/// A segment is worth a change where lowering it saves money above target, or raising it uses room below.
fn found(s: &Scene, by: By, segment: &Segment, f: &Finding) -> Option<Found> {
    // Less than one conversion's worth is not worth a change.
    let worth = s.target.as_cpa(s.tally.aov()).is_some_and(|cpa| f.excess.abs() >= cpa);
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
    let advice = if to <= -1.0 {
        "leave out".to_owned()
    } else {
        format!("bid {}%", signed(to * 100.0, |x| number(x, 0)))
    };
    let set = Setting::Adjustment(Adjustment {
        dimension: by,
        segment: segment.name.to_owned(),
        percent: (to * 100.0).round() as i16,
    });
    let reason = format!("{}: {why}.", segment.name);
    let proposal = s.propose(Subject::Campaign(s.campaign()), set, &reason, "");
    Some(Found {
        id: format!("{}:{}", by.word(), segment.name),
        what: segment.name.to_owned(),
        why,
        tally: Some(segment.tally),
        excess: f.excess,
        advice,
        proposals: proposal.into_iter().collect(),
    })
}

fn why(target: Target, f: &Finding) -> String {
    let what = match target {
        Target::Cpa(_) => "a click converts",
        Target::Roas(_) => "a click is worth",
    };
    format!(
        "{what} {}% of the average ({} to {}% with 80% confidence)",
        percent(f.ratio),
        number(100.0 * f.ratio_at_least, 0),
        number(100.0 * f.ratio_at_most, 0)
    )
}

/// The block of hours that surely brings less than half and costs most above target.
fn hours(s: &Scene, split: &[&SegmentTally]) -> Option<Dimension> {
    let mut by_hour = [Tally::default(); 24];
    for t in split {
        if let Some(hour) = t.segment.parse::<usize>().ok().filter(|h| *h < 24) {
            by_hour[hour] += t.tally;
        }
    }
    let block = hopeless(&by_hour, s.target)?;
    let (f, tally) = (block.finding, block.tally);
    let segment = format!("{}:00 to {}:00", block.from, block.to());
    let why = why(s.target, &f);
    let reason = format!("{segment}: {why}.");
    let off: Vec<usize> = (0..24).filter(|h| block.has(*h)).collect();
    Some(Dimension {
        by: By::Hour,
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
                advice: "leave these hours out".into(),
                proposals: hours_off(s, &off, &reason),
            }),
        }],
    })
}

/// Hours off by the week's hours; where the channel takes those with lifetime budgets only, by bids.
fn hours_off(s: &Scene, off: &[usize], reason: &str) -> Vec<Proposal> {
    let subject = Subject::Campaign(s.campaign());
    let campaign = s.settings.campaign(s.campaign());
    let lifetime = matches!(campaign.and_then(|c| c.budget), Some(Budget::Lifetime { .. }));
    if lifetime || !s.settings.limits(s.campaign()).hours_need_lifetime {
        let now = campaign.and_then(|c| c.hours.as_ref());
        let week = (0..Hours::WEEK)
            .map(|h| {
                let at = now.map_or(Some(0), |hours| hours.at(h / 24, h % 24));
                at.filter(|_| !off.contains(&(h % 24)))
            })
            .collect();
        let hours = Hours::new(week).ok();
        return hours
            .and_then(|h| s.propose(subject, Setting::Hours(Some(h)), reason, ""))
            .into_iter()
            .collect();
    }
    let one = |hour: &usize| {
        let set = Setting::Adjustment(Adjustment {
            dimension: By::Hour,
            segment: hour.to_string(),
            percent: -100,
        });
        s.propose(subject, set, reason, "")
    };
    off.iter().filter_map(one).collect()
}
