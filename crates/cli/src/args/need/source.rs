//! `--path`, `--git` and `--archive`: packages from outside registries.

use bibliotax_app::need::sources::SourceWords;

/// Where a package comes from that is in no registry
#[derive(Debug, clap::Args)]
#[group(multiple = true)]
pub struct SourceArgs {
    /// Use the project in this folder, as it is there; a workspace's projects need each other so
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["shared", "from", "exactly"])]
    path: Option<String>,
    /// Take it from this git repository: its releases by their tags, unless another option says which commit
    #[arg(long, value_name = "URL", conflicts_with_all = ["shared", "from", "exactly", "path"])]
    git: Option<String>,
    /// What this tag of the repository names
    #[arg(long, value_name = "TAG", requires = "git", conflicts_with_all = ["branch", "rev"])]
    tag: Option<String>,
    /// The newest commit of this branch of the repository
    #[arg(long, value_name = "BRANCH", requires = "git", conflicts_with = "rev")]
    branch: Option<String>,
    /// This commit of the repository
    #[arg(long, value_name = "COMMIT", requires = "git")]
    rev: Option<String>,
    /// The folder of the repository that is the package
    #[arg(long, value_name = "FOLDER", requires = "git")]
    dir: Option<String>,
    /// Take it from this archive, whose contents and digest are shown
    #[arg(long, value_name = "URL", conflicts_with_all = ["shared", "from", "exactly", "path", "git"])]
    archive: Option<String>,
    /// The folder inside the archive that is the package; the one that all of it lies in, without this
    #[arg(long, value_name = "FOLDER", requires = "archive")]
    strip: Option<String>,
}

impl SourceArgs {
    /// The words.
    pub fn words(&self) -> SourceWords {
        SourceWords {
            path: self.path.clone(),
            git: self.git.clone(),
            tag: self.tag.clone(),
            branch: self.branch.clone(),
            commit: self.rev.clone(),
            folder: self.dir.clone(),
            archive: self.archive.clone(),
            strip: self.strip.clone(),
        }
    }
}
