//! Verdicts and advice as a colleague would say them: what is so, how sure that is, what to do next.

use chrono::NaiveDate;
use tiller_core::evidence::Standing;
use tiller_core::tracking::Finding;
use tiller_core::verdict::{Diagnosis, Early, HeldBy, Verdict};
use tiller_core::{Tally, Target};

use crate::book::{Circle, Judged};
use crate::figures::{count, counted, day, money, number, percent, probability, sum};

/// How a piece of a sentence is meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// As it stands.
    Plain,
    /// A figure or a name to be seen.
    Strong,
    /// Money lost, harm.
    Harm,
    /// Money won, gain.
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

/// A verdict in a few words, for tables.
pub fn short(d: &Diagnosis) -> &'static str {
    match (d.verdict, d.leans) {
        (Verdict::Bid, false) => "pays too much for a click",
        (Verdict::Bid, true) => "seems to pay too much for a click",
        (Verdict::Traffic, false) => "reaches the wrong people",
        (Verdict::Traffic, true) => "seems to reach the wrong people",
        (Verdict::Both, _) => "wrong people, and too dear a click",
        (Verdict::Measurement, _) => "its conversions can’t be trusted",
        (Verdict::TooEarly, _) => "too early to tell",
        (Verdict::OnTarget, _) => "on target",
    }
}

/// The verdict as a first sentence.
pub fn headline(d: &Diagnosis) -> Words {
    let text = match d.verdict {
        Verdict::TooEarly => "Too early to tell.".to_owned(),
        Verdict::OnTarget => "It is on target.".to_owned(),
        Verdict::Measurement => "Its conversions can’t be trusted.".to_owned(),
        Verdict::Both => "It reaches the wrong people, and pays too much for a click.".to_owned(),
        Verdict::Bid | Verdict::Traffic => format!("It {}.", short(d)),
    };
    match d.verdict {
        Verdict::OnTarget => Words::default().gain(text),
        Verdict::TooEarly => Words::default().strong(text),
        _ => Words::default().harm(text),
    }
}

/// Whom it was compared with.
pub fn peers(n: usize, circle: &Circle) -> String {
    let whom = match circle {
        Circle::Channel(channel) => format!("of the same kind on {channel}"),
        Circle::Kind(_) => "of the same kind on all channels".into(),
        Circle::Account => "with the same kind of target in the account".into(),
    };
    format!("{} {whom}", counted(n as u64, "peer", "peers"))
}

/// Why, each sentence with the numbers it rests on.
pub fn reasons(j: &Judged) -> Vec<Words> {
    let d = &j.diagnosis;
    match d.verdict {
        Verdict::Measurement => j.findings.iter().map(finding).collect(),
        Verdict::TooEarly => d.early.iter().map(|e| early(e, &j.tally)).chain(so_far(j)).collect(),
        Verdict::OnTarget => std::iter::once(cost(j)).chain(certainty(d)).collect(),
        Verdict::Bid | Verdict::Traffic | Verdict::Both => {
            let lean = d.leans.then(|| {
                Words::say("The comparison with peers alone doesn’t decide it; the larger part of the gap to their CPA does.")
            });
            traffic(d, &j.tally)
                .into_iter()
                .chain(price(d, &j.tally))
                .chain([cost(j)])
                .chain(lean)
                .chain(certainty(d))
                .collect()
        }
    }
}

/// What tracking found, and what to do about it.
pub fn finding(f: &Finding) -> Words {
    match f {
        Finding::Silent { since, days, expected } => Words::say("No conversion has been reported since ")
            .strong(day(*since))
            .and(format!(", {}, where about ", counted(u64::from(*days), "day", "days")))
            .strong(number(*expected, 0))
            .and(" would be usual. Until the event is mended its CPA and ROAS mean nothing, and it is no benchmark for others."),
        Finding::NoValues { conversions } => Words::say("It aims at a return, but its ")
            .strong(count(*conversions))
            .and(" conversions carry no value. Send the value with the event, or give it a target CPA."),
        Finding::NoResult { event, conversions, others } => Words::say("It counts ")
            .strong(count(*conversions))
            .and(" of ‘")
            .strong(event.clone())
            .and(format!(
                "’ beside {} of anything else. That happens on the way to a result and is none: until it is left out of what the campaign counts, its CPA and ROAS mean nothing.",
                count(*others)
            )),
        Finding::NothingCounts { event, conversions } => Words::say("Nothing that comes in is counted, though ")
            .strong(count(*conversions))
            .and(" of ‘")
            .strong(event.clone())
            .and("’ did. Choose on Measure what this campaign counts."),
    }
}

