//! Remedies: the change that does what an advice or a plan says, ready for the tray.

use tiller_core::Target;
use tiller_core::setting::{PlacesMode, Setting};
use tiller_core::spot::{Spot, Subject};
use tiller_core::verdict::Verdict;

use crate::account::settings::Settings;
use crate::book::{Entry, Judged};
use crate::causes;
use crate::numerals::{count, counted, money, number, or_absent, percent, probability, target};
use crate::tray::proposal::{Adds, Origin, Proposal, bid_times};
use crate::volume::Volumes;
use crate::wording::{self, TradeOff};

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

/// The step of its bid that a campaign surely over its target could take, whatever the cause.
pub fn by_bid(
    settings: &Settings,
    volumes: &Volumes,
    entry: &Entry,
    judged: &Judged,
) -> Option<Proposal> {
    let over = matches!(
        judged.diagnosis.verdict,
        Verdict::Traffic | Verdict::Bid | Verdict::OrderValue | Verdict::Both
    );
    let trade = causes::trade_off(judged, volumes, entry.campaign.id).filter(|_| over)?;
    cheaper_clicks(settings, Subject::Campaign(entry.campaign.id), judged, trade)
}

/// The change that a verdict asks for; none where it asks for none, or none can be made there.
pub fn of_verdict(
    settings: &Settings,
    subject: Subject,
    judged: &Judged,
    trade: Option<TradeOff>,
) -> Option<Proposal> {
    match judged.diagnosis.verdict {
        Verdict::Traffic => {
            let set = only_in_its_places(settings, settings.spot(subject)?)?;
            Some(proposal(subject, judged, set, cheaper_visitors(judged), Adds::default()))
        }
        Verdict::Bid | Verdict::OrderValue | Verdict::Both => {
            cheaper_clicks(settings, subject, judged, trade?)
        }
        _ => None,
    }
}

fn cheaper_clicks(
    settings: &Settings,
    subject: Subject,
    judged: &Judged,
    trade: TradeOff,
) -> Option<Proposal> {
    let set = bid_times(settings, settings.spot(subject)?, trade.times, judged.tally.cpc())?;
    let days = judged.window.days();
    let fewer =
        format!("{} and {} in {}", trade.cost(), trade.volume(), counted(days, "day", "days"));
    // The middle of what is likely, at the new price.
    let then = f64::midpoint(trade.then.low, trade.then.high);
    let spend = then * trade.cpa.units() - judged.tally.spend.to_units();
    let a_day = days as f64;
    let adds = Adds::of(spend / a_day, (then - trade.now) / a_day, judged.tally.aov());
    Some(proposal(subject, judged, set, fewer, adds))
}

fn proposal(
    subject: Subject,
    judged: &Judged,
    set: Setting,
    effect: String,
    adds: Adds,
) -> Proposal {
    let reasons: Vec<String> =
        wording::reasons(judged).iter().take(2).map(ToString::to_string).collect();
    let reason = format!("{} {}", wording::headline(&judged.diagnosis), reasons.join(" "));
    let proposal = Proposal::new(subject, set, Origin::Causes, reason).expecting(effect, adds);
    Proposal { evidence: evidence(judged), ..proposal }
}

/// What a verdict rests on, as it stands.
pub(crate) fn evidence(j: &Judged) -> Vec<(String, String)> {
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
