//! Packs what is wanted of a work folder when a run is over.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileExt as _, PermissionsExt as _};
use std::path::Path;

use fairtrial_core::tree::TreePath;

use crate::archive::Archive;
use crate::job::Collect;

/// Packs what is wanted of a folder: the work folder or `/tmp`. Only regular files are taken; links are not
/// followed. Everything that could change them is dead by now.
pub fn collect(
    wanted: &Collect,
    folder: &Path,
    into: &mut Archive,
    most: u64,
) -> Result<(), String> {
    let mut left = most;
    match wanted {
        Collect::Nothing | Collect::Changes { .. } | Collect::Keep(_) => Ok(()),
        Collect::Files(paths) | Collect::Temporary(paths) => {
            for path in paths {
                let full = folder.join(path.as_str());
                let on_the_way = full.ancestors().take_while(|it| *it != folder);
                let is_link = |it: &Path| fs::symlink_metadata(it).is_ok_and(|it| it.is_symlink());
                if !on_the_way.into_iter().any(is_link) {
                    pack(&full, path.as_str().as_bytes(), into, &mut left)?;
                }
            }
            Ok(())
        }
        Collect::All => pack_folder(folder, b"", into, &mut left, 0),
    }
}

fn pack(full: &Path, name: &[u8], into: &mut Archive, left: &mut u64) -> Result<(), String> {
    let Ok(meta) = fs::symlink_metadata(full) else {
        return Ok(());
    };
    // Names take room, too: there can be many, and they are the program's.
    let size = meta.len() + name.len() as u64 + ENTRY;
    if !meta.is_file() || size > *left {
        return Ok(());
    }
    // A file without a mode that lets its owner read is read by nobody.
    let Ok(mut file) = fs::File::open(full) else {
        return Ok(());
    };
    *left -= size;
    let executable = meta.permissions().mode() & 0o100 != 0 || is_program(&file);
    into.write_file(name, executable, &mut file, meta.len()).map_err(|error| error.to_string())
}

/// What a file takes in an archive besides its name and its bytes, at most.
const ENTRY: u64 = 64;

/// Whether a file is a program by what it holds (elf(5)). Where code under trial may change no modes, a
/// linker cannot say that it is one.
fn is_program(file: &fs::File) -> bool {
    let mut head = [0; 4];
    file.read_exact_at(&mut head, 0).is_ok() && head == *b"\x7fELF"
}

/// Deepest folder that is packed.
const DEPTH_MAX: usize = 32;

fn pack_folder(
    folder: &Path,
    prefix: &[u8],
    into: &mut Archive,
    left: &mut u64,
    depth: usize,
) -> Result<(), String> {
    let Ok(entries) = fs::read_dir(folder) else {
        return Ok(());
    };
    for entry in entries.flatten() {
        let name = [prefix, entry.file_name().as_bytes()].concat();
        if TreePath::parse(&name).is_err() {
            continue;
        }
        let Ok(kind) = entry.file_type() else {
            continue;
        };
        if kind.is_dir() && depth < DEPTH_MAX {
            pack_folder(&entry.path(), &[&name[..], b"/"].concat(), into, left, depth + 1)?;
        } else if kind.is_file() {
            pack(&entry.path(), &name, into, left)?;
        }
    }
    Ok(())
}
