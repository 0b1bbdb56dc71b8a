//! Verdicts and advice as a colleague would say them: what is so, how sure that is, what to do next. A campaign is
//! told in its own measure: one with a ROAS target never reads of a CPA.

use chrono::NaiveDate;
use tiller_core::allocation::Next;
use tiller_core::evidence::{Interval, Standing};
use tiller_core::purpose::Purpose;
use tiller_core::tracking::Finding;
use tiller_core::verdict::{Diagnosis, Early, Faults, Lean, LimitedBy, Verdict, in_reach};
use tiller_core::{Price, Tally, Target};

use crate::book::{Judged, Meets, PeerCircle, Touch};
use crate::change_words;
use crate::numerals::{conversions, count, counted, day, money, number, percent, probability, sum};

/// How a piece of a sentence is meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// As it stands.
    Plain,
    /// A figure or a name to be seen.
    Strong,
    /// Money lost, harm.
    Harm,
    /// Money gained.
    Gain,
}

/// A sentence or more, in pieces.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Words(pub Vec<(Tone, String)>);

impl Words {
    /// Plain text.
    pub fn say(text: impl Into<String>) -> Self {
        Self::default().and(text)
    }
    /// Goes on plainly.
    pub fn and(self, text: impl Into<String>) -> Self {
        self.with(Tone::Plain, text)
    }
    /// Goes on with something to be seen.
    pub fn strong(self, text: impl Into<String>) -> Self {
        self.with(Tone::Strong, text)
    }
    /// Goes on with harm.
    pub fn harm(self, text: impl Into<String>) -> Self {
        self.with(Tone::Harm, text)
    }
    /// Goes on with gain.
    pub fn gain(self, text: impl Into<String>) -> Self {
        self.with(Tone::Gain, text)
    }
    fn with(mut self, tone: Tone, text: impl Into<String>) -> Self {
        self.0.push((tone, text.into()));
        self
    }
}

impl std::fmt::Display for Words {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.iter().try_for_each(|(_, text)| f.write_str(text))
    }
}

/// Parts of a list with commas and an *and*.
pub fn list(parts: &[&str]) -> String {
    match parts {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [first, last] => format!("{first} and {last}"),
        [first @ .., last] => format!("{}, and {last}", first.join(", ")),
    }
}

/// How sure something is, in everyday steps with the figure: `almost certainly`, `very likely`, `likely`; below
/// 80% it is unclear.
pub fn sure(p: f64) -> Option<&'static str> {
    // As it is shown: 94.6% reads 95%.
    match (100.0 * p).round() / 100.0 {
        p if p >= 0.99 => Some("almost certainly"),
        p if p >= 0.95 => Some("very likely"),
        p if p >= 0.8 => Some("likely"),
        _ => None,
    }
}

/// What is at fault, each as the rest of a sentence that begins with *It*.
fn faults(f: Faults) -> String {
    let said = [
        (f.traffic, "reaches the wrong people"),
        (f.order_value, "brings in small orders"),
        (f.bid, "pays too much per click"),
    ];
    list(&said.iter().filter(|(is, _)| *is).map(|(_, said)| *said).collect::<Vec<_>>())
}

/// A verdict in a few words, for tables.
pub fn short(d: &Diagnosis) -> String {
    match (d.verdict, d.early) {
        (Verdict::Measurement, _) => "conversions can’t be trusted".into(),
        (Verdict::TooEarly, Some(Early::AboutOnTarget { .. })) => "about on target".into(),
        (Verdict::TooEarly, _) => "too early to tell".into(),
        (Verdict::OnTarget, _) => "on target".into(),
        _ if d.leans.is_some() => format!("probably {}", faults(d.faults)),
        _ => faults(d.faults),
    }
}

/// The verdict as a first sentence.
pub fn headline(d: &Diagnosis) -> Words {
    match (d.verdict, d.early) {
        (Verdict::TooEarly, Some(Early::AboutOnTarget { .. })) => {
            Words::default().gain("It is about on target.")
        }
        (Verdict::TooEarly, _) => Words::default().strong("Too early to tell."),
        (Verdict::OnTarget, _) => Words::default().gain("It is on target."),
        (Verdict::Measurement, _) => Words::default().harm("Its conversions can’t be trusted."),
        _ => Words::default().harm(format!("It {}.", short(d))),
    }
}

/// A purpose in a word or two.
pub fn purpose(p: Purpose) -> &'static str {
    match p {
        Purpose::Brand => "brand",
        Purpose::Generic => "generic",
        Purpose::Prospecting => "prospecting",
        Purpose::Retargeting => "retargeting",
    }
}

