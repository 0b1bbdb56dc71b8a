//! The crate's tests from outside, in one program: each is linked once.

mod alarms;
mod bids;
mod budgets;
mod changes;
mod common;
mod connections;
mod false_alarms;
mod findings;
mod imports;
mod look_backs;
mod money_advice;
mod nothing_lost;
mod past_days;
mod planted_faults;
mod rules;
mod scores;
mod sentences;
mod settings;
mod shared;
mod splits;
mod watched_rules;
mod week_laws;
mod wording;
