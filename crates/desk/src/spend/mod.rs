//! Spend: what is spent, split by people, places and hours.

pub mod split;
