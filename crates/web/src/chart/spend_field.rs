//! The spend field: a block per campaign, width its results, height what one costs, so area its spend.

use askama::Template;
use tiller_core::{Price, Tally, Target};
use tiller_desk::numerals::{conversions, money, number, signed, sum};

use super::scale::{Mark, Scale};
use super::{Form, UNIT, at, fit};

const WIDTH: f64 = 1232.0;
const LEFT: f64 = 46.0;
const RIGHT: f64 = 92.0;
const TOP: f64 = 24.0;
const BASE: f64 = 236.0;
/// Width of the column of spend without results, and its distance.
const NONE_WIDTH: f64 = 26.0;
const NONE_GAP: f64 = 14.0;
/// Heights above this many targets are cut, and say so.
const CUT: f64 = 2.2;

/// What the field shows of one row.
#[derive(Clone, Debug)]
pub struct FieldRow<'a> {
    /// The row's key in the table.
    pub key: String,
    /// Where a click leads.
    pub href: String,
    /// Its name.
    pub name: &'a str,
    /// Its channel.
    pub sub: &'a str,
    /// What was counted.
    pub tally: Tally,
    /// What a result may cost.
    pub target: Target,
}

struct Block {
    key: String,
    href: String,
    x: f64,
    width: f64,
    body_top: f64,
    body_height: f64,
    over: Option<Rect>,
    room: Option<Rect>,
    own_target: Option<f64>,
    name: String,
    sub: String,
    /// The name stands upright, where it fits no other way: its place.
    upright: Option<f64>,
    /// Above the block where it is too low for its name.
    name_at: f64,
    label: Option<String>,
    label_at: (f64, f64),
    cut: bool,
    readout: String,
    frame_top: f64,
    frame_height: f64,
}

struct Rect {
    y: f64,
    height: f64,
}

/// The chart.
#[derive(Template)]
#[template(path = "chart/spend_field.html")]
pub struct SpendField {
    width: f64,
    suffix: &'static str,
    unit: String,
    /// What a block's width is.
    pub width_word: &'static str,
    /// What its height is.
    pub height_word: &'static str,
    blocks: Vec<Block>,
    marks: Vec<Mark>,
    target: Option<Mark>,
    nothing: Option<Nothing>,
    right_end: f64,
    summary: String,
    /// Whether a block is taller than there is room for.
    pub any_cut: bool,
}

struct Nothing {
    x: f64,
    y: f64,
    height: f64,
    total: String,
    readout: String,
    href: String,
}

/// Height and width of a row: cost per conversion over conversions, or ACoS (in %) over value.
fn sides(t: &Tally, by_value: bool) -> (f64, f64) {
    if by_value {
        (t.acos().map_or(0.0, |a| 100.0 * a), t.value.to_units())
    } else {
        (t.cpa().map_or(0.0, Price::units), t.conversions)
    }
}

fn height_of(target: Target) -> f64 {
    match target {
        Target::Cpa(cpa) => cpa.units(),
        Target::Roas(x) => 100.0 / x,
    }
}

impl SpendField {
    /// Whether anything was spent without a result.
    pub fn has_nothing(&self) -> bool {
        self.nothing.is_some()
    }

