//! Whether a rule's condition holds of one thing, and how surely.

use statrs::distribution::{Beta, ContinuousCDF};

use super::When;
use super::condition::{Clause, Metric, Over, Than};
use super::evidence::{Amount, Evidence, Lack};
use crate::evidence::{over_target, two_shares};
use crate::metrics::Tally;
use crate::money::Price;
use crate::target::Target;

/// What is known of one thing.
pub trait Known {
    /// What was counted over so many last settled days.
    fn last(&self, days: u16) -> Tally;
    /// What was counted over as many days before those.
    fn before(&self, days: u16) -> Tally;
    /// What was counted since it was first shown.
    fn life(&self) -> Tally;
    /// What its peers counted over such days.
    fn peers(&self, over: Over) -> Tally;
    /// Settled days since it was first shown.
    fn age(&self) -> u64;
    /// What a result may cost.
    fn target(&self) -> Option<Target>;
    /// Variance of a day's conversions over their mean, at least 1.
    fn dispersion(&self) -> f64;
    /// What a conversion of it or of its like is worth.
    fn aov(&self) -> Option<Price>;
}

/// What is compared, and with what, as one side's excess over the other's: a rate without its divisor is compared with
/// its parts multiplied out, so that a CPA without conversions is above any.
struct Sides {
    left: f64,
    right: f64,
}

fn days(k: &impl Known, over: Over) -> Tally {
    match over {
        Over::Days(n) => k.last(n),
        Over::Life => k.life(),
    }
}

/// Numerator and denominator of a rate, in units.
fn parts(metric: Metric, t: &Tally) -> (f64, f64) {
    let (spend, value) = (t.spend.to_units(), t.value.to_units());
    match metric {
        Metric::Ctr => (t.clicks as f64, t.impressions as f64),
        Metric::Cpc => (spend, t.clicks as f64),
        Metric::Cvr => (t.conversions, t.clicks as f64),
        Metric::Cpa => (spend, t.conversions),
        Metric::Roas => (value, spend),
        Metric::Acos => (spend, value),
        Metric::Aov => (value, t.conversions),
        Metric::Impressions => (t.impressions as f64, 1.0),
        Metric::Clicks => (t.clicks as f64, 1.0),
        Metric::Spend => (spend, 1.0),
        Metric::Conversions => (t.conversions, 1.0),
        Metric::Value => (value, 1.0),
        Metric::Age => (0.0, 1.0),
    }
}

/// What a rate is compared with, as a number; none where there is nothing to compare with.
fn bar(clause: Clause, k: &impl Known) -> Option<f64> {
    let rate = |t: &Tally| {
        let (over, under) = parts(clause.metric, t);
        (under > 0.0).then(|| over / under)
    };
    match (clause.than, clause.over) {
        (Than::Value(x), _) => Some(x),
        (Than::Target(times), over) => {
            let target = k.target()?;
            let should = match (clause.metric, target) {
                (Metric::Cpa, target) => {
                    target.as_cpa(days(k, over).aov().or_else(|| k.aov()))?.units()
                }
                (Metric::Roas, Target::Roas(roas)) => roas,
                (Metric::Acos, Target::Roas(roas)) => 1.0 / roas,
                (Metric::Roas, Target::Cpa(cpa)) => days(k, over).aov()?.units() / cpa.units(),
                (Metric::Acos, Target::Cpa(cpa)) => cpa.units() / days(k, over).aov()?.units(),
                _ => return None,
            };
            Some(should * times)
        }
        (Than::Peers(times), over) => rate(&k.peers(over)).map(|x| x * times),
        (Than::Before(times), Over::Days(n)) => rate(&k.before(n)).map(|x| x * times),
        (Than::Before(_), Over::Life) => None,
    }
}

fn sides(clause: Clause, k: &impl Known) -> Option<Sides> {
    if clause.metric == Metric::Age {
        return Some(Sides { left: k.age() as f64, right: bar(clause, k)? });
    }
    let (over, under) = parts(clause.metric, &days(k, clause.over));
    // Nothing over nothing is no rate.
    (over > 0.0 || under > 0.0).then_some(())?;
    Some(Sides { left: over, right: bar(clause, k)? * under })
}

fn holds(clause: Clause, k: &impl Known) -> bool {
    sides(clause, k).is_some_and(|s| clause.is.holds(s.left, s.right))
}

/// Jeffreys' prior of a proportion.
const HALF: f64 = 0.5;

