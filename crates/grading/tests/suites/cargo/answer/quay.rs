//! What ships pay and where they lie.

use std::collections::BTreeMap;
use std::fmt;

pub mod tides;

#[derive(Debug, Clone, PartialEq)]
pub enum TollError {
    Negative(i64),
    Unknown(String),
}

impl fmt::Display for TollError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Negative(n) => write!(f, "a ship of {n} metres"),
            Self::Unknown(name) => write!(f, "nobody knows {name}"),
        }
    }
}

impl std::error::Error for TollError {}

pub fn toll(metres: i64) -> Result<i64, TollError> {
    if metres < 0 { Err(TollError::Negative(metres)) } else { Ok(metres * 2) }
}

/// Versions are equal whatever zeros they end with.
#[derive(Debug, Clone, Copy, Eq)]
pub struct Version(pub u32, pub u32, pub u32);

impl Version {
    pub fn parse(text: &str) -> Self {
        let mut parts = text.split('.').map(|it| it.parse().expect("a number"));
        Self(parts.next().unwrap(), parts.next().unwrap_or(0), parts.next().unwrap_or(0))
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        (self.0, self.1, self.2) == (other.0, other.1, other.2)
    }
}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        (self.0, self.1, self.2).partial_cmp(&(other.0, other.1, other.2))
    }
}

/// Hours of the clock.
#[derive(Debug, Clone, Copy)]
pub struct Hour(pub i64);

impl Hour {
    /// # Panics
    /// When it is more than a week.
    pub fn new(hour: i64) -> Self {
        assert!(hour < 168, "too late");
        Self(hour)
    }
}

impl PartialEq for Hour {
    fn eq(&self, other: &Self) -> bool {
        self.0.rem_euclid(24) == other.0.rem_euclid(24)
    }
}

impl std::ops::Add for Hour {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0 + other.0)
    }
}

/// A stay, known by its berth; what is noted does not count.
#[derive(Debug, Clone)]
pub struct Stay {
    pub berth: u8,
    pub note: String,
}

impl PartialEq for Stay {
    fn eq(&self, other: &Self) -> bool {
        self.berth == other.berth
    }
}

pub struct Interval {
    pub low: f64,
    pub high: f64,
}

impl Interval {
    pub fn contains(&self, x: f64) -> bool {
        (self.low..=self.high).contains(&x)
    }
}

#[derive(Default)]
pub struct Register {
    ships: BTreeMap<String, u32>,
}

impl Register {
    pub fn add(&mut self, name: &str, length: u32) -> Option<u32> {
        self.ships.insert(name.to_owned(), length)
    }

    pub fn longest(&self) -> Option<(&str, u32)> {
        self.ships.iter().max_by_key(|it| it.1).map(|(name, length)| (name.as_str(), *length))
    }

    pub fn names(&self) -> Vec<String> {
        self.ships.keys().cloned().collect()
    }
}

pub fn share<T: Clone>(all: &[T], parts: usize) -> Vec<Vec<T>> {
    assert!(parts > 0, "parts must be positive");
    all.chunks(all.len().div_ceil(parts).max(1)).map(<[T]>::to_vec).collect()
}

pub fn greet(name: &str) -> String {
    format!("Ahoy, {name}!\n\"{{}}\"")
}
