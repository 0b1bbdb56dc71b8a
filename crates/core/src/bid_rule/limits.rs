//! The thresholds of a bid rule, and where they come from (R2): what is left out at an item holds as its ad group has
//! it, then its campaign, then the rule.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::MOST_CLICKS;
use crate::metrics::Tally;
use crate::money::{Micros, Price};
use crate::spot::Spot;

/// The most that sales may cost.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ceiling {
    /// Spend over value.
    Acos(f64),
    /// Spend over conversions, in units of currency.
    Cpa(Price),
}

impl Ceiling {
    /// What may have been spent for what was counted.
    pub fn allows(self, counted: &Tally) -> Micros {
        Micros::from_units(match self {
            Self::Acos(share) => share * counted.value.to_units(),
            Self::Cpa(price) => price.units() * counted.conversions,
        })
    }

    fn number(self) -> f64 {
        match self {
            Self::Acos(share) => share,
            Self::Cpa(price) => price.units(),
        }
    }
}

/// One threshold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Field {
    /// Spend without a sale.
    SpendWithoutSale,
    /// The most that sales may cost.
    Ceiling,
    /// Amount above the average CPC.
    Headroom,
    /// Lowest bid.
    LowestBid,
    /// Clicks before acting.
    Clicks,
    /// Least conversion rate where sales barely pay.
    LeastCvr,
}
crate::words!(Field: SpendWithoutSale "spend_without_sale", Ceiling "ceiling", Headroom "headroom", LowestBid "lowest_bid",
    Clicks "clicks_before_acting", LeastCvr "min_cvr_near_break_even");

/// The thresholds that are set at one place; the others are inherited.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Limits {
    /// Spend without a sale at which it stops.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub spend_without_sale: Option<Micros>,
    /// The most that sales may cost.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ceiling: Option<Ceiling>,
    /// What a bid is above the average click.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub headroom: Option<Micros>,
    /// What no bid goes below.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lowest_bid: Option<Micros>,
    /// Clicks before acting.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clicks: Option<u32>,
    /// Conversions a click that are asked of sales that barely pay; 0 asks for none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub least_cvr: Option<f64>,
}

/// All of them.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Thresholds {
    /// Spend without a sale at which it stops.
    pub spend_without_sale: Micros,
    /// The most that sales may cost.
    pub ceiling: Ceiling,
    /// What a bid is above the average click.
    pub headroom: Micros,
    /// What no bid goes below.
    pub lowest_bid: Micros,
    /// Clicks before acting.
    pub clicks: u32,
    /// Conversions a click that are asked of sales that barely pay; 0 asks for none.
    pub least_cvr: f64,
}

/// A threshold that makes no sense.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}", match .0 {
    Field::SpendWithoutSale => "spend without a sale is an amount above 0",
    Field::Ceiling => "the most that sales may cost is a share of their value above 0%, or an amount above 0",
    Field::Headroom => "the amount above the average CPC is an amount of 0 or more",
    Field::LowestBid => "the lowest bid is an amount above 0",
    Field::Clicks => "clicks before acting are a whole number from 1 to 20: after 20 clicks enough is known",
    Field::LeastCvr => "the least conversion rate is from 0% to 100%",
})]
pub struct Senseless(pub Field);

impl Limits {
    /// These, and what they leave out as it is above.
    #[must_use]
    pub fn or(self, above: Self) -> Self {
        Self {
            spend_without_sale: self.spend_without_sale.or(above.spend_without_sale),
            ceiling: self.ceiling.or(above.ceiling),
            headroom: self.headroom.or(above.headroom),
            lowest_bid: self.lowest_bid.or(above.lowest_bid),
            clicks: self.clicks.or(above.clicks),
            least_cvr: self.least_cvr.or(above.least_cvr),
        }
    }

    /// One of them alone.
    #[must_use]
    pub fn only(self, field: Field) -> Self {
        let mut one = Self::default();
        match field {
            Field::SpendWithoutSale => one.spend_without_sale = self.spend_without_sale,
            Field::Ceiling => one.ceiling = self.ceiling,
            Field::Headroom => one.headroom = self.headroom,
            Field::LowestBid => one.lowest_bid = self.lowest_bid,
            Field::Clicks => one.clicks = self.clicks,
            Field::LeastCvr => one.least_cvr = self.least_cvr,
        }
        one
    }

    /// All but one of them.
    #[must_use]
    pub fn without(self, field: Field) -> Self {
        let others = Field::ALL.into_iter().filter(|f| *f != field);
        others.fold(Self::default(), |all, f| all.or(self.only(f)))
    }

    /// Whether one is set.
    pub fn has(self, field: Field) -> bool {
        self.only(field) != Self::default()
    }

    /// Whether none is set.
    pub fn is_empty(self) -> bool {
        self == Self::default()
    }

    /// All of them; the first that is missing otherwise.
    pub fn complete(self) -> Result<Thresholds, Field> {
        Ok(Thresholds {
            spend_without_sale: self.spend_without_sale.ok_or(Field::SpendWithoutSale)?,
            ceiling: self.ceiling.ok_or(Field::Ceiling)?,
            headroom: self.headroom.ok_or(Field::Headroom)?,
            lowest_bid: self.lowest_bid.ok_or(Field::LowestBid)?,
            clicks: self.clicks.ok_or(Field::Clicks)?,
            least_cvr: self.least_cvr.ok_or(Field::LeastCvr)?,
        })
    }

