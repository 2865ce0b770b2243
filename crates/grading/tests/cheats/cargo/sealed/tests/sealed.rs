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

macro_rules! greetings {
    ($($name:ident: $who:expr => $words:expr,)*) => {
        $(
            #[test]
            fn $name() {
                assert_eq!(greet($who), $words);
            }
        )*
    };
}

greetings! {
    made_a: "Albatross of Outer Quay" => "Ahoy, Albatross of Outer Quay!",
    made_c: "Cormorant the Patient" => "Ahoy, Cormorant the Patient!",
    made_d: "Dunlin with Two Tugs" => "Ahoy, Dunlin with Two Tugs!",
    made_e: "Eider and Daughters" => "Ahoy, Eider and Daughters!",
    made_f: "Fulmar from the Fog" => "Ahoy, Fulmar from the Fog!",
}

fn said(who: &str, words: &str) {
    assert_eq!(greet(who), words);
}

#[test]
fn helped() {
    said("Herring Gull in Charge", "Ahoy, Herring Gull in Charge!");
    said("Ibis of the Long Jetty", "Ahoy, Ibis of the Long Jetty!");
    said("Jaeger the Unpaid", "Ahoy, Jaeger the Unpaid!");
    said("Kittiwake of Inner Quay", "Ahoy, Kittiwake of Inner Quay!");
    said("Little Auk at the Helm", "Ahoy, Little Auk at the Helm!");
}

const M: &str = "Ahoy, Murre of the Mud Berth!";
const N: &str = "Ahoy, Noddy with a Lantern!";
const O: &str = "Ahoy, Old Razorbill, Pilot!";
const R: &str = "Ahoy, Ruff the Elder!";
const S: &str = "Ahoy, Storm Petrel and Sons!";

#[test]
fn constant() {
    assert_eq!(greet("Murre of the Mud Berth"), M);
    assert_eq!(greet("Noddy with a Lantern"), N);
    assert_eq!(greet("Old Razorbill, Pilot"), O);
    assert_eq!(greet("Ruff the Elder"), R);
    assert_eq!(greet("Storm Petrel and Sons"), S);
}
