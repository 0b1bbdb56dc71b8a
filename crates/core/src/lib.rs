//! The job's rules and computation: what a click is worth, which campaign overspends and why, how
//! money is best split. Pure functions over small types: numbers in, numbers out. Never here: I/O,
//! async, a clock, SQL, HTML, or sentences for people; data, dates and randomness come in as arguments.

pub mod affordable;
pub mod alarm;
pub mod allocation;
pub mod bid_feedback;
pub mod bid_rule;
pub mod bid_volume;
pub mod break_even;
pub mod bridge;
pub mod change_effect;
pub mod change_point;
pub mod course;
pub mod custom_rule;
pub mod evidence;
pub mod flight;
pub mod history;
pub mod hours;
pub mod ids;
pub mod lag;
pub mod learning;
pub mod listing_bids;
pub mod look_back;
pub mod metrics;
pub mod money;
pub mod pace;
pub mod pool;
pub mod purpose;
pub mod rehearsal;
pub mod response;
pub mod results_estimate;
pub mod rule;
pub mod schedule;
pub mod score;
pub mod segments;
pub mod setting;
pub mod share;
pub mod share_out;
pub mod spot;
pub mod steps;
pub mod strategy;
pub mod target;
pub mod terms;
pub mod text;
pub mod tracking;
pub mod verdict;
pub mod week;
pub mod window;
pub mod words;

pub use flight::PerDay;
pub use metrics::Tally;
pub use money::{Currency, Micros, Money, MoneyError, Price};
pub use share::Share;
pub use target::Target;
pub use window::Window;
