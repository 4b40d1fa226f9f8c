//! Options of `help`.

use bibliotax_app::failure::Failure;

use crate::exit_status::Exit;
use crate::help::topics::Topic;
use crate::json::machine::ExplainedTopic;
use crate::run::Run;
use crate::ui::{style, styled};

/// Explain a topic: ranges, targets, sources, ci or environment
///
/// `bibliotax help COMMAND` shows the help of a command.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax help ranges\n  bibliotax help need")]
pub struct HelpTopic {
    /// The topic
    topic: Topic,
}

impl HelpTopic {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let text = self.topic.text();
        for line in text.trim_end().split("\n\n").flat_map(paragraph) {
            match line.strip_prefix("# ") {
                Some(title) => run.ui.answer(styled(style::STRONG, title)),
                None => run.ui.answer(line),
            }
        }
        run.ui.report(|| ExplainedTopic { text: text.to_owned() });
        Ok(Exit::Done)
    }
}

/// The lines of a paragraph: those with an indent as they are, others as one that a terminal breaks where it has to; a blank line ends it.
fn paragraph(text: &str) -> Vec<String> {
    let is_as_it_is = text.lines().all(|line| line.starts_with(' '));
    let lines: Vec<&str> = text.lines().collect();
    let mut lines = if is_as_it_is {
        lines.iter().map(|line| (*line).to_owned()).collect()
    } else {
        vec![lines.join(" ")]
    };
    lines.push(String::new());
    lines
}
