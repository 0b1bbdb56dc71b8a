//! The crate's tests from outside, in one program: each is linked once.

mod allocation_references;
mod bid_laws;
mod bid_volume_recovery;
mod change_effect_reference;
mod contradictions;
mod course_laws;
mod coverage;
mod diagnosis_laws;
mod instances;
mod laws;
mod money_laws;
mod response_recovery;
mod rule_laws;
mod setting_laws;
mod type_laws;
mod whole_steps;
