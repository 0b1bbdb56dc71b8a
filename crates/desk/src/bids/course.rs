//! A course of steps toward what a click may cost: each halves what is left, none is a shock, each has its look-back
//! before the next.

use tiller_core::affordable::halfway_bid;
use tiller_core::ids::{CampaignId, PersonId};
use tiller_core::learning::STEP;
use tiller_store::PgPool;

use super::{Bids, Line};
use crate::account::settings::Settings;
use crate::advice::Cure;
use crate::courses::{self, BID_STEP_DAYS};
use crate::numerals::number;
use crate::tray::offer::Offer;
use crate::tray::proposal::{Proposal, lower_from};
use crate::{DeskError, tray};

/// As many steps as are decided on at once: what comes after is decided by what these did.
const MOST: usize = 3;
/// Closer to what is affordable than this, no further step is worth making.
const NEAR: f64 = 1.05;

/// Steps that lead a campaign's bid down to what is affordable.
#[derive(Clone, Debug)]
pub struct Steps {
    /// What stands for the bid after each.
    pub numbers: Vec<f64>,
    /// The change that begins them.
    pub first: Proposal,
}

impl Steps {
    /// `43.37 now, 36.70 and 34.10 later, each 14 days after the last`.
    pub fn says(&self) -> String {
        let text = |x: &f64| number(*x, 2);
        let later: Vec<String> = self.numbers[1..].iter().map(text).collect();
        format!(
            "{} now, {} later, each {BID_STEP_DAYS} days after the last",
            text(&self.numbers[0]),
            later.join(" and ")
        )
    }

    /// Its button's offer.
    pub fn offer(&self, name: &str) -> Offer<Self> {
        Offer::new("steps", name, self.says(), self.clone())
    }
}

/// The steps of a campaign that pays too much for a click, where one would not do.
pub fn of(bids: &Bids, settings: &Settings, line: &Line) -> Option<Steps> {
    let Some(Cure::Change(first)) = &line.cure else { return None };
    let judged = line.row.judged.as_ref()?;
    let paid = bids.volumes.paid(line.row.campaign, judged)?;
    let may = judged.diagnosis.affordable?.cautious;
    let set = settings.campaign(line.row.campaign)?;
    let level = lower_from(set, paid)?;
    let elasticity = bids.volumes.get(line.row.campaign);
    let mut times = line.step?.times;
    let number = |times: f64| (set.strategy.as_bid(level * times) * 100.0).round() / 100.0;
    let mut numbers = vec![number(times)];
    while numbers.len() < MOST {
        let cpc = paid * elasticity.cpc(times).mid;
        if cpc / may <= NEAR {
            break;
        }
        let halfway = elasticity.bid_for(halfway_bid(may, cpc) / paid);
        // Never so far at once that a strategy would learn anew.
        let learns = set.strategy.learns_its_target();
        times = if learns { halfway.max(times * (1.0 - STEP)) } else { halfway };
        numbers.push(number(times));
    }
    (numbers.len() > 1).then(|| Steps { numbers, first: first.clone() })
}

/// Puts a campaign's steps in the tray: the first waits there, the others follow by themselves.
pub async fn begin(
    db: &PgPool,
    bids: &Bids,
    person: PersonId,
    id: CampaignId,
    buttons: &[String],
) -> Result<usize, DeskError> {
    let settings = Settings::of_book(db, &bids.book).await?;
    let line = bids.lines.iter().find(|l| l.row.campaign == id);
    let line = line.ok_or(DeskError::NotFound("campaign"))?;
    let offers = of(bids, &settings, line).map(|s| s.offer(&line.row.name));
    let mut taken = tray::offer::taken(buttons, offers.into_iter().collect())?;
    let Some(mut steps) = taken.pop() else {
        return Err(DeskError::Invalid("nothing is advised there in steps now".into()));
    };
    steps.first.set = courses::bid_setting(&settings, id, steps.numbers[0])?;
    steps.first.reason = format!(
        "{} In {} steps, {BID_STEP_DAYS} days apart, each with its look-back; the later ones are sent by themselves.",
        steps.first.reason,
        steps.numbers.len()
    );
    let account = &bids.book.account;
    courses::bid_steps(db, account, person, &steps.numbers, steps.first).await?;
    Ok(1)
}
