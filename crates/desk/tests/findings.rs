//! The faults inside campaigns that docs/demo.md lists are found in what the channels report, and mended by
//! the changes that are proposed; what counts can be chosen, and every figure follows.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::market::{Answering, channels, fetch_all};
use crate::common::{book, day};
use tiller_core::setting::{Dimension as Told, Setting, Strategy};
use tiller_core::tracking::Finding;
use tiller_core::verdict::Verdict;
use tiller_core::{Price, Target, Window};
use tiller_desk::account::{self, connections};
use tiller_desk::book::Book;
use tiller_desk::budgets::hours;
use tiller_desk::causes::findings::{self, Findings, Found};
use tiller_desk::measure::{self, Lag};
use tiller_desk::{Account, CampaignId, PgPool, tray};
use tiller_market::world::AMBERFOLD;
use tiller_store::MIGRATIONS;
use tiller_store::people::NewAccount;

/// An account of the demo world, fetched as the product fetches it.
async fn demo(db: &PgPool, key: &str, target: Target) -> (Answering, Account) {
    let market = Answering::of(AMBERFOLD, None, 0).await;
    let new = NewAccount {
        slug: key,
        name: "Amberfold",
        currency: "EUR",
        time_zone: "Europe/Copenhagen",
    };
    let id = account::add(db, &new).await.unwrap();
    account::set_default_target(db, id, Some(target)).await.unwrap();
    let account = account::by_slug(db, key).await.unwrap();
    let token = format!("amberfold-{key}-practice");
    connections::connect(db, channels(), &account, &market.address, &token).await.unwrap();
    fetch_all(db).await;
    let account = account::by_slug(db, key).await.unwrap();
    (market, account)
}

fn id(book: &Book, name: &str) -> CampaignId {
    book.entries.iter().find(|e| e.campaign.name == name).unwrap().campaign.id
}

async fn found(db: &PgPool, book: &Book, name: &str) -> Findings {
    findings::of_campaign(db, book, id(book, name)).await.unwrap().as_ref().clone()
}

fn ids(all: &[Found]) -> Vec<&str> {
    all.iter().map(|f| f.id.as_str()).collect()
}

