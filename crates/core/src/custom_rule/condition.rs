//! What has to hold: comparisons over windows of settled days, joined one level deep.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Senseless, Things};

/// As many clauses as a sentence bears.
pub const MOST: usize = 6;
/// As many days as a window may have.
pub const MOST_DAYS: u16 = 365;

/// What is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Metric {
    /// Times shown.
    Impressions,
    /// Times clicked.
    Clicks,
    /// Money paid.
    Spend,
    /// Results.
    Conversions,
    /// Their revenue.
    Value,
    /// Clicks over impressions.
    Ctr,
    /// Spend over clicks.
    Cpc,
    /// Conversions over clicks.
    Cvr,
    /// Spend over conversions.
    Cpa,
    /// Value over spend.
    Roas,
    /// Spend over value.
    Acos,
    /// Value over conversions.
    Aov,
    /// Days since it was first shown.
    Age,
}
crate::words!(Metric: Impressions "impressions", Clicks "clicks", Spend "spend", Conversions "conversions", Value "value",
    Ctr "ctr", Cpc "cpc", Cvr "cvr", Cpa "cpa", Roas "roas", Acos "acos", Aov "aov", Age "age");

impl Metric {
    /// Whether it is a rate, and not a count.
    pub fn is_rate(self) -> bool {
        use Metric::{Acos, Aov, Cpa, Cpc, Ctr, Cvr, Roas};
        matches!(self, Ctr | Cpc | Cvr | Cpa | Roas | Acos | Aov)
    }

    /// Whether a target says what it should be.
    pub fn has_target(self) -> bool {
        matches!(self, Self::Cpa | Self::Roas | Self::Acos)
    }
}

/// Which days are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Over {
    /// So many last settled days.
    Days(u16),
    /// All settled days since it was first shown.
    Life,
}

/// How it is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Is {
    /// More.
    Above,
    /// Less.
    Below,
    /// This or more.
    AtLeast,
    /// This or less.
    AtMost,
}
crate::words!(Is: Above "above", Below "below", AtLeast "at_least", AtMost "at_most");

impl Is {
    /// Whether `a` is that of `b`. Amounts are told in millionths, so nothing finer parts them.
    pub fn holds(self, a: f64, b: f64) -> bool {
        let close = (a - b).abs() <= 1e-9 * a.abs().max(b.abs());
        match self {
            Self::Above => a > b && !close,
            Self::Below => a < b && !close,
            Self::AtLeast => a > b || close,
            Self::AtMost => a < b || close,
        }
    }

    /// Whether it asks for more.
    pub fn upward(self) -> bool {
        matches!(self, Self::Above | Self::AtLeast)
    }
}

/// With what it is compared.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Than {
    /// A number: money in units of currency, shares as 0.25.
    Value(f64),
    /// So many times the target.
    #[serde(rename = "times_target")]
    Target(f64),
    /// So many times the others of its kind: campaigns of its channel, ad groups and items of its campaign.
    #[serde(rename = "times_peers")]
    Peers(f64),
    /// So many times itself over as many days before.
    #[serde(rename = "times_before")]
    Before(f64),
}

impl Than {
    /// The number in it.
    pub fn number(self) -> f64 {
        match self {
            Self::Value(x) | Self::Target(x) | Self::Peers(x) | Self::Before(x) => x,
        }
    }
}

/// One comparison.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Clause {
    /// What is compared.
    pub metric: Metric,
    /// Over which days.
    pub over: Over,
    /// How.
    pub is: Is,
    /// With what.
    pub than: Than,
}

impl Clause {
    fn check(self) -> Result<(), Senseless> {
        if let Over::Days(days) = self.over
            && !(1..=MOST_DAYS).contains(&days)
        {
            return Err(Senseless::Days(days));
        }
        let number = self.than.number();
        if !(0.0..1e12).contains(&number) {
            return Err(Senseless::Number(number));
        }
        let can = match self.than {
            Than::Value(_) => true,
            Than::Target(_) => self.metric.has_target(),
            Than::Peers(_) => self.metric.is_rate(),
            Than::Before(_) => self.metric != Metric::Age && self.over != Over::Life,
        };
        if can { Ok(()) } else { Err(Senseless::Comparison(self.than)) }
    }
}

/// How clauses are joined.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Join {
    /// All of them have to hold.
    All,
    /// One of them has to.
    Any,
}

impl Join {
    /// The other.
    #[must_use]
    pub fn other(self) -> Self {
        match self {
            Self::All => Self::Any,
            Self::Any => Self::All,
        }
    }
}

/// What has to hold: parts joined in one way, the clauses of each joined in the other.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(from = "Written", into = "Written")]
#[schemars(with = "Written")]
pub struct When {
    /// How the parts are joined.
    pub join: Join,
    /// The parts.
    pub parts: Vec<Vec<Clause>>,
}

/// As it stands in files.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
enum Written {
    /// Every part has to hold; of a part in `any`, one clause.
    All(Vec<AnyOf>),
    /// One part has to hold; of a part in `all`, every clause.
    Any(Vec<AllOf>),
}

