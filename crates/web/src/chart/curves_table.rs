//! The curves table: the response curve of each line of a plan on common axes; the dot is now, the handle the plan.

use askama::Template;
use tiller_core::allocation::{CONFIDENCE, Goal, Line, LineAnswer, Problem, Response, brings};
use tiller_desk::numerals::{count, sum};

use super::scale::{Mark, Scale};
use super::{at, fit, path};

const LEFT: f64 = 8.0;
const RIGHT: f64 = 268.0;
const TOP: f64 = 42.0;
const BASE: f64 = 130.0;
/// Points of a curve.
const POINTS: usize = 20;
/// Half of a tangent's length, as a share of the axis.
const TANGENT: f64 = 0.16;

/// Axes that all panels share.
#[derive(Clone, Copy, Debug)]
pub struct Axes<'a> {
    problem: &'a Problem,
    money: f64,
    results: Scale,
    most: f64,
}

impl<'a> Axes<'a> {
    /// So large that present, plan and brackets of every line stand on them; up goes what the goal counts, so that
    /// alike slopes mean what the plan means.
    pub fn new(problem: &'a Problem, budgets: &[f64]) -> Self {
        let end = |(l, b): (&Line, &f64)| {
            let bracket = l.ceiling.filter(|c| *c < 3.0 * l.current.max(*b)).unwrap_or(0.0);
            [l.current, *b, l.floor, bracket].into_iter().fold(0.0, f64::max)
        };
        let money = problem.lines.iter().zip(budgets).map(end).fold(0.0, f64::max) * 1.15;
        let money = if money > 0.0 { money } else { 1.0 };
        // As high as any line reaches where it is now, where the plan puts it, or a good deal further on.
        let reach = |(i, b): (usize, &f64)| {
            let far = (1.6 * problem.lines[i].current.max(*b)).min(money);
            brings(problem, i, far)
        };
        let most = budgets.iter().enumerate().map(reach).fold(0.0, f64::max);
        Self { problem, money, results: Scale::up(most, BASE, BASE - TOP), most }
    }

    /// What they measure, in words.
    pub fn words(&self, currency: &str) -> String {
        let up = match self.problem.goal {
            Goal::Value => format!("{} {currency} of value", sum(self.most)),
            Goal::Profit => format!("{} {currency} before its own cost", sum(self.most)),
            Goal::Clicks => format!("{} clicks", sum(self.most)),
            Goal::Conversions | Goal::LeastSpend => {
                format!("{} conversions", count(self.most.round()))
            }
        };
        format!("Every panel goes to {} {currency} across and to {up} up.", sum(self.money))
    }

    fn x(&self, money: f64) -> f64 {
        at(LEFT + (RIGHT - LEFT) * (money / self.money).clamp(0.0, 1.0))
    }

    fn unit(&self) -> f64 {
        self.money / (RIGHT - LEFT)
    }
}

/// What is drawn on the axis of a panel.
pub struct Bracket {
    x: f64,
    mark: &'static str,
    title: String,
}

/// A panel.
#[derive(Template)]
#[template(path = "chart/curve_panel.html")]
pub struct CurvePanel {
    index: usize,
    name: String,
    full_name: String,
    href: Option<String>,
    moved: (String, String),
    more: String,
    tone: &'static str,
    note: String,
    band: Option<String>,
    curve: String,
    now: (f64, f64),
    plan: Option<(f64, f64)>,
    tangent: Option<[f64; 4]>,
    brackets: Vec<Bracket>,
    able: Option<Mark>,
    fixed: bool,
    value: f64,
    most: f64,
    unit: f64,
    summary: String,
}

/// What is told of a line beside its curve.
pub struct Told {
    /// Its page.
    pub href: Option<String>,
    /// Money now and planned.
    pub moved: (String, String),
    /// What it brings more or less.
    pub more: String,
    /// The tone of that.
    pub tone: &'static str,
    /// What holds it, how well it is known.
    pub note: String,
    /// Why it moves.
    pub why: String,
}

