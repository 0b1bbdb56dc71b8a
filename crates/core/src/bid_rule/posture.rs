//! Posture (R3): the thresholds that follow from what a product costs, what is left of that, and what is wanted of it.

use serde::{Deserialize, Serialize};

use super::limits::{Ceiling, Field, Thresholds};
use crate::break_even::{MarginError, Measure, ProductLine};
use crate::money::{Micros, Price};

/// What an advertiser wants of a product now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Posture {
    /// Sales first: it may cost all that a sale leaves.
    Launch,
    /// Hold what pays.
    Hold,
    /// Profit first.
    Harvest,
}
crate::words!(Posture: Launch "launch", Hold "hold", Harvest "harvest");

/// What a posture stands on, beside the product.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ground {
    /// What a click costs now, on average.
    pub cpc: Option<Price>,
    /// What is bid for it.
    pub bid: Option<Price>,
    /// What its sales cost of their value.
    pub acos: Option<f64>,
    /// Whether clicks are few: then less of them have to do.
    pub thin: bool,
}

/// Why a threshold is what it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reason {
    /// The price of one.
    Price,
    /// What one leaves.
    Profit,
    /// Half of what one leaves.
    HalfTheProfit,
    /// Sales that cost this leave nothing.
    BreakEven,
    /// The share that is to be kept is kept.
    Kept,
    /// At least half of what a sale leaves is kept.
    HalfKept,
    /// In the middle of the usual 5 to 15%.
    UsualRate,
    /// What barely pays may stay.
    NoRate,
    /// The usual number of clicks.
    UsualClicks,
    /// Fewer, where clicks are few.
    ThinMarket,
    /// What holds the present CPC.
    HoldsCpc,
    /// What brings clicks to a price at which the next sale still costs no more than it may.
    RoomForMore,
    /// What brings clicks down to the price that the ceiling affords.
    OverCeiling,
    /// A tenth of what a click may cost, where nothing is known of bids yet.
    NothingKnown,
    /// A third of what a click costs.
    ThirdOfCpc,
    /// The smallest amount there is, where nothing is known of clicks yet.
    Smallest,
}

/// Thresholds with the reason for each.
#[derive(Clone, Debug, PartialEq)]
pub struct Setup {
    /// The thresholds.
    pub limits: Thresholds,
    /// Why, in order of the fields.
    pub because: [(Field, Reason); 6],
}

/// Clicks before acting, and where they are few (common practice, no source).
const CLICKS: (u32, u32) = (10, 5);
/// Conversions a click that a launch asks for where sales barely pay (common practice, no source: 5 to 15%).
const LAUNCH_CVR: f64 = 0.1;
/// Clicks come to cost at least and at most so many times as much by it: bids move round by round, and are looked back at
/// meanwhile (ours, no source).
const MOVES: (f64, f64) = (0.5, 1.5);
/// What the next click costs, in mean ones, where a click's price follows its bid by 0.7 and clicks in proportion: what is
/// believed of any auction beforehand (`bid_volume`).
const NEXT_CLICK: f64 = 1.7;
/// A bid below this share of what a click costs buys next to nothing (ours, no source).
const LOWEST: f64 = 1.0 / 3.0;

