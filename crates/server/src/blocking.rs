//! Runs work that waits for a disk on threads that may wait.

use std::any::Any;

use crate::problem::Problem;

/// Work that waits for the disk, off the threads that wait for the network.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, Problem> {
    let done = tokio::task::spawn_blocking(work).await;
    done.map_err(|error| {
        let detail = "the server has a defect";
        let cause = match error.try_into_panic() {
            Ok(panic) => panic_text(&*panic),
            Err(error) => error.to_string(),
        };
        Problem::broken(detail, cause)
    })
}

/// What somebody said who panicked.
fn panic_text(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<String>().map(String::as_str);
    let text = text.or_else(|| panic.downcast_ref::<&str>().copied());
    format!("panicked: {}", text.unwrap_or("without a word"))
}
