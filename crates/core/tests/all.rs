//! The crate's tests from outside, in one program: each is linked once.

mod allocation_references;
mod bid_laws;
mod bid_volume_recovery;
mod change_effect_coverage;
mod contradictions;
mod course_laws;
mod diagnosis_laws;
mod instances;
mod laws;
mod money_laws;
mod rehearsal_coverage;
mod response_recovery;
mod results_estimate_coverage;
mod rule_laws;
mod type_laws;
