//! The crate's tests from outside, in one program: each is linked once.

mod adjustments;
mod common;
mod estimates;
mod interface;
mod laws;
mod look_backs;
mod planted;