#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
enum AnyOf {
    One(Clause),
    Several { any: Vec<Clause> },
}

#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
enum AllOf {
    One(Clause),
    Several { all: Vec<Clause> },
}

impl From<Written> for When {
    fn from(written: Written) -> Self {
        match written {
            Written::All(parts) => {
                let part = |p| match p {
                    AnyOf::One(clause) => vec![clause],
                    AnyOf::Several { any } => any,
                };
                Self { join: Join::All, parts: parts.into_iter().map(part).collect() }
            }
            Written::Any(parts) => {
                let part = |p| match p {
                    AllOf::One(clause) => vec![clause],
                    AllOf::Several { all } => all,
                };
                Self { join: Join::Any, parts: parts.into_iter().map(part).collect() }
            }
        }
    }
}

impl From<When> for Written {
    fn from(when: When) -> Self {
        let parts = when.parts.into_iter();
        match when.join {
            Join::All => Self::All(
                parts
                    .map(
                        |p| if let [c] = p[..] { AnyOf::One(c) } else { AnyOf::Several { any: p } },
                    )
                    .collect(),
            ),
            Join::Any => Self::Any(
                parts
                    .map(
                        |p| if let [c] = p[..] { AllOf::One(c) } else { AllOf::Several { all: p } },
                    )
                    .collect(),
            ),
        }
    }
}

impl When {
    /// All of some clauses.
    pub fn all(clauses: impl IntoIterator<Item = Clause>) -> Self {
        Self { join: Join::All, parts: clauses.into_iter().map(|c| vec![c]).collect() }
    }

    /// All clauses, in order.
    pub fn clauses(&self) -> impl Iterator<Item = Clause> {
        self.parts.iter().flatten().copied()
    }

    pub(super) fn check(&self, things: Things) -> Result<(), Senseless> {
        if self.parts.is_empty() || self.parts.iter().any(Vec::is_empty) {
            return Err(Senseless::NoCondition);
        }
        if self.clauses().count() > MOST {
            return Err(Senseless::TooLong);
        }
        for clause in self.clauses() {
            clause.check()?;
            // Terms are compared with nothing: no report tells who their peers are.
            if things == Things::Terms && matches!(clause.than, Than::Peers(_)) {
                return Err(Senseless::Comparison(clause.than));
            }
        }
        Ok(())
    }

    /// What it comes to where each clause comes to something: `all` for what has to hold together, `any` for what may
    /// hold instead.
    pub fn fold<T>(
        &self,
        each: impl Fn(Clause) -> T,
        all: impl Fn(Vec<T>) -> T,
        any: impl Fn(Vec<T>) -> T,
    ) -> T {
        let join = |how, of| match how {
            Join::All => all(of),
            Join::Any => any(of),
        };
        let part = |p: &Vec<Clause>| join(self.join.other(), p.iter().map(|c| each(*c)).collect());
        join(self.join, self.parts.iter().map(part).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn clause(than: f64) -> Clause {
        let (metric, over) = (Metric::Clicks, Over::Days(7));
        Clause { metric, over, is: Is::AtLeast, than: Than::Value(than) }
    }

    #[test]
    fn groups_are_one_level_deep() {
        let text = r#"{"all":[{"metric":"clicks","over":{"days":7},"is":"at_least","than":{"value":1.0}},
            {"any":[{"metric":"clicks","over":{"days":7},"is":"at_least","than":{"value":2.0}},
                    {"metric":"clicks","over":{"days":7},"is":"at_least","than":{"value":3.0}}]}]}"#;
        let when: When = serde_json::from_str(text).unwrap();
        let parts = vec![vec![clause(1.0)], vec![clause(2.0), clause(3.0)]];
        assert_eq!(when, When { join: Join::All, parts });
        let again = serde_json::to_string(&when).unwrap();
        assert_eq!(serde_json::from_str::<When>(&again).unwrap(), when);
        assert!(serde_json::from_str::<When>(r#"{"all":[{"all":[]}]}"#).is_err(), "no deeper");
    }

    #[test]
    fn all_and_any() {
        let when =
            |join| When { join, parts: vec![vec![clause(1.0)], vec![clause(2.0), clause(3.0)]] };
        let holds = |join, clicks: f64| {
            when(join).fold(
                |c| c.is.holds(clicks, c.than.number()),
                |all| all.into_iter().all(|x| x),
                |any| any.into_iter().any(|x| x),
            )
        };
        assert!(holds(Join::All, 2.0), "1, and 2 or 3");
        assert!(!holds(Join::All, 1.0));
        assert!(holds(Join::Any, 1.0), "1, or 2 and 3");
        assert!(!holds(Join::Any, 0.5));
    }

    #[test]
    fn what_is_reached_is_reached() {
        assert!(Is::AtLeast.holds(0.1 + 0.2, 0.3) && !Is::Above.holds(0.1 + 0.2, 0.3));
        assert!(Is::AtMost.holds(0.0, 0.0) && !Is::Below.holds(0.0, 0.0));
    }
}
