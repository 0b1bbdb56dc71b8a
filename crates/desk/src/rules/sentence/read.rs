//! A rule from what its sentence's places were filled with.

use chrono::Weekday;
use tiller_core::bid_rule::limits::Senseless;
use tiller_core::bid_rule::{Ceiling, Field, Limits};
use tiller_core::custom_rule::condition::Join;
use tiller_core::custom_rule::{
    Action, Amount, Clause, CustomRule, Evidence, Is, Metric, Over, Than, Things, When,
};
use tiller_core::ids::CampaignId;
use tiller_core::rule::{BidRule, Body, Daily, Rule, Send};
use tiller_core::schedule::{Missed, Schedule};
use tiller_core::week::DAYS;
use tiller_core::{Micros, Price};

use super::custom::{TIMES, is_share};
use crate::numerals::typed_number;
use crate::wording::as_sentence;

/// What is wrong with what was filled in, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wrong {
    /// The place's name; empty for the whole.
    pub slot: String,
    /// What is wrong, and what would be right.
    pub text: String,
}

/// What was filled in, by the names of places.
struct Filled<'a> {
    of: &'a dyn Fn(&str) -> Vec<String>,
    wrong: Vec<Wrong>,
}

impl Filled<'_> {
    fn text(&self, name: &str) -> String {
        (self.of)(name).into_iter().next().unwrap_or_default().trim().to_owned()
    }

    fn has(&self, name: &str) -> bool {
        !(self.of)(name).is_empty()
    }

    fn wrong(&mut self, slot: &str, text: impl Into<String>) {
        self.wrong.push(Wrong { slot: slot.to_owned(), text: as_sentence(&text.into()) });
    }

    /// An amount; none where nothing is filled in.
    fn amount(&mut self, name: &str) -> Option<f64> {
        match typed_number::amount(&self.text(name), None) {
            Ok(x) => x,
            Err(why) => {
                self.wrong(name, why);
                None
            }
        }
    }

    fn share(&mut self, name: &str) -> Option<f64> {
        let text = self.text(name);
        match typed_number::share(&text) {
            // `95` means 95%.
            Ok(x) => x.map(|x| if x > 1.0 && !text.contains('%') { x / 100.0 } else { x }),
            Err(why) => {
                self.wrong(name, why);
                None
            }
        }
    }

    /// A whole number; none where nothing is filled in.
    fn count<T: TryFrom<i64>>(&mut self, name: &str) -> Option<T> {
        let x = self.amount(name)?;
        let whole = (x.fract() == 0.0 && x.abs() < 1e12).then_some(x as i64);
        let read = whole.and_then(|n| T::try_from(n).ok());
        if read.is_none() {
            let text = self.text(name);
            self.wrong(name, format!("‘{text}’ is not a whole number such as 10"));
        }
        read
    }

    fn word<T>(
        &mut self,
        name: &str,
        read: impl Fn(&str) -> Option<T>,
        allowed: &str,
    ) -> Option<T> {
        let text = self.text(name);
        let word = read(&text);
        if word.is_none() {
            self.wrong(name, format!("‘{text}’ is not {allowed}"));
        }
        word
    }
}

/// What can't be read as a rule: what could be read of it, and all that is wrong.
#[derive(Clone, Debug, PartialEq)]
pub struct Unread {
    /// The rule as far as it could be read.
    pub rule: Rule,
    /// What is wrong.
    pub wrong: Vec<Wrong>,
}

/// Reads a rule back; `was` tells what kind it is, and what its sentence does not say. All that is wrong is told.
pub fn read(was: &Rule, of: &dyn Fn(&str) -> Vec<String>) -> Result<Rule, Box<Unread>> {
    let mut f = Filled { of, wrong: Vec::new() };
    let name = f.text("name");
    let name = if f.has("name") { name } else { was.name.clone() };
    if name.is_empty() || name.chars().count() > 100 {
        f.wrong("name", "a rule has a name of 1 to 100 letters");
    }
    let schedule = schedule(&mut f);
    let send = f.word("send", Send::read, Send::ALLOWED).unwrap_or_default();
    let daily = Daily {
        actions: f.count("daily.actions"),
        pauses: f.count("daily.pauses"),
        budget_up: f.amount("daily.up").map(Price),
        budget_down: f.amount("daily.down").map(Price),
    };
    let cool_down: u16 = f.count("cool_down").unwrap_or(0);
    let within = within(&mut f);
    let body = match &was.body {
        Body::Bid(was) => Body::Bid(bid(&mut f, was, within, cool_down)),
        Body::Custom(_) => Body::Custom(custom(&mut f, within, cool_down)),
    };
    let rule = Rule { name, schedule, send, daily, body };
    if f.wrong.is_empty() { Ok(rule) } else { Err(Box::new(Unread { rule, wrong: f.wrong })) }
}

