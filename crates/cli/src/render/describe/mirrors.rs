//! How far the mirrors of a package's registry lag behind it.

use bibliotax_present::dates::dated;
use bibliotax_present::words::count;
use bibliotax_registry::catalogue::registry::mirrored::{Lag, MirrorStatus};
use jiff::Timestamp;

use crate::ui::{Ui, clean, style, styled};

/// Lists the mirrors; nothing where there are none.
pub fn show(ui: &Ui, mirrors: &[MirrorStatus], now: Timestamp) {
    if mirrors.is_empty() {
        return;
    }
    ui.answer(format!("\n{}", styled(style::STRONG, "mirrors")));
    let row = |mirror: &MirrorStatus| vec![format!(" {}", clean(&mirror.url)), words(&mirror.lag, now)];
    ui.answer(ui.table(mirrors.iter().map(row)));
}

fn words(lag: &Lag, now: Timestamp) -> String {
    match lag {
        Lag::None => "has all of it".to_owned(),
        Lag::Behind(events, since) => {
            let since = since.map(|since| format!(", since {}", dated(since, now))).unwrap_or_default();
            styled(style::WARNING, format!("lags by {}{since}", count(*events, "event")))
        }
        Lag::Missing => styled(style::WARNING, "doesn't have it"),
        Lag::Other => styled(style::BAD, "has different data, so it isn't a mirror"),
        Lag::Away => styled(style::WARNING, "can't be reached"),
    }
}
