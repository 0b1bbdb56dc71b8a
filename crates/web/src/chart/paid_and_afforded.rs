//! Paid and afforded: each campaign at the CPC that it pays (across) and the CPC that its target affords (up), its area
//! what it spends. Under the diagonal it pays too much; a short line leads to its next step.

use askama::Template;
use tiller_core::Price;
use tiller_desk::numerals::{cut, money, percent, sum};

use super::scale::{LogScale, Mark};
use super::{Form, UNIT};

const WIDTH: f64 = 640.0;
const LEFT: f64 = 44.0;
const TOP: f64 = 22.0;
const BASE: f64 = 300.0;
/// Room at the right end, for names of what lies there.
const END: f64 = 96.0;
/// Radii of the largest and the smallest circle.
const LARGEST: f64 = 17.0;
const SMALLEST: f64 = 3.5;
/// The axes reach over so many times at least, that one campaign's circle doesn't stand for a whole world.
const LEAST_REACH: f64 = 4.0;
const LONGEST_NAME: usize = 26;

/// A campaign.
#[derive(Clone, Debug)]
pub struct Payer<'a> {
    /// Its key in the table.
    pub key: String,
    /// Where a click leads.
    pub href: String,
    /// Its name.
    pub name: &'a str,
    /// What it pays for a click.
    pub paid: Price,
    /// What its target affords.
    pub affords: Price,
    /// What it spent.
    pub spend: f64,
    /// The CPC that its next step leads to.
    pub next: Option<Price>,
    /// Whether it is the one looked at.
    pub here: bool,
}

struct Circle {
    key: String,
    href: String,
    x: f64,
    y: f64,
    r: f64,
    over: bool,
    here: bool,
    next: Option<f64>,
    readout: String,
    label: Option<Label>,
}

struct Label {
    x: f64,
    y: f64,
    anchor: &'static str,
    text: String,
}

/// The picture.
#[derive(Template)]
#[template(path = "chart/paid_and_afforded.html")]
pub struct PaidAndAfforded {
    width: f64,
    right: f64,
    suffix: &'static str,
    currency: String,
    summary: String,
    circles: Vec<Circle>,
    across: Vec<Mark>,
    up: Vec<Mark>,
}

impl PaidAndAfforded {
    /// Of campaigns that pay something and have a target that affords something; none of none.
    pub fn new(payers: &[Payer], currency: &str, form: Form) -> Option<Self> {
        let prices = payers.iter().flat_map(|p| {
            [Some(p.paid), Some(p.affords), p.next].into_iter().flatten().map(Price::units)
        });
        let low = prices.clone().fold(f64::INFINITY, f64::min);
        let high = prices.fold(0.0, f64::max);
        if payers.is_empty() || low <= 0.0 {
            return None;
        }
        let width = form.width(WIDTH);
        let right = width - if form == Form::Wide { END } else { 20.0 };
        let reach = reach(low, high);
        let (across, up) = (LogScale::new(reach, LEFT, right), LogScale::new(reach, BASE, TOP));
        let most = payers.iter().map(|p| p.spend).fold(0.0, f64::max).max(1e-9);
        let mut circles: Vec<Circle> = payers
            .iter()
            .map(|p| Circle {
                key: p.key.clone(),
                href: p.href.clone(),
                x: across.at(p.paid.units()),
                y: up.at(p.affords.units()),
                r: super::at((LARGEST * (p.spend / most).sqrt()).max(SMALLEST)),
                over: p.paid > p.affords,
                here: p.here,
                next: p.next.map(|n| across.at(n.units())),
                readout: readout(p),
                label: None,
            })
            .collect();
        // The large ones below, so that none is hidden; their names are written first.
        let mut order: Vec<usize> = (0..circles.len()).collect();
        order.sort_by(|a, b| circles[*b].r.total_cmp(&circles[*a].r));
        write_names(&mut circles, payers, &order, width);
        circles.sort_by(|a, b| b.r.total_cmp(&a.r));
        Some(Self {
            width,
            right,
            suffix: form.suffix(),
            currency: currency.to_owned(),
            summary: summary(payers),
            circles,
            across: across.marks(),
            up: up.marks(),
        })
    }
}

/// From the least to the greatest price with some air, and wide enough to see ratios by.
fn reach(low: f64, high: f64) -> (f64, f64) {
    let air = 1.18;
    let widen = (LEAST_REACH / (high / low)).max(1.0).sqrt();
    (low / air / widen, high * air * widen)
}

fn readout(p: &Payer) -> String {
    let off = (p.paid / p.affords - 1.0).abs();
    let side = if p.paid > p.affords { "more" } else { "less" };
    let next = p.next.map_or(String::new(), |n| format!("; next step {}", money(n)));
    format!(
        "{}: pays {} a click, its target affords {}: {}% {side}{next}; spent {}",
        p.name,
        money(p.paid),
        money(p.affords),
        percent(off),
        sum(p.spend)
    )
}

fn summary(payers: &[Payer]) -> String {
    let over: Vec<&Payer> = payers.iter().filter(|p| p.paid > p.affords).collect();
    let worst = over.iter().max_by(|a, b| (a.paid / a.affords).total_cmp(&(b.paid / b.affords)));
    let all = payers.len();
    match worst {
        None => format!("None of {all} campaigns pays more for a click than its target affords."),
        Some(w) => format!(
            "{} of {all} campaigns pay more for a click than their targets afford; by the most {}, which pays {} where {} is affordable.",
            over.len(),
            w.name,
            money(w.paid),
            money(w.affords)
        ),
    }
}

