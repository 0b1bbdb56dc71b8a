//! What is computed of an account, kept for as long as the database says that nothing it is made of has changed
//! (decision 0011): the same page is asked for again and again, by several people at once. Only a copy is kept here;
//! several servers may run on one database.

use std::hash::Hash;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use moka::Entry;
use moka::sync::Cache;
use tiller_core::ids::AccountId;
use tiller_store::PgPool;
use tiller_store::versions::{self, Version};
use tokio::sync::OnceCell;

use crate::DeskError;

/// What nobody looks at is let go.
const IDLE: Duration = Duration::from_mins(10);

/// The state of an account: whatever is computed of it alone is the same while this is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stamp {
    database: String,
    account: AccountId,
    version: Version,
}

impl Stamp {
    /// With the version that was read of it.
    pub fn of(db: &PgPool, account: AccountId, version: Version) -> Self {
        let options = db.connect_options();
        let name = options.get_database().unwrap_or_default();
        let database = format!("{}:{}/{name}", options.get_host(), options.get_port());
        Self { database, account, version }
    }

    /// Reads it. Before anything else: what is read after it may be newer than it says, never older.
    pub async fn read(db: &PgPool, account: AccountId) -> Result<Self, DeskError> {
        Ok(Self::of(db, account, versions::of(db, account).await?))
    }

    /// The state of its figures alone: what people decide leaves it as it is.
    pub fn of_figures(&self) -> Self {
        Self { version: Version { decided: 0, ..self.version }, ..self.clone() }
    }
}

/// One sort of thing that is computed of accounts, by what it is computed for.
pub struct Kept<K, T> {
    cache: OnceLock<Cache<Place<K>, Made<T>>>,
    most: u64,
}

/// Where something is kept: a newer one takes its place.
type Place<K> = (String, AccountId, K);
/// Of which state it is, and the thing, once it is computed.
type Made<T> = (Version, Arc<OnceCell<Arc<T>>>);

impl<K, T> Kept<K, T>
where
    K: Hash + Eq + Send + Sync + 'static,
    T: Send + Sync + 'static,
{
    /// Keeps so many at most.
    pub const fn new(most: u64) -> Self {
        Self { cache: OnceLock::new(), most }
    }

    /// The kept one of this state, or a new one. Who asks for what is being computed waits for it.
    pub async fn get<F>(
        &self,
        stamp: &Stamp,
        of: K,
        compute: impl FnOnce() -> F,
    ) -> Result<Arc<T>, DeskError>
    where
        F: Future<Output = Result<T, DeskError>>,
    {
        let cache = self
            .cache
            .get_or_init(|| Cache::builder().max_capacity(self.most).time_to_idle(IDLE).build());
        let place = (stamp.database.clone(), stamp.account, of);
        let current = |(version, _): &Made<T>| *version == stamp.version;
        let (_, cell) = cache.get(&place).filter(current).unwrap_or_else(|| {
            let now = |old: Option<Entry<_, Made<T>>>| {
                old.map(Entry::into_value)
                    .filter(current)
                    .unwrap_or_else(|| (stamp.version, Arc::default()))
            };
            cache.entry(place).and_upsert_with(now).into_value()
        });
        let made = cell.get_or_try_init(|| async { compute().await.map(Arc::new) }).await?;
        Ok(Arc::clone(made))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    fn stamp(account: i64, decided: i64) -> Stamp {
        let version = Version { figures: 1, decided };
        Stamp { database: "here".into(), account: AccountId(account), version }
    }

    #[tokio::test]
    async fn what_many_ask_for_is_computed_once() {
        let kept: Kept<u8, usize> = Kept::new(10);
        let computed = AtomicUsize::new(0);
        let slow = async || {
            tokio::task::yield_now().await;
            Ok(computed.fetch_add(1, Ordering::Relaxed))
        };
        let stamp = stamp(1, 1);
        let all = (0..20).map(|_| kept.get(&stamp, 7, slow));
        for one in futures::future::join_all(all).await {
            assert_eq!(*one.unwrap(), 0);
        }
        assert_eq!(*kept.get(&stamp, 8, slow).await.unwrap(), 1, "another thing");
    }

    #[tokio::test]
    async fn nothing_older_or_of_others_is_served() {
        let kept: Kept<(), i64> = Kept::new(10);
        let of = async |account, decided| {
            *kept
                .get(&stamp(account, decided), (), async || Ok(100 * account + decided))
                .await
                .unwrap()
        };
        assert_eq!((of(1, 1).await, of(1, 2).await), (101, 102));
        assert_eq!(of(2, 2).await, 202);
        // Who read the version before the change may still compute what stood then, and leaves nothing behind.
        assert_eq!((of(1, 1).await, of(1, 2).await), (101, 102));
    }

    #[tokio::test]
    async fn a_failure_is_not_kept() {
        let kept: Kept<(), i64> = Kept::new(10);
        let stamp = stamp(1, 1);
        let failed = kept.get(&stamp, (), async || Err(DeskError::NotFound("day"))).await;
        assert!(matches!(failed, Err(DeskError::NotFound("day"))));
        assert_eq!(*kept.get(&stamp, (), async || Ok(5)).await.unwrap(), 5);
    }
}
