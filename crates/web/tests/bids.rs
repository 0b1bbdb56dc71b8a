//! The station Bids on an account that is connected to a market: what is shown, set, advised and refused.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::desk::{Desk, taken};
use crate::common::market::{Answering, amberfold, amberfold_days, practice};
use crate::common::text;
use axum::http::StatusCode;
use tiller_core::{Price, Target};
use tiller_desk::{PgPool, Role};
use tiller_store::MIGRATIONS;

/// The school of the demo's world: an ill target in search, ill places in display.
async fn school(db: PgPool) -> Desk {
    school_of(db, amberfold_days(20).await).await
}

async fn school_of(db: PgPool, market: Answering) -> Desk {
    let account = practice(&db, &market, "school", 20, Target::Cpa(Price(30.0))).await;
    Desk::of(db, market, account).await
}

/// The key of a campaign's row.
fn key(page: &str, name: &str) -> String {
    let row = page.split("<tr data-key=\"").skip(1).find(|r| r.contains(&format!("Choose {name}")));
    row.unwrap().split('"').next().unwrap().to_owned()
}

fn id(key: &str) -> &str {
    key.rsplit('-').next().unwrap()
}

fn rows(csv: &str) -> Vec<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(csv.as_bytes());
    reader.records().map(|r| r.unwrap().iter().map(str::to_owned).collect()).collect()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_next_step_is_the_one_advice(db: PgPool) {
    let desk = school(db).await;
    let page = desk.page("bids").await;
    assert!(page.contains("pay more for a click than their targets afford"), "{page}");
    assert!(page.contains("<svg class=\"chart afforded\"") && page.contains("paid = affordable"));
    assert!(page.contains("Spring courses, search") && page.contains("target CPA 52.00"));
    let spring = key(&page, "Spring courses, search");
    // What it offers is what Causes offers, word for word.
    let here: Vec<String> = taken(&page).collect();
    let there: Vec<String> =
        taken(&desk.page(&format!("causes/campaigns/{}", id(&spring))).await).collect();
    assert!(there.contains(&here[0]) && here[1].starts_with("take=steps:"), "{here:?} {there:?}");
    let said = desk.says("tray/remedy", &format!("of={spring}&{}", here[0])).await;
    assert!(said.contains("One change was put in the tray."), "{said}");
    // It is not advised a second time while it waits.
    let after = desk.page(&format!("bids?of={spring}")).await;
    assert!(after.contains("waits in the tray") && taken(&after).next().is_none(), "{after}");
}

