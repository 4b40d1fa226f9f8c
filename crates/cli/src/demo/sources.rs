//! The demo's packages outside registries: a git repository, and an archive without a card.

use std::fs::{self, File};
use std::path::Path;
use std::process::{Command, Stdio};

use bibliotax_archive::pack::write_archive;
use bibliotax_archive::select::select_part;
use bibliotax_disk::error::At;
use bibliotax_disk::write::make_folder;
use bibliotax_registry::RegistryError;

use bibliotax_app::failure::Failure;

/// The states of the repository: a tag, its date, and where its files are among the data.
const STATES: [(&str, &str, &str); 3] = [
    ("v1.2.0", "2025-10-20T09:00:00Z", "packages/seedhouse/leaf-palette/1.2.0"),
    ("v2.0.0", "2026-04-01T09:00:00Z", "packages/seedhouse/leaf-palette/2.0.0"),
    ("v2.1.0", "2026-09-21T09:00:00Z", "sources/leaf-palette/2.1.0"),
];

/// Makes them in a folder out of the demo's data; the repository only where there is git.
pub fn make(data: &Path, folder: &Path, has_git: bool) -> Result<(), Failure> {
    make_folder(folder)?;
    let archive = folder.join("frost-table-1.2.tar.zst");
    let written = File::create(&archive).at("write", &archive)?;
    let files = select_part(&data.join("sources/frost-table"), None);
    files.and_then(|selected| write_archive(&selected.files, written)).map_err(RegistryError::from)?;
    if !has_git {
        return Ok(());
    }
    let repository = folder.join("leaf-palette");
    make_folder(&repository)?;
    git(&repository, "2025-10-20T09:00:00Z", &["init", "--quiet", "--initial-branch=main"])?;
    for (tag, date, state) in STATES {
        let state = data.join(state);
        make_folder(&repository.join("data"))?;
        for file in ["bibliotax.toml", "data/palette.json"] {
            fs::copy(state.join(file), repository.join(file)).at("copy", state.join(file))?;
        }
        git(&repository, date, &["add", "."])?;
        git(&repository, date, &["commit", "--quiet", "--message", tag])?;
        git(&repository, date, &["tag", tag])?;
    }
    Ok(())
}

/// Runs git as a person of the demo's garden, without this machine's git settings.
fn git(repository: &Path, date: &str, args: &[&str]) -> Result<(), Failure> {
    let mut command = Command::new("git");
    command.args(["-c", "user.name=leaf", "-c", "user.email=leaf@fernhollow.example"]).args(args);
    command.current_dir(repository).env("GIT_AUTHOR_DATE", date).env("GIT_COMMITTER_DATE", date);
    command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1").env_remove("GIT_DIR");
    let output = command.stdin(Stdio::null()).output().at("run", "git")?;
    if output.status.success() {
        return Ok(());
    }
    Err(Failure::new(
        "defect",
        format!("git {}: {}", args.join(" "), String::from_utf8_lossy(&output.stderr)),
    ))
}