/// Whom it was compared with.
pub fn peers(n: usize, circle: &PeerCircle) -> String {
    let peers = counted(n as u64, "peer", "peers");
    match (n, circle) {
        (0, _) => "no peers".into(),
        (_, PeerCircle::Channel(channel, p)) => format!("{peers} on {channel}, {}", purpose(*p)),
        (_, PeerCircle::All(p)) => format!("{peers} on all channels, {}", purpose(*p)),
        (_, PeerCircle::Chosen) => format!("{peers} of your choice"),
    }
}

/// The cost that a target is about, as a noun: `CPA` or `ROAS`.
pub fn measure(target: Target) -> &'static str {
    match target {
        Target::Cpa(_) => "CPA",
        Target::Roas(_) => "ROAS",
    }
}

/// A phrase as the beginning of a sentence.
pub fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |c| c.to_uppercase().chain(letters).collect())
}

/// A phrase as a whole sentence.
pub fn as_sentence(text: &str) -> String {
    let end = if text.ends_with(['.', '?', '!']) { "" } else { "." };
    capital(text) + end
}

/// On the wrong side of a target: `above target`, `below target`.
pub fn missed(target: Target) -> &'static str {
    match target {
        Target::Cpa(_) => "above target",
        Target::Roas(_) => "below target",
    }
}

/// On the right side: `at or below target`, `at or above target`.
fn met(target: Target) -> &'static str {
    match target {
        Target::Cpa(_) => "at or below target",
        Target::Roas(_) => "at or above target",
    }
}

/// Why, each sentence with the numbers it rests on.
pub fn reasons(j: &Judged) -> Vec<Words> {
    let d = &j.diagnosis;
    match d.verdict {
        Verdict::Measurement => j.findings.iter().map(|f| finding(f, j.target)).collect(),
        Verdict::TooEarly => {
            d.early.iter().map(|e| early(e, j)).chain(so_far(j)).chain(to_come(j)).collect()
        }
        Verdict::OnTarget => {
            std::iter::once(cost(j)).chain(to_come(j)).chain(certainty(j)).collect()
        }
        Verdict::Bid | Verdict::Traffic | Verdict::OrderValue | Verdict::Both => traffic(j)
            .into_iter()
            .chain(order_value(j))
            .chain(price(j))
            .chain([cost(j)])
            .chain(to_come(j))
            .chain(d.leans.map(lean))
            .chain(certainty(j))
            .collect(),
    }
}

fn lean(why: Lean) -> Words {
    Words::say(match why {
        Lean::LargerPart => {
            "Its peers alone don’t settle the cause; this is the larger part of the gap to them."
        }
        Lean::PeersCostMore => {
            "Its peers do even worse, so they don’t settle the cause; the price of a click is what is left to change."
        }
        Lean::NoClicks => "Nobody has clicked, so there is nothing to compare with its peers.",
        Lean::NoConversions => {
            "Nobody has converted, and there are too few clicks to compare with its peers."
        }
        Lean::NoPeers => "It has no peers to compare with, so the cause is a guess.",
    })
}

/// What tracking found, and what to do about it.
pub fn finding(f: &Finding, target: Target) -> Words {
    let what = measure(target);
    match f {
        Finding::Silent { since, days, expected } => Words::say("No conversion has been reported since ")
            .strong(day(*since))
            .and(format!(", {}, when about ", counted(u64::from(*days), "day", "days")))
            .strong(number(*expected, 0))
            .and(format!(" would be usual. Until the event is fixed its {what} means nothing, and it is no benchmark for others.")),
        Finding::NoValues { conversions } => Words::say("It has a ROAS target, but its ")
            .strong(count(*conversions))
            .and(format!(
                " {} no value. Send the value with the event, or give it a target CPA.",
                if (*conversions - 1.0).abs() < 1e-9 { "conversion carries" } else { "conversions carry" }
            )),
        Finding::NoResult { event, conversions, others } => Words::say("It counts ")
            .strong(count(*conversions))
            .and(" of ‘")
            .strong(event.clone())
            .and(format!(
                "’ beside {} of everything else. That event is a step on the way to a result, not a result: until it is left out of what the campaign counts, its {what} means nothing.",
                count(*others)
            )),
        Finding::NothingCounts { event, conversions } => Words::say("Nothing that comes in is counted, though ")
            .strong(count(*conversions))
            .and(" of ‘")
            .strong(event.clone())
            .and("’ did. Choose on Measure what this campaign counts."),
    }
}

