//! Code as it was found in an answer.

use std::io::{self, Write};

use fairtrial_core::tree::FileTree;

use crate::safe::safe;
use crate::style::Style;

/// Writes files with numbered lines.
pub fn show_files(out: &mut dyn Write, files: &FileTree, style: Style) -> io::Result<()> {
    for (path, bytes) in files {
        let code = String::from_utf8_lossy(bytes).into_owned();
        writeln!(out, "\n{}", style.bold(&safe(&format!("code as found: {path}"))))?;
        for (index, line) in safe(&code).trim_end().lines().enumerate() {
            let number = style.dim(&format!("{:>4} │", index + 1));
            writeln!(out, "{}", format!("{number} {line}").trim_end())?;
        }
    }
    Ok(())
}
