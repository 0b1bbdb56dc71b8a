//! Steers a stand-in market by the product's own weekly advice, through the open interface: what a fetch tells,
//! what the tray sends, and nothing else.

use anyhow::Context;
use chrono::{Days, NaiveDate};
use clap::ValueEnum;
use tiller_channel::connection::{Connection as _, HttpConnection, Patience};
use tiller_core::ids::CampaignId;
use tiller_core::setting::Setting;
use tiller_core::{Target, Window};
use tiller_desk::account::channels::Channels;
use tiller_desk::account::settings::Settings;
use tiller_desk::account::{self, connections};
use tiller_desk::advice::{Advised, Cure, Means};
use tiller_desk::book::{Book, PeriodChoice};
use tiller_desk::budgets::weekly;
use tiller_desk::courses::{self, Due};
use tiller_desk::tray::proposal::Proposal;
use tiller_desk::tray::{self, sending};
use tiller_desk::{Account, PersonId, PgPool, Role, advice};
use tiller_market::World;
use tiller_market::http::{Faults, Service};
use tiller_market::sim::{Outcome, outcome};
use tiller_store::people::NewAccount;

/// Days between two looks.
const WEEK: Days = Days::new(7);

/// What of the advice is followed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Levers {
    /// The week's budgets.
    Budgets,
    /// Bids, targets, highest bids.
    Bids,
    /// Both: each campaign's one advice, and its bid where that asks for something else.
    Both,
}

impl Levers {
    fn means(self) -> Means {
        let none = Means { budgets: false, bids: false, others: false };
        match self {
            Self::Budgets => Means { budgets: true, ..none },
            Self::Bids => Means { bids: true, ..none },
            Self::Both => Means { budgets: true, bids: true, ..none },
        }
    }
}

/// Lives through so many days after the history, following the advice every week; what came of it, by account
/// of the world. The accounts that this takes stay in the database.
pub async fn follow(
    db: &PgPool,
    world: World,
    until: NaiveDate,
    days: u32,
    levers: Levers,
) -> anyhow::Result<Vec<Outcome>> {
    let Helm { channels, service, clock, person, accounts: mut followed, task } =
        Helm::take(db, &world, until).await?;
    let mut day = until;
    let end = until + Days::new(u64::from(days));
    let mut look = until;
    while day < end {
        if day == look {
            for account in &mut followed {
                // What it has learned since, how long its days take to settle, is looked at with the rest.
                *account = account::by_slug(db, &account.slug).await?;
                week(db, &channels, account, person, levers).await?;
            }
            look = look + WEEK;
        }
        // A step of a course is taken on its day, as a server that runs every day would.
        let mut due = Vec::new();
        for account in &followed {
            due.extend(courses::due(db, account).await?.into_iter().map(|d| (account, d)));
        }
        let eve = |(_, due): &(&Account, Due)| due.day - Days::new(1);
        let next =
            due.iter().map(eve).filter(|d| *d > day).min().unwrap_or(look).min(look).min(end);
        clock.pass(u16::try_from((next - day).num_days())?).await?;
        day = next;
        for account in &followed {
            let steps = due.iter().filter(|d| d.0.id == account.id && eve(d) <= day);
            let campaigns: Vec<CampaignId> = steps.map(|(_, due)| due.campaign).collect();
            queue(db, account, (day < look).then_some(&campaigns[..])).await?;
        }
        fetch(db, &channels).await?;
    }
    task.abort();
    let market = service.market();
    Ok((0..world.accounts.len()).map(|i| outcome(&market, i, days)).collect())
}

/// A market that answers, and its accounts with their whole history fetched.
pub(crate) struct Helm {
    pub channels: Channels,
    pub service: Service,
    pub clock: HttpConnection,
    pub person: PersonId,
    pub accounts: Vec<Account>,
    pub task: tokio::task::JoinHandle<std::io::Result<()>>,
}

impl Helm {
    pub async fn take(db: &PgPool, world: &World, until: NaiveDate) -> anyhow::Result<Self> {
        let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0)).await?;
        let address = format!("http://{}", listener.local_addr()?);
        let service = Service::open(world.clone(), until, None)?;
        // Who comes and what they searched for has no say in bids and budgets, and takes most of a fetch.
        service.set_faults(Faults { no_splits: true, ..Faults::default() });
        let answering = service.clone();
        let task =
            tokio::spawn(async move { answering.serve(listener, std::future::pending()).await });
        let person =
            account::person_without_password(db, "steersman@amberfold.example", "Steersman")
                .await?;
        let channels = Channels::practice();
        let mut accounts = Vec::new();
        for from in &world.accounts {
            accounts.push(open(db, &channels, from, world, &address, person).await?);
        }
        let token = &world.accounts[0].token;
        let clock =
            HttpConnection::new(&address, "clock", token, Patience::default(), &channels.reach)?;
        Ok(Self { channels, service, clock, person, accounts, task })
    }
}

