//! What the store promises by itself: one plan held a month, one open course a budget, steps taken once, changes that
//! stand once, batches carried by one, curves renewed together, days read in parts, and nothing reached from another account.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use chrono::{Days, NaiveDate};
use serde_json::json;
use sqlx::postgres::PgPoolOptions;
use tiller_core::course::{Kind, Lever, State};
use tiller_core::ids::{AccountId, CampaignId, ChangeId, PersonId};
use tiller_core::{Price, Target, Window};
use tiller_store::changes::{self, Author, Find, NewChange, Outcome};
use tiller_store::courses::{self, Busy, Moved, Progress};
use tiller_store::curves::{self, Kept};
use tiller_store::decisions::Own;
use tiller_store::people::{self, NewAccount, Role};
use tiller_store::{MIGRATIONS, PgPool, decisions, plans, rules, versions, views};

/// An account with a member and two campaigns of one channel.
struct Scene {
    account: AccountId,
    person: PersonId,
    campaigns: [CampaignId; 2],
}

impl Scene {
    async fn new(db: &PgPool, slug: &str) -> Self {
        let new = NewAccount { slug, name: slug, currency: "EUR", time_zone: "Europe/Copenhagen" };
        let account = people::add_account(db, &new).await.unwrap();
        let email = format!("Ada@{slug}.example");
        let person = people::add(db, &email, "Ada", "hash").await.unwrap();
        people::join(db, account, person, Role::Analyst).await.unwrap();
        let channel: i64 = sqlx::query_scalar(
            "INSERT INTO channel (account_id, name) VALUES ($1, 'Findle') RETURNING id",
        )
        .bind(account.0)
        .fetch_one(db)
        .await
        .unwrap();
        let mut campaigns = [CampaignId(0); 2];
        for (i, id) in campaigns.iter_mut().enumerate() {
            id.0 = sqlx::query_scalar(
                "INSERT INTO campaign (account_id, channel_id, name, kind) VALUES ($1, $2, $3, 'keyword') RETURNING id",
            )
            .bind(account.0)
            .bind(channel)
            .bind(format!("Campaign {i}"))
            .fetch_one(db)
            .await
            .unwrap();
        }
        Self { account, person, campaigns }
    }

    fn change(&self, campaign: usize, amount: i64) -> NewChange {
        NewChange {
            campaign: self.campaigns[campaign],
            ad_group: None,
            item: None,
            place: format!("Campaign {campaign}"),
            was: Some(json!({ "budget": 100 })),
            set_to: json!({ "budget": amount }),
            setting: "budget".into(),
            reason: "by hand".into(),
            evidence: json!([]),
            effect: String::new(),
            a_day: amount - 100,
            spend_a_day: None,
            origin: "hand",
            undoes: None,
            told: format!("budget to {amount}"),
        }
    }

    fn course(&self, campaign: usize, kind: Kind) -> courses::New {
        courses::New {
            campaign: self.campaigns[campaign],
            kind,
            lever: Lever::Budget,
            steps: json!([[0, 120_000_000], [7, 144_000_000]]),
            base: 100_000_000,
            starts: (kind == Kind::Lift).then(|| "2026-11-20".parse().unwrap()),
        }
    }

    fn author(&self) -> Author {
        Author::Person(self.person)
    }

    /// Puts a change in the tray and has the channel make it, or refuse it.
    async fn answered(&self, db: &PgPool, change: NewChange, refused: Option<&str>) -> ChangeId {
        let ids = changes::add(db, self.account, self.author(), &[change]).await.unwrap();
        changes::load(db, self.account, &ids).await.unwrap();
        let batch = changes::claim(db).await.unwrap().unwrap();
        let look_back = refused.is_none().then(|| "2026-11-19".parse().unwrap());
        let answer =
            changes::Answered { id: ids[0], refused: refused.map(str::to_owned), look_back };
        let day = "2026-11-10".parse().unwrap();
        let outcome = Outcome {
            from_day: day,
            answers: vec![answer],
            besides: Vec::new(),
            standing: Vec::new(),
        };
        changes::answered(db, &batch, None, &outcome).await.unwrap();
        ids[0]
    }
}

