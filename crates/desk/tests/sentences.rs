//! Every sentence that an answer of core can lead to, once each, in a file that a person can read through: sentences.txt.
//! After a change of wording, `UPDATE=1 cargo test -p tiller-desk --test sentences` writes it again; read what changed.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::HashSet;
use std::fmt::Write as _;
use tiller_core::allocation::Next;
use tiller_core::evidence::Interval;
use tiller_core::{Price, Share};

use chrono::NaiveDate;
use tiller_channel::Micros;
use tiller_channel::report::{Column, MappingError};
use tiller_core::alarm::{Jump, Stopped};
use tiller_core::allocation::{Conflict, ConflictKind, Range, Repair, Warning, WholeLimit};
use tiller_core::break_even::Margin;
use tiller_core::evidence::order_values::orders;
use tiller_core::pace::{Band, Forecast};
use tiller_core::purpose::Purpose;
use tiller_core::setting::{Budget, MatchType, PlacesMode, Setting, Status, Strategy};
use tiller_core::tracking::Finding;
use tiller_core::verdict::{BudgetUse, Case, LimitedBy, diagnose};
use tiller_core::{Currency, Tally, Target, Window};
use tiller_desk::alarms::{Alarm, Moved, What, Why};
use tiller_desk::book::quiet::Quiet;
use tiller_desk::book::{Judged, Meets, PeerCircle};
use tiller_desk::numerals::typed_number;
use tiller_desk::pace::{Of, Pace, Row};
use tiller_desk::plans::answer;
use tiller_desk::wording::{self, TradeOff};
use tiller_desk::{CampaignId, change_words};

/// Sentences by section; those that differ in their numbers only stand once.
#[derive(Default)]
struct Snapshot {
    text: String,
    seen: HashSet<String>,
}

impl Snapshot {
    fn section(&mut self, title: &str) {
        writeln!(self.text, "\n# {title}").unwrap();
    }

    /// A text of several sentences: each once.
    fn tell(&mut self, text: &str) {
        for wrong in ["  ", " ,", " .", "..", ": Bring"] {
            assert!(!text.contains(wrong), "‘{wrong}’ in: {text}");
        }
        for sentence in text.split_inclusive(". ") {
            self.say(sentence.trim_end());
        }
    }

    fn say(&mut self, sentence: &str) {
        let shape: String = sentence
            .chars()
            .filter(|c| !c.is_ascii_digit() && !".,\u{202f}−".contains(*c))
            .collect();
        if !sentence.trim().is_empty() && self.seen.insert(shape) {
            writeln!(self.text, "{}", sentence.replace('\u{202f}', " ")).unwrap();
        }
    }
}

fn day(d: u32) -> NaiveDate {
    NaiveDate::from_ymd_opt(2026, 11, d).unwrap()
}

fn tally(spend: f64, cpc: f64, cvr: f64, aov: f64, ctr: f64) -> Tally {
    let clicks = (spend / cpc).round();
    let conversions = (clicks * cvr).round();
    Tally {
        impressions: (clicks / ctr).round() as i64,
        clicks: clicks as i64,
        spend: Micros::from_units(spend),
        conversions,
        value: Micros::from_units(conversions * aov),
    }
}

fn findings() -> Vec<Vec<Finding>> {
    let event = |text: &str| text.to_owned();
    vec![
        Vec::new(),
        vec![Finding::Silent { since: day(2), days: 1, expected: 6.2 }],
        vec![Finding::Silent { since: day(2), days: 6, expected: 34.0 }],
        vec![Finding::NoValues { conversions: 1.0 }],
        vec![Finding::NoValues { conversions: 31.0 }],
        vec![Finding::NoResult { event: event("page view"), conversions: 900.0, others: 1.0 }],
        vec![Finding::NoResult { event: event("page view"), conversions: 900.0, others: 31.0 }],
        vec![Finding::NothingCounts { event: event("booking form"), conversions: 12.0 }],
    ]
}

fn budget_use(used: f64, full_days: u32) -> BudgetUse {
    BudgetUse {
        days: 28,
        full_days,
        used: Some(used),
        lost_to_bid: Share::new(0.4),
        ceiling: Some(Price(2.0)),
    }
}

