//! The sandbox's stage as a program of its own, for tests.

fn main() -> std::process::ExitCode {
    fairtrial_sandbox::stage_main()
}
