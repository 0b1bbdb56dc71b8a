//! The stream of records: a buffer of fixed size, whatever the size of the file.

use std::io::{Chain, Read};

use csv::ByteRecord;

/// Strips a byte-order mark and reads records with their line numbers. Lines may end in either manner.
/// Text that is not UTF-8 is read as Windows-1252, as spreadsheets write it.
pub struct Records<R> {
    inner: csv::Reader<Chain<R, &'static [u8]>>,
    record: ByteRecord,
}

/// One record.
pub struct Record<'a> {
    record: &'a ByteRecord,
    /// Line of the file on which it begins, from 1.
    pub line: u64,
}

impl<'a> Record<'a> {
    /// Field `i`, without surrounding space; empty if the record is too short.
    pub fn field(&self, i: usize) -> std::borrow::Cow<'a, str> {
        let bytes = self.record.get(i).unwrap_or_default().trim_ascii();
        match std::str::from_utf8(bytes) {
            Ok(text) => text.into(),
            Err(_) => encoding_rs::WINDOWS_1252.decode_without_bom_handling(bytes).0,
        }
    }

    /// How many fields it has.
    pub fn len(&self) -> usize {
        self.record.len()
    }

    /// Whether all fields are empty, as in a line of separators.
    pub fn is_empty(&self) -> bool {
        self.record.iter().all(|f| f.trim_ascii().is_empty())
    }
}

impl<R: Read> Records<R> {
    /// Reads from `source` with the given delimiter; the header is a record like any other.
    pub fn new(source: R, delimiter: char) -> Self {
        let inner = csv::ReaderBuilder::new()
            .delimiter(u8::try_from(delimiter).unwrap_or(b','))
            .has_headers(false)
            .flexible(true)
            .terminator(csv::Terminator::Any(b'\n'))
            .buffer_capacity(1 << 18)
            .from_reader(source.chain(&b"\n"[..]));
        Self { inner, record: ByteRecord::new() }
    }

    /// The next record that is not empty.
    pub fn next_record(&mut self) -> std::io::Result<Option<Record<'_>>> {
        loop {
            if !self.inner.read_byte_record(&mut self.record).map_err(std::io::Error::from)? {
                return Ok(None);
            }
            // Counted from the end, which a line feed always marks: blank lines may stand before.
            let inside = self.record.as_slice().iter().filter(|b| **b == b'\n').count() as u64;
            let line = self.inner.position().line().saturating_sub(1 + inside);
            let record = Record { record: &self.record, line };
            if !record.is_empty() {
                // The borrow checker wants the record made again from the field it came from.
                return Ok(Some(Record { record: &self.record, line }));
            }
        }
    }

    /// Bytes read so far.
    pub fn position(&self) -> u64 {
        self.inner.position().byte()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_line_ends_and_odd_encodings() {
        let bytes = b"\xef\xbb\xbfdate;campaign\r\n\r\n2026-11-09;\"Sm\xf8rrebr\xf8d; two\r\nlines\"\r\n;;\r\nx";
        let mut records = Records::new(&bytes[..], ';');
        let header = records.next_record().unwrap().unwrap();
        assert_eq!((header.field(0).as_ref(), header.line), ("date", 1));
        let row = records.next_record().unwrap().unwrap();
        assert_eq!(row.field(1), "Smørrebrød; two\r\nlines");
        assert_eq!(row.line, 3);
        let last = records.next_record().unwrap().unwrap();
        assert_eq!((last.field(0).as_ref(), last.field(7).as_ref(), last.line), ("x", "", 6));
        assert!(records.next_record().unwrap().is_none());
    }
}
