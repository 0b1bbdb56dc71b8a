//! Points at which a test ends the process as a power cut would: wherever one thing has been kept and the next has not.
//! A release build has none of them.

/// Says where.
pub const VARIABLE: &str = "GOLD_TILLER_ENDS_AT";

/// A point on the way of an import, a fetch or a batch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Point {
    /// A file, or a channel's report, is in the database and not yet called whole.
    FileArriving,
    /// It is.
    FileArrived,
    /// An import is a worker's.
    ImportClaimed,
    /// All rows and sums are written, and not yet committed.
    RowsWritten,
    /// They are committed.
    ImportMerged,
    /// What follows from new figures is done.
    ImportFollowed,
    /// A fetch is a worker's.
    FetchClaimed,
    /// What there is at the channel is kept.
    StructureKept,
    /// Some of its conversions are staged.
    SomeStaged,
    /// Everything that belongs to the report is.
    AllStaged,
    /// The report is merged.
    FetchMerged,
    /// What it replaced is forgotten.
    ReplacedForgotten,
    /// What follows from new figures is done.
    FetchFollowed,
    /// The fetch is done.
    FetchEnded,
    /// A batch is a worker's.
    BatchClaimed,
    /// What the channel is about to be asked for is written down.
    BatchSealed,
    /// The channel has answered.
    BatchAnswered,
    /// Its answer is written down.
    AnswerKept,
}
tiller_core::words!(Point: FileArriving "file-arriving", FileArrived "file-arrived", ImportClaimed "import-claimed",
    RowsWritten "rows-written", ImportMerged "import-merged",
    ImportFollowed "import-followed", FetchClaimed "fetch-claimed", StructureKept "structure-kept",
    SomeStaged "some-staged", AllStaged "all-staged", FetchMerged "fetch-merged",
    ReplacedForgotten "replaced-forgotten", FetchFollowed "fetch-followed", FetchEnded "fetch-ended",
    BatchClaimed "batch-claimed", BatchSealed "batch-sealed", BatchAnswered "batch-answered", AnswerKept "answer-kept");

/// Ends the process, if this is where a test wants it to.
pub fn at(point: Point) {
    if cfg!(debug_assertions) && std::env::var(VARIABLE).is_ok_and(|word| word == point.word()) {
        std::process::abort();
    }
}