    /// The field of rows with targets; none if nothing was spent.
    pub fn new(
        rows: &[FieldRow],
        default: Option<Target>,
        by_value: bool,
        currency: &str,
        form: Form,
    ) -> Option<Self> {
        let full = form.width(WIDTH);
        let same_kind = |r: &&FieldRow| {
            matches!(r.target, Target::Roas(_)) == by_value && r.tally.spend.get() > 0
        };
        let (mut with, without): (Vec<&FieldRow>, Vec<&FieldRow>) =
            rows.iter().filter(same_kind).partition(|r| sides(&r.tally, by_value).1 > 0.0);
        if with.is_empty() && without.is_empty() {
            return None;
        }
        with.sort_by(|a, b| sides(&b.tally, by_value).0.total_cmp(&sides(&a.tally, by_value).0));
        let line = default.filter(|t| matches!(t, Target::Roas(_)) == by_value).map(height_of);
        let highest = with.iter().map(|r| sides(&r.tally, by_value).0).fold(0.0, f64::max);
        let cut = line.map_or(highest, |l| (CUT * l).min(highest)).max(line.unwrap_or(0.0) * 1.4);
        let scale = Scale::up(cut * 1.04, BASE, BASE - TOP);
        let all: f64 = with.iter().map(|r| sides(&r.tally, by_value).1).sum();
        let room =
            full - LEFT - RIGHT - if without.is_empty() { 0.0 } else { NONE_WIDTH + NONE_GAP };
        let mut x = LEFT;
        let mut blocks = Vec::new();
        for row in with {
            let width = sides(&row.tally, by_value).1 / all * room;
            blocks.push(block(row, x, width, &scale, cut, line, by_value));
            x += width;
        }
        let nothing =
            (!without.is_empty()).then(|| nothing(&without, x + NONE_GAP, &scale, all / room));
        let summary = finding(&rows_with(rows, by_value), nothing.as_ref());
        Some(Self {
            width: full,
            suffix: form.suffix(),
            unit: if by_value { "ACoS, %".into() } else { format!("CPA, {currency}") },
            width_word: if by_value { "value" } else { "conversions" },
            height_word: if by_value { "ACoS" } else { "CPA" },
            right_end: at(nothing.as_ref().map_or(x, |n| n.x + NONE_WIDTH)),
            blocks,
            marks: scale.marks(4),
            target: line.map(|l| Mark {
                at: scale.y(l),
                text: if by_value {
                    format!("{}% target", number(l, 1))
                } else {
                    format!("{} target", money(l).trim_end_matches(".00"))
                },
            }),
            nothing,
            any_cut: highest > cut,
            summary,
        })
    }
}

/// What stands in a block.
struct Written {
    lines: (String, String),
    upright: bool,
}

/// A name in its block: on one line over its channel, on two, or standing; cut only where no form shows all of it.
fn written(row: &FieldRow, width: f64, tall: f64, after: Option<&str>) -> Written {
    let room = ((width - 12.0) / UNIT).max(0.0) as usize;
    let long = |text: &str| text.chars().count();
    let flat = |a: &str, b: String| Written { lines: (a.to_owned(), b), upright: false };
    if long(row.name) <= room {
        return flat(row.name, fit(row.sub, width - 12.0));
    }
    let spaces = row.name.match_indices(' ').map(|(i, _)| row.name.split_at(i));
    let two = spaces.rev().find(|(a, b)| long(a) <= room && long(b.trim_start()) <= room);
    if let Some((a, b)) = two {
        return flat(a, b.trim_start().to_owned());
    }
    if width < 15.0 || tall / UNIT < (room as f64).max(6.0) {
        return flat(&fit(row.name, width - 12.0), fit(row.sub, width - 12.0));
    }
    let with = after.filter(|after| long(row.name) + long(after) <= (tall / UNIT) as usize);
    let name = fit(row.name, tall) + with.unwrap_or_default();
    Written { lines: (name, String::new()), upright: true }
}

/// The rows whose target is of the field's kind and that had results.
fn rows_with<'a, 'r>(rows: &'r [FieldRow<'a>], by_value: bool) -> Vec<&'r FieldRow<'a>> {
    let of_kind = |r: &&FieldRow| matches!(r.target, Target::Roas(_)) == by_value;
    rows.iter().filter(of_kind).filter(|r| sides(&r.tally, by_value).1 > 0.0).collect()
}

/// What the field shows, in a sentence or two.
fn finding(rows: &[&FieldRow], nothing: Option<&Nothing>) -> String {
    let excess = |r: &&&FieldRow| r.target.excess(&r.tally);
    let over: Vec<&&FieldRow> = rows.iter().filter(|r| excess(r) > 0.0).collect();
    let all: f64 = over.iter().map(excess).sum();
    let worst = over.iter().max_by(|a, b| excess(a).total_cmp(&excess(b)));
    let first = match worst {
        None => format!("None of {} stands above target.", rows.len()),
        Some(worst) => format!(
            "{} of {} stand above target, by {} in all; {} alone by {}.",
            over.len(),
            rows.len(),
            sum(all),
            worst.name,
            sum(excess(worst))
        ),
    };
    let rest = nothing.map(|n| format!(" {} was spent without a result.", n.total));
    first + &rest.unwrap_or_default()
}

