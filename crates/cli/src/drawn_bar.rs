//! The one progress bar that is drawn, and lines above it.

use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, WeakProgressBar};

use crate::ui::Ui;

/// What is over sooner is not worth drawing.
const SHOW_AFTER: Duration = Duration::from_millis(300);

/// How often a drawing is renewed while nothing is heard.
const REDRAW_INTERVAL: Duration = Duration::from_millis(120);

/// The bar that is drawn, or was.
static DRAWN: Mutex<Option<WeakProgressBar>> = Mutex::new(None);

/// Prints a line on the standard error without disturbing the bar that is drawn there.
pub fn above_the_bar(line: &str) {
    let drawn = DRAWN.lock().unwrap_or_else(PoisonError::into_inner);
    let bar = drawn.as_ref().and_then(WeakProgressBar::upgrade);
    match bar.filter(|bar| !bar.is_finished()) {
        Some(bar) => bar.suspend(|| Ui::aside_line(line)),
        None => Ui::aside_line(line),
    }
}

/// Draws a bar, unless it is finished soon.
pub fn draw_after_a_moment(bar: &ProgressBar) {
    *DRAWN.lock().unwrap_or_else(PoisonError::into_inner) = Some(bar.downgrade());
    let bar = bar.clone();
    std::thread::spawn(move || {
        std::thread::sleep(SHOW_AFTER);
        if !bar.is_finished() {
            bar.set_draw_target(ProgressDrawTarget::stderr());
            bar.enable_steady_tick(REDRAW_INTERVAL);
        }
    });
}
