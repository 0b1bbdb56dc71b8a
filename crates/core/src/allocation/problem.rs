//! What is asked: lines, groups, a goal, a total and limits.

use std::collections::{HashMap, HashSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::precision::Precision;
use super::response::Response;

/// An allocation to be solved. Money in units of one currency, over the whole period.
#[derive(Clone, Debug, PartialEq)]
pub struct Problem {
    /// What there should be most of.
    pub goal: Goal,
    /// The money.
    pub total: Total,
    /// Budgets are whole multiples of this, such as 0.01; 0 asks for the unrounded optimum.
    pub step: f64,
    /// Length of the period in days; responses are per day.
    pub days: f64,
    /// What such a period's own chance does to what the goal counts; absent where it is not known.
    pub noise: Option<Noise>,
    /// What the money can go to.
    pub lines: Vec<Line>,
    /// Nested groups of lines.
    pub groups: Vec<Group>,
    /// Limits on the whole.
    pub limits: Limits,
}

/// A period's own chance.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Noise {
    /// Variance over mean of what the goal counts in the period, in its own units.
    pub dispersion: f64,
    /// How far all results together may drift until then, as a standard deviation of their logarithm.
    pub drift: f64,
}

/// What there should be most of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Goal {
    /// Most conversions.
    Conversions,
    /// Most conversion value.
    Value,
    /// Most clicks.
    Clicks,
    /// Most margin × value − spend.
    Profit,
    /// Least money for at least `limits.min_conversions`.
    LeastSpend,
}
crate::words!(Goal: Conversions "conversions", Value "value", Clicks "clicks", Profit "profit", LeastSpend "least_spend");

/// The money to be split.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Total {
    /// How much.
    pub amount: f64,
    /// Whether all of it has to be spent.
    #[serde(rename = "use")]
    pub spend: Use,
}

/// Whether all of the total has to be spent.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Use {
    /// All of it.
    All,
    /// No more than it.
    UpTo,
}
crate::words!(Use: All "all", UpTo "up_to");

/// One thing that money can go to: a campaign or an ad group.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Line {
    /// Its name in the plan, unique.
    pub id: String,
    /// The group that it belongs to.
    #[serde(default)]
    pub group: Option<String>,
    /// What it spends in such a period now.
    #[serde(default, deserialize_with = "or_default")]
    #[schemars(with = "Option<f64>")]
    pub current: f64,
    /// What a conversion is worth.
    #[serde(default)]
    pub value_per_conversion: Option<f64>,
    /// Share of the value left before advertising.
    #[serde(default)]
    pub margin: Option<f64>,
    /// Cost per click, where the response does not tell it.
    #[serde(default)]
    pub cpc: Option<f64>,
    /// How it answers to money.
    pub response: Response,
    /// The least it gets.
    #[serde(default, deserialize_with = "or_default")]
    #[schemars(with = "Option<f64>")]
    pub floor: f64,
    /// The most it gets.
    #[serde(default)]
    pub ceiling: Option<f64>,
    /// What it gets, whatever the others do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fixed: Option<f64>,
    /// The most that it can spend a day: its demand, at its bid or target.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capacity: Option<f64>,
    /// How well its response is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub precision: Option<Precision>,
}

impl Line {
    /// A line without limits of which only the response is known.
    pub fn new(id: impl Into<String>, response: Response) -> Self {
        Self {
            id: id.into(),
            group: None,
            current: 0.0,
            value_per_conversion: None,
            margin: None,
            cpc: None,
            response,
            floor: 0.0,
            ceiling: None,
            fixed: None,
            capacity: None,
            precision: None,
        }
    }

    /// Conversions of a period at some money: what it can't spend brings none.
    pub fn results(&self, money: f64, days: f64) -> f64 {
        days * self.response.at(self.spent(money, days) / days)
    }

    /// What it spends of a period's money.
    pub fn spent(&self, money: f64, days: f64) -> f64 {
        self.capacity.map_or(money, |most| money.min(most * days))
    }

    /// Its cost per click, if known.
    pub fn cost_per_click(&self) -> Option<f64> {
        match self.response {
            Response::Constant { cpc, .. } => Some(cpc),
            _ => self.cpc,
        }
    }
}

/// Lines, or groups of them, with a floor and a ceiling together.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Group {
    /// Its name, unique among groups.
    pub id: String,
    /// The group around it.
    #[serde(default)]
    pub parent: Option<String>,
    /// The least its lines get together.
    #[serde(default)]
    pub floor: Option<f64>,
    /// The most its lines get together.
    #[serde(default)]
    pub ceiling: Option<f64>,
    /// The least, as a share of the total.
    #[serde(default)]
    pub share_floor: Option<f64>,
    /// The most, as a share of the total.
    #[serde(default)]
    pub share_ceiling: Option<f64>,
}

