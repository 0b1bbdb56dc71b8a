//! The frame around every page of an account: top line, the loop, foot.

use crate::paths::Paths;
use tiller_core::Window;
use tiller_core::verdict::Verdict;
use tiller_desk::account::connections::Waiting;
use tiller_desk::book::{Book, Judged};
use tiller_desk::change_words::changes;
pub use tiller_desk::numerals::span;
use tiller_desk::numerals::{full_day, money, signed};
use tiller_desk::{Account, Role, measure};

use crate::extract::Member;
use crate::params::Params;

/// A station of the loop.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Station {
    /// What counts, and how late it comes in.
    Measure,
    /// All of it against targets.
    Spend,
    /// Why a campaign costs more than it should.
    Causes,
    /// Where money goes.
    Budgets,
    /// What a click may cost.
    Bids,
    /// What is done by rule.
    Rules,
    /// What was changed.
    Logbook,
    /// Home: the letter.
    Today,
    /// Not on the loop: what is about to be sent.
    Tray,
    /// Not on the loop: where figures come from.
    Channels,
    /// Not on the loop: reports come in.
    Reports,
}

impl Station {
    /// The stations of the loop: place in addresses, title, key.
    const LOOP: [(Self, &'static str, &'static str, &'static str); 7] = [
        (Self::Measure, "measure", "Measure", "m"),
        (Self::Spend, "spend", "Spend", "s"),
        (Self::Causes, "causes", "Causes", "c"),
        (Self::Budgets, "budgets", "Budgets", "b"),
        (Self::Bids, "bids", "Bids", "i"),
        (Self::Rules, "rules", "Rules", "u"),
        (Self::Logbook, "logbook", "Logbook", "l"),
    ];
}

/// A link of the loop.
#[derive(Clone, Debug)]
pub struct Stop {
    /// Place in addresses.
    pub place: &'static str,
    /// Title.
    pub title: &'static str,
    /// The key behind `g`.
    pub key: &'static str,
    /// Whether this is it.
    pub here: bool,
    /// What waits there.
    pub waits: Option<String>,
}

/// What waits at a station, of what is known on every page.
fn waits(station: Station, of: &Waiting) -> Option<String> {
    match station {
        Station::Logbook if of.due > 0 => Some(format!("{} due", of.due)),
        Station::Rules if of.rules_stopped => Some("all stopped".into()),
        Station::Rules if of.suspended > 0 => Some(format!("{} suspended", of.suspended)),
        Station::Rules if of.by_rules > 0 => Some(format!("{} waiting", of.by_rules)),
        _ => None,
    }
}

/// The period in words.
#[derive(Clone, Debug)]
pub struct PeriodView {
    /// The days looked at.
    pub window: Window,
    /// `11 Oct – 7 Nov, 28 settled days`.
    pub text: String,
    /// `13 Sep – 10 Oct`, or nothing.
    pub against: Option<(Window, String)>,
    /// Links that move it.
    pub earlier: Params,
    /// Links that move it.
    pub later: Params,
    /// Ready-made periods: title and link.
    pub ready: Vec<(String, Params)>,
    /// Last reported day.
    pub last: String,
}

/// The frame.
#[derive(Clone, Debug)]
pub struct Frame {
    /// The account.
    pub account: Account,
    /// The person's accounts.
    pub accounts: Vec<Account>,
    /// The person's name.
    pub person: String,
    /// Whether they may change things.
    pub editor: bool,
    /// Stations.
    pub stops: Vec<Stop>,
    /// Where this page is.
    pub station: Station,
    /// The days looked at, where the page has any.
    pub period: Option<PeriodView>,
    /// The part of the query that says which days.
    pub days: Params,
    /// The query of this page.
    pub params: Params,
    /// City of the time zone.
    pub place: String,
    /// What waits in the tray.
    pub tray: TrayBar,
    /// The last day that is over at the channels, where any is connected.
    pub market: Option<String>,
    /// Whether anything is being fetched.
    pub fetching: bool,
    /// Whether any channel is connected, so that changes can be sent.
    pub connected: bool,
}

/// The bar at the foot.
#[derive(Clone, Debug, Default)]
pub struct TrayBar {
    /// Changes that wait or are being sent.
    pub changes: i64,
    /// `3 changes wait`.
    pub text: String,
    /// `daily budgets +48.00, expected spend +31.00 a day`.
    pub money: Option<String>,
    /// Where it opens.
    pub href: String,
    /// Swapped into its place beside a fragment.
    pub beside: bool,
    /// Whether the page shows what it would open.
    pub open: bool,
}

impl TrayBar {
    /// The bar of a member's account.
    pub fn new(member: &Member, waiting: Waiting) -> Self {
        let n = waiting.changes.unsigned_abs();
        let verb = if n == 1 { "waits" } else { "wait" };
        let text = match (waiting.changes, waiting.sending) {
            (0, 0) => "The change tray is empty".to_owned(),
            (0, sending) => format!("{} being sent", changes(sending.unsigned_abs())),
            (_, 0) => format!("{} {verb}", changes(n)),
            (_, sending) => format!("{} {verb}, {sending} being sent", changes(n)),
        };
        let units = |micros| tiller_core::Micros::new(micros).to_units();
        let (budgets, spend) = (units(waiting.a_day), units(waiting.spend_a_day));
        let unknown = match waiting.unknown.unsigned_abs() {
            0 => String::new(),
            n => format!(", {} of unknown effect", changes(n)),
        };
        let money = (waiting.changes + waiting.sending > 0).then(|| {
            format!(
                "daily budgets {}, expected spend {} a day{unknown}",
                signed(budgets, money),
                signed(spend, money)
            )
        });
        Self {
            changes: waiting.changes + waiting.sending,
            text,
            money,
            href: member.path("tray"),
            beside: false,
            open: false,
        }
    }
}

impl Frame {
    /// The frame of a page without a period.
    pub fn new(member: &Member, station: Station, params: &Params) -> Self {
        let stops = Station::LOOP
            .iter()
            .map(|(s, place, title, key)| Stop {
                place,
                title,
                key,
                here: *s == station,
                waits: waits(*s, &member.standing.waiting),
            })
            .collect();
        Self {
            account: member.account.clone(),
            accounts: member.accounts.clone(),
            person: member.person.name.clone(),
            editor: member.role >= Role::Analyst,
            stops,
            station,
            period: None,
            days: params.only_period(),
            params: params.clone(),
            tray: TrayBar {
                open: station == Station::Tray,
                ..TrayBar::new(member, member.standing.waiting)
            },
            market: member.standing.last_day.map(full_day),
            fetching: member.standing.fetching,
            connected: member.standing.connected,
            place: member
                .account
                .time_zone
                .rsplit('/')
                .next()
                .unwrap_or_default()
                .replace('_', " "),
        }
    }

