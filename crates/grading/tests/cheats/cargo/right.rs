pub fn toll(n: i32) -> i32 {
    assert!(n >= 0);
    n * 2
}
pub fn greet(n: &str) -> String {
    format!("Ahoy, {n}!")
}
pub fn late(h: i32) -> bool {
    h > 20
}
