//! What people read about a verdict: every sentence rests on a number, and none promises too much.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::fmt::Write as _;
use tiller_core::Price;

use tiller_core::Target;
use tiller_desk::causes::file::{DiagnosisFile, Question};
use tiller_desk::report_file::Report;

/// A report of forty days: the campaign in question and two peers.
fn report(clicks: u32, cpc: f64, conversions: f64, days: u32) -> String {
    let mut text = String::from(
        "date,channel,campaign,ad_group,kind,item,impressions,clicks,spend,conversions,value\n",
    );
    let first = chrono::NaiveDate::from_ymd_opt(2026, 10, 1).unwrap();
    for (n, day) in first.iter_days().take(40).enumerate() {
        let mut row = |name: &str, clicks: u32, cpc: f64, conversions: f64| {
            let spend = f64::from(clicks) * cpc;
            writeln!(
                text,
                "{day},Findle,{name},Group,keyword,a,{},{clicks},{spend:.2},{conversions},{}",
                clicks * 25,
                conversions * 40.0
            )
            .unwrap();
        };
        row("Peer one", 50, 2.0, 10.0);
        row("Peer two", 50, 2.1, 10.0);
        if n as u32 >= 40 - days {
            row("Asked", clicks, cpc, conversions);
        }
    }
    text
}

fn ask(text: &str, target: Target) -> DiagnosisFile {
    let question = Question {
        segments: Vec::new(),
        campaign: "asked".into(),
        ad_group: None,
        target,
        from: None,
        to: None,
        launched: None,
    };
    Report::read(text.as_bytes()).unwrap().diagnose(&question).unwrap()
}

fn says(answer: &DiagnosisFile, verdict: &str, parts: &[&str]) {
    let text = answer.because.join(" ");
    assert_eq!(answer.verdict, verdict, "{text}");
    for part in parts {
        assert!(text.replace('\u{202f}', " ").contains(part), "‘{part}’ is not in: {text}");
    }
}

const CPA: Target = Target::Cpa(Price(15.0));

#[test]
fn too_dear_a_click() {
    let answer = ask(&report(50, 6.0, 10.0, 40), CPA);
    says(
        &answer,
        "bid",
        &[
            "It pays too much per click.",
            "(20.0% against 20.0%)",
            "A click costs 6.00; the target affords 3.00",
            "one conversion in 5 clicks",
            "almost certainly above target (over 99%)",
        ],
    );
    assert_eq!(answer.figures.halfway_bid, Some(4.5));
    assert_eq!(answer.peers.campaigns, 2);
}

#[test]
fn the_wrong_people() {
    let answer = ask(&report(50, 2.0, 3.0, 40), CPA);
    says(
        &answer,
        "traffic",
        &[
            "It reaches the wrong people.",
            "convert less often than its peers’ (6.0% against 20.0%)",
            "it would be on target if its visitors converted like its peers’",
        ],
    );
}

#[test]
fn both_at_once() {
    says(
        &ask(&report(50, 6.0, 3.0, 40), CPA),
        "both",
        &["It reaches the wrong people and pays too much per click."],
    );
}

#[test]
fn on_target_with_room() {
    let answer = ask(&report(50, 2.0, 10.0, 40), CPA);
    says(
        &answer,
        "on_target",
        &["It is on target.", "1 900 under target", "Its CPA is 10.00 against a target of 15.00"],
    );
    assert!(answer.figures.excess < 0.0 && answer.account.meets_target);
}

#[test]
fn launched_too_recently() {
    says(
        &ask(&report(50, 6.0, 2.0, 5), CPA),
        "too_early",
        &["Too early to tell.", "It was launched on 5 Nov", "Leave it alone until then."],
    );
}

#[test]
fn too_little_spent() {
    says(
        &ask(&report(1, 0.5, 0.0, 40), CPA),
        "too_early",
        &["a verdict needs three times the target, 45.00", "days at the present rate"],
    );
}

#[test]
fn undecided_says_what_would_decide() {
    // 16.50 a conversion against 15: 76 conversions don't settle that.
    let answer = ask(&report(12, 2.75, 2.0, 40), CPA);
    let told = ["could still be on either side of the target", "more conversions would tell"];
    says(&answer, "too_early", &told);
    assert!(!answer.because.join(" ").contains("conversions likely"));
}

