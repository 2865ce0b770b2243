//! Long texts: compressed (Zstandard, RFC 8878), stored once, by the digest of what they hold.

use std::io::Read as _;

use fairtrial_core::digest::Digest;
use rusqlite::{Connection, OptionalExtension as _, params};
use ruzstd::decoding::StreamingDecoder;
use ruzstd::encoding::{CompressionLevel, compress_to_vec};

/// Shorter texts than this are stored as they are, in a frame all the same: packing them takes longer than
/// all else that is done for them, and saves little.
const PACKED_MIN: usize = 1024;

/// Longest text that is stored, or unpacked, in bytes.
pub const TEXT_MAX: usize = 256 << 20;

/// Stores bytes, if they are not stored already, and says by which digest.
pub fn store(connection: &Connection, bytes: &[u8]) -> rusqlite::Result<Digest> {
    let digest = Digest::of(bytes);
    let known: Option<i64> = connection
        .prepare_cached("SELECT 1 FROM blobs WHERE digest = ?1")?
        .query_row([digest.as_str()], |row| row.get(0))
        .optional()?;
    if known.is_none() {
        if bytes.len() > TEXT_MAX {
            return Err(rusqlite::Error::ToSqlConversionFailure(
                "a text is too long to keep".into(),
            ));
        }
        let level = match bytes.len() {
            ..PACKED_MIN => CompressionLevel::Uncompressed,
            _ => CompressionLevel::Fastest,
        };
        let packed = compress_to_vec(bytes, level);
        connection
            .prepare_cached("INSERT INTO blobs (digest, size, content) VALUES (?1, ?2, ?3)")?
            .execute(params![digest.as_str(), bytes.len() as i64, packed])?;
    }
    Ok(digest)
}

/// Reads what was stored by a digest, and checks that it is that.
pub fn load(connection: &Connection, digest: &str) -> rusqlite::Result<Vec<u8>> {
    let (size, packed): (i64, Vec<u8>) = connection
        .prepare_cached("SELECT size, content FROM blobs WHERE digest = ?1")?
        .query_row([digest], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let unreadable = |error: std::io::Error| {
        rusqlite::Error::FromSqlConversionFailure(0, rusqlite::types::Type::Blob, error.into())
    };
    let size = usize::try_from(size).ok().filter(|it| *it <= TEXT_MAX);
    let size =
        size.ok_or_else(|| unreadable(std::io::Error::other("a stored text is too long")))?;
    // A few bytes can unpack to very many: no more is unpacked than is said to be there.
    let mut bytes = Vec::new();
    StreamingDecoder::new(packed.as_slice())
        .map_err(std::io::Error::other)
        .and_then(|it| it.take(size as u64 + 1).read_to_end(&mut bytes))
        .map_err(unreadable)?;
    if bytes.len() != size {
        return Err(unreadable(std::io::Error::other("a stored text does not have its length")));
    }
    if Digest::of(&bytes).as_str() != digest {
        return Err(unreadable(std::io::Error::other("a stored text does not have its digest")));
    }
    Ok(bytes)
}