/// Target 30 over whole clicks: what the file says of each campaign is computed again from its clicks.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn figures_of_the_file_can_be_computed_again(db: PgPool) {
    let desk = school(db).await;
    let columns = "clicks,conversions,spend,target,cpc,affordable,cpc_over,cpa";
    let csv = desk.page(&format!("bids.csv?columns={columns}")).await;
    let all = rows(&csv);
    let of = |name: &str| all[0].iter().position(|c| c == name).unwrap();
    let mut compared = 0;
    for row in &all[1..] {
        let x = |name: &str| row[of(name)].parse::<f64>().ok();
        let (Some(clicks), Some(conversions)) = (x("clicks"), x("conversions")) else { continue };
        if conversions == 0.0 {
            assert_eq!(row[of("affordable")], "", "absent, not 0: {row:?}");
            continue;
        }
        let may = 30.0 / (clicks / conversions - 1e-9).ceil();
        assert!((x("affordable").unwrap() - may).abs() < 1e-5, "{row:?}");
        let paid = x("spend").unwrap() / clicks;
        assert!((x("cpc").unwrap() - paid).abs() < 1e-5, "{row:?}");
        assert!((x("cpc_over").unwrap() - (paid / may - 1.0)).abs() < 1e-5, "{row:?}");
        let cpa = x("cpa").unwrap();
        let (low, high) = (x("low").unwrap(), x("high").unwrap());
        assert!(low < cpa && cpa < high, "{row:?}");
        // Days that differ by more than chance make it no narrower than counting alone: ±2/√n at 95%.
        assert!((high / low).ln() > 1.9 * 2.0 / conversions.sqrt(), "{row:?}");
        compared += 1;
    }
    assert!(compared >= 10, "{csv}");
    // Below the campaigns as well, with the bid that is in force there.
    let items = rows(&desk.page("bids.csv?level=items").await);
    let at = |name: &str| items[0].iter().position(|c| c == name).unwrap();
    let manual = items.iter().filter(|r| r[at("strategy")] == "manual_cpc").collect::<Vec<_>>();
    assert!(manual.len() > 100 && manual.iter().all(|r| !r[at("bid")].is_empty()));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn many_bids_are_set_at_once(db: PgPool) {
    let desk = school(db).await;
    let page = desk.page("bids").await;
    let [evening, queen, film] =
        ["Evening calls, feed", "Queen rearing, feed", "Hive tour, film"].map(|n| key(&page, n));
    let said = desk.says("bids/edit", &format!("on={evening}&on={queen}&what=halfway")).await;
    assert!(said.contains("2 changes were put in the tray."), "{said}");
    let tray = desk.page("tray").await;
    assert!(tray.contains("Set by hand: bid halfway to affordable."), "{tray}");
    // What can't be set keeps all from the tray, and says why.
    let said = desk.says("bids/edit", &format!("on={film}&what=affordable")).await;
    assert!(said.contains("Hive tour, film: nothing sets its bid there"), "{said}");
    let said = desk.says("bids/edit", &format!("on={film}&what=bid&how=%2B10%25")).await;
    assert!(said.contains("its strategy makes the bids"), "{said}");
    let said = desk.says("bids/edit", &format!("on={film}&what=highest_bid&how=1.40")).await;
    assert!(said.contains("One change was put in the tray."), "{said}");
    let said = desk.says("bids/edit", "what=halfway").await;
    assert!(said.contains("Choose at least one row first."), "{said}");
    assert_eq!(desk.waiting().await, 3);
    // An item, by percent.
    let items = desk.page("bids?level=items&q=visit").await;
    let item = items.split("<tr data-key=\"").nth(1).unwrap().split('"').next().unwrap();
    assert!(item.starts_with("item-"), "{item}");
    // What one conversion takes it stands beside the picture, at each level.
    let looked = desk.page(&format!("bids?level=items&q=visit&of={item}")).await;
    assert!(looked.contains("What one conversion takes") && looked.contains("affordable, exact"));
    assert!(looked.contains(&format!("<tr data-key=\"{item}\"")) && looked.contains("is-here"));
    let group = desk.page("bids?level=ad-groups").await;
    let group = group.split("<tr data-key=\"").nth(1).unwrap().split('"').next().unwrap();
    let looked = desk.page(&format!("bids?level=ad-groups&of={group}")).await;
    assert!(group.starts_with("ad-group-") && looked.contains("What one conversion takes"));
    // Another account's, or none, is nothing to look at.
    let none = desk.page("bids?level=items&of=item-99999999").await;
    assert!(!none.contains("What one conversion takes"));
    let said = desk.says("bids/edit", &format!("on={item}&what=bid&how=-10%25")).await;
    assert!(said.contains("One change was put in the tray."), "{said}");
    let wrong = desk.site.post(&desk.path("bids/edit"), Some(&desk.cookie), "what=luck").await;
    assert_eq!(wrong.status(), StatusCode::UNPROCESSABLE_ENTITY);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_strategy_is_advised_by_what_is_known(db: PgPool) {
    let desk = school(db).await;
    let list = desk.page("bids/strategies").await;
    assert!(list.contains("No strategy is out of place."), "{list}");
    let page = desk.page("bids").await;
    let film = format!("bids/campaigns/{}/strategy", id(&key(&page, "Hive tour, film")));
    let first = |page: &str| {
        let ol = page.split("<ol class=\"ranked\">").nth(1).unwrap();
        ol.split("<h3>").nth(1).unwrap().split('<').next().unwrap().trim().to_owned()
    };
    let shown = desk.page(&film).await;
    assert_eq!(first(&shown), "Target CPA", "{shown}");
    assert!(shown.contains("will be learning for about"), "{shown}");
    // An answer that figures can't tell changes the advice, and stands in the logbook.
    let answered = desk.site.post(&desk.path(&film), Some(&desk.cookie), "aim=awareness").await;
    assert_eq!(answered.status(), StatusCode::SEE_OTHER);
    assert_eq!(first(&desk.page(&film).await), "Manual CPM");
    let log = desk.page("logbook?show=own").await;
    assert!(log.contains("Aim") && log.contains("awareness"), "{log}");
    let odd = desk.site.post(&desk.path(&film), Some(&desk.cookie), "aim=fame").await;
    assert_eq!(odd.status(), StatusCode::UNPROCESSABLE_ENTITY);
    desk.site.post(&desk.path(&film), Some(&desk.cookie), "aim=").await;
    // What the button carries is what goes to the tray; a stale one takes nothing.
    let button = taken(&desk.page(&film).await).find(|t| t.contains("target_cpa")).unwrap();
    let stale = desk.says(&format!("{film}/tray"), "take=target_cpa:+Target+CPA+to+1.00").await;
    assert!(stale.contains("has changed since this page was loaded"), "{stale}");
    let said = desk.says(&format!("{film}/tray"), &button).await;
    assert!(said.contains("One change was put in the tray."), "{said}");
    assert!(desk.page("tray").await.contains("will be learning for about"));
    let again = desk.says(&format!("{film}/tray"), &button).await;
    assert!(again.contains("waits in the tray"), "{again}");
    assert!(desk.page(&film).await.contains("It is left alone for now"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_admin_has_a_table_of_their_own(db: PgPool) {
    let desk = school(db).await;
    let place = desk.path("bids/strategies/table");
    let rows = "place-0=1&conversions-0=under+500&advice-0=manual_cpc&because-0=We+wait.&would_change-0=More.\
                &place-1=2&advice-1=target_cpa&because-1=Enough.&would_change-1=Less.&advice-2=";
    let refused = desk.site.post(&place, Some(&desk.cookie), rows).await;
    assert_eq!(refused.status(), StatusCode::FORBIDDEN, "an analyst reads it");
    let admin = desk.site.member("b@amberfold.example", &desk.account, Role::Admin).await;
    let odd = rows.replace("under+500", "few");
    let wrong = desk.site.post(&place, Some(&admin), &odd).await;
    assert_eq!(wrong.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let page = text(wrong).await;
    assert!(page.contains("‘few’ is no limit") && page.contains("value=\"few\""), "{page}");
    let bare = "place-0=1&conversions-0=under+500&advice-0=manual_cpc&because-0=We+wait.&would_change-0=More.";
    let wrong = text(desk.site.post(&place, Some(&admin), bare).await).await;
    assert!(wrong.contains("no row holds for a campaign"), "{wrong}");
    assert_eq!(desk.site.post(&place, Some(&admin), rows).await.status(), StatusCode::SEE_OTHER);
    let shown = desk.page("bids/strategies").await;
    assert!(shown.contains("We wait."), "{shown}");
    assert!(shown.contains("no longer fits"), "most conversions is in no row: {shown}");
    assert!(desk.page("bids/strategies/table").await.contains("the account’s own"));
    // An analyst can't undo it from the logbook either; an admin goes back.
    let log = desk.page("logbook?show=own").await;
    assert!(log.contains("2 rows of your own"), "{log}");
    let undo = log.split("/logbook/own/").nth(1).unwrap().split('/').next().unwrap();
    let undo = desk.path(&format!("logbook/own/{undo}/undo"));
    let refused = desk.site.post(&undo, Some(&desk.cookie), "").await;
    assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let back = desk.site.post(&place, Some(&admin), "shipped=yes").await;
    assert_eq!(back.status(), StatusCode::SEE_OTHER);
    assert!(desk.page("bids/strategies/table").await.contains("ships with"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_viewer_changes_no_bids(db: PgPool) {
    let desk = school(db).await;
    let viewer = desk.site.member("v@amberfold.example", &desk.account, Role::Viewer).await;
    let page = desk.site.page(&desk.path("bids"), &viewer).await;
    assert!(!page.contains("in tray</button>") && !page.contains("name=\"what\""), "{page}");
    let spring = id(&key(&page, "Spring courses, search")).to_owned();
    for (place, body) in [
        ("bids/edit".to_owned(), format!("on=campaign-{spring}&what=halfway")),
        (format!("bids/campaigns/{spring}/strategy"), "aim=sales".to_owned()),
        (format!("bids/campaigns/{spring}/strategy/tray"), String::new()),
        ("bids/strategies/table".to_owned(), String::new()),
    ] {
        let refused = desk.site.post(&desk.path(&place), Some(&viewer), &body).await;
        assert_eq!(refused.status(), StatusCode::FORBIDDEN, "{place}");
    }
}

/// Half the bid is looked at: half the clicks where they answer one to one, a quarter of the money.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn another_bid_is_looked_at_before_it_is_set(db: PgPool) {
    let desk = school(db).await;
    let spring = id(&key(&desk.page("bids").await, "Spring courses, search")).to_owned();
    let place = format!("bids/campaigns/{spring}/volume");
    let page = desk.page(&place).await;
    assert!(page.contains("At a target CPA of 52.00 a conversion costs"), "{page}");
    assert!(page.contains("has not moved in these months") && page.contains("id=\"handle-bid\""));
    assert!(!page.contains("Put this target CPA in the tray"), "nothing is chosen yet");
    let half = desk.page(&format!("{place}?bid=26")).await;
    let figure = |page: &str, title: &str, column: usize| {
        let row = page.split(&format!("<th scope=\"row\">{title}</th>")).nth(1).unwrap();
        row.split("<td class=\"num\">").nth(column).unwrap().split('<').next().unwrap().to_owned()
    };
    let read = |text: &str| text.replace('\u{202f}', "").parse::<f64>().unwrap();
    // A click's price follows the bid in part, and how much is not known: never as far as by half, nor not at all.
    let (cpa, then) = (read(&figure(&half, "CPA", 1)), figure(&half, "CPA", 2));
    let (low, high) = then.split_once(" to ").unwrap();
    assert!(
        read(low) >= 0.5 * cpa - 0.01 && read(low) < read(high) && read(high) < cpa,
        "{cpa} {then}"
    );
    let (now, clicks) = (read(&figure(&half, "Clicks", 1)), figure(&half, "Clicks", 2));
    let (low, high) = clicks.split_once(" to ").unwrap();
    assert!(
        read(low) < now / 2.0 && now / 2.0 < read(high) && read(high) < now,
        "{clicks} of {now}"
    );
    let far = desk.site.get(&desk.path(&format!("{place}?bid=500")), Some(&desk.cookie)).await;
    assert_eq!(far.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let far = text(far).await;
    assert!(
        far.contains("choose one from 20.80 to 93.60") && far.contains("value=\"500\""),
        "{far}"
    );
    let said = desk.says(&format!("{place}/tray"), "bid=-10%25").await;
    assert!(said.contains("One change was put in the tray."), "{said}");
    assert!(desk.page("tray").await.contains("46.80"));
    let film = id(&key(&desk.page("bids").await, "Hive tour, film")).to_owned();
    let none = desk.page(&format!("bids/campaigns/{film}/volume")).await;
    assert!(none.contains("Nothing is set that its bids follow"), "{none}");
}

/// Price 80, margin 35%, keeps 10%: a quarter may be spent on a sale, 20. At 40% margin 24, and the campaign follows.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn targets_follow_their_product_line(db: PgPool) {
    let desk = school(db).await;
    let place = desk.path("targets/lines");
    let line = |margin: &str| {
        format!("name-0=Kits&price-0=80&margin-0={margin}&keep-0=10%25&measure-0=cpa&name-1=")
    };
    let wrong = desk.site.post(&place, Some(&desk.cookie), &line("much")).await;
    assert_eq!(wrong.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let wrong = text(wrong).await;
    assert!(
        wrong.contains("Kits, margin: ‘much’ can’t be read") && wrong.contains("value=\"much\"")
    );
    let all = text(desk.site.post(&place, Some(&desk.cookie), &line("10%25")).await).await;
    assert!(all.contains("leaves nothing for advertising"), "{all}");
    desk.site.post(&place, Some(&desk.cookie), &line("35")).await;
    let shown = desk.page("targets/lines").await;
    assert!(
        shown.contains("28.00") && shown.contains("2.86") && shown.contains("CPA 20.00"),
        "{shown}"
    );
    let spring = id(&key(&desk.page("bids").await, "Spring courses, search")).to_owned();
    let own = desk.path(&format!("targets/{spring}"));
    let unknown = desk.site.post(&own, Some(&desk.cookie), "kind=line&line=Jars").await;
    assert_eq!(unknown.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let set = desk.site.post(&own, Some(&desk.cookie), "kind=line&line=Kits").await;
    assert_eq!(set.status(), StatusCode::SEE_OTHER);
    let targets = desk.page("targets").await;
    assert!(targets.contains("CPA 20.00") && targets.contains("as Kits"), "{targets}");
    // The line's margin moves, and with it the target; taken back, it moves back.
    desk.site.post(&place, Some(&desk.cookie), &line("40%25")).await;
    let csv = rows(&desk.page("bids.csv?columns=target").await);
    let target = csv[0].iter().position(|c| c == "target").unwrap();
    let row = csv.iter().find(|r| r[0] == "Spring courses, search").unwrap();
    assert_eq!(row[target], "24");
    let log = desk.page("logbook?show=own").await;
    let undo = log.split("/logbook/own/").nth(1).unwrap().split('/').next().unwrap();
    desk.site.post(&desk.path(&format!("logbook/own/{undo}/undo")), Some(&desk.cookie), "").await;
    assert!(desk.page("targets").await.contains("CPA 20.00"));
    // A target of its own lets go of the line; what follows a line that goes keeps its target.
    desk.site.post(&own, Some(&desk.cookie), "kind=cpa&cpa=25").await;
    assert!(!desk.page("targets").await.contains("as Kits"));
    desk.site.post(&own, Some(&desk.cookie), "kind=line&line=Kits").await;
    desk.site.post(&place, Some(&desk.cookie), "name-0=").await;
    let kept = desk.page("targets").await;
    assert!(kept.contains("CPA 20.00") && !kept.contains("as Kits"), "{kept}");
}

/// A price that is tried is worked out and saved nowhere: 80 at 35% breaks even at 28, or 2.86, or 35%; at 10% kept, 20, 4 or
/// 25%. By keyboard it goes on into the last row.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_price_is_tried_without_saving(db: PgPool) {
    let desk = school(db).await;
    let shown = desk.page("targets/lines?price=80&margin=35&keep=10%25").await;
    let at = |what: &str| shown.find(what).unwrap_or_else(|| panic!("{what}: {shown}"));
    let (even, keeps) = (at("It breaks even at"), at("It keeps 10.0% at"));
    let cells = |from: usize| {
        let row = shown[from..].split("</tr>").next().unwrap();
        row.split("<td class=\"num\">").skip(1).map(|c| c.split('<').next().unwrap()).collect()
    };
    let (even, keeps): (Vec<&str>, Vec<&str>) = (cells(even), cells(keeps));
    assert_eq!((even, keeps), (vec!["28.00", "2.86", "35.0%"], vec!["20.00", "4.00", "25.0%"]));
    let last = &shown[at("name=\"name-0\"")..];
    assert!(last.contains("name=\"price-0\" inputmode=\"decimal\" value=\"80\""), "{last}");
    assert!(!desk.page("targets/lines").await.contains("value=\"80\""), "nothing was saved");
    let logged = desk.page("logbook?show=own").await;
    assert!(!logged.contains("product line"), "{logged}");
    for (asked, says) in [
        ("price=80", "margin: nothing was typed; type a share such as 35%"),
        ("price=much&margin=35", "price: ‘much’ can’t be read; type an amount such as 80"),
        ("price=80&margin=35&keep=35", "leaves nothing for advertising"),
        ("price=0&margin=35", "a price is an amount above 0"),
        ("price=80&margin=0", "a margin is a share above 0"),
    ] {
        let (status, refused) = desk.get(&format!("targets/lines?{asked}")).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{asked}");
        assert!(refused.to_lowercase().contains(&says.to_lowercase()), "{asked}: {refused}");
    }
}

/// Boxes carry what they said; what is in force is multiplied, and what is in the tray is left alone.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn several_adjustments_go_to_the_tray(db: PgPool) {
    let desk = school_of(db, amberfold(20).await).await;
    let page = desk.page("bids/adjustments").await;
    let boxes: Vec<String> = taken(&page).collect();
    assert!(boxes.len() >= 2, "{page}");
    let none = desk.says("bids/adjustments", "").await;
    assert!(none.contains("Choose at least one adjustment first."), "{none}");
    let stale = desk.says("bids/adjustments", "take=1-age+x:+Bid+adjustment:+age+x:+%2B5%25").await;
    assert!(stale.contains("has changed since this page was loaded"), "{stale}");
    // A plus sign of a percentage has to be told as one.
    let coded: Vec<String> = boxes[..2]
        .iter()
        .map(|b| b.replace(":++", ":+%2B").replace('%', "%25").replace("%252B", "%2B"))
        .collect();
    let said = desk.says("bids/adjustments", &coded.join("&")).await;
    assert!(said.contains("2 changes were put in the tray."), "{said} {coded:?}");
    let after = desk.page("bids/adjustments").await;
    assert_eq!(taken(&after).count(), boxes.len() - 2, "{after}");
}
