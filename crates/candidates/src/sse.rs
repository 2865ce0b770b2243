//! Server-sent events (HTML Living Standard, section 9.2), as far as chat completions use them:
//! the data of each event.

use std::io::{self, BufRead};

/// Longest event that is read, in bytes.
const EVENT_MAX: usize = 16 << 20;

/// Reads the data of the next event; `None` at the end of the stream.
pub fn next_event(from: &mut impl BufRead) -> io::Result<Option<String>> {
    let mut data = String::new();
    let mut any = false;
    loop {
        let mut line = Vec::new();
        let limit = (EVENT_MAX - data.len().min(EVENT_MAX)) as u64 + 1;
        let count = io::Read::take(&mut *from, limit).read_until(b'\n', &mut line)?;
        if count == 0 {
            return Ok(any.then_some(data));
        }
        if data.len() + line.len() > EVENT_MAX {
            return Err(io::Error::other("an event of the stream is too long"));
        }
        let line = String::from_utf8_lossy(&line);
        let line = line.trim_end_matches(['\n', '\r']);
        if line.is_empty() {
            if any {
                return Ok(Some(data));
            }
            continue;
        }
        // Comments and other fields carry nothing that is wanted.
        if let Some(value) = line.strip_prefix("data:") {
            if any {
                data.push('\n');
            }
            data.push_str(value.strip_prefix(' ').unwrap_or(value));
            any = true;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_told_apart_and_the_rest_is_passed_over() {
        let mut stream = &b": hello\r\n\r\nid: 1\ndata: a\ndata:b\n\n\ndata: [DONE]"[..];
        let mut next = || next_event(&mut stream).unwrap();
        assert_eq!(next().as_deref(), Some("a\nb"));
        assert_eq!(next().as_deref(), Some("[DONE]"));
        assert_eq!(next(), None);
    }

    #[test]
    fn an_endless_event_is_refused() {
        let endless = [b"data: ".as_slice(), &vec![b'x'; EVENT_MAX + 10]].concat();
        assert!(next_event(&mut endless.as_slice()).is_err());
    }
}
