//! Images that candidates are shown beside a statement.

use std::sync::Arc;

/// What an image counts for where tokens are estimated: hosts differ, and none says beforehand.
pub const IMAGE_TOKENS: u64 = 1000;

/// Largest image that is sent, in bytes: more than hosts take.
pub const IMAGE_MAX: usize = 8 << 20;

/// An image, as it is sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Image {
    /// The path that the task knows it by.
    pub path: String,
    /// Its media type, such as `image/png`.
    pub media_type: &'static str,
    /// The file.
    pub bytes: Arc<[u8]>,
}

impl Image {
    /// A file as an image; `None` where its first bytes are those of no kind that hosts take (PNG, JPEG, GIF, WebP),
    /// whatever its name says.
    #[must_use]
    pub fn of_file(path: &str, bytes: &[u8]) -> Option<Self> {
        let media_type = media_type(bytes)?;
        Some(Self { path: path.to_owned(), media_type, bytes: bytes.into() })
    }
}

/// By the signatures of the formats' own specifications.
fn media_type(bytes: &[u8]) -> Option<&'static str> {
    match bytes {
        [0x89, b'P', b'N', b'G', b'\r', b'\n', 0x1a, b'\n', ..] => Some("image/png"),
        [0xff, 0xd8, 0xff, ..] => Some("image/jpeg"),
        [b'G', b'I', b'F', b'8', b'7' | b'9', b'a', ..] => Some("image/gif"),
        [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..] => Some("image/webp"),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_image_is_known_by_its_first_bytes() {
        for (bytes, found) in [
            (&b"\x89PNG\r\n\x1a\n...."[..], Some("image/png")),
            (b"\xff\xd8\xff\xe0....", Some("image/jpeg")),
            (b"GIF89a....", Some("image/gif")),
            (b"RIFF\x10\0\0\0WEBPVP8 ", Some("image/webp")),
            (b"RIFF\x10\0\0\0WAVEfmt ", None),
            (b"<svg xmlns='http://www.w3.org/2000/svg'/>", None),
            (b"", None),
        ] {
            assert_eq!(Image::of_file("berths.png", bytes).map(|it| it.media_type), found);
        }
    }
}