/// Names beside their circles, where they hide nothing: to the right, to the left, above or below, or not at all.
fn write_names(circles: &mut [Circle], payers: &[Payer], order: &[usize], width: f64) {
    const HIGH: f64 = 14.0;
    type Box = (f64, f64, f64, f64);
    let apart = |a: &Box, b: &Box| a.2 <= b.0 || b.2 <= a.0 || a.3 <= b.1 || b.3 <= a.1;
    let mut taken: Vec<Box> =
        circles.iter().map(|c| (c.x - c.r, c.y - c.r, c.x + c.r, c.y + c.r)).collect();
    for &i in order {
        let (x, y, r) = (circles[i].x, circles[i].y, circles[i].r);
        let text = cut(payers[i].name, LONGEST_NAME);
        let long = text.chars().count() as f64 * (UNIT + 0.4);
        // The line to the next step is not written over.
        let (west, east) = circles[i].next.map_or((x, x), |n| (n.min(x), n.max(x)));
        let places: [(f64, f64, &'static str, Box); 4] = [
            (
                east + r + 5.0,
                y + 4.0,
                "start",
                (east + r + 3.0, y - HIGH / 2.0, east + r + 5.0 + long, y + HIGH / 2.0),
            ),
            (
                west - r - 5.0,
                y + 4.0,
                "end",
                (west - r - 5.0 - long, y - HIGH / 2.0, west - r - 3.0, y + HIGH / 2.0),
            ),
            (
                x,
                y - r - 4.0,
                "middle",
                (x - long / 2.0, y - r - 4.0 - HIGH, x + long / 2.0, y - r - 1.0),
            ),
            (
                x,
                y + r + 13.0,
                "middle",
                (x - long / 2.0, y + r + 1.0, x + long / 2.0, y + r + 1.0 + HIGH),
            ),
        ];
        let fits = |b: &Box| {
            b.0 >= LEFT + 2.0
                && b.2 <= width
                && b.1 >= TOP - 8.0
                && b.3 <= BASE
                && taken.iter().all(|t| apart(t, b))
        };
        if let Some((at_x, at_y, anchor, area)) = places.into_iter().find(|(_, _, _, b)| fits(b)) {
            taken.push(area);
            circles[i].label = Some(Label { x: super::at(at_x), y: super::at(at_y), anchor, text });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn payer(name: &str, paid: f64, affords: f64, spend: f64, next: Option<f64>) -> Payer<'_> {
        Payer {
            key: name.into(),
            href: "#".into(),
            name,
            paid: Price(paid),
            affords: Price(affords),
            spend,
            next: next.map(Price),
            here: false,
        }
    }

    #[test]
    fn who_pays_too_much_lies_under_the_diagonal() {
        let all = [
            payer("Courses", 11.2, 7.5, 11_000.0, Some(9.35)),
            payer("Names", 2.0, 4.0, 3_000.0, None),
            payer("Even", 3.0, 3.0, 500.0, None),
        ];
        let chart = PaidAndAfforded::new(&all, "EUR", Form::Wide).unwrap();
        let of = |key: &str| chart.circles.iter().find(|c| c.key == key).unwrap();
        // On the diagonal, as far from the left as from the bottom.
        let even = of("Even");
        let along = (even.x - LEFT) / (chart.right - LEFT);
        assert!((along - (BASE - even.y) / (BASE - TOP)).abs() < 0.01);
        assert!(of("Courses").over && !of("Names").over && !even.over);
        assert!(of("Courses").next.unwrap() < of("Courses").x, "down is to the left");
        assert!(of("Courses").r > of("Names").r);
        assert_eq!(chart.circles[0].key, "Courses", "the largest lies below the others");
        assert!(chart.summary.starts_with("1 of 3 campaigns"), "{}", chart.summary);
        assert!(chart.render().unwrap().contains("pays 11.20 a click, its target affords 7.50"));
    }

    #[test]
    fn names_never_lie_on_one_another() {
        let names: Vec<String> = (0..60).map(|i| format!("Campaign number {i}, search")).collect();
        let all: Vec<Payer> = names
            .iter()
            .enumerate()
            .map(|(i, n)| {
                payer(n, 2.0 + (i % 7) as f64 / 9.0, 2.0 + (i % 11) as f64 / 9.0, 100.0, None)
            })
            .collect();
        let chart = PaidAndAfforded::new(&all, "EUR", Form::Wide).unwrap();
        let boxes: Vec<(f64, f64, f64)> = chart
            .circles
            .iter()
            .filter_map(|c| c.label.as_ref())
            .map(|l| {
                let long = l.text.chars().count() as f64 * UNIT;
                let from = match l.anchor {
                    "start" => l.x,
                    "end" => l.x - long,
                    _ => l.x - long / 2.0,
                };
                (from, from + long, l.y)
            })
            .collect();
        assert!(boxes.len() >= 2 && boxes.len() < 60, "{}", boxes.len());
        for (i, a) in boxes.iter().enumerate() {
            for b in &boxes[i + 1..] {
                assert!(a.1 <= b.0 || b.1 <= a.0 || (a.2 - b.2).abs() >= 12.0, "{a:?} {b:?}");
            }
        }
    }

    #[test]
    fn of_nobody_there_is_no_picture() {
        assert!(PaidAndAfforded::new(&[], "EUR", Form::Wide).is_none());
        let one = [payer("One", 2.0, 2.0, 0.0, None)];
        let chart = PaidAndAfforded::new(&one, "EUR", Form::Narrow).unwrap();
        assert!(chart.across.len() >= 2, "one price still has an axis around it");
    }
}
