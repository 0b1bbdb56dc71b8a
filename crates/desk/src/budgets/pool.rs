//! A campaign's ad groups: what each takes of the money and of the results, whether it has had a fair test, and
//! what its floor and ceiling should be (P2, P7).

use tiller_core::ids::{AdGroupId, CampaignId, PersonId};
use tiller_core::pool::{self as core, Advice, Conflict, FAIR_TARGETS, Member, Seen, Standing};
use tiller_core::setting::{Budget, Setting};
use tiller_core::{Micros, Price, Tally, Target, Window};
use tiller_store::PgPool;
use tiller_store::people::Account;

use crate::account::settings::Settings;
use crate::book::{self, Book};
use crate::numerals::{count, money, percent, probability, typed_number};
use crate::tray::offer::{self, Offer};
use crate::tray::proposal::{Origin, Proposal};
use crate::{DeskError, tray};
use tiller_core::spot::Subject;

/// Settled days that ad groups are compared over.
const DAYS: u64 = 28;

/// An ad group.
#[derive(Clone, Debug)]
pub struct Group {
    /// Its id.
    pub id: AdGroupId,
    /// Its name.
    pub name: String,
    /// What was counted.
    pub tally: Tally,
    /// The least a day that it gets of the pool.
    pub floor: Option<f64>,
    /// The most.
    pub ceiling: Option<f64>,
    /// Its own budget a day, where the campaign has none.
    pub own: Option<f64>,
    /// How it stands in the pool.
    pub standing: Option<Standing>,
}

/// The ad groups of a campaign.
#[derive(Clone, Debug)]
pub struct Pool {
    /// The days compared.
    pub window: Window,
    /// The pooled budget a day; none if each has its own.
    pub budget: Option<f64>,
    /// What a result may cost.
    pub target: Price,
    /// Its ad groups, the most money first.
    pub groups: Vec<Group>,
    /// What its floors and ceilings contradict.
    pub conflict: Option<Conflict>,
}

impl Pool {
    /// Probability that the one that leads is the best.
    fn leads(&self) -> f64 {
        self.groups.iter().filter_map(|g| Some(g.standing?.best)).fold(0.0, f64::max)
    }

    /// What all of it counted.
    pub fn total(&self) -> Tally {
        self.groups.iter().map(|g| g.tally).sum()
    }
}

/// Looks at a campaign's ad groups; none where its settings are not known.
pub async fn view(
    db: &PgPool,
    book: &Book,
    campaign: CampaignId,
) -> Result<Option<Pool>, DeskError> {
    let entry = book.entry(campaign)?;
    let settings = Settings::of_book(db, book).await?;
    let Some(set) = settings.campaign(campaign) else { return Ok(None) };
    let window = Window::ending(book.last_settled(), DAYS);
    let items = book::items(db, book, Some(campaign), window).await?;
    let tally = |id| items.iter().filter(|i| i.ad_group == id).map(|i| i.tally).sum::<Tally>();
    let units = |m: Option<Micros>| m.map(Micros::to_units);
    let budget = set.budget.map(|b| b.per_day().to_units());
    let mut groups: Vec<Group> = settings
        .ad_groups_of(campaign)
        .map(|(id, g)| Group {
            id,
            name: settings.group_name(id).unwrap_or_default().to_owned(),
            tally: tally(id),
            floor: units(g.floor),
            ceiling: units(g.ceiling),
            own: g.budget.map(|b| b.per_day().to_units()),
            standing: None,
        })
        .collect();
    groups.sort_by(|a, b| b.tally.spend.cmp(&a.tally.spend).then(a.id.cmp(&b.id)));
    let total: Tally = groups.iter().map(|g| g.tally).sum();
    let aov = total.aov().filter(|_| matches!(entry.target, Some(Target::Roas(_))));
    let target =
        entry.target.and_then(|t| t.as_cpa(total.aov())).or(total.cpa()).unwrap_or(Price(0.0));
    let members: Vec<Member> = groups
        .iter()
        .map(|g| Member {
            spend: g.tally.spend.to_units(),
            // Where value is the aim, results are told in mean orders.
            results: aov.map_or(g.tally.conversions, |a| Price::from(g.tally.value) / a),
            floor: g.floor,
            ceiling: g.ceiling,
        })
        .collect();
    let conflict = budget.and_then(|b| core::conflict(b, &members));
    if let Some(budget) = budget {
        let dispersion =
            entry.target.map_or(1.0, |t| entry.lasting_dispersion(t.is_roas(), window));
        let seen = Seen { days: entry.reported(window), dispersion };
        for (group, standing) in groups.iter_mut().zip(core::judge(budget, target, seen, &members))
        {
            group.standing = Some(standing);
        }
    }
    Ok(Some(Pool { window, budget, target, groups, conflict }))
}

