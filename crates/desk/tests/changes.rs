//! Changes from the tray to the channel and into the logbook; and that no fault loses or doubles one.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::market::{Answering, channels, connected, fetch_all, time_passes, until};
use crate::common::{account, book, day};
use tiller_channel::Micros;
use tiller_channel::connection::{Connection as _, Sent};
use tiller_core::setting::{Budget, MatchType, PlacesMode, Setting, Status, Strategy};
use tiller_core::spot::Subject;
use tiller_core::verdict::Verdict;
use tiller_desk::account::settings::Settings;
use tiller_desk::account::{self, connections};
use tiller_desk::causes::{self, remedy};
use tiller_desk::logbook::{self, Show};
use tiller_desk::tray::proposal::{Origin, Proposal};
use tiller_desk::tray::{self, Edit, Row, sending};
use tiller_desk::{Account, ChangeId, DeskError, PersonId, PgPool, today, volume};
use tiller_market::http::Faults;
use tiller_store::MIGRATIONS;

async fn analyst(db: &PgPool, account: &Account) -> PersonId {
    let id =
        account::add_person(db, "a@amberfold.example", "Ada", "a long password").await.unwrap();
    account::join(db, account.id, id, tiller_desk::Role::Analyst).await.unwrap();
    id
}

struct Scene {
    market: Answering,
    account: Account,
    person: PersonId,
}

async fn scene(db: &PgPool) -> Scene {
    let market = Answering::new().await;
    let account = connected(db, &market).await;
    let person = analyst(db, &account).await;
    Scene { market, account, person }
}

impl Scene {
    async fn campaign(&self, db: &PgPool, name: &str) -> Subject {
        let book = book(db, &self.account).await;
        Subject::Campaign(
            book.entries.iter().find(|e| e.campaign.name == name).unwrap().campaign.id,
        )
    }

    async fn edit(
        &self,
        db: &PgPool,
        name: &str,
        edit: Edit,
        typed: &str,
    ) -> Result<usize, DeskError> {
        let subject = self.campaign(db, name).await;
        tray::edit(db, &self.account, self.person, &[subject], edit, typed, "").await
    }

    async fn propose(&self, db: &PgPool, name: &str, set: Setting) -> Result<usize, DeskError> {
        let subject = self.campaign(db, name).await;
        let proposal =
            Proposal::new(subject, set, Origin::Hand, "Because.").because("CPA", "41.80");
        tray::propose(db, &self.account, self.person, vec![proposal]).await
    }

    async fn tray(&self, db: &PgPool) -> Vec<Row> {
        tray::rows(db, &self.account).await.unwrap()
    }

    async fn send_all(&self, db: &PgPool) -> Result<u64, DeskError> {
        let ids: Vec<ChangeId> = self.tray(db).await.iter().map(|r| r.change.id).collect();
        sending::send(db, &self.account, &ids).await
    }

    async fn log(&self, db: &PgPool) -> Vec<logbook::Entry> {
        logbook::all(db, &self.account, Show::All, "", day("2026-11-10")).await.unwrap()
    }

    /// What is set at the market.
    fn at_market(&self, name: &str) -> tiller_core::setting::CampaignSettings {
        let market = self.market.service.market();
        let all =
            ["Findle", "Emberlane"].map(|c| market.structure(&market.accounts[0], c).campaigns);
        all.into_iter().flatten().find(|c| c.name == name).unwrap().settings
    }
}

/// Whether what an aborted task had begun is over in the database too.
async fn nobody_writes(db: &PgPool) -> bool {
    sqlx::query_scalar(
        "SELECT NOT EXISTS (SELECT FROM pg_stat_activity
         WHERE datname = current_database() AND pid <> pg_backend_pid() AND state <> 'idle')",
    )
    .fetch_one(db)
    .await
    .unwrap()
}

async fn carry(db: &PgPool) {
    while tiller_desk::jobs::send::run_next(db, channels()).await.unwrap() {}
}