fn schedule(f: &mut Filled<'_>) -> Schedule {
    let days: Vec<Weekday> =
        DAYS.into_iter().filter(|d| (f.of)("days").iter().any(|t| t.parse() == Ok(*d))).collect();
    if days.is_empty() {
        f.wrong("days", "choose at least one day of the week");
    }
    let at = f
        .text("at")
        .parse()
        .map_err(|e: tiller_core::schedule::NoTime| f.wrong("at", e.to_string()));
    let missed = f.word("missed", Missed::read, Missed::ALLOWED).unwrap_or(Missed::Once);
    let at = at.unwrap_or(tiller_core::schedule::Time { hour: 6, minute: 0 });
    Schedule { days, at, missed }
}

fn within(f: &mut Filled<'_>) -> Vec<CampaignId> {
    let ids = (f.of)("within").into_iter().filter(|t| !t.is_empty());
    let mut ids: Vec<CampaignId> = ids.filter_map(|t| t.parse().ok()).map(CampaignId).collect();
    ids.sort_unstable();
    ids.dedup();
    ids
}

/// Thresholds as they are typed; what is empty is not set. `name` names the place of a field.
fn limits(f: &mut Filled<'_>, name: impl Fn(Field) -> String) -> Limits {
    let ceiling_at = name(Field::Ceiling);
    let text = f.text(&ceiling_at);
    let ceiling = if text.contains('%') {
        f.share(&ceiling_at).map(Ceiling::Acos)
    } else {
        f.amount(&ceiling_at).map(|x| Ceiling::Cpa(Price(x)))
    };
    let money = |x: Option<f64>| x.map(Micros::from_units);
    let limits = Limits {
        spend_without_sale: money(f.amount(&name(Field::SpendWithoutSale))),
        ceiling,
        headroom: money(f.amount(&name(Field::Headroom))),
        lowest_bid: money(f.amount(&name(Field::LowestBid))),
        clicks: f.count(&name(Field::Clicks)),
        least_cvr: f.share(&name(Field::LeastCvr)),
    };
    if let Err(e @ Senseless(field)) = limits.check() {
        f.wrong(&name(field), e.to_string());
    }
    limits
}

/// One threshold as it is typed; empty is none.
pub fn threshold(field: Field, text: &str) -> Result<Limits, String> {
    let of = |name: &str| if name == field.word() { vec![text.to_owned()] } else { Vec::new() };
    let mut f = Filled { of: &of, wrong: Vec::new() };
    let limits = limits(&mut f, |f| f.word().to_owned());
    match f.wrong.into_iter().next() {
        Some(wrong) => Err(wrong.text),
        None => Ok(limits),
    }
}

fn bid(f: &mut Filled<'_>, was: &BidRule, within: Vec<CampaignId>, cool_down: u16) -> BidRule {
    let mut top = limits(f, |f| f.word().to_owned());
    top.least_cvr = Some(top.least_cvr.unwrap_or(0.0));
    if let Err(field) = top.complete()
        && f.wrong.is_empty()
    {
        f.wrong(field.word(), format!("{} is missing", crate::rules::words::field(field)));
    }
    let window_days: u16 = f.count("window_days").unwrap_or(0);
    if !(1..=365).contains(&window_days) {
        f.wrong("window_days", "a rule looks at 1 to 365 settled days");
    }
    let mut tree = was.limits.clone();
    tree.top = top;
    BidRule { within, window_days, cool_down, limits: tree }
}

