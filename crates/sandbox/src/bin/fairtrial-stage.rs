//! The stage alone, for tests of this crate: the tool itself brings it along in its own program.

fn main() -> std::process::ExitCode {
    fairtrial_sandbox::stage_main()
}