fn early(e: &Early, tally: &Tally) -> Words {
    let days = |d: &Option<u64>| {
        d.map_or(String::new(), |d| {
            format!(", in about {} at the present rate", counted(d, "day", "days"))
        })
    };
    match e {
        Early::Launched { on, due } => {
            Words::say(format!("It was launched on {}; seven days have settled on ", day(*on)))
                .strong(day(*due))
                .and(". Leave it until then.")
        }
        Early::Changed { on, due } => {
            Words::say(format!("It was changed on {}; what that did can be judged on ", day(*on)))
                .strong(day(*due))
                .and(". Leave it until then.")
        }
        Early::LittleSpend { needed, days: d } => Words::say("It has spent ")
            .strong(money(tally.spend.to_units()))
            .and(format!("; a verdict needs three targets, {}{}.", money(*needed), days(d))),
        Early::Unsettled { days } => Words::say(format!(
            "Only {} of the period {} settled; a verdict needs three.",
            counted(*days, "day", "days"),
            if *days == 1 { "has" } else { "have" }
        )),
        Early::Undecided { more_conversions: Some(more), days: d } => {
            Words::say("Its CPA may still lie on either side of the target: ")
                .strong(format!("about {} more conversions", count(*more)))
                .and(format!(" would tell{}.", days(d)))
        }
        Early::Undecided { .. } => {
            Words::say("Its CPA may still lie on either side of the target.")
        }
    }
}

fn so_far(j: &Judged) -> Option<Words> {
    let over = j.diagnosis.p_over?;
    let cpa = j
        .tally
        .cpa()
        .map_or("no conversion yet".to_owned(), |cpa| format!("a CPA of {}", money(cpa)));
    Some(Words::say(format!(
        "So far: {cpa}, above target with a probability of {}.",
        probability(over)
    )))
}

fn traffic(d: &Diagnosis, tally: &Tally) -> Option<Words> {
    let (own, peers) = tally.cvr().zip(d.peers.cvr())?;
    let rates = format!("({}% against {}%)", percent(own), percent(peers));
    let base = match d.cvr? {
        Standing::Lower => Words::say("Visitors convert worse than its peers’ ").strong(rates),
        Standing::AsGood if own > peers * 1.1 => {
            Words::say("Visitors convert better than its peers’ ")
                .strong(rates)
                .and(", so whom it reaches is not the trouble")
        }
        Standing::AsGood => Words::say("Visitors convert as well as its peers’ ")
            .strong(rates)
            .and(", so whom it reaches is not the trouble"),
        Standing::CantTell => {
            Words::say("Whether visitors convert worse than its peers’ can’t be told yet ")
                .strong(rates)
        }
    };
    let clicks = tally.ctr().zip(d.peers.ctr()).filter(|_| d.ctr == Some(Standing::Lower));
    Some(match clicks {
        Some((own, peers)) if d.cvr == Some(Standing::Lower) => base.and(format!(
            ", and fewer of those who see it click ({}% against {}%).",
            percent(own),
            percent(peers)
        )),
        _ => base.and("."),
    })
}

fn price(d: &Diagnosis, tally: &Tally) -> Option<Words> {
    let cpc = tally.cpc()?;
    let best = d.affordable_at_best?;
    let own = d.affordable?;
    Some(if cpc > best {
        Words::say("A click costs ")
            .strong(money(cpc))
            .and("; the target affords ")
            .strong(money(own.cautious))
            .and(format!(
                " at one conversion in {} clicks.",
                number((own.clicks_per_conversion - 1e-9).ceil(), 0)
            ))
    } else {
        Words::say("At ").strong(money(cpc)).and(format!(" a click it would be on target if its visitors converted like its peers’ ({} affordable then).", money(best)))
    })
}

fn cost(j: &Judged) -> Words {
    let t = &j.tally;
    let result = match (j.target, t.cpa(), t.roas()) {
        (Target::Cpa(target), Some(cpa), _) => {
            format!("A conversion costs {} against a target of {}", money(cpa), money(target))
        }
        (Target::Roas(target), _, Some(roas)) => {
            format!("It returns {} against a target of {}", number(roas, 2), number(target, 2))
        }
        _ => "No conversion was counted".to_owned(),
    };
    let window = format!("{} settled days", j.window.days());
    let excess = j.diagnosis.excess;
    if excess > 0.0 {
        Words::say(format!("{result}: "))
            .harm(format!("{} above target", sum(excess)))
            .and(format!(" in {window}."))
    } else {
        Words::say(format!("{result}: "))
            .gain(format!("{} of room below it", sum(-excess)))
            .and(format!(" in {window}."))
    }
}

