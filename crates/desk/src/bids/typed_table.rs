//! The table of conditions as a form: written for reading, and read back.

use tiller_core::strategy::{Aim, Bound, Kind, Row, Table, Values, When};

use crate::numerals::{number, typed_number};

/// A row as it is typed.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct TypedRow {
    /// Its place, from 1.
    pub place: String,
    /// What the campaign is run for; empty: whatever.
    pub aim: String,
    /// What is known of its values.
    pub values: String,
    /// `under 10`, `10 or more`, or nothing.
    pub conversions: String,
    /// The same, of days since its first conversion.
    pub history: String,
    /// The same, of days that it runs.
    pub flight: String,
    /// `yes`, `no`, or nothing.
    pub target_known: String,
    /// `yes`, `no`, or nothing.
    pub fears_runaway: String,
    /// What is advised; empty: no row.
    pub advice: String,
    /// Why.
    pub because: String,
    /// What would change it.
    pub would_change: String,
}

/// A limit in words.
pub fn bound(b: Bound) -> String {
    let text = |x: f64| number(x, usize::from(x.fract() != 0.0));
    match b {
        Bound::Under(x) => format!("under {}", text(x)),
        Bound::AtLeast(x) => format!("{} or more", text(x)),
    }
}

fn read_bound(typed: &str) -> Result<Option<Bound>, String> {
    let typed = typed.trim().to_lowercase();
    let of = |text: &str, make: fn(f64) -> Bound| {
        let read = typed_number::amount(text, None).ok().flatten();
        read.map(make)
            .map(Some)
            .ok_or_else(|| format!("‘{typed}’ is no limit; type ‘under 10’ or ‘10 or more’"))
    };
    let after =
        |marks: &[&str]| marks.iter().find_map(|m| typed.strip_prefix(m)).map(str::to_owned);
    if typed.is_empty() {
        Ok(None)
    } else if let Some(rest) = after(&["under", "<", "below", "less than"]) {
        of(&rest, Bound::Under)
    } else if let Some(rest) = after(&["at least", "≥", ">=", "from"]) {
        of(&rest, Bound::AtLeast)
    } else {
        of(typed.strip_suffix("or more").unwrap_or(&typed), Bound::AtLeast)
    }
}

fn read_yes(typed: &str) -> Option<bool> {
    match typed {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    }
}

/// Rows as they are typed.
pub fn written(table: &Table) -> Vec<TypedRow> {
    let yes = |b: Option<bool>| b.map_or("", |b| if b { "yes" } else { "no" }).to_owned();
    let limit = |b: Option<Bound>| b.map(bound).unwrap_or_default();
    let row = |(i, r): (usize, &Row)| TypedRow {
        place: (i + 1).to_string(),
        aim: r.when.aim.map_or("", Aim::word).into(),
        values: r.when.values.map_or("", Values::word).into(),
        conversions: limit(r.when.conversions),
        history: limit(r.when.history),
        flight: limit(r.when.flight),
        target_known: yes(r.when.target_known),
        fears_runaway: yes(r.when.fears_runaway),
        advice: r.advice.word().into(),
        because: r.because.clone(),
        would_change: r.would_change.clone(),
    };
    table.rows().iter().enumerate().map(row).collect()
}

/// The table that rows say, in the order of their places, or all that is wrong with them.
pub fn read(typed: &[TypedRow]) -> Result<Table, Vec<String>> {
    let mut errors = Vec::new();
    let mut rows: Vec<(f64, Row)> = Vec::new();
    for (i, t) in typed.iter().enumerate() {
        let Some(advice) = Kind::read(&t.advice) else { continue };
        let mut limit = |typed: &str| {
            read_bound(typed).unwrap_or_else(|why| {
                errors.push(format!("row {}: {why}", i + 1));
                None
            })
        };
        let when = When {
            aim: Aim::read(&t.aim),
            values: Values::read(&t.values),
            conversions: limit(&t.conversions),
            history: limit(&t.history),
            flight: limit(&t.flight),
            target_known: read_yes(&t.target_known),
            fears_runaway: read_yes(&t.fears_runaway),
        };
        let place = typed_number::amount(&t.place, None).ok().flatten().unwrap_or(f64::MAX);
        let said = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
        let (because, would_change) = (said(&t.because), said(&t.would_change));
        rows.push((place, Row { when, advice, because, would_change }));
    }
    if !errors.is_empty() {
        return Err(errors);
    }
    rows.sort_by(|a, b| a.0.total_cmp(&b.0));
    let rows = rows.into_iter().map(|(_, row)| row).collect();
    Table::new(rows).map_err(|faults| faults.iter().map(ToString::to_string).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_back() {
        let shipped = Table::shipped();
        assert_eq!(read(&written(&shipped)).unwrap(), shipped);
    }

    #[test]
    fn places_give_the_order_and_rows_without_advice_go() {
        let mut typed = written(&Table::shipped());
        let last = typed.len() - 1;
        typed[last].place = "0".into();
        // A row without conditions at the top leaves what manual CPC says below it with nothing to add.
        let errors = read(&typed).unwrap_err();
        assert!(errors.iter().any(|e| e.contains("never tells anybody anything")), "{errors:?}");
        typed.truncate(1);
        typed[0].advice.clear();
        assert!(read(&typed).unwrap_err()[0].contains("no row holds"));
    }

    #[test]
    fn limits_are_read_as_people_write_them() {
        for (typed, is) in [
            ("under 10", Bound::Under(10.0)),
            ("< 1 000", Bound::Under(1000.0)),
            ("10 or more", Bound::AtLeast(10.0)),
            ("≥10", Bound::AtLeast(10.0)),
            ("at least 2.5", Bound::AtLeast(2.5)),
        ] {
            assert_eq!(read_bound(typed), Ok(Some(is)), "{typed}");
        }
        assert_eq!(read_bound("  "), Ok(None));
        assert!(read_bound("some").unwrap_err().contains("‘some’ is no limit"));
    }
}
