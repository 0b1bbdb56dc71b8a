//! Use cases, one module a step of the loop: load, call core, save. Used by the pages, the command line
//! and jobs alike. Never here: SQL, HTML, rules of the job.

pub mod account;
pub mod advice;
pub mod alarms;
pub mod another_bid;
pub mod bids;
pub mod book;
pub mod budgets;
pub mod causes;
pub mod change_words;
pub mod courses;
pub mod figure;
pub mod jobs;
pub mod json;
pub mod kept;
pub mod learning;
pub mod logbook;
pub mod look_backs;
mod made;
pub mod mail;
pub mod measure;
pub mod numerals;
pub mod pace;
pub mod plans;
pub mod report_file;
pub mod rows;
pub mod rules;
pub mod scores;
mod since;
pub mod spend;
pub mod steps;
pub mod today;
pub mod tray;
pub mod volume;
pub mod wording;

pub use tiller_core::ids::{
    AccountId, AdGroupId, CampaignId, ChangeId, ConnectionId, CourseId, DecisionId, ImportId,
    ItemId, PersonId, PlanId, TermId,
};
pub use tiller_store::people::{Account, Person, Role};
pub use tiller_store::{Kind, PgPool, StoreError};

/// Why a use case ended without its result.
#[derive(Debug, thiserror::Error)]
pub enum DeskError {
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Nothing of that kind in this account.
    #[error("there is no such {0} in this account")]
    NotFound(&'static str),
    /// What was being sent to us ended before its end.
    #[error("{0}")]
    BrokeOff(String),
    /// More at once than can be done.
    #[error("too many ask for this at once; try again in a moment")]
    Busy,
    /// A fault of the program itself.
    #[error("the program broke at it ({0}), which is its own fault")]
    Broke(String),
    /// Input that can't be used; the message says what to do.
    #[error("{0}")]
    Invalid(String),
}
