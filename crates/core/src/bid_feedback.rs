//! Bids that were set again and again from the average CPC that the last ones caused (R5): with CPC = k × bid
//! and a headroom *h*, bid ← k·bid + h rests at h ÷ (1 − k), wherever that is.
//!
//! ```
//! use tiller_core::Price;
//! use tiller_core::bid_feedback::steady_headroom;
//! // Clicks at half the bid cost 1.00: only a headroom of 1.00 sets the next bid to 2.00 again.
//! assert_eq!(steady_headroom(Price(1.0), 0.5), Price(1.0));
//! ```

use crate::Price;
use chrono::NaiveDate;

use crate::metrics::Tally;
use crate::money::Micros;

/// Rounds in which the rule must be seen before we say that it was followed.
const LEAST_ROUNDS: usize = 4;
/// Share of the rounds that must follow it.
const FOLLOWED: f64 = 0.75;
/// A round follows it if its headroom is the usual one, give or take this share of the bid: averages are
/// rounded, and a day may belong to either round.
const LIKE: f64 = 0.02;
/// A rest so far below the first bid is a spiral.
const FALLEN: f64 = 0.9;

/// Days on which a bid stood, one after the other.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Round {
    /// Its first day.
    pub from: NaiveDate,
    /// The bid.
    pub bid: Price,
    /// What was counted.
    pub tally: Tally,
}

/// The rounds of an item's days, in order; days without a known bid are left out.
pub fn rounds(days: &[(NaiveDate, Option<Micros>, Tally)]) -> Vec<Round> {
    let mut rounds: Vec<(Micros, Round)> = Vec::new();
    for (day, bid, tally) in days {
        let Some(bid) = *bid else { continue };
        match rounds.last_mut() {
            Some((last, round)) if *last == bid => round.tally += *tally,
            _ => rounds.push((bid, Round { from: *day, bid: bid.into(), tally: *tally })),
        }
    }
    rounds.into_iter().map(|(_, round)| round).collect()
}

/// A bid that follows its own average.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Feedback {
    /// Rounds in which it did.
    pub rounds: usize,
    /// What was added to the average each time.
    pub headroom: Price,
    /// CPC over bid, from all rounds.
    pub per_bid: f64,
    /// The bid that it comes to rest at.
    pub rests_at: Price,
    /// The headroom that would have held the first round's CPC.
    pub steady: Price,
    /// Whether it rests well below where it began.
    pub spiral: bool,
}

/// Whether the bids of these rounds were each set from the average CPC of the round before, and where that
/// leads; absent where they were not, or in fewer than four rounds.
pub fn feedback(rounds: &[Round]) -> Option<Feedback> {
    let steps: Vec<(Price, Price)> =
        rounds.windows(2).filter_map(|w| Some((w[1].bid - w[0].tally.cpc()?, w[1].bid))).collect();
    let mut sorted: Vec<f64> = steps.iter().map(|(h, _)| h.units()).collect();
    sorted.sort_by(f64::total_cmp);
    let headroom = Price(*sorted.get(sorted.len() / 2)?);
    let followed =
        steps.iter().filter(|(h, bid)| (*h - headroom).units().abs() <= LIKE * bid.units()).count();
    if followed < LEAST_ROUNDS || (followed as f64) < FOLLOWED * steps.len() as f64 {
        return None;
    }
    let spend: f64 = rounds.iter().map(|r| r.tally.spend.to_units()).sum();
    let at_bid: f64 = rounds.iter().map(|r| r.tally.clicks as f64 * r.bid.units()).sum();
    let per_bid = spend / at_bid;
    // A price of a click at or above the bid never rests.
    if !(per_bid > 0.0 && per_bid < 1.0) {
        return None;
    }
    let first = rounds.first()?;
    let rests_at = headroom / (1.0 - per_bid);
    Some(Feedback {
        rounds: followed,
        headroom,
        per_bid,
        rests_at,
        steady: steady_headroom(first.tally.cpc().unwrap_or(first.bid * per_bid), per_bid),
        spiral: rests_at < first.bid * FALLEN,
    })
}

/// The headroom that holds a CPC: p(1 − k) ÷ k.
pub fn steady_headroom(cpc: Price, per_bid: f64) -> Price {
    cpc * (1.0 - per_bid) / per_bid
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::Days;

    fn day(n: u64) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 9, 1).unwrap() + Days::new(n)
    }

    fn at(cpc: f64) -> Tally {
        Tally { clicks: 20, spend: Micros::from_units(20.0 * cpc), ..Tally::default() }
    }

    /// Ten weeks of a bid; CPC is half of it.
    fn path(next: impl Fn(f64) -> f64) -> Vec<Round> {
        let mut bid = 2.0_f64;
        let mut days = Vec::new();
        for n in 0..70 {
            if n > 0 && n % 7 == 0 {
                bid = (next(bid) * 100.0).round() / 100.0;
            }
            days.push((day(n), Some(Micros::from_units(bid)), at(bid / 2.0)));
        }
        rounds(&days)
    }

    /// The handbook's worked values: k = 0.5 and h = 0.41 rest at 0.82; a CPC of 1.00 is held by h = 1.00.
    #[test]
    fn it_rests_where_the_closed_form_says() {
        let rounds = path(|bid| bid / 2.0 + 0.41);
        assert_eq!((rounds[0].bid, rounds[0].tally.clicks), (Price(2.0), 140));
        let f = feedback(&rounds).unwrap();
        assert!(
            (f.per_bid - 0.5).abs() < 1e-9 && (f.headroom.units() - 0.41).abs() < 0.006,
            "{f:?}"
        );
        assert!((f.rests_at.units() - 0.82).abs() < 0.012 && f.spiral, "{f:?}");
        assert!(
            (f.steady.units() - 1.0).abs() < 1e-9
                && (steady_headroom(Price(1.0), 0.5).units() - 1.0).abs() < 1e-12
        );
        assert!((rounds.last().unwrap().bid.units() - 0.82).abs() < 0.02);
    }

    #[test]
    fn a_headroom_that_holds_is_no_spiral() {
        // One cent more each time is still feedback, and it rises.
        let f = feedback(&path(|bid| bid / 2.0 + 1.2)).unwrap();
        assert!(!f.spiral && f.rests_at > Price(2.0), "{f:?}");
    }

    #[test]
    fn other_bids_are_left_alone() {
        assert_eq!(feedback(&path(|bid| bid)), None, "never changed");
        assert_eq!(feedback(&path(|bid| bid * 0.8)), None, "lowered by a share");
        assert_eq!(feedback(&[]), None);
        let unknown = rounds(&[(day(0), None, at(1.0)), (day(1), None, at(1.0))]);
        assert!(unknown.is_empty());
    }
}
