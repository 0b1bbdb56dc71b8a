//! Reads pages again and again as signed-in people would, and prints how long they waited.
//!
//! Usage: load ADDRESS READERS ROUNDS PATH…   (a server with --demo; paths begin with /)

use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use reqwest::Client;
use reqwest::header::{CONTENT_TYPE, COOKIE, SET_COOKIE};
use reqwest::redirect::Policy;

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let mut given = std::env::args().skip(1);
    let mut next = || given.next().context("usage: load ADDRESS READERS ROUNDS PATH…");
    let (address, readers, rounds) =
        (next()?, next()?.parse::<usize>()?, next()?.parse::<usize>()?);
    let paths: Vec<String> = given.collect();
    rustls::crypto::ring::default_provider().install_default().ok();
    let client = Client::builder().redirect(Policy::none()).build()?;
    let cookie = sign_in(&client, &address).await?;
    for path in &paths {
        // Once to warm up, as the second visitor of a page finds it.
        read(&client, &address, path, &cookie).await?;
        let started = Instant::now();
        let reads = (0..readers).map(|_| async {
            let mut waited = Vec::with_capacity(rounds);
            for _ in 0..rounds {
                waited.push(read(&client, &address, path, &cookie).await?);
            }
            anyhow::Ok(waited)
        });
        let all = futures::future::try_join_all(reads).await?;
        let whole = started.elapsed();
        let mut waited: Vec<Duration> = all.into_iter().flatten().collect();
        waited.sort();
        let at = |share: f64| waited[((waited.len() - 1) as f64 * share).ceil() as usize];
        println!(
            "{path}: {} reads by {readers}, median {:.1} ms, p95 {:.1} ms, {:.0} a second",
            waited.len(),
            at(0.5).as_secs_f64() * 1e3,
            at(0.95).as_secs_f64() * 1e3,
            waited.len() as f64 / whole.as_secs_f64()
        );
    }
    Ok(())
}

async fn sign_in(client: &Client, address: &str) -> anyhow::Result<String> {
    let answer = client
        .post(format!("{address}/sign-in/demo"))
        .header(CONTENT_TYPE, "application/x-www-form-urlencoded")
        .body("email=&password=&next=")
        .send()
        .await?;
    let cookie = answer.headers().get(SET_COOKIE).context("the server has no demo analyst")?;
    Ok(cookie.to_str()?.split(';').next().unwrap_or_default().to_owned())
}

async fn read(
    client: &Client,
    address: &str,
    path: &str,
    cookie: &str,
) -> anyhow::Result<Duration> {
    let started = Instant::now();
    let answer = client.get(format!("{address}{path}")).header(COOKIE, cookie).send().await?;
    ensure!(answer.status().is_success(), "{path}: {}", answer.status());
    answer.bytes().await?;
    Ok(started.elapsed())
}
