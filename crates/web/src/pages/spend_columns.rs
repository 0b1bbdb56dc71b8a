//! The columns of Spend: which there are, which are shown, and in which order.

use tiller_core::{Tally, Target};
use tiller_desk::AccountId;
use tiller_desk::numerals::{self, count, money, number, percent, signed, sum};
use tiller_desk::spend::{Level, Row};
use tower_sessions::Session;

use crate::error::PageError;
use crate::params::Params;

/// The session's key for the chosen columns.
const COLUMNS_KEY: &str = "spend-columns";

/// What a column needs to know of a row.
pub struct Seen<'a> {
    /// The row.
    pub row: &'a Row,
    /// What shares are shares of: the whole account.
    pub whole: &'a Tally,
}

impl Seen<'_> {
    fn now(&self) -> &Tally {
        &self.row.tally
    }
    /// What results are told by: their value, or their number.
    fn result(&self, t: &Tally) -> f64 {
        match self.row.target {
            Some(Target::Roas(_)) => t.value.to_units(),
            _ => t.conversions,
        }
    }
    fn beside_peers(&self, of: impl Fn(&Tally) -> Option<f64>) -> Option<f64> {
        let (own, peers) = self.row.peers.as_ref()?;
        let theirs = of(peers).filter(|p| *p > 0.0)?;
        Some(of(own)? / theirs - 1.0)
    }
    fn change(&self, of: impl Fn(&Tally) -> Option<f64>) -> Option<f64> {
        let before = of(self.row.against.as_ref()?)?;
        (before > 0.0).then_some(of(self.now())? / before - 1.0)
    }
}

/// A column: its key in addresses, its header, its number and how that is written.
pub struct Column {
    /// Names it in addresses and files.
    pub key: &'static str,
    /// Its header.
    pub title: &'static str,
    /// Its number.
    pub raw: fn(&Seen) -> Option<f64>,
    /// How that is written.
    text: fn(f64) -> String,
    /// Above 0 is harm (1) or gain (−1).
    pub sign: i8,
    /// Shown unless the person chose otherwise: for cost accounts, for value accounts.
    usual: (bool, bool),
    /// Only of parts of a campaign.
    of_parts: bool,
}

impl Column {
    /// A number of it for a row, written; a target as what it is a target of.
    pub fn written(&self, seen: &Seen, x: f64) -> String {
        let target = seen.row.target.filter(|_| self.key == "target");
        target.map_or_else(|| (self.text)(x), numerals::target)
    }

    fn fits(&self, level: Level) -> bool {
        !self.of_parts || level != Level::Campaigns
    }
}

fn share(part: f64, of: f64) -> Option<f64> {
    (of > 0.0).then(|| part / of)
}
fn factor(x: f64) -> String {
    number(x, 2)
}
fn change(x: f64) -> String {
    signed(x, |x| number(x * 100.0, 0))
}
fn signed_sum(x: f64) -> String {
    signed(x, sum)
}

const fn column(
    key: &'static str,
    title: &'static str,
    raw: fn(&Seen) -> Option<f64>,
    text: fn(f64) -> String,
    usual: (bool, bool),
) -> Column {
    Column { key, title, raw, text, sign: 0, usual, of_parts: false }
}

