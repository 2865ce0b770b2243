//! Names of files as git writes them in patches: bare, or in quotes with escapes as in C.

use crate::tree::{PathError, TreePath};

/// A name as it stands in a patch, with `prefix` before it.
pub fn write(prefix: &str, path: &TreePath) -> Vec<u8> {
    let plain = |&byte: &u8| !matches!(byte, 0..0x20 | b'"' | b'\\' | 0x7f..);
    let bytes = [prefix.as_bytes(), path.as_bytes()].concat();
    if bytes.iter().all(plain) {
        return bytes;
    }
    let mut out = vec![b'"'];
    for byte in bytes {
        match byte {
            b'"' | b'\\' => out.extend([b'\\', byte]),
            b'\n' => out.extend(b"\\n"),
            b'\t' => out.extend(b"\\t"),
            byte if plain(&byte) => out.push(byte),
            byte => out.extend(format!("\\{byte:03o}").bytes()),
        }
    }
    out.push(b'"');
    out
}

/// Reads a name at the beginning of `text`: in quotes, or up to `end`. Gives its bytes and what follows.
pub fn read(text: &[u8], end: impl Fn(u8) -> bool) -> Option<(Vec<u8>, &[u8])> {
    let Some(quoted) = text.strip_prefix(b"\"") else {
        let length = text.iter().position(|&byte| end(byte)).unwrap_or(text.len());
        return (length > 0).then(|| (text[..length].to_vec(), &text[length..]));
    };
    let (mut name, mut at) = (Vec::new(), 0);
    loop {
        match *quoted.get(at)? {
            b'"' => return Some((name, &quoted[at + 1..])),
            b'\\' => {
                let (byte, length) = escape(&quoted[at + 1..])?;
                name.push(byte);
                at += 1 + length;
            }
            byte => {
                name.push(byte);
                at += 1;
            }
        }
    }
}

/// The byte that an escape stands for, and how long the escape is after its backslash.
fn escape(text: &[u8]) -> Option<(u8, usize)> {
    let simple = |byte| Some((byte, 1));
    match *text.first()? {
        b'a' => simple(7),
        b'b' => simple(8),
        b't' => simple(b'\t'),
        b'n' => simple(b'\n'),
        b'v' => simple(11),
        b'f' => simple(12),
        b'r' => simple(b'\r'),
        byte @ (b'"' | b'\\') => simple(byte),
        b'0'..=b'3' => {
            let digits = text.get(..3)?;
            let digit = |&it: &u8| matches!(it, b'0'..=b'7').then(|| it - b'0');
            let [a, b, c] = [digit(&digits[0])?, digit(&digits[1])?, digit(&digits[2])?];
            Some((a * 64 + b * 8 + c, 3))
        }
        _ => None,
    }
}

/// A path without a prefix of one letter, as git and others put before names: `a/`, `b/`.
pub fn without_prefix(name: &[u8]) -> Option<&[u8]> {
    match name {
        [b'a' | b'b' | b'c' | b'i' | b'w' | b'o', b'/', rest @ ..] if !rest.is_empty() => {
            Some(rest)
        }
        _ => None,
    }
}

/// A name as a path; a `./` before it means nothing.
pub fn path(name: &[u8]) -> Result<TreePath, PathError> {
    TreePath::parse(name.strip_prefix(b"./").unwrap_or(name))
}
