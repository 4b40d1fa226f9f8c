//! The list of names of a registry in a folder: frames appended under a lock, a torn end cut off.

use std::fs::{self, File};
use std::io::{Read, Seek, SeekFrom, Write};

use bibliotax_core::name::PackageName;
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::lock::exclusive;
use bibliotax_disk::write::{folder_of, make_folder, open_to_change};

use super::Folder;
use crate::model::error::RegistryError;
use crate::model::names::{NAMES, frames, whole_frames};
use crate::model::storage::{ReadRegistry, ReadRegistryExt, WriteRegistryExt};

impl Folder {
    pub(super) fn append_names(&self, packages: &[PackageName]) -> Result<(), RegistryError> {
        let path = self.root.join(NAMES);
        let wrong = |error| DiskError::new("write", &path, error);
        let mut file = open_to_change(&path)?;
        exclusive(&file, || ()).map_err(wrong)?;
        // Read while nobody else notes anything, so that a line is never older than one before it.
        let lines = self.name_lines(packages, |package| self.history(package))?;
        let frames = frames(&lines).map_err(wrong)?;
        let noted = self.root.join("private/names.length");
        // Where the last publisher noted its end, it did not die before; else the frames are gone through.
        let length = fs::read_to_string(&noted).ok().and_then(|text| text.trim().parse::<u64>().ok());
        if length == Some(file.metadata().map_err(wrong)?.len()) {
            file.seek(SeekFrom::End(0)).map_err(wrong)?;
        } else {
            cut_torn_end(&mut file).map_err(wrong)?;
        }
        file.write_all(&frames).and_then(|()| file.sync_all()).map_err(wrong)?;
        let length = file.metadata().map_err(wrong)?.len();
        make_folder(folder_of(&noted))?;
        Ok(fs::write(&noted, length.to_string()).at("write", &noted)?)
    }

    pub(super) fn rebuild_names(&self) -> Result<usize, RegistryError> {
        let path = self.root.join(NAMES);
        let mut names = self.names()?;
        names.sort();
        match fs::remove_file(&path) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("remove", &path)?,
            _ => {}
        }
        self.append_names(&names)?;
        Ok(names.len())
    }
}

/// Goes to the end of the last whole frame: what follows is of a publisher that died.
fn cut_torn_end(file: &mut File) -> std::io::Result<()> {
    let mut packed = Vec::new();
    file.seek(SeekFrom::Start(0))?;
    file.read_to_end(&mut packed)?;
    let whole = whole_frames(&packed) as u64;
    file.set_len(whole)?;
    file.seek(SeekFrom::Start(whole)).map(drop)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;
    use crate::model::names::read_names;
    use crate::model::storage::WriteRegistry;

    fn name(text: &str) -> PackageName {
        text.parse().unwrap()
    }

    #[test]
    fn the_last_line_about_a_package_counts_and_a_torn_end_harms_nobody() {
        let folder = tempfile::tempdir().unwrap();
        let registry = Folder::create(&folder.path().join("r"), "seedhouse", BTreeMap::new()).unwrap();
        let list = registry.root.join(NAMES);
        registry.update_name_list(&[name("moss-map"), name("dew-point")]).unwrap();
        let whole = fs::read(&list).unwrap();
        let more = frames(b"{\"name\":\"moss-map\",\"newest\":\"1.0\"}\n").unwrap();
        let after: Vec<u8> = [&whole[..], &more].concat();
        fs::write(&list, &after).unwrap();
        assert_eq!(read_names(&list).unwrap()[&name("moss-map")].newest, Some("1.0".parse().unwrap()));
        for cut in 1..more.len() {
            let torn = &after[..whole.len() + cut];
            fs::write(&list, torn).unwrap();
            assert_eq!(read_names(&list).unwrap().len(), 2, "what is whole is read");
            fs::write(registry.root.join("private/names.length"), whole.len().to_string()).unwrap();
            registry.update_name_list(&[name("bark-log")]).unwrap();
            assert_eq!(read_names(&list).unwrap().len(), 3, "{cut} bytes of a frame");
        }
        assert_eq!(registry.rebuild_name_list().unwrap(), 0, "no package has a history here");
        assert!(read_names(&list).unwrap().is_empty());
    }
}