fn people(f: &Findings) -> Vec<&str> {
    f.people
        .iter()
        .flat_map(|d| &d.rows)
        .filter_map(|r| r.found.as_ref())
        .map(|f| f.id.as_str())
        .collect()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_schools_faults_are_found(db: PgPool) {
    let (_market, account) = demo(&db, "school", Target::Cpa(Price(30.0))).await;
    assert_eq!(account.settle_days, 2);
    let book = book(&db, &account).await;
    // 2: people elsewhere; the audit and the countries say so.
    let visits = found(&db, &book, "Apiary visits, display").await;
    assert!(ids(&visits.audit).contains(&"audit:places"), "{:?}", ids(&visits.audit));
    assert!(people(&visits).contains(&"country:India"), "{:?}", people(&visits));
    // 5: one country and one age band.
    let queens = found(&db, &book, "Queen rearing, feed").await;
    assert_eq!(people(&queens), ["country:Germany", "age:18-24"]);
    // 6: the night; the channel takes hours with a lifetime budget only, which is said instead of being refused there.
    let calls = found(&db, &book, "Evening calls, feed").await;
    let night =
        calls.people.iter().find(|d| d.by == Told::Hour).unwrap().rows[0].found.as_ref().unwrap();
    assert!(night.excess > 500.0 && night.proposals.is_empty(), "{night:?}");
    assert!(night.advice.contains("with a lifetime budget only"), "{}", night.advice);
    // Causes and the page of hours say the same hours.
    let id =
        |name: &str| book.entries.iter().find(|e| e.campaign.name == name).unwrap().campaign.id;
    let zone = chrono_tz::Europe::Copenhagen;
    let page = hours::view(&db, &book, id("Evening calls, feed"), zone).await.unwrap();
    let off: Vec<usize> = (0..24).filter(|h| page.advised.unwrap()[*h].is_none()).collect();
    let (from, to) = night.what.split_once(" to ").unwrap();
    let hour = |text: &str| text.split(':').next().unwrap().parse::<usize>().unwrap();
    assert!(off.contains(&hour(from)) && !off.contains(&hour(to)), "{} {off:?}", night.what);
    // 11: stings and recipes to be shut out, three terms to become keywords.
    let enquiries = found(&db, &book, "Visit enquiries, search").await.searches;
    let waste = ids(&enquiries.waste);
    assert!(waste.contains(&"negative:sting"), "{waste:?}");
    assert!(waste.iter().any(|w| w.contains("honey") || w.contains("recipe")), "{waste:?}");
    // Where days differ by more than chance, one of them may still be too few.
    let terms = ["company day at the apiary", "team building with bees", "staff outing beekeeper"];
    let promising = |term: &&str| {
        enquiries.promising.iter().any(|f| f.what == *term && !f.proposals.is_empty())
    };
    assert!(terms.iter().filter(|t| promising(t)).count() >= 2, "{:?}", enquiries.promising);
    // What has been seen is remembered.
    assert!(enquiries.new.len() > 100);
    findings::seen(&db, &account, &enquiries.new).await.unwrap();
    let after = crate::common::book(&db, &account).await;
    assert!(found(&db, &after, "Visit enquiries, search").await.searches.new.is_empty());
    // A campaign in order has no setting that costs money, and nobody carries an excess.
    let own = found(&db, &book, "Own name, search").await;
    assert!(own.all().next().is_none(), "{:?}", own.all().collect::<Vec<_>>());
    // Chosen findings go to the tray, each change once.
    let person =
        account::add_person(&db, "a@amberfold.example", "Ada", "a long password").await.unwrap();
    account::join(&db, account.id, person, tiller_desk::Role::Analyst).await.unwrap();
    let button = |id: &str| {
        queens.all().find(|f| f.id == id).and_then(|f| Some(f.offer()?.button())).unwrap()
    };
    let chosen = [button("country:Germany"), button("age:18-24")];
    assert_eq!(findings::take(&db, &account, person, &queens, &chosen).await.unwrap(), 2);
    assert_eq!(findings::take(&db, &account, person, &queens, &chosen).await.unwrap(), 0);
    assert!(findings::take(&db, &account, person, &queens, &[]).await.is_err());
    assert_eq!(tray::rows(&db, &account).await.unwrap().len(), 2);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_shops_faults_are_found_and_what_counts_can_be_chosen(db: PgPool) {
    let (_market, account) = demo(&db, "supply", Target::Roas(4.0)).await;
    let before = book(&db, &account).await;
    // 7: one product returns 2 and another 11.
    let listings = found(&db, &before, "Shop listings").await.listings;
    let bid = |name: &str| {
        let f = listings.iter().find(|f| f.what == name).unwrap_or_else(|| panic!("{name}"));
        let Setting::Bid(Some(bid)) = f.proposals[0].set else { panic!() };
        bid.to_units()
    };
    // One step down for the one; the other is raised, unless the budget is the limit.
    let extractor = bid("Extractor, 3 frames, hand");
    assert!((0.6..0.75).contains(&extractor), "{extractor}");
    for f in &listings {
        let present = f.advice.rsplit(' ').next().unwrap().parse::<f64>().unwrap();
        assert!(f.what != "Foundation, 5 kg" || bid(&f.what) > present, "{f:?}");
    }
    // 10 and 13: ad groups that never had a test.
    let sets = found(&db, &before, "Beginner sets, feed").await;
    let floors = sets.audit.iter().filter(|f| f.id.starts_with("audit:floor")).count();
    assert!(floors >= 1, "{:?}", ids(&sets.audit));
    let pictures = found(&db, &before, "New pictures, feed").await;
    assert!(pictures.audit.iter().any(|f| f.what == "Trial: winter work"));
    // Where ad groups stand in their pool says the same.
    for (name, starved) in [("Beginner sets, feed", floors), ("New pictures, feed", 1)] {
        let id = before.entries.iter().find(|e| e.campaign.name == name).unwrap().campaign.id;
        let view = tiller_desk::budgets::pool::view(&db, &before, id).await.unwrap().unwrap();
        let floor = |g: &&tiller_desk::budgets::pool::Group| {
            matches!(g.standing.unwrap().advice, tiller_core::pool::Advice::Floor(_))
        };
        assert_eq!(view.groups.iter().filter(floor).count(), starved, "{name}: {:?}", view.groups);
    }
    // 14: a target that starves its campaign.
    let smokers = found(&db, &before, "Smokers, search").await;
    let target = smokers.audit.iter().find(|f| f.id == "audit:target").unwrap();
    assert!(
        matches!(target.proposals[0].set, Setting::Strategy(Strategy::TargetRoas { target }) if target < 8.0)
    );
    // 8: bids that have been set from their own averages for ten weeks.
    let jars = found(&db, &before, "Stall, jars").await.path.expect("the path of its bids");
    let (first, last) = (jars.weeks.first().unwrap(), jars.weeks.last().unwrap());
    assert!(last.bid < 0.85 * first.bid && jars.rests_at < 0.9 * first.bid, "{jars:?}");
    assert!((jars.headroom.units() - 0.12).abs() < 0.01 && jars.steady > jars.headroom, "{jars:?}");
    for other in before.entries.iter().filter(|e| e.campaign.name != "Stall, jars") {
        let f = findings::of_campaign(&db, &before, other.campaign.id).await.unwrap();
        assert!(f.path.is_none(), "{}", other.campaign.name);
    }
    // 12: page views beside orders spoil the campaign until they are left out.
    let jars = id(&before, "Jar listings");
    assert_eq!(before.judge(jars).unwrap().diagnosis.verdict, Verdict::Measurement);
    assert!(measure::spoiled(&before).iter().any(|s| s.entry.campaign.id == jars
        && matches!(&s.findings[..], [Finding::NoResult { event, .. }] if event == "catalogue view")));
    assert!(
        found(&db, &before, "Jar listings").await.all().next().is_none(),
        "nothing is said of it meanwhile"
    );
    let orders = ["order".to_owned()];
    let preview = measure::preview(&db, &before, jars, Some(&orders)).await.unwrap();
    assert!(preview.after.tally.conversions < 0.3 * preview.before.tally.conversions);
    assert_eq!(preview.before.tally.value, preview.after.tally.value);
    measure::choose(&db, &before, None, jars, Some(orders.to_vec())).await.unwrap();
    let after = book(&db, &account).await;
    let window = after.period.window;
    let counted = after.entry(jars).unwrap().tally(window);
    assert!(
        (counted.conversions - preview.after.tally.conversions).abs() < 1e-6,
        "every figure follows"
    );
    assert_ne!(after.judge(jars).unwrap().diagnosis.verdict, Verdict::Measurement);
    let items = tiller_desk::book::items(&db, &after, Some(jars), window).await.unwrap();
    let by_items: f64 = items.iter().map(|i| i.tally.conversions).sum();
    assert!((by_items - counted.conversions).abs() < 1e-6);
    // Back again, and the same; a choice of nothing is refused.
    assert!(measure::choose(&db, &after, None, jars, Some(vec![])).await.is_err());
    measure::choose(&db, &after, None, jars, None).await.unwrap();
    let again = book(&db, &account).await;
    assert_eq!(again.entry(jars).unwrap().tally(window), before.entry(jars).unwrap().tally(window));
    // A shorter window after the click counts fewer, and longer ones more.
    let mut counts = Vec::new();
    for days in [Some(0), Some(1), Some(7), None] {
        measure::choose_default(&db, &again, None, None, days).await.unwrap();
        let account = account::by_slug(&db, "supply").await.unwrap();
        assert_eq!(account.click_window, days);
        counts.push(book(&db, &account).await.total(window).conversions);
    }
    assert!(counts.windows(2).all(|w| w[0] <= w[1]) && counts[0] < 0.9 * counts[3], "{counts:?}");
    assert!((counts[3] - before.total(window).conversions).abs() < 1e-6);
    assert!(measure::choose_default(&db, &again, None, None, Some(400)).await.is_err());
    // Conversions that are still to come are told with their interval.
    let lag = Lag::load(&db, account.id, day("2026-11-09")).await.unwrap().unwrap();
    let open = Window::new(day("2026-11-09"), day("2026-11-09")).unwrap();
    let kits = id(&again, "Hive kits, search");
    let (run_off, borrowed) = lag.of(kits);
    assert!(!borrowed && (0.5..0.8).contains(&run_off.maturity(0)), "{}", run_off.maturity(0));
    let c = lag.complete(Some(kits), open);
    assert!(c.conversions > c.reported && c.interval(0.8).high > c.conversions);
}
