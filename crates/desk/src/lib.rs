//! Use cases, one module a step of the loop: load, call core, save. Used by the pages, the command line
//! and jobs alike. Never here: SQL, HTML, rules of the job.

pub mod accounts;
pub mod advice;
pub mod alarms;
pub mod book;
pub mod budgets;
pub mod causes;
pub mod change_words;
pub mod connections;
pub mod courses;
pub mod curves;
pub mod decisions;
pub mod diagnosis_file;
pub mod entry;
pub mod figures;
pub mod findings;
pub mod flight;
pub mod hours;
pub mod jobs;
pub mod kept;
pub mod levers;
pub mod logbook;
pub mod measure;
pub mod pace;
pub mod plan_file;
pub mod plan_moves;
pub mod pool;
pub mod proposal;
pub mod quiet;
mod reading;
pub mod rebalance;
pub mod remedy;
pub mod reports;
pub mod rollups;
pub mod sending;
pub mod settings;
pub mod sign_in;
pub mod spend;
pub mod split;
pub mod steps;
pub mod today;
pub mod tray;
pub mod views;
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
    /// Input that can't be used; the message says what to do.
    #[error("{0}")]
    Invalid(String),
}