/// Limits on the whole plan.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    /// CPA at most.
    #[serde(default)]
    pub max_cpa: Option<f64>,
    /// ROAS at least.
    #[serde(default)]
    pub min_roas: Option<f64>,
    /// No line moves by more than this share of its present spend.
    #[serde(default)]
    pub max_change: Option<f64>,
    /// Conversions at least.
    #[serde(default)]
    pub min_conversions: Option<f64>,
}

impl Limits {
    /// The limits that all lines have to meet together.
    pub(super) fn on_the_whole(&self) -> impl Iterator<Item = f64> {
        [self.max_cpa, self.min_roas, self.min_conversions].into_iter().flatten()
    }
}

/// A field that stands as `null` is left out.
pub fn or_default<'de, D, T>(from: D) -> Result<T, D::Error>
where
    D: serde::Deserializer<'de>,
    T: Deserialize<'de> + Default,
{
    Ok(Option::<T>::deserialize(from)?.unwrap_or_default())
}

/// A value that makes no sense, with its place.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[error("{path}: {found} found; {allowed}")]
pub struct ProblemError {
    /// JSON path of the value, such as `lines[3].floor`.
    pub path: String,
    /// What stands there.
    pub found: String,
    /// What is allowed.
    pub allowed: &'static str,
}

struct Checker;

impl Checker {
    fn number(
        path: impl Into<String>,
        x: f64,
        ok: bool,
        allowed: &'static str,
    ) -> Result<(), ProblemError> {
        if ok && !x.is_nan() {
            return Ok(());
        }
        Err(ProblemError { path: path.into(), found: x.to_string(), allowed })
    }
    fn optional(
        path: impl Into<String>,
        x: Option<f64>,
        ok: impl Fn(f64) -> bool,
        allowed: &'static str,
    ) -> Result<(), ProblemError> {
        x.map_or(Ok(()), |x| Self::number(path, x, ok(x), allowed))
    }
    fn present(path: String, x: Option<f64>, allowed: &'static str) -> Result<(), ProblemError> {
        if x.is_some() {
            return Ok(());
        }
        Err(ProblemError { path, found: "nothing".into(), allowed })
    }
}

const AMOUNT: &str = "an amount of 0 or more is allowed";
const ABOVE_ZERO: &str = "a number above 0 is allowed";
const SHARE: &str = "a share from 0 to 1 is allowed";

fn amount(x: f64) -> bool {
    (0.0..1e15).contains(&x)
}
fn positive(x: f64) -> bool {
    x > 0.0 && x < 1e15
}

impl Problem {
    /// Checks every value; the first that makes no sense is named.
    pub fn check(&self) -> Result<(), ProblemError> {
        Checker::number("total.amount", self.total.amount, amount(self.total.amount), AMOUNT)?;
        Checker::number("step", self.step, amount(self.step), AMOUNT)?;
        Checker::number("days", self.days, positive(self.days), ABOVE_ZERO)?;
        let steps = self.total.amount / self.step;
        // A sum of whole cents is off by its binary form, the more the larger it is.
        let near = (4.0 * f64::EPSILON * steps).max(1e-6);
        let whole = self.step == 0.0 || (steps - steps.round()).abs() < near;
        Checker::number(
            "total.amount",
            self.total.amount,
            whole,
            "a whole multiple of step is allowed",
        )?;
        let wants_number = steps < 1e15 || self.step == 0.0;
        Checker::number(
            "step",
            self.step,
            wants_number,
            "a step of at least total ÷ 10¹⁵ is allowed",
        )?;
        if let Some(noise) = self.noise {
            let path = "noise.dispersion";
            Checker::number(path, noise.dispersion, amount(noise.dispersion), AMOUNT)?;
            let allowed = "a deviation from 0 to 10 is allowed";
            Checker::number(
                "noise.drift",
                noise.drift,
                (0.0..=10.0).contains(&noise.drift),
                allowed,
            )?;
        }
        self.check_limits()?;
        self.check_groups()?;
        let groups: HashSet<&str> = self.groups.iter().map(|g| g.id.as_str()).collect();
        let mut seen = HashSet::new();
        for (i, line) in self.lines.iter().enumerate() {
            self.check_line(&format!("lines[{i}]"), line, &groups)?;
            if !seen.insert(&line.id) {
                return Err(taken(format!("lines[{i}].id"), &line.id));
            }
        }
        Ok(())
    }