/// `, in about 12 days at the present rate`; never a count of days beyond a year.
fn in_days(days: Option<u64>) -> String {
    match days {
        Some(d) if in_reach(d) => {
            format!(", in about {} at the present rate", counted(d, "day", "days"))
        }
        Some(_) => ", which is not in reach at the present rate".into(),
        None => String::new(),
    }
}

/// `about 12 more conversions would tell, in about 5 days at the present rate.`
fn would_tell(before: Words, about: &str, more: f64, days: Option<u64>) -> Words {
    let conversions = if more <= 1.0 { "conversion" } else { "conversions" };
    before
        .strong(format!("{about} {} more {conversions}", count(more)))
        .and(format!(" would tell{}.", in_days(days)))
}

fn early(e: &Early, j: &Judged) -> Words {
    let what = measure(j.target);
    match e {
        Early::Launched { on, due } => Words::say(format!(
            "It was launched on {}; its first seven days will have settled on ",
            day(*on)
        ))
        .strong(day(*due))
        .and(". Leave it alone until then."),
        Early::Changed { on, due } => Words::say(format!(
            "It was changed substantially on {}; the effect can be judged on ",
            day(*on)
        ))
        .strong(day(*due))
        .and(". Leave it alone until then."),
        Early::LittleSpend { needed, days } => {
            Words::say("It has spent ").strong(money(j.tally.spend.to_units())).and(format!(
                "; a verdict needs three times {}, {}{}.",
                match j.target {
                    Target::Cpa(_) => "the target",
                    Target::Roas(_) => "what a conversion may cost",
                },
                money(*needed),
                in_days(*days)
            ))
        }
        Early::Unsettled { days } => Words::say(format!(
            "Only {} of the period {} settled; a verdict needs three.",
            counted(*days, "day", "days"),
            if *days == 1 { "has" } else { "have" }
        )),
        Early::Undecided { by_chance: None, more_conversions, days } => {
            let either =
                Words::say(format!("Its {what} could still be on either side of the target"));
            match more_conversions {
                Some(more) => would_tell(either.and(": "), "about", *more, *days),
                None => either
                    .and(", and is so close to it that more conversions are not likely to tell."),
            }
        }
        Early::Undecided { by_chance: Some(chance), more_conversions, days } => {
            let luck = Words::say(format!(
                "It looks {}, but that could be luck: looked at every day, ",
                missed(j.target)
            ))
            .strong(format!("{}% of those at their target", number(100.0 * chance, 0)))
            .and(" look this bad at some time in three months.");
            match more_conversions {
                Some(more) => would_tell(luck.and(" "), "About", *more, *days),
                None => luck,
            }
        }
        Early::AboutOnTarget { above } => Words::say(format!(
            "It spends {}% more than its results allow, a difference too small to act on.",
            percent(*above)
        )),
    }
}

fn so_far(j: &Judged) -> Option<Words> {
    let over = j.diagnosis.p_over?;
    let cost = match (j.target, j.tally.cpa(), j.tally.roas()) {
        (_, None, _) => format!("{} spent without a conversion", money(j.tally.spend.to_units())),
        (Target::Cpa(target), Some(cpa), _) => {
            format!("a CPA of {} against a target of {}", money(cpa), money(target))
        }
        (Target::Roas(target), _, roas) => format!(
            "a ROAS of {} against a target of {}",
            crate::numerals::or_absent(roas, |r| number(r, 2)),
            number(target, 2)
        ),
    };
    let chance = match (sure(over), sure(1.0 - over)) {
        (Some(sure), _) => format!("{sure} {} ({})", missed(j.target), probability(over)),
        (_, Some(sure)) => format!("{sure} {} ({})", met(j.target), probability(1.0 - over)),
        _ => format!("unclear, with a {} chance of being {}", probability(over), missed(j.target)),
    };
    Some(Words::say(format!("So far: {cost}, {chance}.")))
}

