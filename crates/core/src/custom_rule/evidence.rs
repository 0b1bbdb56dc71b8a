//! What has to be known before a rule does anything.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Senseless;
use crate::money::Price;

/// Money, or so many times what a result may cost.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Amount {
    /// Units of currency.
    Value(f64),
    /// Times the target CPA, or what a result is worth at the target ROAS.
    TimesTarget(f64),
}

/// The least that has to be known; what is left out is not asked for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Evidence {
    /// Clicks in the longest window of the rule.
    #[serde(skip_serializing_if = "is_zero")]
    pub clicks: u32,
    /// Spend in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub spend: Option<Amount>,
    /// Conversions in it.
    #[serde(skip_serializing_if = "is_zero")]
    pub conversions: u32,
    /// Settled days since it was first shown.
    #[serde(skip_serializing_if = "is_none")]
    pub days: u16,
    /// How surely what was compared holds of more than the days that were looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sure: Option<f64>,
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_zero(n: &u32) -> bool {
    *n == 0
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_none(n: &u16) -> bool {
    *n == 0
}

/// What is there of what is asked for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Lack {
    /// Clicks.
    Clicks {
        /// So many.
        has: i64,
        /// Of so many.
        needs: u32,
    },
    /// Spend.
    Spend {
        /// So much.
        has: Price,
        /// Of so much; absent where there is no target to tell it from.
        needs: Option<Price>,
    },
    /// Conversions.
    Conversions {
        /// So many.
        has: f64,
        /// Of so many.
        needs: u32,
    },
    /// Days.
    Days {
        /// So many.
        has: u64,
        /// Of so many.
        needs: u16,
    },
    /// Certainty.
    Sure {
        /// This sure.
        has: f64,
        /// Of this.
        needs: f64,
    },
}

impl Evidence {
    pub(super) fn check(&self) -> Result<(), Senseless> {
        let amount = self.spend.map(|a| match a {
            Amount::Value(x) | Amount::TimesTarget(x) => x,
        });
        if let Some(wrong) = amount.filter(|x| !(0.0..1e12).contains(x)) {
            return Err(Senseless::Number(wrong));
        }
        if let Some(wrong) = self.sure.filter(|p| !(0.5..=0.999).contains(p)) {
            return Err(Senseless::Sure(wrong * 100.0));
        }
        Ok(())
    }
}
