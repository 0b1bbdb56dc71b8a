//! The working of a plan's figures.

use tiller_core::allocation::{
    CONFIDENCE, Goal, HeldBy, Line, Response as Curve, Solved, brings, marginal_at,
};

use super::file::PlanFile;
use super::{Worked, why, words};
use crate::figure::Working;
use crate::numerals::{self, money, number, signed, sum};

/// Whose figure it is, if a line's, and how it came about: of a line's `budget-N` or `results-N`, a limit's `cost-N`,
/// or one of the whole.
pub fn working(
    file: &PlanFile,
    worked: &Worked,
    figure: &str,
) -> Option<(Option<String>, Working)> {
    Asked { file, worked, solved: worked.solved()? }.working(figure)
}

/// A solved plan of which a figure is asked.
struct Asked<'a> {
    file: &'a PlanFile,
    worked: &'a Worked,
    solved: &'a Solved,
}

const BY_HAND: &str = "Its response was drawn by hand: nothing tells how well it is known.";
const DRAWN: &str = "1\u{202f}000 worlds were drawn in which each response differs as far as it is not known; lines err independently of each other.";

impl Asked<'_> {
    fn working(&self, figure: &str) -> Option<(Option<String>, Working)> {
        if let Some((kind, n)) = figure.split_once('-') {
            let n: usize = n.parse().ok()?;
            if kind == "cost" {
                return Some((None, self.cost(n)?));
            }
            let line = self.file.lines.get(n)?;
            let working = match kind {
                "budget" => self.budget(n, line),
                "results" => self.results(n, line),
                _ => return None,
            };
            return Some((Some(line.id.clone()), working));
        }
        let (now, plan) = (&self.solved.current, &self.solved.totals);
        let working = match figure {
            "gain" => self.gain(),
            "next" => self.next()?,
            "conversions" => {
                self.summed("Conversions", now.conversions, plan.conversions, words::about)
            }
            "value" => self.summed("Value", now.value?, plan.value?, money),
            "cpa" => Working {
                title: "CPA",
                formula: "budgets ÷ conversions of all lines",
                numbers: vec![
                    ("Budgets", self.paid(plan.budget)),
                    ("Conversions", words::about(plan.conversions)),
                    ("Now", numerals::or_absent(now.cpa(), |x| self.paid(x))),
                ],
                result: numerals::or_absent(plan.cpa(), |x| self.paid(x)),
                uncertain: self.open(),
            },
            "roas" => Working {
                title: "ROAS",
                formula: "value ÷ budgets of all lines",
                numbers: vec![
                    ("Value", numerals::or_absent(plan.value, |x| self.paid(x))),
                    ("Budgets", self.paid(plan.budget)),
                    ("Now", numerals::or_absent(now.roas(), |x| number(x, 2))),
                ],
                result: numerals::or_absent(plan.roas(), |x| number(x, 2)),
                uncertain: self.open(),
            },
            _ => return None,
        };
        Some((None, working))
    }

    fn paid(&self, x: f64) -> String {
        format!("{} {}", money(x), self.file.currency)
    }

    fn counted(&self, x: f64) -> String {
        format!("{} {}", words::about(x), words::counts(self.file.goal))
    }

    /// What is open about the goal's count.
    fn open(&self) -> String {
        match self.solved.outlook {
            Some(o) => format!(
                "With a probability of 80% between {} and {}. {DRAWN}",
                words::about(o.result.low),
                self.counted(o.result.high)
            ),
            None => BY_HAND.to_owned(),
        }
    }

    fn gain(&self) -> Working {
        let s = self.solved;
        let uncertain = match s.outlook {
            Some(o) => format!(
                "With a probability of 80% between {} and {}. {DRAWN} Present and plan are counted in the same worlds.",
                signed(o.gain.low, words::about),
                signed(o.gain.high, words::about)
            ),
            None => BY_HAND.to_owned(),
        };
        Working {
            title: "What the plan brings",
            formula: "what all lines bring as planned − what they bring at their present spend",
            numbers: vec![
                ("Planned", words::about(s.objective)),
                ("Present", words::about(s.present)),
            ],
            result: format!(
                "{} {}",
                signed(s.objective - s.present, words::about),
                words::unit(self.file.goal)
            ),
            uncertain,
        }
    }

    fn summed(&self, title: &'static str, now: f64, plan: f64, text: fn(f64) -> String) -> Working {
        Working {
            title,
            formula: "sum of what each line brings at its planned money",
            numbers: vec![("Lines", sum(self.file.lines.len() as f64)), ("Now", text(now))],
            result: text(plan),
            uncertain: self.open(),
        }
    }

    fn next(&self) -> Option<Working> {
        let more = self.solved.next_1000?;
        Some(Working {
            title: "1\u{202f}000 more in total",
            formula: "the best split of 1\u{202f}000 more, within the same limits − the plan",
            numbers: vec![
                ("With 1\u{202f}000 more", words::about(self.solved.objective + more)),
                ("The plan", words::about(self.solved.objective)),
            ],
            result: self.counted(more),
            uncertain: self.open(),
        })
    }

    fn cost(&self, n: usize) -> Option<Working> {
        let (_, _, gain) = self.worked.costs.get(n)?;
        Some(Working {
            title: "What a limit costs",
            formula: "the best split without this limit − the plan",
            numbers: vec![
                ("Without it", words::about(self.solved.objective + gain)),
                ("The plan", words::about(self.solved.objective)),
            ],
            result: self.counted(*gain),
            uncertain: "Every other limit stays as it is.".into(),
        })
    }

    fn budget(&self, n: usize, line: &Line) -> Working {
        let (p, answer) = (&self.worked.problem, &self.solved.lines[n]);
        let thousand = |x: f64| number(1000.0 * x, 2);
        let mut numbers = vec![
            ("1\u{202f}000 more at present", thousand(marginal_at(p, n, line.current.max(0.01)))),
            ("1\u{202f}000 more as planned", thousand(answer.marginal)),
        ];
        let free = self.solved.lines.iter().find(|l| l.held_by == HeldBy::Nothing);
        numbers
            .extend(free.map(|l| ("1\u{202f}000 more where nothing holds", thousand(l.marginal))));
        let change = self.file.limits.max_change.map(|x| [1.0 - x, 1.0 + x]);
        let bounds = [
            ("Set by hand", line.fixed),
            ("Its floor", Some(line.floor).filter(|f| *f > 0.0)),
            ("Its ceiling", line.ceiling),
            ("At least, by the limit on change", change.map(|[low, _]| low * line.current)),
            ("At most, by the limit on change", change.map(|[_, high]| high * line.current)),
            ("All it can spend", line.capacity.map(|c| c * p.days)),
        ];
        numbers.extend(bounds.into_iter().filter_map(|(what, x)| Some((what, self.paid(x?)))));
        let why = why(self.worked, self.solved, n);
        Working {
            title: "Planned budget",
            formula: "money goes where the next 1\u{202f}000 brings most, until all that nothing holds bring as much",
            numbers,
            result: self.paid(answer.budget),
            uncertain: if why.is_empty() { String::new() } else { format!("Here: {why}.") },
        }
    }

    fn results(&self, n: usize, line: &Line) -> Working {
        let (p, answer) = (&self.worked.problem, &self.solved.lines[n]);
        let spent = line.spent(answer.budget, p.days);
        let a_day = spent / p.days;
        let mut numbers = vec![("Money that it spends", self.paid(spent))];
        let by_click = line.cost_per_click().filter(|_| p.goal == Goal::Clicks);
        let formula = match (by_click, line.response) {
            (Some(cpc), _) => {
                numbers.push(("CPC", money(cpc)));
                "money ÷ CPC"
            }
            (None, Curve::Constant { cpc, cvr }) => {
                numbers.push(("CPC", money(cpc)));
                numbers.push(("CVR", format!("{}%", numerals::percent(cvr))));
                "money ÷ CPC × CVR"
            }
            (None, Curve::Power { scale, elasticity }) => {
                numbers.push(("Days", number(p.days, 1)));
                numbers.push(("Money a day", self.paid(a_day)));
                numbers.push(("Level", number(scale, 4)));
                numbers.push(("Elasticity", number(elasticity, 3)));
                "days × level × (money a day) to the power of the elasticity"
            }
            (None, Curve::Saturating { limit, half_at }) => {
                numbers.push(("Days", number(p.days, 1)));
                numbers.push(("Money a day", self.paid(a_day)));
                numbers.push(("Limit a day", number(limit, 2)));
                numbers.push(("Half of it at", self.paid(half_at)));
                "days × limit × money a day ÷ (money a day + money for half of it)"
            }
        };
        let worth =
            line.value_per_conversion.filter(|_| matches!(p.goal, Goal::Value | Goal::Profit));
        numbers.extend(worth.map(|v| ("Value of a conversion", self.paid(v))));
        let margin = line.margin.filter(|_| p.goal == Goal::Profit);
        numbers.extend(margin.map(|m| ("Margin", format!("{}%", numerals::percent(m)))));
        let uncertain = line.precision.filter(|_| p.goal != Goal::Clicks).map(|known| {
            let i = known.interval(line.response, a_day, CONFIDENCE);
            format!(
                "With a probability of 80% between {} and {} conversions. Its days spent {} to {}.",
                words::about(i.low * p.days),
                words::about(i.high * p.days),
                money(known.observed[0]),
                money(known.observed[1])
            )
        });
        Working {
            title: "What it brings",
            formula,
            numbers,
            result: self.counted(brings(p, n, answer.budget)),
            uncertain: uncertain.unwrap_or_else(|| BY_HAND.to_owned()),
        }
    }
}
