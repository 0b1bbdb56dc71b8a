//! The catalogue of figures: what each is called, what it counts in, how it is computed, from which numbers, and what is
//! uncertain about it. Tables, files and workings read this one table.

// The entries of one table have one shape, whether or not each of them may be absent.
#![allow(clippy::unnecessary_wraps)]

mod doubt;
mod unit;
mod working;

use tiller_core::{Tally, Target};

use crate::book::Book;
use crate::rows::{Level, Row};
pub use unit::Unit;
pub use working::{Ratio, Working, aov, cpa, cpc};

/// What a figure is read of.
#[derive(Clone, Copy)]
pub struct Seen<'a> {
    /// The row.
    pub row: &'a Row,
    /// What shares are shares of.
    pub whole: &'a Tally,
    /// What that is.
    pub whole_is: &'static str,
}

/// A figure: its key in addresses and files, how it is shown, and how it is worked out.
pub struct Figure {
    /// Names it in addresses and files.
    pub key: &'static str,
    /// Above a column.
    pub title: &'static str,
    /// In full.
    pub name: &'static str,
    /// What it counts in.
    pub unit: Unit,
    /// The figure of a row.
    pub value: fn(&Seen) -> Option<f64>,
    /// How it is computed.
    formula: fn(&Seen) -> &'static str,
    /// The numbers that it is computed of; none where there are none to compute it of.
    numbers: fn(&Seen, &Book) -> Option<working::Numbers>,
    /// What is uncertain about it.
    uncertain: fn(&Seen, &Book) -> String,
    /// Above 0 is harm (1) or gain (−1).
    pub sign: i8,
    /// Shown unless the person chose otherwise: for cost accounts, for value accounts.
    usual: (bool, bool),
    /// Only of parts of a campaign.
    of_parts: bool,
}

impl Figure {
    /// By its key.
    pub fn of(key: &str) -> Option<&'static Self> {
        CATALOGUE.iter().find(|f| f.key == key)
    }

    /// A number of it for a row, as a table writes it; a target as what it is a target of.
    pub fn written(&self, seen: &Seen, x: f64) -> String {
        let target = seen.row.target.filter(|_| self.unit == Unit::Target);
        target.map_or_else(|| self.unit.text(x), crate::numerals::target)
    }

    /// Whether rows of a level have it.
    pub fn fits(&self, level: Level) -> bool {
        !self.of_parts || level != Level::Campaigns
    }

    const fn usually(mut self, for_cost: bool, for_value: bool) -> Self {
        self.usual = (for_cost, for_value);
        self
    }

    const fn harmful(mut self, sign: i8) -> Self {
        self.sign = sign;
        self
    }

    const fn of_parts(mut self) -> Self {
        self.of_parts = true;
        self
    }
}

/// The figures that a table shows unless somebody chose others.
pub fn usual(by_value: bool, level: Level) -> impl Iterator<Item = &'static Figure> {
    CATALOGUE
        .iter()
        .filter(move |f| if by_value { f.usual.1 } else { f.usual.0 })
        .filter(move |f| f.fits(level))
}

/// Those that set a row beside its peers: of accounts that look at cost, or at value.
pub fn beside_peers(by_value: bool) -> &'static str {
    if by_value {
        "spend,conversions,cpc,cpc_peers,cvr,cvr_peers,roas,roas_peers,excess"
    } else {
        "spend,conversions,cpc,cpc_peers,cvr,cvr_peers,cpa,cpa_peers,excess"
    }
}

impl<'a> Seen<'a> {
    /// A row of an account.
    pub fn of(row: &'a Row, account: &'a Tally) -> Self {
        Self { row, whole: account, whole_is: "The account" }
    }

    fn now(&self) -> &Tally {
        &self.row.tally
    }

    fn by_value(&self) -> bool {
        matches!(self.row.target, Some(Target::Roas(_)))
    }

    /// What results are told by: their value, or their number.
    fn results(&self, t: &Tally) -> f64 {
        if self.by_value() { t.value.to_units() } else { t.conversions }
    }

    fn beside_peers(&self, of: Ratio) -> Option<f64> {
        let (own, peers) = self.row.peers.as_ref()?;
        let theirs = of(peers).filter(|p| *p > 0.0)?;
        Some(of(own)? / theirs - 1.0)
    }

