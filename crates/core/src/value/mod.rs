//! Values that cross between the tool and the code under trial.
//!
//! They travel as JSON. What JSON lacks is written as an object with one key that starts with a
//! dollar sign; `docs/values.md` lists the forms. A map whose own keys start with a dollar sign is
//! written as `{"$map": [[key, value], …]}`, so nothing a program returns can be mistaken for one
//! of these forms.

mod compare;
mod wire;

pub use compare::{CompareRules, Mismatch, Order, close, compare};
pub use wire::{ValueError, from_json, from_toml, parse_line, quote_long_integers, to_json};

/// One value, free of the language it came from.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// `None`, `null`, `undefined`.
    Null,
    /// A truth value.
    Bool(bool),
    /// A whole number that fits 64 bits.
    Int(i64),
    /// A whole number beyond 64 bits: decimal digits, with a leading `-` if below zero.
    BigInt(String),
    /// A floating-point number, NaN and infinities included.
    Float(f64),
    /// Text.
    Str(String),
    /// Raw bytes.
    Bytes(Vec<u8>),
    /// A list or an array.
    List(Vec<Value>),
    /// A tuple; as an expectation it accepts nothing but a tuple where the language has them.
    Tuple(Vec<Value>),
    /// A set: no order, no duplicates.
    Set(Vec<Value>),
    /// A map with keys of any kind; order does not count.
    Map(Vec<(Value, Value)>),
    /// Something that has no form here, by how its language describes it. Equal to nothing.
    Opaque(String),
}
