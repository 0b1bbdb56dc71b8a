//! The crate's tests from outside, in one program: each is linked once.

mod bids;
mod common;
mod doors;
mod every_place;
mod money;
mod pages;
mod purposes;
mod rules;
mod shared_and_estimate;
