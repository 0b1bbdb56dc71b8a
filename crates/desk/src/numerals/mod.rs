//! Numbers as people read them: thin spaces between thousands, a true minus, – for what is absent.

pub mod typed_number;

use std::cell::Cell;

use chrono::NaiveDate;
use tiller_core::{Currency, Target, Window};

/// Narrow, and no line breaks at it.
const THIN: char = '\u{202f}';
/// What stands for an absent figure.
pub const ABSENT: &str = "–";

/// A number with so many decimals.
pub fn number(x: f64, decimals: usize) -> String {
    // Halves go up, as people round; the formatter alone would take them to the even digit.
    let unit = 10f64.powi(decimals as i32);
    let text = format!("{:.decimals$}", (x.abs() * unit).round() / unit);
    let (whole, part) = text.split_once('.').unwrap_or((&text, ""));
    let mut out = String::new();
    if x < 0.0 && text.bytes().any(|b| (b'1'..=b'9').contains(&b)) {
        out.push('−');
    }
    for (i, c) in whole.chars().enumerate() {
        if i > 0 && (whole.len() - i) % 3 == 0 {
            out.push(THIN);
        }
        out.push(c);
    }
    if !part.is_empty() {
        out.push('.');
        out.push_str(part);
    }
    out
}

tokio::task_local! {
    /// Decimals of the smallest coin of the account that is being answered.
    static DECIMALS: Cell<usize>;
}

/// Answers an account: money is told in its coins once [`in_currency`] has said which those are. Every page tells
/// money in dozens of places, and all of it is of one account.
pub async fn of_one_account<T>(answer: impl Future<Output = T>) -> T {
    DECIMALS.scope(Cell::new(CENTS), answer).await
}

/// From here on, money in this answer is of a currency.
pub fn in_currency(currency: Currency) {
    // Outside of an answer nobody reads it.
    let _ = DECIMALS.try_with(|d| d.set(currency.minor_digits() as usize));
}

/// Decimals where nobody has said otherwise.
const CENTS: usize = 2;

/// Money: whole units from 1 000 on, coins below. Where there are none, a fraction is a mean, and has a decimal while
/// it is small.
pub fn money(x: impl Into<f64>) -> String {
    let x = x.into();
    let coins = DECIMALS.try_with(Cell::get).unwrap_or(CENTS);
    let decimals = match coins {
        _ if x.abs() >= 999.995 => 0,
        0 => usize::from(x.abs() < 9.95 && (x - x.round()).abs() >= 0.05),
        coins => coins,
    };
    number(x, decimals)
}

/// A target: money for a CPA, a factor for a ROAS.
pub fn target(of: Target) -> String {
    match of {
        Target::Cpa(x) => money(x),
        Target::Roas(x) => number(x, 2),
    }
}

/// A large sum of money: whole units.
pub fn sum(x: f64) -> String {
    number(x, 0)
}

/// A count that may be fractional.
pub fn count(x: f64) -> String {
    number(x, if (x - x.round()).abs() < 0.005 || x.abs() >= 1000.0 { 0 } else { 1 })
}

/// A share as a percentage, without the sign: columns carry it in their header.
pub fn percent(x: f64) -> String {
    let x = x * 100.0;
    number(
        x,
        if x.abs() >= 99.95 {
            0
        } else if x.abs() >= 0.995 || x == 0.0 {
            1
        } else {
            2
        },
    )
}

/// With a plus sign where it is above 0.
pub fn signed(x: f64, text: impl Fn(f64) -> String) -> String {
    let out = text(x);
    if x > 0.0 && out.bytes().any(|b| (b'1'..=b'9').contains(&b)) { format!("+{out}") } else { out }
}

/// Or – where it is absent.
pub fn or_absent<T>(x: Option<T>, text: impl Fn(T) -> String) -> String {
    x.map_or_else(|| ABSENT.to_owned(), text)
}

