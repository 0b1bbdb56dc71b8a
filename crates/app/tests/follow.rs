//! The product's weekly advice, followed in the stand-in market through the open interface, does no worse than
//! leaving everything as it is, and the same seed comes to the same.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::process::Command;

use tiller_desk::PgPool;
use tiller_store::MIGRATIONS;

/// A world of one account with few items, two of whose campaigns end their days early; its file.
fn short_of_budget() -> String {
    let small = include_str!("../../market/tests/common/small.toml");
    let cut = |world: String, name: &str| {
        let (before, after) = world.split_once(name).unwrap();
        format!("{before}{name}{}", after.replacen("budget = 100.0", "budget = 40.0", 1))
    };
    let world = cut(cut(small.to_owned(), "Names, search"), "Visits, search");
    let file = format!("{}/short_of_budget.toml", env!("CARGO_TARGET_TMPDIR"));
    std::fs::write(&file, world).unwrap();
    file
}

fn steer(world: &str, policy: &str, database: &str) -> serde_json::Value {
    let args = ["market", "steer", world, "--policy", policy, "--until", "2026-11-09", "--json"];
    let done = Command::new(env!("CARGO_BIN_EXE_gold-tiller"))
        .args(args)
        .env("DATABASE_URL", database)
        .output()
        .unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    serde_json::from_slice(&done.stdout).unwrap()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn following_the_advice_pays(db: PgPool) {
    let given = std::env::var("DATABASE_URL").unwrap();
    let (base, _) = given.rsplit_once('/').unwrap();
    let url = format!("{base}/{}", db.connect_options().get_database().unwrap());
    let world = short_of_budget();
    let of = |outcome: &serde_json::Value, what: &str| outcome["t"][what].as_f64().unwrap();
    let stay = steer(&world, "stay", &url);
    let followed = steer(&world, "follow", &url);
    assert!(of(&followed, "conversions") > of(&stay, "conversions"), "{followed} {stay}");
    assert_eq!(
        followed,
        steer(&world, "follow", &url),
        "the market draws the same for the same changes"
    );
    let made: i64 = sqlx::query_scalar("SELECT count(*) FROM change WHERE state = 'made'")
        .fetch_one(&db)
        .await
        .unwrap();
    assert!(made > 4, "{made} changes");
}
