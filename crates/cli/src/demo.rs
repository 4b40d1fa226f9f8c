//! `demo`: the whole story in a made-up garden.

mod charter;
mod merging;
mod rules;
mod served;
mod short;
mod sources;
mod story;
mod team;
mod teller;
mod world;

use std::path::{Path, PathBuf};

use bibliotax_disk::error::At;
use bibliotax_disk::write::make_folder;

use self::story::{Chapter, Story};
use crate::exit_status::Exit;
use crate::json;
use crate::run::Run;
use bibliotax_app::failure::Failure;

/// Show what bibliotax does, on sample data
///
/// Creates the registries of Fernhollow, a made-up botanical garden, and runs command after command in its projects: a short story,
/// or one chapter of the whole one. The folder is kept for you to continue with. Your own store and settings aren't touched.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax demo garden\n  bibliotax demo --chapter workspace\n  bibliotax demo --all garden"
)]
pub struct Demo {
    /// A new or empty folder [default: a temporary one]
    folder: Option<PathBuf>,
    /// Show only this chapter of the whole story
    #[arg(long, value_name = "CHAPTER")]
    chapter: Option<Chapter>,
    /// Show the whole story
    #[arg(long, conflicts_with = "chapter")]
    all: bool,
}

impl Demo {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let folder = self.folder(run.folder())?;
        let world = world::build(run, &folder)?;
        story::tell(self.story(), run.ui, &world)?;
        run.ui.report(|| json::machine::Demo { folder: folder.display().to_string() });
        Ok(Exit::Done)
    }

    fn story(&self) -> Story {
        match (self.all, self.chapter) {
            (true, _) => Story::All,
            (false, Some(chapter)) => Story::Chapter(chapter),
            (false, None) => Story::Short,
        }
    }

    fn folder(&self, here: &Path) -> Result<PathBuf, Failure> {
        let Some(folder) = &self.folder else {
            let among = std::env::temp_dir();
            let made =
                tempfile::Builder::new().prefix("fernhollow-").tempdir_in(&among).at("write in", &among)?;
            return Ok(made.keep());
        };
        let folder = here.join(folder);
        if folder.read_dir().is_ok_and(|mut entries| entries.next().is_some()) {
            let message = format!("{} isn't empty", folder.display());
            return Err(Failure::new("demo.not-empty", message).advice("choose a new or empty folder"));
        }
        make_folder(&folder)?;
        Ok(std::path::absolute(&folder).unwrap_or(folder))
    }
}
