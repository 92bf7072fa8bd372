//! A seam that fails, stops, or loses what was not synced.

use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use odd_stack_core::files::{Block, Copied, RealDisk, Seam, Stamp};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The disk refuses one step, and works again after it.
    Refuse,
    /// The process stops: no step is done from then on.
    Stop,
    /// As `Stop`, and everything since the last sync is lost.
    LoseAll,
    /// As `Stop`, and some of what was done since the last sync is lost, by a seed.
    LoseSome(u64),
}

/// What undoes one step.
enum Undo {
    Remove(PathBuf),
    Rename {
        from: PathBuf,
        to: PathBuf,
    },
    MakeFolder(PathBuf),
    /// Brings back a removed or overwritten file, moved aside.
    BringBack {
        aside: PathBuf,
        path: PathBuf,
    },
}

pub struct Faulty {
    real: RealDisk,
    fault: Fault,
    at: u64,
    steps: AtomicU64,
    unsynced: Mutex<Vec<Undo>>,
    aside: PathBuf,
    /// Copies are told as if they shared their blocks: without a hash.
    pub shares_blocks: bool,
    /// What was thrown away can't be removed, as when another program holds it.
    pub holds_trash: bool,
    /// A folder of that name can't be removed, since a program stands in it.
    pub stands_in: Option<&'static str>,
    /// What was to have the rights of the folder it lies in.
    pub given_rights: Mutex<Vec<PathBuf>>,
    /// What was read to be copied.
    pub copied: Mutex<Vec<PathBuf>>,
}

impl Faulty {
    /// Fails at the step number `at`, counted from 0. `aside` is a folder for what is removed.
    pub fn new(fault: Fault, at: u64, aside: PathBuf) -> Self {
        fs::create_dir_all(&aside).unwrap();
        Self {
            real: RealDisk::default(),
            fault,
            at,
            steps: AtomicU64::new(0),
            unsynced: Mutex::default(),
            aside,
            shares_blocks: false,
            holds_trash: false,
            stands_in: None,
            given_rights: Mutex::default(),
            copied: Mutex::default(),
        }
    }

    /// Whether the fault came.
    pub fn has_struck(&self) -> bool {
        self.steps.load(Ordering::SeqCst) > self.at
    }

    /// How many steps there were.
    pub fn steps(&self) -> u64 {
        self.steps.load(Ordering::SeqCst)
    }

    fn step(&self) -> io::Result<u64> {
        let number = self.steps.fetch_add(1, Ordering::SeqCst);
        let strikes = match self.fault {
            Fault::Refuse => number == self.at,
            _ => number >= self.at,
        };
        if strikes { Err(io::Error::other("the disk refuses, for a test")) } else { Ok(number) }
    }

    fn note(&self, undo: Undo) {
        self.unsynced.lock().unwrap().push(undo);
    }

    fn set_aside(&self, path: &Path, number: u64) -> io::Result<()> {
        let aside = self.aside.join(number.to_string());
        fs::rename(path, &aside)?;
        self.note(Undo::BringBack { aside, path: path.to_path_buf() });
        Ok(())
    }

    /// The power goes: takes back what was not synced.
    pub fn lose_unsynced(&self) {
        let mut seed = match self.fault {
            Fault::LoseAll => None,
            Fault::LoseSome(seed) => Some(seed | 1),
            _ => return,
        };
        for undo in self.unsynced.lock().unwrap().drain(..).rev() {
            if let Some(seed) = &mut seed {
                // Xorshift (Marsaglia 2003), enough to flip a coin.
                *seed ^= *seed << 13;
                *seed ^= *seed >> 7;
                *seed ^= *seed << 17;
                if *seed % 2 == 0 {
                    continue;
                }
            }
            // What a kept later step built on can't be lost alone; such an undo does nothing.
            let _ = match undo {
                Undo::Remove(path) if path.is_dir() => fs::remove_dir(path),
                Undo::Remove(path) => fs::remove_file(path),
                Undo::Rename { from, to } if !to.exists() => fs::rename(from, to),
                Undo::MakeFolder(path) => fs::create_dir(path),
                Undo::BringBack { aside, path } if !path.exists() => fs::rename(aside, path),
                _ => Ok(()),
            };
        }
    }

    /// The step of writing a whole file, as far as it is taken before the file is.
    fn begin_to_write(&self, path: &Path) -> io::Result<()> {
        let number = match self.step() {
            Ok(number) => number,
            Err(error) => {
                // A write can break off in the middle.
                fs::write(path, "half a wri")?;
                return Err(error);
            }
        };
        if path.exists() {
            self.set_aside(path, number)?;
        }
        self.note(Undo::Remove(path.to_path_buf()));
        Ok(())
    }
}