/// P(proportion ≤ bar) of successes among trials.
fn proportion_below(successes: f64, trials: f64, bar: f64) -> f64 {
    let failures = (trials - successes).max(0.0);
    Beta::new(successes + HALF, failures + HALF).map_or(0.5, |b| b.cdf(bar.clamp(0.0, 1.0)))
}

/// How surely a clause that holds would hold of more than its days: 1 of a count, which is what it is.
fn sure(clause: Clause, k: &impl Known) -> f64 {
    let tally = days(k, clause.over);
    let phi = k.dispersion().max(1.0);
    let by = |below: f64| if clause.is.upward() { 1.0 - below } else { below };
    let (spend, value) = (tally.spend.to_units() / phi, tally.value.to_units());
    if let (Than::Before(times), Over::Days(n)) = (clause.than, clause.over) {
        return sure_against(clause.metric, &tally, &k.before(n), times, phi);
    }
    let Some(bar) = bar(clause, k) else { return HALF };
    // P(CPA > bar), by conversions or by value as conversions.
    let dearer = |conversions: f64, cpa: f64| over_target(spend, conversions / phi, Price(cpa));
    let worth = tally.aov().or_else(|| k.aov()).map_or(f64::NAN, Price::units);
    match clause.metric {
        Metric::Cpa => by(1.0 - dearer(tally.conversions, bar)),
        Metric::Acos if worth > 0.0 => by(1.0 - dearer(value / worth, bar * worth)),
        Metric::Roas if worth > 0.0 && bar > 0.0 => by(dearer(value / worth, worth / bar)),
        Metric::Acos | Metric::Roas => HALF,
        Metric::Cvr => {
            by(proportion_below(tally.conversions / phi, tally.clicks as f64 / phi, bar))
        }
        Metric::Ctr => by(proportion_below(tally.clicks as f64, tally.impressions as f64, bar)),
        _ => 1.0,
    }
}

/// The same against earlier days: one minus half of the two-sided p-value that both are one.
fn sure_against(metric: Metric, now: &Tally, before: &Tally, times: f64, phi: f64) -> f64 {
    let pair = |a: f64, of: f64, b: f64, by: f64, phi: f64| {
        if a + b <= 0.0 || of <= 0.0 || by <= 0.0 {
            return HALF;
        }
        1.0 - two_shares(a / phi, of, b / phi, by) / 2.0
    };
    let spend = |t: &Tally| t.spend.to_units();
    let clicks = |t: &Tally| t.clicks as f64;
    match metric {
        // So many times the CPA is so many times the spend for as many conversions.
        Metric::Cpa => {
            pair(now.conversions, spend(now), before.conversions, spend(before) * times, phi)
        }
        Metric::Cvr => {
            pair(now.conversions, clicks(now) * times, before.conversions, clicks(before), phi)
        }
        Metric::Ctr => {
            let shown = |t: &Tally| t.impressions as f64;
            pair(clicks(now), shown(now) * times, clicks(before), shown(before), 1.0)
        }
        Metric::Conversions => pair(now.conversions, times, before.conversions, 1.0, phi),
        Metric::Clicks => pair(clicks(now), times, clicks(before), 1.0, phi),
        Metric::Roas | Metric::Acos | Metric::Value => {
            let worth = (*now + *before).aov().map_or(0.0, Price::units);
            if worth <= 0.0 {
                return HALF;
            }
            let orders = |t: &Tally| t.value.to_units() / worth;
            let (of, by) = match metric {
                Metric::Roas => (spend(now) * times, spend(before)),
                Metric::Acos => (spend(now), spend(before) * times),
                _ => (times, 1.0),
            };
            pair(orders(now), of, orders(before), by, phi)
        }
        _ => 1.0,
    }
}

impl When {
    /// Whether it holds of a thing.
    pub fn holds(&self, k: &impl Known) -> bool {
        self.fold(
            |c| holds(c, k),
            |all| all.into_iter().all(|x| x),
            |any| any.into_iter().any(|x| x),
        )
    }

    /// How surely: of what has to hold together at least one less the sum of the doubts (Bonferroni), of what may hold
    /// instead the surest that does.
    pub fn sure(&self, k: &impl Known) -> f64 {
        let each = |c| if holds(c, k) { sure(c, k) } else { 0.0 };
        let all = |p: Vec<f64>| (1.0 - p.iter().map(|p| 1.0 - p).sum::<f64>()).max(0.0);
        self.fold(each, all, |p| p.into_iter().fold(0.0, f64::max))
    }