fn verdicts(out: &mut Snapshot) {
    let peers: Vec<(PeerCircle, Vec<Tally>)> = {
        let good = tally(900.0, 2.0, 0.1, 80.0, 0.03);
        let poor = tally(900.0, 6.0, 0.03, 80.0, 0.03);
        let channel = || PeerCircle::Channel("Findle".into(), Purpose::Generic);
        vec![
            (channel(), vec![good; 3]),
            (PeerCircle::All(Purpose::Prospecting), vec![good]),
            (channel(), vec![poor; 3]),
            (PeerCircle::Chosen, vec![tally(4.0, 2.0, 0.5, 80.0, 0.03)]),
            (channel(), Vec::new()),
        ]
    };
    let mut tallies = Vec::new();
    for spend in [20.0, 300.0, 3000.0] {
        for cpc in [0.6, 2.0, 6.5] {
            for cvr in [0.0, 0.02, 0.1, 0.3] {
                for aov in [20.0, 80.0] {
                    for ctr in [0.003, 0.03] {
                        tallies.push(tally(spend, cpc, cvr, aov, ctr));
                    }
                }
            }
        }
    }
    let mut times = vec![(None, None, 28), (None, None, 2)];
    times.push((Some(day(6)), None, 3));
    times.push((None, Some((day(6), day(19))), 28));
    for target in [Target::Cpa(Price(30.0)), Target::Roas(4.0)] {
        for (title, fits) in [("Verdicts, CPA", true), ("Verdicts, ROAS", false)] {
            if fits == matches!(target, Target::Cpa(_)) {
                out.section(title);
            }
        }
        for findings in findings() {
            for (circle, peers) in &peers {
                for t in &tallies {
                    for (launched, shocked, settled_days) in &times {
                        for (used, full) in [(1.0, 28), (0.5, 0)] {
                            let days: Vec<Tally> = (0..28).map(|_| *t).collect();
                            let of = orders(days.iter()).zip(orders(peers.iter()));
                            let case = Case {
                                tally: *t,
                                settled_days: *settled_days,
                                target,
                                least_difference: 0.05,
                                peers,
                                orders: of,
                                launched: *launched,
                                shocked: *shocked,
                                last_day: day(9),
                                settle_days: 2,
                                findings: &findings,
                                budget_use: budget_use(used, full),
                                dispersion: 1.0,
                                to_come_error: 0.0,
                            };
                            judged(out, &case, circle);
                        }
                    }
                }
            }
        }
    }
}

fn judged(out: &mut Snapshot, case: &Case, circle: &PeerCircle) {
    let diagnosis = diagnose(case);
    let halfway = diagnosis.halfway_bid;
    let j = Judged {
        diagnosis,
        tally: case.tally,
        window: Window::ending(day(7), case.settled_days),
        target: case.target,
        findings: case.findings.to_vec(),
        peers: (case.peers.len(), circle.clone()),
        to_come: if case.tally.conversions > 20.0 { 3.0 } else { 0.0 },
        budget_use: case.budget_use,
    };
    out.say(&wording::headline(&j.diagnosis).to_string());
    out.say(&wording::short(&j.diagnosis));
    for reason in wording::reasons(&j) {
        out.tell(&reason.to_string());
    }
    out.say(&wording::peers(j.peers.0, circle));
    let all = tally(30_000.0, 2.0, 0.08, 90.0, 0.02);
    let (meets, misses) = match case.target {
        Target::Cpa(_) => (Target::Cpa(Price(40.0)), Target::Cpa(Price(10.0))),
        Target::Roas(_) => (Target::Roas(1.0), Target::Roas(9.0)),
    };
    let met = |target, without_brand| Meets { target, all, without_brand };
    let brand = tally(12_000.0, 2.0, 0.01, 90.0, 0.02);
    let wholes =
        [None, Some(met(meets, None)), Some(met(misses, None)), Some(met(meets, Some(brand)))];
    let trade = |seen: bool| {
        halfway.map(|halfway| TradeOff {
            cpc: halfway,
            in_part: !seen,
            times: 0.76,
            cpa: Price(34.8),
            roas: matches!(case.target, Target::Roas(_)).then_some(3.2),
            now: case.tally.conversions,
            then: Interval {
                low: 0.7 * case.tally.conversions,
                high: 0.9 * case.tally.conversions,
            },
            seen,
        })
    };
    // What the next result costs: as much as the mean one, surely; more, as is usual on its channel.
    let next = |costs: f64, low: f64, high: f64, leans| Next {
        costs,
        around: Interval { low, high },
        leans,
    };
    let margins = [next(1.0, 1.0, 1.0, false), next(1.7, 1.3, 2.4, true)];
    for meets in &wholes {
        for trade in [trade(true), trade(false), None] {
            out.tell(&wording::advice(&j, trade, meets.as_ref(), None).to_string());
            for next in &margins {
                out.tell(&wording::advice(&j, trade, meets.as_ref(), Some(next)).to_string());
            }
        }
        if let Some(meets) = meets {
            out.say(&wording::whole(meets));
        }
    }
}

