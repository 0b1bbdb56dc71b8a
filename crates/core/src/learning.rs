//! The learning period of automatic strategies (B6): what restarts it, and how long it takes.

/// A change beyond this share of what was set is a shock: an automatic strategy begins to learn anew
/// (common practice, no source).
pub const SHOCK: f64 = 0.2;

/// Days that a strategy needs after it began to learn (common practice, no source: 7 to 14, up to four
/// weeks where conversions are few).
pub const DAYS: u64 = 14;

/// What a change moves.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Moved {
    /// Another strategy.
    Strategy,
    /// The strategy's target.
    Target {
        /// What was set.
        from: f64,
        /// What shall be.
        to: f64,
    },
    /// The daily budget.
    Budget {
        /// What was set.
        from: f64,
        /// What shall be.
        to: f64,
    },
    /// Whom it reaches.
    Targeting,
    /// Something that strategies do not learn from.
    Other,
}

/// Relative change from one amount to another; absent where there was none.
///
/// ```
/// use tiller_core::learning::relative;
/// assert_eq!(relative(50.0, 75.0), Some(0.5));
/// assert_eq!(relative(0.0, 60.0), None);
/// ```
pub fn relative(from: f64, to: f64) -> Option<f64> {
    (from > 0.0).then(|| to / from - 1.0)
}

/// The relative change if it is a shock. From nothing to something always is.
pub fn shock(from: f64, to: f64) -> Option<f64> {
    match relative(from, to) {
        Some(r) if r.abs() > SHOCK + 1e-9 => Some(r),
        Some(_) => None,
        None if to > 0.0 => Some(f64::INFINITY),
        None => None,
    }
}

/// What a daily budget is in fact moved from, where bids are set by hand: what it leaves unspent is no step down.
///
/// ```
/// # use tiller_core::learning::used;
/// assert_eq!(used(320.0, 70.0, 88.0), 88.0);
/// assert_eq!((used(320.0, 100.0, 88.0), used(90.0, 70.0, 95.0), used(90.0, 120.0, 50.0)), (100.0, 90.0, 90.0));
/// ```
pub fn used(from: f64, to: f64, spend: f64) -> f64 {
    from.min(spend.max(to))
}

/// Whether a strategy that sets its own bids begins to learn anew.
pub fn restarts(automatic: bool, moved: Moved) -> bool {
    match moved {
        // Towards an automatic strategy, or from one to another.
        Moved::Strategy => automatic,
        Moved::Target { from, to } | Moved::Budget { from, to } => {
            automatic && shock(from, to).is_some()
        }
        Moved::Targeting => automatic,
        Moved::Other => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_more_than_a_fifth_restarts_and_only_where_bids_are_automatic() {
        // B6: a change of target or budget beyond 20% (common practice, no source).
        for (from, to, is) in
            [(50.0, 60.0, false), (50.0, 60.1, true), (50.0, 40.0, false), (50.0, 39.9, true)]
        {
            assert_eq!(restarts(true, Moved::Budget { from, to }), is, "{from} {to}");
            assert_eq!(restarts(true, Moved::Target { from, to }), is);
            assert!(!restarts(false, Moved::Budget { from, to }));
        }
        assert!(restarts(true, Moved::Strategy) && restarts(true, Moved::Targeting));
        assert!(!restarts(false, Moved::Strategy) && !restarts(true, Moved::Other));
    }

    #[test]
    fn something_out_of_nothing_is_a_shock() {
        assert_eq!(shock(0.0, 10.0), Some(f64::INFINITY));
        assert_eq!(shock(0.0, 0.0), None);
        assert_eq!(shock(100.0, 0.0), Some(-1.0));
    }
}
