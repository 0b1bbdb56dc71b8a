//! Keywords, listings, ads and audiences: what they are, how they match, whether they run.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What an item is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ItemKind {
    /// A keyword of a search campaign.
    Keyword,
    /// A product listing.
    Listing,
    /// An ad.
    Ad,
    /// An audience with an ad.
    Audience,
}

/// How closely a search has to match a keyword.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MatchType {
    /// The keyword itself.
    Exact,
    /// The keyword within a longer search.
    Phrase,
    /// Searches of like meaning.
    Broad,
}

/// Whether a campaign runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Status {
    /// It runs.
    Active,
    /// It is paused.
    Paused,
    /// It has ended.
    Ended,
}

crate::words!(ItemKind: Keyword "keyword", Listing "listing", Ad "ad", Audience "audience");
crate::words!(MatchType: Exact "exact", Phrase "phrase", Broad "broad");
crate::words!(Status: Active "active", Paused "paused", Ended "ended");

/// A search term for which nothing is shown.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Negative {
    /// The words.
    pub text: String,
    /// How closely a search has to match them.
    pub match_type: MatchType,
}
