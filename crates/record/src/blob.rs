//! Long texts: compressed (Zstandard, RFC 8878), stored once, by the digest of what they hold.

use fairtrial_core::digest::Digest;
use rusqlite::{Connection, OptionalExtension as _, params};

/// Compression level: texts are small, and written once.
const LEVEL: i32 = 3;

/// Stores bytes, if they are not stored already, and says by which digest.
pub fn store(connection: &Connection, bytes: &[u8]) -> rusqlite::Result<Digest> {
    let digest = Digest::of(bytes);
    let known: Option<i64> = connection
        .prepare_cached("SELECT 1 FROM blobs WHERE digest = ?1")?
        .query_row([digest.as_str()], |row| row.get(0))
        .optional()?;
    if known.is_none() {
        let packed = zstd::encode_all(bytes, LEVEL)
            .map_err(|error| rusqlite::Error::ToSqlConversionFailure(error.into()))?;
        connection
            .prepare_cached("INSERT INTO blobs (digest, size, content) VALUES (?1, ?2, ?3)")?
            .execute(params![digest.as_str(), bytes.len() as i64, packed])?;
    }
    Ok(digest)
}

/// Reads what was stored by a digest, and checks that it is that.
pub fn load(connection: &Connection, digest: &str) -> rusqlite::Result<Vec<u8>> {
    let packed: Vec<u8> = connection
        .prepare_cached("SELECT content FROM blobs WHERE digest = ?1")?
        .query_row([digest], |row| row.get(0))?;
    let unreadable = |error: std::io::Error| {
        rusqlite::Error::FromSqlConversionFailure(0, rusqlite::types::Type::Blob, error.into())
    };
    let bytes = zstd::decode_all(packed.as_slice()).map_err(unreadable)?;
    if Digest::of(&bytes).as_str() != digest {
        return Err(unreadable(std::io::Error::other("a stored text does not have its digest")));
    }
    Ok(bytes)
}
