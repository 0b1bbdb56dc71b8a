//! The stream of records: a buffer of fixed size, whatever the size of the file.

use std::io::{Chain, Read};

use csv::ByteRecord;

/// Strips a byte-order mark and reads records with their line numbers. Lines may end in either manner.
/// Text that is not UTF-8 is read as Windows-1252, as spreadsheets write it.
pub struct Records<R> {
    inner: csv::Reader<Bounded<Chain<R, &'static [u8]>>>,
    record: ByteRecord,
}

/// Bytes of a record, at most: a quote that is never closed would take in the rest of the file.
pub const LONGEST: usize = 1 << 20;
/// Bytes that are read at once.
const BUFFER: usize = 1 << 18;

/// A source that ends with an error when a record takes too much of it.
struct Bounded<R> {
    inner: R,
    /// Read since the record began.
    taken: usize,
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        if self.taken > LONGEST {
            return Err(std::io::Error::other(TOO_LONG));
        }
        let n = self.inner.read(out)?;
        self.taken += n;
        Ok(n)
    }
}

const TOO_LONG: &str =
    "a row is longer than 1 MB; most likely a quotation mark in it is never closed";

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
            .buffer_capacity(BUFFER)
            .from_reader(Bounded { inner: source.chain(&b"\n"[..]), taken: 0 });
        Self { inner, record: ByteRecord::new() }
    }

    /// The next record that is not empty.
    pub fn next_record(&mut self) -> std::io::Result<Option<Record<'_>>> {
        loop {
            self.inner.get_mut().taken = 0;
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

    /// Only as much as a record may have is read of a source that has no end.
    #[test]
    fn a_quote_that_is_never_closed_takes_in_no_more_than_a_record() {
        let begin = &b"a,b\n1,\"two\n"[..];
        let mut records = Records::new(begin.chain(std::io::repeat(b'x')), ',');
        assert!(records.next_record().unwrap().is_some());
        let error = records.next_record().err().unwrap();
        assert!(error.to_string().contains("never closed"), "{error}");
        assert!(records.inner.get_ref().taken <= LONGEST + BUFFER);
        // A long one that ends is read.
        let long = format!("a,b\n1,\"{}\"\n2,3\n", "y".repeat(LONGEST - BUFFER));
        let mut records = Records::new(long.as_bytes(), ',');
        let mut read = 0;
        while records.next_record().unwrap().is_some() {
            read += 1;
        }
        assert_eq!(read, 3);
    }

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
