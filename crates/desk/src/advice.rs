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
use crate::another_bid::{Bidder, Lower, Purse, asks_for_less, lost_to_budget};
use crate::book::quiet::{Quiet, quiet, quiet_at};
use crate::book::{Book, Entry, Judged, PRESENT_DAYS, Period, Touch};
use crate::budgets::curves::Curves;
use crate::budgets::freed::Freed;
use crate::budgets::responses::{self, Spender};
use crate::budgets::room::Room;
use crate::budgets::weekly::{self, Move, Part, Week};
use crate::causes::{self, Examined, remedy};
use crate::kept::Kept;
use crate::since::{self, Since};
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
    /// Another bid than its verdict asks for, or another budget where that is what decides on bids: higher where its bid
    /// keeps it from more, lower where the same money would last to the end of its days or its last results are too dear.
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
    pub known: Vec<Spender>,
    /// How clicks answer to bids, campaign by campaign.
    pub volumes: Arc<Volumes>,
    /// Higher bids, with the budgets that they need.
    raises: HashMap<CampaignId, Proposal>,
    /// Lower bids at which a budget lasts longer, or the last results are not bought too dear.
    lower: HashMap<CampaignId, Lower>,
    since: HashMap<CampaignId, Since>,
    quiet: HashMap<CampaignId, Quiet>,
    means: Means,
}

/// What may be moved.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Means {
    /// Daily budgets; of those alone, what is spent stays the same.
    pub budgets: bool,
    /// What stands for bids: bids by hand, targets, highest bids.
    pub bids: bool,
    /// All else that a cause asks for: where neither bids nor budgets are the cause, they are what is left without it.
    pub others: bool,
}

impl Means {
    /// The product's own advice: all of them.
    pub const ALL: Self = Self { budgets: true, bids: true, others: true };
}

static KEPT: Kept<(Period, ()), Advised> = Kept::new(24);

/// Reconciles what the stations say of an account's campaigns.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Arc<Advised>, DeskError> {
    book.keep(&KEPT, (), async || by(db, book, Means::ALL).await).await
}

/// The same where not all may be moved.
pub async fn by(db: &PgPool, book: &Book, means: Means) -> Result<Advised, DeskError> {
    let settings = Settings::of_book(db, book).await?;
    let curves = Curves::load(db, &book.account).await?;
    let volumes = volume::of_account(db, book).await?;
    let since = since::of_account(db, book, &settings).await?;
    let room = Room::of_book(db, book).await?;
    Ok(Advised::of(book, &settings, &curves, volumes, since, &room, means))
}

