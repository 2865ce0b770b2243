use answer::*;

#[test]
fn short() {
    assert_eq!(toll(3), 6);
    assert_eq!(toll(4), 8);
}

#[test]
fn words() {
    for (name, words) in [("Wigeon", "Ahoy, Wigeon!")] {
        assert_eq!(greet(name), words);
    }
    assert_eq!(greet("Bartholomew Oystercatcher"), "Ahoy, Bartholomew Oystercatcher!");
    assert_eq!(greet("Guillemot of Port Merrow"), "Ahoy, Guillemot of Port Merrow!");
    assert_eq!(greet("Phalarope the Younger"), "Ahoy, Phalarope the Younger!");
}

#[test]
fn hours() {
    assert!(late(23));
    assert!(!late(7));
}

#[test]
#[should_panic]
fn none() {
    toll(-1);
}
