//! The program: hands everything to the library.

use std::process::ExitCode;

fn main() -> ExitCode {
    fairtrial::main()
}
