//! The open interface, spoken by the product's own client: what it tells, and what goes wrong in it.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::time::Duration;

use crate::common::day;
use bytes::Bytes;
use chrono::NaiveDate;
use futures::TryStreamExt;
use tiller_channel::Micros;
use tiller_channel::connection::{ChannelError, Connection, HttpConnection, Patience, Reach, Sent};
use tiller_channel::report::{Records, RowReader, guess};
use tiller_channel::wire::{Batch, Change, Place, Refusal, ReportKind};
use tiller_core::setting::{Budget, Setting};
use tiller_market::http::{Faults, Service, openapi};

const PATIENCE: Patience = Patience {
    connect: Duration::from_secs(2),
    read: Duration::from_millis(400),
    whole: (Duration::from_secs(5), Duration::from_secs(5)),
    retries: 3,
    pause: Duration::from_millis(1),
    longest: Duration::from_secs(2),
};

async fn serve(journal: Option<&std::path::Path>) -> (Service, String) {
    let world = tiller_market::World::clone(
        &crate::common::small(4, 20, crate::common::STRATEGIES[0], "").world,
    );
    let service = Service::open(world, day("2026-11-09"), journal).unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let router = service.router();
    tokio::spawn(async move { axum::serve(listener, router).await });
    (service, address)
}

/// The market is a neighbour.
fn here() -> Reach {
    Reach::default().and_this_machine()
}

fn connect(address: &str) -> HttpConnection {
    HttpConnection::new(address, "Findle", "test-token", PATIENCE, &here()).unwrap()
}

async fn text(
    c: &HttpConnection,
    kind: ReportKind,
    from: &str,
    to: &str,
) -> Result<Vec<u8>, ChannelError> {
    let pieces: Vec<Bytes> = c.report(kind, day(from), day(to)).await?.try_collect().await?;
    Ok(pieces.concat())
}

fn budget(units: f64) -> Setting {
    Setting::Budget(Budget::Daily { amount: Micros::from_units(units) })
}

fn batch(sets: impl IntoIterator<Item = Setting>) -> Batch {
    let place = || Place { campaign: "t-c0".into(), ad_group: None, item: None };
    let changes = sets.into_iter().enumerate();
    Batch {
        changes: changes
            .map(|(i, set)| Change { id: i.to_string(), place: place(), was: None, set })
            .collect(),
    }
}

#[tokio::test]
async fn what_the_market_tells_is_what_it_knows() {
    let (service, address) = serve(None).await;
    let c = connect(&address);
    let channels = c.channels().await.unwrap();
    assert_eq!(channels.len(), 1);
    assert_eq!(channels[0].limits.least_bid, Micros::from_units(0.05));
    let structure = c.structure().await.unwrap();
    let market = service.market();
    assert_eq!(structure, market.structure(&market.accounts[0], "Findle"));
    assert_eq!((structure.first_day, structure.last_day), (day("2026-10-21"), day("2026-11-09")));

    let items = text(&c, ReportKind::Items, "2026-10-21", "2026-11-09").await.unwrap();
    let guess = guess(&items).unwrap();
    let mut records = Records::new(&items[..], ',');
    records.next_record().unwrap();
    let mut reader = RowReader::new(&guess.mapping, "EUR".parse().unwrap());
    let mut read = Vec::new();
    while let Some(record) = records.next_record().unwrap() {
        read.push(format!("{:?}", reader.read(&record).unwrap()));
    }
    let known: Vec<String> = market
        .items(&market.accounts[0], None, market.first(), market.today)
        .map(|r| format!("{r:?}"))
        .collect();
    assert_eq!(read, known);
    for kind in [ReportKind::Conversions, ReportKind::Segments, ReportKind::Terms] {
        let rows = text(&c, kind, "2026-11-01", "2026-11-09").await.unwrap();
        assert!(rows.split(|b| *b == b'\n').count() > 10, "{kind:?}");
    }
    assert!(text(&c, ReportKind::Ads, "2026-11-01", "2026-11-09").await.unwrap().is_empty());
}

#[tokio::test]
async fn wrong_requests_are_told_apart() {
    let (_, address) = serve(None).await;
    let wrong = HttpConnection::new(&address, "Findle", "nobody", PATIENCE, &here()).unwrap();
    assert!(matches!(wrong.structure().await, Err(ChannelError::Token)));
    let nowhere =
        HttpConnection::new(&address, "Elsewhere", "test-token", PATIENCE, &here()).unwrap();
    assert!(matches!(nowhere.structure().await, Err(ChannelError::Refused { .. })));
    let c = connect(&address);
    let backwards = c.report(ReportKind::Items, day("2026-11-09"), day("2026-11-01")).await;
    assert!(matches!(backwards, Err(ChannelError::Refused { .. })));
    assert!(matches!(c.pass(0).await, Err(ChannelError::Refused { .. })));
    let many = batch((0..501).map(|i| budget(f64::from(i))));
    assert!(matches!(c.send("many", &many).await, Sent::Refused(ChannelError::Refused { .. })));
    assert!(matches!(
        c.send("", &batch([budget(30.0)])).await,
        Sent::Refused(ChannelError::Refused { .. })
    ));
    let refused = HttpConnection::new("mailto:a@b.example", "Findle", "x", PATIENCE, &here());
    assert!(matches!(refused, Err(ChannelError::Address(_))));
    let nobody =
        HttpConnection::new("http://127.0.0.1:9", "Findle", "x", PATIENCE, &here()).unwrap();
    assert!(matches!(nobody.structure().await, Err(ChannelError::Unreachable(_))));
}

