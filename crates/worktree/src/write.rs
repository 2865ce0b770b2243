//! Writing trees into folders of the user's.

use std::ffi::OsStr;
use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{OpenOptionsExt as _, symlink};
use std::path::{Path, PathBuf};

use fairtrial_core::tree::{Node, TreePath, WorkTree};

/// Writes a tree into a folder, which is made, or is there and empty. Links that could lead out of it are
/// left out, and come back.
///
/// # Errors
/// When the folder holds something, or the system refuses.
pub fn write_tree(tree: &WorkTree, folder: &Path) -> io::Result<Vec<TreePath>> {
    fs::create_dir_all(folder)?;
    if fs::read_dir(folder)?.next().is_some() {
        return Err(io::Error::new(io::ErrorKind::AlreadyExists, "it is not empty"));
    }
    let at = |path: &TreePath| -> io::Result<PathBuf> {
        let place = folder.join(OsStr::from_bytes(path.as_bytes()));
        fs::create_dir_all(place.parent().unwrap_or(folder))?;
        Ok(place)
    };
    // Links come last: until then no path can lead through one.
    for (path, bytes, executable) in tree.iter().filter_map(|(path, node)| match node {
        Node::File { bytes, executable } => Some((path, bytes, *executable)),
        Node::Link { .. } => None,
    }) {
        let mode = if executable { 0o777 } else { 0o666 };
        let file = OpenOptions::new().write(true).create_new(true).mode(mode).open(at(path)?);
        file?.write_all(bytes)?;
    }
    let links: Vec<(&TreePath, &Vec<u8>)> = tree
        .iter()
        .filter_map(|(path, node)| match node {
            Node::Link { to } => Some((path, to)),
            Node::File { .. } => None,
        })
        .collect();
    let (inside, outside): (Vec<_>, Vec<_>) =
        links.into_iter().partition(|(path, to)| stays_inside(path, to));
    // All their folders are made before the first of them, for the same reason.
    let places = inside.iter().map(|(path, _)| at(path)).collect::<io::Result<Vec<_>>>()?;
    for ((_, to), place) in inside.iter().zip(places) {
        symlink(OsStr::from_bytes(to), place)?;
    }
    Ok(outside.into_iter().map(|it| it.0.clone()).collect())
}

/// Whether a link leads to somewhere inside, whatever the others do: it may climb at its beginning alone,
/// where each step is out of a real folder, and no further than the top.
fn stays_inside(path: &TreePath, to: &[u8]) -> bool {
    if to.is_empty() || to.starts_with(b"/") {
        return false;
    }
    let parts: Vec<&[u8]> =
        to.split(|it| *it == b'/').filter(|it| !matches!(*it, b"" | b".")).collect();
    let climbs = parts.iter().take_while(|it| **it == b"..").count();
    let depth = path.parts().count() - 1;
    climbs <= depth && !parts[climbs..].contains(&b"..".as_slice())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_that_could_lead_out_are_left_out() {
        let path = |text: &str| TreePath::parse(text.as_bytes()).unwrap();
        for (link, to, inside) in [
            ("a", "b/c", true),
            ("a/b", "../c", true),
            ("a/b", "./x", true),
            ("a", "/etc/passwd", false),
            ("a", "..", false),
            ("a/b", "../../c", false),
            ("a", "p/q/../x", false),
            ("a", "", false),
        ] {
            assert_eq!(stays_inside(&path(link), to.as_bytes()), inside, "{link} -> {to}");
        }
    }

    #[test]
    fn nothing_is_written_over() {
        let folder = tempfile::tempdir().unwrap();
        let mut tree = WorkTree::new();
        let file = |text: &[u8]| Node::File { bytes: text.into(), executable: true };
        tree.put(TreePath::parse(b"d/\xff run").unwrap(), file(b"x"));
        tree.put(TreePath::parse(b"out").unwrap(), Node::Link { to: b"/etc".to_vec() });
        tree.put(TreePath::parse(b"in").unwrap(), Node::Link { to: b"d".to_vec() });
        let into = folder.path().join("into");
        assert_eq!(write_tree(&tree, &into).unwrap(), [TreePath::parse(b"out").unwrap()]);
        assert_eq!(fs::read(into.join(OsStr::from_bytes(b"in/\xff run"))).unwrap(), b"x");
        assert!(write_tree(&tree, &into).is_err());
    }
}
