//! What is to be done by hand.

use bibliotax_core::steps::{StepStatus, Todo};
use bibliotax_present::words::step_place;
use serde::Serialize;

use super::package_id;

/// A step with all its places.
#[derive(Serialize)]
pub struct StepRow {
    id: String,
    href: String,
    package: String,
    text: String,
    places: Vec<PlaceRow>,
    is_open: bool,
}

/// A place of a step.
#[derive(Serialize)]
struct PlaceRow {
    place: String,
    status: &'static str,
    look: &'static str,
}

/// The steps, each once, the open ones first.
pub fn rows(todos: &[Todo<'_>]) -> Vec<StepRow> {
    let same = todos.chunk_by(|one, next| std::ptr::eq(one.step, next.step));
    let mut rows: Vec<StepRow> = same.filter_map(StepRow::of).collect();
    rows.sort_by_key(|row| !row.is_open);
    rows
}

impl StepRow {
    fn of(todos: &[Todo<'_>]) -> Option<Self> {
        let first = todos.first()?;
        Some(Self {
            id: first.step.id.to_string(),
            href: format!("#{}", package_id(&first.package.name)),
            package: first.package.name.to_string(),
            text: first.step.text.clone(),
            places: todos.iter().map(PlaceRow::of).collect(),
            is_open: todos.iter().any(Todo::is_open),
        })
    }
}

impl PlaceRow {
    fn of(todo: &Todo<'_>) -> Self {
        let look = if todo.status == StepStatus::Done { "yes" } else { "unsure" };
        Self { place: step_place(&todo.place), status: crate::render::steps::word(todo.status), look }
    }
}
