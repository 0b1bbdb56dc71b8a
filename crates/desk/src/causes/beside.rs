//! A campaign, an ad group or an item beside its peers, figure by figure.

use tiller_core::evidence::{Standing, wilson};
use tiller_core::{Tally, Target};

use crate::book::Judged;
use crate::figure::{Figure, Ratio, Unit, aov, cpa, cpc};
use crate::numerals::{number, or_absent, percent, signed};
use crate::wording;

/// A cost that differs by less is as good.
const AS_GOOD: f64 = 0.05;

/// How a difference reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// Worse than the peers.
    Harm,
    /// Better.
    Gain,
    /// As good, or not told.
    Quiet,
}

/// A figure of it and of its peers.
#[derive(Clone, Debug)]
pub struct Beside {
    /// What it is, in full.
    pub title: &'static str,
    /// The figure's key, where its working can be shown.
    pub figure: Option<&'static str>,
    /// Its own.
    pub own: String,
    /// All peers' together.
    pub peers: String,
    /// How the two differ.
    pub difference: String,
    /// How that reads.
    pub tone: Tone,
}

/// What it is judged by, in the order of the reasons.
pub fn beside(j: &Judged) -> Vec<Beside> {
    let d = &j.diagnosis;
    let sure = wilson(j.tally.conversions, j.tally.clicks as f64, 0.95);
    let range =
        sure.map_or_else(String::new, |i| format!(" ({} to {})", percent(i.low), percent(i.high)));
    let cvr = row(j, "cvr", Tally::cvr, Told::Standing(d.cvr));
    let mut rows = vec![
        row(j, "ctr", Tally::ctr, Told::Standing(d.ctr)),
        Beside { own: cvr.own + &range, ..cvr },
        row(j, "cpc", cpc, Told::Cost(1.0)),
    ];
    match j.target {
        Target::Cpa(_) => rows.push(row(j, "cpa", cpa, Told::Cost(1.0))),
        Target::Roas(_) => rows.extend([
            row(j, "aov", aov, Told::Standing(d.aov)),
            row(j, "roas", Tally::roas, Told::Cost(-1.0)),
        ]),
    }
    rows.push(limited_by(j));
    rows
}

/// How a difference is told.
enum Told {
    /// By how surely it is lower.
    Standing(Option<Standing>),
    /// In percent; more is worse (1) or better (−1).
    Cost(f64),
}

fn row(j: &Judged, key: &'static str, of: Ratio, told: Told) -> Beside {
    let (title, unit) = Figure::of(key).map_or((key, Unit::Factor), |f| (f.name, f.unit));
    let (own, peers) = (of(&j.tally), of(&j.diagnosis.peers));
    let text =
        |x| or_absent(x, |x| if unit == Unit::Percent { unit.text(x) + "%" } else { unit.text(x) });
    let (difference, tone) = match told {
        Told::Standing(standing) => {
            let lower = standing == Some(Standing::Lower);
            (wording::standing(standing).to_owned(), if lower { Tone::Harm } else { Tone::Quiet })
        }
        Told::Cost(worse) => {
            let by = own.zip(peers).filter(|(_, p)| *p > 0.0).map(|(o, p)| o / p - 1.0);
            let tone = match by.map(|by| worse * by) {
                Some(by) if by > AS_GOOD => Tone::Harm,
                Some(by) if by < -AS_GOOD => Tone::Gain,
                _ => Tone::Quiet,
            };
            (or_absent(by, |by| signed(by * 100.0, |x| number(x, 0)) + "%"), tone)
        }
    };
    Beside { title, figure: Some(key), own: text(own), peers: text(peers), difference, tone }
}

fn limited_by(j: &Judged) -> Beside {
    let used = |used: f64| format!("budget used {}%", number(used * 100.0, 0));
    Beside {
        title: "Limited by",
        figure: None,
        own: wording::limited_by(&j.diagnosis).into(),
        peers: String::new(),
        difference: j.budget_use.used.map_or(String::new(), used),
        tone: Tone::Quiet,
    }
}
