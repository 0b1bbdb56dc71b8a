//! Rules: written as a sentence, refined below, rehearsed, run, undone; what is typed wrong is lost nowhere.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::HashMap;

use crate::common::desk::Desk;
use crate::common::text;
use axum::http::{StatusCode, header};
use tiller_desk::PgPool;
use tiller_store::MIGRATIONS;

impl Desk {
    /// Sends a form; where it leads.
    async fn leads(&self, place: &str, body: &str) -> String {
        let answer = self.site.post(&self.path(place), Some(&self.cookie), body).await;
        let (status, to) = (answer.status(), answer.headers().get(header::LOCATION).cloned());
        assert_eq!(status, StatusCode::SEE_OTHER, "{place}: {}", text(answer).await);
        to.unwrap().to_str().unwrap().to_owned()
    }

    /// Sends a form that is answered with a page.
    async fn answers(&self, place: &str, body: &str) -> (StatusCode, String) {
        let answer = self.site.post(&self.path(place), Some(&self.cookie), body).await;
        (answer.status(), text(answer).await)
    }

    /// A new rule of its own: its place.
    async fn rule(&self) -> String {
        let to = self.leads("rules", "begin=own").await;
        to.split_once(&format!("/{}/", self.account.slug)).unwrap().1.to_owned()
    }
}

