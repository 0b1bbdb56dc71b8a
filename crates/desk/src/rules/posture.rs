//! Thresholds by posture: from a product line and what a campaign's clicks cost, with the reason for each.

use tiller_core::bid_rule::posture::Reason;
use tiller_core::bid_rule::{Field, Ground as Standing, Limits, Posture, Setup};
use tiller_core::break_even::ProductLine;
use tiller_core::ids::CampaignId;
use tiller_core::rule::Rule;
use tiller_core::window::last_settled;
use tiller_core::{Micros, Price, Tally, Window};
use tiller_store::PgPool;
use tiller_store::people::Account;

use super::ground::Ground;
use super::sets::bid_rule;
use super::words;
use crate::DeskError;
use crate::numerals::{money, percent};

/// Items with fewer clicks than this in the window, on average, are in a thin market (ours, no source).
const THIN: f64 = 10.0;
/// Settled days that the present is read from.
const DAYS: u64 = 14;

/// What a campaign's items cost and are bid for now.
pub async fn standing(
    db: &PgPool,
    ground: &Ground,
    campaign: CampaignId,
) -> Result<Standing, DeskError> {
    let by = ground.last_day();
    let window = Window::ending(last_settled(by, ground.settle()), DAYS);
    let of = bid_rule("", vec![campaign], Limits::default());
    let things = ground.things(db, &of, window).await?;
    let days = || things.stage.things.iter().flat_map(|t| t.history.days(window));
    let clicks: i64 = days().map(|d| d.clicks).sum();
    let spend: Micros = days().map(|d| d.spend).sum();
    let with_bid = || days().filter_map(|d| Some((d.clicks as f64, d.bid?.to_units())));
    let weight: f64 = with_bid().map(|(n, _)| n).sum();
    let bids: f64 = with_bid().map(|(n, bid)| n * bid).sum();
    let whole: Tally = things.stage.things.iter().map(|t| t.history.tally(window, by)).sum();
    let items = things.stage.things.len().max(1) as f64;
    Ok(Standing {
        cpc: Price::of(spend, clicks as f64),
        bid: (weight > 0.0).then(|| Price(bids / weight)),
        acos: whole.acos(),
        thin: (clicks as f64) < THIN * items,
    })
}

/// A threshold with its reason.
#[derive(Clone, Debug)]
pub struct Reasoned {
    /// Which.
    pub field: Field,
    /// Its value.
    pub value: String,
    /// Why.
    pub because: String,
}

/// Thresholds that follow from a posture, each with its reason.
pub fn reasoned(
    account: &Account,
    posture: Posture,
    line: &ProductLine,
    standing: Standing,
) -> Result<(Setup, Vec<Reasoned>), DeskError> {
    let mut setup = posture
        .thresholds(line, standing)
        .map_err(|e| DeskError::Invalid(format!("{}: {e}", line.name)))?;
    for amount in [
        &mut setup.limits.spend_without_sale,
        &mut setup.limits.headroom,
        &mut setup.limits.lowest_bid,
    ] {
        *amount = account.coins(*amount);
    }
    let of = |(field, reason): &(Field, Reason)| Reasoned {
        field: *field,
        value: words::value(*field, &setup.limits.into()),
        because: because(*reason, line, standing),
    };
    let all = setup.because.iter().map(of).collect();
    Ok((setup, all))
}

fn because(reason: Reason, line: &ProductLine, standing: Standing) -> String {
    let price = money(line.price);
    let profit = money(line.price * line.margin);
    let cpc = standing.cpc.map_or("–".into(), money);
    match reason {
        Reason::Price => format!(
            "a launch may lose the price of one, {price}, to find out whether a keyword sells"
        ),
        Reason::Profit => format!("no more than what one leaves before advertising, {profit}"),
        Reason::HalfTheProfit => format!("half of what one leaves before advertising, {profit}"),
        Reason::BreakEven => {
            format!("all that a sale leaves: a margin of {}%", percent(line.margin))
        }
        Reason::Kept => format!(
            "a margin of {}%, of which {}% of the price are kept",
            percent(line.margin),
            percent(line.keep)
        ),
        Reason::HalfKept => format!(
            "half of the margin of {}%; the line keeps no share of its own, or less",
            percent(line.margin)
        ),
        Reason::UsualRate => "the middle of the usual 5 to 15% for a launch".into(),
        Reason::NoRate => "what barely pays may stay: it is not looked at".into(),
        Reason::UsualClicks => "the usual number".into(),
        Reason::ThinMarket => "its items have few clicks: fewer have to do".into(),
        Reason::HoldsCpc => format!(
            "holds the average click at {cpc}: bids are {} on average",
            standing.bid.map_or("–".into(), money)
        ),
        Reason::RoomForMore => format!(
            "its sales cost {}% of their value, far less than they may: this far above, its clicks come to cost more than the {cpc} they cost now, and the next sale still no more than it may",
            standing.acos.map_or("–".into(), percent)
        ),
        Reason::OverCeiling => format!(
            "its sales cost {}% of their value, more than they may: this far above, its clicks come to cost less than the {cpc} they cost now",
            standing.acos.map_or("–".into(), percent)
        ),
        Reason::NothingKnown => {
            format!("a tenth of the average click of {cpc}, since no report tells the bids")
        }
        Reason::ThirdOfCpc => {
            format!("a third of the average click of {cpc}: less buys next to nothing")
        }
        Reason::Smallest => "nothing is known of its clicks yet".into(),
    }
}

/// A bid rule by posture.
pub fn rule(name: &str, campaign: CampaignId, setup: &Setup) -> Rule {
    bid_rule(name, vec![campaign], setup.limits.into())
}
