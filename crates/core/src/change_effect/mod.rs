//! Whether changes did what they were made for (L3, maths 16): days after them against days before, beside what the same
//! days did to campaigns that nobody touched. How far such a difference goes by chance is learned from those, and from
//! earlier days, on which nothing was changed.

pub mod spells;

use crate::evidence::{Interval, normal_quantile};

/// Days before the change that tell how much was spent.
const SPENT: usize = 14;
/// Days before it that tell what money brought: more, since what made somebody change it was a bad stretch.
const BROUGHT: usize = 56;
/// Fewer days before a change tell nothing.
pub(crate) const LEAST: usize = 21;
/// What is believed of the times that all campaigns share before the others tell of them: log deviation (ours, no source).
const TIMES: f64 = 0.2;
/// What is believed of a change before its days tell: that it gains or loses about so much of what they would have cost or
/// brought, as often one as the other (ours, no source). Without it, what is said of changes that do little is mostly chance.
const PLAUSIBLE: f64 = 0.3;
/// As likely as that it must be that a change gained, to be said to have worked.
const SURE: f64 = 0.95;
/// Days by which the others' scatter counts in a campaign's own.
const SCATTER: f64 = 7.0;
/// Placebos by which chance is believed to be what the days' scatter says.
const PLACEBOS: f64 = 4.0;
/// Earlier dates that are tried.
const SHIFTS: usize = 4;
/// A rule that is no good is not stopped for one that is, however often it is looked at, but in so many of a hundred.
const FALSE_ALARMS: f64 = 0.05;

/// A campaign's days, one after the other.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Line {
    /// Money spent.
    pub spend: Vec<f64>,
    /// What the results are worth in money, at the target.
    pub worth: Vec<f64>,
}

/// The days that are held against each other, by their place in a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct When {
    /// The first day that can be held against them: from which on nothing else was changed before.
    pub since: usize,
    /// The first day on which something was changed.
    pub changed: usize,
    /// The days that are judged, none of them before.
    pub judged: Vec<usize>,
}

/// What changes brought in money, on the days that are judged: results at their worth less spend, beyond what it would
/// have been.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Effect {
    /// The estimate.
    pub worth: f64,
    /// Its standard error by the campaign's own days.
    pub own: f64,
    /// Its standard error by what the others tell of these days: the same for all that are held against them.
    pub shared: f64,
    /// How much it may be believed to do before its days tell: a standard deviation.
    pub plausible: f64,
    /// Days that are judged.
    pub days: usize,
}

/// What one line counts before and on the judged days.
#[derive(Clone, Copy, Debug, Default)]
struct Sums {
    spend: f64,
    worth: f64,
    before: f64,
    long_spend: f64,
    long_worth: f64,
    long_days: f64,
    /// Variance of a day's worth around what its spend brings.
    scatter: f64,
    /// Variance of a day's spend.
    spend_scatter: f64,
    /// Whether it ran all the time: what began or ended meanwhile is nothing to compare with.
    runs: bool,
}

fn sums(line: &Line, when: &When, since: usize, shift: usize) -> Option<Sums> {
    let changed = when.changed.checked_sub(shift).filter(|c| *c >= since + LEAST)?;
    let judged = |days: &[f64]| -> Option<f64> {
        when.judged.iter().map(|d| days.get(d.checked_sub(shift)?)).sum()
    };
    let long = (changed - since).min(BROUGHT) / 7 * 7;
    let (spend, worth) =
        (line.spend.get(changed - long..changed)?, line.worth.get(changed - long..changed)?);
    let (long_spend, long_worth): (f64, f64) = (spend.iter().sum(), worth.iter().sum());
    let each = if long_spend > 0.0 { long_worth / long_spend } else { 0.0 };
    let days = long as f64;
    let squares =
        |rest: &mut dyn Iterator<Item = f64>| rest.map(|x| x * x).sum::<f64>() / (days - 1.0);
    Some(Sums {
        spend: judged(&line.spend)?,
        worth: judged(&line.worth)?,
        before: line.spend[changed - SPENT..changed].iter().sum(),
        long_spend,
        long_worth,
        long_days: days,
        scatter: squares(&mut spend.iter().zip(worth).map(|(s, w)| w - each * s)),
        spend_scatter: squares(&mut spend.iter().map(|s| s - long_spend / days)),
        runs: [&spend[..7], &line.spend[changed - 7..changed]]
            .iter()
            .all(|w| w.iter().any(|s| *s > 0.0))
            && judged(&line.spend)? > 0.0,
    })
}

