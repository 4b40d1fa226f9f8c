//! Questions to the person at the terminal.

use std::io::{self, Write};

/// A line that a person types, in small letters; no answer is a no.
pub fn answer(question: &str) -> String {
    let mut to_person = io::stderr().lock();
    let mut line = String::new();
    let asked = write!(to_person, "{question}");
    let read = asked.and_then(|()| to_person.flush()).and_then(|()| io::stdin().read_line(&mut line));
    match read {
        Ok(0) | Err(_) => "n".to_owned(),
        Ok(_) => line.trim().to_lowercase(),
    }
}
