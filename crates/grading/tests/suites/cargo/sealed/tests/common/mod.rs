use answer::Register;

pub fn register() -> Register {
    let mut register = Register::default();
    assert_eq!(register.add("Puffin", 12), None);
    assert_eq!(register.add("Gull", 30), None, "the {} is new", "Gull");
    register
}

pub fn check_toll(metres: i64, expected: i64) {
    assert_eq!(answer::toll(metres), Ok(expected), "at {metres}");
}