    fn check_limits(&self) -> Result<(), ProblemError> {
        let l = &self.limits;
        Checker::optional("limits.max_cpa", l.max_cpa, positive, ABOVE_ZERO)?;
        Checker::optional("limits.min_roas", l.min_roas, positive, ABOVE_ZERO)?;
        Checker::optional(
            "limits.max_change",
            l.max_change,
            amount,
            "a share of 0 or more is allowed (0.2 is ±20%)",
        )?;
        Checker::optional("limits.min_conversions", l.min_conversions, amount, AMOUNT)?;
        if self.goal == Goal::LeastSpend {
            Checker::present(
                "limits.min_conversions".into(),
                l.min_conversions,
                "the goal least_spend needs the number of conversions to reach",
            )?;
        }
        Ok(())
    }

    fn check_groups(&self) -> Result<(), ProblemError> {
        let mut parents: HashMap<&str, Option<&str>> = HashMap::new();
        for (i, g) in self.groups.iter().enumerate() {
            if parents.insert(&g.id, g.parent.as_deref()).is_some() {
                return Err(taken(format!("groups[{i}].id"), &g.id));
            }
        }
        for (i, g) in self.groups.iter().enumerate() {
            let at = format!("groups[{i}]");
            Checker::optional(format!("{at}.floor"), g.floor, amount, AMOUNT)?;
            Checker::optional(format!("{at}.ceiling"), g.ceiling, amount, AMOUNT)?;
            let share = |x: f64| (0.0..=1.0).contains(&x);
            Checker::optional(format!("{at}.share_floor"), g.share_floor, share, SHARE)?;
            Checker::optional(format!("{at}.share_ceiling"), g.share_ceiling, share, SHARE)?;
            let mut up = g.parent.as_deref();
            for _ in 0..=self.groups.len() {
                let Some(name) = up else { break };
                up = match parents.get(name) {
                    Some(next) => *next,
                    None => return Err(unknown(format!("{at}.parent"), name)),
                };
            }
            if up.is_some() {
                return Err(ProblemError {
                    path: format!("{at}.parent"),
                    found: format!("‘{}’", g.parent.as_deref().unwrap_or_default()),
                    allowed: "a group may not contain itself",
                });
            }
        }
        Ok(())
    }

    fn check_line(
        &self,
        at: &str,
        line: &Line,
        groups: &HashSet<&str>,
    ) -> Result<(), ProblemError> {
        if let Some(group) = line.group.as_deref().filter(|g| !groups.contains(g)) {
            return Err(unknown(format!("{at}.group"), group));
        }
        Checker::number(format!("{at}.current"), line.current, amount(line.current), AMOUNT)?;
        Checker::number(format!("{at}.floor"), line.floor, amount(line.floor), AMOUNT)?;
        Checker::optional(format!("{at}.ceiling"), line.ceiling, amount, AMOUNT)?;
        Checker::optional(format!("{at}.fixed"), line.fixed, amount, AMOUNT)?;
        Checker::optional(format!("{at}.capacity"), line.capacity, amount, AMOUNT)?;
        if let Some(p) = &line.precision {
            let at = format!("{at}.precision");
            Checker::number(
                format!("{at}.reference"),
                p.reference,
                positive(p.reference),
                ABOVE_ZERO,
            )?;
            for (i, x) in p.observed.into_iter().enumerate() {
                Checker::number(format!("{at}.observed[{i}]"), x, amount(x), AMOUNT)?;
            }
            for (i, x) in [p.covariance[0][0], p.covariance[1][1]].into_iter().enumerate() {
                let at = format!("{at}.covariance[{i}][{i}]");
                Checker::number(
                    at,
                    x,
                    (0.0..100.0).contains(&x),
                    "a variance from 0 to 100 is allowed",
                )?;
            }
            for (name, shared, i) in [
                ("level_shared", p.level_shared, 0),
                ("spread_shared", p.spread_shared, 0),
                ("form_shared", p.form_shared, 1),
            ] {
                let by = shared.map_or(0.0, |s| s.by);
                let fits = by * by <= p.covariance[i][i] * (1.0 + 1e-6) + 1e-12;
                let allowed = "no more than the deviation of the covariance is allowed";
                Checker::number(format!("{at}.{name}.by"), by, fits, allowed)?;
            }
            let both = p.covariance[0][1];
            let most = (p.covariance[0][0] * p.covariance[1][1]).sqrt() * (1.0 + 1e-6) + 1e-12;
            let alike = (p.covariance[1][0] - both).abs() <= 1e-9 && both.abs() <= most;
            Checker::number(
                format!("{at}.covariance"),
                both,
                alike,
                "a covariance is symmetric and no larger than its variances allow",
            )?;
        }
        Checker::optional(
            format!("{at}.value_per_conversion"),
            line.value_per_conversion,
            amount,
            AMOUNT,
        )?;
        Checker::optional(
            format!("{at}.margin"),
            line.margin,
            |m| (0.0..=1.0).contains(&m),
            SHARE,
        )?;
        Checker::optional(format!("{at}.cpc"), line.cpc, positive, ABOVE_ZERO)?;
        let r = format!("{at}.response");
        match line.response {
            Response::Constant { cpc, cvr } => {
                Checker::number(format!("{r}.cpc"), cpc, positive(cpc), ABOVE_ZERO)?;
                Checker::number(format!("{r}.cvr"), cvr, amount(cvr), AMOUNT)?;
            }
            Response::Power { scale, elasticity } => {
                Checker::number(format!("{r}.scale"), scale, amount(scale), AMOUNT)?;
                let ok = elasticity > 0.0 && elasticity < 1.0;
                let allowed = "above 0 and below 1 is allowed; for 1 use the kind constant";
                Checker::number(format!("{r}.elasticity"), elasticity, ok, allowed)?;
            }
            Response::Saturating { limit, half_at } => {
                Checker::number(format!("{r}.limit"), limit, amount(limit), AMOUNT)?;
                Checker::number(format!("{r}.half_at"), half_at, positive(half_at), ABOVE_ZERO)?;
            }
        }
        let value = || {
            let path = format!("{at}.value_per_conversion");
            Checker::present(
                path,
                line.value_per_conversion,
                "this goal or limit needs what a conversion is worth",
            )
        };
        match self.goal {
            Goal::Value => value()?,
            Goal::Profit => {
                value()?;
                Checker::present(
                    format!("{at}.margin"),
                    line.margin,
                    "the goal profit needs the margin",
                )?;
            }
            Goal::Clicks => {
                let needs = "the goal clicks needs a cost per click on every line";
                Checker::present(format!("{at}.cpc"), line.cost_per_click(), needs)?;
            }
            Goal::Conversions | Goal::LeastSpend => {}
        }
        if self.limits.min_roas.is_some() { value() } else { Ok(()) }
    }
}

