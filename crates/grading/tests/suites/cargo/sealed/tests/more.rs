use answer::{Register, toll};

struct Fixture {
    register: Register,
}

impl Fixture {
    fn new() -> Self {
        let mut register = Register::default();
        register.add("Tern", 9);
        Self { register }
    }

    fn expect(&self, longest: &str) {
        assert_eq!(self.register.longest().unwrap().0, longest);
    }
}

impl Drop for Fixture {
    fn drop(&mut self) {
        assert!(!self.register.names().is_empty());
    }
}

fn all<T: std::fmt::Debug + PartialEq>(left: &[T], right: &[T]) {
    assert_eq!(left.len(), right.len());
    for (at, (one, other)) in left.iter().zip(right).enumerate() {
        assert_eq!(one, other, "at {at}");
    }
}

#[test]
fn fixtures() {
    let mut fixture = Fixture::new();
    fixture.expect("Tern");
    fixture.register.add("Skua", 40);
    fixture.expect("Skua");
}

#[test]
fn generic_helpers() {
    all(&[toll(1), toll(2)], &[Ok(2), Ok(4)]);
    all(&["a"], &["a"]);
}

#[test]
fn files_of_its_own() {
    let folder = std::env::temp_dir().join(format!("quay-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let file = folder.join("ships.txt");
    std::fs::write(&file, "Tern 9\n").unwrap();
    let text = std::fs::read_to_string(&file).unwrap();
    assert_eq!(text, "Tern 9\n");
    std::fs::remove_dir_all(&folder).unwrap();
    assert!(!file.exists());
}

#[test]
fn fixtures_again() {
    let fixture = Fixture::new();
    assert_eq!(fixture.register.names(), vec!["Tern"]);
}
