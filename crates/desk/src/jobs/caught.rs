//! A job that panics takes nothing else with it: it ends with an error that is told like any other, so that it is
//! marked as failed and can be tried again.

use std::any::Any;
use std::panic::AssertUnwindSafe;

use futures::FutureExt;

use crate::DeskError;

/// Does a job's work. Nothing of it is used again after a panic but the database, where half of it was never committed.
pub(super) async fn caught<T, E: From<DeskError>>(
    work: impl Future<Output = Result<T, E>>,
) -> Result<T, E> {
    AssertUnwindSafe(work).catch_unwind().await.unwrap_or_else(|panic| {
        let message = told(&*panic);
        tracing::error!(message, "a job panicked");
        Err(DeskError::Broke(message.to_owned()).into())
    })
}

fn told(panic: &(dyn Any + Send)) -> &str {
    let text = panic.downcast_ref::<&str>().copied();
    text.or_else(|| panic.downcast_ref::<String>().map(String::as_str)).unwrap_or("no reason given")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_panic_is_an_error_with_its_reason() {
        let day = 40;
        let broke = caught::<(), DeskError>(async move { panic!("day {day}") }).await.unwrap_err();
        assert_eq!(broke.to_string(), "the program broke at it (day 40), which is its own fault");
        let broke = caught::<(), DeskError>(async { panic!("so") }).await.unwrap_err();
        assert!(broke.to_string().contains("(so)"));
        assert_eq!(caught::<_, DeskError>(async { Ok(1) }).await.unwrap(), 1);
    }
}
