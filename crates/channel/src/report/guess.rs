//! Which header means what, from names and contents of the first rows.

use super::column::{Column, SPLITS};
use super::dialect::{DateOrder, Dialect};
use super::reader::Records;
use super::row::Mapping;

/// How many rows are looked at and shown.
pub const SAMPLE_ROWS: usize = 20;

/// What the first rows of a file suggest.
#[derive(Clone, Debug, PartialEq)]
pub struct Guess {
    /// The header row.
    pub headers: Vec<String>,
    /// The first rows below it.
    pub rows: Vec<Vec<String>>,
    /// Which field means what.
    pub mapping: Mapping,
    /// Headers of columns that split an item's day, such as a device.
    pub splits: Vec<String>,
}

/// Why a file can't be a report.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum GuessError {
    /// Nothing in it.
    #[error("the file is empty; export the report again and choose that file")]
    Empty,
    /// One column only, or no text.
    #[error("the file doesn't look like CSV with a header row: {0}")]
    NotCsv(&'static str),
}

/// Guesses from the beginning of a file, at most some 100 kB.
pub fn guess(sample: &[u8]) -> Result<Guess, GuessError> {
    if sample.trim_ascii().is_empty() {
        return Err(GuessError::Empty);
    }
    if sample.starts_with(b"PK\x03\x04") {
        return Err(GuessError::NotCsv("it is a spreadsheet or an archive; save it as CSV first"));
    }
    if sample.contains(&0) {
        return Err(GuessError::NotCsv("it holds binary data"));
    }
    let delimiter = delimiter(sample);
    let mut table = first_rows(sample, delimiter).into_iter();
    let headers = table.next().ok_or(GuessError::Empty)?;
    let rows: Vec<Vec<String>> = table.collect();
    if headers.len() < 2 {
        return Err(GuessError::NotCsv("it has one column only"));
    }
    let column = |i: usize| rows.iter().filter_map(move |r| r.get(i)).filter(|t| !t.is_empty());
    let mut columns = by_name(&headers);
    let date_order = date_order(&headers, &columns, &rows);
    let dialect =
        Dialect { delimiter, decimal: decimal_mark(delimiter, &columns, &rows), date_order };
    for i in 0..headers.len() {
        let taken = |c: Column| columns.contains(&Some(c));
        let all =
            |test: &dyn Fn(&str) -> bool| column(i).next().is_some() && column(i).all(|t| test(t));
        if columns[i].is_none() && !is_split(&headers[i]) {
            columns[i] = if !taken(Column::Date) && all(&|t| dialect.date(t).is_some()) {
                Some(Column::Date)
            } else if !taken(Column::Currency)
                && all(&|t| t.len() == 3 && t.bytes().all(|b| b.is_ascii_uppercase()))
            {
                Some(Column::Currency)
            } else {
                None
            };
        }
    }
    let splits = headers.iter().filter(|h| is_split(h)).cloned().collect();
    Ok(Guess {
        headers,
        rows,
        mapping: Mapping { columns, dialect, channel: None, currency: None },
        splits,
    })
}

fn first_rows(sample: &[u8], delimiter: char) -> Vec<Vec<String>> {
    let mut records = Records::new(sample, delimiter);
    let mut rows = Vec::new();
    while rows.len() <= SAMPLE_ROWS
        && let Ok(Some(record)) = records.next_record()
    {
        rows.push((0..record.len()).map(|i| record.field(i).into_owned()).collect());
    }
    rows
}

/// The candidate that cuts the most rows into as many fields as the header has.
fn delimiter(sample: &[u8]) -> char {
    let score = |d: char| {
        let rows = first_rows(sample, d);
        let fields = rows.first().map_or(0, Vec::len);
        if fields < 2 { 0 } else { fields * rows.iter().filter(|r| r.len() == fields).count() }
    };
    [',', ';', '\t', '|'].into_iter().max_by_key(|d| (score(*d), *d == ',')).unwrap_or(',')
}