    /// The days over which it counts, the most. An age is counted over none.
    pub fn longest(&self) -> Over {
        let counting = self.clauses().filter(|c| c.metric != Metric::Age);
        let longest = counting.map(|c| c.over).max_by_key(|over| match over {
            Over::Days(n) => *n,
            Over::Life => u16::MAX,
        });
        longest.unwrap_or(Over::Life)
    }
}

impl Evidence {
    /// What is lacking to act on a thing of which the condition holds, the plainest first.
    pub fn lack(&self, when: &When, k: &impl Known) -> Option<Lack> {
        let tally = days(k, when.longest());
        if k.age() < self.days.into() {
            return Some(Lack::Days { has: k.age(), needs: self.days });
        }
        if tally.clicks < self.clicks.into() {
            return Some(Lack::Clicks { has: tally.clicks, needs: self.clicks });
        }
        if let Some(amount) = self.spend {
            let cpa = || k.target()?.as_cpa(tally.aov().or_else(|| k.aov()));
            let needs = match amount {
                Amount::Value(x) => Some(Price(x)),
                Amount::TimesTarget(times) => cpa().map(|cpa| cpa * times),
            };
            let has = Price::from(tally.spend);
            if needs.is_none_or(|n| has < n) {
                return Some(Lack::Spend { has, needs });
            }
        }
        if tally.conversions < f64::from(self.conversions) {
            return Some(Lack::Conversions { has: tally.conversions, needs: self.conversions });
        }
        let needs = self.sure?;
        let has = when.sure(k);
        (has < needs).then_some(Lack::Sure { has, needs })
    }
}

#[cfg(test)]
mod tests {
    use super::super::condition::Is;

    use super::*;
    use crate::money::Micros;

    /// A thing with the same days all along.
    struct Thing {
        day: Tally,
        before: Tally,
        peers: Tally,
        age: u64,
        target: Option<Target>,
        phi: f64,
    }

    fn tally(clicks: i64, spend: f64, conversions: f64, value: f64) -> Tally {
        let (spend, value) = (Micros::from_units(spend), Micros::from_units(value));
        Tally { impressions: clicks * 50, clicks, spend, conversions, value }
    }

    impl Known for Thing {
        fn last(&self, _: u16) -> Tally {
            self.day
        }
        fn before(&self, _: u16) -> Tally {
            self.before
        }
        fn life(&self) -> Tally {
            self.day + self.before
        }
        fn peers(&self, _: Over) -> Tally {
            self.peers
        }
        fn age(&self) -> u64 {
            self.age
        }
        fn target(&self) -> Option<Target> {
            self.target
        }
        fn dispersion(&self) -> f64 {
            self.phi
        }
        fn aov(&self) -> Option<Price> {
            Some(Price(80.0))
        }
    }

    fn thing(day: Tally) -> Thing {
        Thing {
            day,
            before: tally(100, 100.0, 10.0, 800.0),
            peers: tally(1000, 1000.0, 100.0, 8000.0),
            age: 30,
            target: Some(Target::Cpa(Price(10.0))),
            phi: 1.0,
        }
    }

    fn when(metric: Metric, is: Is, than: Than) -> When {
        When::all([Clause { metric, over: Over::Days(14), is, than }])
    }

    #[test]
    fn each_comparison_by_hand() {
        let it = thing(tally(100, 150.0, 10.0, 600.0));
        let holds = |metric, is, than| when(metric, is, than).holds(&it);
        // 15 a conversion, of a target of 10, peers' 10 and 10 before.
        assert!(holds(Metric::Cpa, Is::Above, Than::Value(14.9)));
        assert!(!holds(Metric::Cpa, Is::Above, Than::Value(15.0)));
        assert!(holds(Metric::Cpa, Is::AtLeast, Than::Target(1.5)));
        assert!(!holds(Metric::Cpa, Is::Above, Than::Target(1.5)));
        assert!(holds(Metric::Cpa, Is::Above, Than::Peers(1.4)));
        assert!(holds(Metric::Cpa, Is::Above, Than::Before(1.4)));
        assert!(!holds(Metric::Cpa, Is::Above, Than::Before(1.6)));
        // A ROAS of 4, where 60 a sale at 10 a sale asks for 6.
        assert!(holds(Metric::Roas, Is::Below, Than::Target(0.7)));
        assert!(!holds(Metric::Roas, Is::Below, Than::Target(0.6)));
        assert!(holds(Metric::Aov, Is::AtMost, Than::Value(60.0)));
        assert!(holds(Metric::Age, Is::AtLeast, Than::Value(30.0)));
        assert!(!holds(Metric::Spend, Is::Above, Than::Before(1.5)));
    }