/// All columns.
pub const COLUMNS: &[Column] = &[
    column("spend", "Spend", |s| Some(s.now().spend.to_units()), sum, (true, true)),
    column(
        "share",
        "Share %",
        |s| share(s.now().spend.to_units(), s.whole.spend.to_units()),
        percent,
        (true, true),
    ),
    column(
        "result_share",
        "Results %",
        |s| share(s.result(s.now()), s.result(s.whole)),
        percent,
        (false, false),
    ),
    Column {
        of_parts: true,
        ..column(
            "pool_share",
            "Of campaign %",
            |s| share(s.now().spend.to_units(), s.row.pool?.spend.to_units()),
            percent,
            (true, true),
        )
    },
    Column {
        of_parts: true,
        ..column(
            "pool_results",
            "Of its results %",
            |s| share(s.result(s.now()), s.result(&s.row.pool?)),
            percent,
            (true, true),
        )
    },
    column("impressions", "Impressions", |s| Some(s.now().impressions as f64), sum, (false, false)),
    column("ctr", "CTR %", |s| s.now().ctr(), percent, (false, false)),
    column("clicks", "Clicks", |s| Some(s.now().clicks as f64), sum, (true, true)),
    column("cpc", "CPC", |s| s.now().cpc(), money, (true, true)),
    column("cvr", "CVR %", |s| s.now().cvr(), percent, (true, true)),
    column("conversions", "Conv.", |s| Some(s.now().conversions), count, (true, true)),
    column("cpa", "CPA", |s| s.now().cpa(), money, (true, false)),
    column("value", "Value", |s| Some(s.now().value.to_units()), sum, (false, true)),
    column("roas", "ROAS", |s| s.now().roas(), factor, (false, true)),
    column("acos", "ACoS %", |s| s.now().acos(), percent, (false, false)),
    column("target", "Target", |s| s.row.target.map(Target::number), factor, (true, true)),
    Column { sign: 1, ..column("excess", "Excess", |s| s.row.excess(), signed_sum, (true, true)) },
    column(
        "spend_change",
        "Spend Δ%",
        |s| s.change(|t| Some(t.spend.to_units())),
        change,
        (false, false),
    ),
    column(
        "conversions_change",
        "Conv. Δ%",
        |s| s.change(|t| Some(t.conversions)),
        change,
        (false, false),
    ),
    Column {
        sign: 1,
        ..column("cpa_change", "CPA Δ%", |s| s.change(Tally::cpa), change, (true, false))
    },
    Column {
        sign: -1,
        ..column("roas_change", "ROAS Δ%", |s| s.change(Tally::roas), change, (false, true))
    },
    Column {
        sign: 1,
        ..column(
            "cpc_peers",
            "CPC to peers %",
            |s| s.beside_peers(Tally::cpc),
            change,
            (false, false),
        )
    },
    Column {
        sign: -1,
        ..column(
            "cvr_peers",
            "CVR to peers %",
            |s| s.beside_peers(Tally::cvr),
            change,
            (false, false),
        )
    },
    Column {
        sign: 1,
        ..column(
            "cpa_peers",
            "CPA to peers %",
            |s| s.beside_peers(Tally::cpa),
            change,
            (false, false),
        )
    },
    Column {
        sign: -1,
        ..column(
            "roas_peers",
            "ROAS to peers %",
            |s| s.beside_peers(Tally::roas),
            change,
            (false, false),
        )
    },
];

/// The columns that set a row beside its peers: of accounts that look at cost, or at value.
pub fn beside_peers(by_value: bool) -> &'static str {
    if by_value {
        "spend,conversions,cpc,cpc_peers,cvr,cvr_peers,roas,roas_peers,excess"
    } else {
        "spend,conversions,cpc,cpc_peers,cvr,cvr_peers,cpa,cpa_peers,excess"
    }
}

/// The usual columns.
pub fn usual(by_value: bool, level: Level) -> impl Iterator<Item = &'static Column> {
    COLUMNS
        .iter()
        .filter(move |c| if by_value { c.usual.1 } else { c.usual.0 })
        .filter(move |c| c.fits(level))
}

/// The columns that are shown, in their order: those that were asked for, else those of last time, else the
/// usual ones. What is asked for is remembered.
pub async fn chosen(
    session: &Session,
    params: &Params,
    account: AccountId,
    by_value: bool,
    level: Level,
) -> Result<Vec<&'static Column>, PageError> {
    let failed = |e: tower_sessions::session::Error| PageError::Internal(e.to_string());
    // Another account looks at other figures: each keeps its own.
    let key = format!("{COLUMNS_KEY}-{account}");
    let asked = params.text("columns");
    let chosen = if asked.is_empty() {
        session.get::<String>(&key).await.map_err(failed)?.unwrap_or_default()
    } else {
        session.insert(&key, asked).await.map_err(failed)?;
        asked.to_owned()
    };
    let named: Vec<&Column> = chosen
        .split(',')
        .filter_map(|key| COLUMNS.iter().find(|c| c.key == key))
        .filter(|c| c.fits(level))
        .collect();
    Ok(if named.is_empty() { usual(by_value, level).collect() } else { named })
}