/// Queues what is to be fetched of an account: all of it, or the channels of the campaigns that have a step due, since
/// nobody looks at the others before the week is over.
pub(crate) async fn queue(
    db: &PgPool,
    account: &Account,
    only: Option<&[CampaignId]>,
) -> anyhow::Result<()> {
    let settings = Settings::of_account(db, account.id).await?;
    for view in connections::list(db, account).await? {
        let id = view.connection.id;
        let has = |c: &CampaignId| settings.connection(*c).is_some_and(|of| of.id == id);
        if only.is_none_or(|campaigns| campaigns.iter().any(has)) {
            connections::fetch(db, account, id).await?;
        }
    }
    Ok(())
}

pub(crate) async fn fetch(db: &PgPool, channels: &Channels) -> anyhow::Result<()> {
    // What a fetch sets going, the next step of a course, is sent before the next day.
    while tiller_desk::jobs::fetch::run_next(db, channels).await?
        || tiller_desk::jobs::send::run_next(db, channels).await?
    {}
    Ok(())
}

/// An account of the world, with its whole history fetched.
async fn open(
    db: &PgPool,
    channels: &Channels,
    from: &tiller_market::world::Account,
    world: &World,
    address: &str,
    person: PersonId,
) -> anyhow::Result<Account> {
    let port = address.rsplit(':').next().unwrap_or_default();
    let slug = format!("steer-{}-{}-{}-{port}", from.key, world.seed, std::process::id());
    let new = NewAccount {
        slug: &slug,
        name: &from.name,
        currency: &from.currency,
        time_zone: &from.time_zone,
    };
    let id = account::add(db, &new).await?;
    let target = Target::given(from.target_cpa, from.target_roas)?;
    account::set_default_target(db, id, target).await?;
    account::join(db, id, person, Role::Analyst).await?;
    let account = account::by_slug(db, &slug).await?;
    connections::connect(db, channels, &account, address, &from.token).await?;
    fetch(db, channels).await?;
    Ok(account)
}

/// Takes the week's advice and sends it.
async fn week(
    db: &PgPool,
    channels: &Channels,
    account: &Account,
    person: PersonId,
    levers: Levers,
) -> anyhow::Result<()> {
    let book = Book::load(db, account, PeriodChoice::default())
        .await?
        .context("the account has no figures")?;
    let advised = advice::by(db, &book, levers.means()).await?;
    let moves: Vec<_> = advised.week.moves.iter().collect();
    let bids =
        if levers == Levers::Budgets { Vec::new() } else { bids(db, &book, &advised).await? };
    tracing::info!(
        account = account.slug,
        until = %Window::to(&book.span),
        moves = ?moves.iter().map(|m| (&m.line.name, m.line.spend, m.from, m.to, m.spend)).collect::<Vec<_>>(),
        bids = ?bids.iter().map(|p| (p.subject, &p.set, p.reason.clone())).collect::<Vec<_>>(),
        known = ?advised.known.iter().map(|l| (&l.name, l.compared.brings(l.spend), l.compared.deviation(l.spend))).collect::<Vec<_>>(),
        "the week's advice"
    );
    if moves.is_empty() && bids.is_empty() {
        return Ok(());
    }
    tray::propose(db, account, person, bids).await?;
    weekly::propose(db, account, person, &moves).await?;
    let ids: Vec<_> = tray::rows(db, account).await?.iter().map(|r| r.change.id).collect();
    sending::send(db, account, &ids).await?;
    fetch(db, channels).await
}

/// The changes of bids, targets, highest bids and of budgets that stand for them that the one advice asks for.
async fn bids(db: &PgPool, book: &Book, advised: &Advised) -> anyhow::Result<Vec<Proposal>> {
    let settings = Settings::of_book(db, book).await?;
    let judged = book.entries.iter().zip(book.judge_all());
    let cures = judged.filter_map(|(e, j)| advised.cure(book, &settings, e, j.as_ref()));
    Ok(cures
        .filter_map(|cure| match cure {
            Cure::Change(p) => Some(p),
            Cure::Budget(..) | Cure::Quiet(_) => None,
        })
        .filter(|p| p.set.moves_bids() || matches!(p.set, Setting::Budget(_)))
        .collect())
}