impl Posture {
    /// The thresholds of a product. A launch may lose the price of one and run at break-even; holding risks the profit of
    /// one and keeps the share that is to be kept; harvesting risks half of it and keeps at least half of what a sale
    /// leaves (launch and hold: common practice, no source; harvest: ours).
    pub fn thresholds(self, line: &ProductLine, ground: Ground) -> Result<Setup, MarginError> {
        let margin = line.break_even()?;
        let kept = line.kept()?;
        let profit = line.price * margin.acos();
        let (risk, why_risk) = match self {
            Self::Launch => (line.price, Reason::Price),
            Self::Hold => (profit, Reason::Profit),
            Self::Harvest => (profit / 2.0, Reason::HalfTheProfit),
        };
        let (acos, why_acos) = match self {
            Self::Launch => (margin.acos(), Reason::BreakEven),
            Self::Hold if line.keep > 0.0 => (kept.acos(), Reason::Kept),
            Self::Harvest if kept.acos() <= margin.acos() / 2.0 => (kept.acos(), Reason::Kept),
            Self::Hold | Self::Harvest => (margin.acos() / 2.0, Reason::HalfKept),
        };
        let (least_cvr, why_cvr) = match self {
            Self::Launch => (LAUNCH_CVR, Reason::UsualRate),
            Self::Hold | Self::Harvest => (0.0, Reason::NoRate),
        };
        let (clicks, why_clicks) = if ground.thin {
            (CLICKS.1, Reason::ThinMarket)
        } else {
            (CLICKS.0, Reason::UsualClicks)
        };
        let gap =
            ground.bid.zip(ground.cpc).map(|(bid, cpc)| bid - cpc).filter(|g| *g > Price(0.0));
        // Where clicks are to cost so many times as much, so is what is above them, once the bids have come to rest.
        let (times, why_gap) = match ground.acos.filter(|a| *a > 0.0) {
            Some(now) if acos < now => (acos / now, Reason::OverCeiling),
            Some(now) if acos > now * NEXT_CLICK => {
                (acos / (now * NEXT_CLICK), Reason::RoomForMore)
            }
            _ => (1.0, Reason::HoldsCpc),
        };
        let gap = gap.map(|gap| gap * times.clamp(MOVES.0, MOVES.1));
        let (headroom, why_headroom) = match (gap, ground.cpc) {
            (Some(gap), _) => (gap, why_gap),
            (None, Some(cpc)) => (cpc / 10.0, Reason::NothingKnown),
            (None, None) => (Price(0.01), Reason::Smallest),
        };
        let (lowest, why_lowest) = match ground.cpc.and_then(Price::positive) {
            Some(cpc) => (cpc * LOWEST, Reason::ThirdOfCpc),
            None => (Price(0.01), Reason::Smallest),
        };
        let ceiling = match line.measure {
            Measure::Cpa => Ceiling::Cpa(Price(line.price * acos)),
            Measure::Roas | Measure::Acos => Ceiling::Acos(acos),
        };
        let cent = Micros::from_units(0.01);
        let limits = Thresholds {
            spend_without_sale: Micros::from_units(risk).max(cent),
            ceiling,
            headroom: headroom.micros(),
            lowest_bid: lowest.micros().max(cent),
            clicks,
            least_cvr,
        };
        let because = [
            (Field::SpendWithoutSale, why_risk),
            (Field::Ceiling, why_acos),
            (Field::Headroom, why_headroom),
            (Field::LowestBid, why_lowest),
            (Field::Clicks, why_clicks),
            (Field::LeastCvr, why_cvr),
        ];
        Ok(Setup { limits, because })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn jars(keep: f64) -> ProductLine {
        ProductLine { name: "Jars".into(), price: 20.0, margin: 0.35, keep, measure: Measure::Acos }
    }

    fn ground(thin: bool) -> Ground {
        Ground { cpc: Some(Price(0.6)), bid: Some(Price(0.8)), acos: None, thin }
    }

    fn of(posture: Posture, keep: f64) -> Thresholds {
        posture.thresholds(&jars(keep), ground(false)).unwrap().limits
    }

    /// Common practice, no source: a launch risks the price and runs at break-even, holding risks the profit and keeps
    /// 10 of 35%.
    #[test]
    fn launch_and_hold_by_hand() {
        let launch = of(Posture::Launch, 0.1);
        assert_eq!(launch.spend_without_sale, Micros::from_units(20.0));
        assert_eq!((launch.ceiling, launch.least_cvr), (Ceiling::Acos(0.35), 0.1));
        let hold = of(Posture::Hold, 0.1);
        assert_eq!(hold.spend_without_sale, Micros::from_units(7.0));
        let Ceiling::Acos(acos) = hold.ceiling else { panic!("by value") };
        assert!((acos - 0.25).abs() < 1e-12 && hold.least_cvr == 0.0);
        assert_eq!(
            hold.headroom,
            Micros::from_units(0.2),
            "what holds a click of 0.60 at a bid of 0.80"
        );
        assert_eq!(hold.lowest_bid, Micros::from_units(0.2));
    }

    /// Sales at 10% of their value, where 25% may be: the next ones cost 17%, so clicks may cost 1.47 times as much. At 50%
    /// they may cost half.
    #[test]
    fn clicks_may_cost_what_the_next_sale_affords() {
        let at = |acos| {
            let ground = Ground { acos: Some(acos), ..ground(false) };
            let setup = Posture::Hold.thresholds(&jars(0.1), ground).unwrap();
            (setup.limits.headroom.to_units(), setup.because[2].1)
        };
        let (headroom, why) = at(0.1);
        assert!((headroom - 0.2 * 0.25 / 0.17).abs() < 1e-6 && why == Reason::RoomForMore);
        assert_eq!(at(0.2), (0.2, Reason::HoldsCpc), "the next sale would cost more than it may");
        assert_eq!(at(0.5), (0.1, Reason::OverCeiling));
        assert_eq!(at(0.01).0, 0.3, "one and a half times at most");
    }

    /// The more profit is wanted, the less is risked and the less may be spent.
    #[test]
    fn postures_are_in_order() {
        for keep in [0.0, 0.1, 0.3] {
            let [launch, hold, harvest] = Posture::ALL.map(|p| of(p, keep));
            assert!(launch.spend_without_sale > hold.spend_without_sale);
            assert!(hold.spend_without_sale > harvest.spend_without_sale);
            let share = |t: Thresholds| match t.ceiling {
                Ceiling::Acos(share) => share,
                Ceiling::Cpa(_) => f64::NAN,
            };
            assert!(share(launch) > share(hold) && share(hold) >= share(harvest), "{keep}");
        }
    }

    #[test]
    fn thin_markets_wait_for_fewer_clicks() {
        let thin = Posture::Hold.thresholds(&jars(0.1), ground(true)).unwrap();
        assert_eq!(thin.limits.clicks, 5);
        assert!(thin.because.contains(&(Field::Clicks, Reason::ThinMarket)));
    }

    #[test]
    fn a_line_told_in_cpa_has_a_ceiling_in_money() {
        let line = ProductLine { measure: Measure::Cpa, ..jars(0.1) };
        let hold = Posture::Hold.thresholds(&line, ground(false)).unwrap().limits;
        let Ceiling::Cpa(cpa) = hold.ceiling else { panic!("by sale") };
        assert!((cpa.units() - 5.0).abs() < 1e-12);
        assert!(Posture::Hold.thresholds(&jars(0.4), ground(false)).is_err(), "keeps all of it");
    }

    /// Whatever is known, what comes out can be set.
    #[test]
    fn every_setup_can_be_set() {
        use super::super::Limits;
        for (cpc, bid) in
            [(None, None), (Some(0.6), None), (Some(0.6), Some(0.5)), (Some(0.0), None)]
        {
            let ground =
                Ground { cpc: cpc.map(Price), bid: bid.map(Price), acos: Some(0.1), thin: false };
            for posture in Posture::ALL {
                let setup = posture.thresholds(&jars(0.1), ground).unwrap();
                assert!(Limits::from(setup.limits).check().is_ok(), "{cpc:?} {bid:?} {posture:?}");
            }
        }
    }
}
