//! The helper alone, for tests of this crate: the tool itself brings it along in its own program.

fn main() -> std::process::ExitCode {
    fairtrial_sandbox::helper_main()
}