    /// That what is set makes sense.
    pub fn check(self) -> Result<Self, Senseless> {
        let fine = |field| match field {
            Field::SpendWithoutSale => self.spend_without_sale.is_none_or(|m| m > Micros::ZERO),
            Field::Ceiling => self.ceiling.is_none_or(|c| c.number() > 0.0 && c.number() < 1e9),
            Field::Headroom => self.headroom.is_none_or(|m| m >= Micros::ZERO),
            Field::LowestBid => self.lowest_bid.is_none_or(|m| m > Micros::ZERO),
            Field::Clicks => self.clicks.is_none_or(|n| (1..=MOST_CLICKS).contains(&n)),
            Field::LeastCvr => self.least_cvr.is_none_or(|q| (0.0..=1.0).contains(&q)),
        };
        Field::ALL.into_iter().find(|f| !fine(*f)).map_or(Ok(self), |f| Err(Senseless(f)))
    }
}

impl From<Thresholds> for Limits {
    fn from(t: Thresholds) -> Self {
        Self {
            spend_without_sale: Some(t.spend_without_sale),
            ceiling: Some(t.ceiling),
            headroom: Some(t.headroom),
            lowest_bid: Some(t.lowest_bid),
            clicks: Some(t.clicks),
            least_cvr: Some(t.least_cvr),
        }
    }
}

/// Thresholds of a rule, and where they are refined.
///
/// ```
/// use tiller_core::bid_rule::{Field, Limits, Tree};
/// use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
/// use tiller_core::spot::Spot;
/// let campaign = Spot::of(CampaignId(1));
/// let item = campaign.ad_group(AdGroupId(2)).item(ItemId(3));
/// let mut tree = Tree::new(Limits { clicks: Some(10), ..Limits::default() });
/// tree.set(campaign, Limits { clicks: Some(5), ..Limits::default() });
/// assert_eq!(tree.at(item).clicks, Some(5));
/// assert_eq!(tree.source(item, Field::Clicks), Some(Some(campaign)));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tree {
    /// Those of the rule itself.
    pub top: Limits,
    #[serde(with = "pairs")]
    refined: BTreeMap<Spot, Limits>,
}

/// A map whose keys are no text is written as pairs.
mod pairs {
    use std::collections::BTreeMap;

    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use super::{Limits, Spot};

    pub fn serialize<S: Serializer>(
        map: &BTreeMap<Spot, Limits>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        map.iter().collect::<Vec<_>>().serialize(serializer)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<BTreeMap<Spot, Limits>, D::Error> {
        Vec::<(Spot, Limits)>::deserialize(deserializer).map(|all| all.into_iter().collect())
    }
}

impl Tree {
    /// Thresholds that hold everywhere.
    pub fn new(top: Limits) -> Self {
        Self { top, refined: BTreeMap::new() }
    }

    /// What is set at a place itself.
    pub fn own(&self, spot: Spot) -> Limits {
        self.refined.get(&spot).copied().unwrap_or_default()
    }

    /// Sets what is set at a place itself.
    pub fn set(&mut self, spot: Spot, limits: Limits) {
        if limits.is_empty() {
            self.refined.remove(&spot);
        } else {
            self.refined.insert(spot, limits);
        }
    }

    /// Where something is set besides the rule itself.
    pub fn refined(&self) -> impl Iterator<Item = (Spot, Limits)> {
        self.refined.iter().map(|(spot, limits)| (*spot, *limits))
    }

    /// What holds at a place.
    pub fn at(&self, spot: Spot) -> Limits {
        let way = std::iter::successors(Some(spot), |s| s.up());
        way.fold(Limits::default(), |held, s| held.or(self.own(s))).or(self.top)
    }

    /// Where a threshold of a place is set: at itself or a place that it lies in; `Some(None)` is the rule, and none
    /// where it is set nowhere.
    pub fn source(&self, spot: Spot, field: Field) -> Option<Option<Spot>> {
        let mut way = std::iter::successors(Some(spot), |s| s.up());
        match way.find(|s| self.own(*s).has(field)) {
            Some(at) => Some(Some(at)),
            None => self.top.has(field).then_some(None),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_threshold_that_makes_no_sense_is_named() {
        let wrong = [
            (Limits { clicks: Some(21), ..Limits::default() }, Field::Clicks),
            (Limits { clicks: Some(0), ..Limits::default() }, Field::Clicks),
            (Limits { least_cvr: Some(f64::NAN), ..Limits::default() }, Field::LeastCvr),
            (Limits { ceiling: Some(Ceiling::Acos(0.0)), ..Limits::default() }, Field::Ceiling),
            (
                Limits { ceiling: Some(Ceiling::Cpa(Price(f64::INFINITY))), ..Limits::default() },
                Field::Ceiling,
            ),
            (Limits { lowest_bid: Some(Micros::ZERO), ..Limits::default() }, Field::LowestBid),
            (Limits { headroom: Some(Micros::new(-1)), ..Limits::default() }, Field::Headroom),
            (
                Limits { spend_without_sale: Some(Micros::ZERO), ..Limits::default() },
                Field::SpendWithoutSale,
            ),
        ];
        for (limits, field) in wrong {
            assert_eq!(limits.check(), Err(Senseless(field)));
        }
        assert!(Limits { headroom: Some(Micros::ZERO), ..Limits::default() }.check().is_ok());
    }

    #[test]
    fn what_is_missing_is_named() {
        assert_eq!(Limits::default().complete(), Err(Field::SpendWithoutSale));
        let all = Thresholds {
            spend_without_sale: Micros::from_units(20.0),
            ceiling: Ceiling::Acos(0.3),
            headroom: Micros::ZERO,
            lowest_bid: Micros::from_units(0.1),
            clicks: 10,
            least_cvr: 0.0,
        };
        assert_eq!(Limits::from(all).complete(), Ok(all));
        for field in Field::ALL {
            assert_eq!(Limits::from(all).without(field).complete(), Err(field));
            assert_eq!(Field::read(field.word()), Some(field));
        }
    }
}
