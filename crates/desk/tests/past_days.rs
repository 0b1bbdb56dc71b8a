//! A past day is seen as it was: what was reported later is not known yet.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::BTreeMap;
use tiller_core::Price;

use crate::common::book;
use crate::common::scene::Scene;
use chrono::NaiveDate;
use tiller_core::ids::CampaignId;
use tiller_core::spot::Subject;
use tiller_core::{Tally, Target, Window};
use tiller_desk::book::{self as desk, Book, Past, PeriodChoice};
use tiller_desk::tray::{self, Edit};
use tiller_desk::{Account, PgPool, account};
use tiller_store::{MIGRATIONS, people};

/// All that a book knows of its days, exact to the coin.
fn figures(book: &Book) -> BTreeMap<(CampaignId, NaiveDate), Tally> {
    let days =
        book.entries.iter().flat_map(|e| e.days.iter().map(|d| ((d.campaign, d.day), d.tally)));
    days.collect()
}

/// What its events brought in the period.
fn events(book: &Book) -> BTreeMap<(CampaignId, String), (f64, bool)> {
    let all = book.events.iter().flat_map(|(id, events)| {
        events.iter().map(|e| ((*id, e.event.clone()), ((e.conversions * 1e6).round(), e.counts)))
    });
    all.collect()
}

fn verdicts(book: &Book) -> Vec<Option<String>> {
    let told =
        |j: &desk::Judged| format!("{:?} of {} to {}", j.diagnosis, j.window.from(), j.window.to());
    book.judge_all().iter().map(|j| j.as_ref().map(told)).collect()
}

async fn past_of(db: &PgPool, account: &Account, from: NaiveDate) -> Past {
    Past::of_account(db, account, PeriodChoice::default(), from).await.unwrap().unwrap()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_past_day_is_seen_as_it_was(db: PgPool) {
    let s = Scene::new(&db).await;
    account::set_default_target(&db, s.account.id, Some(Target::Cpa(Price(30.0)))).await.unwrap();
    let names = s.id(&db, "Names, search").await;
    // A shock on the first of the days, which can't be judged on any of them.
    let on = [Subject::Campaign(names)];
    tray::edit(&db, &s.account, s.person, &on, Edit::Budget, "+60%", "").await.unwrap();
    s.send(&db).await;
    let account = async || people::account(&db, s.account.id).await.unwrap().unwrap();
    let mut seen = Vec::new();
    for _ in 0..5 {
        s.days_pass(&db, 1).await;
        let then = book(&db, &account().await).await;
        let items = desk::items(&db, &then, Some(names), then.period.window).await.unwrap();
        seen.push((then, items));
    }
    s.days_pass(&db, 20).await;
    let mut now = account().await;
    let days = Window::new(seen[0].0.span.to(), seen[4].0.span.to()).unwrap();
    let (mut same, mut less) = (0, 0);
    for (then, items) in &seen {
        // After how many days a day is settled has been learned anew since.
        now.settle_days = then.account.settle_days;
        let past = past_of(&db, &now, days.from()).await;
        let past = &past.evening(then.span.to()).unwrap().expect("its day");
        assert_eq!(past.as_of, Some(then.span.to()));
        assert_eq!(past.period, then.period);
        assert_eq!(figures(past), figures(then), "as of {}", then.span.to());
        assert_eq!(events(past), events(then));
        let again = desk::items(&db, past, Some(names), then.period.window).await.unwrap();
        let tallies =
            |all: &[desk::ItemTally]| all.iter().map(|i| (i.item, i.tally)).collect::<Vec<_>>();
        assert_eq!(tallies(&again), tallies(items));
        assert_eq!(verdicts(past), verdicts(then));
        same += verdicts(past).iter().flatten().count();
        assert!(past.touched[&names].iter().any(|t| !t.waits()), "the shock is known");
        // What is known now of the same days is more.
        let later = book(&db, &now).await;
        less += figures(past)
            .iter()
            .filter(|(k, t)| t.conversions < figures(&later)[k].conversions)
            .count();
    }
    assert!(same > 10, "{same} verdicts");
    assert!(less > 10, "late conversions changed {less} days");
    // Before there were reports there is no book, and today's is the one of now.
    let before = seen[0].0.span.from().pred_opt().unwrap();
    assert!(past_of(&db, &now, before).await.evening(before).unwrap().is_none());
    let now = account().await;
    let today = book(&db, &now).await;
    let last = today.span.to();
    let of_today = past_of(&db, &now, last).await.evening(last).unwrap().unwrap();
    assert_eq!(figures(&of_today), figures(&today));
}
