//! How a file writes numbers and dates.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

/// How a file writes numbers and dates.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dialect {
    /// Between fields.
    pub delimiter: char,
    /// Decimal mark: `.` or `,`. The other one, spaces and `'` may group thousands.
    pub decimal: char,
    /// Order of the parts of a date.
    pub date_order: DateOrder,
}

impl Default for Dialect {
    fn default() -> Self {
        Self { delimiter: ',', decimal: '.', date_order: DateOrder::YearFirst }
    }
}

/// Order of the parts of a date.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DateOrder {
    /// 2026-11-09.
    YearFirst,
    /// 9.11.2026.
    DayFirst,
    /// 11/9/2026.
    MonthFirst,
}

impl DateOrder {
    /// An example of it.
    pub fn example(self) -> &'static str {
        match self {
            Self::YearFirst => "2026-11-09",
            Self::DayFirst => "9.11.2026",
            Self::MonthFirst => "11/9/2026",
        }
    }
}

impl Dialect {
    /// Reads a date whose parts are set apart by `-`, `.` or `/`; a time of day behind it is passed over.
    pub fn date(&self, text: &str) -> Option<NaiveDate> {
        let day = text.split(['T', ' ']).next()?;
        let mut parts = day.splitn(3, ['-', '.', '/']);
        let (a, b, c) = (parts.next()?, parts.next()?, parts.next()?);
        let (year, month, day) = match self.date_order {
            DateOrder::YearFirst => (a, b, c),
            DateOrder::DayFirst => (c, b, a),
            DateOrder::MonthFirst => (c, a, b),
        };
        let year: i32 = year.parse().ok().filter(|y| (1990..2200).contains(y))?;
        NaiveDate::from_ymd_opt(year, month.parse().ok()?, day.parse().ok()?)
    }

    /// A number as digits with a decimal point, its grouping marks removed; none if it is no number.
    /// Percent and currency signs are not taken off: they tell of another quantity.
    pub fn plain_number<'a>(&self, text: &'a str, buffer: &'a mut String) -> Option<&'a str> {
        let simple = |b: u8| b.is_ascii_digit() || b == b'-' || (b == b'.' && self.decimal == '.');
        if text.bytes().all(simple) {
            return Some(text);
        }
        buffer.clear();
        let grouping = if self.decimal == '.' { ',' } else { '.' };
        let mut since_group: Option<u32> = None;
        let mut decimal = false;
        for c in text.chars() {
            match c {
                '0'..='9' => {
                    buffer.push(c);
                    if !decimal {
                        since_group = since_group.map(|n| n + 1);
                    }
                }
                '-' | '−' if buffer.is_empty() => buffer.push('-'),
                c if c == self.decimal && !decimal => {
                    decimal = true;
                    buffer.push('.');
                }
                // A grouping mark stands before three digits, so that 1,5 is not read as 15.
                c if (c == grouping
                    || matches!(c, ' ' | '\u{a0}' | '\u{202f}' | '\u{2009}' | '\''))
                    && !decimal
                    && buffer.ends_with(|d: char| d.is_ascii_digit())
                    && since_group.is_none_or(|n| n == 3) =>
                {
                    since_group = Some(0);
                }
                _ => return None,
            }
        }
        since_group.is_none_or(|n| n == 3).then_some(buffer.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn number(decimal: char, text: &str) -> Option<String> {
        let dialect = Dialect { decimal, ..Dialect::default() };
        dialect.plain_number(text, &mut String::new()).map(str::to_owned)
    }

    #[test]
    fn numbers_of_both_kinds() {
        assert_eq!(number('.', "1,250.50").as_deref(), Some("1250.50"));
        assert_eq!(number(',', "1.250,50").as_deref(), Some("1250.50"));
        assert_eq!(number(',', "12 345 678,9").as_deref(), Some("12345678.9"));
        assert_eq!(number('.', "1'250").as_deref(), Some("1250"));
        assert_eq!(number('.', "−3.5").as_deref(), Some("-3.5"));
    }

    #[test]
    fn a_mark_that_groups_no_thousand_is_refused() {
        for text in ["1,5", "1,25", "12,3456", "1,,250", ",5", "12%", "€3", "abc"] {
            assert_eq!(number('.', text), None, "{text}");
        }
    }

    #[test]
    fn dates_in_every_order() {
        let day = NaiveDate::from_ymd_opt(2026, 11, 9);
        for order in [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst] {
            let dialect = Dialect { date_order: order, ..Dialect::default() };
            assert_eq!(dialect.date(order.example()), day);
        }
        assert_eq!(Dialect::default().date("2026-11-09T00:00:00"), day);
        assert_eq!(Dialect::default().date("2026-02-30"), None);
        assert_eq!(Dialect::default().date("26-02-03"), None);
    }
}
