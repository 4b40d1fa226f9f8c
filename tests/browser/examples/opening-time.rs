//! How long a page takes to open in the browser that `BIBLIOTAX_TEST_BROWSER` names: until something of it is painted, and until all
//! of it is there (Navigation Timing Level 2, Paint Timing 1). The medians of a few times, in milliseconds.
//!
//! Usage: opening-time URL

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::print_stdout,
    reason = "a program for benches, not a part of the product"
)]

use bibliotax_test_browser::Browser;

const TIMES: usize = 7;

const PAINTED: &str = "performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? 0";
const LOADED: &str = "performance.getEntriesByType('navigation')[0].loadEventEnd";

fn main() {
    let url = std::env::args().nth(1).expect("Usage: opening-time URL");
    let (mut painted, mut loaded) = (Vec::new(), Vec::new());
    for _ in 0..TIMES {
        let mut browser = Browser::open(&url);
        browser.until(&format!("{LOADED} > 0"));
        painted.push(browser.value(PAINTED).as_f64().unwrap());
        loaded.push(browser.value(LOADED).as_f64().unwrap());
    }
    println!("painted after {:.0} ms, there after {:.0} ms", median(painted), median(loaded));
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}
