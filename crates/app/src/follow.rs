//! Steers a stand-in market by the product's own weekly advice, through the open interface: what a fetch tells,
//! what the tray sends, and nothing else.

use anyhow::Context;
use chrono::{Days, NaiveDate};
use tiller_core::{Target, Window};
use tiller_desk::book::{Book, PeriodChoice};
use tiller_desk::{
    Account, PersonId, PgPool, Role, accounts, advice, connections, courses, rebalance, sending,
    tray,
};
use tiller_market::World;
use tiller_market::http::Service;
use tiller_market::sim::{Outcome, outcome};
use tiller_store::people::NewAccount;

/// Days between two looks.
const WEEK: Days = Days::new(7);

/// Lives through so many days after the history, following the advice every week; what came of it, by account
/// of the world. The accounts that this takes stay in the database.
pub async fn follow(
    pool: &PgPool,
    world: World,
    until: NaiveDate,
    days: u32,
) -> anyhow::Result<Vec<Outcome>> {
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0)).await?;
    let address = format!("http://{}", listener.local_addr()?);
    let service = Service::open(world.clone(), until, None)?;
    let answering = service.clone();
    let task = tokio::spawn(async move { answering.serve(listener, std::future::pending()).await });
    let person =
        accounts::save_person(pool, "steersman@amberfold.example", "Steersman", "a long password")
            .await?;
    let mut followed = Vec::new();
    for from in &world.accounts {
        followed.push(open(pool, from, &world, &address, person).await?);
    }
    let mut day = until;
    let end = until + Days::new(u64::from(days));
    let mut look = until;
    while day < end {
        if day == look {
            for slug in &followed {
                let account = accounts::by_slug(pool, slug).await?;
                week(pool, &account, person).await?;
            }
            look = look + WEEK;
        }
        // A step of a course is taken on its day, as a server that runs every day would.
        let mut next = look.min(end);
        for slug in &followed {
            let account = accounts::by_slug(pool, slug).await?;
            let due = courses::next_due(pool, &account).await?.map(|d| d - Days::new(1));
            next = next.min(due.filter(|d| *d > day).unwrap_or(next));
        }
        let account = accounts::by_slug(pool, &followed[0]).await?;
        connections::let_pass(pool, &account, u16::try_from((next - day).num_days())?).await?;
        fetch(pool).await?;
        day = next;
    }
    task.abort();
    let market = service.market();
    Ok((0..world.accounts.len()).map(|i| outcome(&market, i, days)).collect())
}

async fn fetch(pool: &PgPool) -> anyhow::Result<()> {
    // What a fetch sets going, the next step of a course, is sent before the next day.
    while tiller_desk::jobs::fetch::run_next(pool).await?
        || tiller_desk::jobs::send::run_next(pool).await?
    {}
    Ok(())
}

/// An account of the world, with its whole history fetched; its short name.
async fn open(
    pool: &PgPool,
    from: &tiller_market::world::Account,
    world: &World,
    address: &str,
    person: PersonId,
) -> anyhow::Result<String> {
    let port = address.rsplit(':').next().unwrap_or_default();
    let slug = format!("steer-{}-{}-{}-{port}", from.key, world.seed, std::process::id());
    let new = NewAccount {
        slug: &slug,
        name: &from.name,
        currency: &from.currency,
        time_zone: &from.time_zone,
    };
    let id = accounts::add(pool, &new).await?;
    let target = from.target_cpa.map(Target::Cpa).or(from.target_roas.map(Target::Roas));
    accounts::set_default_target(pool, id, target).await?;
    accounts::join(pool, id, person, Role::Analyst).await?;
    let account = accounts::by_slug(pool, &slug).await?;
    connections::connect(pool, &account, address, &from.token).await?;
    fetch(pool).await?;
    Ok(slug)
}

/// Takes the week's advice and sends it.
async fn week(pool: &PgPool, account: &Account, person: PersonId) -> anyhow::Result<()> {
    let book = Book::load(pool, account, PeriodChoice::default())
        .await?
        .context("the account has no figures")?;
    let moves = advice::of_account(pool, &book).await?.week.moves.clone();
    tracing::info!(
        account = account.slug,
        until = %Window::to(&book.span),
        moves = ?moves.iter().map(|m| (&m.line.name, m.line.spend, m.from, m.to, m.spend)).collect::<Vec<_>>(),
        "the week's advice"
    );
    if moves.is_empty() {
        return Ok(());
    }
    rebalance::propose(pool, account, person, &moves).await?;
    let ids: Vec<_> = tray::rows(pool, account).await?.iter().map(|r| r.change.id).collect();
    sending::send(pool, account, &ids).await?;
    fetch(pool).await
}
