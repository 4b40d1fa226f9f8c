//! A server's log: lines of JSON on the standard error, one per request and failure.

use std::io;

use tracing_subscriber::filter::{LevelFilter, Targets};
use tracing_subscriber::fmt::MakeWriter;
use tracing_subscriber::layer::SubscriberExt as _;
use tracing_subscriber::util::SubscriberInitExt as _;

use crate::ui::Ui;

/// What our own crates' targets begin with.
const OURS: &str = "bibliotax";

/// Begins the log; with `quiet`, of failures alone.
pub fn begin(quiet: bool) {
    let level = if quiet { LevelFilter::WARN } else { LevelFilter::INFO };
    let lines = tracing_subscriber::fmt::layer()
        .json()
        .flatten_event(true)
        .with_target(false)
        .with_current_span(false)
        .with_span_list(false)
        .with_writer(Lines);
    let ours = Targets::new().with_target(OURS, level);
    // A process serves one registry only, so that nobody began another log.
    let _ = tracing_subscriber::registry().with(lines).with(ours).try_init();
}

/// Writes whole lines, in which nothing acts on a terminal.
struct Lines;

impl<'a> MakeWriter<'a> for Lines {
    type Writer = Self;

    fn make_writer(&'a self) -> Self {
        Self
    }
}

impl io::Write for Lines {
    fn write(&mut self, line: &[u8]) -> io::Result<usize> {
        Ui::log(String::from_utf8_lossy(line).trim_end());
        Ok(line.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
