//! What a campaign that doesn't exist yet would bring (P10): from the account's own campaigns that are like it, from what
//! its channel says, and from both together.

use tiller_channel::connection::{ChannelError, Connection as _};
use tiller_channel::wire::{Draft, Estimate, MoneyBetween, Who};
use tiller_core::evidence::Interval;
use tiller_core::results_estimate::{Guess, Own, Results, Similar, Told, results};
use tiller_core::setting::{Dimension, ItemKind, Strategy};
use tiller_core::strategy::Kind;
use tiller_core::{Micros, Window};
use tiller_store::splits::{self, Known};
use tiller_store::{PgPool, connections as stored};

use crate::DeskError;
use crate::account::channels::Channels;
use crate::book::{Book, Entry};
use crate::numerals::typed_number;

/// Fewer campaigns than this at the channel itself, and those of the kind elsewhere are looked at too.
const LEAST: usize = 2;
/// The least clicks that make a campaign one to go by.
const LEAST_CLICKS: f64 = 30.0;

/// What a campaign to be is asked for with, as typed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Asked<'a> {
    /// The channel's name.
    pub channel: &'a str,
    /// What its items are.
    pub kind: &'a str,
    /// Their names, one a line or between commas.
    pub items: &'a str,
    /// The only people that it is for, as `age: 25-34`, between commas.
    pub people: &'a str,
    /// Its strategy.
    pub strategy: &'a str,
    /// The target of that.
    pub target: &'a str,
    /// Its bid, or the most that its strategy bids.
    pub bid: &'a str,
    /// Its budget a day.
    pub budget: &'a str,
}

/// What was worked out.
#[derive(Debug)]
pub struct Estimated {
    /// The campaigns that it goes by.
    pub similar: Vec<String>,
    /// Whether some of them are at other channels.
    pub elsewhere: bool,
    /// From them alone.
    pub own: Results,
    /// From the channel alone.
    pub told: Option<Results>,
    /// From both.
    pub together: Results,
    /// Whether they differ in what a click costs by more than either allows for.
    pub differ: bool,
    /// Why the channel said nothing.
    pub silent: Option<String>,
    /// The bids that the channel advises.
    pub bids: Option<Interval>,
    /// The bid that was asked for, or what its target comes to for a click.
    pub bid: Option<f64>,
    /// The budget above which more buys nothing.
    pub enough: Option<Interval>,
    /// The budget that was asked for.
    pub budget: f64,
}

/// What can be asked for: the account's connected channels, with the people that each tells apart.
pub async fn channels(db: &PgPool, book: &Book) -> Result<Vec<(String, Vec<Known>)>, DeskError> {
    let mut people = splits::people(db, book.account.id, window(book)).await?;
    let all = stored::list(db, book.account.id).await?;
    Ok(all
        .into_iter()
        .map(|c| {
            let here = people.extract_if(.., |p| p.channel == c.channel_name).collect();
            (c.channel_name, here)
        })
        .collect())
}

fn window(book: &Book) -> Window {
    book.settled().unwrap_or(book.period.window)
}

fn say<T>(why: impl Into<String>) -> Result<T, DeskError> {
    Err(DeskError::Invalid(why.into()))
}

fn typed(text: &str, what: &str) -> Result<Option<f64>, DeskError> {
    let read = typed_number::amount(text, None);
    let read = read.map_err(|why| DeskError::Invalid(format!("{what}: {why}")))?;
    match read {
        Some(x) if x <= 0.0 || x >= 1e9 => say(format!("{what}: an amount above 0 is needed")),
        read => Ok(read),
    }
}

impl Asked<'_> {
    /// What the channel is asked.
    fn draft(&self) -> Result<Draft, DeskError> {
        let Some(kind) = ItemKind::read(self.kind) else { return say("choose what it shows") };
        let target = typed(self.target, "target")?;
        let money = |x: f64| Micros::from_units(x);
        let strategy = match (Kind::read(self.strategy), target) {
            (None, _) => return say("choose how it bids"),
            (Some(Kind::TargetCpa), Some(t)) => Strategy::TargetCpa { target: money(t) },
            (Some(Kind::TargetRoas), Some(target)) => Strategy::TargetRoas { target },
            (Some(Kind::TargetCpa | Kind::TargetRoas), None) => {
                return say("type the target of its strategy");
            }
            (Some(kind), _) => match kind.without_target() {
                Some(strategy) => strategy,
                None => return say("choose how it bids"),
            },
        };
        let bid = typed(self.bid, "bid")?;
        if bid.is_none() && !strategy.automatic() {
            return say("type a bid: this strategy bids by hand");
        }
        let Some(budget) = typed(self.budget, "budget")? else {
            return say("type a budget a day");
        };
        let parts = |text: &str| -> Vec<String> {
            let all = text.split([',', '\n']).map(str::trim).filter(|t| !t.is_empty());
            all.map(str::to_owned).collect()
        };
        let mut people = Vec::new();
        for part in parts(self.people) {
            let read = part.split_once(": ").and_then(|(dimension, segment)| {
                let dimension = Dimension::read(dimension)?;
                Some(Who { dimension, segment: segment.to_owned() })
            });
            let Some(who) = read else { return say(format!("‘{part}’ names no people")) };
            people.push(who);
        }
        let (bid, budget) = (bid.map(money), money(budget));
        Ok(Draft { kind, items: parts(self.items), people, strategy, bid, budget })
    }
}