fn normal(header: &str) -> String {
    let plain: String = header
        .chars()
        .map(|c| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { ' ' })
        .collect();
    plain.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn is_split(header: &str) -> bool {
    SPLITS.contains(&normal(header).replace(' ', "_").as_str())
}

/// Own names first, then other words; each column once, the leftmost header wins.
fn by_name(headers: &[String]) -> Vec<Option<Column>> {
    let mut columns: Vec<Option<Column>> = vec![None; headers.len()];
    let own = |c: Column, h: &str| h == c.name().replace('_', " ");
    let other = |c: Column, h: &str| c.other_names().contains(&h);
    for test in [own as fn(Column, &str) -> bool, other] {
        for &column in Column::ALL {
            let place = headers.iter().position(|h| test(column, &normal(h)));
            if let Some(i) =
                place.filter(|&i| columns[i].is_none() && !columns.contains(&Some(column)))
            {
                columns[i] = Some(column);
            }
        }
    }
    columns
}

/// The order in which all of the dates can be read; where several can, the ISO form, then day first.
fn date_order(headers: &[String], columns: &[Option<Column>], rows: &[Vec<String>]) -> DateOrder {
    let dated = columns.iter().position(|c| *c == Some(Column::Date));
    let readable = |order: DateOrder| {
        let dialect = Dialect { date_order: order, ..Dialect::default() };
        let reads = |i: usize| {
            let mut texts = rows.iter().filter_map(|r| r.get(i)).filter(|t| !t.is_empty());
            let all = texts.clone().filter(|t| dialect.date(t).is_some()).count();
            texts.next().is_some() && 2 * all > rows.len()
        };
        dated.map_or_else(|| (0..headers.len()).any(reads), reads)
    };
    let full = |order: DateOrder| {
        let dialect = Dialect { date_order: order, ..Dialect::default() };
        dated.map_or(0, |i| {
            rows.iter().filter(|r| r.get(i).is_some_and(|t| dialect.date(t).is_some())).count()
        })
    };
    let orders = [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst];
    let best = orders.into_iter().map(full).max().unwrap_or(0);
    orders.into_iter().find(|o| readable(*o) && full(*o) == best).unwrap_or(DateOrder::YearFirst)
}

/// A comma followed by one, two or more than three digits is a decimal one; so is any comma beside
/// grouping points. Without evidence, files cut by `;` use commas.
fn decimal_mark(delimiter: char, columns: &[Option<Column>], rows: &[Vec<String>]) -> char {
    const NUMBERS: &[Column] =
        &[Column::Spend, Column::Value, Column::Conversions, Column::Bid, Column::Budget];
    let numbers: Vec<&String> = rows
        .iter()
        .flat_map(|r| {
            r.iter().zip(columns).filter(|(_, c)| c.is_some_and(|c| NUMBERS.contains(&c)))
        })
        .map(|(text, _)| text)
        .collect();
    let behind = |mark: char| {
        numbers.iter().any(|t| {
            t.rsplit_once(mark)
                .is_some_and(|(_, d)| d.len() != 3 && d.chars().all(|c| c.is_ascii_digit()))
        })
    };
    match (behind('.'), behind(',')) {
        (true, _) => '.',
        (false, true) => ',',
        (false, false) if delimiter == ';' && !numbers.iter().any(|t| t.contains('.')) => ',',
        (false, false) => '.',
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn own_files_need_no_help() {
        let text = "date,channel,campaign,ad_group,kind,item,match_type,impressions,clicks,spend,conversions,value,currency\n\
                    2026-11-09,Findle,Hives,Kits,keyword,hive kit,exact,100,3,4.5,1,85,EUR\n";
        let g = guess(text.as_bytes()).unwrap();
        assert_eq!(
            g.mapping.columns,
            Column::ALL[..13].iter().copied().map(Some).collect::<Vec<_>>()
        );
        assert_eq!(g.mapping.dialect, Dialect::default());
        g.mapping.check().unwrap();
    }

    #[test]
    fn a_continental_spreadsheet() {
        let text = "\u{feff}Day;Campaign name;Impr.;Clicks;Cost;Orders;Revenue;Device\r\n\
                    13.10.2026;Hives;1.250;30;45,50;2;170,00;phone\r\n\
                    05.11.2026;Hives;980;21;31,00;1;85,00;phone\r\n";
        let g = guess(text.as_bytes()).unwrap();
        let d = g.mapping.dialect;
        assert_eq!((d.delimiter, d.decimal, d.date_order), (';', ',', DateOrder::DayFirst));
        assert_eq!(g.mapping.place(Column::Conversions), Some(5));
        assert_eq!(g.splits, ["Device"]);
        assert!(g.mapping.check().is_err(), "no channel is named");
    }

    #[test]
    fn contents_help_where_names_do_not() {
        let text = "Wann\tcampaign\timpressions\tclicks\tspend\tconversions\tMoney\n11/27/2026\tA\t1\t1\t1.5\t0\tEUR\n";
        let g = guess(text.as_bytes()).unwrap();
        assert_eq!(g.mapping.columns[0], Some(Column::Date));
        assert_eq!(g.mapping.columns[6], Some(Column::Currency));
        assert_eq!(g.mapping.dialect.date_order, DateOrder::MonthFirst);
    }

    #[test]
    fn what_is_no_report() {
        assert_eq!(guess(b" \n"), Err(GuessError::Empty));
        assert!(matches!(guess(b"PK\x03\x04xx"), Err(GuessError::NotCsv(_))));
        assert!(matches!(guess(b"hello\nworld\n"), Err(GuessError::NotCsv(_))));
    }
}