impl CurvePanel {
    /// Of one line, planned or not.
    pub fn new(index: usize, answer: Option<&LineAnswer>, axes: &Axes, told: Told) -> Self {
        let (line, days) = (&axes.problem.lines[index], axes.problem.days);
        let result = |money: f64| brings(axes.problem, index, money);
        let point = |money: f64| (axes.x(money), axes.results.y(result(money)));
        let amounts = amounts(index, axes);
        let along = |of: &dyn Fn(f64) -> f64| -> Vec<(f64, f64)> {
            amounts.iter().map(|m| (axes.x(*m), axes.results.y(of(*m)))).collect()
        };
        let bound = |pick: fn(tiller_core::evidence::Interval) -> f64| {
            move |money: f64| {
                let day = (line.spent(money, days) / days).max(1e-6);
                let middle = days * line.response.at(day);
                line.precision.filter(|_| middle > 0.0).map_or(0.0, |p| {
                    let off = days * pick(p.interval(line.response, day, CONFIDENCE)) / middle;
                    off * result(money)
                })
            }
        };
        // Clicks follow from the price of one, which is not what the interval is of.
        let known = line.precision.filter(|_| axes.problem.goal != Goal::Clicks);
        let band = known.map(|_| {
            let mut outline = along(&bound(|i| i.high));
            outline.extend(along(&bound(|i| i.low)).into_iter().rev());
            path(&outline) + "Z"
        });
        let bracket = |money: f64, mark, what: &str| Bracket {
            x: axes.x(money),
            mark,
            title: format!("{what} {}", sum(money)),
        };
        let floor = (line.floor > 0.0).then(|| bracket(line.floor, "[", "floor"));
        let ceiling = line.ceiling.filter(|c| *c <= axes.money).map(|c| bracket(c, "]", "ceiling"));
        let able = line.capacity.map(|c| c * days).filter(|c| *c <= axes.money);
        // Where limits contradict each other, what was set by hand can still be taken hold of.
        let budget = answer.map(|a| a.budget).or(line.fixed);
        let tangent = budget.map(|b| {
            let slope = {
                let step = (axes.money * 1e-4).max(1e-6);
                (result(b + step) - result((b - step).max(0.0))) / (b + step - (b - step).max(0.0))
            };
            let (from, to) = ((b - TANGENT * axes.money).max(0.0), b + TANGENT * axes.money);
            // It ends where it leaves the panel.
            let lowest = (b - result(b) / slope.max(1e-12)).max(from);
            let highest = (b + (axes.most - result(b)) / slope.max(1e-12)).clamp(b, to);
            let on = |money: f64| axes.results.y(result(b) + slope * (money - b));
            [
                axes.x(lowest),
                on(lowest),
                axes.x(highest.min(axes.money)),
                on(highest.min(axes.money)),
            ]
        });
        Self {
            index,
            name: fit(&line.id, 150.0),
            full_name: line.id.clone(),
            href: told.href,
            summary: format!(
                "{}: {} now, {} planned, {}. {}",
                line.id, told.moved.0, told.moved.1, told.more, told.why
            ),
            moved: told.moved,
            more: told.more,
            tone: told.tone,
            note: told.note,
            band,
            curve: path(&along(&result)),
            now: point(line.current),
            plan: budget.map(point),
            tangent,
            brackets: floor.into_iter().chain(ceiling).collect(),
            able: able
                .map(|c| Mark { at: axes.x(c), text: format!("all it can spend: {}", sum(c)) }),
            fixed: line.fixed.is_some(),
            value: budget.unwrap_or(line.current).round(),
            most: axes.money.round(),
            unit: axes.unit(),
        }
    }
}

/// Money at which a curve is drawn: closer together where it bends most, its corner where nothing more can be
/// spent, and no further than where it leaves the panel.
fn amounts(index: usize, axes: &Axes) -> Vec<f64> {
    let line = &axes.problem.lines[index];
    let able = line.capacity.map(|c| c * axes.problem.days).filter(|c| *c < axes.money);
    let corner = able.unwrap_or(axes.money);
    let leaves = brings(axes.problem, index, corner) > axes.most;
    let end = if leaves { reaching(index, axes, corner) } else { corner };
    let points = if matches!(line.response, Response::Constant { .. }) { 1 } else { POINTS };
    (0..=points)
        .map(|i| end * (i as f64 / points as f64).powf(1.6))
        .chain(able.filter(|_| !leaves).map(|_| axes.money))
        .collect()
}

/// The money at which a line reaches the top of its panel, by halving.
fn reaching(index: usize, axes: &Axes, above: f64) -> f64 {
    let (mut low, mut high) = (0.0, above);
    for _ in 0..40 {
        let middle = f64::midpoint(low, high);
        if brings(axes.problem, index, middle) > axes.most { high = middle } else { low = middle }
    }
    low
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::allocation::{Answer, Goal, Limits, Precision, Total, Use};

    fn problem() -> Problem {
        let line = |id: &str, scale: f64| Line {
            current: 300.0,
            floor: 100.0,
            ceiling: Some(900.0),
            capacity: Some(20.0),
            precision: Some(Precision::alone(10.0, [[0.01, 0.0], [0.0, 0.01]], [5.0, 20.0])),
            ..Line::new(id, Response::Power { scale, elasticity: 0.5 })
        };
        Problem {
            goal: Goal::Conversions,
            total: Total { amount: 600.0, spend: Use::All },
            step: 0.01,
            days: 30.0,
            noise: None,
            lines: vec![line("one", 1.0), line("two", 2.0)],
            groups: Vec::new(),
            limits: Limits::default(),
        }
    }

    #[test]
    fn slopes_are_equal_where_the_plan_is() {
        let p = problem();
        let Answer::Optimal(s) = p.answer().unwrap() else { panic!() };
        let budgets: Vec<f64> = s.lines.iter().map(|l| l.budget).collect();
        let axes = Axes::new(&p, &budgets);
        let told = || Told {
            href: None,
            moved: ("300".into(), "120".into()),
            more: "−1".into(),
            tone: "harm",
            note: String::new(),
            why: String::new(),
        };
        let panels: Vec<CurvePanel> =
            (0..2).map(|i| CurvePanel::new(i, Some(&s.lines[i]), &axes, told())).collect();
        let slope = |c: &CurvePanel| {
            let [x1, y1, x2, y2] = c.tangent.unwrap();
            (y2 - y1) / (x2 - x1)
        };
        assert!((slope(&panels[0]) / slope(&panels[1]) - 1.0).abs() < 0.05);
        assert!(panels[0].plan.unwrap().0 < panels[1].plan.unwrap().0);
        assert_eq!(panels[0].brackets.len(), 1 + usize::from(axes.money >= 900.0));
        let html = panels[0].render().unwrap();
        assert!(html.contains("role=\"slider\"") && html.contains("data-field=\"fixed-0\""));
    }
}
