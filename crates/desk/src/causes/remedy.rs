//! Remedies: the change that does what an advice or a plan says, ready for the tray.

use tiller_core::bid_volume::at_bid;
use tiller_core::evidence::Interval;
use tiller_core::learning::STEP;
use tiller_core::setting::{PlacesMode, Setting};
use tiller_core::verdict::{LimitedBy, Verdict};
use tiller_core::{Share, Target};

use crate::account::settings::Settings;
use crate::book::{Entry, Judged};
use crate::causes;
use crate::numerals::{count, counted, money, number, or_absent, percent, probability, target};
use crate::tray::proposal::{Adds, Origin, Proposal, bid_times};
use crate::volume::Volumes;
use crate::wording::{self, TradeOff};
use tiller_core::spot::{Spot, Subject};

/// The change that a campaign's verdict asks for.
pub fn of_campaign(
    settings: &Settings,
    volumes: &Volumes,
    entry: &Entry,
    judged: &Judged,
) -> Option<Proposal> {
    let trade = causes::trade_off(judged, volumes, entry.campaign.id);
    of_verdict(settings, Subject::Campaign(entry.campaign.id), judged, trade)
}

/// Surely enough that the next conversion meets the target, for a bid to be raised.
const SURE_OF_NEXT: f64 = 0.75;
/// As much of its budget as a campaign may be led to spend by a higher bid.
const FILLED: f64 = 0.95;
/// A raise below this share is not worth making.
const LEAST_RAISE: f64 = 1.05;

/// A higher bid for a campaign on target that its bid keeps from more: a step that restarts no learning, where one more
/// conversion would surely enough still meet the target.
pub fn raise(
    settings: &Settings,
    volumes: &Volumes,
    entry: &Entry,
    judged: &Judged,
) -> Option<Proposal> {
    let d = &judged.diagnosis;
    let uses = entry.budget_use(judged.window);
    let by_bid = d.limited_by != LimitedBy::Budget && uses.loses_for_its_bid(judged.tally.cpc());
    if d.verdict != Verdict::OnTarget || !by_bid {
        return None;
    }
    let (paid, may) = judged.tally.cpc().zip(d.affordable)?;
    let room = d.target_cpa? / judged.tally.cpa()?;
    let elasticity = volumes.get(entry.campaign.id);
    let sure = elasticity.next_within(room);
    // Dearer than its budget has room for, it would only end its days early.
    let fits = elasticity.bid_that_spends((FILLED / uses.used?).max(1.0));
    let times = (1.0 + STEP).min(may.cautious / paid).min(fits);
    if sure < SURE_OF_NEXT || times < LEAST_RAISE {
        return None;
    }
    let subject = Subject::Campaign(entry.campaign.id);
    let set = bid_times(settings, settings.spot(subject)?, times)?;
    let days = judged.window.days() as f64;
    let (spend, conversions) = (judged.tally.spend.to_units(), judged.tally.conversions);
    let then = at_bid(&elasticity, judged.tally.clicks as f64, spend, conversions, times);
    let more = then.conversions.mid - conversions;
    let adds = Adds::of((then.spend.mid - spend) / days, more / days, judged.tally.aov());
    let reason = format!(
        "It is on target, its bid keeps it from more, and the next conversion would still meet the target (probability {}): a click costs it {} where {} is affordable.",
        probability(sure),
        money(paid),
        money(may.cautious)
    );
    let around = then.conversions.around;
    let effect = format!(
        "{} to {} conversions instead of {} in {}",
        count(around.low.round()),
        count(around.high.round()),
        count(conversions),
        counted(judged.window.days(), "day", "days")
    );
    let mut proposal = Proposal::new(subject, set, Origin::Bids, reason).expecting(effect, adds);
    proposal.evidence = evidence(judged);
    Some(proposal)
}

/// A campaign that loses less than this share of its auctions to its budget has no days to fill.
const LEAST_LOST: f64 = 0.05;
/// As much more as the same money must buy at the least, for a bid to be lowered for it.
const LEAST_GAIN: f64 = 1.03;

