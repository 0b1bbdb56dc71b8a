//! One advice for each campaign, the same on every page: from the station that limits it. What was changed is left
//! alone until its look-back, and what waits in the tray is not advised again.

use std::collections::HashMap;
use std::sync::Arc;

use tiller_core::ids::CampaignId;
use tiller_core::setting::Setting;
use tiller_core::spot::Subject;
use tiller_core::verdict::{Early, Verdict};
use tiller_core::{Share, Target, Window};
use tiller_store::PgPool;

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::quiet::{Quiet, quiet, quiet_at};
use crate::book::{Book, Entry, Judged, PRESENT_DAYS, Period, Touch};
use crate::budgets::curves::Curves;
use crate::budgets::responses;
use crate::budgets::weekly::{self, Move, Part, Week};
use crate::causes::remedy::Purse;
use crate::causes::{self, Examined, remedy};
use crate::kept::Kept;
use crate::since::{self, Lately, Since};
use crate::tray::proposal::{Origin, Proposal};
use crate::volume::{self, Volumes};

/// The one advice for a campaign.
#[derive(Clone, Debug)]
pub enum Advice<'a> {
    /// It was changed, or a change waits.
    Quiet(Quiet),
    /// Its tracking, its targeting, its bid: what its verdict says.
    Verdict(&'a Judged),
    /// Another budget.
    Budget(&'a Move),
    /// Another bid, though it is on target: higher where its bid keeps it from more, lower where the same money would
    /// last to the end of its days.
    Bid(&'a Proposal),
    /// Nothing.
    Nothing,
}

/// The advice for an account.
#[derive(Clone, Debug)]
pub struct Advised {
    /// Budgets to be moved, of campaigns whose budget is what to change.
    pub week: Week,
    /// What money can do, campaign by campaign.
    pub known: Vec<responses::Spender>,
    /// How clicks answer to bids, campaign by campaign.
    pub volumes: Arc<Volumes>,
    /// Higher bids, with the budgets that they need.
    raises: HashMap<CampaignId, Proposal>,
    /// As far as present budgets have room for them.
    within: HashMap<CampaignId, Proposal>,
    /// Lower bids at which a budget lasts longer.
    longer: HashMap<CampaignId, Proposal>,
    /// Whether lower bids free money, or will: then a budget that ends its days can be raised instead.
    frees: bool,
    since: HashMap<CampaignId, Since>,
    quiet: HashMap<CampaignId, Quiet>,
}

/// What sees whether a campaign on target would get more with another bid.
type AnotherBid = fn(&Settings, &Volumes, &Entry, &Judged) -> Option<Proposal>;

static KEPT: Kept<(Period, ()), Advised> = Kept::new(24);

/// Reconciles what the stations say of an account's campaigns.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Arc<Advised>, DeskError> {
    let reconcile = async || {
        let settings = Settings::of_book(db, book).await?;
        let curves = Curves::load(db, &book.account).await?;
        let volumes = volume::of_account(db, book).await?;
        let lately = since::of_account(db, book).await?;
        Ok(Advised::of(book, &settings, &curves, volumes, lately))
    };
    book.keep(&KEPT, (), reconcile).await
}

impl Advised {
    /// From what has been loaded.
    pub fn of(
        book: &Book,
        settings: &Settings,
        curves: &Curves,
        volumes: Arc<Volumes>,
        lately: Lately,
    ) -> Self {
        let known = responses::of_account(book, settings, curves);
        let mut quiet: HashMap<CampaignId, Quiet> =
            book.touched.iter().filter_map(|(id, t)| Some((*id, quiet(t)?))).collect();
        // What waits for one that shares a strategy waits for all who do.
        for (id, touches) in &book.touched {
            let (true, Some(waits)) = (touches.iter().any(waits_for_all), quiet.get(id)) else {
                continue;
            };
            let waits = waits.clone();
            for sharer in settings.sharers(*id) {
                quiet.insert(sharer, waits.clone());
            }
        }
        let faulty: HashMap<CampaignId, (&Entry, &Judged)> = book
            .entries
            .iter()
            .zip(book.judge_all())
            .filter_map(|(e, j)| Some((e.campaign.id, (e, j.as_ref().filter(|j| faulty(j))?))))
            .collect();
        let part = |l: &responses::Spender| match faulty.get(&l.campaign) {
            None => Part::Full,
            Some((e, j)) if remedy::of_campaign(settings, &volumes, e, j).is_some() => {
                Part::Fixable(halfway_fixed(j))
            }
            // Nothing can be set there: the budget is what is left.
            Some(_) => Part::Gives,
        };
        let waits = |id: CampaignId| {
            let verdict = faulty.get(&id).map(|(_, j)| j.diagnosis.verdict);
            matches!(verdict, Some(Verdict::TooEarly | Verdict::Measurement))
        };
        let lines = known
            .iter()
            .filter(|l| !l.fresh && !waits(l.campaign) && !quiet.contains_key(&l.campaign))
            .cloned()
            .collect();
        let Lately { since, freed } = lately;
        let week = weekly::advise(lines, freed, book.by_value(), weekly::targets(book), part);
        let bids = |of: AnotherBid| -> HashMap<CampaignId, Proposal> {
            let all = book.entries.iter().zip(book.judge_all());
            let bid = |(e, j): (&Entry, &Option<Judged>)| {
                Some((e.campaign.id, of(settings, &volumes, e, j.as_ref()?)?))
            };
            all.filter_map(bid).collect()
        };
        let within = bids(|s, v, e, j| remedy::raise(s, v, e, j, None));
        let longer = bids(remedy::last_longer);
        let raises = raises(book, settings, &volumes, &known, &quiet, -week.spends_more());
        let will_free = |(id, (e, j)): (&CampaignId, &(&Entry, &Judged))| {
            !quiet.contains_key(id)
                && asks_for_less(j)
                && remedy::of_campaign(settings, &volumes, e, j).is_some()
        };
        let frees = freed > 0.0 || faulty.iter().any(will_free);
        Self { week, known, volumes, raises, within, longer, frees, since, quiet }
    }

    /// The one advice for a campaign with its verdict.
    pub fn on<'a>(&'a self, entry: &Entry, judged: Option<&'a Judged>) -> Advice<'a> {
        let id = entry.campaign.id;
        if let Some(quiet) = self.quiet.get(&id) {
            return Advice::Quiet(quiet.clone());
        }
        let judged = judged.filter(|j| faulty(j));
        let moved = self.week.moves.iter().find(|m| m.line.campaign == id);
        match (judged, moved) {
            (_, Some(m)) => Advice::Budget(m),
            (Some(judged), None) => match self.since.get(&id).filter(|_| asks_for_less(judged)) {
                // Results may be few by chance: a click that costs no more than it may is no reason for less.
                Some(since) => {
                    let dear = causes::trade_off(judged, &self.volumes, id).is_some();
                    let quiet = since.against_less().or((!dear).then(|| since.quiet()));
                    quiet.map_or(Advice::Verdict(judged), |quiet| Advice::Quiet(quiet.clone()))
                }
                None => Advice::Verdict(judged),
            },
            (None, None) => match (self.raises.get(&id), self.longer.get(&id)) {
                (None, Some(longer)) if !self.frees => Advice::Bid(longer),
                (None, _) => Advice::Nothing,
                (Some(raise), _) => {
                    let against = self.since.get(&id).and_then(Since::against_more);
                    against.map_or(Advice::Bid(raise), |quiet| Advice::Quiet(quiet.clone()))
                }
            },
        }
    }

    /// What the one advice on a campaign asks for, where its channel is connected and it can be set there.
    pub fn cure(
        &self,
        book: &Book,
        settings: &Settings,
        entry: &Entry,
        judged: Option<&Judged>,
    ) -> Option<Cure> {
        settings.connection(entry.campaign.id)?;
        match self.on(entry, judged) {
            Advice::Nothing => None,
            Advice::Quiet(quiet) => Some(Cure::Quiet(quiet)),
            Advice::Budget(m) => Some(Cure::Budget(Box::new(m.clone()), self.week.moves.clone())),
            Advice::Verdict(judged) => {
                let change = remedy::of_campaign(settings, &self.volumes, entry, judged)?;
                Some(unless_quiet(book, settings, entry.campaign.id, change))
            }
            Advice::Bid(p) => Some(unless_quiet(book, settings, entry.campaign.id, p.clone())),
        }
    }

    /// The same where budgets are not to be moved: what bids alone can do.
    #[must_use]
    pub fn by_bids_alone(&self) -> Self {
        let all = self.clone();
        Self { week: Week::default(), frees: false, raises: all.within.clone(), ..all }
    }

    /// Why a campaign is left alone, if it is.
    pub fn quiet(&self, campaign: CampaignId) -> Option<&Quiet> {
        self.quiet.get(&campaign)
    }
}

impl Cure {
    /// Whether its look-back is over and results since then decide on more.
    pub fn waits_for_results(&self) -> bool {
        matches!(self, Self::Quiet(quiet) if quiet.unclear)
    }

    /// What another bid for a campaign on target says; the others are said by their verdict, their move, or what they
    /// wait for.
    pub fn on_target(&self) -> Option<String> {
        match self {
            Self::Change(p) if p.origin == Origin::Bids => {
                Some(format!("{} Expect {}.", p.reason, p.effect))
            }
            _ => None,
        }
    }
}

/// What the one advice on a campaign, an ad group or an item would set.
#[derive(Clone, Debug)]
pub enum Cure {
    /// One change.
    Change(Proposal),
    /// Another budget, as one of the week's moves.
    Budget(Box<Move>, Vec<Move>),
    /// Nothing for now: something was changed there, or waits.
    Quiet(Quiet),
}

/// What the one advice asks for, where its channel is connected and it can be set there.
pub async fn cure(
    db: &PgPool,
    book: &Book,
    subject: Subject,
    e: &Examined,
) -> Result<Option<Cure>, DeskError> {
    let Some(judged) = &e.judged else { return Ok(None) };
    let settings = match subject {
        Subject::Item(id) => Settings::of_book(db, book).await?.with_items(db, &[id]).await?,
        _ => Settings::of_book(db, book).await?,
    };
    if settings.connection(e.campaign_id).is_none() {
        return Ok(None);
    }
    if let Subject::Campaign(id) = subject {
        let advised = of_account(db, book).await?;
        return Ok(advised.cure(book, &settings, book.entry(id)?, Some(judged)));
    }
    let change = remedy::of_verdict(&settings, subject, judged, e.trade_off);
    Ok(change.map(|p| unless_quiet(book, &settings, e.campaign_id, p)))
}

/// A change, or why its spot is left alone for now.
fn unless_quiet(book: &Book, settings: &Settings, campaign: CampaignId, p: Proposal) -> Cure {
    let touches = book.touched.get(&campaign).map_or(&[][..], Vec::as_slice);
    let quiet = settings.spot(p.subject).and_then(|spot| quiet_at(touches, spot, &p.set));
    quiet.map_or(Cure::Change(p), Cure::Quiet)
}

/// How many times as much a campaign's money would bring, were it halfway to its target: what one step of a remedy is
/// for.
fn halfway_fixed(j: &Judged) -> f64 {
    let cost = match j.target {
        Target::Cpa(target) => j.tally.cpa().map(|cpa| cpa / target),
        Target::Roas(target) => j.tally.roas().filter(|r| *r > 0.0).map(|roas| target / roas),
    };
    // No result at all can't be fixed by a share.
    cost.map_or(1.0, |over| 2.0 * over / (over + 1.0)).max(1.0)
}

/// Whether it waits, and sets what a shared strategy has one of for all.
fn waits_for_all(t: &Touch) -> bool {
    let shared =
        matches!(t.set_to, Setting::Strategy(_) | Setting::BidFloor(_) | Setting::BidCeiling(_));
    t.waits() && shared && t.spot.ad_group.is_none()
}

/// Whether its verdict asks for a lower bid.
fn asks_for_less(j: &Judged) -> bool {
    matches!(j.diagnosis.verdict, Verdict::Bid | Verdict::OrderValue | Verdict::Both)
}

/// Higher bids of those on target with the budgets that they need, the cheapest results first, as long as the account's
/// budgets leave anything unspent; `given` has been given to others.
fn raises(
    book: &Book,
    settings: &Settings,
    volumes: &Volumes,
    known: &[responses::Spender],
    quiet: &HashMap<CampaignId, Quiet>,
    given: f64,
) -> HashMap<CampaignId, Proposal> {
    let purses: HashMap<CampaignId, (f64, f64)> =
        known.iter().filter_map(|l| Some((l.campaign, (l.spend, l.budget?)))).collect();
    let mut unspent = given + purses.values().map(|(spend, budget)| budget - spend).sum::<f64>();
    let mut candidates: Vec<(f64, &Entry, &Judged)> = book
        .entries
        .iter()
        .zip(book.judge_all())
        .filter(|(e, _)| !quiet.contains_key(&e.campaign.id))
        .filter_map(|(e, j)| {
            let j = j.as_ref()?;
            Some((j.tally.cpa()? / j.diagnosis.target_cpa?, e, j))
        })
        .collect();
    candidates.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut raises = HashMap::new();
    for (_, entry, judged) in candidates {
        let id = entry.campaign.id;
        // Of the last days, as what it spends now is.
        let lately = Window::ending(book.span.to(), PRESENT_DAYS.into());
        let lost = remedy::lost_to_budget(entry, lately).map_or(0.0, Share::get);
        let purse = purses.get(&id).map(|(spend, budget)| Purse {
            spend: *spend,
            demand: spend / (1.0 - lost).max(f64::MIN_POSITIVE),
            budget: *budget,
            unspent,
        });
        if let Some(raise) = remedy::raise(settings, volumes, entry, judged, purse) {
            unspent -= raise.adds.spend.unwrap_or(0.0).max(0.0);
            raises.insert(id, raise);
        }
    }
    raises
}

/// Whether its verdict asks for something before its budget does; a launch or a shock asks for patience.
fn faulty(j: &Judged) -> bool {
    match j.diagnosis.verdict {
        Verdict::OnTarget => false,
        Verdict::TooEarly => {
            matches!(j.diagnosis.early, Some(Early::Launched { .. } | Early::Changed { .. }))
        }
        Verdict::Bid
        | Verdict::Traffic
        | Verdict::OrderValue
        | Verdict::Both
        | Verdict::Measurement => true,
    }
}
