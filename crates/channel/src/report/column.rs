//! What a report may tell.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

macro_rules! columns {
    ($($variant:ident $name:literal $need:ident $title:literal [$($other:literal)*];)*) => {
        /// A column of a report.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        #[serde(rename_all = "snake_case")]
        pub enum Column { $(#[doc = $title] $variant,)* }

        impl Column {
            /// All of them, in the order of the product's own files.
            pub const ALL: &[Self] = &[$(Self::$variant,)*];

            /// Its name in the product's own files.
            pub fn name(self) -> &'static str {
                match self { $(Self::$variant => $name,)* }
            }

            /// Its name for people.
            pub fn title(self) -> &'static str {
                match self { $(Self::$variant => $title,)* }
            }

            /// Whether a report is of no use without it.
            pub fn required(self) -> bool {
                match self { $(Self::$variant => columns!(@ $need),)* }
            }

            /// Other plain words that head it, in lower case.
            pub(super) fn other_names(self) -> &'static [&'static str] {
                match self { $(Self::$variant => &[$($other,)*],)* }
            }
        }
    };
    (@ needed) => { true };
    (@ optional) => { false };
}

columns! {
    Date "date" needed "Date" ["day" "report date"];
    Channel "channel" optional "Channel" ["source" "network" "platform"];
    Campaign "campaign" needed "Campaign" ["campaign name" "campaign title"];
    AdGroup "ad_group" optional "Ad group" ["ad group" "adgroup" "group" "ad group name"];
    Kind "kind" optional "Kind of item" ["item kind" "type" "item type"];
    Item "item" optional "Item" ["keyword" "listing" "product" "ad" "ad name" "audience" "term" "item name"];
    MatchType "match_type" optional "Match type" ["match type" "match"];
    Impressions "impressions" needed "Impressions" ["views" "shown" "impr"];
    Clicks "clicks" needed "Clicks" ["click" "visits"];
    Spend "spend" needed "Spend" ["cost" "amount" "costs" "expense"];
    Conversions "conversions" needed "Conversions" ["conversion" "orders" "leads" "sales count" "results" "purchases"];
    Value "value" optional "Conversion value" ["revenue" "conversion value" "sales" "turnover" "order value"];
    Currency "currency" optional "Currency" ["currency code"];
    Bid "bid" optional "Bid" ["max bid" "current bid"];
    Budget "budget" optional "Daily budget" ["daily budget"];
    TargetCpa "target_cpa" optional "Target CPA" ["target cpa"];
    TargetRoas "target_roas" optional "Target ROAS" ["target roas"];
    Status "status" optional "Status" ["state"];
    LostToBudget "lost_to_budget" optional "Lost to budget" ["lost to budget"];
    LostToBid "lost_to_bid" optional "Lost to bid" ["lost to bid"];
}

impl fmt::Display for Column {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for Column {
    type Err = ();
    fn from_str(name: &str) -> Result<Self, ()> {
        Self::ALL.iter().copied().find(|c| c.name() == name).ok_or(())
    }
}

/// Columns that split an item's day into several rows. Such files are reports of their own kind and
/// are never added to the unsplit one.
pub(super) const SPLITS: &[&str] =
    &["device", "country", "age", "gender", "income", "placement", "hour", "event", "age_days"];
