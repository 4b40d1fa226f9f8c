//! Work for threads that may wait.

use crate::problem::Problem;

/// Work that waits for the disk, off the threads that wait for the network.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, Problem> {
    let done = tokio::task::spawn_blocking(work).await;
    done.map_err(|_| Problem::broken("something went wrong; it is a defect of the server"))
}
