//! What is said with a probability or a range, held against drawn days that do not suit it; each test names what is nominal and
//! what is reached.

mod break_days;
mod change_effects;
mod experiments;
mod plans;
mod pools;
mod rehearsals;
mod results_estimates;
mod verdicts;
