//! Server-sent events (HTML Living Standard, section 9.2), as far as chat completions use them:
//! the data of each event.

/// One event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServerEvent {
    /// Its data, lines joined.
    pub data: String,
    /// Whether it calls itself an error.
    pub is_error: bool,
}

/// Takes a stream apart, wherever its pieces are cut.
#[derive(Debug, Default)]
pub struct EventParser {
    /// A line that has no end yet.
    line: Vec<u8>,
    /// Whether the last line ended by a carriage return: a line feed behind it is part of that end.
    after_return: bool,
    /// The data of the event under way; `None`: none has begun.
    data: Option<String>,
    is_error: bool,
}

impl EventParser {
    /// Takes the next piece, and gives the events that end in it.
    pub fn push(&mut self, piece: &[u8]) -> Vec<ServerEvent> {
        let mut events = Vec::new();
        let mut rest = piece;
        while let [first, ..] = rest {
            if std::mem::take(&mut self.after_return) && *first == b'\n' {
                rest = &rest[1..];
                continue;
            }
            let Some(end) = rest.iter().position(|it| matches!(it, b'\n' | b'\r')) else {
                self.line.extend_from_slice(rest);
                break;
            };
            self.line.extend_from_slice(&rest[..end]);
            self.after_return = rest[end] == b'\r';
            rest = &rest[end + 1..];
            let line = std::mem::take(&mut self.line);
            events.extend(self.take_line(&line));
        }
        events
    }

    /// What is left at the end of the stream: hosts forget the empty line after the last event.
    pub fn finish(&mut self) -> Option<ServerEvent> {
        let line = std::mem::take(&mut self.line);
        let last = self.take_line(&line);
        last.or_else(|| self.over())
    }

    fn over(&mut self) -> Option<ServerEvent> {
        let is_error = std::mem::take(&mut self.is_error);
        Some(ServerEvent { data: self.data.take()?, is_error })
    }

    fn take_line(&mut self, line: &[u8]) -> Option<ServerEvent> {
        let line = String::from_utf8_lossy(line);
        let line = line.trim_start_matches('\u{feff}');
        if line.is_empty() {
            return self.over();
        }
        // Comments and other fields carry nothing that is wanted.
        if let Some(kind) = line.strip_prefix("event:") {
            self.is_error = kind.trim() == "error";
        }
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

    const STREAM: &[u8] = b"\xef\xbb\xbf: hello\r\n\r\nid: 1\ndata: a \xe2\x98\x83\ndata:b\n\n\n\
        event: error\rdata: c\r\rdata: d\r\n\r\ndata: [DONE]";

    #[test]
    fn events_are_told_apart_wherever_they_are_cut() {
        for size in 1..STREAM.len() {
            let mut parser = EventParser::default();
            let mut events: Vec<ServerEvent> =
                STREAM.chunks(size).flat_map(|it| parser.push(it)).collect();
            events.extend(parser.finish());
            let found: Vec<_> = events.iter().map(|it| (it.data.as_str(), it.is_error)).collect();
            let expected = [("a \u{2603}\nb", false), ("c", true), ("d", false), ("[DONE]", false)];
            assert_eq!(found, expected, "in pieces of {size}");
            assert_eq!(parser.finish(), None);
        }
    }
}