fn names(n: usize) -> Vec<String> {
    ["Courses", "Visits", "Own name", "Feed", "Films"]
        .iter()
        .take(n)
        .map(ToString::to_string)
        .collect()
}

fn plans(out: &mut Snapshot) {
    out.section("Limits that contradict each other");
    let limits = [WholeLimit::MaxCpa, WholeLimit::MinRoas, WholeLimit::MinConversions];
    let kinds = [
        ConflictKind::FloorAboveCeiling,
        ConflictKind::FloorAboveChange,
        ConflictKind::CeilingBelowChange,
        ConflictKind::GroupFloorAboveCeiling,
        ConflictKind::GroupFloorAboveMembers,
        ConflictKind::MembersAboveGroupCeiling,
        ConflictKind::FloorsAboveTotal,
        ConflictKind::CeilingsBelowTotal,
    ];
    let whole =
        limits.iter().flat_map(|l| [ConflictKind::OutOfReach(*l), ConflictKind::StepTooCoarse(*l)]);
    for kind in kinds.into_iter().chain(whole) {
        for members in [1, 2, 5] {
            for groups in [0, 1, 2] {
                let conflict = Conflict {
                    kind,
                    asked: 1500.0,
                    possible: 1200.0,
                    group: Some("Findle".into()),
                    members: names(members),
                    groups: names(groups),
                };
                out.say(&answer::conflict(&conflict).1);
            }
        }
    }
    let between = |group: Option<&str>, members| Conflict {
        kind: ConflictKind::BetweenSteps,
        asked: 1500.0,
        possible: 1200.0,
        group: group.map(Into::into),
        members,
        groups: Vec::new(),
    };
    for conflict in
        [between(Some("Findle"), names(0)), between(None, names(1)), between(None, names(0))]
    {
        out.say(&answer::conflict(&conflict).1);
    }
    out.section("Repairs");
    let amounts = |n| names(n).into_iter().map(|name| (name, 120.0)).collect::<Vec<_>>();
    let mut repairs = vec![
        Repair::Total { to: 1500.0 },
        Repair::SpendUpTo,
        Repair::GroupFloor { group: "Findle".into(), to: 400.0 },
        Repair::GroupCeiling { group: "Findle".into(), to: 400.0 },
        Repair::Step { to: 0.0 },
        Repair::Step { to: 5.0 },
        Repair::MaxChange { to: 0.35 },
    ];
    for n in [1, 2, 5] {
        repairs.push(Repair::Floors { lines: amounts(n) });
        repairs.push(Repair::Ceilings { lines: amounts(n) });
        repairs.push(Repair::GroupFloors { groups: amounts(n) });
        repairs.push(Repair::Release { lines: names(n) });
    }
    repairs.extend(limits.map(|limit| Repair::Whole { limit, to: 31.5 }));
    for repair in repairs {
        out.say(&answer::repair(&repair));
    }
    out.section("Warnings of plans");
    let warnings = [
        Warning::Unclear { better: 0.62 },
        Warning::Corner { line: "Courses".into(), share: 0.93 },
        Warning::Extrapolates { lines: names(1) },
        Warning::Extrapolates { lines: names(3) },
        Warning::Wide { range: Range { low: 300.0, mid: 500.0, high: 800.0 } },
    ];
    for warning in &warnings {
        out.say(&answer::warning(warning).message);
    }
}

