//! What all pages look like: colours for light and dark, text, links, focus, tables.

/// The styles that pages begin with, in CSS.
pub const BASE_STYLE: &str = include_str!("page/base.css");