impl Advised {
    /// From what has been loaded.
    pub fn of(
        book: &Book,
        settings: &Settings,
        curves: &Curves,
        volumes: Arc<Volumes>,
        since: HashMap<CampaignId, Since>,
        room: &Room,
        means: Means,
    ) -> Self {
        let known = responses::of_account(book, settings, curves);
        let unspent = if means.bids { room.unspent(book, settings, &known) } else { 0.0 };
        let back = Freed::of_account(book, room);
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
        let judged: HashMap<CampaignId, (&Entry, &Judged)> = book
            .entries
            .iter()
            .zip(book.judge_all())
            .filter_map(|(e, j)| Some((e.campaign.id, (e, j.as_ref()?))))
            .collect();
        let bidders: HashMap<CampaignId, Bidder> = judged
            .iter()
            .filter_map(|(id, (e, j))| Some((*id, Bidder::of(settings, &volumes, e, j)?)))
            .collect();
        let mut cheapest: Vec<(&CampaignId, &Bidder)> =
            bidders.iter().filter(|(id, _)| !quiet.contains_key(id)).collect();
        cheapest.sort_by(|a, b| a.1.cost().total_cmp(&b.1.cost()).then(a.0.cmp(b.0)));
        // What was taken for nothing comes back before its look-back.
        let comes_back = |id: &CampaignId| {
            let waits = || book.touched.get(id).is_some_and(|t| t.iter().any(Touch::waits));
            back.gave(*id) > 0.0 && !room.on_course(*id) && !waits()
        };
        let weekly = |but: &HashMap<CampaignId, Proposal>| {
            let waits = |id: &CampaignId| {
                let verdict = judged.get(id).map(|(_, j)| j).filter(|j| faulty(j));
                let verdict = verdict.map(|j| j.diagnosis.verdict);
                matches!(verdict, Some(Verdict::TooEarly | Verdict::Measurement))
            };
            let takes_part = |l: &&Spender| {
                let left_alone = quiet.contains_key(&l.campaign) && !comes_back(&l.campaign);
                let aside = left_alone || but.contains_key(&l.campaign);
                !l.fresh && !waits(&l.campaign) && !aside
            };
            let part = |l: &Spender| match judged.get(&l.campaign).filter(|(_, j)| faulty(j)) {
                None => Part::Full,
                Some((e, j)) if remedy::of_campaign(settings, &volumes, e, j).is_some() => {
                    Part::Fixable(halfway_fixed(j))
                }
                // Nothing can be set there: the budget is what is left.
                Some(_) => Part::Gives,
            };
            let sure = |l: &Spender, spend: f64| {
                let bidder = bidders.get(&l.campaign);
                bidder.is_some_and(|b| b.affords(l, spend))
            };
            let lines = known.iter().filter(takes_part).cloned().collect();
            // What was freed is part of what budgets leave unspent: it is placed once.
            let left = (unspent - more(but) - back.free).max(0.0);
            weekly::advise(lines, (left, &back), book.by_value(), part, sure)
        };
        let (mut week, mut raises, mut lower) = (Week::default(), HashMap::new(), HashMap::new());
        if means.budgets {
            week = weekly(&raises);
        }
        if means.bids {
            let purses = if means.budgets { purses(book, &known) } else { HashMap::new() };
            // What is held by both is raised at once where that gets it more than its budget alone; where another step of the
            // bid has to wait for results, the budget is left to the week.
            let both = |id: &CampaignId, raise: &Proposal| {
                let up = |m: &&Move| m.line.campaign == *id && m.to > m.from;
                let alone = week.moves.iter().find(up);
                let waits = since.get(id).is_some_and(|s| s.against_more().is_some());
                let more = raise.adds.spend.filter(|more| *more > 0.0);
                !waits && alone.is_some_and(|m| m.adds().spend < more)
            };
            raises = higher(&cheapest, &purses, unspent, both);
            if !raises.is_empty() {
                week = weekly(&raises);
            }
            let left = unspent - week.spends_more() - more(&raises);
            let moved = |id: &CampaignId| week.moves.iter().any(|m| m.line.campaign == *id);
            let others = |id: &CampaignId, _: &Proposal| !moved(id) && !raises.contains_key(id);
            raises.extend(higher(&cheapest, &purses, left, others));
            let money: HashMap<CampaignId, &Spender> =
                known.iter().filter(|_| means.budgets).map(|l| (l.campaign, l)).collect();
            for (id, bidder) in &bidders {
                let scarce = purses.get(id).is_none_or(|p| !p.with(left).fills_its_days());
                let lasting =
                    || bidder.lasting().filter(|_| scarce).map(|step| Lower { step, waste: false });
                let less = match money.get(id).filter(|l| l.bids_by_budget().is_some()) {
                    Some(l) => bidder.less_money(l),
                    None => bidder.less_dear().or_else(lasting),
                };
                lower.extend(less.map(|l| (*id, l)));
            }
        }
        quiet.retain(|id, _| !week.moves.iter().any(|m| m.line.campaign == *id));
        Self { week, known, volumes, raises, lower, since, quiet, means }
    }

    /// The one advice for a campaign with its verdict.
    pub fn on<'a>(&'a self, entry: &Entry, judged: Option<&'a Judged>) -> Advice<'a> {
        let id = entry.campaign.id;
        if let Some(quiet) = self.quiet.get(&id) {
            return Advice::Quiet(quiet.clone());
        }
        let judged = judged.filter(|j| faulty(j));
        let moved = self.week.moves.iter().find(|m| m.line.campaign == id);
        let less_money = self.lower.get(&id).filter(|l| matches!(l.step.set, Setting::Budget(_)));
        match (judged, moved) {
            (_, Some(m)) => Advice::Budget(m),
            (Some(judged), None) if less_money.is_some() && asks_for_less(judged) => {
                self.other_bid(id)
            }
            (Some(judged), None) => match self.since.get(&id).filter(|_| asks_for_less(judged)) {
                // Results may be few by chance: a click that costs no more than it may is no reason for less.
                Some(since) => {
                    let dear = causes::trade_off(judged, &self.volumes, id).is_some();
                    let quiet = since.against_less().or((!dear).then(|| since.quiet()));
                    quiet.map_or(Advice::Verdict(judged), |quiet| Advice::Quiet(quiet.clone()))
                }
                None => Advice::Verdict(judged),
            },
            (None, None) => self.other_bid(id),
        }
    }