fn alarms(out: &mut Snapshot) {
    out.section("Alarms");
    let stop = Stopped { since: day(8), usual: 54.2 };
    let jump = |days, usual: f64, now| Jump { days, to: day(7), usual, now, p: 0.0004 };
    let whys =
        [Why::Paused, Why::Bid(0.83), Why::Month, Why::Flight(day(28)), Why::Channel, Why::Unknown];
    let mut all: Vec<What> = whys.map(|why| What::Stopped(stop, why)).into();
    all.extend([What::FlightEnds(day(14)), What::FlightOver(day(6))]);
    for fast in [true, false] {
        all.push(What::Noon { gone: 2, of: 3, fast });
    }
    let moved = [
        Moved::Budget(40.0, 120.0),
        Moved::Cpc(Price(1.2), Price(2.4)),
        Moved::Clicks(35.0, 12.0),
        Moved::Cvr(0.06, 0.02),
        Moved::OrderValue(Price(80.0), Price(41.0)),
    ];
    for m in moved {
        all.push(What::Spend(jump(3, 40.0, 118.0), m));
        all.push(What::Cost(jump(7, 22.0, 61.0), m, None));
        all.push(What::Cost(jump(7, 22.0, 61.0), m, Some(80.0)));
    }
    all.push(What::Cost(jump(7, 22.0, f64::INFINITY), moved[3], None));
    for what in all {
        let campaign = Some(CampaignId(1));
        let alarm = Alarm { campaign, name: "Courses".into(), what, worth: 1.0, quiet: None };
        out.say(&format!("{} → {}", alarm.sentence(), alarm.step().0));
    }
}

fn paces(out: &mut Snapshot) {
    out.section("How a month ends");
    let row = |spent: f64, ahead: f64, plan: Option<f64>| {
        let mid = spent + ahead;
        let outer = Interval { low: spent + 0.9 * ahead, high: spent + 1.1 * ahead };
        let end = Band { day: day(30), outer, inner: outer, mid };
        let forecast = Forecast {
            spent,
            ahead: if ahead > 0.0 { vec![end] } else { Vec::new() },
            profile: [1.0; 7],
            level: ahead,
        };
        let name = String::new();
        Row {
            of: Of::Account,
            name,
            forecast,
            plan,
            typed: plan.is_some(),
            budget: None,
            quiet: None,
        }
    };
    for plan in [None, Some("autumn")] {
        let pace = Pace {
            month: Window::new(day(1), day(30)).unwrap(),
            to: day(29),
            plan: plan.map(|name| (tiller_core::ids::PlanId(1), name.to_owned())),
            typed: Vec::new(),
            rows: Vec::new(),
        };
        let plans = [None, Some(1_500.0), Some(2_000.0), Some(2_500.0), Some(900.0)];
        let rows = plans
            .map(|p| row(1_000.0, 1_000.0, p))
            .into_iter()
            .chain([row(1_000.0, 0.0, Some(900.0)), row(1_000.0, 0.0, Some(1_100.0))]);
        for row in rows {
            for typed in [true, false] {
                out.tell(&pace.sentence(&Row { typed, ..row.clone() }).to_string());
            }
        }
    }
}

/// What is said to what somebody typed, or to a file.
fn errors(out: &mut Snapshot) {
    out.section("Errors of what is typed");
    for (text, base) in [("much", None), ("+10%", None), ("12*x", Some(1.0)), ("1.2.3", None)] {
        out.say(&typed_number::amount(text, base).unwrap_err());
    }
    out.say(&typed_number::share("-4").unwrap_err());
    for text in ["EURO", "E1R"] {
        out.say(&text.parse::<Currency>().unwrap_err().to_string());
    }
    for text in ["", "much", "1.2345678", "99999999999999999999"] {
        out.say(&Micros::parse(text).unwrap_err().to_string());
    }
    out.say(&Margin::new(1.4).unwrap_err().to_string());
    out.say(&Margin::new(0.3).unwrap().keeping(0.4).unwrap_err().to_string());
    out.section("Errors of a report");
    for mapping in [
        MappingError::Missing(vec!["date"]),
        MappingError::Missing(vec!["date", "spend"]),
        MappingError::Twice(Column::Spend.title()),
        MappingError::NoChannel,
    ] {
        out.say(&mapping.to_string());
    }
}

