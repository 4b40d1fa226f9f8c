//! Tells a person at a terminal which registry is not answering.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, LazyLock};
use std::thread;
use std::time::Duration;

use bibliotax_registry::client::pending_hosts::{PendingHosts, Request};

use crate::drawn_bar::above_the_bar;
use crate::ui::{Ui, on_one_line, style, styled};

/// Who is silent for longer is named.
const SLOW_AFTER: Duration = Duration::from_secs(3);

/// How often it is looked.
const POLL_INTERVAL: Duration = Duration::from_millis(250);

static WAITS: LazyLock<PendingHosts> = LazyLock::new(|| PendingHosts::watched_by(watch));

/// Whether there is a terminal on which somebody may wait.
static IS_SHOWN: AtomicBool = AtomicBool::new(false);

/// Shows a finished request, with `-vv`.
fn show_request(request: &Request<'_>) {
    let Request { asked, answer, took } = request;
    let line = format!("{asked}: {answer} ({:.3} s)", took.as_secs_f64());
    Ui::aside_line(&styled(style::FAINT, on_one_line(&line)));
}

/// The hosts that this process waits for.
pub fn waits() -> PendingHosts {
    WAITS.clone()
}

/// Lets who is waited for be shown, where progress is, and each request with `-vv`.
pub fn show_where_progress_is(ui: &Ui) {
    IS_SHOWN.store(ui.shows_progress(), Ordering::Relaxed);
    if ui.shows_requests() {
        WAITS.show_requests(show_request);
    }
}

/// Names each who is silent for long, once.
fn watch(waits: PendingHosts) {
    if !IS_SHOWN.load(Ordering::Relaxed) {
        return;
    }
    thread::spawn(move || {
        let mut named: BTreeSet<Arc<str>> = BTreeSet::new();
        loop {
            thread::sleep(POLL_INTERVAL);
            for subject in waits.longer_than(SLOW_AFTER) {
                if named.insert(Arc::clone(&subject)) {
                    above_the_bar(&format!("waiting for {subject}"));
                }
            }
        }
    });
}