impl Sums {
    fn plus(self, other: &Self, sign: f64) -> Self {
        let add = |a: f64, b: f64| (a + sign * b).max(0.0);
        Self {
            spend: add(self.spend, other.spend),
            worth: add(self.worth, other.worth),
            before: add(self.before, other.before),
            long_spend: add(self.long_spend, other.long_spend),
            long_worth: add(self.long_worth, other.long_worth),
            long_days: self.long_days.max(other.long_days),
            scatter: add(self.scatter, other.scatter),
            spend_scatter: add(self.spend_scatter, other.spend_scatter),
            runs: true,
        }
    }
}

/// A log ratio with its variance, drawn toward none by what is believed of such times.
fn drawn(now: f64, before: f64, variance: f64) -> (f64, f64) {
    let believed = TIMES * TIMES;
    if now > 0.0 && before > 0.0 && variance.is_finite() {
        let known = believed / (believed + variance);
        (((now / before).ln() * known).exp(), variance * known)
    } else {
        (1.0, believed)
    }
}

/// What one line did beyond what was to be expected, with the others' days beside it.
fn beyond(own: &Sums, others: &Sums, days: f64) -> Effect {
    let spent = SPENT as f64;
    let squared = |x: f64| x * x;
    // Times as the others saw them: how much is spent, and what money brings.
    let variance =
        others.spend_scatter * squared(spent / others.before) * (1.0 / days + 1.0 / spent);
    let (spend_times, spend_unsure) = drawn(others.spend / days, others.before / spent, variance);
    let variance = others.scatter
        * (days / squared(others.worth) + others.long_days / squared(others.long_worth));
    let brings = |worth: f64, spend: f64| if spend > 0.0 { worth / spend } else { 0.0 };
    let (worth_times, worth_unsure) = drawn(
        brings(others.worth, others.spend),
        brings(others.long_worth, others.long_spend),
        variance,
    );
    let spend = own.before / spent * days * spend_times;
    let each = brings(own.long_worth, own.long_spend) * worth_times;
    let worth = spend * each;
    let usual = if others.long_spend > 0.0 {
        others.scatter * own.long_spend / others.long_spend
    } else {
        own.scatter
    };
    let scatter = (own.scatter * own.long_days + usual * SCATTER) / (own.long_days + SCATTER);
    let rate =
        if own.long_spend > 0.0 { scatter * own.long_days / squared(own.long_spend) } else { 0.0 };
    let own_variance = days * scatter
        + squared(spend * worth_times) * rate
        + squared(each - 1.0) * own.spend_scatter * (days + squared(days) / spent);
    let shared = squared(worth) * worth_unsure + squared(worth - spend) * spend_unsure;
    Effect {
        worth: (own.worth - own.spend) - (worth - spend),
        own: own_variance.sqrt(),
        shared: shared.sqrt(),
        plausible: PLAUSIBLE * spend.max(worth),
        days: days as usize,
    }
}

/// What changes brought a campaign, beside campaigns of which nothing was changed on the same days. None with less than
/// three weeks before the change.
pub fn effect(own: &Line, others: &[&Line], when: &When) -> Option<Effect> {
    if when.judged.is_empty() {
        return None;
    }
    let days = when.judged.len() as f64;
    let mine = |shift| sums(own, when, when.since, shift);
    let beside = |shift| -> (Vec<Sums>, Sums) {
        let each: Vec<Sums> =
            others.iter().filter_map(|o| sums(o, when, 0, shift)).filter(|o| o.runs).collect();
        let all = each.iter().fold(Sums::default(), |all, one| all.plus(one, 1.0));
        (each, all)
    };
    let (each, all) = beside(0);
    let found = beyond(&mine(0)?, &all, days);
    // The same of what nobody touched, and of earlier days.
    let mut placebos: Vec<f64> = Vec::new();
    let mut try_out = |own: &Sums, others: &Sums| {
        let nothing = beyond(own, others, days);
        let by_chance = nothing.own.hypot(nothing.shared);
        if own.long_spend > 0.0 && by_chance > 0.0 {
            placebos.push((nothing.worth / by_chance).powi(2));
        }
    };
    each.iter().for_each(|one| try_out(one, &all.plus(one, -1.0)));
    let apart = when.judged.last().map_or(0, |last| last + 1 - when.changed) + SPENT;
    for shift in (1..=SHIFTS).map(|n| n * apart) {
        let (each, all) = beside(shift);
        mine(shift).iter().for_each(|mine| try_out(mine, &all));
        each.iter().for_each(|one| try_out(one, &all.plus(one, -1.0)));
    }
    let more = (placebos.iter().sum::<f64>() + PLACEBOS) / (placebos.len() as f64 + PLACEBOS);
    let more = more.max(1.0).sqrt();
    Some(Effect { own: found.own * more, shared: found.shared * more, ..found })
}