/// A lower bid for a campaign on target whose budget ends its days early: the same money lasts longer, and each click
/// costs less of it. Never so low that the money would be left unspent, as far as that is known.
pub fn last_longer(
    settings: &Settings,
    volumes: &Volumes,
    entry: &Entry,
    judged: &Judged,
) -> Option<Proposal> {
    let d = &judged.diagnosis;
    if d.verdict != Verdict::OnTarget || d.limited_by != LimitedBy::Budget {
        return None;
    }
    let days = entry.days.iter().filter(|day| judged.window.contains(day.day));
    let lost = Share::mean(days.filter_map(|day| day.lost_to_budget))?.get();
    let elasticity = volumes.get(entry.campaign.id);
    let times = elasticity.bid_that_spends(1.0 - lost).max(1.0 - STEP);
    let Interval { low, high } = elasticity.cpc(times).around;
    let gain = Interval { low: 1.0 / high, high: 1.0 / low.max(f64::MIN_POSITIVE) };
    if lost < LEAST_LOST || gain.low < LEAST_GAIN {
        return None;
    }
    let subject = Subject::Campaign(entry.campaign.id);
    let set = bid_times(settings, settings.spot(subject)?, times)?;
    let now = judged.tally.conversions;
    let days = judged.window.days();
    let more = now * (1.0 / elasticity.cpc(times).mid - 1.0);
    let adds = Adds::of(0.0, more / days as f64, judged.tally.aov());
    let reason = format!(
        "It is on target, and its budget ends its days early: {}% of its auctions are lost to that. At a lower bid the same money lasts longer, and a click costs less of it.",
        percent(lost)
    );
    let effect = format!(
        "{} to {} conversions instead of {} in {}, for the same money",
        count((now * gain.low).round()),
        count((now * gain.high).round()),
        count(now),
        counted(days, "day", "days")
    );
    let mut proposal = Proposal::new(subject, set, Origin::Bids, reason).expecting(effect, adds);
    proposal.evidence = evidence(judged);
    Some(proposal)
}

/// The change that a verdict asks for; none where it asks for none, or none can be made there.
pub fn of_verdict(
    settings: &Settings,
    subject: Subject,
    judged: &Judged,
    trade: Option<TradeOff>,
) -> Option<Proposal> {
    let spot = settings.spot(subject)?;
    let d = &judged.diagnosis;
    let (set, effect) = match d.verdict {
        Verdict::Traffic => (only_in_its_places(settings, spot)?, cheaper_visitors(judged)),
        Verdict::Bid | Verdict::OrderValue | Verdict::Both => {
            let trade = trade?;
            let set = bid_times(settings, spot, trade.times)?;
            let fewer = format!(
                "{} and {} in {}",
                trade.cost(),
                trade.volume(),
                counted(judged.window.days(), "day", "days")
            );
            (set, fewer)
        }
        _ => return None,
    };
    let days = judged.window.days() as f64;
    let adds = match trade {
        // The middle of what is likely, at the new price.
        Some(t) if d.verdict != Verdict::Traffic => {
            let then = f64::midpoint(t.then.low, t.then.high);
            let spend = then * t.cpa.units() - judged.tally.spend.to_units();
            Adds::of(spend / days, (then - t.now) / days, judged.tally.aov())
        }
        _ => Adds::default(),
    };
    let reasons: Vec<String> =
        wording::reasons(judged).iter().take(2).map(ToString::to_string).collect();
    let reason = format!("{} {}", wording::headline(d), reasons.join(" "));
    let mut proposal = Proposal::new(subject, set, Origin::Causes, reason).expecting(effect, adds);
    proposal.evidence = evidence(judged);
    Some(proposal)
}

/// What a verdict rests on, as it stands.
fn evidence(j: &Judged) -> Vec<(String, String)> {
    let d = &j.diagnosis;
    let peers = &d.peers;
    [
        ("Settled days", format!("{} to {}", j.window.from(), j.window.to())),
        ("Spend", money(j.tally.spend.to_units())),
        ("Conversions", count(j.tally.conversions)),
        match j.target {
            Target::Cpa(_) => ("CPA", or_absent(j.tally.cpa(), money)),
            Target::Roas(_) => ("ROAS", or_absent(j.tally.roas(), |r| number(r, 2))),
        },
        ("CPC", or_absent(j.tally.cpc(), money)),
        ("CVR", or_absent(j.tally.cvr(), |x| percent(x) + "%")),
        ("Peers’ CVR", or_absent(peers.cvr(), |x| percent(x) + "%")),
        ("Affordable CPC", or_absent(d.affordable.map(|a| a.cautious), money)),
        ("Target", target(j.target)),
        (
            match j.target {
                Target::Cpa(_) => "Chance of being above target",
                Target::Roas(_) => "Chance of being below target",
            },
            or_absent(d.p_over, probability),
        ),
    ]
    .map(|(title, figure)| (title.to_owned(), figure))
    .into()
}

fn only_in_its_places(settings: &Settings, spot: Spot) -> Option<Setting> {
    let places = settings.campaign(spot.campaign)?.places.as_ref()?;
    (places.mode == PlacesMode::Interested && spot.ad_group.is_none())
        .then_some(Setting::Places(PlacesMode::In))
}

fn cheaper_visitors(j: &Judged) -> String {
    match j.tally.cpc().zip(j.diagnosis.peers.cvr()) {
        Some((cpc, cvr)) => format!(
            "fewer visitors who convert better; at its peers’ rate a conversion would cost {}",
            money(cpc / cvr)
        ),
        None => "fewer visitors who convert better".into(),
    }
}