    fn change(&self, of: Ratio) -> Option<f64> {
        let before = of(self.row.against.as_ref()?)?;
        (before > 0.0).then_some(of(self.now())? / before - 1.0)
    }
}

fn share(part: f64, of: f64) -> Option<f64> {
    (of > 0.0).then(|| part / of)
}

fn spend(t: &Tally) -> Option<f64> {
    Some(t.spend.to_units())
}

fn conversions(t: &Tally) -> Option<f64> {
    Some(t.conversions)
}

/// A figure with its working still to be said.
const fn figure(
    key: &'static str,
    title: &'static str,
    name: &'static str,
    unit: Unit,
    value: fn(&Seen) -> Option<f64>,
) -> Figure {
    Figure {
        key,
        title,
        name,
        unit,
        value,
        formula: |_| "",
        numbers: |_, _| Some(Vec::new()),
        uncertain: |_, _| working::EXACT.into(),
        sign: 0,
        usual: (false, false),
        of_parts: false,
    }
}

impl Figure {
    const fn worked(
        mut self,
        formula: fn(&Seen) -> &'static str,
        numbers: fn(&Seen, &Book) -> Option<working::Numbers>,
    ) -> Self {
        self.formula = formula;
        self.numbers = numbers;
        self
    }

    const fn uncertain(mut self, uncertain: fn(&Seen, &Book) -> String) -> Self {
        self.uncertain = uncertain;
        self
    }
}

