//! Binary files in patches, as git has them: deflated (RFC 1950), in lines of base 85, whole
//! (`literal`) or as a delta of the old file.

use std::io::{Read as _, Write as _};

use flate2::Compression;
use flate2::read::ZlibDecoder;
use flate2::write::ZlibEncoder;

/// The digits of base 85, in their order.
const DIGITS: &[u8; 85] =
    b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz!#$%&()*+-;<=>?@^_`{|}~";

/// Bytes of one line.
const LINE: usize = 52;

/// A block: how the new file is made, the bytes that it takes, inflated.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum BinaryBlock {
    /// The file.
    Literal(Vec<u8>),
    /// Instructions (gitformat-pack(5), deltified representation).
    Delta(Vec<u8>),
}

/// Writes a file as a block, with the empty line after it.
pub fn write(bytes: &[u8]) -> Vec<u8> {
    let mut packed = ZlibEncoder::new(Vec::new(), Compression::default());
    // Writing to memory does not fail.
    let _ = packed.write_all(bytes);
    let packed = packed.finish().unwrap_or_default();
    let mut out = format!("literal {}\n", bytes.len()).into_bytes();
    for line in packed.chunks(LINE) {
        let length = line.len() as u8;
        out.push(if length <= 26 { b'A' + length - 1 } else { b'a' + length - 27 });
        for word in line.chunks(4) {
            let mut four = [0; 4];
            four[..word.len()].copy_from_slice(word);
            let (mut value, mut digits) = (u32::from_be_bytes(four), [0; 5]);
            for digit in digits.iter_mut().rev() {
                *digit = DIGITS[(value % 85) as usize];
                value /= 85;
            }
            out.extend(digits);
        }
        out.push(b'\n');
    }
    out.push(b'\n');
    out
}

/// Reads a block from its lines, the first of which says what it is: `literal SIZE` or `delta SIZE`.
/// Nothing larger than `most` bytes is unpacked.
pub fn read(lines: &[&[u8]], most: u64) -> Result<BinaryBlock, String> {
    let (first, rest) = lines.split_first().ok_or("a binary part has no content")?;
    let first = String::from_utf8_lossy(first);
    let (kind, size) = first.trim_end().split_once(' ').ok_or("a binary part has no size")?;
    let size: u64 = size.parse().map_err(|_| "a binary part has no size")?;
    if size > most {
        return Err(format!("a binary part has more than {most} bytes"));
    }
    let mut packed = Vec::new();
    for line in rest {
        packed.extend(read_line(line)?);
    }
    let mut bytes = Vec::new();
    let unpacked = ZlibDecoder::new(&packed[..]).take(size + 1).read_to_end(&mut bytes);
    unpacked.map_err(|error| format!("a binary part cannot be unpacked: {error}"))?;
    if bytes.len() as u64 != size {
        return Err("a binary part has another size than it says".to_owned());
    }
    match kind {
        "literal" => Ok(BinaryBlock::Literal(bytes)),
        "delta" => Ok(BinaryBlock::Delta(bytes)),
        _ => Err("a binary part is neither `literal` nor `delta`".to_owned()),
    }
}

fn read_line(line: &[u8]) -> Result<Vec<u8>, String> {
    let wrong = || "a line of a binary part is malformed".to_owned();
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    let (length, digits) = line.split_first().ok_or_else(wrong)?;
    let length = match length {
        b'A'..=b'Z' => usize::from(length - b'A' + 1),
        b'a'..=b'z' => usize::from(length - b'a' + 27),
        _ => return Err(wrong()),
    };
    let mut out = Vec::with_capacity(digits.len());
    for five in digits.chunks(5) {
        let mut value: u64 = 0;
        for digit in five {
            let place = DIGITS.iter().position(|it| it == digit).ok_or_else(wrong)?;
            value = value * 85 + place as u64;
        }
        let value = u32::try_from(value).map_err(|_| wrong())?;
        out.extend(value.to_be_bytes());
    }
    if digits.len() % 5 != 0 || length > out.len() || out.len() - length > 3 {
        return Err(wrong());
    }
    out.truncate(length);
    Ok(out)
}

/// Makes the new file of the old one.
pub fn apply_delta(old: &[u8], delta: &[u8], most: u64) -> Result<Vec<u8>, String> {
    let wrong = || "a delta is malformed".to_owned();
    let mut rest = delta;
    let (from, to) = (size(&mut rest).ok_or_else(wrong)?, size(&mut rest).ok_or_else(wrong)?);
    if from != old.len() as u64 {
        return Err("a delta is of another file".to_owned());
    }
    if to > most {
        return Err(format!("a binary file has more than {most} bytes"));
    }
    let mut out = Vec::new();
    while let Some((&code, after)) = rest.split_first() {
        rest = after;
        if code & 0x80 != 0 {
            let mut field = |bits: std::ops::Range<u8>| -> Option<usize> {
                let mut value = 0;
                for (place, bit) in bits.enumerate() {
                    if code & (1 << bit) != 0 {
                        let (&byte, after) = rest.split_first()?;
                        value |= usize::from(byte) << (8 * place);
                        rest = after;
                    }
                }
                Some(value)
            };
            let at = field(0..4).ok_or_else(wrong)?;
            let length = field(4..7).ok_or_else(wrong)?;
            let length = if length == 0 { 0x1_0000 } else { length };
            out.extend(old.get(at..at + length).ok_or_else(wrong)?);
        } else {
            let (new, after) = rest.split_at_checked(code.into()).ok_or_else(wrong)?;
            if new.is_empty() {
                return Err(wrong());
            }
            out.extend(new);
            rest = after;
        }
        if out.len() as u64 > to {
            return Err(wrong());
        }
    }
    if out.len() as u64 == to { Ok(out) } else { Err(wrong()) }
}

/// A number in groups of seven bits, the lowest first.
fn size(rest: &mut &[u8]) -> Option<u64> {
    let mut value = 0;
    for shift in (0..63).step_by(7) {
        let (&byte, after) = rest.split_first()?;
        *rest = after;
        value |= u64::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            return Some(value);
        }
    }
    None
}
