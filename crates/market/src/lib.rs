//! The stand-in ad market: a simulation of demand, competition, bidding and budgets, the worlds it runs,
//! and the channels' open interface over it. Knows the wire types of `channel`, nothing of the product's
//! rules or data. The simulation is pure and deterministic: the same world, seed, days and changes give
//! the same numbers whatever was asked before.

pub mod draw;
pub mod http;
pub mod sim;
pub mod world;

pub use sim::Market;
pub use world::{World, WorldError};