/// What came of changes (L3).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum CameOfIt {
    /// They gained money: that is as good as sure.
    Worked,
    /// They lost money: that is as good as sure.
    Worse,
    /// The days tell neither.
    Untold,
}
crate::words!(CameOfIt: Worked "worked", Worse "worse", Untold "untold");
#[cfg(feature = "database")]
crate::stored!(CameOfIt);

/// How often a verdict comes by chance: what was said of days on which nothing was changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Chance {
    /// Days and campaigns that were tried.
    pub tried: usize,
    /// Of those, how often it would have been said that a change worked.
    pub worked: usize,
    /// How often that it made things worse.
    pub worse: usize,
}

impl Chance {
    /// One more that was tried.
    pub fn add(&mut self, said: CameOfIt) {
        self.tried += 1;
        match said {
            CameOfIt::Worked => self.worked += 1,
            CameOfIt::Worse => self.worse += 1,
            CameOfIt::Untold => {}
        }
    }
}

/// What several changes brought together.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Worth {
    /// In money.
    pub mid: f64,
    /// Its standard error.
    pub deviation: f64,
    /// How much they may be believed to do before their days tell: a standard deviation.
    pub plausible: f64,
    /// Days that were judged.
    pub days: usize,
}

impl Worth {
    /// Adds effects up: their own errors are apart, what the others tell of the days errs for all alike.
    pub fn sum<'a>(effects: impl IntoIterator<Item = &'a Effect>) -> Self {
        let (mut all, mut own, mut shared) = (Self::default(), 0.0, 0.0);
        for e in effects {
            all.mid += e.worth;
            all.days += e.days;
            all.plausible = all.plausible.hypot(e.plausible);
            own += e.own * e.own;
            shared += e.shared;
        }
        Self { deviation: own.sqrt().hypot(shared), ..all }
    }

    /// Where it lies, eight times of ten.
    pub fn range(&self) -> Interval {
        self.within(0.8)
    }

    /// Where it lies, nine times of ten.
    pub fn wide_range(&self) -> Interval {
        self.within(0.9)
    }

    fn within(&self, level: f64) -> Interval {
        let reach = normal_quantile(f64::midpoint(1.0, level)) * self.deviation;
        Interval { low: self.mid - reach, high: self.mid + reach }
    }

    /// What came of them, looked at once: said where a gain or a loss is sure by what changes may do and by their days.
    pub fn came_of_it(&self) -> CameOfIt {
        let sure = normal_quantile(SURE) * self.deviation;
        let told = match self.plausible.hypot(self.deviation) {
            all if all > 0.0 => self.mid * self.plausible / all,
            _ => self.mid,
        };
        match told {
            told if told > sure => CameOfIt::Worked,
            told if told < -sure => CameOfIt::Worse,
            _ => CameOfIt::Untold,
        }
    }

    /// Whether they surely made it worse, though one looks again every week: a mixture boundary (H. Robbins, Annals of
    /// Mathematical Statistics 41 (1970)), passed by chance at some time in five of a hundred.
    pub fn made_it_worse(&self) -> bool {
        let weeks = (self.days as f64 / 7.0).max(1.0);
        let one_sided = 2.0 * FALSE_ALARMS;
        let bound = ((1.0 + 1.0 / weeks) * ((weeks + 1.0) / (one_sided * one_sided)).ln()).sqrt();
        self.deviation > 0.0 && self.mid / self.deviation < -bound
    }
}
