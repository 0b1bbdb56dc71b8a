//! How bids are made.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Micros;

/// How bids are made.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Strategy {
    /// A fixed bid a click.
    ManualCpc,
    /// A fixed bid a thousand impressions.
    ManualCpm,
    /// The most clicks that the budget buys.
    MostClicks,
    /// The most conversions that the budget buys.
    MostConversions,
    /// The most conversion value that the budget buys.
    MostValue,
    /// Target × predicted conversion rate.
    TargetCpa {
        /// What a conversion may cost, in millionths.
        target: Micros,
    },
    /// Predicted value a click ÷ target.
    TargetRoas {
        /// What a unit of spend has to return.
        target: f64,
    },
}

impl Strategy {
    /// Whether the channel sets the bids from what it has learned.
    pub fn automatic(self) -> bool {
        !matches!(self, Self::ManualCpc | Self::ManualCpm)
    }

    /// Whether a jump of what stands for its bid makes it learn anew: of a target, not of a highest bid.
    pub fn learns_its_target(self) -> bool {
        matches!(self, Self::TargetCpa { .. } | Self::TargetRoas { .. })
    }

    /// Whether it spends any budget that it is given, for the most of something.
    pub fn spends_any_budget(self) -> bool {
        matches!(self, Self::MostClicks | Self::MostConversions | Self::MostValue)
    }

    /// The number that stands for its bid, as one that rises with the bid, and back: a higher return asked for is a lower
    /// bid.
    ///
    /// ```
    /// use tiller_core::setting::Strategy;
    /// let asks = Strategy::TargetRoas { target: 4.0 };
    /// assert_eq!((asks.as_bid(4.0), asks.as_bid(0.25)), (0.25, 4.0));
    /// assert_eq!(Strategy::ManualCpc.as_bid(4.0), 4.0);
    /// ```
    pub fn as_bid(self, number: f64) -> f64 {
        match self {
            Self::TargetRoas { .. } => 1.0 / number,
            _ => number,
        }
    }
}
