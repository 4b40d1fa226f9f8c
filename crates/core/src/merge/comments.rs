//! Merges what stands around values: comments and empty lines.

use toml_edit::{Decor, RawString};

/// Merges the text around something; no line that a side wrote is lost.
pub fn merge_decor(base: Option<&Decor>, ours: &mut Decor, theirs: &Decor) {
    let of = |decor: Option<&Decor>, part: fn(&Decor) -> Option<&RawString>| {
        decor.and_then(part).and_then(RawString::as_str).unwrap_or_default().to_owned()
    };
    for (part, set) in [
        (Decor::prefix as fn(&Decor) -> Option<&RawString>, Decor::set_prefix as fn(&mut Decor, String)),
        (Decor::suffix, Decor::set_suffix),
    ] {
        let (before, our, their) = (of(base, part), of(Some(ours), part), of(Some(theirs), part));
        let merged = merge_text(&before, &our, &their);
        if merged != our {
            set(ours, merged);
        }
    }
}

/// Merges comments: what only one side changed, and of what both did, our lines and those of theirs that we don't have.
pub fn merge_text(base: &str, ours: &str, theirs: &str) -> String {
    if ours == theirs || base == theirs {
        return ours.to_owned();
    }
    if base == ours {
        return theirs.to_owned();
    }
    let known = |line: &str| base.lines().chain(ours.lines()).any(|own| own.trim() == line.trim());
    let new: Vec<&str> = theirs.lines().filter(|line| !line.trim().is_empty() && !known(line)).collect();
    if new.is_empty() {
        return ours.to_owned();
    }
    if !ours.contains('\n') && !theirs.contains('\n') {
        // Behind a value there is room for one line only.
        let more: Vec<&str> = new.iter().map(|line| line.trim().trim_start_matches('#').trim()).collect();
        let begin = if ours.trim().is_empty() { " #".to_owned() } else { format!("{};", ours.trim_end()) };
        return format!("{begin} {}", more.join("; "));
    }
    let end = if ours.is_empty() || ours.ends_with('\n') { "" } else { "\n" };
    format!("{ours}{end}{}\n", new.join("\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn comments_of_both_sides_stay() {
        assert_eq!(merge_text("# a\n", "# a\n", "# b\n"), "# b\n");
        assert_eq!(merge_text("# a\n", "# c\n", "# a\n"), "# c\n");
        assert_eq!(merge_text("# a\n", "# a\n# c\n", "# a\n# b\n"), "# a\n# c\n# b\n");
        assert_eq!(merge_text("", " # one", " # other"), " # one; other");
        assert_eq!(merge_text(" # old", "", " # other"), " # other");
    }
}
