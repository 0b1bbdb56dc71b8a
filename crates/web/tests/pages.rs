//! What the pages show and do with a report in the account.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::{Site, number, report, text};
use axum::body::Body;
use axum::http::{Request, StatusCode, header};
use tiller_core::Target;
use tiller_desk::measure::reports::{self, ImportState};
use tiller_desk::{ImportId, PgPool};
use tiller_store::MIGRATIONS;

/// Places of texts in a page, which must stand in this order.
fn assert_order(page: &str, texts: &[&str]) {
    let table = &page[page.find("<tbody").expect("a table")..];
    let places: Vec<usize> =
        texts.iter().map(|t| table.find(t).unwrap_or_else(|| panic!("no ‘{t}’"))).collect();
    assert!(places.is_sorted(), "{texts:?} stand at {places:?}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn spend_sorts_filters_and_adds_up(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let page = site.page("/accounts/a/spend", &cookie).await;
    // 28 settled days: 28 × (240 + 80 + 60) spent on 28 × 23 conversions.
    assert!(
        page.contains("10\u{202f}640") && page.contains("<b>644</b>"),
        "the sums stand in the summary"
    );
    assert_order(&page, &[">Dear<", ">Fair<", ">Good, and"]);
    assert!(page.contains("pays too much per click"));
    assert_order(
        &site.page("/accounts/a/spend?sort=spend", &cookie).await,
        &[">Good, and", ">Fair<", ">Dear<"],
    );
    assert_order(
        &site.page("/accounts/a/spend?sort=name", &cookie).await,
        &[">Dear<", ">Fair<", ">Good, and"],
    );
    let filtered = site.page("/accounts/a/spend?q=FAIR", &cookie).await;
    assert!(filtered.contains(">Fair<") && !filtered.contains(">Dear<"));
    assert!(
        site.page("/accounts/a/spend?q=nothing+like+it", &cookie)
            .await
            .contains("has ‘nothing like it’ in its name")
    );
    let items = site.page("/accounts/a/spend?level=items", &cookie).await;
    assert!(items.contains("a, exact") && items.contains("Dear › Group"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn names_can_do_no_harm(db: PgPool) {
    let site = Site::new(db);
    let (account, cookie) = site.with_report("a").await;
    let evil = "date,channel,campaign,impressions,clicks,spend,conversions\n2026-11-05,Findle,<script>alert(1)</script>,10,5,1,1\n2026-11-05,Findle,=HYPER(1),10,5,1,1\n";
    let body = futures::stream::iter([Ok::<_, std::io::Error>(bytes::Bytes::from(evil))]);
    tiller_desk::jobs::import::import_now(&site.db, &account, "evil.csv", body, |_| {}, false)
        .await
        .unwrap();
    let page = site.page("/accounts/a/spend", &cookie).await;
    assert!(!page.contains("<script>alert") && page.contains("&#60;script&#62;alert"));
    let csv = site.page("/accounts/a/spend.csv", &cookie).await;
    assert!(csv.contains("'=HYPER(1)"), "a formula is marked as text");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_csv_is_the_table_in_plain_numbers(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let csv =
        site.page("/accounts/a/spend.csv?columns=spend,conversions,cpa,excess", &cookie).await;
    let lines: Vec<&str> = csv.split("\r\n").collect();
    assert_eq!(lines[0], "name,belongs_to,channel,spend,conversions,cpa,excess");
    assert_eq!(lines[1], "Dear,Findle,Findle,6720,224,30,3360");
    assert_eq!(lines[3], "\"Good, and \"\"quoted\"\"\",Findle,Findle,1680,196,8.571429,-1260");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn every_figure_has_its_working(db: PgPool) {
    let site = Site::new(db);
    let (account, cookie) = site.with_report("a").await;
    let beside = "cpc,cpc_peers,cvr_peers,cpa_peers,result_share,pool_share,pool_results";
    let dear = site.page("/accounts/a/spend", &cookie).await;
    let campaign = dear.split("data-key=\"campaign-").nth(1).unwrap().split('"').next().unwrap();
    let mut links: Vec<String> = Vec::new();
    for place in [
        "spend".to_owned(),
        format!("spend?level=ad-groups&columns={beside}"),
        format!("spend?level=items&campaign={campaign}"),
        "spend/split?by=weekday".into(),
        format!("spend/split?by=weekday&campaign={campaign}"),
        "spend/split?by=weekday&part=Monday".into(),
        format!("causes/campaigns/{campaign}"),
    ] {
        let page = site.page(&format!("/accounts/a/{place}"), &cookie).await;
        let there = page.split("class=\"working\" href=\"").skip(1);
        let before = links.len();
        links.extend(there.map(|l| l.split('"').next().unwrap().to_owned()));
        assert!(links.len() > before + 3, "{place}: {}", links.len() - before);
    }
    for link in &links {
        let path = link.replace("&#38;", "&");
        let working = site.page(&path, &cookie).await;
        assert!(working.contains("class=\"formula\"") && working.contains("Result"), "{path}");
    }
    // Where results are told by their value, other figures are compared.
    tiller_desk::account::set_default_target(&site.db, account.id, Some(Target::Roas(4.0)))
        .await
        .unwrap();
    let page = site.page(&format!("/accounts/a/causes/campaigns/{campaign}"), &cookie).await;
    let told: Vec<&str> = page
        .split("class=\"working\" href=\"")
        .skip(1)
        .map(|l| l.split('"').next().unwrap())
        .collect();
    assert!(told.iter().any(|l| l.contains("figure=aov")), "{told:?}");
    for link in told {
        let path = link.replace("&#38;", "&");
        assert!(site.page(&path, &cookie).await.contains("class=\"formula\""), "{path}");
    }
    for nothing in [
        "of=campaign-999999&figure=cpa",
        "of=part&by=weekday&row=Someday&figure=cpa",
        "of=part&by=weekday&row=Monday&figure=pool_share",
        "of=part&by=weekday&row=Monday&campaign=999999&figure=cpa",
    ] {
        let answer = site.get(&format!("/accounts/a/working?{nothing}"), Some(&cookie)).await;
        assert_eq!(answer.status(), StatusCode::NOT_FOUND, "{nothing}");
    }
    let fragment = site
        .send(
            Request::get("/accounts/a/working?of=all&figure=cpa").header("hx-request", "true"),
            Some(&cookie),
            Body::empty(),
        )
        .await;
    let fragment = text(fragment).await;
    assert!(
        fragment.starts_with("<div class=\"workings\">") && fragment.contains("16.52"),
        "{fragment}"
    );
}

/// The report's campaigns, 28 days: 8 clicks of 30 a day and 8 conversions; the others pay less for more.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn rows_stand_beside_their_peers_and_parts_in_their_pool(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let csv = "/accounts/a/spend.csv?columns=cpa_peers,cpa,result_share";
    let lines: Vec<String> =
        site.page(csv, &cookie).await.lines().map(|l| l.trim_end().to_owned()).collect();
    assert_eq!(lines[0], "name,belongs_to,channel,cpa_peers,cpa,result_share");
    // Its peers together: (80 + 60) ÷ 15 a day against its 30; 224 of 644 conversions.
    let dear: Vec<f64> = lines[1].split(',').skip(3).map(|x| x.parse().unwrap()).collect();
    assert!((dear[0] - (30.0 / (140.0 / 15.0) - 1.0)).abs() < 1e-6, "{dear:?}");
    assert!((dear[1] - 30.0).abs() < 1e-9 && (dear[2] - 224.0 / 644.0).abs() < 1e-6, "{dear:?}");
    // What was asked for last is remembered, in its order; shares of a pool are of parts only.
    let page = site.page("/accounts/a/spend", &cookie).await;
    let place = |title: &str| page.find(&format!(">{title}")).unwrap_or_else(|| panic!("{title}"));
    assert!(place("CPA to peers %") < place("CPA<") && place("CPA<") < place("Results %"));
    let parts = "/accounts/a/spend.csv?level=ad-groups&columns=pool_share,pool_results";
    let parts = site.page(parts, &cookie).await;
    assert!(parts.lines().skip(1).all(|l| l.trim_end().ends_with(",1,1")), "{parts}");
    let usual = site.page("/accounts/a/spend?columns=pool_share", &cookie).await;
    assert!(!usual.contains("Of campaign %</a>") && usual.contains(">Spend"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn causes_name_the_worst_and_why(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let page = site.page("/accounts/a/causes", &cookie).await;
    assert_order(&page, &["Overspent", ">Dear<", "Under target", ">Fair<"]);
    let href = page
        .split("href=\"")
        .find(|l| l.starts_with("/accounts/a/causes/campaigns/"))
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .to_owned();
    let campaign = site.page(&href, &cookie).await;
    for part in [
        "pays too much per click.",
        "From its peers’ CPA to its own",
        "Click ladder",
        "halfway to what is affordable",
        "2 peers on Findle, generic",
        "The account as a whole misses its target",
    ] {
        assert!(campaign.contains(part), "{part}");
    }
    let group = campaign
        .split("href=\"")
        .find(|l| l.starts_with("/accounts/a/causes/ad-groups/"))
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .to_owned();
    let group = site.page(&group, &cookie).await;
    assert!(group.contains("<h1>Group</h1>") && group.contains("pays too much per click."));
    let item = group
        .split("href=\"")
        .find(|l| l.starts_with("/accounts/a/causes/items/"))
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .to_owned();
    assert!(site.page(&item, &cookie).await.contains("<h1>a</h1>"));
    assert_eq!(
        site.get("/accounts/a/causes/campaigns/999999", Some(&cookie)).await.status(),
        StatusCode::NOT_FOUND
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_plan_is_made_solved_mended_and_kept(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let none = site.post("/accounts/a/budgets", Some(&cookie), "name=Empty").await;
    assert_eq!(none.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let plan = site.plan("a", &cookie).await;
    let shown = site.page(&plan, &cookie).await;
    assert!(shown.contains("reallocated"), "{shown}");

    let solve = |fields: &'static str| site.post_fragment(format!("{plan}/solve"), &cookie, fields);
    let bad =
        text(solve("floor-0=9000&floor-1=9000&max_change=&ceiling-0=&ceiling-1=&ceiling-2=").await)
            .await;
    assert!(
        bad.contains("Limits contradict each other.") && bad.contains("adds up to 18\u{202f}000")
    );
    assert!(
        bad.contains("Set the total to 18\u{202f}000")
            && bad.contains("name=\"repair\" value=\"0\"")
    );
    let mended = text(
        solve("floor-0=9000&floor-1=9000&max_change=&ceiling-0=&ceiling-1=&ceiling-2=&repair=0")
            .await,
    )
    .await;
    assert!(!mended.contains("contradict") && mended.contains("value=\"18000\""));
    let corner =
        text(solve("max_change=&shape-0=constant&shape-1=constant&shape-2=constant").await).await;
    assert!(corner.contains("is all it can spend at its bid or target"), "{corner}");
    let typo = text(solve("ceiling-0=lots&total=5000").await).await;
    assert!(
        typo.contains("value=\"lots\"")
            && typo.contains("‘lots’ is not a number")
            && typo.contains("value=\"5000\"")
    );

    let refused = site.post(&plan, Some(&cookie), "total=lots").await;
    assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let saved =
        site.post(&plan, Some(&cookie), "name=Winter&total=5000&use=up_to&max_change=60%25").await;
    assert_eq!(saved.status(), StatusCode::SEE_OTHER);
    let json: serde_json::Value =
        serde_json::from_str(&site.page(&format!("{plan}/plan.json"), &cookie).await).unwrap();
    assert_eq!(
        (
            json["total"]["amount"].as_f64(),
            json["total"]["use"].as_str(),
            json["limits"]["max_change"].as_f64()
        ),
        (Some(5000.0), Some("up_to"), Some(0.6))
    );
    let csv = site.page(&format!("{plan}/plan.csv"), &cookie).await;
    assert!(
        csv.starts_with("line,group,currency,days,present,budget") && csv.lines().count() == 4,
        "{csv}"
    );
    let copy = site.post(&format!("{plan}/duplicate"), Some(&cookie), "").await;
    assert!(
        site.page(copy.headers()[header::LOCATION].to_str().unwrap(), &cookie)
            .await
            .contains("Winter, copy")
    );
    assert!(
        site.page("/accounts/a/budgets/compare", &cookie).await.contains("Two plans side by side")
    );
    site.post(&format!("{plan}/remove"), Some(&cookie), "").await;
    assert_eq!(site.get(&plan, Some(&cookie)).await.status(), StatusCode::NOT_FOUND);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_file_is_uploaded_looked_at_and_imported(db: PgPool) {
    let site = Site::new(db);
    let (account, cookie) = site.with_report("a").await;
    let upload = |name: &'static str, content: String| {
        let body = format!(
            "--x\r\nContent-Disposition: form-data; name=\"file\"; filename=\"{name}\"\r\nContent-Type: text/csv\r\n\r\n{content}\r\n--x--\r\n"
        );
        let request = Request::post("/accounts/a/reports")
            .header(header::CONTENT_TYPE, "multipart/form-data; boundary=x")
            .header("sec-fetch-site", "same-origin");
        site.send(request, Some(&cookie), Body::from(body))
    };
    let refused = upload("report.xlsx", "PK\u{3}\u{4}rest".into()).await;
    assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert!(text(refused).await.contains("save it as CSV first"));
    let taken = upload("november.csv", report().replace("date,", "Tag,")).await;
    let place = taken.headers()[header::LOCATION].to_str().unwrap().to_owned();
    let columns = site.page(&place, &cookie).await;
    assert!(columns.contains("Meaning of Tag") && columns.contains("value=\"date\" selected"));
    let incomplete = site.post(&place, Some(&cookie), "column-0=date&column-2=campaign").await;
    assert_eq!(incomplete.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert!(text(incomplete).await.contains("no column of the file is chosen for Impressions"));
    let all = "column-0=date&column-1=channel&column-2=campaign&column-3=ad_group&column-4=kind&column-5=item&column-6=match_type&column-7=impressions&column-8=clicks&column-9=spend&column-10=conversions&column-11=value&column-12=currency&column-13=budget";
    assert_eq!(site.post(&place, Some(&cookie), all).await.status(), StatusCode::SEE_OTHER);
    assert!(site.page(&place, &cookie).await.contains("It is waiting for its turn"));
    assert!(tiller_desk::jobs::import::run_next(&site.db).await.unwrap());
    assert!(site.page(&place, &cookie).await.contains("120 rows, 1 Oct 2026 to 9 Nov 2026"));
    let undone = site.post(&format!("{place}/undo"), Some(&cookie), "").await;
    assert_eq!(undone.status(), StatusCode::SEE_OTHER);
    let id: i64 = place.rsplit('/').next().unwrap().parse().unwrap();
    assert_eq!(
        reports::get(&site.db, &account, ImportId(id)).await.unwrap().state,
        ImportState::Undone
    );
    assert!(
        site.page("/accounts/a/spend", &cookie).await.contains("10\u{202f}640"),
        "what it replaced stands again"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_period_stands_in_the_address(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let week =
        site.page("/accounts/a/spend?from=2026-11-01&to=2026-11-07&alone=yes", &cookie).await;
    assert!(
        week.contains("1 Nov – 7 Nov, 7 settled days")
            && week.contains("2\u{202f}660")
            && !week.contains("against</span>")
    );
    let unsettled = site.page("/accounts/a/spend?from=2026-11-03&to=2026-11-09", &cookie).await;
    assert!(unsettled.contains("7 days, 5 settled"));
    let upside_down =
        site.get("/accounts/a/spend?from=2026-11-07&to=2026-11-01", Some(&cookie)).await;
    assert_eq!(upside_down.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let empty = site.page("/accounts/a/spend?from=2020-01-01&to=2020-01-07", &cookie).await;
    assert!(empty.contains("was counted in these days"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn money_of_a_campaign_that_only_reports_tell_of(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let budgets = site.page("/accounts/a/budgets", &cookie).await;
    assert!(budgets.contains("Campaign by campaign") && budgets.contains("Budget response"));
    let id =
        budgets.split("/budgets/campaigns/").nth(1).unwrap().split('/').next().unwrap().to_owned();
    let side = |word: &str| format!("/accounts/a/budgets/campaigns/{id}/{word}");
    let curve = site.page(&side("curve"), &cookie).await;
    assert!(
        curve.contains("What would sharpen it")
            && !curve.contains("Put the experiment in the tray")
    );
    let flight = site.page(&side("flight"), &cookie).await;
    assert!(flight.contains("this campaign has none") && !flight.contains("Set this lift"));
    let hours = site.page(&side("hours"), &cookie).await;
    assert!(
        hours.contains("its channel is not connected")
            && hours.contains("Connect a channel")
            && !hours.contains("Put these hours in the tray")
    );
    let zone = site.get(&(side("hours") + "?zone=Nowhere"), Some(&cookie)).await;
    assert_eq!(zone.status(), StatusCode::UNPROCESSABLE_ENTITY);
    // The page stands as it was, with what was typed.
    let zone = text(zone).await;
    assert!(zone.contains("‘Nowhere’ is no time zone") && zone.contains("value=\"Nowhere\""));
    assert!(zone.contains("Hours of "), "{zone}");
    assert!(site.page(&side("pool"), &cookie).await.contains("since its channel is not connected"));
    // What can't be sent says so, and what is not there is not found.
    for (word, body) in
        [("experiment", ""), ("lift", "from_day=2026-12-01&to_day=2026-12-03&by=50%25")]
    {
        let refused = site.post(&side(word), Some(&cookie), body).await;
        assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY, "{word}");
        assert!(text(refused).await.contains("its channel is not connected"), "{word}");
    }
    for (word, body) in [
        ("hours", "h1-3=noon"),
        ("hours", "h1-3=off&zone=Nowhere"),
        ("pool", "take=1"),
        ("split", "size-1=2"),
        ("convert", ""),
    ] {
        let refused = site.post(&side(word), Some(&cookie), body).await;
        assert!(refused.status().is_client_error(), "{word} {body}: {}", refused.status());
    }
    for place in ["curve", "flight", "pool", "hours"] {
        let gone =
            site.get(&format!("/accounts/a/budgets/campaigns/999999/{place}"), Some(&cookie)).await;
        assert_eq!(gone.status(), StatusCode::NOT_FOUND, "{place}");
    }
    let courses = site.post("/accounts/a/budgets/courses/999999/stop", Some(&cookie), "").await;
    assert_eq!(courses.status(), StatusCode::NOT_FOUND);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn lifts_that_make_no_sense_are_named_at_their_form(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let budgets = site.page("/accounts/a/budgets", &cookie).await;
    let id =
        budgets.split("/budgets/campaigns/").nth(1).unwrap().split('/').next().unwrap().to_owned();
    for (query, says) in [
        ("from_day=2026-12-05&to_day=2026-12-01&by=10", "ends no earlier than it begins"),
        ("from_day=2026-12-01&to_day=2026-12-05&by=much", "is not a number"),
        ("from_day=2026-12-01&to_day=2026-12-05&by=-5", "raises the budget"),
        ("from_day=2026-12-01&to_day=2027-12-05&by=5", "92 days at most"),
        ("from_day=2026-12-01&to_day=2026-12-05&by=", "by how much"),
    ] {
        let path = format!("/accounts/a/budgets/campaigns/{id}/lift");
        let refused = site.post(&path, Some(&cookie), query).await;
        assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY, "{query}");
        assert!(text(refused).await.contains(says), "{query}");
        let path = format!("/accounts/a/budgets/campaigns/{id}/flight?{query}");
        let shown = site.get(&path, Some(&cookie)).await;
        assert_eq!(shown.status(), StatusCode::UNPROCESSABLE_ENTITY, "{query}");
        assert!(text(shown).await.contains(says), "{query}");
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_pace_of_the_month(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let pace = site.page("/accounts/a/spend/pace", &cookie).await;
    assert!(pace.contains("The pace of ") && pace.contains("80% between"));
    let csv = site.page("/accounts/a/spend/pace.csv", &cookie).await;
    let rows: Vec<Vec<&str>> = csv.lines().skip(1).map(|l| l.split(',').collect()).collect();
    assert!(csv.starts_with("level,name,currency,month,to,spent,plan,forecast,low_80,high_80"));
    let spent = |level: &str| -> f64 {
        rows.iter().filter(|r| r[0] == level).map(|r| r[r.len() - 7].parse::<f64>().unwrap()).sum()
    };
    assert!((spent("account") - spent("campaign")).abs() < 0.01 && spent("channel") > 0.0);
    let nothing = site.get("/accounts/a/spend/pace?of=channel:Nowhere", Some(&cookie)).await;
    assert_eq!(nothing.status(), StatusCode::NOT_FOUND);
    let held = site.post("/accounts/a/spend/pace/follow", Some(&cookie), "plan=999999").await;
    assert_eq!(held.status(), StatusCode::NOT_FOUND);
    let none = site.post("/accounts/a/spend/pace/tray", Some(&cookie), "").await;
    assert_eq!(none.status(), StatusCode::UNPROCESSABLE_ENTITY);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_handle_moves_its_line_and_the_newest_curves_are_taken(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let plan = site.plan("a", &cookie).await;
    let page = site.page(&plan, &cookie).await;
    assert!(page.contains("data-field=\"fixed-0\"") && page.contains("data-field=\"total\""));
    assert!(page.contains("Budget and result") && !page.contains("Take the newest"));
    let dragged =
        text(site.post_fragment(format!("{plan}/solve"), &cookie, "fixed-0=3000").await).await;
    assert!(dragged.contains("set by hand") && dragged.contains("value=\"3000\""), "{dragged}");
    // A set amount stays within its brackets; what can't be read stands as it was typed.
    let held = text(
        site.post_fragment(format!("{plan}/solve"), &cookie, "ceiling-0=2500&fixed-0=3000").await,
    )
    .await;
    assert!(
        held.contains("name=\"fixed-0\" inputmode=\"decimal\"") && held.contains("value=\"2500\"")
    );
    let wrong =
        text(site.post_fragment(format!("{plan}/solve"), &cookie, "test_share=lots").await).await;
    assert!(wrong.contains("‘lots’ is not a number") && wrong.contains("value=\"lots\""));
    let saved =
        site.post(&format!("{plan}/refresh"), Some(&cookie), "name=Autumn&fixed-0=3000").await;
    assert_eq!(saved.status(), StatusCode::SEE_OTHER);
    let json: serde_json::Value =
        serde_json::from_str(&site.page(&format!("{plan}/plan.json"), &cookie).await).unwrap();
    assert_eq!(json["lines"][0]["fixed"].as_f64(), Some(3000.0));
    assert!(json["lines"][0]["precision"]["reference"].as_f64().unwrap() > 0.0);
}

/// Every figure that can be opened tells how it came about; what a line brings is its money times its rates.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn figures_of_a_plan_have_their_working(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let plan = site.plan("a", &cookie).await;
    let working = |fields: String| site.post_fragment(format!("{plan}/working"), &cookie, fields);
    let page = site.page(&plan, &cookie).await;
    let figures: Vec<&str> = page
        .split("name=\"figure\" value=\"")
        .skip(1)
        .map(|f| f.split('"').next().unwrap())
        .collect();
    for expected in ["gain", "next", "budget-0", "results-2", "conversions", "cpa"] {
        assert!(figures.contains(&expected), "{figures:?}");
    }
    for figure in &figures {
        let answer = working(format!("figure={figure}")).await;
        assert_eq!(answer.status(), StatusCode::OK, "{figure}");
        let shown = text(answer).await;
        assert!(shown.contains("class=\"formula\"") && !shown.contains("NaN"), "{shown}");
    }
    // As it stands in the form, not as it was saved: straight.
    let straight = "shape-0=constant&use=up_to&max_change=&figure=results-0";
    let shown = text(working(straight.into()).await).await;
    let brings = number(&shown, "<b>Result</b>");
    let by_hand = number(&shown, "Money that it spends") / number(&shown, "CPC")
        * number(&shown, "CVR")
        / 100.0;
    assert!((brings / by_hand - 1.0).abs() < 0.01, "{brings} {by_hand} {shown}");
    for nothing in ["results-99", "cost-9", "weather"] {
        let answer = working(format!("figure={nothing}")).await;
        assert_eq!(answer.status(), StatusCode::NOT_FOUND, "{nothing}");
    }
    // A typo is told at its field; the figures beside it stand for what could be read, and open all the same.
    let typo = working("figure=gain&total=lots".into()).await;
    assert_eq!(typo.status(), StatusCode::OK);
    assert!(text(typo).await.contains("What the plan brings"));
    let alone = site.post(&format!("{plan}/working"), Some(&cookie), "figure=gain").await;
    assert!(text(alone).await.contains("<h1>Working</h1>"));
}

/// A field's Enter presses the first button of a form: it must do no more than solve.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn enter_in_a_plan_only_solves(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let page = site.page(&site.plan("a", &cookie).await, &cookie).await;
    let form = page.split("<form id=\"plan\"").nth(1).unwrap();
    let first = form.split("<button").nth(1).unwrap().split('>').next().unwrap();
    assert!(first.contains("/solve\"") && first.contains("data-default"), "{first}");
}

/// Yen have no cents, on no page; a mean below ten keeps a decimal.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn money_is_told_in_the_coins_of_the_account(db: PgPool) {
    let site = Site::new(db);
    let (_, yen) = site.with_report_in("yen", "JPY").await;
    let (_, euro) = site.with_report_in("euro", "EUR").await;
    let cents = |page: &str| {
        let bytes = page.as_bytes();
        let digit = |i: usize| bytes.get(i).is_some_and(u8::is_ascii_digit);
        (1..bytes.len())
            .filter(|i| bytes[*i] == b'.' && digit(i - 1) && digit(i + 1) && digit(i + 2))
            .filter(|i| bytes.get(i + 3) != Some(&b'%'))
            .count()
    };
    for path in ["spend", "causes", "today", "budgets"] {
        let visible = |page: String| {
            let body = page.split("<main").nth(1).unwrap().to_owned();
            // Charts have coordinates of their own.
            body.split("<svg").map(|p| p.split("</svg>").last().unwrap()).collect::<String>()
        };
        let page = visible(site.page(&format!("/accounts/yen/{path}"), &yen).await);
        assert_eq!(cents(&page), 0, "{path}: {page}");
        let page = visible(site.page(&format!("/accounts/euro/{path}"), &euro).await);
        assert!(cents(&page) > 0 || path == "today" || path == "budgets", "{path}");
    }
}

/// A long logbook comes page by page: each entry once, the latest first; what is looked for is looked for in all of it,
/// and the file holds all of it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_long_logbook_comes_page_by_page(db: PgPool) {
    let site = Site::new(db);
    let (account, cookie) = site.with_report("a").await;
    sqlx::query(
        "INSERT INTO change (account_id, campaign_id, place, was, set_to, setting, reason, origin, state, answered_at, from_day, told)
         SELECT $1, (SELECT min(id) FROM campaign WHERE account_id = $1), 'Dear', jsonb_build_object('setting', 'bid', 'value', 900000),
                jsonb_build_object('setting', 'bid', 'value', 1000000 + n), 'bid', 'Number ' || n || '.', 'hand', 'made',
                timestamptz '2026-11-01 08:00Z' + n * interval '1 minute', '2026-11-02', 'bid to ' || n
         FROM generate_series(1, 230) n",
    )
    .bind(account.id.0)
    .execute(&site.db)
    .await
    .unwrap();
    let numbers = |page: &str| -> Vec<usize> {
        let after = page.split("Number ").skip(1);
        after.map(|t| t.split('.').next().unwrap().parse().unwrap()).collect()
    };
    let next = |page: &str| {
        let link =
            page.split("\">Older entries<").next().filter(|_| page.contains("Older entries"))?;
        Some(link.rsplit("href=\"").next().unwrap().replace("&amp;", "&"))
    };
    let mut read = Vec::new();
    let mut address = Some("/accounts/a/logbook".to_owned());
    while let Some(at) = address {
        let page = site.page(&at, &cookie).await;
        assert_eq!(page.contains("Latest entries"), !read.is_empty());
        let here = numbers(&page);
        assert!(here.len() <= 100, "{} on one page", here.len());
        read.extend(here);
        address = next(&page);
    }
    assert_eq!(read, (1..=230).rev().collect::<Vec<_>>());
    let found = site.page("/accounts/a/logbook?q=BID+TO+7", &cookie).await;
    assert_eq!(numbers(&found), [79, 78, 77, 76, 75, 74, 73, 72, 71, 70, 7]);
    let file = site.page("/accounts/a/logbook.csv", &cookie).await;
    assert_eq!(numbers(&file).len(), 230);
    // An entry that is nobody's, or another account's, is no place to go on from.
    let nowhere = site.page("/accounts/a/logbook?after=999999", &cookie).await;
    assert!(numbers(&nowhere).is_empty() && nowhere.contains("No entry matches"));
}