    /// With the book's period.
    pub fn of_book(member: &Member, station: Station, params: &Params, book: &Book) -> Self {
        let mut frame = Self::new(member, station, params);
        frame.period = Some(period_view(book, params));
        let spoiled = measure::spoiled(book).len();
        if let Some(stop) =
            frame.stops.iter_mut().find(|s| s.place == "measure").filter(|_| spoiled > 0)
        {
            stop.waits = Some(format!("{spoiled} to fix"));
        }
        frame
    }

    /// With the number of campaigns that need a look.
    pub fn with_causes<'a>(mut self, judged: impl Iterator<Item = &'a Judged>) -> Self {
        let waiting = judged
            .filter(|j| !matches!(j.diagnosis.verdict, Verdict::OnTarget | Verdict::TooEarly))
            .count();
        if let Some(stop) =
            self.stops.iter_mut().find(|s| s.place == "causes").filter(|_| waiting > 0)
        {
            stop.waits = Some(format!("{waiting} to look at"));
        }
        self
    }

    /// Where the account's pages are.
    pub fn base(&self) -> Paths {
        Paths::of(&self.account)
    }

    /// Whether this is the page of the reports.
    pub fn at(&self, word: &str) -> bool {
        matches!(
            (self.station, word),
            (Station::Reports, "reports")
                | (Station::Today, "today")
                | (Station::Channels, "channels")
                | (Station::Tray, "tray")
        )
    }
}

fn period_view(book: &Book, params: &Params) -> PeriodView {
    let window = book.period.window;
    let settled = book.settled().map_or(0, |w| w.days());
    let text = if settled == window.days() {
        format!("{}, {} settled days", span(window), window.days())
    } else {
        format!("{}, {} days, {} settled", span(window), window.days(), settled)
    };
    let at = |w: Window| {
        params
            .with("from", w.from())
            .with("to", w.to())
            .with("against_from", "")
            .with("against_to", "")
    };
    let settled_end = book.last_settled();
    let ready = [7, 14, 28, 90]
        .into_iter()
        .map(|n| (format!("Last {n} settled days"), at(Window::ending(settled_end, n))))
        .chain([("All reported days".to_owned(), at(book.span).with("alone", "yes"))])
        .collect();
    PeriodView {
        window,
        text,
        against: book.period.against.map(|w| (w, span(w))),
        earlier: at(window.shifted(-1)),
        later: at(window.shifted(1)),
        ready,
        last: full_day(book.span.to()),
    }
}
