//! The crate's tests from outside, in one program: each is linked once.

mod command_line;
mod common;
mod fault_points;
mod follow;
mod house;
mod kills;
mod upgrade;
