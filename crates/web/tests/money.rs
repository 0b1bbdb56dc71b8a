//! The pages on a campaign's money, on an account that is connected to a market.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::desk::{Desk, taken};
use crate::common::market::{amberfold_days, practice};
use crate::common::{number, text};
use axum::http::StatusCode;
use tiller_core::Target;
use tiller_desk::{PgPool, Role};
use tiller_store::MIGRATIONS;

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_lift_is_seen_day_by_day_before_it_is_set(db: PgPool) {
    let desk = Desk::new(db).await;
    let names = desk.campaign("Names, search").await;
    let flight = desk.page(&format!("{names}/flight")).await;
    assert!(flight.contains("100.00 a day.") && flight.contains("3\u{202f}040"), "{flight}");
    let dates = "from_day=2026-11-20&to_day=2026-11-22&by=50%25";
    let preview = desk.page(&format!("{names}/flight?{dates}")).await;
    assert_eq!(preview.matches("150.00, lifted").count(), 3);
    assert!(preview.contains("150.00 more in all."), "{preview}");
    let set = desk.site.post(&desk.path(&format!("{names}/lift")), Some(&desk.cookie), dates).await;
    assert_eq!(set.status(), StatusCode::SEE_OTHER);
    let with = desk.page(&format!("{names}/flight")).await;
    assert!(with.contains("budget lift") && with.contains("Its courses"), "{with}");
    // One course at a time on one budget.
    let again =
        desk.site.post(&desk.path(&format!("{names}/lift")), Some(&desk.cookie), dates).await;
    assert_eq!(again.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let course = with.split("/budgets/courses/").nth(1).unwrap().split('/').next().unwrap();
    let stop = desk.path(&format!("budgets/courses/{course}/stop"));
    assert_eq!(desk.site.post(&stop, Some(&desk.cookie), "").await.status(), StatusCode::SEE_OTHER);
    assert!(desk.page(&format!("{names}/flight")).await.contains("stopped"));
    // As one sum, and what makes no flight.
    let said = desk.says(&format!("{names}/convert"), "starts=2026-11-10&ends=2026-11-16").await;
    assert!(said.contains("One change was put in the tray."), "{said}");
    assert!(desk.page("tray").await.contains("700"));
    let wrong = desk.says(&format!("{names}/convert"), "starts=2026-11-16&ends=2026-11-10").await;
    assert!(wrong.contains("it ends no earlier than it begins"), "{wrong}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_experiment_begins_in_the_tray(db: PgPool) {
    let desk = Desk::new(db).await;
    let place = desk.campaign("Courses, search").await;
    let curve = desk.page(&format!("{place}/curve")).await;
    assert!(curve.contains("What would sharpen it") && curve.contains("Does it fit?"), "{curve}");
    let said = desk.says(&format!("{place}/experiment"), "").await;
    assert!(said.contains("the others follow by themselves"), "{said}");
    assert_eq!(desk.waiting().await, 1);
    assert!(desk.page("tray").await.contains("360.00"), "300 and a fifth more");
    assert!(
        desk.page(&format!("{place}/curve")).await.contains("its first step waits in the tray")
    );
    let again = desk.says(&format!("{place}/experiment"), "").await;
    assert!(again.contains("on a course already; stop that one first"), "{again}");
    assert_eq!(desk.waiting().await, 1);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn hours_are_refused_where_the_channel_wants_a_lifetime_budget(db: PgPool) {
    let desk = Desk::new(db).await;
    let feed = desk.campaign("Neighbours, feed").await;
    let page = desk.page(&format!("{feed}/hours")).await;
    assert!(page.contains("accepts hours only with a lifetime budget"), "{page}");
    let names = desk.campaign("Names, search").await;
    let office = desk.page(&format!("{names}/hours?fill=office&open=8&close=18&day-0=on")).await;
    assert_eq!(
        office.matches("value=\"off\"").count(),
        168 - 10 + 1,
        "ten hours on, and the brush"
    );
    let said =
        desk.says(&format!("{names}/hours"), "h1-3=off&h2-9=%2B20&because=nobody+answers").await;
    assert!(said.contains("One change was put in the tray."), "{said}");
    assert!(desk.page("tray").await.contains("nobody answers"));
    let wrong = desk.says(&format!("{names}/hours"), "h1-3=noon").await;
    assert!(wrong.contains("Mon 3:00") && wrong.contains("‘noon’ is neither"), "{wrong}");
    // A clock that is not whole hours away can be looked at, not set by.
    let adelaide = desk.page(&format!("{names}/hours?zone=Australia/Adelaide")).await;
    assert!(
        adelaide.contains("not whole hours apart") && adelaide.contains("readonly"),
        "{adelaide}"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_pool_is_split_by_its_audiences(db: PgPool) {
    let desk = Desk::new(db).await;
    let feed = desk.campaign("Neighbours, feed").await;
    let page = desk.page(&format!("{feed}/pool")).await;
    assert!(
        page.contains("Near") && page.contains("Far") && page.contains("Split by audience"),
        "{page}"
    );
    let ids: Vec<&str> =
        page.split("name=\"size-").skip(1).map(|p| p.split('"').next().unwrap()).collect();
    assert_eq!(ids.len(), 2);
    let sizes = format!("size-{}=30000&size-{}=10000&least=5", ids[0], ids[1]);
    let split = desk.page(&format!("{feed}/pool?{sizes}")).await;
    assert!(split.contains("30.00 a day") && split.contains("10.00 a day"), "{split}");
    let too_much =
        desk.page(&format!("{feed}/pool?size-{}=3&size-{}=1&least=30", ids[0], ids[1])).await;
    assert!(too_much.contains("role=\"alert\""), "{too_much}");
    let said = desk.says(&format!("{feed}/split"), &sizes).await;
    assert!(said.contains("2 changes were put in the tray."), "{said}");
    let none = desk.says(&format!("{feed}/pool"), "").await;
    assert!(none.contains("Choose at least one ad group with advice."), "{none}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_plan_goes_to_the_tray_and_the_month_follows_it(db: PgPool) {
    let desk = Desk::new(db).await;
    let plan = desk.site.plan(&desk.account.slug, &desk.cookie).await;
    let page = desk.site.page(&plan, &desk.cookie).await;
    assert!(page.contains("Put its daily budgets in the tray") && page.contains("class=\"able\""));
    let moved = "use=up_to&max_change=&fixed-0=900&name=Month";
    assert_eq!(
        desk.site.post(&plan, Some(&desk.cookie), moved).await.status(),
        StatusCode::SEE_OTHER
    );
    let id = plan.rsplit('/').next().unwrap();
    let saved = desk.site.page(&plan, &desk.cookie).await;
    let carried = taken(&saved).collect::<Vec<_>>().join("&");
    let said = desk.says(&format!("budgets/{id}/tray"), &carried).await;
    assert!(said.contains("The month is now measured against this plan."), "{said}");
    assert!(desk.waiting().await >= 1);
    let pace = desk.page("spend/pace").await;
    assert!(pace.contains("In gold, the plan."), "{pace}");
    let csv = desk.page("spend/pace.csv").await;
    assert!(csv.lines().count() >= 6, "account, channels, campaigns: {csv}");
    // Each figure opens its working; the needed budget is what is left of the plan over what is left of the month.
    let links: Vec<String> = pace
        .split("class=\"working\" href=\"")
        .skip(1)
        .map(|l| l.split('"').next().unwrap().replace("&amp;", "&").replace("&#38;", "&"))
        .collect();
    assert!(links.len() >= 3 * 4, "{links:?}");
    for link in &links {
        let shown = desk.site.page(link, &desk.cookie).await;
        assert!(shown.contains("class=\"formula\"") && !shown.contains("NaN"), "{shown}");
    }
    let needed = links.iter().find(|l| l.ends_with("figure=needed")).unwrap();
    let shown = desk.site.page(needed, &desk.cookie).await;
    let (plan, spent) = (number(&shown, "Plan"), number(&shown, "Spent so far"));
    let by_hand = (plan - spent) / number(&shown, "By their weekdays");
    let told = number(&shown, "<b>Result</b>");
    assert!((told / by_hand - 1.0).abs() < 0.01, "{told} {by_hand}");
    let month_path = desk.path("spend/pace/month");
    let nothing = desk.path("spend/pace/working?of=account&figure=weather");
    assert_eq!(desk.site.get(&nothing, Some(&desk.cookie)).await.status(), StatusCode::NOT_FOUND);
    let freed = desk.site.post(&desk.path("spend/pace/follow"), Some(&desk.cookie), "plan=").await;
    assert_eq!(freed.status(), StatusCode::SEE_OTHER);
    let without = desk.page("spend/pace").await;
    assert!(
        !without.contains("In gold") && !without.contains("name=\"take\""),
        "nothing is needed"
    );
    let month = |text| desk.site.post(&month_path, Some(&desk.cookie), text);
    let refused = month("month=plenty").await;
    assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let page = text(refused).await;
    assert!(page.contains("is not a number") && page.contains("value=\"plenty\""), "kept");
    assert_eq!(month("month=12000&month%3AFindle=5000").await.status(), StatusCode::SEE_OTHER);
    let planned = desk.page("spend/pace").await;
    assert!(planned.contains("In gold, the plan."));
    let field = "name=\"month:Findle\" value=\"5";
    assert!(planned.contains(field), "each budget is its channel’s by name");
    let unknown =
        desk.site.post(&desk.path("spend/pace/follow"), Some(&desk.cookie), "plan=999999").await;
    assert_eq!(unknown.status(), StatusCode::NOT_FOUND);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn viewers_see_all_of_it_and_are_offered_nothing(db: PgPool) {
    let desk = Desk::new(db).await;
    let viewer = desk.site.member("v@amberfold.example", &desk.account, Role::Viewer).await;
    let names = desk.campaign("Names, search").await;
    for side in ["curve", "flight", "pool", "hours"] {
        let page = desk.site.page(&desk.path(&format!("{names}/{side}")), &viewer).await;
        assert!(!page.contains("btn-ink") && !page.contains("in the tray</button>"), "{side}");
    }
    for place in ["budgets", "spend/pace"] {
        let page = desk.site.page(&desk.path(place), &viewer).await;
        assert!(!page.contains("in the tray</button>") && !page.contains("New plan"), "{place}");
    }
    let lift = desk.path(&format!("{names}/lift"));
    let refused =
        desk.site.post(&lift, Some(&viewer), "from_day=2026-11-20&to_day=2026-11-22&by=10").await;
    assert_eq!(refused.status(), StatusCode::FORBIDDEN);
}

/// The fields of a form that takes the week's moves.
fn takes(page: &str) -> Vec<String> {
    taken(page).filter(|v| v.contains(":+Daily+budget+to+")).collect()
}

/// What some campaigns get is what others give, or what budgets leave unspent: taken one by one they would not be what is said.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_weeks_budgets_go_to_the_tray_together(db: PgPool) {
    let market = amberfold_days(20).await;
    let account = practice(&db, &market, "supply", 20, Target::Roas(4.0)).await;
    let desk = Desk::of(db, market, account).await;
    let today = desk.page("today").await;
    let moves = takes(&today);
    assert!(moves.len() >= 2, "{today}");
    let letter = today.split(&format!("{} daily budgets for ", moves.len())).nth(1).unwrap();
    let promised: f64 = letter.split(" a day more of the ").next().unwrap().parse().unwrap();
    let id = moves[0].trim_start_matches("take=").split(':').next().unwrap();
    let one = desk.page(&format!("causes/campaigns/{id}")).await;
    assert_eq!(takes(&one), moves, "the page of one of them offers the same");
    assert!(one.contains("its daily budget from"), "{one}");
    let alone = desk.says("tray/remedy", &format!("of=campaign-{id}")).await;
    assert!(alone.contains("one of the week’s moves"), "{alone}");
    // A button that was shown before the advice changed takes nothing, and says what is so now.
    let (button, amount) = moves[0].rsplit_once('+').unwrap();
    let stale = desk.says("budgets/advice", &format!("{button}+1.00&{}", moves[1])).await;
    assert!(stale.contains("‘Daily budget to 1.00’, but now says"), "{stale}");
    assert!(stale.contains(&amount.replace("%E2%80%AF", "\u{202f}")), "{stale}");
    assert!(stale.contains("Nothing was put in the tray"), "{stale}");
    assert_eq!(takes(&desk.page("today").await), moves, "nothing was");
    let said = desk.says("budgets/advice", &moves.join("&")).await;
    assert!(said.contains(&format!("{} changes were put in the tray.", moves.len())), "{said}");
    let more = said.split("expected spend ").nth(1).unwrap().split(' ').next().unwrap();
    let more: f64 = more.replace('−', "-").parse().unwrap();
    assert!((more - promised).abs() < 1.0, "{more} a day more is not {promised}");
    assert!(takes(&desk.page("today").await).is_empty(), "what waits is not advised again");
}
