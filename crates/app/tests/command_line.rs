//! The command line over files: answers, messages, exit codes.
// Helpers outside of test functions may fail loudly too.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::io::Write;
use std::process::{Command, Output, Stdio};

fn run(args: &[&str], input: &str) -> Output {
    let mut child = Command::new(env!("CARGO_BIN_EXE_gold-tiller"))
        .args(args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // A program that refuses its arguments does not read; its answer is what is looked at.
    child.stdin.take().unwrap().write_all(input.as_bytes()).ok();
    child.wait_with_output().unwrap()
}

fn out(o: &Output) -> String {
    String::from_utf8(o.stdout.clone()).unwrap()
}
fn err(o: &Output) -> String {
    String::from_utf8(o.stderr.clone()).unwrap()
}

const PLAN: &str = r#"{"format":"gold-tiller/plan@1","currency":"EUR","goal":"conversions","total":{"amount":100,"use":"all"},
 "lines":[{"id":"search","current":50,"response":{"kind":"power","scale":1.0,"elasticity":0.5}},
          {"id":"feed","current":50,"floor":0,"response":{"kind":"power","scale":2.0,"elasticity":0.5}}]}"#;

#[test]
fn a_plan_is_solved() {
    let o = run(&["allocate", "-"], PLAN);
    assert_eq!(o.status.code(), Some(0), "{}", err(&o));
    insta::assert_snapshot!(out(&o), @r"
    line         present        budget  conversions   marginal  limit
    search         50.00         20.00          4.5     0.1118  none
    feed           50.00         80.00         17.9     0.1118  none
    total         100.00        100.00         22.4
    CPA 4.47, ROAS –
    Note: One line would get less than half or more than double of what has been seen to be spent there, so how it would respond is not known: search. Take it in steps.
    ");
    let json: serde_json::Value =
        serde_json::from_str(&out(&run(&["allocate", "--json", "-"], PLAN))).unwrap();
    assert_eq!(
        (json["status"].as_str(), json["lines"][1]["budget"].as_f64()),
        (Some("optimal"), Some(80.0))
    );
}

#[test]
fn an_impossible_plan_says_why_and_ends_with_3() {
    let plan = PLAN.replace("\"floor\":0", "\"floor\":120");
    let o = run(&["allocate", "-"], &plan);
    assert_eq!(o.status.code(), Some(3));
    insta::assert_snapshot!(out(&o), @r"
    The limits contradict each other.
    - What lines and groups get at least, by floors, by hand or by the limit on change, adds up to 120.00, 20.00 above the total of 100.00: feed.
      One way out: Set the total to 120.00
      One way out: Lower floors: feed to 100.00
    ");
    let json: serde_json::Value =
        serde_json::from_str(&out(&run(&["allocate", "--json", "-"], &plan))).unwrap();
    assert_eq!(
        (json["status"].as_str(), json["conflicts"][0]["short_by"].as_f64()),
        (Some("infeasible"), Some(20.0))
    );
}

#[test]
fn mistakes_end_with_2_and_name_their_place() {
    let o = run(&["allocate", "-"], &PLAN.replace("\"scale\":2.0", "\"scale\":-2.0"));
    assert_eq!(o.status.code(), Some(2));
    assert_eq!(
        err(&o),
        "gold-tiller: -: lines[1].response.scale: -2 found; an amount of 0 or more is allowed\n"
    );
    let o = run(&["allocate", "-"], &PLAN.replace("goal", "gaol"));
    assert!(err(&o).contains("unknown field `gaol`") && err(&o).contains("line 1"), "{}", err(&o));
    assert_eq!(run(&["allocate", "no-such-file.json"], "").status.code(), Some(2));
    assert_eq!(run(&["allocate"], "").status.code(), Some(2));
    assert_eq!(
        run(&["diagnose", "-", "--campaign", "x"], "").status.code(),
        Some(2),
        "a target is needed"
    );
}

fn school() -> String {
    let o = run(&["market", "report", "--account", "school", "--until", "2026-11-09"], "");
    assert_eq!(o.status.code(), Some(0), "{}", err(&o));
    out(&o)
}

#[test]
fn a_report_is_diagnosed_like_the_page_does() {
    let report = school();
    let ask = |more: &[&str]| {
        let mut args = vec![
            "diagnose",
            "-",
            "--target-cpa",
            "30",
            "--from",
            "2026-10-11",
            "--to",
            "2026-11-07",
            "--json",
            "--campaign",
        ];
        args.extend(more);
        let o = run(&args, &report);
        assert_eq!(o.status.code(), Some(0), "{}", err(&o));
        serde_json::from_str::<serde_json::Value>(&out(&o)).unwrap()
    };
    let spring = ask(&["spring courses, search"]);
    assert_eq!((spring["verdict"].as_str(), spring["leans"].as_bool()), (Some("bid"), Some(false)));
    assert_eq!(spring["account"]["meets_target"], true);
    let f = |name: &str| spring["figures"][name].as_f64().unwrap();
    assert!((f("excess") - (f("spend") - 30.0 * f("conversions"))).abs() < 1e-6);
    assert!((f("cpa") - f("cpc") / f("cvr")).abs() < 1e-9);
    let steps: f64 =
        spring["bridge"].as_array().unwrap().iter().map(|s| s["effect"].as_f64().unwrap()).sum();
    assert!((steps - f("cpa")).abs() < 1e-9, "the bridge adds up to the campaign's CPA");
    assert_eq!(ask(&["Apiary visits, display"])["verdict"], "traffic");
    assert_eq!(ask(&["Beginner film"])["verdict"], "too_early");
    assert!(
        ask(&["Spring courses, search", "--ad-group", "Weekend course"])["figures"]["clicks"]
            .as_i64()
            .is_some()
    );
}

/// Common practice, no source (B5): 28 of 100 clicks convert, a conversion may cost 30, a click costs 11.30. Rounded up to
/// 4 clicks 7.50 is affordable; halfway there is 9.40, then 8.45, then 7.975.
#[test]
fn bids_of_a_report_are_what_the_page_says() {
    let head = "date,channel,campaign,impressions,clicks,spend,conversions\n";
    let day = |d: u32| {
        format!(
            "2026-10-{d:02},Findle,Courses,1000,100,1130,28\n2026-10-{d:02},Findle,Idle,100,0,0,0\n"
        )
    };
    let days = (1..=30).map(day).collect::<Vec<_>>().concat();
    let report = format!("{head}{days}");
    let ask = |more: &[&str]| {
        let mut args = vec!["bids", "-", "--json"];
        args.extend(more);
        let o = run(&args, &report);
        assert_eq!(o.status.code(), Some(0), "{}", err(&o));
        serde_json::from_str::<serde_json::Value>(&out(&o)).unwrap()["campaigns"].clone()
    };
    let all = ask(&["--target-cpa", "30"]);
    let courses = &all[0];
    let near = |x: &serde_json::Value, is: f64| (x.as_f64().unwrap() - is).abs() < 1e-9;
    assert_eq!(courses["campaign"], "Courses", "the most spend first");
    assert!(near(&courses["paid_cpc"], 11.3) && near(&courses["affordable_cpc"], 8.4));
    assert!(near(&courses["affordable_cpc_cautious"], 7.5) && near(&courses["halfway_bid"], 9.4));
    let steps = courses["steps"].as_array().unwrap();
    assert!(near(&steps[0], 9.4) && near(&steps[1], 8.45) && near(&steps[2], 7.975));
    assert_eq!((steps.len(), courses["held_by"].as_str()), (3, Some("unknown")));
    // One more costs more than the mean: its price is paid for all.
    let next = &courses["next_conversion"];
    assert!(
        next["low"].as_f64().unwrap() > 11.3 / 0.28
            && next["high"].as_f64() > next["cost"].as_f64()
    );
    let first = &courses["advice"][0];
    assert_eq!((first["strategy"].as_str(), first["rank"].as_u64()), (Some("manual_cpc"), Some(1)));
    assert!(first["reason"].as_str().unwrap().contains("30 days"), "{first}");
    // Nothing to compute it of is absent, never 0.
    let idle = &all[1];
    for figure in
        ["paid_cpc", "clicks_per_conversion", "affordable_cpc", "halfway_bid", "next_conversion"]
    {
        assert!(idle[figure].is_null(), "{figure}");
    }
    assert_eq!(idle["steps"].as_array().unwrap().len(), 0);
    // 40 of value a conversion would be needed; without values a ROAS affords nothing that is known.
    assert!(ask(&["--target-roas", "4"])[0]["affordable_cpc"].is_null());
    let one = ask(&["--target-cpa", "30", "--campaign", "courses", "--look-backs", "5"]);
    assert_eq!((one.as_array().unwrap().len(), one[0]["steps"].as_array().unwrap().len()), (1, 5));
    for (wrong, says) in [
        (
            vec!["--target-cpa", "30", "--campaign", "Jars"],
            "no campaign ‘Jars’; it has: ‘Courses’, ‘Idle’",
        ),
        (vec!["--target-cpa", "30", "--from", "2026-12-01"], "settled days"),
        (vec!["--target-cpa", "0"], "a number above 0"),
        (vec!["--target-cpa", "30", "--look-backs", "0"], "0 is not in 1..=20"),
        (vec![], "required"),
    ] {
        let mut args = vec!["bids", "-"];
        args.extend(&wrong);
        let o = run(&args, &report);
        assert_eq!(o.status.code(), Some(2), "{wrong:?}: {}", err(&o));
        assert!(err(&o).contains(says), "{wrong:?}: {}", err(&o));
    }
    insta::assert_snapshot!(out(&run(&["bids", "-", "--target-cpa", "30"], &report)), @r"
    campaign   paid CPC  affordable    halfway    limit  strategy
    Courses       11.30        7.50       9.40  unknown  manual cpc
    Idle              –           –          –  unknown  manual cpc
    ");
}

#[test]
fn targets_and_amounts_that_make_no_sense_are_bad_input() {
    let report = "date,channel,campaign,impressions,clicks,spend,conversions\n2026-11-01,Findle,Hives,10,1,1,0\n";
    for target in ["inf", "nan", "1e300", "0", "-5", "much"] {
        for flag in ["--target-cpa", "--target-roas"] {
            let o =
                run(&["diagnose", "-", "--campaign", "Hives", &format!("{flag}={target}")], report);
            assert_eq!(o.status.code(), Some(2), "{flag} {target}: {}", err(&o));
        }
    }
    // Rows that no sum could hold are named, each.
    let large = report.replace(",1,1,0", ",1,9000000000000,0");
    let rows = format!("{large}2026-11-02,Findle,Hives,10,1,9000000000000,0\n");
    let o = run(&["diagnose", "-", "--campaign", "Hives", "--target-cpa", "30"], &rows);
    assert_eq!(o.status.code(), Some(2));
    assert_eq!(err(&o).matches("spend: 9000000000000 found").count(), 3, "{}", err(&o));
}

#[test]
fn a_split_tells_who_carries_the_excess() {
    let path = std::env::temp_dir().join(format!("segments-{}.csv", std::process::id()));
    let header =
        "date,campaign,ad_group,dimension,segment,impressions,clicks,spend,conversions,value\n";
    let row = |segment: &str, clicks: u32, conversions: u32| {
        format!(
            "2026-11-01,\"Spring courses, search\",Certificate,country,{segment},{},{clicks},{},{conversions},0\n",
            clicks * 20,
            clicks * 10
        )
    };
    std::fs::write(&path, [header, &row("Denmark", 400, 120), &row("Sweden", 200, 2)].concat())
        .unwrap();
    let path_text = path.to_string_lossy().into_owned();
    let ask = |more: &[&str]| {
        let mut args = vec![
            "diagnose",
            "-",
            "--campaign",
            "Spring courses, search",
            "--target-cpa",
            "30",
            "--segments",
            &path_text,
        ];
        args.extend(more);
        run(&args, &school())
    };
    let o = ask(&["--json"]);
    assert_eq!(o.status.code(), Some(0), "{}", err(&o));
    let json: serde_json::Value = serde_json::from_str(&out(&o)).unwrap();
    let first = &json["segments"][0];
    assert_eq!(
        (first["segment"].as_str(), first["proposal"].as_str()),
        (Some("Sweden"), Some("exclude"))
    );
    // 122 of 600 convert: 2000 spent, 60 allowed.
    assert!((first["excess"].as_f64().unwrap() - 1940.0).abs() < 1e-6);
    assert!(out(&ask(&[])).contains("Sweden"));
    std::fs::write(&path, format!("{header}2026-11-01,a,b,planet,Mars,1,1,1,0,0\n")).unwrap();
    let o = ask(&[]);
    assert_eq!(o.status.code(), Some(2));
    assert!(err(&o).contains("line: 2"), "{}", err(&o));
    std::fs::remove_file(path).unwrap();
}

#[test]
fn an_unknown_campaign_and_broken_rows_are_named() {
    let report = "date,channel,campaign,impressions,clicks,spend,conversions\n2026-11-01,Findle,Hives,10,1,1,0\n";
    let o = run(&["diagnose", "-", "--campaign", "Jars", "--target-cpa", "30"], report);
    assert_eq!(o.status.code(), Some(2));
    assert_eq!(err(&o), "gold-tiller: -: the report has no campaign ‘Jars’; it has: ‘Hives’\n");
    let o = run(
        &["diagnose", "-", "--campaign", "Hives", "--target-cpa", "30"],
        &report.replace(",1,1,0", ",one,1,0"),
    );
    assert!(
        err(&o).contains(
            "line 2, clicks: one found; a whole number of 0 or more, below 10 000 000 000 expected"
        ),
        "{}",
        err(&o)
    );
}

#[test]
fn the_market_tells_its_truth_and_is_steered() {
    let until = ["--until", "2026-11-09", "--json"];
    let ask = |args: &[&str]| -> serde_json::Value {
        let o = run(&[&["market"], args, &until].concat(), "");
        assert_eq!(o.status.code(), Some(0), "{}", err(&o));
        serde_json::from_str(&out(&o)).unwrap()
    };
    let truth = ask(&["truth", "thin_leads"]);
    let campaigns = truth.as_object().unwrap().values().next().unwrap().as_array().unwrap();
    for c in campaigns {
        // At its present budget nothing is learned anew; at every other one it is.
        let curve = c["curve"].as_array().unwrap().iter().filter(|p| p["budget"] != c["budget"]);
        let conversions: Vec<f64> = curve.map(|p| p["conversions"].as_f64().unwrap()).collect();
        assert!(
            conversions.windows(2).all(|w| w[1] >= w[0] - 1e-9),
            "more money never brings less"
        );
    }
    let conversions = |policy| -> f64 {
        let all = ask(&["steer", "thin_leads", "--policy", policy, "--days", "28"]);
        all.as_object().unwrap().values().map(|o| o["conversions"].as_f64().unwrap()).sum()
    };
    let stay = conversions("stay");
    assert!(
        stay > 0.0 && (stay - conversions("stay")).abs() < 1e-9,
        "the same seed, the same numbers"
    );
    assert!(conversions("oracle") > stay);
    for (args, says) in [
        (&["truth", "nowhere.toml"][..], "nowhere.toml"),
        (&["truth", "thin_leads", "--account", "nobody"], "no account ‘nobody’"),
        (&["steer", "thin_leads", "--policy", "stay", "--days", "0"], "--days takes 1 to 366"),
        (&["report", "--account", "nobody"], "no account ‘nobody’"),
    ] {
        let o = run(&[&["market"], args].concat(), "");
        assert_eq!(o.status.code(), Some(2), "{args:?}");
        assert!(err(&o).contains(says), "{}", err(&o));
    }
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = taken.local_addr().unwrap().port().to_string();
    let o = run(&["market", "serve", "--port", &port], "");
    assert_eq!(o.status.code(), Some(1));
    assert!(err(&o).contains("choose another --port"), "{}", err(&o));
}

#[test]
fn help_stands_everywhere() {
    for args in [
        &["--help"][..],
        &["serve", "--help"],
        &["market", "report", "--help"],
        &["completions", "bash"],
        &["version"],
    ] {
        let o = run(args, "");
        assert_eq!(o.status.code(), Some(0), "{args:?}");
        assert!(!o.stdout.is_empty());
    }
}

/// The thresholds of the handbook's example, refined at one item, and a custom rule.
const RULES: &str = r#"{"format":"gold-tiller/rules@1","currency":"EUR","window_days":30,"settle_days":2,
 "bid_rules":[{"scope":{"campaign":"spring"},"spend_without_sale":20,"acos_ceiling":0.35,"headroom":0.41,"lowest_bid":1.0,"clicks_before_acting":10,"min_cvr_near_break_even":0.10},
              {"scope":{"campaign":"Spring","ad_group":"Kits","item":"hive kit"},"lowest_bid":0.5}],
 "custom_rules":[{"name":"No result","rule":{"things":"ad_groups",
   "when":{"all":[{"metric":"conversions","over":{"days":14},"is":"at_most","than":{"value":0}}]},
   "evidence":{"spend":{"times_target":3},"days":3},"then":"pause"}}]}"#;

/// Items of 20 days, each with the same clicks, spend, sales and value every day.
fn items() -> String {
    let mut rows = String::from(
        "date,channel,campaign,ad_group,kind,item,match_type,impressions,clicks,spend,conversions,value,currency,bid\n",
    );
    for day in 1..=20 {
        for (group, item, clicks, spend, sold, bid) in [
            ("Kits", "Hive kit", 2, 2.0, 0.25, 2.0),
            ("Kits", "smoker", 1, 1.2, 0.0, 1.5),
            ("Suits", "bee suit", 0, 0.0, 0.0, 1.0),
        ] {
            let value = sold * 40.0;
            rows.extend([format!(
                "2026-11-{day:02},Stallway,Spring,{group},listing,{item},,90,{clicks},{spend},{sold},{value},EUR,{bid}\n"
            )]);
        }
        let other =
            format!("2026-11-{day:02},Stallway,Autumn,Jars,listing,jar,,90,1,1,0,0,EUR,1\n");
        rows.extend([other]);
    }
    rows
}

#[test]
fn rules_are_checked_over_a_report() {
    let path = std::env::temp_dir().join(format!("rules-{}.json", std::process::id()));
    std::fs::write(&path, RULES).unwrap();
    let rules = path.to_string_lossy().into_owned();
    let ask = |more: &[&str]| {
        let mut args = vec!["rules", "check", &rules, "--report", "-", "--target-cpa", "5"];
        args.extend(more);
        run(&args, &items())
    };
    let o = ask(&[]);
    assert_eq!(o.status.code(), Some(0), "{}", err(&o));
    // 18 settled days: 36 clicks, 36 spent, 4.5 sales worth 180: an ACoS of 20%, and 1.00 + 0.41.
    insta::assert_snapshot!(out(&o), @r"
    Spring › Kits › Hive kit   bid 1.41      costs 20.0% of its sales, at most 35.0%: the average click of 1.00 and 0.41 above it
    Spring › Kits › smoker     pause         21.60 spent without a sale, of 20.00 allowed
    Spring › Suits › bee suit  wait          0 of 10 clicks
    Autumn › Jars › jar        wait          no rule sets its spend without a sale
    Spring › Suits             wait          No result: the condition holds, but it has spent 0.00 of 15.00
    Autumn › Jars              wait          No result: the condition holds, but it has spent 14.00 of 15.00
    Spring › Kits › Hive kit: its bid sinks from 2.00 to 0.82; 1.00 above its average click would hold it
    ");
    let o = ask(&["--json"]);
    let answer: serde_json::Value = serde_json::from_str(&out(&o)).unwrap();
    let kit = &answer["actions"][0];
    assert_eq!((kit["action"].as_str(), kit["to"].as_f64()), (Some("bid"), Some(1.41)));
    let from = &answer["inherited"]["Spring › Kits › Hive kit"];
    assert_eq!(from["lowest_bid"], "Spring › Kits › Hive kit");
    assert_eq!(from["headroom"], "Spring");
    let spiral = &answer["spirals"][0];
    // A click costs half of the bid: it rests at 0.82, and needs as much as a click costs to hold.
    assert!((spiral["rests_at"].as_f64().unwrap() - 0.82).abs() < 1e-9);
    assert!((spiral["headroom_that_holds"].as_f64().unwrap() - 1.0).abs() < 1e-9);
    for (change, more, says) in [
        (
            ("\"Kits\"", "\"Kit\""),
            &[][..],
            "there is no ad group ‘Kit’; there are: ‘Kits’, ‘Suits’",
        ),
        (("\"headroom\":0.41", "\"headroom\":-1"), &[], "bid_rules[0]: the amount above"),
        (("", ""), &["--as-of", "soon"], "invalid value"),
    ] {
        std::fs::write(&path, RULES.replace(change.0, change.1)).unwrap();
        let o = ask(more);
        assert_eq!(o.status.code(), Some(2), "{}", err(&o));
        assert!(err(&o).contains(says), "{}", err(&o));
    }
    std::fs::write(&path, RULES).unwrap();
    let o = run(&["rules", "check", &rules, "--report", "-"], &items());
    assert_eq!(o.status.code(), Some(2));
    assert!(err(&o).contains("‘No result’ compares with the target"), "{}", err(&o));
    std::fs::remove_file(path).unwrap();
}

#[test]
fn rules_are_rehearsed_over_a_report() {
    let path = std::env::temp_dir().join(format!("rehearse-{}.json", std::process::id()));
    std::fs::write(&path, RULES).unwrap();
    let rules = path.to_string_lossy().into_owned();
    let args = ["rules", "rehearse", &rules, "--report", "-", "--target-cpa", "5"];
    let o = run(&args, &items());
    assert_eq!(o.status.code(), Some(0), "{}", err(&o));
    insta::assert_snapshot!(out(&o), @r"
    Bid rule: 20 rounds from 1 Nov 2026 to 20 Nov 2026, 3 actions; kept 23.47 (4.84 to 41.55), lost 1.2 (0 to 2.4) conversions; 1 pause right, 0 by mistake
      2026-11-08  Spring › Kits › Hive kit  bid 1.41      costs 20.0% of its sales, at most 35.0%: the average click of 1.00 and 0.41 above it; kept 6.31 (3.40 to 8.45)
      2026-11-13  Spring › Kits › smoker    pause         10 clicks without a sale; kept 9.60
      2026-11-15  Spring › Kits › Hive kit  bid 1.12      costs 20.0% of its sales, at most 35.0%: the average click of 1.00 and 0.41 above it; kept 7.56 (4.44 to 9.41)
    No result: 20 rounds from 1 Nov 2026 to 20 Nov 2026, 0 actions; kept 0.00, lost 0 conversions; 0 pauses right, 0 by mistake
    ");
    let mut late = args.to_vec();
    late.extend(["--from", "2026-12-24"]);
    let o = run(&late, &items());
    assert_eq!(o.status.code(), Some(2));
    assert!(err(&o).contains("ends before it begins"), "{}", err(&o));
    std::fs::remove_file(path).unwrap();
}
