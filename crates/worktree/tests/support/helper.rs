//! The sandbox's helper as a program of its own, for tests.

fn main() -> std::process::ExitCode {
    fairtrial_sandbox::helper_main()
}
