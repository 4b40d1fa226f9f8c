//! Dates as people read them: with how long ago they are.

use jiff::{SignedDuration, Timestamp};

/// Days of a month and of a year, on average.
const MONTH: f64 = 30.44;
const YEAR: f64 = 365.25;

/// A day in UTC.
pub fn date(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d").to_string()
}

/// A day with how far it is from now: `2026-03-01 (3 months ago)`.
pub fn dated(at: Timestamp, now: Timestamp) -> String {
    format!("{} ({})", date(at), age(at, now))
}

/// How far a time is from now: `3 months ago`.
pub fn age(at: Timestamp, now: Timestamp) -> String {
    distance(at.duration_since(now))
}

/// How far something is from now, in the largest unit that fits.
fn distance(from_now: SignedDuration) -> String {
    #[expect(clippy::cast_precision_loss, reason = "days that people live to see are small numbers")]
    let days = (from_now.unsigned_abs().as_secs() / (24 * 60 * 60)) as f64;
    let (number, unit) = match days {
        ..1.0 => return "today".to_owned(),
        ..14.0 => (days, "day"),
        ..60.0 => ((days / 7.0).floor(), "week"),
        ..730.0 => ((days / MONTH).floor(), "month"),
        _ => ((days / YEAR).floor(), "year"),
    };
    let units = if number == 1.0 { unit.to_owned() } else { format!("{unit}s") };
    if from_now.is_negative() { format!("{number} {units} ago") } else { format!("in {number} {units}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_is_shown_with_its_distance() {
        let now: Timestamp = "2026-06-15T12:00:00Z".parse().unwrap();
        for (at, expected) in [
            ("2026-06-15T09:00:00Z", "2026-06-15 (today)"),
            ("2026-06-14T09:00:00Z", "2026-06-14 (1 day ago)"),
            ("2026-06-01T12:00:00Z", "2026-06-01 (2 weeks ago)"),
            ("2026-03-01T08:00:00Z", "2026-03-01 (3 months ago)"),
            ("2023-01-01T00:00:00Z", "2023-01-01 (3 years ago)"),
            ("2026-09-13T12:00:00Z", "2026-09-13 (in 2 months)"),
        ] {
            assert_eq!(dated(at.parse().unwrap(), now), expected);
        }
    }
}
