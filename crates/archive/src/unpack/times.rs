//! The times of unpacked files: those of the archive, within what every system and tool can have.

use std::time::{Duration, SystemTime};

use bibliotax_disk::stamp::Stamp;

/// The earliest time that a file gets, in seconds since 1970: the second day of 1980, which ZIP archives can have in every time zone.
/// Archives that were made without times give it to all their files.
const EARLIEST: u64 = 315_619_200;

/// What an archive says of the time of an entry: seconds since 1970, and nanoseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct EntryTime {
    pub seconds: i64,
    pub nanoseconds: u32,
}

impl EntryTime {
    /// A time in the form of extended tar headers: seconds since 1970 with a fraction (POSIX.1-2001, "pax Extended Header").
    pub fn parse(text: &str) -> Option<Self> {
        let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
        let seconds = whole.parse().ok()?;
        let digits: String = fraction.chars().take(9).collect();
        if !fraction.bytes().all(|byte| byte.is_ascii_digit()) {
            return None;
        }
        let nanoseconds = format!("{digits:0<9}").parse().ok()?;
        Some(Self { seconds, nanoseconds })
    }

    /// The stamp that a file gets, unpacked at this time: one that is still to come would confuse every build tool.
    pub fn stamp(self, now: SystemTime) -> Stamp {
        let seconds = u64::try_from(self.seconds).unwrap_or_default();
        let since = Duration::new(seconds, self.nanoseconds).max(Duration::from_secs(EARLIEST));
        let time = SystemTime::UNIX_EPOCH.checked_add(since).unwrap_or(now);
        Stamp::at(time.min(now))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read_with_fractions_and_kept_in_bounds() {
        let time = |seconds, nanoseconds| Some(EntryTime { seconds, nanoseconds });
        assert_eq!(EntryTime::parse("1700000000.5"), time(1_700_000_000, 500_000_000));
        assert_eq!(EntryTime::parse("-3"), time(-3, 0));
        assert_eq!(EntryTime::parse("17.0000000019"), time(17, 1));
        assert_eq!(EntryTime::parse("soon"), None);
        let at = |seconds: u64| SystemTime::UNIX_EPOCH + Duration::from_secs(seconds);
        let stamp = |seconds| EntryTime { seconds, nanoseconds: 0 }.stamp(at(1_800_000_000));
        assert_eq!(stamp(1_700_000_000), Stamp::at(at(1_700_000_000)));
        assert_eq!(stamp(0), Stamp::at(at(EARLIEST)));
        assert_eq!(stamp(-5), Stamp::at(at(EARLIEST)));
        assert_eq!(stamp(i64::MAX), Stamp::at(at(1_800_000_000)));
    }
}
