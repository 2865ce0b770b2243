//! Writing a change as a patch.

use sha1::{Digest as _, Sha1};

use super::{Change, binary, name};
use crate::tree::{Node, TreePath, WorkTree};

/// Bytes at the beginning of a file that are looked at to tell text from the rest, as git does.
const LOOKED_AT: usize = 8000;

/// Files larger than this are written whole.
const LINES_MAX: usize = 4 << 20;

/// A change as a patch that git reads, too. `before` is what it changes. A file that went and came back
/// under another name, with the same content, is written as renamed.
#[must_use]
pub fn write_patch(before: &WorkTree, change: &Change) -> Vec<u8> {
    let mut out = Vec::new();
    let renames = renames(before, change);
    for (path, node) in change.iter() {
        let old = before.get(path);
        if renames.iter().any(|it| it.0 == path) {
            continue;
        }
        match (old, node) {
            (None, Some(new)) => match renames.iter().find(|it| it.1 == path) {
                Some((from, _)) => write_rename(&mut out, from, path, before.get(from), new),
                None => write_part(&mut out, path, None, Some(new)),
            },
            // Git has no patch between a file and a link.
            (Some(Node::File { .. }), Some(Node::Link { .. }))
            | (Some(Node::Link { .. }), Some(Node::File { .. })) => {
                write_part(&mut out, path, old, None);
                write_part(&mut out, path, None, node);
            }
            (old, new) => write_part(&mut out, path, old, new),
        }
    }
    out
}

/// Files that went, each with the one that came with the same content.
fn renames<'a>(before: &'a WorkTree, change: &'a Change) -> Vec<(&'a TreePath, &'a TreePath)> {
    let mut came: Vec<(&TreePath, &Node)> = change
        .iter()
        .filter(|(path, _)| before.get(path).is_none())
        .filter_map(|(path, node)| Some((path, node?)))
        .collect();
    let mut out = Vec::new();
    for (path, _) in change.iter().filter(|it| it.1.is_none()) {
        let Some(Node::File { bytes: old, .. }) = before.get(path) else { continue };
        let same = |node: &Node| matches!(node, Node::File { bytes, .. } if bytes == old);
        let twin = came.iter().position(|(_, node)| !old.is_empty() && same(node));
        out.extend(twin.map(|at| (path, came.remove(at).0)));
    }
    out
}

/// The mode of a file as git has it.
pub fn mode(node: &Node) -> &'static str {
    match node {
        Node::File { executable: false, .. } => "100644",
        Node::File { executable: true, .. } => "100755",
        Node::Link { .. } => "120000",
    }
}

fn content(node: &Node) -> &[u8] {
    match node {
        Node::File { bytes, .. } => bytes,
        Node::Link { to } => to,
    }
}

fn put(out: &mut Vec<u8>, parts: &[&[u8]]) {
    parts.iter().for_each(|it| out.extend(*it));
    out.push(b'\n');
}

fn write_head(out: &mut Vec<u8>, old: &TreePath, new: &TreePath) {
    put(out, &[b"diff --git ", &name::write("a/", old), b" ", &name::write("b/", new)]);
}

fn write_rename(out: &mut Vec<u8>, from: &TreePath, to: &TreePath, old: Option<&Node>, new: &Node) {
    write_head(out, from, to);
    if let Some(old) = old.filter(|it| mode(it) != mode(new)) {
        put(out, &[b"old mode ", mode(old).as_bytes()]);
        put(out, &[b"new mode ", mode(new).as_bytes()]);
    }
    put(out, &[b"similarity index 100%"]);
    put(out, &[b"rename from ", &name::write("", from)]);
    put(out, &[b"rename to ", &name::write("", to)]);
}

fn write_part(out: &mut Vec<u8>, path: &TreePath, old: Option<&Node>, new: Option<&Node>) {
    write_head(out, path, path);
    match (old, new) {
        (None, Some(new)) => put(out, &[b"new file mode ", mode(new).as_bytes()]),
        (Some(old), None) => put(out, &[b"deleted file mode ", mode(old).as_bytes()]),
        (Some(old), Some(new)) if mode(old) != mode(new) => {
            put(out, &[b"old mode ", mode(old).as_bytes()]);
            put(out, &[b"new mode ", mode(new).as_bytes()]);
        }
        _ => {}
    }
    let before = old.map_or(&[][..], content);
    let after = new.map_or(&[][..], content);
    if before == after {
        return;
    }
    if is_text(before) && is_text(after) {
        let side = |node: Option<&Node>, prefix| match node {
            Some(_) => ends_name(name::write(prefix, path)),
            None => b"/dev/null".to_vec(),
        };
        put(out, &[b"--- ", &side(old, "a/")]);
        put(out, &[b"+++ ", &side(new, "b/")]);
        let (patch, mut hunks) = (diffy::create_patch_bytes(before, after), Vec::new());
        // Writing to memory does not fail.
        let _ = diffy::PatchFormatter::new().write_patch_into(&patch, &mut hunks);
        // Its own two lines of names stand first.
        let start = hunks.iter().enumerate().filter(|it| *it.1 == b'\n').nth(1);
        out.extend(&hunks[start.map_or(0, |it| it.0 + 1)..]);
        if !out.ends_with(b"\n") {
            out.push(b'\n');
        }
    } else {
        let blob = |node: Option<&Node>| node.map_or_else(|| "0".repeat(40), blob_id);
        put(out, &[b"index ", blob(old).as_bytes(), b"..", blob(new).as_bytes()]);
        put(out, &[b"GIT binary patch"]);
        out.extend(binary::write(after));
        // The way back, which a reader may look for.
        out.extend(binary::write(before));
    }
}

/// The name of a file's content in a repository (gitformat-pack(5)), without which git puts on no binary
/// patch.
fn blob_id(node: &Node) -> String {
    let bytes = content(node);
    let mut hasher = Sha1::new();
    hasher.update(format!("blob {}\0", bytes.len()));
    hasher.update(bytes);
    hasher.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A name with a space needs an end that can be seen.
fn ends_name(mut name: Vec<u8>) -> Vec<u8> {
    if name.contains(&b' ') && !name.starts_with(b"\"") {
        name.push(b'\t');
    }
    name
}

/// Whether a file is written in lines.
fn is_text(bytes: &[u8]) -> bool {
    bytes.len() <= LINES_MAX && !bytes[..bytes.len().min(LOOKED_AT)].contains(&0)
}
