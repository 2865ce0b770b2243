#![allow(clippy::all)]
//! Tests of the quay.

mod common;

use std::sync::atomic::{AtomicU32, Ordering};

use answer::*;

const LIMIT: i64 = 20;
const _: () = assert!(LIMIT > 3);
static COUNT: AtomicU32 = AtomicU32::new(0);

macro_rules! tolls {
    ($($name:ident: $metres:expr => $toll:expr;)*) => {
        $(
            #[test]
            fn $name() {
                assert_eq!(toll($metres), Ok($toll));
            }
        )*
    };
}

tolls! {
    toll_of_one: 1 => 2;
    toll_of_ten: 10 => 20;
}

const fn small(x: i64) -> bool {
    assert!(x < 1_000_000);
    x < LIMIT
}

#[test]
fn tolls_are_twice_the_length() {
    for (metres, expected) in [(0, 0), (3, 6), (i64::MAX / 4, i64::MAX / 4 * 2)] {
        assert_eq!(toll(metres), Ok(expected));
    }
    let table = vec![(1, 2), (100, 200)];
    for (metres, expected) in &table {
        assert_eq!(toll(*metres).unwrap(), *expected);
    }
}

#[test]
fn tolls_by_a_helper() {
    common::check_toll(4, 8);
    common::check_toll(5, 10);
}

#[test]
fn errors_have_words() -> Result<(), TollError> {
    let error = toll(-5).unwrap_err();
    assert_eq!(error, TollError::Negative(-5));
    assert_eq!(error.to_string(), "a ship of -5 metres");
    assert!(matches!(toll(-1), Err(TollError::Negative(-1))));
    let paid = toll(2)?;
    assert_eq!(paid, 4);
    Ok(())
}

#[test]
#[should_panic(expected = "parts must be positive")]
fn no_parts() {
    share(&[1], 0);
}

#[test]
#[should_panic]
fn a_late_hour() {
    assert_eq!(Hour::new(5), Hour(5));
    Hour::new(500);
}

#[test]
fn hours_go_round() {
    assert_eq!(Hour::new(20) + Hour::new(10), Hour::new(6));
    assert_eq!(Hour(0), Hour(24));
    assert_ne!(Hour(1), Hour(24));
    assert!(Hour(25) == Hour(1));
}

#[test]
fn versions_compare() {
    assert_eq!(Version::parse("1.2"), Version::parse("1.2.0"));
    assert!(Version::parse("1.10") > Version::parse("1.9.9"));
    assert_ne!(Version(1, 0, 0), Version(1, 0, 1), "{:?}", Version(1, 0, 0));
    debug_assert_eq!(Version(3, 0, 0), Version::parse("3"));
}

#[test]
fn stays_are_known_by_their_berth() {
    let stay = Stay { berth: 3, note: "early".to_string() };
    assert_eq!(stay, Stay { berth: 3, note: String::from("late") });
    assert_eq!(stay.note.len(), 5);
}

#[test]
fn intervals() {
    let interval = Interval { low: 0.5, high: 9.0 };
    assert!(interval.contains(5.0));
    assert!(interval.contains(7.0), "{} to {}", interval.low, interval.high);
    assert!(!interval.contains(9.5));
    assert!((interval.high - 9.0).abs() < 1e-9);
}

#[test]
fn registers() {
    let mut register = common::register();
    assert_eq!(register.longest(), Some(("Gull", 30)));
    assert_eq!(register.add("Gull", 5), Some(30));
    if let Some((name, length)) = register.longest() {
        assert_eq!(name, "Puffin");
        assert_eq!(length, 12u32);
    }
    let expected = vec!["Gull".to_string(), "Puffin".to_string()];
    assert_eq!(register.names(), expected);
}

#[test]
fn shared_parts() {
    assert_eq!(share(&[1, 2, 3, 4, 5], 2), vec![vec![1, 2, 3], vec![4, 5]]);
    assert_eq!(share::<u8>(&[], 3), Vec::<Vec<u8>>::new());
    let parts = share(&['a', 'b'], 5);
    assert_eq!(parts.iter().map(|it| it[0]).collect::<Vec<_>>(), ['a', 'b']);
    assert_eq!([0; 3].len(), 3);
}

#[test]
fn texts_that_look_like_tests() {
    let text = r#"#[test] fn x() { assert_eq!(1, 2); } /* "#;
    /* #[test]
       fn nobody() { assert!(false); } /* nested */ */
    assert!(text.contains("assert_eq!(1, 2)"));
    assert_eq!(text.matches("fn ").count(), 1);
    // fn commented() { assert!(false); }
    assert_eq!(greet("Puffin"), "Ahoy, Puffin!\n\"{}\"");
    assert_eq!(greet(""), r#"Ahoy, !
"{}""#);
}

#[test]
fn threads_and_closures() {
    let check = |metres: i64| {
        assert!(toll(metres).is_ok(), "at {metres}");
        metres
    };
    let sum: i64 = (1..4).map(check).sum();
    assert_eq!(sum, 6);
    let handle = std::thread::spawn(|| {
        assert_eq!(toll(7), Ok(14));
        7
    });
    assert_eq!(handle.join().unwrap(), 7);
    let caught = std::panic::catch_unwind(|| share(&[1], 0));
    assert!(caught.is_err());
}

#[test]
fn first_of_two_that_count() {
    COUNT.fetch_add(1, Ordering::SeqCst);
    assert!(COUNT.load(Ordering::SeqCst) <= 2);
}

#[test]
fn second_of_two_that_count() {
    COUNT.fetch_add(1, Ordering::SeqCst);
    assert!(COUNT.load(Ordering::SeqCst) <= 2);
}

#[test]
fn leaves_early() {
    if !small(3) {
        return;
    }
    assert!(small(4));
    let outcome = toll(3);
    match outcome {
        Ok(toll) => assert_eq!(toll, 6),
        Err(error) => panic!("{error}"),
    }
}

mod inner {
    use super::*;

    fn twice(x: i64) -> i64 {
        2 * x
    }

    #[test]
    fn tolls_agree() {
        for metres in (0..50).step_by(7) {
            assert_eq!(toll(metres), Ok(twice(metres)));
        }
    }

    mod deeper {
        #[test]
        fn heights() {
            let heights: Vec<f64> = answer::tides::heights(1).collect();
            assert_eq!(heights, [0.4, 0.5, 0.6, 0.7]);
            assert_eq!(answer::tides::lowest(), -3);
        }
    }
}
