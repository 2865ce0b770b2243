//! Prepared trees, kept in the store for the next run.
//!
//! A tree `NAME` is there when `NAME.list` is, which is written last: its size, and the paths that the
//! repository tracks. A lock on `NAME.lock` is shared by who uses the tree, and held alone by who makes or
//! removes it. When all are larger than they may be, those that were used least lately go.

use std::collections::BTreeMap;
use std::fs::{self, File, Permissions};
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use fairtrial_core::tree::{TreePath, WorkTree};
use fairtrial_sandbox::Sandbox;

use crate::error::TreeError;
use crate::left_out::LeftOut;
use crate::prepare::{PreparedTree, TreePreparation};
use crate::read::TreeFolder;

/// Prepared trees, made when they are first asked for.
#[derive(Debug)]
pub struct TreeCache {
    /// Most bytes that all may have.
    most: u64,
    /// Whether what earlier runs made is made anew.
    fresh: bool,
    /// What no repository shows.
    left_out: LeftOut,
    /// What this process asked for, by name. The outer lock is held for a moment only.
    trees: Mutex<BTreeMap<String, Arc<Mutex<TreeSlot>>>>,
}

/// A tree that was asked for: not made yet, made, or known to fail.
type TreeSlot = Option<Result<Arc<PreparedTree>, Arc<TreeError>>>;

impl TreeCache {
    /// A cache of at most `most` bytes. With `fresh`, what earlier runs made is made anew, once.
    #[must_use]
    pub fn new(most: u64, fresh: bool) -> Self {
        Self { most, fresh, left_out: LeftOut::default(), trees: Mutex::default() }
    }

    /// The same, but that some files are taken out of every repository first.
    #[must_use]
    pub fn leaving_out(self, left_out: LeftOut) -> Self {
        Self { left_out, ..self }
    }

    /// The prepared tree. Whoever asks while it is made waits for it; a failure is not tried again.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn prepared(
        &self,
        sandbox: &Sandbox,
        preparation: &TreePreparation,
    ) -> Result<Arc<PreparedTree>, Arc<TreeError>> {
        let name = preparation.digest(sandbox, &self.left_out).as_str()[..32].to_owned();
        let slot = {
            let mut trees = self.trees.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(trees.entry(name.clone()).or_default())
        };
        let mut slot = slot.lock().unwrap_or_else(PoisonError::into_inner);
        slot.get_or_insert_with(|| {
            self.find_or_make(sandbox, preparation, &name).map(Arc::new).map_err(Arc::new)
        })
        .clone()
    }

    fn find_or_make(
        &self,
        sandbox: &Sandbox,
        preparation: &TreePreparation,
        name: &str,
    ) -> Result<PreparedTree, TreeError> {
        let missing = io::Error::from(io::ErrorKind::NotFound);
        let store = sandbox.store().ok_or(missing).map_err(TreeError::io(Path::new("")))?;
        let mut place = CachePlace::of(store, name);
        let mut lock = place.lock_file()?;
        if self.fresh {
            if lock.try_lock().is_err() {
                // Another run has views of it, which must not change: this one gets one for itself.
                place = CachePlace::of(store, &format!("{name}-{}", std::process::id()));
                lock = place.lock_file()?;
                lock.lock().map_err(TreeError::io(&place.lock))?;
            }
            let _ = fs::remove_file(&place.list);
        } else {
            lock.lock_shared().map_err(TreeError::io(&place.lock))?;
        }
        if !place.list.exists() {
            if !self.fresh {
                lock.unlock().map_err(TreeError::io(&place.lock))?;
                lock.lock().map_err(TreeError::io(&place.lock))?;
            }
            // Another process may have been faster.
            if !place.list.exists() {
                place.make(sandbox, preparation, &self.left_out)?;
                make_room(store, self.most, &place.name);
            }
        }
        // A lock that is held alone becomes one that is shared.
        lock.lock_shared().map_err(TreeError::io(&place.lock))?;
        place.note_use();
        let base = place.base()?;
        Ok(PreparedTree { name: place.name, folder: place.folder, base, _lock: lock })
    }
}

/// Where a tree and what belongs to it lie.
struct CachePlace {
    name: String,
    folder: PathBuf,
    list: PathBuf,
    lock: PathBuf,
}

impl CachePlace {
    fn of(store: &Path, name: &str) -> Self {
        let beside = |ending: &str| store.join(format!("{name}.{ending}"));
        Self {
            name: name.to_owned(),
            folder: store.join(name),
            list: beside("list"),
            lock: beside("lock"),
        }
    }

    fn lock_file(&self) -> Result<File, TreeError> {
        let opened = fs::OpenOptions::new().create(true).append(true).open(&self.lock);
        opened.map_err(TreeError::io(&self.lock))
    }

