//! Limits on a package's history, so that every reader can read it.

use bibliotax_core::card::Event;
use bibliotax_core::name::PackageName;

use crate::model::error::RegistryError;

/// Largest history that is read or written, in bytes.
pub const MAX_HISTORY_SIZE: usize = 256 << 20;

/// Largest line of a history that is written, in bytes: a release with thousands of needs has far less.
const MAX_LINE_LEN: usize = 256 << 10;

/// How much of a history releases may fill; the rest is kept for withdrawals and deprecations of them.
const ROOM_FOR_RELEASES: usize = MAX_HISTORY_SIZE / 4 * 3;

/// The lines that events are in a package's history, behind what is there already (in bytes); an error if there is no room.
pub(crate) fn lines_to_append(
    package: &PackageName,
    there: usize,
    events: &[Event],
) -> Result<String, RegistryError> {
    let mut lines = String::new();
    for event in events {
        let line = checked_line(package, event)? + "\n";
        let (room, what) = match event {
            Event::Release(_) | Event::Revised(_) | Event::Provided(_) => (ROOM_FOR_RELEASES, "releases"),
            Event::Withdrawn(_) | Event::Restored(_) | Event::Deprecated(_) | Event::Undeprecated(_) => {
                (MAX_HISTORY_SIZE, "events")
            }
        };
        if there + lines.len() + line.len() > room {
            let why = format!("{what} may fill only {} MiB of it", room >> 20);
            return Err(RegistryError::NoRoom { package: package.clone(), why });
        }
        lines += &line;
    }
    Ok(lines)
}

/// The line of an event in a history, without its end; an error if it is too long.
pub(crate) fn checked_line(package: &PackageName, event: &Event) -> Result<String, RegistryError> {
    let line = line_of(event);
    let length = line.len() + "\n".len();
    if length > MAX_LINE_LEN {
        let why = format!("the new line has {} KiB; the limit is {} KiB", length >> 10, MAX_LINE_LEN >> 10);
        return Err(RegistryError::NoRoom { package: package.clone(), why });
    }
    Ok(line)
}

/// The line of an event in a history, without its end.
pub(crate) fn line_of(event: &Event) -> String {
    // Texts, lists and maps with text keys: nothing in an event can fail to be JSON.
    serde_json::to_string(event).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(text: &str) -> Event {
        serde_json::from_str(text).unwrap()
    }

    #[test]
    fn releases_leave_room_for_what_has_to_be_said_of_them() {
        let package = "moss-map".parse().unwrap();
        let at = r#""at":"2026-03-01T08:00:00Z""#;
        let provided = [event(&format!(r#"{{"event":"provided","by":"leaf-count",{at}}}"#))];
        let withdrawn =
            [event(&format!(r#"{{"event":"withdrawn","version":"1.0","reason":"wrong table",{at}}}"#))];
        assert!(lines_to_append(&package, ROOM_FOR_RELEASES - 1000, &provided).is_ok());
        assert!(lines_to_append(&package, ROOM_FOR_RELEASES, &provided).is_err());
        assert!(lines_to_append(&package, ROOM_FOR_RELEASES, &withdrawn).is_ok());
        assert!(lines_to_append(&package, MAX_HISTORY_SIZE - 10, &withdrawn).is_err());
    }
}
