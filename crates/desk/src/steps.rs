//! Step changes (A8): which daily budgets the last three settled days speak for raising or cutting by a fifth.

use tiller_core::evidence::{Prior, over_target};
use tiller_core::ids::{CampaignId, PersonId};
use tiller_core::setting::{Budget, Setting};
use tiller_core::steps::{self, BY, Step};
use tiller_core::{Micros, Price, Tally, Window};
use tiller_store::PgPool;

use crate::advice::{self, Advice, Advised};
use crate::book::Book;
use crate::budgets::responses;
use crate::numerals::{conversions, money, probability};
use crate::tray::offer::{self, Offer};
use crate::tray::proposal::{Origin, Proposal};
use crate::{DeskError, tray};
use tiller_core::spot::Subject;

/// From this probability on it is likelier than not.
const LIKELIER: f64 = 0.5;
/// Settled days before the last three that tell what is usual.
const USUAL_DAYS: u64 = 28;

/// A campaign whose last days speak for a step.
#[derive(Clone, Debug)]
pub struct DueStep {
    /// The campaign.
    pub campaign: CampaignId,
    /// Its name.
    pub name: String,
    /// Its daily budget.
    pub budget: f64,
    /// What the days say.
    pub advice: steps::Advice,
    /// What one more conversion costs, of more money.
    pub next: Option<Price>,
}

impl DueStep {
    /// The budget of a step; doubled where that is asked for.
    pub fn to(&self, double: bool) -> f64 {
        let by = match self.advice.step {
            Step::Up if double => 2.0,
            Step::Up => 1.0 + BY,
            Step::Down => 1.0 - BY,
            Step::Stay | Step::Wait => 1.0,
        };
        // A cut that leaves more than is spent would cut nothing.
        let spent = self.advice.tally.spend.to_units() / steps::DAYS as f64;
        let from =
            if self.advice.step == Step::Down { self.budget.min(spent) } else { self.budget };
        (from * by * 100.0).round() / 100.0
    }

    fn proposal(&self, double: bool) -> Proposal {
        let days = if self.advice.step == Step::Up { "good" } else { "bad" };
        Proposal::new(
            Subject::Campaign(self.campaign),
            Setting::Budget(Budget::Daily { amount: Micros::from_units(self.to(double)) }),
            Origin::Plan,
            format!("Three {days} days."),
        )
        .because("The three days", self.told())
    }

    /// As it is offered: a single step, which may be taken doubled.
    pub fn offer(&self) -> Offer<&Self> {
        Offer::new(self.campaign, &self.name, offer::says([&self.proposal(false)]), self)
    }

    /// What the three days tell, in a sentence.
    pub fn told(&self) -> String {
        let a = &self.advice;
        let cpa = match a.cpa {
            (low, Some(high)) => format!("a CPA of {} to {}", money(low), money(high)),
            (low, None) => format!("a CPA of {} or more", money(low)),
        };
        let next = match (a.step, self.next) {
            (Step::Up, Some(next)) => format!("; one more conversion costs about {}", money(next)),
            _ => String::new(),
        };
        format!(
            "{} for {} in three days fit {cpa}; the chance of being above target is {}{next}",
            conversions(a.tally.conversions),
            money(a.tally.spend.to_units()),
            probability(a.over)
        )
    }
}

/// Campaigns with daily budgets for which a step is due: down, or up where the budget is the limit. Only where
/// nothing else is advised: what was just launched or changed is left alone, and what the week's advice moves has
/// its budget from there.
pub fn of_account(book: &Book, advised: &Advised) -> Vec<DueStep> {
    let free = |l: &&responses::Spender| {
        let advice = book.entry(l.campaign).map(|e| {
            let judged = book.judge(l.campaign);
            matches!(advised.on(e, judged.as_ref()), Advice::Nothing)
        });
        !l.fresh && advice.unwrap_or(false)
    };
    advised.known.iter().filter(free).filter_map(|l| of_campaign(book, l)).collect()
}

fn of_campaign(book: &Book, known: &responses::Spender) -> Option<DueStep> {
    let entry = book.entry(known.campaign).ok()?;
    let budget = known.budget?;
    let last = Window::ending(book.last_settled(), steps::DAYS as u64);
    let days: Vec<_> =
        entry.days.iter().filter(|d| last.contains(d.day)).map(|d| (d.day, d.tally)).collect();
    let usual = entry.tally(Window::ending(last.from().pred_opt()?, USUAL_DAYS));
    let changed = book.changed(entry.campaign.id);
    let advice = steps::advise(&days, changed, entry.target?, prior(&usual))?;
    let held = known.budget_response.capacity.most.is_none_or(|most| most > budget);
    let up = advice.step == Step::Up && held && next_meets(book, known);
    (up || advice.step == Step::Down).then(|| DueStep {
        next: usual.cpa().zip(known.next()).map(|(cpa, next)| cpa * next.costs),
        campaign: entry.campaign.id,
        name: entry.campaign.name.clone(),
        budget,
        advice,
    })
}

/// Whether one more conversion after a step up is likelier than not to meet the target: the mean one may, and the next cost more.
fn next_meets(book: &Book, known: &responses::Spender) -> bool {
    let chance = || {
        let judged = book.judge(known.campaign)?;
        let (results, target) = (judged.results()?, judged.diagnosis.target_cpa?);
        let phi = judged.diagnosis.phi;
        let spend = judged.tally.spend.to_units();
        let meets = |costs: f64| 1.0 - over_target(spend / phi, results / phi, target / costs);
        Some(known.next_meets(known.spend * (1.0 + BY), meets))
    };
    chance().is_some_and(|p| p >= LIKELIER)
}

fn prior(usual: &Tally) -> Option<Prior> {
    let spend = usual.spend.to_units();
    (usual.conversions > 0.0 && spend > 0.0)
        .then(|| Prior { mean: usual.conversions / spend, strength: usual.conversions })
}

/// Puts the steps of some campaigns in the tray.
pub async fn take(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    buttons: &[String],
    double: bool,
) -> Result<usize, DeskError> {
    let advised = advice::of_account(db, book).await?;
    let lines = of_account(book, &advised);
    let taken = offer::taken(buttons, lines.iter().map(DueStep::offer).collect())?;
    let proposals: Vec<Proposal> = taken.into_iter().map(|l| l.proposal(double)).collect();
    if proposals.is_empty() {
        return Err(DeskError::Invalid("choose at least one campaign".into()));
    }
    tray::propose(db, &book.account, person, proposals).await
}
