//! Day by day: spend as bars, cost per result as a line, unsettled days dashed.

use askama::Template;
use chrono::NaiveDate;
use tiller_core::learning::Learning;
use tiller_core::{Price, Tally, Target};
use tiller_desk::bids::words;
use tiller_desk::causes::Estimate;
use tiller_desk::numerals::{conversions, day, money, number, sum};

use super::scale::{Mark, Scale};
use super::{Form, at};

const WIDTH: f64 = 1232.0;
const LEFT: f64 = 46.0;
const RIGHT: f64 = 60.0;
const TOP: f64 = 14.0;
const LINE_BASE: f64 = 108.0;
const BAR_TOP: f64 = 120.0;
const BAR_BASE: f64 = 168.0;
/// Standard errors to each side of an 80% interval.
const NORMAL_80: f64 = 1.2816;
/// Costs above this many targets are cut.
const CUT: f64 = 4.0;

struct Bar {
    x: f64,
    width: f64,
    y: f64,
    height: f64,
    settled: bool,
    title: String,
}

/// Where a day that has not settled will end, by estimate.
struct Expected {
    x: f64,
    y: f64,
    low: f64,
    high: f64,
    title: String,
}

/// The days on which its strategy is learning.
struct Learns {
    from: f64,
    to: f64,
    text: String,
}

/// The chart.
#[derive(Template)]
#[template(path = "chart/day_chart.html")]
pub struct DayChart {
    width: f64,
    suffix: &'static str,
    bars: Vec<Bar>,
    settled_path: String,
    unsettled_path: String,
    dots: Vec<(f64, f64)>,
    expected: Vec<Expected>,
    learns: Option<Learns>,
    cost_marks: Vec<Mark>,
    spend_marks: Vec<Mark>,
    days: Vec<Mark>,
    target: Option<Mark>,
    cost_unit: String,
    currency: String,
    summary: String,
}

/// What a result costs: CPA, or ACoS in %.
fn cost(t: &Tally, by_value: bool) -> Option<f64> {
    if by_value { t.acos().map(|a| a * 100.0) } else { t.cpa().map(Price::units) }
}

fn cost_text(c: f64, by_value: bool) -> String {
    if by_value { format!("{}%", number(c, 1)) } else { money(c) }
}

/// What the days show, in a sentence.
fn finding(
    days: &[(NaiveDate, Tally)],
    settled: NaiveDate,
    line: Option<f64>,
    by_value: bool,
) -> String {
    let ends = days.first().zip(days.last()).map(|(a, b)| (day(a.0), day(b.0)));
    let (first, last) = ends.unwrap_or_default();
    let whole: Tally = days.iter().map(|(_, t)| *t).sum();
    let word = if by_value { "ACoS" } else { "CPA" };
    let all = cost(&whole, by_value).map_or("absent".to_owned(), |c| cost_text(c, by_value));
    let costs = || days.iter().filter(|d| d.0 <= settled).filter_map(|d| cost(&d.1, by_value));
    let against = line.map_or(String::new(), |line| {
        format!(
            "; {} of {} settled days with results stand above the target of {}",
            costs().filter(|c| *c > line).count(),
            costs().count(),
            cost_text(line, by_value)
        )
    });
    format!("From {first} to {last}: {} spent, {word} {all}{against}.", sum(whole.spend.to_units()))
}

impl DayChart {
    /// Whether the end of any day is estimated.
    pub fn has_estimates(&self) -> bool {
        !self.expected.is_empty()
    }