impl Seam for Faulty {
    fn inherit_rights(&self, path: &Path) {
        self.given_rights.lock().unwrap().push(path.to_path_buf());
    }

    fn create_folder(&self, path: &Path) -> io::Result<()> {
        self.step()?;
        self.real.create_folder(path)?;
        self.note(Undo::Remove(path.to_path_buf()));
        Ok(())
    }

    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        self.step()?;
        if path.is_dir() && self.stands_in.is_some_and(|name| path.ends_with(name)) {
            return Err(io::ErrorKind::ResourceBusy.into());
        }
        self.real.remove_folder(path)?;
        self.note(Undo::MakeFolder(path.to_path_buf()));
        Ok(())
    }

    fn remove_file(&self, path: &Path) -> io::Result<()> {
        let number = self.step()?;
        if self.holds_trash && path.iter().any(|name| name == "trash") {
            return Err(io::ErrorKind::PermissionDenied.into());
        }
        self.set_aside(path, number)
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.step()?;
        self.real.rename(from, to)?;
        self.note(Undo::Rename { from: to.to_path_buf(), to: from.to_path_buf() });
        Ok(())
    }

    fn replace(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.step()?;
        let aside = self.aside.join(format!("replaced-{}", self.steps.load(Ordering::SeqCst)));
        fs::rename(to, &aside)?;
        self.real.rename(from, to)?;
        self.note(Undo::BringBack { aside, path: to.to_path_buf() });
        self.note(Undo::Rename { from: to.to_path_buf(), to: from.to_path_buf() });
        Ok(())
    }

    fn respell(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.step()?;
        self.real.respell(from, to)?;
        self.note(Undo::Rename { from: to.to_path_buf(), to: from.to_path_buf() });
        Ok(())
    }

    fn write_file(&self, path: &Path, content: &mut dyn Read) -> io::Result<u64> {
        self.begin_to_write(path)?;
        self.real.write_file(path, content)
    }

    fn write_twice(
        &self,
        path: &Path,
        again: (&Path, Stamp),
        content: &mut dyn Read,
    ) -> io::Result<(u64, bool)> {
        self.begin_to_write(path)?;
        self.note(Undo::Remove(again.0.to_path_buf()));
        self.real.write_twice(path, again, content)
    }

    fn write_blocks(
        &self,
        path: &Path,
        like: Option<&fs::File>,
        blocks: &mut dyn Iterator<Item = Block>,
    ) -> io::Result<()> {
        self.begin_to_write(path)?;
        self.real.write_blocks(path, like, blocks)
    }

    fn write_new(&self, path: &Path, content: &[u8], stamp: Stamp) -> io::Result<()> {
        if let Err(error) = self.step() {
            fs::write(path, &content[..content.len() / 2])?;
            return Err(error);
        }
        self.note(Undo::Remove(path.to_path_buf()));
        self.real.write_new(path, content, stamp)
    }

    fn append_file(&self, path: &Path, content: &[u8]) -> io::Result<()> {
        let number = match self.step() {
            Ok(number) => number,
            Err(error) => {
                self.real.append_file(path, &content[..content.len() / 2])?;
                return Err(error);
            }
        };
        if path.exists() {
            let aside = self.aside.join(number.to_string());
            // Of a seam before this one, and perhaps a further name of a stored content.
            let _ = fs::remove_file(&aside);
            fs::copy(path, &aside)?;
            self.note(Undo::BringBack { aside, path: path.to_path_buf() });
        }
        self.note(Undo::Remove(path.to_path_buf()));
        self.real.append_file(path, content)
    }

    fn copy_file(&self, from: &Path, to: &Path, size_bytes: u64, stamp: Stamp) -> io::Result<Copied> {
        if let Err(error) = self.step() {
            fs::write(to, "half a co")?;
            return Err(error);
        }
        self.note(Undo::Remove(to.to_path_buf()));
        self.copied.lock().unwrap().push(from.to_path_buf());
        let copied = self.real.copy_file(from, to, size_bytes, stamp)?;
        Ok(if self.shares_blocks { Copied { hash: None, ..copied } } else { copied })
    }

    fn stamp(&self, path: &Path, stamp: Stamp) -> io::Result<()> {
        self.step()?;
        self.real.stamp(path, stamp)
    }

    fn link_file(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.step()?;
        self.real.link_file(from, to)?;
        self.note(Undo::Remove(to.to_path_buf()));
        Ok(())
    }

    fn make_durable(&self, folder: &Path, touched: &[&Path]) -> io::Result<()> {
        self.step()?;
        self.real.make_durable(folder, touched)?;
        self.unsynced.lock().unwrap().clear();
        Ok(())
    }

    fn fence(&self, folders: &[PathBuf]) {
        self.real.fence(folders);
    }

    fn pass(&self, _point: &'static str) -> io::Result<()> {
        self.step().map(drop)
    }
}