/// What the advice on an ad group says.
pub fn advice(pool: &Pool, group: &Group) -> Option<String> {
    match group.standing?.advice {
        Advice::Leave => None,
        Advice::Floor(a_day) => Some(format!(
            "{} of the {} a fair test takes: give it at least {} a day",
            money(group.tally.spend.to_units()),
            money(FAIR_TARGETS * pool.target),
            money(a_day)
        )),
        Advice::Lift => Some(format!(
            "another has won (best with a probability of {}): lift its floor of {}",
            probability(pool.leads()),
            money(group.floor.unwrap_or(0.0))
        )),
    }
}

/// The floors that the advice asks for, or takes away.
pub fn offers(view: &Pool) -> Vec<Offer<Proposal>> {
    let offer = |g: &Group| {
        let standing = g.standing?;
        let set = match standing.advice {
            Advice::Leave => return None,
            Advice::Floor(a_day) => Setting::Floor(Some(Micros::from_units(a_day))),
            Advice::Lift => Setting::Floor(None),
        };
        let reason = format!("It has spent {}.", advice(view, g)?);
        let proposal = Proposal::new(Subject::AdGroup(g.id), set, Origin::Plan, reason)
            .because("Spent", money(g.tally.spend.to_units()))
            .because("Conversions", count(g.tally.conversions))
            .because("Best with a probability of", format!("{}%", percent(standing.best)));
        Some(Offer::change(g.id, &g.name, proposal))
    };
    view.groups.iter().filter_map(offer).collect()
}

/// Puts the advice on some ad groups in the tray.
pub async fn take(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    campaign: CampaignId,
    buttons: &[String],
) -> Result<usize, DeskError> {
    let view = view(db, book, campaign).await?.ok_or(DeskError::NotFound("campaign"))?;
    let proposals = offer::taken(buttons, offers(&view))?;
    if proposals.is_empty() {
        return Err(DeskError::Invalid("choose at least one ad group with advice".into()));
    }
    tray::propose(db, &book.account, person, proposals).await
}

/// An ad group's part of a budget that is split by audience.
#[derive(Clone, Debug, PartialEq)]
pub struct Part {
    /// The ad group.
    pub id: AdGroupId,
    /// Its name.
    pub name: String,
    /// Its audience.
    pub size: f64,
    /// Its money a day.
    pub a_day: f64,
}

/// Splits the campaign's money by audience sizes as they were typed, with a minimum each; exact to the coin.
pub fn by_audience(
    account: &Account,
    view: &Pool,
    sizes: &dyn Fn(AdGroupId) -> Option<String>,
    least: &str,
) -> Result<Vec<Part>, DeskError> {
    let wrong = |name: &str, why: String| DeskError::Invalid(format!("{name}: {why}"));
    let least =
        typed_number::amount(least, None).map_err(|e| wrong("the least each", e))?.unwrap_or(0.0);
    let mut typed = Vec::new();
    for g in &view.groups {
        let text = sizes(g.id).unwrap_or_default();
        match typed_number::amount(&text, None).map_err(|e| wrong(&g.name, e))? {
            Some(size) if size > 0.0 && size < 1e11 => typed.push((g, size)),
            Some(_) => return Err(wrong(&g.name, "a size above 0 is needed".into())),
            None => return Err(wrong(&g.name, "type how many people its audience has".into())),
        }
    }
    let total = view.budget.unwrap_or_else(|| view.groups.iter().filter_map(|g| g.own).sum());
    let coin = account.coins(Micros::new(1)).to_units();
    let coins = |x: f64| (x / coin).round() as i64;
    let sizes: Vec<f64> = typed.iter().map(|(_, size)| *size).collect();
    let parts = core::by_audience(coins(total), &sizes, coins(least)).ok_or_else(|| {
        DeskError::Invalid(format!(
            "at least {} for each of {} ad groups is more than {} a day; lower the least",
            money(least),
            typed.len(),
            money(total)
        ))
    })?;
    Ok(typed
        .into_iter()
        .zip(parts)
        .map(|((g, size), coins)| Part {
            id: g.id,
            name: g.name.clone(),
            size,
            a_day: coins as f64 * coin,
        })
        .collect())
}

/// Puts a split by audience in the tray: as budgets of the ad groups, or as floors of a pooled budget.
pub async fn take_split(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    view: &Pool,
    parts: &[Part],
) -> Result<usize, DeskError> {
    let set = |p: &Part| match view.budget {
        Some(_) => Setting::Floor(Some(Micros::from_units(p.a_day))),
        None => Setting::Budget(Budget::Daily { amount: Micros::from_units(p.a_day) }),
    };
    let proposals = parts
        .iter()
        .map(|p| {
            let reason = "The budget is split by the sizes of audiences.";
            Proposal::new(Subject::AdGroup(p.id), set(p), Origin::Plan, reason)
                .because("Audience", count(p.size))
        })
        .collect();
    tray::propose(db, &book.account, person, proposals).await
}