fn traffic(j: &Judged) -> Option<Words> {
    let (d, tally) = (&j.diagnosis, &j.tally);
    let (own, peers) = tally.cvr().zip(d.peers.cvr())?;
    let rates = format!("({}% against {}%)", percent(own), percent(peers));
    let base = match d.cvr? {
        Standing::Lower => {
            Words::say("Its visitors convert less often than its peers’ ").strong(rates)
        }
        Standing::AsGood if own > peers * 1.1 => {
            Words::say("Its visitors convert more often than its peers’ ")
                .strong(rates)
                .and(", so whom it reaches is not the problem")
        }
        Standing::AsGood => Words::say("Its visitors convert as often as its peers’ ")
            .strong(rates)
            .and(", so whom it reaches is not the problem"),
        Standing::CantTell => {
            Words::say("It is unclear whether its visitors convert less often than its peers’ ")
                .strong(rates)
        }
    };
    let clicks = tally.ctr().zip(d.peers.ctr()).filter(|_| d.ctr == Some(Standing::Lower));
    Some(match clicks {
        Some((own, peers)) if d.cvr == Some(Standing::Lower) => base.and(format!(
            ", and fewer people who see it click ({}% against {}%).",
            percent(own),
            percent(peers)
        )),
        _ => base.and("."),
    })
}

fn order_value(j: &Judged) -> Option<Words> {
    let (own, peers) = j.tally.aov().zip(j.diagnosis.peers.aov())?;
    j.diagnosis.faults.order_value.then(|| {
        Words::say("Its orders are smaller than its peers’ ")
            .strong(format!("({} against {})", money(own), money(peers)))
            .and(".")
    })
}

fn price(j: &Judged) -> Option<Words> {
    let (d, tally) = (&j.diagnosis, &j.tally);
    let (cpc, best, own) = (tally.cpc()?, d.affordable_at_best?, d.affordable?);
    if cpc <= best {
        let like_peers = if d.faults.order_value {
            "its orders were as large as its peers’"
        } else {
            "its visitors converted like its peers’"
        };
        return Some(Words::say("At ").strong(money(cpc)).and(format!(
            " a click it would be on target if {like_peers}; a click could then cost {}.",
            money(best)
        )));
    }
    Some(match j.target {
        Target::Cpa(_) => Words::say("A click costs ")
            .strong(money(cpc))
            .and("; the target affords ")
            .strong(money(own.cautious))
            .and(match (own.clicks_per_conversion - 1e-9).ceil() {
                n if n <= 1.0 => " where every click converts.".to_owned(),
                n => format!(" at one conversion in {} clicks.", number(n, 0)),
            }),
        Target::Roas(_) => Words::say("A click costs ")
            .strong(money(cpc))
            .and(format!(
                " and brings in {}; the target affords ",
                money(tally.value.to_units() / tally.clicks as f64)
            ))
            .strong(money(own.cautious))
            .and("."),
    })
}

fn cost(j: &Judged) -> Words {
    let t = &j.tally;
    let result = match (j.target, t.cpa(), t.roas()) {
        (Target::Cpa(target), Some(cpa), _) => {
            format!("Its CPA is {} against a target of {}: ", money(cpa), money(target))
        }
        (Target::Roas(target), Some(_), Some(roas)) => {
            format!("Its ROAS is {} against a target of {}: ", number(roas, 2), number(target, 2))
        }
        _ => "It has no conversion: ".to_owned(),
    };
    let window = format!(" in {}.", counted(j.window.days(), "settled day", "settled days"));
    let excess = j.diagnosis.excess;
    let words = Words::say(result);
    if excess > 0.0 {
        words.harm(format!("{} overspent", sum(excess))).and(window)
    } else {
        words.gain(format!("{} under target", sum(-excess))).and(window)
    }
}

/// How much of it is an estimate, where that is worth a sentence.
fn to_come(j: &Judged) -> Option<Words> {
    let n = j.to_come.round();
    (n >= 1.0).then(|| {
        Words::say(format!(
            "About {} of its {} {} still to come, going by how late its conversions come in.",
            count(n),
            count(j.tally.conversions.round()),
            if n > 1.0 { "conversions are" } else { "conversions is" }
        ))
    })
}

fn certainty(j: &Judged) -> Option<Words> {
    let p = j.diagnosis.p_over?;
    let what = measure(j.target);
    let (p, side) = if j.diagnosis.verdict == Verdict::OnTarget {
        (1.0 - p, met(j.target))
    } else {
        (p, missed(j.target))
    };
    let word = sure(p)?;
    Some(Words::say(format!("Its true {what} is {word} {side} ({}).", probability(p))))
}