/// The account's campaigns that are like one to be: those of its kind at its channel, or where they are too few, of its kind
/// anywhere.
fn alike<'a>(book: &'a Book, channel: &str, kind: ItemKind) -> Vec<&'a Entry> {
    let over = window(book);
    let ran =
        |e: &&Entry| e.campaign.kind == kind.word() && e.tally(over).clicks as f64 >= LEAST_CLICKS;
    let all: Vec<&Entry> = book.entries.iter().filter(ran).collect();
    let here: Vec<&Entry> = all.iter().copied().filter(|e| e.campaign.channel == channel).collect();
    if here.len() >= LEAST { here } else { all }
}

fn similar(book: &Book, entry: &Entry) -> Similar {
    let over = window(book);
    let t = entry.tally(over);
    let target = entry.target.or(book.account.target());
    Similar {
        impressions: t.impressions as f64,
        clicks: t.clicks as f64,
        spend: t.spend.to_units(),
        conversions: t.conversions,
        value: t.value.to_units(),
        dispersion: target.map_or(1.0, |target| entry.rules(target, over).dispersion),
    }
}

fn told(e: &Estimate) -> Told {
    let money = |m: MoneyBetween| range(m).map(|i| Guess::within(i.low, i.high));
    let count = |b: tiller_channel::wire::Between| {
        (b.low > 0.0 && b.high >= b.low).then(|| Guess::within(b.low, b.high))
    };
    Told {
        reach: e.reach.and_then(count),
        impressions: count(e.impressions),
        clicks: count(e.clicks),
        spend: money(e.spend),
    }
}

fn range(m: MoneyBetween) -> Option<Interval> {
    let (low, high) = (m.low.to_units(), m.high.to_units());
    (low > 0.0 && high >= low).then_some(Interval { low, high })
}

/// The most that a click costs by what sets its bid; a target's goes by the conversion rate that is expected.
fn most_cpc(draft: &Draft, own: &Own) -> Option<f64> {
    let bid = draft.bid.map(Micros::to_units);
    let by_target = match draft.strategy {
        // A bid for a thousand impressions.
        Strategy::ManualCpm => return bid.zip(own.ctr).map(|(bid, ctr)| bid / 1000.0 / ctr.mid()),
        Strategy::TargetCpa { target } => own.cvr.map(|cvr| target.to_units() * cvr.mid()),
        Strategy::TargetRoas { target } => {
            own.cvr.zip(own.aov).map(|(cvr, aov)| cvr.mid() * aov.mid() / target)
        }
        _ => None,
    };
    match (bid, by_target) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    }
}

/// Works it out, and asks the channel.
pub async fn estimate(
    db: &PgPool,
    channels: &Channels,
    book: &Book,
    asked: &Asked<'_>,
) -> Result<Estimated, DeskError> {
    let draft = asked.draft()?;
    let all = stored::list(db, book.account.id).await?;
    let Some(connection) = all.iter().find(|c| c.channel_name == asked.channel) else {
        return say("choose one of the connected channels");
    };
    let alike = alike(book, asked.channel, draft.kind);
    let known: Vec<Similar> = alike.iter().map(|e| similar(book, e)).collect();
    let own = Own::of(&known);
    let answer = match channels.open(connection) {
        Ok(channel) => channel.estimate(&draft).await,
        Err(error) => Err(error),
    };
    let (answer, silent) = match answer {
        Ok(answer) => (Some(answer), None),
        Err(ChannelError::Refused { detail, .. }) if !detail.is_empty() => (None, Some(detail)),
        Err(error) => (None, Some(error.to_string())),
    };
    let most = most_cpc(&draft, &own);
    let budget = draft.budget.to_units();
    let says = answer.as_ref().map(told);
    let theirs = says.as_ref().map(|t| results(&Own::default(), Some(t), budget, most));
    let alone = results(&own, None, budget, most);
    Ok(Estimated {
        similar: alike.iter().map(|e| e.campaign.name.clone()).collect(),
        elsewhere: alike.iter().any(|e| e.campaign.channel != asked.channel),
        differ: alone.cpc.zip(theirs.and_then(|t| t.cpc)).is_some_and(|(a, b)| a.disagrees(b)),
        together: results(&own, says.as_ref(), budget, most),
        own: alone,
        told: theirs,
        silent,
        bids: answer.and_then(|a| range(a.bids)),
        bid: most,
        enough: answer.and_then(|a| range(a.enough)),
        budget,
    })
}
