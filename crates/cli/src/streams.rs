//! Standard output and standard error, as what is written to them may come to nobody.

use std::io::{self, ErrorKind, Write};

/// A stream whose reader may go away: what is written afterwards is dropped, and nothing that the program
/// does, nor its exit code, depends on that.
#[derive(Debug)]
pub struct Quiet<W> {
    to: W,
    /// Whether every fault is passed over, not only that of a reader who has gone.
    forgiving: bool,
    gone: bool,
}

impl<W: Write> Quiet<W> {
    /// Standard output: a disk that is full is still reported.
    pub fn output(to: W) -> Self {
        Self { to, forgiving: false, gone: false }
    }

    /// Standard error: there is nobody to tell.
    pub fn notes(to: W) -> Self {
        Self { to, forgiving: true, gone: false }
    }

    fn passed_over<T>(&mut self, done: io::Result<T>, otherwise: T) -> io::Result<T> {
        match done {
            Err(error) if self.forgiving || error.kind() == ErrorKind::BrokenPipe => {
                self.gone = true;
                Ok(otherwise)
            }
            done => done,
        }
    }
}

impl<W: Write> Write for Quiet<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.gone {
            return Ok(bytes.len());
        }
        let done = self.to.write(bytes);
        self.passed_over(done, bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.gone {
            return Ok(());
        }
        let done = self.to.flush();
        self.passed_over(done, ())
    }
}
