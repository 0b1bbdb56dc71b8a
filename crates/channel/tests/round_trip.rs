//! What the writer writes, the guess and the reader read back: names of any make, exact numbers.
#![allow(clippy::unwrap_used)]

use std::borrow::Cow;

use chrono::NaiveDate;
use proptest::prelude::*;
use tiller_channel::Micros;
use tiller_channel::report::{Dialect, Records, ReportRow, ReportWriter, RowReader, guess};
use tiller_core::setting::{ItemKind, MatchType, Status};

fn name() -> impl Strategy<Value = String> {
    // Quotes, separators, line ends and letters of any script; no surrounding space, which is trimmed.
    "[A-Za-zåøÆ\"';,|日本0-9=+-]([A-Za-zåøÆ\"';, |\n0-9.-]{0,18}[A-Za-z0-9\"',;])?"
}

fn money() -> impl Strategy<Value = Micros> {
    (0i64..1_000_000_000_000).prop_map(Micros::new)
}

fn row() -> impl Strategy<Value = ReportRow<'static>> {
    let names = (name(), name(), name(), name());
    let words = (
        prop::sample::select(vec![
            ItemKind::Keyword,
            ItemKind::Listing,
            ItemKind::Ad,
            ItemKind::Audience,
        ]),
        prop::option::of(prop::sample::select(vec![
            MatchType::Exact,
            MatchType::Phrase,
            MatchType::Broad,
        ])),
        prop::option::of(prop::sample::select(vec![Status::Active, Status::Paused, Status::Ended])),
    );
    let counts = (0i64..1_000_000, 0i64..10_000, money(), money(), money());
    let settings = (
        prop::option::of(money()),
        prop::option::of(money()),
        prop::option::of(money()),
        prop::option::of(money()),
        prop::option::of(money()),
        prop::option::of(money()),
    );
    (0u32..2000, names, words, counts, settings).prop_map(
        |(day, names, words, counts, settings)| ReportRow {
            date: NaiveDate::from_ymd_opt(2024, 1, 1).unwrap() + chrono::Days::new(u64::from(day)),
            channel: Cow::Owned(names.0),
            campaign: Cow::Owned(names.1),
            ad_group: Cow::Owned(names.2),
            kind: words.0,
            item: Cow::Owned(names.3),
            match_type: words.1,
            impressions: counts.0,
            clicks: counts.1,
            spend: counts.2,
            conversions: counts.3,
            value: counts.4,
            bid: settings.0,
            budget: settings.1,
            target_cpa: settings.2,
            target_roas: settings.3,
            status: words.2,
            lost_to_budget: settings.4,
            lost_to_bid: settings.5,
        },
    )
}

proptest! {
    #[test]
    fn what_is_written_is_read_back(rows in prop::collection::vec(row(), 1..20)) {
        let currency = "EUR".parse().unwrap();
        let mut writer = ReportWriter::new(Vec::new(), currency).unwrap();
        for row in &rows {
            writer.write(row).unwrap();
        }
        let bytes = writer.finish().unwrap();
        let guess = guess(&bytes).unwrap();
        prop_assert_eq!(guess.mapping.dialect, Dialect::default());
        guess.mapping.check().unwrap();
        let mut records = Records::new(&bytes[..], ',');
        records.next_record().unwrap();
        let mut reader = RowReader::new(&guess.mapping, currency);
        for row in &rows {
            let record = records.next_record().unwrap().unwrap();
            prop_assert_eq!(&reader.read(&record).unwrap(), row);
        }
        prop_assert!(records.next_record().unwrap().is_none());
    }

    #[test]
    fn no_file_makes_the_guess_panic(bytes in prop::collection::vec(any::<u8>(), 0..600)) {
        let _ = guess(&bytes);
    }

    #[test]
    fn line_numbers_count_every_line(blank in 0usize..4, inside in 0usize..4, end in prop::sample::select(vec!["\n", "\r\n"])) {
        let text = format!("a,b{end}{}\"x{}\",y{end}last,z", end.repeat(blank), end.repeat(inside));
        let mut records = Records::new(text.as_bytes(), ',');
        let mut lines = Vec::new();
        while let Some(record) = records.next_record().unwrap() {
            lines.push(record.line as usize);
        }
        prop_assert_eq!(lines, [1, 2 + blank, 3 + blank + inside]);
    }
}