/// A probability in words that don't pretend: never 0% or 100%.
pub fn probability(p: f64) -> String {
    match p {
        p if p > 0.995 => "over 99%".into(),
        p if p < 0.005 => "under 1%".into(),
        p => format!("{:.0}%", p * 100.0),
    }
}

/// 9 Nov.
pub fn day(d: NaiveDate) -> String {
    d.format("%-d %b").to_string()
}

/// 9 Nov 2026.
pub fn full_day(d: NaiveDate) -> String {
    d.format("%-d %b %Y").to_string()
}

/// `1 day`, `3 days`.
pub fn counted(n: u64, one: &str, many: &str) -> String {
    format!("{} {}", number(n as f64, 0), if n == 1 { one } else { many })
}

/// A name of so many characters at most. What tells long names apart often stands at their end: the middle is cut.
pub fn cut(name: &str, room: usize) -> String {
    let long = name.chars().count();
    if long <= room {
        return name.to_owned();
    }
    let kept = room.saturating_sub(1);
    let (head, tail) = (kept - kept * 2 / 5, kept * 2 / 5);
    let start: String = name.chars().take(head).collect();
    let end: String = name.chars().skip(long - tail).collect();
    format!("{}…{}", start.trim_end(), end.trim_start())
}

/// `1 conversion`, `2.5 conversions`.
pub fn conversions(x: f64) -> String {
    let one = (x - 1.0).abs() < 0.005;
    format!("{} {}", count(x), if one { "conversion" } else { "conversions" })
}

/// Some of the names, and how many more.
pub fn listed(names: &[String]) -> String {
    match names {
        [a, b, c, rest @ ..] if !rest.is_empty() => {
            format!("{a}, {b}, {c} and {} more", rest.len())
        }
        names => names.join(", "),
    }
}

/// `11 Oct – 7 Nov`, with years where it crosses one.
pub fn span(w: Window) -> String {
    if w.from().format("%Y").to_string() == w.to().format("%Y").to_string() {
        format!("{} – {}", day(w.from()), day(w.to()))
    } else {
        format!("{} – {}", full_day(w.from()), full_day(w.to()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn money_is_told_in_the_coins_of_its_currency() {
        let told = async |currency: &str| {
            let currency = currency.parse().unwrap();
            of_one_account(async {
                in_currency(currency);
                [400.0, 45.31, 3.42, 12_345.6].map(money).join(" ")
            })
            .await
        };
        assert_eq!(told("JPY").await, "400 45 3.4 12\u{202f}346");
        assert_eq!(told("KWD").await, "400.000 45.310 3.420 12\u{202f}346");
        assert_eq!(told("EUR").await, "400.00 45.31 3.42 12\u{202f}346");
        assert_eq!(money(3.42), "3.42", "nobody said otherwise");
    }

    #[test]
    fn long_names_keep_both_ends() {
        assert_eq!(cut("Spring courses, search", 30), "Spring courses, search");
        let (a, b) =
            (cut("Amberfold, courses, Denmark", 20), cut("Amberfold, courses, Norway", 20));
        assert_eq!((a.as_str(), b.as_str()), ("Amberfold, c…Denmark", "Amberfold, c…Norway"));
        assert!(a != b && a.chars().count() <= 20);
    }

    #[test]
    fn numbers() {
        assert_eq!(number(1_234_567.891, 2), "1\u{202f}234\u{202f}567.89");
        assert_eq!(number(-0.001, 2), "0.00");
        assert_eq!(money(-11_604.4), "−11\u{202f}604");
        assert_eq!(number(400.5, 0), "401");
        assert_eq!(money(9.4), "9.40");
        assert_eq!(count(296.0), "296");
        assert_eq!(count(2.5), "2.5");
        assert_eq!(percent(0.286), "28.6");
        assert_eq!(percent(0.0021), "0.21");
        assert_eq!(signed(3.0, money), "+3.00");
        assert_eq!(signed(0.0, money), "0.00");
        assert_eq!(or_absent(None::<f64>, money), "–");
        assert_eq!(probability(0.9999), "over 99%");
    }
}