fn week() -> Window {
    Window::ending("2026-11-07".parse().unwrap(), 7)
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn one_plan_is_held(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let add = async |s: &Scene, name: &str| {
        plans::add(&db, s.account, s.person, name, week(), &json!({})).await.unwrap()
    };
    let (first, second, theirs) =
        (add(&a, "first").await, add(&a, "second").await, add(&b, "b").await);
    let held = async || {
        let all = plans::list(&db, a.account).await.unwrap();
        all.into_iter().filter(|p| p.followed).map(|p| p.id).collect::<Vec<_>>()
    };
    assert!(plans::follow(&db, a.account, Some(first)).await.unwrap());
    assert!(plans::follow(&db, a.account, Some(second)).await.unwrap());
    assert_eq!(held().await, [second]);
    // Another account's plan is not there, and what was held stays held.
    assert!(!plans::follow(&db, a.account, Some(theirs)).await.unwrap());
    assert_eq!(held().await, [second]);
    assert!(plans::follow(&db, b.account, Some(theirs)).await.unwrap());
    assert!(plans::follow(&db, a.account, None).await.unwrap());
    assert!(held().await.is_empty());
    assert!(plans::get(&db, b.account, theirs).await.unwrap().unwrap().followed);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn plans_are_changed_by_their_account_only(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let id =
        plans::add(&db, a.account, a.person, "Mine", week(), &json!({ "n": 1 })).await.unwrap();
    assert!(plans::get(&db, b.account, id).await.unwrap().is_none());
    assert!(!plans::update(&db, b.account, id, "Theirs", &json!({})).await.unwrap());
    plans::delete(&db, b.account, id).await.unwrap();
    let plan = plans::get(&db, a.account, id).await.unwrap().unwrap();
    assert_eq!((plan.name.as_str(), &plan.body, plan.window), ("Mine", &json!({ "n": 1 }), week()));
    assert!(plans::update(&db, a.account, id, "New", &json!({ "n": 2 })).await.unwrap());
    assert_eq!(plans::list(&db, a.account).await.unwrap()[0].body, json!({ "n": 2 }));
    plans::delete(&db, a.account, id).await.unwrap();
    assert!(plans::list(&db, a.account).await.unwrap().is_empty());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn plans_keep_their_campaigns_through_a_rename(db: PgPool) {
    let a = Scene::new(&db, "a").await;
    let body = json!({ "lines": [{ "id": "Campaign 0" }, { "id": "by hand" }] });
    let id = plans::add(&db, a.account, a.person, "Mine", week(), &body).await.unwrap();
    let renamed = async || plans::get(&db, a.account, id).await.unwrap().unwrap().renamed;
    let call = async |campaign: CampaignId, name: &str| {
        let sql = "UPDATE campaign SET name = $2 WHERE id = $1";
        sqlx::query(sql).bind(campaign.0).bind(name).execute(&db).await.unwrap();
    };
    assert!(renamed().await.is_empty());
    call(a.campaigns[0], "Courses").await;
    // Another one takes the old name: the line stays with its campaign.
    call(a.campaigns[1], "Campaign 0").await;
    assert_eq!(renamed().await, [("Campaign 0".into(), "Courses".into())].into());
    // Saved anew under the new name, it is followed from there.
    let body = json!({ "lines": [{ "id": "Courses" }] });
    assert!(plans::update(&db, a.account, id, "Mine", &body).await.unwrap());
    assert!(renamed().await.is_empty());
    call(a.campaigns[0], "Bee courses").await;
    assert_eq!(renamed().await, [("Courses".into(), "Bee courses".into())].into());
}

/// Two courses would pull at one budget; a step is taken by whoever comes first, and once.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_budget_is_on_one_course(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let add = async |i| {
        let new = a.course(i, Kind::Lift);
        courses::add(&db, a.account, a.person, &new).await.unwrap()
    };
    let lift = add(0).await.unwrap();
    assert!(add(0).await.is_none());
    assert!(add(1).await.is_some());
    let course = async || {
        let all = courses::list(&db, a.account).await.unwrap();
        all.into_iter().find(|c| c.id == lift).unwrap()
    };
    let seen = course().await;
    assert_eq!((seen.state, seen.taken), (State::Running, 0));
    let step = Progress { state: State::Running, starts: seen.starts, taken: 1, note: "" };
    let take = async |account, seen: &_, to: &_, change: Option<&NewChange>| {
        courses::progress(&db, account, seen, to, change).await.unwrap()
    };
    let change = NewChange { origin: "course", ..a.change(0, 120) };
    assert_eq!(take(a.account, &seen, &step, Some(&change)).await, Moved::Done);
    assert_eq!(take(a.account, &seen, &step, Some(&change)).await, Moved::Meanwhile, "taken");
    assert_eq!(courses::unsent(&db, a.account).await.unwrap().len(), 1);
    let seen = course().await;
    assert_eq!(seen.latest_state, Some(changes::State::Waiting));
    assert_eq!(take(b.account, &seen, &step, None).await, Moved::Meanwhile, "not theirs");
    // Where the same waits already it is not taken, and nothing is written down.
    let next = Progress { state: State::Done, taken: 2, ..step };
    assert_eq!(take(a.account, &seen, &next, Some(&change)).await, Moved::Waits);
    assert_eq!(course().await.taken, 1);
    let stop = Progress { state: State::Stopped, starts: seen.starts, taken: 1, note: "by hand" };
    assert_eq!(take(a.account, &seen, &stop, None).await, Moved::Done);
    assert_eq!(course().await.note, "by hand");
    let left = changes::list(&db, a.account, &Find::tray()).await.unwrap();
    assert_eq!(left.len(), 1);
    assert!(courses::unsent(&db, a.account).await.unwrap().is_empty(), "nobody sends it unasked");
    // Its budget is free again.
    assert!(add(0).await.is_some());
    assert!(courses::list(&db, b.account).await.unwrap().is_empty());
}

/// A course that begins in the tray knows what became of its change; it outlives the person who decided on it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_course_follows_its_change(db: PgPool) {
    let a = Scene::new(&db, "a").await;
    let begin = async |i, change: &NewChange| {
        let new = a.course(i, Kind::Ramp);
        courses::begin(&db, a.account, a.person, &new, change).await.unwrap()
    };
    let id = begin(0, &a.change(0, 120)).await.unwrap();
    assert_eq!(begin(0, &a.change(0, 130)).await, Err(Busy::Course));
    let courses_of = async || courses::list(&db, a.account).await.unwrap();
    let course = async || courses_of().await.into_iter().find(|c| c.id == id).unwrap();
    let waiting = course().await;
    assert_eq!((waiting.state, waiting.taken), (State::Waiting, 1));
    assert_eq!(waiting.latest_state, Some(changes::State::Waiting));
    assert!(courses::unsent(&db, a.account).await.unwrap().is_empty(), "a person sends the first");
    changes::withdraw(&db, a.account, &[waiting.latest.unwrap()], "taken out").await.unwrap();
    let ended = course().await;
    assert_eq!(ended.latest_state, Some(changes::State::Withdrawn));
    assert_eq!((ended.state, ended.note.as_str()), (State::Stopped, "taken out"));
    // Neither the course nor its change where the same waits by somebody's hand.
    changes::add(&db, a.account, a.author(), &[a.change(1, 120)]).await.unwrap();
    assert_eq!(begin(1, &a.change(1, 120)).await, Err(Busy::Change));
    assert_eq!(courses_of().await.len(), 1);

    let id = begin(0, &a.change(0, 120)).await.unwrap();
    sqlx::query("DELETE FROM person WHERE id = $1").bind(a.person.0).execute(&db).await.unwrap();
    let left = courses_of().await.into_iter().find(|c| c.id == id).unwrap();
    assert!(courses::unsent(&db, a.account).await.unwrap().is_empty(), "still nobody's to send");
    let to = Progress { state: State::Done, starts: None, taken: 2, note: "" };
    let moved = courses::progress(&db, a.account, &left, &to, Some(&a.change(0, 144))).await;
    assert_eq!(moved.unwrap(), Moved::Done);
    let tray = changes::list(&db, a.account, &Find::tray()).await.unwrap();
    let step = tray.last().unwrap();
    assert_eq!((step.author.as_deref(), step.course), (None, Some(Kind::Ramp)));
}

