//! Server-sent events (HTML Living Standard, section 9.2), as far as chat completions use them:
//! the data of each event.

/// Takes a stream apart, wherever its pieces are cut.
#[derive(Debug, Default)]
pub struct EventParser {
    /// A line that has no end yet.
    line: Vec<u8>,
    /// The data of the event under way; `None`: none has begun.
    data: Option<String>,
}

impl EventParser {
    /// Takes the next piece, and gives the data of the events that end in it.
    pub fn push(&mut self, piece: &[u8]) -> Vec<String> {
        let mut events = Vec::new();
        for part in piece.split_inclusive(|it| *it == b'\n') {
            self.line.extend_from_slice(part);
            if part.ends_with(b"\n") {
                let line = std::mem::take(&mut self.line);
                events.extend(self.take_line(&line));
            }
        }
        events
    }

    /// What is left at the end of the stream: hosts forget the empty line after the last event.
    pub fn finish(&mut self) -> Option<String> {
        let line = std::mem::take(&mut self.line);
        self.take_line(&line);
        self.data.take()
    }

    fn take_line(&mut self, line: &[u8]) -> Option<String> {
        let line = String::from_utf8_lossy(line);
        let line = line.trim_end_matches(['\n', '\r']).trim_start_matches('\u{feff}');
        if line.is_empty() {
            return self.data.take();
        }
        // Comments and other fields carry nothing that is wanted.
        if let Some(value) = line.strip_prefix("data:") {
            let value = value.strip_prefix(' ').unwrap_or(value);
            match &mut self.data {
                Some(data) => {
                    data.push('\n');
                    data.push_str(value);
                }
                None => self.data = Some(value.to_owned()),
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const STREAM: &[u8] =
        b"\xef\xbb\xbf: hello\r\n\r\nid: 1\ndata: a \xe2\x98\x83\ndata:b\n\n\ndata: c\r\n\r\ndata: [DONE]";

    #[test]
    fn events_are_told_apart_wherever_they_are_cut() {
        for size in 1..STREAM.len() {
            let mut parser = EventParser::default();
            let mut events: Vec<String> =
                STREAM.chunks(size).flat_map(|it| parser.push(it)).collect();
            events.extend(parser.finish());
            assert_eq!(events, ["a \u{2603}\nb", "c", "[DONE]"], "in pieces of {size}");
            assert_eq!(parser.finish(), None);
        }
    }
}
