//! A part of something.

/// A part of something: from 0, none of it, to 1, all of it.
///
/// ```
/// use tiller_core::Share;
/// let quarter = Share::new(0.25).unwrap();
/// assert_eq!(Share::mean([quarter, Share::new(0.75).unwrap()]), Share::new(0.5));
/// assert!(Share::new(1.2).is_none() && Share::new(f64::NAN).is_none());
/// ```
#[derive(Clone, Copy, Debug, PartialEq, PartialOrd)]
pub struct Share(f64);

impl Share {
    /// A number from 0 to 1; no other is a share.
    pub fn new(x: f64) -> Option<Self> {
        (0.0..=1.0).contains(&x).then_some(Self(x))
    }

    /// The number.
    pub const fn get(self) -> f64 {
        self.0
    }

    /// The mean of some; none of none.
    pub fn mean(of: impl IntoIterator<Item = Self>) -> Option<Self> {
        let (sum, n) = of.into_iter().fold((0.0, 0_u32), |(sum, n), s| (sum + s.0, n + 1));
        (n > 0).then(|| Self((sum / f64::from(n)).min(1.0)))
    }
}