fn block(
    row: &FieldRow,
    x: f64,
    width: f64,
    scale: &Scale,
    cut: f64,
    line: Option<f64>,
    by_value: bool,
) -> Block {
    let (height, _) = sides(&row.tally, by_value);
    let target = height_of(row.target);
    let (top, target_y) = (scale.y(height.min(cut)), scale.y(target));
    let body_top = top.max(target_y);
    let excess = row.target.excess(&row.tally);
    let over = (height > target).then(|| Rect { y: top, height: at(target_y - top) });
    let room = (height < target).then(|| Rect { y: target_y, height: at(top - target_y) });
    let wide = width > 44.0;
    let label = over
        .as_ref()
        .filter(|_| wide)
        .map(|_| if width > 90.0 { format!("{} over", sum(excess)) } else { sum(excess) });
    let result = if by_value {
        format!(
            "value {}, ROAS {}",
            sum(row.tally.value.to_units()),
            row.tally.roas().map_or(String::new(), |r| number(r, 2))
        )
    } else {
        format!("{} at {}", conversions(row.tally.conversions), money(height))
    };
    let readout = format!(
        "{} ({}): spend {}, {result}, {} against target",
        row.name,
        row.sub,
        sum(row.tally.spend.to_units()),
        signed(excess, sum)
    );
    let frame_top = top.min(target_y);
    let label_in_it = (over.is_some() && !wide).then(|| format!(", {} over", sum(excess)));
    let written = written(row, width, BASE - target_y - 12.0, label_in_it.as_deref());
    Block {
        key: row.key.clone(),
        href: row.href.clone(),
        x: at(x),
        width: at(width),
        body_top,
        body_height: at(BASE - body_top),
        own_target: line.filter(|l| (l - target).abs() > 1e-9).map(|_| target_y),
        upright: written.upright.then(|| at(x + width / 2.0 + 4.0)),
        name: written.lines.0,
        sub: written.lines.1,
        name_at: if BASE - top < 44.0 { at(top - 20.0) } else { 214.0 },
        label,
        label_at: (at(x + width / 2.0), at(top - 6.0)),
        cut: height > cut,
        over,
        room,
        readout,
        frame_top,
        frame_height: at(BASE - frame_top),
    }
}

/// Spend without a result: a column as tall as its area asks, pure excess.
fn nothing(rows: &[&FieldRow], x: f64, scale: &Scale, results_per_unit: f64) -> Nothing {
    let spend: f64 = rows.iter().map(|r| r.tally.spend.to_units()).sum();
    let height = spend / (results_per_unit.max(1e-9) * NONE_WIDTH);
    let y = scale.y(height).min(BASE - 4.0);
    let names: Vec<&str> = rows.iter().take(4).map(|r| r.name).collect();
    let more = rows.len().saturating_sub(4);
    let readout = format!(
        "{} spent without a result: {}{}",
        sum(spend),
        names.join(", "),
        if more > 0 { format!(" and {more} more") } else { String::new() }
    );
    Nothing {
        x: at(x),
        y,
        height: at(BASE - y),
        total: sum(spend),
        readout,
        href: rows[0].href.clone(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::{Micros, Price};

    fn row(name: &str, spend: f64, conversions: f64) -> FieldRow<'_> {
        let tally = Tally { spend: Micros::from_units(spend), conversions, ..Tally::default() };
        FieldRow {
            key: name.into(),
            href: "/x".into(),
            name,
            sub: "Findle",
            tally,
            target: Target::Cpa(Price(30.0)),
        }
    }

    #[test]
    fn areas_are_spends() {
        let rows = [row("a", 600.0, 10.0), row("b", 300.0, 15.0), row("c", 450.0, 15.0)];
        let field =
            SpendField::new(&rows, Some(Target::Cpa(Price(30.0))), false, "EUR", Form::Wide)
                .unwrap();
        let area = |b: &Block| b.width * (BASE - b.over.as_ref().map_or(b.body_top, |o| o.y));
        let unit = area(&field.blocks[0]) / 600.0;
        for (block, spend) in field.blocks.iter().zip([600.0, 450.0, 300.0]) {
            assert!((area(block) / spend / unit - 1.0).abs() < 0.01, "{}", block.name);
        }
        assert!(field.blocks[0].over.is_some() && field.blocks[2].room.is_some());
        assert!(field.render().unwrap().contains("300 over"));
    }

    #[test]
    fn spend_without_results_stands_apart() {
        let rows = [row("a", 600.0, 20.0), row("b", 410.0, 0.0)];
        let field =
            SpendField::new(&rows, Some(Target::Cpa(Price(30.0))), false, "EUR", Form::Wide)
                .unwrap();
        assert_eq!(field.nothing.as_ref().unwrap().total, "410");
        assert!(SpendField::new(&[], None, false, "EUR", Form::Wide).is_none());
        assert!(
            SpendField::new(&[row("b", 410.0, 0.0)], None, false, "EUR", Form::Wide)
                .unwrap()
                .render()
                .is_ok()
        );
    }
}