/// What a rule's sentence is filled with.
fn sentence(change: &[(&str, &str)]) -> String {
    let mut all = vec![
        ("name", "No result"),
        ("days", "mon"),
        ("at", "6:00"),
        ("things", "items"),
        ("c0.0.metric", "clicks"),
        ("c0.0.over", "14"),
        ("c0.0.is", "at_least"),
        ("c0.0.number", "1"),
        ("then", "pause"),
        ("evidence.clicks", "1"),
        ("cool_down", "14"),
        ("send", "tray"),
        ("missed", "once"),
    ];
    for (name, value) in change {
        match all.iter_mut().find(|(n, _)| n == name) {
            Some(pair) => pair.1 = value,
            None => all.push((name, value)),
        }
    }
    form_urlencoded::Serializer::new(String::new()).extend_pairs(all).finish()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_rule_is_written_tried_saved_and_keeps_what_was_typed_wrong(db: PgPool) {
    let desk = Desk::new(db).await;
    assert!(desk.page("rules").await.contains("There are none yet"));
    let rule = desk.rule().await;
    // Live: what it says, and how many things it would touch, without being saved.
    let tried = desk.says(&format!("{rule}/try"), &sentence(&[("c0.0.number", "5")])).await;
    assert!(tried.contains("<b>pause it</b>") && tried.contains("Today it would touch"), "{tried}");
    assert!(desk.page(&rule).await.contains("value=\"New rule\""), "nothing was saved");
    // Typed wrong: the message at its place, all else as it was typed.
    let (status, page) =
        desk.answers(&rule, &sentence(&[("evidence.clicks", "many"), ("at", "7:15")])).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(page.contains("‘many’ is not a number") && page.contains("value=\"many\""), "{page}");
    assert!(page.contains("value=\"7:15\"") && page.contains("value=\"No result\""));
    let (status, page) = desk.answers(&rule, &sentence(&[("c0.0.number", "2 × target")])).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(page.contains("Only CPA, ROAS and ACoS can be compared with the target"), "{page}");
    // Another condition is added, and not saved before it is filled in.
    let (status, page) = desk.answers(&rule, &sentence(&[("add", "and")])).await;
    assert_eq!(status, StatusCode::OK);
    assert!(page.contains("name=\"c1.0.metric\"") && page.contains("Not saved yet"));
    desk.leads(&rule, &sentence(&[])).await;
    let page = desk.page(&rule).await;
    assert!(page.contains("<h1>No result</h1>") && page.contains("2 versions"));
    // As a file, and back as another rule.
    let json = desk.page(&format!("{rule}/rule.json")).await;
    assert!(json.contains("gold-tiller/rules@1"), "{json}");
    let file: String =
        form_urlencoded::Serializer::new(String::new()).append_pair("rules", &json).finish();
    desk.leads("rules/file", &file).await;
    let list = desk.page("rules").await;
    assert!(list.matches("No result</a>").count() >= 2, "{list}");
    let (status, page) = desk.answers("rules/file", "rules=%7B%22format%22%3A1%7D").await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        page.contains("Nothing was added") && page.contains("{&#34;format&#34;:1}")
            || page.contains("{\"format\":1}"),
        "what was pasted stands"
    );
    // A mistake is told by its place as it is written, with the names that there are.
    let elsewhere = json.replacen("\"rule\": {", "\"rule\": {\"in\": [\"Nowhere\"],", 1);
    let file: String =
        form_urlencoded::Serializer::new(String::new()).append_pair("rules", &elsewhere).finish();
    let (status, page) = desk.answers("rules/file", &file).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{elsewhere}");
    let told =
        "Nothing was added: custom_rules[0].rule.in: there is no campaign ‘Nowhere’; there are: ‘";
    assert!(page.contains(told), "{page}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_rule_runs_on_demand_is_seen_in_the_tray_and_undone(db: PgPool) {
    let desk = Desk::new(db.clone()).await;
    let rule = desk.rule().await;
    desk.leads(&rule, &sentence(&[])).await;
    desk.leads(&format!("{rule}/switch"), "to=on").await;
    assert!(desk.page("rules").await.contains("One rule is on."));
    let answer = desk.site.post(&desk.path(&format!("{rule}/run")), Some(&desk.cookie), "").await;
    let run = answer.headers()[header::LOCATION].to_str().unwrap().to_owned();
    let run = run.split_once(&format!("/{}/", desk.account.slug)).unwrap().1.to_owned();
    assert!(desk.page(&run).await.contains("under way"));
    while tiller_desk::jobs::rules::run_next(&db).await.unwrap() {}
    let page = desk.page(&run).await;
    assert!(page.contains("waits in the tray") && page.contains("asked for by"), "{page}");
    assert!(desk.page("tray").await.contains("‘No result’: "));
    let said = desk.leads(&format!("{run}/undo"), "").await;
    assert!(said.contains("said="), "{said}");
    let page = desk.page(&run).await;
    assert!(page.contains("taken out of the tray") && !page.contains("Undo this run"));
    // The switch at the top.
    desk.leads("rules/stop", "").await;
    let page = desk.page("rules").await;
    assert!(page.contains("All rules are stopped") && page.contains("One rule is on and stopped."));
    assert!(desk.page("spend").await.contains("all stopped"), "seen from every station");
    let refused = desk.site.post(&desk.path(&format!("{rule}/run")), Some(&desk.cookie), "").await;
    assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY);
    desk.leads("rules/stop", "run=again").await;
    let page = desk.page("rules").await;
    assert!(!page.contains("ll rules are stopped") && page.contains("One rule is on."));
    assert!(!desk.page("spend").await.contains("all stopped"));
    let (status, _) = desk.answers(&format!("{rule}/switch"), "to=suspended").await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "that is not for people");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn thresholds_are_refined_below_and_given_back(db: PgPool) {
    let desk = Desk::new(db).await;
    let place = "targets/lines";
    let line = "name-0=Visits&price-0=60&margin-0=50%25&keep-0=10%25&measure-0=cpa";
    desk.leads(place, line).await;
    let campaign = desk.campaign("Names, search").await;
    let campaign = campaign.rsplit('/').next().unwrap().to_owned();
    let page = desk.page(&format!("rules/posture?campaign={campaign}&posture=hold")).await;
    assert!(page.contains("no more than what one leaves before advertising, 30.00"), "{page}");
    let body = format!("begin=posture&campaign={campaign}&line=Visits&posture=hold");
    let rule = desk.leads("rules", &body).await;
    let rule = rule.split_once(&format!("/{}/", desk.account.slug)).unwrap().1.to_owned();
    let page = desk.page(&rule).await;
    assert!(page.contains("Thresholds, from the campaign down"), "{page}");
    // One item's own, the others as they were.
    let field = page.split("name=\"").filter_map(|p| p.split('"').next());
    let fields: Vec<&str> = field.filter(|f| f.ends_with("/lowest_bid")).collect();
    let item = fields.iter().max_by_key(|f| f.matches('.').count()).unwrap();
    let set = |value: &str, was: &str| {
        form_urlencoded::Serializer::new(String::new())
            .append_pair(item, value)
            .append_pair(&format!("{item}/was"), was)
            .finish()
    };
    desk.leads(&format!("{rule}/limits"), &set("1.23", "0.99")).await;
    let page = desk.page(&rule).await;
    assert!(page.contains("class=\"limit own\"") && page.contains("value=\"1.23\""), "{page}");
    let (status, page) = desk.answers(&format!("{rule}/limits"), &set("dear", "1.23")).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(page.contains("value=\"dear\"") && page.contains("Nothing was changed"));
    desk.leads(&format!("{rule}/limits"), &set("", "1.23")).await;
    assert!(!desk.page(&rule).await.contains("class=\"limit own\""));
    // Several at once.
    let chosen: Vec<String> =
        fields.iter().map(|f| format!("choose={}", f.split('/').next().unwrap())).collect();
    let body = format!("{}&field=clicks_before_acting&value=5", chosen.join("&"));
    desk.leads(&format!("{rule}/limits"), &body).await;
    assert_eq!(desk.page(&rule).await.matches("class=\"limit own\"").count(), fields.len());
    let rehearsal = desk.page(&format!("{rule}/rehearsal")).await;
    assert!(rehearsal.contains("Nothing was changed."), "{rehearsal}");
    let (status, page) = desk.get(&format!("{rule}/rehearsal?since=2026-12-01")).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{page}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_ready_made_set_is_rehearsed_before_it_is_taken(db: PgPool) {
    let desk = Desk::new(db).await;
    let page = desk.page("rules/sets/kill-and-scale").await;
    assert!(page.contains("In the last") && page.contains("Take these 4 rules"), "{page}");
    desk.leads("rules", "begin=set&set=weekly-searches").await;
    assert!(desk.page("rules").await.contains("Searches that cost and bring nothing"));
    let (status, _) = desk.get("rules/sets/nothing").await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}

/// What the page says is what its file adds up to: over weeks, and over days of which nothing can be said yet.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_rehearsal_says_what_its_file_adds_up_to(db: PgPool) {
    let desk = Desk::new(db).await;
    let rule = desk.rule().await;
    desk.leads(&rule, &sentence(&[("cool_down", "7")])).await;
    for (days, judged) in [("since=2026-08-20", true), ("since=2026-11-04", false)] {
        let page = desk.page(&format!("{rule}/rehearsal?{days}")).await;
        let file = desk.page(&format!("{rule}/rehearsal?{days}&as=csv")).await;
        let rows: Vec<HashMap<String, String>> =
            csv::Reader::from_reader(file.as_bytes()).deserialize().map(Result::unwrap).collect();
        let outcome = |word: &str| rows.iter().filter(|r| r["outcome"] == word).count();
        let (right, mistakes, open) = (outcome("right"), outcome("mistake"), outcome("open"));
        let stops = if judged {
            assert!(right > 1 && mistakes > 1, "{right} {mistakes} {open}");
            format!("{right} stops were right by what followed, {mistakes} were mistakes")
        } else {
            assert!(right == 0 && mistakes == 0 && open > 1, "{right} {mistakes} {open}");
            format!("{open} stops can’t be judged")
        };
        let kept: f64 = rows.iter().map(|r| r["kept"].parse::<f64>().unwrap()).sum();
        let times = format!("would have acted {} times", rows.len());
        for said in [times, stops, format!("kept {}", tiller_desk::numerals::money(kept))] {
            assert!(page.contains(&said), "{said}: {page}");
        }
    }
}