fn custom(f: &mut Filled<'_>, within: Vec<CampaignId>, cool_down: u16) -> CustomRule<CampaignId> {
    let join = if f.text("join") == "any" { Join::Any } else { Join::All };
    let mut parts = Vec::new();
    for p in 0..tiller_core::custom_rule::condition::MOST {
        let mut part = Vec::new();
        for k in 0..tiller_core::custom_rule::condition::MOST {
            let at = format!("c{p}.{k}");
            // A condition whose number is emptied is taken out.
            if f.has(&format!("{at}.metric")) && !f.text(&format!("{at}.number")).is_empty() {
                part.extend(clause(f, &at));
            }
        }
        if !part.is_empty() {
            parts.push(part);
        }
    }
    let spend_text = f.text("evidence.spend").to_lowercase();
    let spend = match spend_text.strip_suffix("target") {
        Some(times) => {
            match typed_number::amount(times.trim_end_matches([' ', '×', 'x', '*']), None) {
                Ok(Some(x)) => Some(Amount::TimesTarget(x)),
                _ => {
                    f.wrong(
                        "evidence.spend",
                        "type an amount such as 30, or so many times the target such as 3 × target",
                    );
                    None
                }
            }
        }
        None => f.amount("evidence.spend").map(Amount::Value),
    };
    let evidence = Evidence {
        clicks: f.count("evidence.clicks").unwrap_or(0),
        spend,
        conversions: f.count("evidence.conversions").unwrap_or(0),
        days: f.count("evidence.days").unwrap_or(0),
        sure: f.share("evidence.sure"),
    };
    let rule = CustomRule {
        things: f.word("things", Things::read, Things::ALLOWED).unwrap_or(Things::Items),
        within,
        when: When { join, parts },
        evidence,
        then: action(f),
        floor: f.amount("floor").map(Price),
        ceiling: f.amount("ceiling").map(Price),
        cool_down,
    };
    if f.wrong.is_empty()
        && let Err(e) = rule.check()
    {
        f.wrong("", e.to_string());
    }
    rule
}

fn clause(f: &mut Filled<'_>, at: &str) -> Option<Clause> {
    let metric = f.word(&format!("{at}.metric"), Metric::read, Metric::ALLOWED)?;
    let over = format!("{at}.over");
    let over = match f.text(&over).as_str() {
        "all" => Over::Life,
        _ => Over::Days(f.count(&over).unwrap_or(0)),
    };
    let is = f.word(&format!("{at}.is"), Is::read, Is::ALLOWED)?;
    let number = format!("{at}.number");
    let text = f.text(&number).to_lowercase();
    let times = TIMES.iter().find_map(|(word, of)| Some((text.strip_suffix(word)?, *of)));
    let than = match times {
        Some((times, of)) => {
            match typed_number::amount(times.trim_end_matches([' ', '×', 'x', '*']), None) {
                Ok(Some(x)) => of(x),
                _ => {
                    f.wrong(&number, "type a number such as 40, or so many times something such as 1.5 × target, 0.8 × peers or 2 × before");
                    Than::Value(0.0)
                }
            }
        }
        None if is_share(metric) => Than::Value(f.share(&number).unwrap_or(0.0)),
        None => Than::Value(f.amount(&number).unwrap_or(0.0)),
    };
    Some(Clause { metric, over, is, than })
}

fn action(f: &mut Filled<'_>) -> Action {
    const NUMBER: &str = "then.number";
    let word = f.text("then");
    let text = f.text(NUMBER);
    let mut by = || {
        let unsigned = text.trim_start_matches(['+', '-', '−']);
        let sign = if text.starts_with(['-', '−']) { -1.0 } else { 1.0 };
        match typed_number::share(unsigned) {
            Ok(Some(x)) => sign * x,
            _ => {
                f.wrong(NUMBER, format!("‘{text}’ is not a change such as −10% or +20%"));
                0.1
            }
        }
    };
    match word.as_str() {
        "pause" => Action::Pause,
        "resume" => Action::Resume,
        "bid_by" => Action::BidBy(by()),
        "budget_by" => Action::BudgetBy(by()),
        "target_by" => Action::TargetBy(by()),
        "exclude" => Action::Exclude,
        "tell" => Action::Tell,
        "bid_to" | "budget_to" => {
            let to = f.amount(NUMBER).map(Price);
            if to.is_none() && f.wrong.iter().all(|w| w.slot != NUMBER) {
                f.wrong(NUMBER, "type the amount to set, such as 0.50");
            }
            let to = to.unwrap_or(Price(1.0));
            if word == "bid_to" { Action::BidTo(to) } else { Action::BudgetTo(to) }
        }
        _ => {
            f.wrong("then", format!("‘{word}’ is nothing that a rule can do"));
            Action::Tell
        }
    }
}