    /// Makes the tree. Whoever calls this has the lock alone, so that what a killed run left can go.
    fn make(
        &self,
        sandbox: &Sandbox,
        preparation: &TreePreparation,
        left_out: &LeftOut,
    ) -> Result<(), TreeError> {
        let _ = fs::remove_file(&self.list);
        let staged = |what: &str| format!("{}.{what}", self.name);
        let store = self.folder.parent().unwrap_or(Path::new("/"));
        let (source, new) = (staged("source"), staged("new"));
        for name in [&source, &new, &self.name] {
            remove_tree(&store.join(name)).map_err(TreeError::io(&store.join(name)))?;
        }
        let made = preparation.files(sandbox, &source, left_out).and_then(|files| {
            preparation.make(sandbox, &files, &new)?;
            Ok(files)
        });
        let _ = remove_tree(&store.join(&source));
        let files = made.inspect_err(|_| drop(remove_tree(&store.join(&new))))?;
        let new = store.join(new);
        fs::rename(&new, &self.folder).map_err(TreeError::io(&new))?;
        let mut list = size_of(&self.folder).to_string().into_bytes();
        for (path, _) in files.iter() {
            list.push(0);
            list.extend(path.as_bytes());
        }
        let written = self.list.with_extension("list-new");
        fs::write(&written, list).map_err(TreeError::io(&written))?;
        fs::rename(&written, &self.list).map_err(TreeError::io(&self.list))
    }

    /// The files of the repository as they are in the tree.
    fn base(&self) -> Result<WorkTree, TreeError> {
        let list = fs::read(&self.list).map_err(TreeError::io(&self.list))?;
        let folder = TreeFolder::open(&self.folder).map_err(TreeError::io(&self.folder))?;
        let mut base = WorkTree::new();
        for path in list.split(|&it| it == 0).skip(1) {
            let Ok(path) = TreePath::parse(path) else { continue };
            if let Some(node) = folder.node(&path).map_err(TreeError::io(&self.folder))? {
                base.put(path, node);
            }
        }
        Ok(base)
    }

    fn note_use(&self) {
        let opened = fs::OpenOptions::new().append(true).open(&self.list);
        let _ = opened.and_then(|it| it.set_modified(SystemTime::now()));
    }
}

/// Removes the trees that were used least lately, but for `kept` and those in use, until all have at most
/// `most` bytes. What cannot be removed stays.
fn make_room(store: &Path, most: u64, kept: &str) {
    let mut trees: Vec<(SystemTime, String, u64)> = Vec::new();
    for entry in fs::read_dir(store).into_iter().flatten().flatten() {
        let file_name = entry.file_name();
        let Some(name) = file_name.to_str().and_then(|it| it.strip_suffix(".list")) else {
            continue;
        };
        let used = entry.metadata().and_then(|it| it.modified());
        let text = fs::read(entry.path()).unwrap_or_default();
        let size = text.split(|&it| it == 0).next().unwrap_or_default();
        let size = String::from_utf8_lossy(size).parse().unwrap_or(0);
        trees.push((used.unwrap_or(SystemTime::UNIX_EPOCH), name.to_owned(), size));
    }
    trees.sort();
    let mut all: u64 = trees.iter().map(|it| it.2).sum();
    for (_, name, size) in trees {
        if all <= most || name == kept {
            continue;
        }
        let place = CachePlace::of(store, &name);
        let Ok(lock) = place.lock_file() else { continue };
        if lock.try_lock().is_ok()
            && fs::remove_file(&place.list).is_ok()
            && remove_tree(&place.folder).is_ok()
        {
            all -= size;
        }
    }
}

/// Removes a tree, whatever modes its folders have.
fn remove_tree(folder: &Path) -> io::Result<()> {
    match fs::remove_dir_all(folder) {
        Ok(()) => Ok(()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(_) => {
            open_up(folder);
            fs::remove_dir_all(folder)
        }
    }
}

/// Gives the owner every right on the folders below. Links are not followed.
fn open_up(folder: &Path) {
    let _ = fs::set_permissions(folder, Permissions::from_mode(0o700));
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        if entry.file_type().is_ok_and(|it| it.is_dir()) {
            open_up(&entry.path());
        }
    }
}

/// Bytes that a tree takes on the disk.
fn size_of(folder: &Path) -> u64 {
    use std::os::unix::fs::MetadataExt as _;
    let mut sum = 0;
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let Ok(meta) = entry.metadata() else { continue };
        sum += meta.blocks() * 512;
        if meta.is_dir() {
            sum += size_of(&entry.path());
        }
    }
    sum
}