fn taken(path: String, id: &str) -> ProblemError {
    ProblemError {
        path,
        found: format!("‘{id}’ a second time"),
        allowed: "every id may be used once",
    }
}

fn unknown(path: String, id: &str) -> ProblemError {
    ProblemError {
        path,
        found: format!("‘{id}’"),
        allowed: "the id of one of the groups is allowed",
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    pub fn line(id: &str, response: Response) -> Line {
        Line {
            current: 50.0,
            value_per_conversion: Some(40.0),
            margin: Some(0.5),
            cpc: Some(1.0),
            ..Line::new(id, response)
        }
    }

    pub fn power(id: &str, scale: f64, elasticity: f64) -> Line {
        line(id, Response::Power { scale, elasticity })
    }

    pub fn constant(id: &str, cpc: f64, cvr: f64) -> Line {
        line(id, Response::Constant { cpc, cvr })
    }

    pub fn problem(total: f64, lines: Vec<Line>) -> Problem {
        Problem {
            goal: Goal::Conversions,
            total: Total { amount: total, spend: Use::All },
            step: 0.0,
            days: 1.0,
            noise: None,
            lines,
            groups: Vec::new(),
            limits: Limits::default(),
        }
    }

    #[test]
    fn errors_name_their_place() {
        let mut p = problem(100.0, vec![power("a", 1.0, 0.5), power("b", 1.0, 1.0)]);
        assert_eq!(p.check().unwrap_err().path, "lines[1].response.elasticity");
        p.lines[1] = power("a", 1.0, 0.5);
        assert_eq!(p.check().unwrap_err().path, "lines[1].id");
        p.lines[1] = Line { group: Some("x".into()), ..power("b", 1.0, 0.5) };
        assert_eq!(p.check().unwrap_err().path, "lines[1].group");
        p.groups = vec![Group { id: "x".into(), parent: Some("x".into()), ..Group::default() }];
        assert_eq!(p.check().unwrap_err().path, "groups[0].parent");
        p.groups[0].parent = None;
        p.check().unwrap();
        p.step = 0.03;
        assert_eq!(p.check().unwrap_err().path, "total.amount");
        p.step = 0.01;
        p.goal = Goal::LeastSpend;
        assert_eq!(p.check().unwrap_err().path, "limits.min_conversions");
        p.goal = Goal::Profit;
        p.lines[0].margin = None;
        assert_eq!(p.check().unwrap_err().path, "lines[0].margin");
        p.total.amount = f64::NAN;
        assert_eq!(p.check().unwrap_err().path, "total.amount");
    }
}