    #[test]
    fn nothing_over_nothing_holds_of_nothing_and_spend_without_conversions_is_above_any_cpa() {
        let nothing = thing(Tally::default());
        for is in Is::ALL {
            assert!(!when(Metric::Cpa, is, Than::Value(5.0)).holds(&nothing), "{is:?}");
        }
        let vain = thing(tally(40, 60.0, 0.0, 0.0));
        assert!(when(Metric::Cpa, Is::Above, Than::Target(3.0)).holds(&vain));
        assert!(!when(Metric::Cpa, Is::Below, Than::Target(3.0)).holds(&vain));
        let aimless = Thing { target: None, ..vain };
        assert!(!when(Metric::Cpa, Is::Above, Than::Target(3.0)).holds(&aimless));
    }

    /// P(CPA > 10) after 30 spent without a conversion: P(Gamma(½) < 3) = erf(√3) (Abramowitz & Stegun 7.1).
    #[test]
    fn certainty_is_the_posterior() {
        let vain = thing(tally(40, 30.0, 0.0, 0.0));
        let p = when(Metric::Cpa, Is::Above, Than::Target(1.0)).sure(&vain);
        assert!((p - 0.985_694).abs() < 1e-5, "{p}");
        // Days that differ more make less sure.
        let rough = Thing { phi: 3.0, ..vain };
        let p = when(Metric::Cpa, Is::Above, Than::Target(1.0)).sure(&rough);
        assert!((p - 0.842_701).abs() < 1e-5, "erf(1): {p}");
    }

    #[test]
    fn doubts_add_up() {
        let it = thing(tally(100, 150.0, 10.0, 600.0));
        let clause = |metric, than| Clause { metric, over: Over::Days(14), is: Is::Above, than };
        let cpa = clause(Metric::Cpa, Than::Target(1.0));
        let one = When::all([cpa]).sure(&it);
        let both = When::all([cpa, clause(Metric::Cpa, Than::Peers(1.0))]).sure(&it);
        assert!((both - (2.0 * one - 1.0)).abs() < 1e-12, "{one} {both}");
        let counted = When::all([cpa, clause(Metric::Clicks, Than::Value(10.0))]).sure(&it);
        assert_eq!(counted, one, "a count is what it is");
    }

    #[test]
    fn what_is_lacking_is_said() {
        let it = Thing { age: 2, ..thing(tally(12, 30.0, 0.0, 0.0)) };
        let nothing = when(Metric::Conversions, Is::AtMost, Than::Value(0.0));
        assert!(nothing.holds(&it));
        let none = Evidence::default();
        let lack = |evidence: Evidence| evidence.lack(&nothing, &it);
        assert_eq!(lack(none), None);
        assert_eq!(lack(Evidence { days: 3, ..none }), Some(Lack::Days { has: 2, needs: 3 }));
        let clicks = Lack::Clicks { has: 12, needs: 20 };
        assert_eq!(lack(Evidence { clicks: 20, ..none }), Some(clicks));
        let spend = |times| Evidence { spend: Some(Amount::TimesTarget(times)), ..none };
        let (has, needs) = (Price(30.0), Some(Price(40.0)));
        assert_eq!(lack(spend(4.0)), Some(Lack::Spend { has, needs }));
        assert_eq!(lack(spend(3.0)), None);
        let conversions = Lack::Conversions { has: 0.0, needs: 1 };
        assert_eq!(lack(Evidence { conversions: 1, ..none }), Some(conversions));
        let aimless = Thing { target: None, ..it };
        assert_eq!(spend(4.0).lack(&nothing, &aimless), Some(Lack::Spend { has, needs: None }));
    }

    #[test]
    fn an_age_is_counted_over_no_days() {
        let clause =
            |metric, over| Clause { metric, over, is: Is::AtLeast, than: Than::Value(1.0) };
        let age = clause(Metric::Age, Over::Life);
        let clicks = clause(Metric::Clicks, Over::Days(14));
        assert_eq!(When::all([age, clicks]).longest(), Over::Days(14));
        assert_eq!(When::all([age]).longest(), Over::Life);
    }
}