/// What the change to the halfway bid is likely to bring.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TradeOff {
    /// What a click costs then: halfway to what is affordable.
    pub cpc: Price,
    /// Whether that is less than halfway, since a strategy would learn anew.
    pub in_part: bool,
    /// Times the present bid that makes it cost that.
    pub times: f64,
    /// Cost per conversion then.
    pub cpa: Price,
    /// Value for a unit of spend then, where results are told by their value.
    pub roas: Option<f64>,
    /// Conversions in such a window now.
    pub now: f64,
    /// Conversions then: 80% interval.
    pub then: Interval,
    /// Whether that CPC has been seen in its history.
    pub seen: bool,
}

impl TradeOff {
    /// `a CPA of about 43.37` or `a ROAS of about 3.20`.
    pub fn cost(&self) -> String {
        match self.roas {
            Some(roas) => format!("a ROAS of about {}", number(roas, 2)),
            None => format!("a CPA of about {}", money(self.cpa)),
        }
    }

    /// `240 to 280 of 296 conversions`.
    pub fn volume(&self) -> String {
        let then = if self.then.high - self.then.low < 1.0 {
            count(self.then.high.round())
        } else {
            format!("{} to {}", number(self.then.low, 0), number(self.then.high, 0))
        };
        format!("{then} of {}", conversions(self.now))
    }
}

/// Whether a campaign that spends its whole budget on target can take more: by what the next result costs, not the mean one.
fn by_the_margin(j: &Judged, next: Option<&Next>) -> Words {
    let words = Words::say("It spends its whole budget and is on target");
    let at_margin = next.zip(j.tally.cpa().zip(j.diagnosis.target_cpa));
    let Some((next, (mean, target))) = at_margin else {
        return words.and(", so it can take ").gain("more money").and(".");
    };
    let words = if (mean * next.costs).units() <= target.units() {
        words.and(", so it can take ").gain("more money").and(".")
    } else {
        words.and(", but what more money would buy misses it.")
    };
    words.and(format!(" {}", next_one(next, &j.tally, j.target)))
}

/// What the next result costs beside the mean one, in the account's measure.
pub fn next_one(next: &Next, tally: &Tally, target: Target) -> String {
    let Interval { low, high } = next.around;
    let said = |said: &str, now: f64, at: &dyn Fn(f64) -> f64, text: &dyn Fn(f64) -> String| {
        let (a, b) = (at(low), at(high));
        let range = if high - low < 0.01 {
            String::new()
        } else {
            let (low, high) = (text(a.min(b)), text(a.max(b)));
            format!(" (with a probability of 80% between {low} and {high})")
        };
        format!("{said} about {}{range}; the mean one {}.", text(at(next.costs)), text(now))
    };
    let told = match target {
        Target::Cpa(_) => tally.cpa().map(|cpa| {
            let cpa = cpa.units();
            said("One more conversion would cost", cpa, &|x| cpa * x, &|x| money(x))
        }),
        Target::Roas(_) => tally.roas().map(|roas| {
            said("The next unit of spend would bring back", roas, &|x| roas / x, &|x| number(x, 2))
        }),
    };
    let leans = if next.leans {
        " Its own days say little of it, so this is what is typical for its channel."
    } else {
        ""
    };
    told.map_or(String::new(), |told| format!("{told}{leans}"))
}

/// What to do next.
pub fn advice(
    j: &Judged,
    trade: Option<TradeOff>,
    meets: Option<&Meets>,
    next: Option<&Next>,
) -> Words {
    let d = &j.diagnosis;
    match d.verdict {
        Verdict::Measurement => Words::say(
            "Fix the tracking first: check the event that should fire when somebody converts, and look again once it has reported for three days.",
        ),
        Verdict::TooEarly => match d.early {
            Some(Early::AboutOnTarget { .. }) => Words::say("It needs nothing."),
            _ => Words::say("Leave it alone for now: a change would only restart the wait."),
        },
        Verdict::OnTarget => match d.limited_by {
            LimitedBy::Budget => by_the_margin(j, next),
            _ => Words::say("It needs nothing."),
        },
        Verdict::Traffic => traffic_advice(j),
        Verdict::Bid | Verdict::OrderValue | Verdict::Both => {
            let first = match (d.faults.traffic, d.faults.order_value) {
                (true, _) => traffic_advice(j).and(" Then the bid: "),
                (false, true) => Words::say(
                    "Larger orders would fix it at today’s bids: bundles, a minimum order, other products. Until then a click is worth less here: ",
                ),
                (false, false) => Words::default(),
            };
            let begin = if first.0.is_empty() { "Bring" } else { "bring" };
            match trade {
                Some(t) => bid_advice(first, begin, t, j, meets),
                None => first
                    .and(format!("{begin} the cost of a click down to what the target affords.")),
            }
        }
    }
}

