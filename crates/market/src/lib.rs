//! The stand-in ad market: a simulation of demand, competition, bidding and budgets, and the worlds it
//! runs. Knows the wire types of `channel`, nothing of the product's rules or data. Pure and
//! deterministic: the same world, seed and day give the same numbers whatever was asked before.

pub mod sim;
pub mod world;

pub use world::{World, WorldError};