#[tokio::test]
async fn nothing_inside_the_network_is_asked_unless_it_is_listed() {
    let (service, address) = serve(None).await;
    let port = address.rsplit(':').next().unwrap();
    let at = |host: &str, reach: &Reach| {
        let base = format!("http://{host}:{port}");
        HttpConnection::new(&base, "Findle", "test-token", PATIENCE, reach)
    };
    let public = Reach::default();
    // Figures, however they are written, before anything is asked; 2130706433 is 127.0.0.1.
    for host in ["127.0.0.1", "[::1]", "[::ffff:127.0.0.1]", "2130706433", "0x7f.1", "0"] {
        let refused = at(host, &public);
        assert!(matches!(refused, Err(ChannelError::Inside(_))), "{host}: {refused:?}");
    }
    // A name by what it leads to.
    let named = at("localhost", &public).unwrap().structure().await;
    assert!(matches!(&named, Err(ChannelError::Inside(host)) if host == "localhost"), "{named:?}");
    let sent = at("localhost", &public).unwrap().send("k", &batch([budget(55.0)])).await;
    assert!(matches!(sent, Sent::Refused(ChannelError::Inside(_))), "nothing was asked: {sent:?}");
    let listed: Reach = "127.0.0.1".parse().unwrap();
    at("localhost", &listed).unwrap().structure().await.unwrap();
    drop(service);
}

#[tokio::test]
async fn a_batch_is_made_once_however_often_it_comes() {
    let (service, address) = serve(None).await;
    let c = connect(&address);
    let first = batch([budget(55.0), Setting::Bid(Some(Micros::from_units(0.01)))]);
    let answers = c.send("k1", &first).await.answers().unwrap();
    assert_eq!(answers[0].refused, None);
    assert_eq!(answers[1].refused, Some(Refusal::TooLow));
    assert_eq!(c.send("k1", &first).await.answers().unwrap(), answers);
    assert!(matches!(
        c.send("k1", &batch([budget(60.0)])).await,
        Sent::Refused(ChannelError::Refused { .. })
    ));
    // Its answer is lost: the client asks again and learns what was made.
    service.set_faults(Faults { lost_answer: 1, ..Faults::default() });
    let answers = c.send("k2", &batch([budget(70.0)])).await.answers().unwrap();
    assert_eq!(answers[0].refused, None);
    // One that nobody can read, or that leaves a change out, is none: it may have been made.
    let two = batch([budget(70.0), Setting::Bid(Some(Micros::from_units(0.5)))]);
    for (key, faults) in [
        ("k3", Faults { garbled_answer: 1, ..Faults::default() }),
        ("k4", Faults { short_answer: 1, ..Faults::default() }),
    ] {
        service.set_faults(faults);
        assert!(matches!(c.send(key, &two).await, Sent::Unknown(ChannelError::Form(_))), "{key}");
        assert_eq!(c.send(key, &two).await.answers().unwrap().len(), 2, "{key}");
    }
    let structure = c.structure().await.unwrap();
    assert_eq!(
        structure.campaigns[0].settings.budget,
        Some(Budget::Daily { amount: Micros::from_units(70.0) })
    );
}

#[tokio::test]
async fn splits_can_be_kept_back() {
    let (service, address) = serve(None).await;
    let c = connect(&address);
    let (from, to) = ("2026-11-01", "2026-11-09");
    let mut whole = Vec::new();
    for kind in ReportKind::ALL {
        whole.push(text(&c, kind, from, to).await.unwrap());
    }
    service.set_faults(Faults { no_splits: true, ..Faults::default() });
    for (kind, whole) in ReportKind::ALL.into_iter().zip(whole) {
        let bare = text(&c, kind, from, to).await.unwrap();
        match kind {
            ReportKind::Segments | ReportKind::Terms => {
                assert!(bare.is_empty() && !whole.is_empty(), "{kind:?}");
            }
            _ => assert_eq!(bare, whole, "{kind:?}"),
        }
    }
}

#[tokio::test]
async fn half_a_batch_may_be_refused() {
    let (service, address) = serve(None).await;
    service.set_faults(Faults { half_batch: 1, ..Faults::default() });
    let answers =
        connect(&address).send("k", &batch([budget(50.0), budget(51.0)])).await.answers().unwrap();
    assert_eq!(answers[0].refused, None);
    assert_eq!(answers[1].refused, Some(Refusal::Unavailable));
}