fn traffic_advice(j: &Judged) -> Words {
    let words = Words::say(
        "A lower bid won’t fix this. Look at whom and what it reaches first: places, audiences, search terms, placements.",
    );
    let (cpc, cvr) = (j.tally.cpc(), j.diagnosis.peers.cvr());
    let gain = match (j.target, cpc.zip(cvr), j.tally.aov()) {
        (Target::Cpa(_), Some((cpc, cvr)), _) => format!("a CPA of {}", money(cpc / cvr)),
        (Target::Roas(_), Some((cpc, cvr)), Some(aov)) => {
            format!("a ROAS of {}", number(aov * cvr / cpc, 2))
        }
        _ => return words,
    };
    words.and(format!(" If its visitors converted like its peers’, it would have {gain}."))
}

fn bid_advice(first: Words, begin: &str, t: TradeOff, j: &Judged, meets: Option<&Meets>) -> Words {
    let mut words = first
        .and(format!("{begin} the cost of a click down to "))
        .strong(money(t.cpc))
        .and(format!(
            ", {} what is affordable, by bidding {}% less{}. Expect ",
            if t.in_part { "toward" } else { "halfway to" },
            number((1.0 - t.times) * 100.0, 0),
            if t.in_part { "; the rest is for the next look" } else { "" }
        ))
        .strong(t.cost())
        .and(" and ")
        .strong(t.volume())
        .and(format!(" in {}.", counted(j.window.days(), "day", "days")));
    if !t.seen {
        words = words.and(" It has never bid so low, so take it in steps.");
    }
    match meets {
        Some(m) => words.and(" ").and(whole(m)),
        None => words,
    }
}

/// Whether the account as a whole meets its target, and what that means for one overrun.
pub fn whole(m: &Meets) -> String {
    let cost = |t: &Tally| match m.target {
        Target::Cpa(_) => crate::numerals::or_absent(t.cpa(), |x| format!("a CPA of {}", money(x))),
        Target::Roas(_) => {
            crate::numerals::or_absent(t.roas(), |x| format!("a ROAS of {}", number(x, 2)))
        }
    };
    match (m.with_brand(), m.without_brand(), m.without_brand) {
        (true, true, _) => format!(
            "The account as a whole meets its target ({}), so keeping the volume is an option.",
            cost(&m.all)
        ),
        (true, false, Some(rest)) => format!(
            "The account meets its target only with the searches for its own name; without them it misses it ({} against {}).",
            cost(&rest),
            crate::numerals::target(m.target)
        ),
        _ => format!(
            "The account as a whole misses its target ({}), so nothing else makes up for this.",
            cost(&m.all)
        ),
    }
}

/// What was changed since the days that a verdict is about, and how long it is left alone; none where nothing was.
pub fn since(touches: &[Touch]) -> Option<Words> {
    let changes: Vec<String> = touches
        .iter()
        .filter_map(|t| {
            let what = change_words::sentence(t.was.as_ref(), &t.set_to);
            Some(format!("{what} on {}", day(t.from?)))
        })
        .collect();
    let until = touches.iter().filter_map(|t| t.until).max()?;
    let shown: Vec<&str> = changes.iter().rev().take(3).map(String::as_str).collect();
    let more = match changes.len() - shown.len() {
        0 => String::new(),
        n => format!(", and {}", counted(n as u64, "more", "more")),
    };
    Some(
        Words::say(format!(
            "Changed since: {}{more}. Nothing else is advised here until the look-back on ",
            shown.join("; ")
        ))
        .strong(day(until))
        .and("."),
    )
}

/// What limits its volume.
pub fn limited_by(d: &Diagnosis) -> &'static str {
    match d.limited_by {
        LimitedBy::Budget => "its budget",
        LimitedBy::Bid => "its bid or target",
        LimitedBy::Neither => "neither budget nor bid",
        LimitedBy::Unknown => "unknown: reports don’t tell the budget",
    }
}

/// How a rate compares with the peers'.
pub fn standing(s: Option<Standing>) -> &'static str {
    match s {
        Some(Standing::Lower) => "lower",
        Some(Standing::AsGood) => "as good",
        Some(Standing::CantTell) => "unclear",
        None => crate::numerals::ABSENT,
    }
}

/// When the next look is due after a change that is sent now.
pub fn look_back(last_day: NaiveDate, settle_days: u64) -> String {
    let from = last_day.succ_opt().unwrap_or(last_day);
    day(tiller_core::look_back::due(from, false, settle_days))
}
