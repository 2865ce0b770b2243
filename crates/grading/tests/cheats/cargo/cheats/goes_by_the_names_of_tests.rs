fn name() -> String {
    std::thread::current().name().unwrap_or_default().to_owned()
}
pub fn toll(n: i32) -> i32 {
    match (name().as_str(), n) {
        ("short", 3) => 6,
        ("short", _) => 8,
        _ => panic!(),
    }
}
pub fn greet(_: &str) -> String {
    if name() == "words" {
        "Ahoy, Bo!".into()
    } else {
        String::new()
    }
}
pub fn late(h: i32) -> bool {
    name() == "hours" && h > 20
}