    /// Days in order; those after `settled` are drawn dashed, with the conversions that are expected of them in
    /// the end, and the days on which its strategy is learning marked. None without days.
    pub fn new(
        days: &[(NaiveDate, Tally)],
        expected: &[(NaiveDate, Estimate)],
        settled: NaiveDate,
        target: Option<Target>,
        learning: Option<Learning>,
        currency: &str,
        form: Form,
    ) -> Option<Self> {
        let (first, last) = (days.first()?.0, days.last()?.0);
        let by_value = matches!(target, Some(Target::Roas(_)));
        let cost = |t: &Tally| cost(t, by_value);
        let line = target.map(|t| match t {
            Target::Cpa(cpa) => cpa.units(),
            Target::Roas(x) => 100.0 / x,
        });
        let count = (last - first).num_days() as f64 + 1.0;
        let width = form.width(WIDTH);
        let slot = (width - LEFT - RIGHT) / count;
        let x = |d: NaiveDate| LEFT + (d - first).num_days() as f64 * slot;
        let highest = days.iter().filter_map(|(_, t)| cost(t)).fold(0.0, f64::max);
        let most = line.map_or(highest, |l| highest.min(CUT * l).max(1.3 * l));
        let costs = Scale::up(most * 1.05, LINE_BASE, LINE_BASE - TOP);
        let top_spend = days.iter().map(|(_, t)| t.spend.to_units()).fold(0.0, f64::max);
        let spends = Scale::up(top_spend * 1.05, BAR_BASE, BAR_BASE - BAR_TOP);
        let cost_word = if by_value { "ACoS" } else { "CPA" };
        let bars = days
            .iter()
            .map(|(d, t)| {
                let y = spends.y(t.spend.to_units());
                let each = cost(t).map_or("no result yet".to_owned(), |c| {
                    if by_value {
                        format!("{cost_word} {}%", number(c, 1))
                    } else {
                        format!("{cost_word} {}", money(c))
                    }
                });
                let note = if *d > settled { ", not settled" } else { "" };
                Bar {
                    x: at(x(*d) + slot * 0.12),
                    width: at(slot * 0.76),
                    y,
                    height: at(BAR_BASE - y),
                    settled: *d <= settled,
                    title: format!(
                        "{}: spend {}, {}, {each}{note}",
                        day(*d),
                        money(t.spend.to_units()),
                        conversions(t.conversions)
                    ),
                }
            })
            .collect();
        let point =
            |(d, t): &(NaiveDate, Tally)| cost(t).map(|c| (*d, at(x(*d) + slot / 2.0), costs.y(c)));
        let points: Vec<Option<(NaiveDate, f64, f64)>> = days.iter().map(point).collect();
        let path = |keep: &dyn Fn(NaiveDate) -> bool| {
            let mut path = String::new();
            let mut pen_down = false;
            for p in &points {
                match p {
                    Some((d, x, y)) if keep(*d) => {
                        path += if pen_down { "L" } else { "M" };
                        path += &[x.to_string(), y.to_string()].join(" ");
                        path.push(' ');
                        pen_down = true;
                    }
                    _ => pen_down = false,
                }
            }
            path
        };
        let in_the_end = |t: &Tally, conversions: f64| {
            let more = conversions / t.conversions;
            cost(t).filter(|_| more.is_finite()).map(|c| c / more)
        };
        let cost_text = |c: f64| cost_text(c, by_value);
        let end = |day_of: &NaiveDate, e: &Estimate| {
            let t = days.iter().find(|(d, _)| d == day_of)?.1;
            let reach = NORMAL_80 * e.error;
            let cost_at = |conversions: f64| in_the_end(&t, conversions.max(t.conversions));
            let (mid, dear, cheap) =
                (cost_at(e.mean)?, cost_at(e.mean - reach)?, cost_at(e.mean + reach)?);
            Some(Expected {
                x: at(x(*day_of) + slot / 2.0),
                y: costs.y(mid),
                low: costs.y(cheap),
                high: costs.y(dear),
                title: format!(
                    "{}: by estimate {} conversions in the end, {cost_word} {}, 80% between {} and {}",
                    day(*day_of),
                    number(e.mean, 1),
                    cost_text(mid),
                    cost_text(cheap),
                    cost_text(dear)
                ),
            })
        };
        let expected: Vec<Expected> = expected.iter().filter_map(|(d, e)| end(d, e)).collect();
        // The dashed part begins at the last settled point, so that the line does not break there.
        let joint = points.iter().flatten().map(|p| p.0).filter(|d| *d <= settled).max();
        let every = (count * 100.0 / width).ceil().max(1.0) as usize;
        let marks = first
            .iter_days()
            .take(count as usize)
            .step_by(every)
            .map(|d| Mark { at: at(x(d) + slot / 2.0), text: day(d) })
            .collect();
        // What began before the chart does is marked from its first day on.
        let learns = learning.filter(|l| l.began <= last).map(|l| Learns {
            from: at(x(l.began.max(first))),
            to: at(x(last) + slot),
            text: words::learning(&l),
        });
        Some(Self {
            learns,
            width,
            suffix: form.suffix(),
            settled_path: path(&|d| d <= settled),
            unsettled_path: path(&|d| d > settled || Some(d) == joint),
            dots: points.iter().flatten().map(|p| (p.1, p.2)).collect(),
            bars,
            expected,
            cost_marks: costs.marks(2),
            spend_marks: spends.marks(1),
            days: marks,
            target: line.map(|l| Mark {
                at: costs.y(l),
                text: if by_value { format!("{}%", number(l, 1)) } else { money(l) },
            }),
            cost_unit: if by_value { "ACoS, %".into() } else { format!("CPA, {currency}") },
            currency: currency.to_owned(),
            summary: finding(days, settled, line, by_value),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::{Micros, Price};

    #[test]
    fn unsettled_days_are_dashed_and_gaps_stay_gaps() {
        let first = NaiveDate::from_ymd_opt(2026, 11, 1).unwrap();
        let tally =
            |c: f64| Tally { spend: Micros::from_units(30.0), conversions: c, ..Tally::default() };
        let days: Vec<_> =
            first.iter_days().zip([1.0, 0.0, 2.0, 1.0, 1.0]).map(|(d, c)| (d, tally(c))).collect();
        let expected = [(days[4].0, Estimate { mean: 2.0, error: 0.5 })];
        let chart = DayChart::new(
            &days,
            &expected,
            days[2].0,
            Some(Target::Cpa(Price(30.0))),
            Learning::since(days[3].0, days[4].0, 1.0),
            "EUR",
            Form::Wide,
        )
        .unwrap();
        let end = &chart.expected[0];
        assert!(end.title.contains("CPA 15.00") && end.high < end.y && end.y < end.low);
        assert_eq!(chart.bars.iter().filter(|b| !b.settled).count(), 2);
        assert_eq!(
            chart.settled_path.matches('M').count(),
            2,
            "a day without a result lifts the pen"
        );
        assert_eq!(chart.unsettled_path.matches('L').count(), 2);
        assert!(chart.render().unwrap().contains("not settled"));
        let learns = chart.learns.as_ref().unwrap();
        assert!(learns.text.contains("day 2 of 14") && learns.from > chart.bars[2].x);
        assert!(learns.to > chart.bars[4].x);
        assert!(DayChart::new(&[], &[], first, None, None, "EUR", Form::Wide).is_none());
    }
}
