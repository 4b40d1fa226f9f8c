//! Sizes as people type them.

/// A size as people write it: a number of bytes, or one with `k`, `M`, `G` or `T` behind it, each 1024 of the one before.
pub fn read_size(text: &str) -> Result<u64, String> {
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len()));
    let shift = match unit.to_ascii_uppercase().as_str() {
        "" | "B" => 0,
        "K" | "KB" | "KIB" => 10,
        "M" | "MB" | "MIB" => 20,
        "G" | "GB" | "GIB" => 30,
        "T" | "TB" | "TIB" => 40,
        _ => return Err("a size is like 800M or 2G".to_owned()),
    };
    let number = number.parse::<u64>().ok().and_then(|number| number.checked_mul(1 << shift));
    number.ok_or_else(|| "a size is like 800M or 2G".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_as_people_write_them() {
        for (text, bytes) in
            [("800", 800), ("2k", 2048), ("3M", 3 << 20), ("2GiB", 2 << 30), ("1t", 1 << 40), ("0", 0)]
        {
            assert_eq!(read_size(text), Ok(bytes), "{text}");
        }
        for text in ["", "G", "two", "-1", "2 G", "99999999999T", "1.5G"] {
            assert!(read_size(text).is_err(), "{text}");
        }
    }
}
