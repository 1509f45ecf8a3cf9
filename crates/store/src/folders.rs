//! The folders of generations: `certificates/NAME/0001/` and the link `current`.

use crate::{LARGEST, Store, StoreError, io};
use eskort_core::inventory::Part;
use eskort_core::pki::{Chain, PrivateKey, Secret};
use eskort_host::files::{Access, make_folders, read_whole, remove, switch_link, write_atomic, write_several};
use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};

/// The folder of one generation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GenerationFolder {
    path: PathBuf,
}

impl GenerationFolder {
    /// Returns the path of one of its parts.
    pub fn part(&self, part: Part) -> PathBuf {
        self.path.join(part.file_name())
    }

    /// Returns the folder's path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Returns the generation's key, when it is stored.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn key(&self) -> Result<Option<Secret<String>>, StoreError> {
        Ok(read_if_there(self.part(Part::Key))?.map(Secret::new))
    }

    /// Stores the key, readable by its owner only from the first byte on.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn save_key(&self, key: &PrivateKey) -> Result<(), StoreError> {
        make_folders(&self.path, 0o700).map_err(io("make", &self.path))?;
        let path = self.part(Part::Key);
        write_atomic(&path, key.to_pem().reveal().as_bytes(), Access::mode(0o600)).map_err(io("write", path))
    }

    /// Returns where the CSR is, for authorities that a person carries it to.
    pub fn request(&self) -> PathBuf {
        self.path.join("request.pem")
    }

    /// Returns the stored CSR's PEM text, when there is one.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn stored_request(&self) -> Result<Option<String>, StoreError> {
        read_if_there(self.request())
    }

    /// Removes the CSR of a journey that was given up.
    ///
    /// # Errors
    /// When it is there and cannot be removed.
    pub fn forget_request(&self) -> Result<(), StoreError> {
        remove(&self.request()).map_err(io("remove", self.request()))
    }

    /// Stores the CSR as PEM.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn save_request(&self, pem: &str) -> Result<(), StoreError> {
        let path = self.request();
        write_atomic(&path, pem.as_bytes(), Access::mode(0o644)).map_err(io("write", path))
    }

    /// Stores the chain as leaf, intermediates and bundle.
    ///
    /// # Errors
    /// When a file cannot be written.
    pub fn save_chain(&self, chain: &Chain) -> Result<(), StoreError> {
        let parts = [
            (self.part(Part::Certificate), chain.leaf_pem()),
            (self.part(Part::Intermediates), chain.intermediates_pem()),
            (self.part(Part::Bundle), chain.bundle_pem()),
        ];
        let files = parts.iter().map(|(path, text)| (path.as_path(), text.as_bytes()));
        write_several(files, Access::mode(0o644)).map_err(|(path, error)| io("write", path)(error))
    }

    /// Returns the stored chain's PEM text, when there is one.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn bundle(&self) -> Result<Option<String>, StoreError> {
        read_if_there(self.part(Part::Bundle))
    }
}

pub(crate) fn read_if_there(path: PathBuf) -> Result<Option<String>, StoreError> {
    let read = read_whole(&path, LARGEST).map_err(io("read", &path))?;
    let text = read.map(|file| {
        String::from_utf8(file.bytes).map_err(|_| std::io::Error::new(std::io::ErrorKind::InvalidData, "it is no text"))
    });
    text.transpose().map_err(io("read", path))
}

impl Store {
    fn certificate_folder(&self, certificate: &str) -> PathBuf {
        self.root.join("certificates").join(certificate)
    }

    /// Returns the folder of a generation, whether it exists or not.
    pub fn generation_folder(&self, certificate: &str, number: u32) -> GenerationFolder {
        GenerationFolder { path: self.certificate_folder(certificate).join(format!("{number:04}")) }
    }

    /// Returns the folder with what is written for a server that cannot read a generation as it lies.
    pub fn served_folder(&self, server: &str) -> PathBuf {
        self.root.join("served").join(server)
    }