#[tokio::test]
async fn passing_troubles_are_waited_out_and_lasting_ones_told() {
    let (service, address) = serve(None).await;
    let c = connect(&address);
    for faults in [
        Faults { too_many: 2, retry_after: 0, ..Faults::default() },
        Faults { unavailable: 3, ..Faults::default() },
        Faults { latency_ms: 20, ..Faults::default() },
    ] {
        service.set_faults(faults);
        c.structure().await.unwrap();
    }
    service.set_faults(Faults { unavailable: 9, ..Faults::default() });
    assert!(matches!(c.structure().await, Err(ChannelError::Unavailable(503))));
    service.set_faults(Faults { too_many: 9, retry_after: 900, ..Faults::default() });
    let wait = c.structure().await.unwrap_err();
    assert!(matches!(wait, ChannelError::TooMany(d) if d.as_secs() == 900), "{wait}");
    service.set_faults(Faults { latency_ms: 2000, ..Faults::default() });
    assert!(matches!(c.structure().await, Err(ChannelError::TimeOut)));
}

#[tokio::test]
async fn a_report_that_breaks_off_is_not_taken_for_whole() {
    let (service, address) = serve(None).await;
    service.set_faults(Faults { cut_report: 1, ..Faults::default() });
    let c = connect(&address);
    let cut = text(&c, ReportKind::Items, "2026-10-21", "2026-11-09").await;
    assert!(matches!(&cut, Err(e) if e.passing()), "{cut:?}");
    assert!(!text(&c, ReportKind::Items, "2026-10-21", "2026-11-09").await.unwrap().is_empty());
}

#[tokio::test]
async fn a_market_that_starts_again_stands_where_it_was() {
    let folder = std::env::temp_dir().join(format!("market-journal-{}", std::process::id()));
    let path = folder.join("journal.jsonl");
    let (items, structure): (Vec<u8>, _) = {
        let (_, address) = serve(Some(&path)).await;
        let c = connect(&address);
        c.send("k1", &batch([budget(9.0), budget(0.2)])).await.answers().unwrap();
        let last: NaiveDate = c.pass(7).await.unwrap();
        assert_eq!(last, day("2026-11-16"));
        let items = text(&c, ReportKind::Items, "2026-11-01", "2026-11-16").await.unwrap();
        (items, c.structure().await.unwrap())
    };
    // What a kill cut off was never answered.
    let cut = std::fs::read(&path).unwrap();
    std::fs::write(&path, [&cut[..], br#"{"pass":{"da"#].concat()).unwrap();
    let (_, address) = serve(Some(&path)).await;
    let c = connect(&address);
    assert_eq!(c.structure().await.unwrap(), structure);
    assert_eq!(text(&c, ReportKind::Items, "2026-11-01", "2026-11-16").await.unwrap(), items);
    let again = c.send("k1", &batch([budget(9.0), budget(0.2)])).await.answers().unwrap();
    assert_eq!(again[1].refused, Some(Refusal::TooLow), "an answer is remembered");
    std::fs::write(&path, "{}\n").unwrap();
    let other = tiller_market::World::clone(
        &crate::common::small(4, 20, crate::common::STRATEGIES[0], "").world,
    );
    assert!(Service::open(other, day("2026-11-09"), Some(&path)).is_err());
    std::fs::remove_dir_all(folder).unwrap();
}

#[test]
fn the_openapi_document_names_every_place() {
    let document = serde_json::to_value(openapi()).unwrap();
    let paths: Vec<&str> =
        document["paths"].as_object().unwrap().keys().map(String::as_str).collect();
    assert_eq!(
        paths,
        [
            "/v1/channels",
            "/v1/channels/{channel}/changes",
            "/v1/channels/{channel}/estimate",
            "/v1/channels/{channel}/reports/{kind}",
            "/v1/channels/{channel}/structure",
            "/v1/clock",
            "/v1/faults"
        ]
    );
    assert!(document["components"]["schemas"]["Setting"].is_object());
}

/// A channel that never ends its answer, or sends elsewhere: neither fills the memory nor learns the token.
#[tokio::test]
async fn an_answer_without_end_and_one_that_leads_elsewhere_are_turned_down() {
    use axum::body::Body;
    use axum::response::Redirect;
    use axum::routing::get;
    let (_, elsewhere) = serve(None).await;
    let endless = async || {
        let piece = Bytes::from(vec![b' '; 1 << 20]);
        Body::from_stream(futures::stream::repeat_with(move || {
            Ok::<_, std::io::Error>(piece.clone())
        }))
    };
    let to = format!("{elsewhere}/v1/channels/Findle/structure");
    let router = axum::Router::new()
        .route("/v1/channels", get(endless))
        .route("/v1/channels/Findle/structure", get(async move || Redirect::temporary(&to)));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let c = connect(&format!("http://{}", listener.local_addr().unwrap()));
    tokio::spawn(async move { axum::serve(listener, router).await });
    assert!(matches!(c.channels().await, Err(ChannelError::TooLarge(_))));
    assert!(matches!(c.structure().await, Err(ChannelError::Refused { .. })));
}