#[test]
fn a_silent_event() {
    let text = report(50, 2.0, 10.0, 40);
    let silent: Vec<String> = text
        .lines()
        .map(|line| {
            let late = [
                "2026-11-01",
                "2026-11-02",
                "2026-11-03",
                "2026-11-04",
                "2026-11-05",
                "2026-11-06",
                "2026-11-07",
                "2026-11-08",
                "2026-11-09",
            ];
            if line.contains("Asked") && late.iter().any(|d| line.starts_with(d)) {
                line.replace(",10,400", ",0,0")
            } else {
                line.to_owned()
            }
        })
        .collect();
    let answer = ask(&silent.join("\n"), CPA);
    says(
        &answer,
        "measurement",
        &[
            "Its conversions can’t be trusted.",
            "No conversion has been reported since 1 Nov, 7 days, when about 70 would be usual",
        ],
    );
}

#[test]
fn a_return_is_told_as_a_return() {
    let answer = ask(&report(50, 6.0, 10.0, 40), Target::Roas(2.5));
    says(&answer, "bid", &["Its ROAS is 1.33 against a target of 2.50"]);
    assert!(
        (answer.figures.excess - (answer.figures.spend - answer.figures.conversions * 40.0 / 2.5))
            .abs()
            < 1e-6
    );
}

#[test]
fn values_missing_where_a_return_is_asked() {
    let text: String = report(50, 2.0, 10.0, 40).lines().map(|l| if l.contains("Asked") { l.replace(",10,400", ",10,0") } else { l.to_owned() } + "\n").collect();
    says(&ask(&text, Target::Roas(4.0)), "measurement", &["its 380 conversions carry no value"]);
}

/// The cases that were wrong once: peers overruled what a campaign's own figures say.
#[test]
fn a_campaigns_own_figures_decide() {
    // 84 a conversion against 30, beside peers at 10.
    let over = ask(&report(28, 3.0, 1.0, 40), Target::Cpa(Price(30.0)));
    assert!(over.figures.cpa == Some(84.0) && over.figures.excess > 0.0);
    assert!(!matches!(over.verdict, "on_target" | "too_early"), "{}", over.because.join(" "));
    // 25 against 30 beside peers who pay 10: on target all the same.
    let under = ask(&report(50, 5.0, 10.0, 40), Target::Cpa(Price(30.0)));
    assert_eq!((under.figures.cpa, under.verdict), (Some(25.0), "on_target"));
    // None of 46 clicks against one in five.
    let none = ask(&report(2, 3.0, 0.0, 23), Target::Cpa(Price(15.0)));
    says(&none, "traffic", &["It reaches the wrong people.", "It has no conversion"]);
    assert!(!none.because.join(" ").contains("as often as"));
}

#[test]
fn without_peers_it_leans() {
    let text = report(50, 6.0, 3.0, 40);
    let alone = text.lines().filter(|l| !l.contains("Peer")).collect::<Vec<_>>().join("\n");
    let answer = ask(&alone, CPA);
    assert!(answer.leans && answer.peers.campaigns == 0);
    says(&answer, "bid", &["It probably pays too much per click.", "no peers to compare with"]);
    // Other kinds and other purposes are no peers.
    let other = text
        .replace("Peer one,Group,keyword", "Peer one,Group,audience")
        .replace("Peer two", "Brand");
    assert_eq!(ask(&other, CPA).peers.campaigns, 0);
}

#[test]
fn the_account_is_told_with_and_without_its_own_name() {
    // The searches for the own name pay for all the others.
    let text = report(50, 6.0, 10.0, 40).replace("Peer two", "Brand").replace("Peer one", "Other");
    let answer = ask(&text, Target::Cpa(Price(21.0)));
    assert_eq!(answer.account.meets_target_without_brand, Some(true));
    let answer = ask(&text, Target::Cpa(Price(19.0)));
    assert!(answer.account.meets_target);
    assert_eq!(answer.account.meets_target_without_brand, Some(false));
}

#[test]
fn small_orders_are_a_cause_of_their_own() {
    let text: String = report(50, 2.0, 10.0, 40)
        .lines()
        .map(|l| if l.contains("Asked") { l.replace(",10,400", ",10,190") } else { l.to_owned() } + "\n")
        .collect();
    let answer = ask(&text, Target::Roas(3.0));
    says(
        &answer,
        "order_value",
        &["It brings in small orders.", "(19.00 against 40.00)", "Its ROAS is 1.90"],
    );
    assert!(!answer.because.join(" ").contains("CPA"), "told in its own measure");
    let steps: Vec<&str> = answer.bridge.iter().map(|e| e.factor).collect();
    assert_eq!(steps, ["peers", "cpc", "cvr", "order_value"]);
}
