//! Who is who: a number of its own for each thing that is kept, so that none is taken for another. With the feature
//! `database` a query can bind and read them.
//!
//! ```
//! use tiller_core::ids::{AdGroupId, CampaignId};
//! assert_eq!(CampaignId(7).to_string(), AdGroupId(7).to_string());
//! // `CampaignId(7) == AdGroupId(7)` does not compile.
//! ```

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident),*) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
        #[cfg_attr(feature = "database", derive(sqlx::Type), sqlx(transparent))]
        #[serde(transparent)]
        pub struct $name(pub i64);

        impl From<i64> for $name {
            fn from(number: i64) -> Self {
                Self(number)
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                self.0.fmt(f)
            }
        }
    )*};
}

ids! {
    /// An account.
    AccountId,
    /// A person.
    PersonId,
    /// A campaign.
    CampaignId,
    /// An ad group.
    AdGroupId,
    /// A keyword, listing, ad or audience.
    ItemId,
    /// A report import.
    ImportId,
    /// A saved plan.
    PlanId,
    /// A channel.
    ChannelId,
    /// A connection to a channel.
    ConnectionId,
    /// A job that fetches from a connection.
    SyncId,
    /// A search term.
    TermId,
    /// A change.
    ChangeId,
    /// Changes that are sent together.
    BatchId,
    /// Dated steps of a budget.
    CourseId,
    /// Something decided that goes to no channel.
    DecisionId,
    /// A rule.
    RuleId,
    /// One time that a rule runs.
    RunId
}