fn changes(out: &mut Snapshot) {
    out.section("Changes");
    let money = Micros::from_units;
    let daily = |x| Setting::Budget(Budget::Daily { amount: money(x) });
    let flight = |x| {
        let amount = money(x);
        Setting::Budget(Budget::Lifetime { amount, starts: day(10), ends: day(23) })
    };
    let word = |present| Setting::Negative {
        text: "recipe".into(),
        match_type: MatchType::Phrase,
        present,
    };
    let pairs = [
        (Setting::Status(Status::Active), Setting::Status(Status::Paused)),
        (Setting::Status(Status::Paused), Setting::Status(Status::Active)),
        (daily(50.0), daily(60.0)),
        (daily(50.0), flight(700.0)),
        (flight(700.0), daily(50.0)),
        (Setting::Bid(None), Setting::Bid(Some(money(1.2)))),
        (Setting::Bid(Some(money(1.2))), Setting::Bid(None)),
        (
            Setting::Strategy(Strategy::ManualCpc),
            Setting::Strategy(Strategy::TargetCpa { target: money(30.0) }),
        ),
        (
            Setting::Strategy(Strategy::MostClicks),
            Setting::Strategy(Strategy::TargetRoas { target: 4.0 }),
        ),
        (Setting::Floor(None), Setting::Floor(Some(money(5.0)))),
        (Setting::BidCeiling(Some(money(2.0))), Setting::BidCeiling(None)),
        (Setting::Hours(None), Setting::Hours(None)),
        (Setting::Places(PlacesMode::Interested), Setting::Places(PlacesMode::In)),
        (word(false), word(true)),
    ];
    for (was, set_to) in &pairs {
        out.say(&change_words::sentence(Some(was), set_to));
        out.say(&change_words::aim(set_to));
    }
    out.say(&change_words::sentence(None, &word(true)));
    for until in [Some(day(19)), None] {
        let what = change_words::sentence(Some(&daily(50.0)), &daily(60.0));
        out.say(&Quiet { what, until, undone: false, unclear: false }.sentence());
    }
    let what = change_words::sentence(Some(&daily(50.0)), &daily(60.0));
    out.say(&Quiet { what, until: Some(day(19)), undone: false, unclear: true }.sentence());
    out.section("What limits it");
    for held in [LimitedBy::Budget, LimitedBy::Bid, LimitedBy::Neither] {
        let t = tally(300.0, 2.0, 0.1, 80.0, 0.03);
        let case = Case {
            tally: t,
            settled_days: 28,
            target: Target::Cpa(Price(30.0)),
            least_difference: 0.05,
            peers: &[],
            orders: None,
            launched: None,
            shocked: None,
            last_day: day(9),
            settle_days: 2,
            findings: &[],
            budget_use: BudgetUse::default(),
            to_come_error: 0.0,
            dispersion: 1.0,
        };
        let mut d = diagnose(&case);
        d.limited_by = held;
        out.say(wording::limited_by(&d));
    }
}

#[test]
fn every_sentence_can_be_read_through() {
    let mut out = Snapshot::default();
    out.text
        .push_str("Sentences that answers lead to. Written by crates/desk/tests/sentences.rs.\n");
    verdicts(&mut out);
    plans(&mut out);
    alarms(&mut out);
    paces(&mut out);
    errors(&mut out);
    changes(&mut out);
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/sentences.txt");
    if std::env::var("UPDATE").is_ok() {
        std::fs::write(&path, &out.text).unwrap();
    }
    // Parts that don't fit, doubled words and stops, numbers that are none.
    for line in out.text.lines() {
        for wrong in [
            "  ",
            " ,",
            " .",
            "..",
            ",,",
            "It it",
            " a a ",
            "NaN",
            "inf",
            "None",
            "Some(",
            "{}",
            " 1 conversions",
            " 1 days",
            " 1 campaigns",
            " 1 clicks",
        ] {
            assert!(!line.contains(wrong), "‘{wrong}’ in: {line}");
        }
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    let new: Vec<&str> = out.text.lines().filter(|l| !kept.lines().any(|k| k == *l)).collect();
    let gone: Vec<&str> = kept.lines().filter(|k| !out.text.lines().any(|l| l == *k)).collect();
    assert!(
        new.is_empty() && gone.is_empty(),
        "new: {new:#?}\ngone: {gone:#?}\nUPDATE=1 writes them"
    );
}