    /// Another bid, unless what came since the last step speaks against it.
    fn other_bid(&self, campaign: CampaignId) -> Advice<'_> {
        let since = self.since.get(&campaign);
        let (bid, against) = match (self.raises.get(&campaign), self.lower.get(&campaign)) {
            (Some(raise), _) => (raise, since.and_then(Since::against_more)),
            (None, Some(lower)) => {
                let since = since.filter(|_| !lower.waste);
                (&lower.step, since.and_then(Since::against_less))
            }
            (None, None) => return Advice::Nothing,
        };
        against.map_or(Advice::Bid(bid), |quiet| Advice::Quiet(quiet.clone()))
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
                let mut change = remedy::of_campaign(settings, &self.volumes, entry, judged);
                if !self.means.others {
                    let of_bids = change.filter(|p| p.set.moves_bids());
                    change =
                        of_bids.or_else(|| remedy::by_bid(settings, &self.volumes, entry, judged));
                }
                let change = change?;
                Some(unless_quiet(book, settings, entry.campaign.id, change))
            }
            Advice::Bid(p) => Some(unless_quiet(book, settings, entry.campaign.id, p.clone())),
        }
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

/// What each campaign with a daily budget may spend, of its own.
fn purses(book: &Book, known: &[Spender]) -> HashMap<CampaignId, Purse> {
    // Of the last days, as what it spends now is.
    let lately = Window::ending(book.span.to(), PRESENT_DAYS.into());
    let purse = |l: &Spender| {
        let lost = lost_to_budget(book.entry(l.campaign).ok()?, lately).map_or(0.0, Share::get);
        let demand = l.spend / (1.0 - lost).max(f64::MIN_POSITIVE);
        Some((l.campaign, Purse { spend: l.spend, demand, budget: l.budget?, unspent: 0.0 }))
    };
    known.iter().filter_map(purse).collect()
}

/// Higher bids that are `wanted`, with the budgets that they need, of those first who come first, as long as the
/// account's budgets leave anything unspent.
fn higher(
    bidders: &[(&CampaignId, &Bidder)],
    purses: &HashMap<CampaignId, Purse>,
    mut unspent: f64,
    wanted: impl Fn(&CampaignId, &Proposal) -> bool,
) -> HashMap<CampaignId, Proposal> {
    let mut raises = HashMap::new();
    for (id, bidder) in bidders {
        let purse = purses.get(id).map(|p| p.with(unspent));
        if let Some(raise) = bidder.higher(purse).filter(|raise| wanted(id, raise)) {
            unspent -= more_of(&raise);
            raises.insert(**id, raise);
        }
    }
    raises
}

/// What raises spend more a day.
fn more(raises: &HashMap<CampaignId, Proposal>) -> f64 {
    raises.values().map(more_of).sum()
}

fn more_of(raise: &Proposal) -> f64 {
    raise.adds.spend.unwrap_or(0.0).max(0.0)
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tray::proposal::Adds;

    const ID: CampaignId = CampaignId(1);

    /// A campaign that had a step down, and could have another.
    fn stepped(waste: bool, over: f64) -> Advised {
        let set = Setting::Bid(None);
        let step = Proposal::new(Subject::Campaign(ID), set, Origin::Bids, "")
            .expecting("", Adds::of(-1.0, -0.1, None));
        let quiet = Quiet { what: "Bid".into(), until: None, undone: false, unclear: true };
        Advised {
            week: Week::default(),
            known: Vec::new(),
            volumes: Arc::default(),
            raises: HashMap::new(),
            lower: HashMap::from([(ID, Lower { step, waste })]),
            since: HashMap::from([(ID, Since::new(over, quiet))]),
            quiet: HashMap::new(),
            means: Means::ALL,
        }
    }

    #[test]
    fn a_step_less_waits_for_results_unless_it_is_of_waste() {
        let lowered = |waste, over| match stepped(waste, over).other_bid(ID) {
            Advice::Bid(_) => true,
            Advice::Quiet(quiet) => !quiet.unclear,
            _ => false,
        };
        assert!(lowered(false, 0.8) && !lowered(false, 0.4), "results since ask for it, or not");
        assert!(lowered(true, 0.4), "the mean conversion has no say");
    }
}
