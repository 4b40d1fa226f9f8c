//! Data as people read it: sentences, rows of tables, drawings. Used by the terminal and the server's pages.
//!
//! Nothing here reads a file or writes to anything; the caller decides where a text goes.
//!
//! | module | what it has |
//! |---|---|
//! | [`words`] | sizes, counts, needs and fits in words |
//! | [`changes`], [`charters`] | the difference of two locks; what charters state |
//! | [`dates`] | dates with how long ago they are |
//! | [`conflict`] | why no set of releases satisfies all needs |
//! | [`excerpt`], [`passwords`] | the lines of a text around a fault; texts without passwords |
//! | [`graph`] | a graph of packages in DOT, in Mermaid and as SVG |
//! | [`page`] | what all HTML pages look like |
//! | [`table`] | rows in columns |
//! | [`terminal`] | text for a terminal: styles, and escapes for all text from outside |

pub mod changes;
pub mod charters;
pub mod conflict;
pub mod dates;
pub mod excerpt;
pub mod graph;
pub mod page;
pub mod passwords;
pub mod table;
pub mod terminal;
pub mod words;