    /// Returns the folder that servers are pointed at: it leads to whichever generation is in use.
    pub fn current_folder(&self, certificate: &str) -> GenerationFolder {
        GenerationFolder { path: self.certificate_folder(certificate).join("current") }
    }

    /// Returns the generation that `current` leads to.
    pub fn current_generation(&self, certificate: &str) -> Option<u32> {
        let target = fs::read_link(self.current_link(certificate)).ok()?;
        target.file_name()?.to_str()?.parse().ok()
    }

    /// Makes `current` lead to a generation, in one rename; with `None` takes the link away.
    ///
    /// # Errors
    /// When the link cannot be written.
    pub fn switch_current(&self, certificate: &str, number: Option<u32>) -> Result<(), StoreError> {
        let link = self.current_link(certificate);
        let switched = match number {
            Some(number) => switch_link(&link, &format!("{number:04}")),
            None => remove(&link),
        };
        switched.map_err(io("switch", link))
    }

    pub(crate) fn current_link(&self, certificate: &str) -> PathBuf {
        self.certificate_folder(certificate).join("current")
    }

    /// Returns the highest number that a generation's folder has, but for one that is discarded; 0 where there are none.
    pub(crate) fn highest_folder(&self, certificate: &str, discarded: Option<u32>) -> u32 {
        let folders = fs::read_dir(self.certificate_folder(certificate)).into_iter().flatten();
        let number = |entry: std::io::Result<fs::DirEntry>| entry.ok()?.file_name().to_str()?.parse().ok();
        folders.filter_map(number).filter(|number| Some(*number) != discarded).max().unwrap_or(0)
    }

    /// Takes away the folder of a generation that was given up before its certificate came. Nothing was made with its key.
    ///
    /// # Errors
    /// When a file cannot be removed.
    pub fn discard_unfinished(&self, certificate: &str, number: u32) -> Result<(), StoreError> {
        let folder = self.generation_folder(certificate, number);
        if folder.bundle()?.is_some() {
            return Ok(());
        }
        for path in [folder.part(Part::Key), folder.request()] {
            remove(&path).map_err(io("remove", path))?;
        }
        eskort_host::files::remove_folder(folder.path());
        Ok(())
    }
}

impl Store {
    /// Removes the folder of a generation with all that is in it; what was in its files is overwritten before. One that is gone already is no error.
    ///
    /// # Errors
    /// When a file cannot be overwritten or removed.
    pub fn remove_generation(&self, certificate: &str, number: u32) -> Result<(), StoreError> {
        let folder = self.generation_folder(certificate, number);
        for entry in fs::read_dir(folder.path()).into_iter().flatten().flatten() {
            let path = entry.path();
            // Not by a link: that would lead elsewhere.
            if entry.file_type().is_ok_and(|kind| kind.is_file()) {
                overwrite(&path).map_err(io("overwrite", &path))?;
            }
            remove(&path).map_err(io("remove", &path))?;
        }
        eskort_host::files::remove_folder(folder.path());
        Ok(())
    }
}

/// Overwrites what is in a file, as far as its file system does that in place.
fn overwrite(path: &Path) -> std::io::Result<()> {
    let mut file = fs::OpenOptions::new().write(true).open(path)?;
    let length = file.metadata()?.len();
    std::io::copy(&mut std::io::repeat(0).take(length), &mut file)?;
    file.sync_data()
}

#[cfg(test)]
mod tests {
    use super::*;
    use eskort_core::pki::KeyKind;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn keys_are_for_their_owner_only_and_current_switches() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let folder = store.generation_folder("website", 1);
        assert!(folder.key().unwrap().is_none());
        folder.save_key(&PrivateKey::generate(KeyKind::P256).unwrap()).unwrap();
        let mode = fs::metadata(folder.part(Part::Key)).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        assert_eq!(store.current_generation("website"), None);
        store.switch_current("website", Some(1)).unwrap();
        store.switch_current("website", Some(2)).unwrap();
        assert_eq!(store.current_generation("website"), Some(2));
        store.switch_current("website", None).unwrap();
        store.switch_current("website", None).unwrap();
        assert_eq!(store.current_generation("website"), None);
    }
}