fn daily(units: f64) -> Setting {
    Setting::Budget(Budget::Daily { amount: Micros::from_units(units) })
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn from_a_verdict_to_a_lower_cost(db: PgPool) {
    let s = scene(&db).await;
    let before = book(&db, &s.account).await;
    let subject = s.campaign(&db, "Courses, search").await;
    let Subject::Campaign(id) = subject else { panic!() };
    let judged = before.judge(id).unwrap();
    assert_eq!(judged.diagnosis.verdict, Verdict::Bid);
    let examined = causes::examine(&db, &before, subject).await.unwrap();
    let settings = Settings::of_account(&db, s.account.id).await.unwrap();
    let proposal = remedy::of_verdict(&settings, subject, &judged, examined.trade_off).unwrap();
    let Setting::Strategy(Strategy::TargetCpa { target }) = proposal.set else {
        panic!("{:?}", proposal.set)
    };
    // Its price follows the target in part, so the target goes further; never so far that it would learn anew.
    let halfway = judged.diagnosis.halfway_bid.unwrap() / judged.tally.cpc().unwrap();
    let volumes = volume::of_account(&db, &before).await.unwrap();
    let step = volumes.step(id, halfway);
    assert!(step < halfway && step >= 1.0 - tiller_core::learning::STEP);
    assert!((target.to_units() - 55.0 * step).abs() < 0.006);
    assert_eq!(tray::propose(&db, &s.account, s.person, vec![proposal.clone()]).await.unwrap(), 1);
    assert_eq!(
        tray::propose(&db, &s.account, s.person, vec![proposal]).await.unwrap(),
        0,
        "no doubles"
    );
    let row = s.tray(&db).await.swap_remove(0);
    assert_eq!(row.change.place, "Courses, search");
    assert!(row.change.reason.contains("pays too much"), "{}", row.change.reason);
    assert_eq!(s.send_all(&db).await.unwrap(), 1);
    carry(&db).await;
    assert!(s.tray(&db).await.is_empty());
    let entry = s.log(&db).await.swap_remove(0);
    assert!(entry.made() && entry.undoable());
    assert_eq!(entry.change.author.as_deref(), Some("Ada"));
    assert_eq!(entry.change.from_day, Some(day("2026-11-10")));
    assert!(entry.evidence.iter().any(|(title, _)| title == "Affordable CPC"));
    // A week passes: its conversions cost less, and the look-back becomes due two days later.
    let cpa = |book: &tiller_desk::book::Book, from: &str, to: &str| {
        let window = tiller_core::Window::new(day(from), day(to)).unwrap();
        book.entry(id).unwrap().tally(window).cpa().unwrap()
    };
    connections::let_pass(&db, channels(), &s.account, 9).await.unwrap();
    fetch_all(&db).await;
    let after = book(&db, &s.account).await;
    let (then, now) =
        (cpa(&after, "2026-10-26", "2026-11-08"), cpa(&after, "2026-11-10", "2026-11-16"));
    assert!(now < then * 0.92, "{then:?} {now:?}");
    let due = |d: &str| entry.due(day(d));
    let look_back = entry.change.look_back.unwrap();
    assert!(due(&look_back.to_string()) && !due("2026-11-18"));
    assert_eq!(look_back, day("2026-11-19"));
    let letter = today::letter(&db, &after, None, day("2026-11-19")).await.unwrap();
    assert_eq!(letter.waiting.due, 1);
    logbook::looked(&db, &s.account, entry.change.id).await.unwrap();
    assert!(logbook::looked(&db, &s.account, entry.change.id).await.is_err());
    assert!(
        logbook::all(&db, &s.account, Show::Due, "", day("2026-12-01")).await.unwrap().is_empty()
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn direct_edits_take_amounts_and_percentages(db: PgPool) {
    let s = scene(&db).await;
    assert_eq!(s.edit(&db, "Names, search", Edit::Budget, "+10%").await.unwrap(), 1);
    assert_eq!(s.edit(&db, "Names, search", Edit::Bid, "−5%").await.unwrap(), 1);
    assert_eq!(s.edit(&db, "Courses, search", Edit::Target, "50").await.unwrap(), 1);
    assert_eq!(s.edit(&db, "Visits, search", Edit::Pause, "").await.unwrap(), 1);
    assert_eq!(s.edit(&db, "Names, search", Edit::Run, "").await.unwrap(), 0, "it runs already");
    let set: Vec<Setting> = s.tray(&db).await.into_iter().map(|r| r.set_to).collect();
    assert_eq!(
        set,
        [
            daily(110.0),
            Setting::Bid(Some(Micros::from_units(3.8))),
            Setting::Strategy(Strategy::TargetCpa { target: Micros::from_units(50.0) }),
            Setting::Status(Status::Paused),
        ]
    );
    let waiting = tray::waiting(&db, &s.account, day("2026-11-10")).await.unwrap();
    assert_eq!((waiting.changes, waiting.a_day), (4, Micros::from_units(10.0 - 100.0).get()));
    for (edit, typed, says) in [
        (Edit::Bid, "1", "its strategy makes the bids"),
        (Edit::Floor, "10", "floors and ceilings are set on ad groups"),
        (Edit::Budget, "much", "is not a number"),
        (Edit::Budget, "-5", "above 0"),
        (Edit::Budget, "", "type an amount"),
    ] {
        let error = s.edit(&db, "Courses, search", edit, typed).await.unwrap_err();
        assert!(error.to_string().contains(says), "{error}");
    }
    let error = s.edit(&db, "Names, search", Edit::Target, "30").await.unwrap_err();
    assert!(error.to_string().contains("has no target"), "{error}");
    let none = tray::edit(&db, &s.account, s.person, &[], Edit::Budget, "5", "").await;
    assert!(none.unwrap_err().to_string().contains("choose"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn checks_are_shown_and_those_that_stop_keep_a_change_from_being_sent(db: PgPool) {
    let s = scene(&db).await;
    let checks = async || -> Vec<(bool, String)> {
        let rows = s.tray(&db).await;
        rows.into_iter().flat_map(|r| r.checks).map(|c| (c.stops, c.text)).collect()
    };
    let clear = async || {
        let ids: Vec<ChangeId> = s.tray(&db).await.iter().map(|r| r.change.id).collect();
        tray::withdraw(&db, &s.account, &ids).await.unwrap();
    };
    // Learning and shock warn.
    s.propose(&db, "Courses, search", daily(400.0)).await.unwrap();
    let found = checks().await;
    assert!(found.iter().all(|(stops, _)| !stops) && found.len() == 2, "{found:?}");
    assert!(
        found[0].1.contains("be learning for about") && found[1].1.contains("+33"),
        "{found:?}"
    );
    // Two that set the same thing stop each other.
    s.propose(&db, "Courses, search", daily(310.0)).await.unwrap();
    assert_eq!(
        checks().await.iter().filter(|(stops, t)| *stops && t.contains("same thing")).count(),
        2
    );
    let error = s.send_all(&db).await.unwrap_err();
    assert!(error.to_string().contains("nothing was sent"), "{error}");
    // One of them alone may go.
    let one = s.tray(&db).await[1].change.id;
    assert_eq!(sending::send(&db, &s.account, &[one]).await.unwrap(), 1);
    carry(&db).await;
    assert_eq!(
        s.at_market("Courses, search").budget,
        Some(Budget::Daily { amount: Micros::from_units(310.0) })
    );
    clear().await;
    // Below the channel's least.
    s.propose(&db, "Neighbours, feed", Setting::Bid(Some(Micros::from_units(0.02)))).await.unwrap();
    assert!(matches!(&checks().await[..], [(true, t)] if t.contains("least bid")));
    clear().await;
    // Floors against the budget, as the tray would leave both.
    let book = book(&db, &s.account).await;
    let Subject::Campaign(feed) = s.campaign(&db, "Neighbours, feed").await else { panic!() };
    let window = book.settled().unwrap();
    let items = tiller_desk::book::items(&db, &book, Some(feed), window).await.unwrap();
    let group = Subject::AdGroup(items[0].ad_group);
    assert_eq!(
        tray::edit(&db, &s.account, s.person, &[group], Edit::Floor, "35", "").await.unwrap(),
        1
    );
    assert!(checks().await.is_empty());
    s.propose(&db, "Neighbours, feed", daily(34.0)).await.unwrap();
    let found = checks().await;
    assert_eq!(
        found.iter().filter(|(stops, t)| *stops && t.contains("floors add up to 35")).count(),
        2,
        "{found:?}"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_changed_meanwhile_is_not_overwritten(db: PgPool) {
    let s = scene(&db).await;
    s.edit(&db, "Names, search", Edit::Budget, "120").await.unwrap();
    s.edit(&db, "Visits, search", Edit::Budget, "120").await.unwrap();
    // Somebody else sets a budget at the channel.
    let http = tiller_channel::connection::HttpConnection::new(
        &s.market.address,
        "Findle",
        "test-token",
        tiller_channel::connection::Patience::default(),
        &channels().reach,
    )
    .unwrap();
    let place = tiller_channel::wire::Place { campaign: "t-c1".into(), ad_group: None, item: None };
    let change =
        tiller_channel::wire::Change { id: "x".into(), place, was: None, set: daily(77.0) };
    let sent = http.send("theirs", &tiller_channel::wire::Batch { changes: vec![change] }).await;
    assert!(matches!(sent, Sent::Answered(_)), "{sent:?}");
    // Not fetched yet: the channel refuses that one, and makes the other.
    s.send_all(&db).await.unwrap();
    carry(&db).await;
    let log = s.log(&db).await;
    let of = |name: &str| log.iter().find(|e| e.change.place == name).unwrap();
    assert!(of("Visits, search").made());
    assert!(!of("Names, search").made() && of("Names, search").change.answer.contains("meanwhile"));
    assert_eq!(
        s.at_market("Names, search").budget,
        Some(Budget::Daily { amount: Micros::from_units(77.0) })
    );
    // Sent again it is told apart before: what is set now has been fetched.
    fetch_all(&db).await;
    logbook::again(&db, &s.account, of("Names, search").change.id).await.unwrap();
    let row = s.tray(&db).await.swap_remove(0);
    assert!(row.checks.iter().any(|c| c.stops && c.text.contains("77.00 now")), "{:?}", row.checks);
}

/// What a channel has made is what is set, before its structure is fetched again: on a campaign, an ad group, an item.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_same_thing_is_changed_twice_between_two_fetches(db: PgPool) {
    let s = scene(&db).await;
    let now = book(&db, &s.account).await;
    let campaign = s.campaign(&db, "Names, search").await;
    let Subject::Campaign(id) = campaign else { panic!() };
    let items =
        tiller_desk::book::items(&db, &now, Some(id), now.settled().unwrap()).await.unwrap();
    let (group, item) = (Subject::AdGroup(items[0].ad_group), Subject::Item(items[0].item));
    let edit = async |subject: Subject, edit: Edit, typed: &str| {
        tray::edit(&db, &s.account, s.person, &[subject], edit, typed, "").await.unwrap()
    };
    let bid = |units| Setting::Bid(Some(Micros::from_units(units)));
    for (round, (budget, of_group, of_item)) in
        [("120", "3.5", "3.6"), ("130", "3.7", "3.9")].into_iter().enumerate()
    {
        edit(campaign, Edit::Budget, budget).await;
        edit(group, Edit::Bid, of_group).await;
        edit(item, Edit::Bid, of_item).await;
        if round == 1 {
            let was: Vec<_> = s.tray(&db).await.into_iter().filter_map(|r| r.was).collect();
            assert_eq!(was, [daily(120.0), bid(3.5), bid(3.6)]);
        }
        s.send_all(&db).await.unwrap();
        carry(&db).await;
        assert!(s.log(&db).await.iter().all(logbook::Entry::made));
        // It is set like that already.
        assert_eq!(edit(campaign, Edit::Budget, budget).await, 0);
        assert_eq!(edit(item, Edit::Bid, of_item).await, 0);
    }
    assert_eq!(
        s.at_market("Names, search").budget,
        Some(Budget::Daily { amount: Micros::from_units(130.0) })
    );
    // A pause is known to the lists at once.
    edit(campaign, Edit::Pause, "").await;
    s.send_all(&db).await.unwrap();
    carry(&db).await;
    let now = book(&db, &s.account).await;
    assert_eq!(now.entry(id).unwrap().campaign.status.as_deref(), Some("paused"));
    // What the channel tells later stands.
    fetch_all(&db).await;
    let settings = Settings::of_account(&db, s.account.id).await.unwrap();
    let told = settings.campaign(id).unwrap();
    assert_eq!((told.status, told), (Status::Paused, &s.at_market("Names, search")));
}

/// An answer that nobody can read, one that leaves a change out, a token that is revoked in between, a thing that has gone by the
/// next try, a channel that is disconnected: what the channel made is never said to be refused.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_a_channel_made_of_a_batch_is_unknown_until_it_says_so(db: PgPool) {
    let s = scene(&db).await;
    let sending = async || {
        s.tray(&db).await.iter().filter(|r| r.change.state == tray::State::Sending).count()
    };
    let made_at = |budget: f64| {
        let set = Some(Budget::Daily { amount: Micros::from_units(budget) });
        assert_eq!(s.at_market("Names, search").budget, set);
    };
    let unknown = [
        Faults { garbled_answer: 1, ..Faults::default() },
        Faults { short_answer: 1, ..Faults::default() },
    ];
    for (round, faults) in unknown.into_iter().enumerate() {
        let budget = 140.0 + round as f64;
        s.propose(&db, "Names, search", daily(budget)).await.unwrap();
        s.market.service.set_faults(faults);
        s.send_all(&db).await.unwrap();
        assert!(tiller_desk::jobs::send::run_next(&db, channels()).await.unwrap());
        made_at(budget);
        assert_eq!((sending().await, s.log(&db).await.len()), (1, round), "{faults:?}");
        let held = sending::held_up(&db, &s.account).await.unwrap();
        assert!(held[0].contains("isn’t known yet whether"), "{held:?}");
        // What is set has been fetched meanwhile; the batch is the same all the same.
        for channel in connections::list(&db, &s.account).await.unwrap() {
            connections::fetch(&db, &s.account, channel.connection.id).await.unwrap();
        }
        fetch_all(&db).await;
        time_passes(&db).await;
        carry(&db).await;
        assert!(s.log(&db).await.iter().all(logbook::Entry::made), "{faults:?}");
        assert_eq!((sending().await, s.log(&db).await.len()), (0, round + 1));
    }
    s.propose(&db, "Names, search", daily(150.0)).await.unwrap();
    s.market.service.set_faults(Faults { garbled_answer: 1, ..Faults::default() });
    s.send_all(&db).await.unwrap();
    assert!(tiller_desk::jobs::send::run_next(&db, channels()).await.unwrap());
    made_at(150.0);
    let later = async |sql: &'static str| {
        sqlx::raw_sql(sql).execute(&db).await.unwrap();
        time_passes(&db).await;
        assert!(tiller_desk::jobs::send::run_next(&db, channels()).await.unwrap());
        assert_eq!((sending().await, s.log(&db).await.len()), (1, 2), "{sql}");
    };
    // Its token is revoked, and given back below.
    let seal = async |token: &str| {
        let sealed = channels().key.seal(s.account.id, token);
        sqlx::query("UPDATE connection SET sealed = $1").bind(sealed).execute(&db).await.unwrap();
    };
    seal("revoked").await;
    later("SELECT 1").await;
    later("CREATE TABLE aside AS SELECT * FROM connection; DELETE FROM connection").await;
    sqlx::raw_sql("INSERT INTO connection OVERRIDING SYSTEM VALUE SELECT * FROM aside; UPDATE campaign SET channel_key = 'gone-' || id")
        .execute(&db)
        .await
        .unwrap();
    seal("test-token").await;
    time_passes(&db).await;
    carry(&db).await;
    let log = s.log(&db).await;
    assert!(log.len() == 3 && log.iter().all(logbook::Entry::made), "{log:?}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn no_fault_of_the_channel_loses_or_doubles_a_change(db: PgPool) {
    let s = scene(&db).await;
    for (round, faults) in [
        Faults { lost_answer: 1, ..Faults::default() },
        Faults { too_many: 2, retry_after: 0, ..Faults::default() },
        Faults { unavailable: 2, ..Faults::default() },
        Faults { latency_ms: 30, ..Faults::default() },
    ]
    .into_iter()
    .enumerate()
    {
        let budget = 130.0 + round as f64;
        s.propose(&db, "Names, search", daily(budget)).await.unwrap();
        s.market.service.set_faults(faults);
        assert_eq!(s.send_all(&db).await.unwrap(), 1);
        carry(&db).await;
        fetch_all(&db).await;
        assert_eq!(
            s.at_market("Names, search").budget,
            Some(Budget::Daily { amount: Micros::from_units(budget) })
        );
        let log = s.log(&db).await;
        assert_eq!(log.iter().filter(|e| e.made()).count(), round + 1, "{faults:?}");
    }
    // Half a batch: what fails stays, with the channel's reason, and can go again.
    s.propose(&db, "Names, search", daily(150.0)).await.unwrap();
    s.propose(&db, "Visits, search", daily(151.0)).await.unwrap();
    s.market.service.set_faults(Faults { half_batch: 1, ..Faults::default() });
    s.send_all(&db).await.unwrap();
    carry(&db).await;
    fetch_all(&db).await;
    let refused =
        logbook::all(&db, &s.account, Show::Refused, "", day("2026-11-10")).await.unwrap();
    assert_eq!(refused.len(), 1);
    assert!(refused[0].change.answer.contains("could not do it now"));
    logbook::again(&db, &s.account, refused[0].change.id).await.unwrap();
    s.send_all(&db).await.unwrap();
    carry(&db).await;
    assert_eq!(
        s.at_market("Visits, search").budget,
        Some(Budget::Daily { amount: Micros::from_units(151.0) })
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_carrier_killed_in_mid_send_leaves_the_batch_to_the_next(db: PgPool) {
    let s = scene(&db).await;
    let bid = |units| Setting::Bid(Some(Micros::from_units(units)));
    s.propose(&db, "Names, search", bid(3.9)).await.unwrap();
    s.market.service.set_faults(Faults { latency_ms: 100, ..Faults::default() });
    s.send_all(&db).await.unwrap();
    let carrier = tokio::spawn({
        let db = db.clone();
        async move { tiller_desk::jobs::send::run_next(&db, channels()).await }
    });
    until(|| async { s.at_market("Names, search").bid == Some(Micros::from_units(3.9)) }).await;
    // The channel has made it; nobody here knows yet.
    carrier.abort();
    carrier.await.ok();
    until(|| nobody_writes(&db)).await;
    let there: i64 = sqlx::query_scalar("SELECT count(*) FROM change WHERE state = 'sending'")
        .fetch_one(&db)
        .await
        .unwrap();
    if there == 1 {
        assert!(
            !tiller_desk::jobs::send::run_next(&db, channels()).await.unwrap(),
            "it is claimed for a minute"
        );
        time_passes(&db).await;
    }
    s.market.service.set_faults(Faults::default());
    carry(&db).await;
    let log = s.log(&db).await;
    assert_eq!(log.len(), 1);
    assert!(log[0].made());
    // Two who press at once send it once.
    fetch_all(&db).await;
    s.propose(&db, "Names, search", bid(3.7)).await.unwrap();
    let ids: Vec<ChangeId> = s.tray(&db).await.iter().map(|r| r.change.id).collect();
    let (a, b) =
        tokio::join!(sending::send(&db, &s.account, &ids), sending::send(&db, &s.account, &ids));
    assert_eq!(a.unwrap_or(0) + b.unwrap_or(0), 1);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_market_that_is_gone_is_tried_again_and_found_as_it_was(db: PgPool) {
    let folder = std::env::temp_dir().join(format!("desk-market-{}", std::process::id()));
    let journal = folder.join("journal.jsonl");
    let market = Answering::open(Some(&journal), 0).await;
    let port: u16 = market.address.rsplit(':').next().unwrap().parse().unwrap();
    let account = connected(&db, &market).await;
    let person = analyst(&db, &account).await;
    let s = Scene { market, account, person };
    s.edit(&db, "Names, search", Edit::Budget, "120").await.unwrap();
    s.send_all(&db).await.unwrap();
    let Scene { market, account, person } = s;
    drop(market);
    sqlx::raw_sql("UPDATE connection SET base_url = 'http://127.0.0.1:9'")
        .execute(&db)
        .await
        .unwrap();
    carry(&db).await;
    let held = sending::held_up(&db, &account).await.unwrap();
    assert!(held[0].contains("can’t be reached"), "{held:?}");
    let market = Answering::open(Some(&journal), 0).await;
    assert_ne!(port, 0);
    tiller_store::connections::move_address(&db, "http://127.0.0.1:9", &market.address)
        .await
        .unwrap();
    time_passes(&db).await;
    carry(&db).await;
    let s = Scene { market, account, person };
    assert_eq!(
        s.at_market("Names, search").budget,
        Some(Budget::Daily { amount: Micros::from_units(120.0) })
    );
    assert!(s.log(&db).await[0].made());
    std::fs::remove_dir_all(folder).unwrap();
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn undo_puts_the_reverse_in_the_tray_and_the_logbook_tells_both(db: PgPool) {
    let s = scene(&db).await;
    let negative =
        Setting::Negative { text: "free".into(), match_type: MatchType::Broad, present: true };
    s.propose(&db, "Courses, search", negative).await.unwrap();
    s.edit(&db, "Names, search", Edit::Budget, "90").await.unwrap();
    s.send_all(&db).await.unwrap();
    carry(&db).await;
    fetch_all(&db).await;
    for entry in s.log(&db).await {
        logbook::undo(&db, &s.account, s.person, entry.change.id).await.unwrap();
        let again = logbook::undo(&db, &s.account, s.person, entry.change.id).await;
        assert!(again.unwrap_err().to_string().contains("already"));
    }
    assert!(s.log(&db).await.iter().all(|e| !e.undoable()));
    s.send_all(&db).await.unwrap();
    carry(&db).await;
    assert_eq!(
        s.at_market("Names, search").budget,
        Some(Budget::Daily { amount: Micros::from_units(100.0) })
    );
    assert!(s.at_market("Courses, search").negatives.is_empty());
    let found = logbook::all(&db, &s.account, Show::All, "undoes the change", day("2026-11-10"))
        .await
        .unwrap();
    assert_eq!(found.len(), 2);
    let calendar =
        logbook::calendar(&s.account, &logbook::look_backs(&db, &s.account).await.unwrap());
    assert!(calendar.contains("BEGIN:VEVENT") && calendar.contains("20261119"), "{calendar}");
    assert_eq!(calendar.matches("BEGIN:VEVENT").count(), 1, "one a day");
    let rows = sending::file(&tray::rows(&db, &s.account).await.unwrap()).unwrap();
    assert!(rows.is_empty());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn one_accounts_changes_are_out_of_anothers_reach(db: PgPool) {
    let s = scene(&db).await;
    s.edit(&db, "Names, search", Edit::Budget, "90").await.unwrap();
    let id = s.tray(&db).await[0].change.id;
    let theirs = account(&db, "theirs").await;
    assert!(tray::rows(&db, &theirs).await.unwrap().is_empty());
    assert_eq!(tray::withdraw(&db, &theirs, &[id]).await.unwrap(), 0);
    assert!(sending::send(&db, &theirs, &[id]).await.is_err());
    assert!(matches!(logbook::undo(&db, &theirs, s.person, id).await, Err(DeskError::NotFound(_))));
    let subject = s.campaign(&db, "Names, search").await;
    assert!(tray::edit(&db, &theirs, s.person, &[subject], Edit::Pause, "", "").await.is_err());
    assert_eq!(s.tray(&db).await.len(), 1);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn hours_where_the_channel_does_not_allow_them_come_back_with_the_reason(db: PgPool) {
    let s = scene(&db).await;
    let hours = tiller_core::setting::Hours::only(|h| (8..20).contains(&h.hour())).unwrap();
    s.propose(&db, "Neighbours, feed", Setting::Hours(Some(hours))).await.unwrap();
    let error =
        s.propose(&db, "Neighbours, feed", Setting::Places(PlacesMode::In)).await.unwrap_err();
    assert!(error.to_string().contains("places can’t be set"), "{error}");
    s.send_all(&db).await.unwrap();
    carry(&db).await;
    let entry = s.log(&db).await.swap_remove(0);
    assert!(
        !entry.made() && entry.change.answer.contains("lifetime budget"),
        "{}",
        entry.change.answer
    );
    // Until somebody dismisses it; the logbook keeps it.
    let (account, id) = (&s.account, entry.change.id);
    let refused = || async {
        let day = entry.change.created_at.date_naive();
        logbook::all(&db, account, Show::Refused, "", day).await.unwrap().len()
    };
    assert_eq!(refused().await, 1);
    logbook::looked(&db, account, id).await.unwrap();
    assert_eq!((refused().await, s.log(&db).await.len()), (0, 1));
    let twice = logbook::looked(&db, account, id).await.unwrap_err();
    assert!(twice.to_string().contains("dismissed already"), "{twice}");
}

/// A yen has no hundredths, a dinar has thousandths: what goes to the tray can be set.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn money_is_set_in_whole_coins_of_its_currency(db: PgPool) {
    let mut s = scene(&db).await;
    let set = |s: &Scene, typed: &'static str| {
        let (account, person, db) = (s.account.clone(), s.person, db.clone());
        async move {
            let book = book(&db, &account).await;
            let names = book.entries.iter().find(|e| e.campaign.name == "Names, search").unwrap();
            let subject = Subject::Campaign(names.campaign.id);
            tray::edit(&db, &account, person, &[subject], Edit::Budget, typed, "").await.unwrap();
            let rows = tray::rows(&db, &account).await.unwrap();
            let row = rows.into_iter().next().unwrap();
            tray::withdraw(&db, &account, &[row.change.id]).await.unwrap();
            row.set_to
        }
    };
    assert_eq!(set(&s, "120.456").await, daily(120.46), "cents");
    s.account.currency = "JPY".into();
    assert_eq!(set(&s, "120.456").await, daily(120.0));
    s.account.currency = "TND".into();
    let dinars = set(&s, "120.4564").await;
    assert_eq!(dinars, daily(120.456));
    assert_eq!(tiller_desk::change_words::value(&dinars), "120.456");
    assert_eq!(tiller_desk::change_words::value(&daily(1234.5)), "1\u{202f}234.50");
}

/// As many as a rule may want at once: all stand there once, and of two for one thing both are told so.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_tray_bears_ten_thousand_changes(db: PgPool) {
    let s = scene(&db).await;
    let subject = s.campaign(&db, "Names, search").await;
    let negative = |text: String, match_type| {
        let set = Setting::Negative { text, match_type, present: true };
        Proposal::new(subject, set, Origin::Causes, "Searched in vain.")
    };
    let all = || -> Vec<Proposal> {
        (0..10_000).map(|i| negative(format!("word {i}"), MatchType::Exact)).collect()
    };
    // What is proposed twice at once stands there once, and so does what stands there already.
    let twice = all().into_iter().chain(all()).collect();
    assert_eq!(tray::propose(&db, &s.account, s.person, twice).await.unwrap(), 10_000);
    assert_eq!(tray::propose(&db, &s.account, s.person, all()).await.unwrap(), 0);
    let other = vec![
        negative("WORD 7".into(), MatchType::Exact),
        negative("word 8".into(), MatchType::Phrase),
    ];
    assert_eq!(tray::propose(&db, &s.account, s.person, other).await.unwrap(), 2);
    let rows = s.tray(&db).await;
    assert_eq!(rows.len(), 10_002);
    let order: Vec<&Setting> = rows.iter().map(|r| &r.set_to).collect();
    let first =
        Setting::Negative { text: "word 0".into(), match_type: MatchType::Exact, present: true };
    assert_eq!(order[0], &first, "in the order in which they came");
    let stopped: Vec<&Setting> =
        rows.iter().filter(|r| r.checks.iter().any(|c| c.stops)).map(|r| &r.set_to).collect();
    let texts: Vec<&str> = stopped
        .iter()
        .map(|s| match s {
            Setting::Negative { text, .. } => text.as_str(),
            other => panic!("{other:?}"),
        })
        .collect();
    assert_eq!(texts, ["word 7", "WORD 7"]);
    let ids: Vec<ChangeId> = rows.iter().map(|r| r.change.id).collect();
    assert_eq!(tray::withdraw(&db, &s.account, &ids).await.unwrap(), 10_002);
}