/// All figures, in the order in which they are offered.
pub const CATALOGUE: &[Figure] = &[
    figure("spend", "Spend", "Spend", Unit::Money, |s| spend(s.now()))
        .worked(|_| "sum of what the channel charged", working::charged)
        .usually(true, true),
    figure("share", "Share %", "Share of spend", Unit::Percent, |s| {
        share(s.now().spend.to_units(), s.whole.spend.to_units())
    })
    .worked(
        |_| "spend ÷ spend of the whole",
        |s, b| working::parts(s, b, s.whole, false, s.whole_is),
    )
    .usually(true, true),
    figure("result_share", "Results %", "Share of results", Unit::Percent, |s| {
        share(s.results(s.now()), s.results(s.whole))
    })
    .worked(
        |s| {
            if s.by_value() {
                "value ÷ value of the whole"
            } else {
                "conversions ÷ conversions of the whole"
            }
        },
        |s, b| working::parts(s, b, s.whole, true, s.whole_is),
    )
    .uncertain(|_, b| doubt::late(b)),
    figure("pool_share", "Of campaign %", "Share of spend", Unit::Percent, |s| {
        share(s.now().spend.to_units(), s.row.pool?.spend.to_units())
    })
    .worked(
        |_| "spend ÷ spend of its campaign",
        |s, b| working::parts(s, b, s.row.pool.as_ref()?, false, "Its campaign"),
    )
    .usually(true, true)
    .of_parts(),
    figure("pool_results", "Of its results %", "Share of results", Unit::Percent, |s| {
        share(s.results(s.now()), s.results(&s.row.pool?))
    })
    .worked(
        |s| {
            if s.by_value() {
                "value ÷ value of its campaign"
            } else {
                "conversions ÷ conversions of its campaign"
            }
        },
        |s, b| working::parts(s, b, s.row.pool.as_ref()?, true, "Its campaign"),
    )
    .uncertain(|_, b| doubt::late(b))
    .usually(true, true)
    .of_parts(),
    figure("impressions", "Impressions", "Impressions", Unit::Count, |s| {
        Some(s.now().impressions as f64)
    })
    .worked(|_| "times shown, as reported", |_, _| Some(Vec::new())),
    figure("ctr", "CTR %", "Click-through rate (CTR)", Unit::Percent, |s| s.now().ctr())
        .worked(
            |_| "clicks ÷ impressions",
            |s, _| {
                let t = s.now();
                Some(vec![
                    ("Clicks", working::number(t.clicks as f64)),
                    ("Impressions", working::number(t.impressions as f64)),
                ])
            },
        )
        .uncertain(doubt::click_range),
    figure("clicks", "Clicks", "Clicks", Unit::Count, |s| Some(s.now().clicks as f64))
        .worked(|_| "times clicked, as reported", |_, _| Some(Vec::new()))
        .usually(true, true),
    figure("cpc", "CPC", "Cost per click (CPC)", Unit::Price, |s| cpc(s.now()))
        .worked(
            |_| "spend ÷ clicks",
            |s, b| {
                let t = s.now();
                let clicks = ("Clicks", working::number(t.clicks as f64));
                Some(vec![("Spend", working::paid(b, t.spend.to_units())), clicks])
            },
        )
        .usually(true, true),
    figure("cvr", "CVR %", "Conversion rate (CVR)", Unit::Percent, |s| s.now().cvr())
        .worked(
            |_| "conversions ÷ clicks",
            |s, _| {
                let t = s.now();
                Some(vec![
                    ("Conversions", working::number(t.conversions)),
                    ("Clicks", working::number(t.clicks as f64)),
                ])
            },
        )
        .uncertain(doubt::conversion_range)
        .usually(true, true),
    figure("conversions", "Conv.", "Conversions", Unit::Results, |s| conversions(s.now()))
        .worked(|_| "results, by the day of their click", |_, _| Some(Vec::new()))
        .uncertain(doubt::count_range)
        .usually(true, true),
    figure("cpa", "CPA", "Cost per acquisition (CPA)", Unit::Price, |s| cpa(s.now()))
        .worked(
            |_| "spend ÷ conversions",
            |s, b| {
                let t = s.now();
                let conversions = ("Conversions", working::number(t.conversions));
                Some(vec![("Spend", working::paid(b, t.spend.to_units())), conversions])
            },
        )
        .uncertain(doubt::cost_range)
        .usually(true, false),
    figure("value", "Value", "Conversion value", Unit::Money, |s| Some(s.now().value.to_units()))
        .worked(|_| "sum of the values of its conversions", working::valued)
        .uncertain(|_, b| doubt::late(b))
        .usually(false, true),
    figure("aov", "AOV", "Average order value (AOV)", Unit::Price, |s| aov(s.now()))
        .worked(
            |_| "value ÷ conversions",
            |s, b| {
                let t = s.now();
                let conversions = ("Conversions", working::number(t.conversions));
                Some(vec![("Value", working::paid(b, t.value.to_units())), conversions])
            },
        )
        .uncertain(doubt::order_doubt),
    figure("roas", "ROAS", "Return on ad spend (ROAS)", Unit::Factor, |s| s.now().roas())
        .worked(
            |_| "value ÷ spend",
            |s, b| {
                let t = s.now();
                let spend = ("Spend", working::paid(b, t.spend.to_units()));
                Some(vec![("Value", working::paid(b, t.value.to_units())), spend])
            },
        )
        .uncertain(doubt::value_range)
        .usually(false, true),
    figure("acos", "ACoS %", "Advertising cost of sales (ACoS)", Unit::Percent, |s| s.now().acos())
        .worked(
            |_| "spend ÷ value",
            |s, b| {
                let t = s.now();
                let value = ("Value", working::paid(b, t.value.to_units()));
                Some(vec![("Spend", working::paid(b, t.spend.to_units())), value])
            },
        )
        .uncertain(doubt::value_range),
    figure(
        "marginal_cpa",
        "Marginal CPA",
        "Cost of one more conversion (marginal CPA)",
        Unit::Price,
        |s| Some(cpa(s.now())? * s.row.next?.costs),
    )
    .worked(|_| "CPA × what one more conversion costs, as times the mean one", working::marginal)
    .uncertain(|s, _| doubt::marginal_doubt(s)),
    figure(
        "marginal_roas",
        "Marginal ROAS",
        "Return on a little more spend (marginal ROAS)",
        Unit::Factor,
        |s| Some(s.now().roas()? / s.row.next?.costs),
    )
    .worked(|_| "ROAS ÷ what one more conversion costs, as times the mean one", working::marginal)
    .uncertain(|s, _| doubt::marginal_doubt(s)),
    figure("target", "Target", "Target", Unit::Target, |s| s.row.target.map(Target::number))
        .worked(
            |s| {
                if s.row.own_target { "set for this campaign" } else { "the account’s default" }
            },
            |_, _| Some(Vec::new()),
        )
        .uncertain(|_, _| "It is a decision, not a measurement.".into())
        .usually(true, true),
    figure("clicks_each", "Clicks a conv.", "Clicks that a conversion takes", Unit::Results, |s| {
        s.now().cvr().filter(|r| *r > 0.0).map(|r| 1.0 / r)
    })
    .worked(
        |_| "clicks ÷ conversions",
        |s, _| {
            let t = s.now();
            let clicks = ("Clicks", working::number(t.clicks as f64));
            Some(vec![clicks, ("Conversions", working::number(t.conversions))])
        },
    )
    .uncertain(doubt::count_range),
    figure("affordable", "Affordable CPC", "What a click may cost", Unit::Price, |s| {
        s.row.affordable().map(|a| a.cautious.units())
    })
    .worked(working::affordable_formula, working::affordable_numbers)
    .uncertain(doubt::affordable_doubt),
    figure(
        "cpc_over",
        "CPC to affordable %",
        "Cost per click beside what is affordable",
        Unit::Change,
        |s| {
            s.row
                .affordable()
                .and_then(|a| share(cpc(s.now())?, a.cautious.units()))
                .map(|x| x - 1.0)
        },
    )
    .worked(
        |_| "CPC ÷ affordable CPC − 1",
        |s, b| {
            let (paid, may) = cpc(s.now()).zip(s.row.affordable())?;
            Some(vec![
                ("CPC", working::paid(b, paid)),
                ("Affordable CPC", working::paid(b, may.cautious.units())),
            ])
        },
    )
    .uncertain(doubt::affordable_doubt)
    .harmful(1),
    figure("excess", "Excess", "Excess", Unit::Difference, |s| s.row.excess())
        .worked(working::excess_formula, working::excess_numbers)
        .uncertain(doubt::excess_doubt)
        .usually(true, true)
        .harmful(1),
    figure("spend_change", "Spend Δ%", "Change of spend", Unit::Change, |s| s.change(spend))
        .worked(working::changed, |s, b| working::before(s, b, spend)),
    figure("conversions_change", "Conv. Δ%", "Change of conversions", Unit::Change, |s| {
        s.change(conversions)
    })
    .worked(working::changed, |s, b| working::before(s, b, conversions))
    .uncertain(doubt::change_doubt),
    figure("cpa_change", "CPA Δ%", "Change of CPA", Unit::Change, |s| s.change(cpa))
        .worked(working::changed, |s, b| working::before(s, b, cpa))
        .uncertain(doubt::change_doubt)
        .usually(true, false)
        .harmful(1),
    figure("roas_change", "ROAS Δ%", "Change of ROAS", Unit::Change, |s| s.change(Tally::roas))
        .worked(working::changed, |s, b| working::before(s, b, Tally::roas))
        .uncertain(doubt::change_doubt)
        .usually(false, true)
        .harmful(-1),
    figure(
        "cpc_peers",
        "CPC to peers %",
        "Cost per click beside its peers’",
        Unit::Change,
        |s| s.beside_peers(cpc),
    )
    .worked(working::compared, |s, _| working::beside(s, cpc, Unit::Price))
    .harmful(1),
    figure(
        "cvr_peers",
        "CVR to peers %",
        "Conversion rate beside its peers’",
        Unit::Change,
        |s| s.beside_peers(Tally::cvr),
    )
    .worked(working::compared, |s, _| working::beside(s, Tally::cvr, Unit::Percent))
    .uncertain(doubt::peers_doubt)
    .harmful(-1),
    figure("cpa_peers", "CPA to peers %", "CPA beside its peers’", Unit::Change, |s| {
        s.beside_peers(cpa)
    })
    .worked(working::compared, |s, _| working::beside(s, cpa, Unit::Price))
    .uncertain(doubt::peers_doubt)
    .harmful(1),
    figure("roas_peers", "ROAS to peers %", "ROAS beside its peers’", Unit::Change, |s| {
        s.beside_peers(Tally::roas)
    })
    .worked(working::compared, |s, _| working::beside(s, Tally::roas, Unit::Factor))
    .uncertain(doubt::peers_doubt)
    .harmful(-1),
];

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;
    use tiller_core::Micros;
    use tiller_core::allocation::Next;
    use tiller_core::evidence::Interval;
    use tiller_core::ids::CampaignId;
    use tiller_core::spot::Subject;

    fn row(target: Target) -> Row {
        let tally = |n: i64| Tally {
            impressions: 1000 * n,
            clicks: 50 * n,
            spend: Micros::from_units(100.0 * n as f64),
            conversions: 2.0 * n as f64,
            value: Micros::from_units(120.0 * n as f64),
        };
        Row {
            subject: Subject::Campaign(CampaignId(1)),
            name: "Row".into(),
            home: String::new(),
            channel: "Findle".into(),
            campaign: CampaignId(1),
            status: None,
            tally: tally(3),
            against: Some(tally(2)),
            target: Some(target),
            own_target: true,
            judged: None,
            peers: Some((tally(3), tally(5))),
            pool: Some(tally(6)),
            next: None,
            summed: None,
        }
    }

    /// By hand: 300 spent for 6 conversions worth 360, of 600 of the campaign and 1200 of all.
    #[test]
    fn figures_are_what_they_are_called() {
        let whole = Tally { spend: Micros::from_units(1200.0), ..Tally::default() };
        let row = row(Target::Cpa(tiller_core::Price(40.0)));
        let seen = Seen::of(&row, &whole);
        let of = |key| (Figure::of(key).unwrap().value)(&seen).unwrap();
        for (key, x) in [
            ("spend", 300.0),
            ("share", 0.25),
            ("pool_share", 0.5),
            ("pool_results", 0.5),
            ("cpc", 2.0),
            ("cvr", 0.04),
            ("cpa", 50.0),
            ("roas", 1.2),
            ("aov", 60.0),
            ("excess", 60.0),
            ("spend_change", 0.5),
            ("cpa_change", 0.0),
            ("cvr_peers", 0.0),
        ] {
            assert!((of(key) - x).abs() < 1e-9, "{key}: {}", of(key));
        }
        assert_eq!(Figure::of("target").unwrap().written(&seen, 40.0), "40.00");
    }

    /// At an elasticity of ⅔ one more conversion costs 1.5 times the mean one.
    #[test]
    fn one_more_costs_more_than_the_mean_one() {
        let row = row(Target::Cpa(tiller_core::Price(40.0)));
        let whole = Tally::default();
        let of = |row: &Row, key| (Figure::of(key).unwrap().value)(&Seen::of(row, &whole));
        assert_eq!((of(&row, "marginal_cpa"), of(&row, "marginal_roas")), (None, None));
        let around = Interval { low: 1.2, high: 2.0 };
        let bends = Row { next: Some(Next { costs: 1.5, around, leans: true }), ..row };
        assert_eq!(of(&bends, "marginal_cpa"), Some(75.0));
        assert!((of(&bends, "marginal_roas").unwrap() - 0.8).abs() < 1e-12);
        let doubt = doubt::marginal_doubt(&Seen::of(&bends, &whole));
        assert_eq!(
            doubt,
            "Between 1.20 and 2.00 times the mean with a probability of 80%. Its own days say little of it, so this is what is typical for its channel."
        );
    }

    #[test]
    fn keys_are_unique_and_what_is_named_exists() {
        let keys: HashSet<&str> = CATALOGUE.iter().map(|f| f.key).collect();
        assert_eq!(keys.len(), CATALOGUE.len());
        for by_value in [false, true] {
            assert!(beside_peers(by_value).split(',').all(|key| keys.contains(key)));
            let usual: Vec<_> = usual(by_value, Level::Campaigns).map(|f| f.key).collect();
            assert!(usual.contains(&"spend") && !usual.contains(&"pool_share"));
            assert_eq!(usual.contains(&"roas"), by_value);
        }
    }

    /// A change of money alone is the same for any figure that has no money in it.
    #[test]
    fn shares_know_no_currency() {
        let whole = row(Target::Roas(2.0)).tally;
        let here = row(Target::Roas(2.0));
        let mut there = here.clone();
        for t in [Some(&mut there.tally), there.against.as_mut(), there.pool.as_mut()] {
            let t = t.unwrap();
            (t.spend, t.value) = (Micros::new(7 * t.spend.get()), Micros::new(7 * t.value.get()));
        }
        let seven = Tally {
            spend: Micros::new(7 * whole.spend.get()),
            value: Micros::new(7 * whole.value.get()),
            ..whole
        };
        for f in CATALOGUE.iter().filter(|f| f.unit.is_bare()) {
            let (a, b) = (Seen::of(&here, &whole), Seen::of(&there, &seven));
            let pair = (f.value)(&a).zip((f.value)(&b));
            assert!(pair.is_none_or(|(a, b)| (a - b).abs() < 1e-9), "{}: {pair:?}", f.key);
        }
    }
}
