//! The CPA bridge: from the peers' cost to the campaign's, factor by factor; of the ACoS where a ROAS is the target.

use askama::Template;
use tiller_core::bridge::{Bridge, Factor};
use tiller_desk::numerals::{money, percent, signed};
use tiller_desk::wording::list;

use super::scale::{Mark, Scale};
use super::{Form, at};

const WIDTH: f64 = 760.0;
const TOP: f64 = 26.0;
const BASE: f64 = 186.0;
const LEFT: f64 = 44.0;
const BOX: f64 = 120.0;

struct Step {
    x: f64,
    middle: f64,
    y: f64,
    height: f64,
    class: &'static str,
    hatched: bool,
    amount: String,
    amount_class: &'static str,
    /// Its lines.
    caption: Vec<String>,
    join: Option<f64>,
}

/// The chart.
#[derive(Template)]
#[template(path = "chart/bridge.html")]
pub struct BridgeChart {
    width: f64,
    suffix: &'static str,
    steps: Vec<Step>,
    marks: Vec<Mark>,
    target: Option<f64>,
    summary: String,
    box_width: f64,
    join_width: f64,
}

/// An amount of the bridge: money per conversion, or a share of revenue.
fn amount(b: &Bridge, x: f64) -> String {
    match b.order_value {
        Some(_) => format!("{}%", percent(x)),
        None => money(x),
    }
}

impl BridgeChart {
    /// The bridge with captions for its first box, its factors in their order, and its last box; and the target
    /// where there is one, in the bridge's unit.
    pub fn new(b: &Bridge, captions: &[String], target: Option<f64>, form: Form) -> Self {
        let mut level = b.from;
        let mut spans = vec![(0.0, b.from)];
        for (_, effect) in b.effects() {
            spans.push((level, level + effect));
            level += effect;
        }
        spans.push((0.0, b.to));
        let last = spans.len() - 1;
        let ends = spans.iter().map(|(_, to)| *to);
        let most = ends.chain(target).fold(0.0, f64::max);
        let shown = if b.order_value.is_some() { 100.0 } else { 1.0 };
        let scale = Scale::up(shown * most * 1.1, BASE, BASE - TOP);
        let y = |x: f64| scale.y(shown * x);
        let width = form.width(WIDTH);
        let slot = (width - LEFT) / spans.len() as f64;
        let wide = BOX.min(0.75 * slot);
        let gap = (width - LEFT - spans.len() as f64 * wide) / last as f64;
        let steps = spans
            .into_iter()
            .zip(captions)
            .enumerate()
            .map(|(i, ((from, to), caption))| {
                let (low, high) = (f64::min(from, to), f64::max(from, to));
                let x = LEFT + i as f64 * (wide + gap);
                let (class, hatched, amount_class) = match (i, to > from) {
                    (0, _) => ("peer-box", false, "bold"),
                    (i, _) if i == last => ("body", false, "bold"),
                    (_, true) => ("over over-wash", true, "harm-text"),
                    _ => ("gain-box", false, "gain-text"),
                };
                let effect = i > 0 && i < last;
                Step {
                    x: at(x),
                    middle: at(x + wide / 2.0),
                    y: y(high),
                    height: at((y(low) - y(high)).max(1.0)),
                    class,
                    hatched,
                    amount: if effect {
                        signed(to - from, |x| amount(b, x))
                    } else {
                        amount(b, to)
                    },
                    amount_class,
                    caption: match form {
                        Form::Wide => vec![caption.clone()],
                        Form::Narrow => caption.split(", ").map(str::to_owned).collect(),
                    },
                    join: (i < last).then(|| y(to)),
                }
            })
            .collect();
        Self {
            width,
            suffix: form.suffix(),
            steps,
            marks: scale.marks(3),
            target: target.map(y),
            summary: summary(b),
            box_width: at(wide),
            join_width: at(gap),
        }
    }
}

fn summary(b: &Bridge) -> String {
    let what = if b.order_value.is_some() { "ACoS" } else { "CPA" };
    let parts: Vec<String> = b
        .effects()
        .map(|(factor, effect)| {
            let name = match factor {
                Factor::Cpc => "the price of a click",
                Factor::Cvr => "the conversion rate",
                Factor::OrderValue => "the order value",
            };
            let verb = if effect >= 0.0 { "adds" } else { "takes off" };
            format!("{name} {verb} {}", amount(b, effect.abs()))
        })
        .collect();
    let parts: Vec<&str> = parts.iter().map(String::as_str).collect();
    format!(
        "From the peers’ {what} of {} to {}: {}.",
        amount(b, b.from),
        amount(b, b.to),
        list(&parts)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_steps_join() {
        let b = Bridge { from: 27.56, cpc: 19.90, cvr: -7.91, order_value: None, to: 39.55 };
        let chart =
            BridgeChart::new(&b, &["a", "b", "c", "d"].map(String::from), Some(30.0), Form::Wide);
        let s = &chart.steps;
        assert_eq!(s[0].y, at(s[1].y + s[1].height), "the first step stands on the peers' CPA");
        assert_eq!(s[1].y, s[2].y);
        assert_eq!(s[3].y, at(s[2].y + s[2].height));
        assert!(s[1].hatched && !s[2].hatched);
        assert!(chart.render().unwrap().contains("+19.90"));
        assert_eq!(
            chart.summary,
            "From the peers’ CPA of 27.56 to 39.55: the price of a click adds 19.90 and the conversion rate takes off 7.91."
        );
    }

    #[test]
    fn returns_have_a_step_for_order_value() {
        let b = Bridge { from: 0.135, cpc: 0.0, cvr: 0.02, order_value: Some(0.159), to: 0.314 };
        let chart =
            BridgeChart::new(&b, &["a", "b", "c", "d", "e"].map(String::from), None, Form::Wide);
        let amounts: Vec<&str> = chart.steps.iter().map(|s| s.amount.as_str()).collect();
        assert_eq!(amounts, ["13.5%", "0.0%", "+2.0%", "+15.9%", "31.4%"]);
    }
}
