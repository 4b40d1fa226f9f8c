//! What a library could promise, level by level.

use bibliotax_app::fit::levels::{Ladder, Level};
use bibliotax_present::table::Table;

use crate::ui::{Ui, style, styled};

/// What a library could promise, level by level.
pub fn show(ui: &Ui, ladder: &Ladder) {
    ui.answer(format!("\n{}, level by level", styled(style::STRONG, &ladder.facet)));
    ui.answer(ui.table(ladder.levels.iter().map(|level| row(ladder, level))));
    let differs = ladder.newest.iter().filter(|(_, at)| at.windows(2).any(|pair| pair[0] != pair[1]));
    let differing: Vec<_> = differs.collect();
    if !differing.is_empty() {
        ui.answer(format!("{} that works, level by level", styled(style::STRONG, "newest")));
        let head = ladder.levels.iter().map(|level| level.name.as_str());
        let head: Vec<&str> = [""].into_iter().chain(head).collect();
        let row = |(name, at): &&(String, Vec<Option<String>>)| {
            let versions = at.iter().map(|version| version.clone().unwrap_or_else(|| "none".to_owned()));
            [format!(" {name}")].into_iter().chain(versions).collect()
        };
        ui.answer(ui.lines_of(&Table::of(differing.iter().map(row)).headed(&head)));
    }
    conclusions(ladder).iter().for_each(|text| ui.answer(text));
}

fn row(ladder: &Ladder, level: &Level) -> Vec<String> {
    let promised = if level.name == ladder.promised { "promised" } else { "" };
    let works = if level.asking.is_empty() {
        "all needs work".to_owned()
    } else {
        format!("not: {}", level.asking.join(", "))
    };
    let users = match (ladder.is_used, level.usable_on.as_slice(), level.broken_on.is_empty()) {
        (false, ..) => String::new(),
        (true, [], _) => "no target can use it".to_owned(),
        (true, _, true) => "all targets can use it".to_owned(),
        (true, some, false) => format!("only {} can use it", some.join(", ")),
    };
    vec![format!(" {}", level.name), promised.to_owned(), works, users]
}

fn conclusions(ladder: &Ladder) -> Vec<String> {
    let mut shown = vec![match ladder.lowest() {
        Some(level) if level == ladder.promised => "the promise is the lowest level that works".to_owned(),
        Some(level) => format!("{level} is the lowest level that works"),
        None => "no level works for all".to_owned(),
    }];
    shown.extend(ladder.shared().map(|level| format!("{level} is the highest level that all targets have")));
    let raised = ladder.levels.iter().skip_while(|level| level.name != ladder.promised).skip(1);
    if let Some(level) = raised.into_iter().find(|level| !level.broken_on.is_empty()) {
        shown.push(format!("{} would break {}", level.name, level.broken_on.join(", ")));
    }
    shown
}
