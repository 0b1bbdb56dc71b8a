//! Targets, purposes and peers through the router: what is typed is taken or said, what is set is logged and undone.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::{Site, text};
use axum::http::StatusCode;
use tiller_desk::PgPool;
use tiller_store::MIGRATIONS;

/// The ids of the campaigns on the targets page, by name.
async fn ids(site: &Site, cookie: &str) -> Vec<String> {
    let page = site.page("/accounts/a/targets", cookie).await;
    let boxes = page.split("name=\"campaign\" value=\"").skip(1);
    boxes.map(|b| b.split('"').next().unwrap().to_owned()).collect()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_typed_number_is_taken_or_said(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let lost = site.post("/accounts/a/targets", Some(&cookie), "kind=none&cpa=25&least=5%25").await;
    assert_eq!(lost.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let page = text(lost).await;
    assert!(page.contains("‘25’ is in the field for target CPA") && page.contains("value=\"25\""));
    for bad in
        ["kind=cpa&cpa=inf", "kind=cpa&cpa=-5", "kind=roas&roas=0", "kind=cpa&cpa=30&least=80%25"]
    {
        let answer = site.post("/accounts/a/targets", Some(&cookie), bad).await;
        assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY, "{bad}");
    }
    let set = site.post("/accounts/a/targets", Some(&cookie), "kind=cpa&cpa=25&least=10").await;
    assert_eq!(set.status(), StatusCode::SEE_OTHER);
    let page = site.page("/accounts/a/targets", &cookie).await;
    assert!(page.contains("value=\"25\"") && page.contains("value=\"10.0%\""));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn purposes_decide_who_is_a_peer(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let all = ids(&site, &cookie).await;
    let dear = format!("/accounts/a/causes/campaigns/{}", all[0]);
    assert!(site.page(&dear, &cookie).await.contains("2 peers on Findle, generic"));
    let body = format!("campaign={}&campaign={}&purpose=brand", all[1], all[2]);
    site.post("/accounts/a/targets/purposes", Some(&cookie), &body).await;
    let page = site.page(&dear, &cookie).await;
    assert!(page.contains("no peers") && page.contains("It probably pays too much per click."));
    assert!(page.contains("The account as a whole misses its target"));
    let log = site.page("/accounts/a/logbook?show=own", &cookie).await;
    let file = site.page("/accounts/a/logbook.csv?show=own", &cookie).await;
    assert!(
        file.starts_with("decided_at,place,author,what,from,to,undone") && file.lines().count() > 1,
        "{file}"
    );
    assert_eq!(log.matches("<b>brand</b>").count(), 2);
    // Each is undone by itself, once.
    for _ in 0..2 {
        let log = site.page("/accounts/a/logbook?show=own", &cookie).await;
        let undo =
            log.split("/undo\"").next().unwrap().rsplit('"').next().unwrap().to_owned() + "/undo";
        assert_eq!(site.post(&undo, Some(&cookie), "").await.status(), StatusCode::SEE_OTHER);
        assert_ne!(
            site.post(&undo, Some(&cookie), "").await.status(),
            StatusCode::SEE_OTHER,
            "once"
        );
    }
    let nobody = site.post("/accounts/a/targets/purposes", Some(&cookie), "purpose=brand").await;
    assert_eq!(nobody.status(), StatusCode::UNPROCESSABLE_ENTITY);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn peers_are_chosen_by_hand(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let (_, theirs) = site.with_report("b").await;
    let all = ids(&site, &cookie).await;
    let peers = format!("/accounts/a/causes/campaigns/{}/peers", all[0]);
    assert!(site.page(&peers, &cookie).await.contains("It is compared with 2 peers on Findle"));
    site.post(&peers, Some(&cookie), &format!("peer={}", all[1])).await;
    let page = site.page(&peers, &cookie).await;
    assert!(page.contains("It is compared with 1 peer of your choice"));
    // Itself, a campaign of nobody, and one of another account are none.
    for wrong in [all[0].as_str(), "999999"] {
        let answer = site.post(&peers, Some(&cookie), &format!("peer={wrong}")).await;
        assert!(answer.status().is_client_error(), "{wrong}");
    }
    assert_eq!(site.get(&peers, Some(&theirs)).await.status(), StatusCode::NOT_FOUND);
    site.post(&peers, Some(&cookie), "").await;
    assert!(site.page(&peers, &cookie).await.contains("2 peers on Findle"));
}