/// Page by page the logbook holds each entry once, the latest first, whatever is asked of it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_logbook_is_read_by_pages(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let mut made = Vec::new();
    for i in 0..7 {
        let refused = (i == 3).then_some("no such budget");
        made.push(a.answered(&db, a.change(i % 2, 200 + i as i64), refused).await);
    }
    // Answers of one moment are told apart by their number.
    sqlx::query("UPDATE change SET answered_at = '2026-11-10 12:00Z'").execute(&db).await.unwrap();
    let theirs = b.answered(&db, b.change(0, 300), None).await;
    changes::add(&db, a.account, a.author(), &[a.change(0, 999)]).await.unwrap();
    let find = async |find: Find<'_>| -> Vec<ChangeId> {
        let all = changes::list(&db, a.account, &find).await.unwrap();
        all.into_iter().map(|c| c.id).collect()
    };
    let newest: Vec<ChangeId> = made.iter().rev().copied().collect();
    assert_eq!(find(Find::logbook()).await, newest);
    let (mut read, mut after) = (Vec::new(), None);
    loop {
        let page = find(Find { after, most: Some(3), ..Find::logbook() }).await;
        let Some(last) = page.last() else { break };
        after = Some(*last);
        read.extend(page);
    }
    assert_eq!(read, newest);
    let words = |words| Find { words, ..Find::logbook() };
    assert_eq!(find(words("Budget to 204")).await, [made[4]], "in letters of either case");
    assert_eq!(find(words("findle")).await, newest);
    assert_eq!(find(words("100%_")).await, [], "nothing stands for anything");
    let refused = Find { states: &[changes::State::Refused], unseen: true, ..Find::logbook() };
    assert_eq!(find(refused.clone()).await, [made[3]]);
    assert!(changes::looked(&db, a.account, made[3]).await.unwrap());
    assert_eq!(find(refused).await, []);
    let campaign = Find { campaign: Some(a.campaigns[1]), ..Find::logbook() };
    assert_eq!(find(campaign).await, [made[5], made[3], made[1]]);
    let day = |d: &str| d.parse().unwrap();
    let due = |by| Find { unseen: true, look_back_by: Some(day(by)), ..Find::logbook() };
    assert_eq!(find(due("2026-11-18")).await, []);
    assert_eq!(find(due("2026-11-19")).await.len(), 6);
    let in_force = |d| Find { in_force: Some(Window::ending(day(d), 3)), ..Find::logbook() };
    assert_eq!(find(in_force("2026-11-12")).await.len(), 6, "the refused one never was");
    assert_eq!(find(in_force("2026-11-13")).await, []);
    assert_eq!(find(Find { after: Some(theirs), ..Find::logbook() }).await, [], "not theirs");
    let moment = |t: &str| t.parse().unwrap();
    let since = async |t| changes::answered_since(&db, a.account, moment(t)).await.unwrap();
    assert_eq!(since("2026-11-10T11:59:59Z").await, (6, 1));
    assert_eq!(since("2026-11-10T12:00:00Z").await, (0, 0));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_change_stands_once_in_the_tray(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let new = [a.change(0, 120), a.change(1, 90)];
    let ids = changes::add(&db, a.account, a.author(), &new).await.unwrap();
    assert_eq!(ids.len(), 2);
    assert!(changes::add(&db, a.account, a.author(), &new).await.unwrap().is_empty());
    // Another amount on the same budget stands beside it: the tray tells of the conflict.
    assert_eq!(
        changes::add(&db, a.account, a.author(), &[a.change(0, 130)]).await.unwrap().len(),
        1
    );
    let tray = changes::list(&db, a.account, &Find::tray()).await.unwrap();
    assert_eq!(tray.iter().map(|c| c.a_day).collect::<Vec<_>>(), [20, -10, 30]);
    assert!(changes::list(&db, b.account, &Find::tray()).await.unwrap().is_empty());
    // Nobody else takes it out or sends it.
    assert_eq!(changes::load(&db, b.account, &ids).await.unwrap(), 0);
    changes::withdraw(&db, b.account, &ids, "").await.unwrap();
    assert_eq!(changes::list(&db, a.account, &Find::tray()).await.unwrap().len(), 3);
    // Sent, it is carried by one worker at a time.
    assert_eq!(changes::load(&db, a.account, &ids).await.unwrap(), 2);
    let batch = changes::claim(&db).await.unwrap().unwrap();
    assert!(changes::claim(&db).await.unwrap().is_none());
    assert_eq!((batch.account, batch.attempts), (a.account, 1));
    let carried = changes::list(&db, a.account, &Find::batch(batch.id)).await.unwrap();
    assert_eq!(carried.iter().map(|c| c.id).collect::<Vec<_>>(), ids);
    // What is on its way is taken out no more.
    changes::withdraw(&db, a.account, &ids, "").await.unwrap();
    assert_eq!(changes::list(&db, a.account, &Find::batch(batch.id)).await.unwrap().len(), 2);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn curves_are_renewed_together(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let kept = |s: &Scene, i: usize, n: i64| Kept {
        campaign: s.campaigns[i],
        ad_group: None,
        window: week(),
        body: json!({ "n": n }),
    };
    curves::replace(&db, a.account, &[kept(&a, 0, 1), kept(&a, 1, 1)]).await.unwrap();
    curves::replace(&db, b.account, &[kept(&b, 0, 7)]).await.unwrap();
    curves::replace(&db, a.account, &[kept(&a, 1, 2)]).await.unwrap();
    let bodies = async |account| {
        let all = curves::list(&db, account).await.unwrap();
        all.into_iter().map(|k| (k.campaign, k.body)).collect::<Vec<_>>()
    };
    assert_eq!(bodies(a.account).await, [(a.campaigns[1], json!({ "n": 2 }))]);
    assert_eq!(bodies(b.account).await, [(b.campaigns[0], json!({ "n": 7 }))]);
    // A curve of a campaign that is not the account's is refused as a whole: the old ones stay.
    assert!(curves::replace(&db, a.account, &[kept(&a, 0, 3), kept(&b, 0, 3)]).await.is_err());
    assert_eq!(bodies(a.account).await, [(a.campaigns[1], json!({ "n": 2 }))]);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn targets_and_views_are_their_owners(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let target =
        async |slug: &str| people::account_by_slug(&db, slug).await.unwrap().unwrap().target();
    let set = async |of: &Scene, campaign, target| {
        let own = Own::Target(target);
        decisions::decide(&db, of.account, Some(of.person), campaign, &own, None).await.unwrap()
    };
    assert_eq!(set(&a, None, Some(Target::Cpa(Price(30.0)))).await, Some(true));
    assert_eq!((target("a").await, target("b").await), (Some(Target::Cpa(Price(30.0))), None));
    assert_eq!(
        set(&a, None, Some(Target::Cpa(Price(30.0)))).await,
        Some(false),
        "it stands so already"
    );
    assert_eq!(set(&a, None, Some(Target::Roas(4.0))).await, Some(true));
    assert_eq!(target("a").await, Some(Target::Roas(4.0)), "one kind takes the other's place");
    assert_eq!(
        set(&b, Some(a.campaigns[0]), Some(Target::Cpa(Price(9.0)))).await,
        None,
        "not theirs"
    );
    assert_eq!(set(&a, Some(a.campaigns[0]), Some(Target::Cpa(Price(9.0)))).await, Some(true));
    let log = decisions::list(&db, a.account).await.unwrap();
    assert_eq!(log.len(), 3);
    assert_eq!(
        (&log[0].was, &log[0].set_to),
        (&Own::Target(None), &Own::Target(Some(Target::Cpa(Price(9.0)))))
    );
    assert_eq!(log[0].author.as_deref(), Some("Ada"));
    assert!(decisions::list(&db, b.account).await.unwrap().is_empty());

    views::save(&db, a.account, a.person, "Week", "sort=cpa").await.unwrap();
    views::save(&db, a.account, a.person, "Week", "sort=spend").await.unwrap();
    assert_eq!(
        views::list(&db, a.account, a.person).await.unwrap(),
        [("Week".to_owned(), "sort=spend".to_owned())]
    );
    assert!(views::list(&db, a.account, b.person).await.unwrap().is_empty());
    assert!(!views::remove(&db, b.account, a.person, "Week").await.unwrap());
    assert!(views::remove(&db, a.account, a.person, "Week").await.unwrap());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_address_is_one_person_however_it_is_written(db: PgPool) {
    let a = Scene::new(&db, "a").await;
    let found = people::by_email(&db, "ADA@a.example").await.unwrap().unwrap();
    assert_eq!((found.id, found.email.as_str()), (a.person, "ada@a.example"));
    let again = people::add(&db, "ada@A.example", "Ada L.", "other").await.unwrap_err();
    assert_eq!(again.kind(), tiller_store::Kind::Taken, "nobody is written over");
    assert!(people::set_password(&db, "ada@A.example", "other").await.unwrap());
    assert!(!people::set_password(&db, "nobody@a.example", "other").await.unwrap());
    let now = people::by_id(&db, a.person).await.unwrap().unwrap();
    assert_eq!((now.name.as_str(), now.password_hash.as_str()), ("Ada", "other"));
    let taken = NewAccount { slug: "a", name: "b", currency: "EUR", time_zone: "UTC" };
    assert!(people::add_account(&db, &taken).await.is_err(), "a slug is one account");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_is_written_after_a_request_that_was_dropped_is_kept(db: PgPool) {
    let a = Scene::new(&db, "a").await;
    // The next request gets the connection of the dropped one.
    let options = (*db.connect_options()).clone();
    let single = PgPoolOptions::new().max_connections(1).connect_with(options).await.unwrap();
    for awaited in 0..40 {
        tokio::select! {
            biased;
            () = async { for _ in 0..awaited { tokio::task::yield_now().await } } => {}
            _ = changes::load(&single, a.account, &[]) => {}
        }
        let view = format!("after {awaited}");
        views::save(&single, a.account, a.person, &view, "sort=cpa").await.unwrap();
        let seen = views::list(&db, a.account, a.person).await.unwrap();
        assert!(seen.iter().any(|(name, _)| *name == view), "{view}: nobody else sees it");
    }
}

/// However far apart their ids are, and of however many campaigns.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn days_of_items_are_read_in_parts_as_in_one(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let day: NaiveDate = "2026-11-03".parse().unwrap();
    for month in ["item_day", "conversion_day"] {
        let sql = format!(
            "CREATE TABLE {month}_of_test PARTITION OF {month} FOR VALUES FROM ('2026-11-01') TO ('2026-12-01')"
        );
        sqlx::query(sqlx::AssertSqlSafe(sql)).execute(&db).await.unwrap();
    }
    let ids = [7, 4006, 4007, 20_000, 90_000];
    for (scene, sign) in [(&a, 1), (&b, -1)] {
        let group: i64 = sqlx::query_scalar(
            "INSERT INTO ad_group (account_id, campaign_id, name) VALUES ($1, $2, 'g') RETURNING id",
        )
        .bind(scene.account.0)
        .bind(scene.campaigns[0].0)
        .fetch_one(&db)
        .await
        .unwrap();
        for id in ids.map(|id| id * sign) {
            sqlx::query("WITH i AS (INSERT INTO item (account_id, id, ad_group_id, kind, name, match_type) OVERRIDING SYSTEM VALUE
                                    VALUES ($1, $2, $3, 'ad', 'i' || $2, '')),
                              d AS (INSERT INTO item_day (account_id, item_id, day, import_id, impressions, clicks, spend)
                                    VALUES ($1, $2, $4, 1, 50, $2, 1000000))
                         INSERT INTO conversion_day (account_id, item_id, day, age_days, import_id, count, value)
                         VALUES ($1, $2, $4, 3, 1, 1000000, 0)")
                .bind(scene.account.0)
                .bind(id)
                .bind(group)
                .bind(day)
                .execute(&db)
                .await
                .unwrap();
        }
    }
    let read = async |campaigns: &[CampaignId]| {
        let all =
            rules::histories(&db, a.account, campaigns, Window::ending(day, 7)).await.unwrap();
        let known = |age: u64| {
            all.iter().map(move |(_, h)| h.tally(Window::ending(day, 1), day + Days::new(age)))
        };
        let clicks: Vec<i64> = known(0).map(|t| t.clicks).collect();
        let conversions = [2, 3].map(|age| known(age).map(|t| t.conversions).sum::<f64>());
        (clicks, conversions)
    };
    assert_eq!(read(&[]).await, (ids.to_vec(), [0.0, 5.0]));
    assert_eq!(read(&a.campaigns[..1]).await.0, ids);
    assert!(read(&a.campaigns[1..]).await.0.is_empty());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn every_write_raises_the_version_of_its_account_and_of_no_other(db: PgPool) {
    let (a, b) = (Scene::new(&db, "a").await, Scene::new(&db, "b").await);
    let (campaign, peer) = (a.campaigns[0].0, a.campaigns[1].0);
    let of = async |s: &Scene| versions::of(&db, s.account).await.unwrap();
    let theirs = of(&b).await;
    let channel = "(SELECT id FROM channel WHERE account_id = $1)";
    let connection = "(SELECT max(id) FROM connection WHERE account_id = $1)";
    let group = "(SELECT max(id) FROM ad_group WHERE account_id = $1)";
    // Whether figures or what was decided changes.
    for (figures, sql) in [
        (true, "UPDATE account SET target_cpa = 30 WHERE id = $1".to_owned()),
        (true, "UPDATE channel SET name = 'Emberlane' WHERE account_id = $1".to_owned()),
        (true, "UPDATE campaign SET status = 'paused' WHERE account_id = $1".to_owned()),
        (true, format!("INSERT INTO ad_group (account_id, campaign_id, name) VALUES ($1, {campaign}, 'g')")),
        (true, format!("INSERT INTO item (account_id, ad_group_id, kind, name, match_type) VALUES ($1, {group}, 'ad', 'i', '')")),
        (true, "UPDATE item SET name = 'j' WHERE account_id = $1".to_owned()),
        (true, "DELETE FROM item WHERE account_id = $1".to_owned()),
        (true, format!("INSERT INTO campaign_day (account_id, campaign_id, day, impressions, clicks, spend, conversions, value) VALUES ($1, {campaign}, '2026-11-01', 1, 1, 1, 1, 1)")),
        (true, "UPDATE campaign_day SET expected = 2 WHERE account_id = $1".to_owned()),
        (false, format!("INSERT INTO campaign_peer (account_id, campaign_id, peer_id) VALUES ($1, {campaign}, {peer})")),
        (false, "DELETE FROM campaign_peer WHERE account_id = $1".to_owned()),
        (false, format!("INSERT INTO connection (account_id, channel_id, base_url, token) VALUES ($1, {channel}, 'http://there', 't')")),
        (false, "UPDATE connection SET last_day = '2026-11-09' WHERE account_id = $1".to_owned()),
        (false, format!("INSERT INTO sync_job (account_id, connection_id) VALUES ($1, {connection})")),
        (false, "UPDATE sync_job SET state = 'running', claimed_at = now() WHERE account_id = $1".to_owned()),
        (false, format!("INSERT INTO course (account_id, campaign_id, kind, steps, base) VALUES ($1, {campaign}, 'lift', '[]', 1)")),
        (false, "UPDATE course SET state = 'stopped' WHERE account_id = $1".to_owned()),
        (false, "INSERT INTO month_budget (account_id, month, amount) VALUES ($1, '2026-11-01', 5)".to_owned()),
        (false, "INSERT INTO plan (account_id, name, from_day, to_day, body) VALUES ($1, 'p', '2026-11-01', '2026-11-30', '{}')".to_owned()),
        (false, format!("INSERT INTO response_curve (account_id, campaign_id, from_day, to_day, body) VALUES ($1, {campaign}, '2026-11-01', '2026-11-30', '{{}}')")),
        (false, format!("INSERT INTO change (account_id, campaign_id, place, set_to, setting, reason, evidence, effect, a_day, origin) VALUES ($1, {campaign}, 'p', '{{}}', 'bid', '', '[]', '', 0, 'hand')")),
        (false, "UPDATE change SET state = 'withdrawn' WHERE account_id = $1".to_owned()),
        (false, "INSERT INTO rule (account_id) VALUES ($1)".to_owned()),
        (false, "UPDATE rule SET state = 'on' WHERE account_id = $1".to_owned()),
        (false, "INSERT INTO rule_run (account_id, rule_id, version, due_at) SELECT $1, id, 1, now() FROM rule WHERE account_id = $1".to_owned()),
        (false, "UPDATE rule_run SET state = 'done' WHERE account_id = $1".to_owned()),
        (false, "DELETE FROM rule_run WHERE account_id = $1".to_owned()),
        (false, "DELETE FROM rule WHERE account_id = $1".to_owned()),
    ] {
        let before = of(&a).await;
        let done = sqlx::query(sqlx::AssertSqlSafe(sql.clone())).bind(a.account.0).execute(&db);
        assert!(done.await.unwrap().rows_affected() > 0, "{sql}");
        let after = of(&a).await;
        assert_eq!(after.figures > before.figures, figures, "{sql}");
        assert_eq!(after.decided > before.decided, !figures, "{sql}");
    }
    // How far a job is tells nothing new of the account.
    let before = of(&a).await;
    sqlx::query("UPDATE sync_job SET bytes_read = 9, claimed_at = now() WHERE account_id = $1")
        .bind(a.account.0)
        .execute(&db)
        .await
        .unwrap();
    assert_eq!(of(&a).await, before);
    assert_eq!(of(&b).await, theirs);
}