fn certainty(d: &Diagnosis) -> Option<Words> {
    let p = d.p_over?;
    Some(if d.verdict == Verdict::OnTarget {
        Words::say(format!(
            "That its true cost is above target has a probability of {}.",
            probability(p)
        ))
    } else if p > 0.995 {
        Words::say("That its true cost is above target is beyond reasonable doubt.")
    } else {
        Words::say(format!(
            "That its true cost is above target has a probability of {}.",
            probability(p)
        ))
    })
}

/// What the change to the halfway bid is likely to bring.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TradeOff {
    /// The bid, in units of currency.
    pub halfway: f64,
    /// Cost per conversion then.
    pub cpa: f64,
    /// Conversions in such a window now.
    pub now: f64,
    /// Conversions then: 80% interval.
    pub then: (f64, f64),
    /// Whether that CPC has been seen in its history.
    pub seen: bool,
}

/// What to do next.
pub fn advice(j: &Judged, trade: Option<TradeOff>, account_meets_target: Option<bool>) -> Words {
    let d = &j.diagnosis;
    match d.verdict {
        Verdict::Measurement => Words::say(
            "Mend the counting first: check the event on the page that follows a conversion, and look here again once it has reported for three days.",
        ),
        Verdict::TooEarly => {
            Words::say("Change nothing yet: a change now would only start the waiting again.")
        }
        Verdict::OnTarget => match d.held_by {
            HeldBy::Budget => {
                Words::say("It spends all of its budget and is on target: it can take ")
                    .gain("more money")
                    .and(". See what a plan would give it.")
            }
            _ => Words::say("It needs nothing."),
        },
        Verdict::Traffic => traffic_advice(j),
        Verdict::Bid | Verdict::Both => {
            let first = if d.verdict == Verdict::Both {
                traffic_advice(j).and(" Then the bid: ")
            } else {
                Words::default()
            };
            match trade {
                Some(t) => bid_advice(first, t, j, account_meets_target),
                None => first.and("Bring the cost of a click down to what the target affords."),
            }
        }
    }
}

fn traffic_advice(j: &Judged) -> Words {
    let at_peers = j.tally.cpc().zip(j.diagnosis.peers.cvr()).map(|(cpc, cvr)| cpc / cvr);
    let gain = at_peers.map_or(String::new(), |cpa| {
        format!(
            " If its visitors converted like its peers’, a conversion would cost {}.",
            money(cpa)
        )
    });
    Words::say("A lower bid can’t mend this. Look at whom and what it reaches first: places, audiences, search terms, placements.").and(gain)
}

fn bid_advice(first: Words, t: TradeOff, j: &Judged, account_meets_target: Option<bool>) -> Words {
    let mut words = first
        .and("Bring the cost of a click to ")
        .strong(money(t.halfway))
        .and(", halfway to what is affordable: expect ")
        .strong(money(t.cpa))
        .and(" a conversion and ")
        .strong(if (t.then.1 - t.then.0) < 1.0 {
            count(t.then.1.round())
        } else {
            format!("{} to {}", number(t.then.0, 0), number(t.then.1, 0))
        })
        .and(format!(" of {} conversions in {} days.", count(t.now), j.window.days()));
    if !t.seen {
        words = words.and(" It has never paid so little, so take it in steps.");
    }
    match account_meets_target {
        Some(true) => words.and(" The account as a whole meets its target, so keeping the volume is a choice too."),
        Some(false) => words.and(" The account as a whole misses its target, so this overrun is not made good elsewhere."),
        None => words,
    }
}

/// What holds its volume.
pub fn held_by(d: &Diagnosis) -> &'static str {
    match d.held_by {
        HeldBy::Budget => "its budget",
        HeldBy::Bid => "its bid or target",
        HeldBy::Neither => "neither budget nor bid",
        HeldBy::Unknown => "unknown: reports tell no budget",
    }
}

/// How a rate compares with the peers'.
pub fn standing(s: Option<Standing>) -> &'static str {
    match s {
        Some(Standing::Lower) => "lower",
        Some(Standing::AsGood) => "as good",
        Some(Standing::CantTell) => "can’t tell yet",
        None => crate::figures::ABSENT,
    }
}

/// When the next look is due after a change that is sent now.
pub fn look_back(last_day: NaiveDate, settle_days: u64) -> String {
    let from = last_day.succ_opt().unwrap_or(last_day);
    day(tiller_core::look_back::due(from, false, settle_days))
}
