// Serves single calls: answers one line of JSON with another, over descriptor 3. What stands in place
// of the marks below is made for the task: the candidate's file, and what is called in it.
//
// This runs in the candidate's own process. It is given arguments and hands back values; it knows
// no expectation, so nothing that the candidate does to it can make a verdict.
#![allow(dead_code, unused, non_snake_case, unpredictable_function_pointer_comparisons)]
#[path = "{FILE}"]
mod candidate;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque};
use std::fmt::Debug;
use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::os::fd::FromRawFd;
use std::panic::{catch_unwind, AssertUnwindSafe};

#[derive(Clone, Debug)]
enum J { Null, Bool(bool), Int(i128), Float(f64), Text(String), List(Vec<J>), Map(Vec<(String, J)>) }

impl J {
    fn get(&self, key: &str) -> &J {
        match self {
            J::Map(pairs) => pairs.iter().find(|it| it.0 == key).map_or(&J::Null, |it| &it.1),
            _ => &J::Null,
        }
    }
    fn list(&self) -> &[J] { match self { J::List(items) => items, _ => &[] } }
    fn text(&self) -> &str { match self { J::Text(text) => text, _ => "" } }
}

struct Reader<'a> { rest: &'a [u8] }

impl Reader<'_> {
    fn space(&mut self) { while let [b' ' | b'\n' | b'\t' | b'\r', rest @ ..] = self.rest { self.rest = rest } }
    fn eat(&mut self, wanted: &str) -> bool {
        self.space();
        match self.rest.strip_prefix(wanted.as_bytes()) { Some(rest) => { self.rest = rest; true } None => false }
    }
    fn value(&mut self) -> J {
        self.space();
        if self.eat("null") { return J::Null }
        if self.eat("true") { return J::Bool(true) }
        if self.eat("false") { return J::Bool(false) }
        match self.rest.first() {
            Some(b'"') => J::Text(self.string()),
            Some(b'[') => {
                self.eat("[");
                let mut items = Vec::new();
                while !self.eat("]") { items.push(self.value()); self.eat(","); }
                J::List(items)
            }
            Some(b'{') => {
                self.eat("{");
                let mut pairs = Vec::new();
                while !self.eat("}") { self.space(); let key = self.string(); self.eat(":"); pairs.push((key, self.value())); self.eat(","); }
                J::Map(pairs)
            }
            _ => {
                let end = self.rest.iter().position(|c| !matches!(c, b'0'..=b'9' | b'-' | b'+' | b'.' | b'e' | b'E')).unwrap_or(self.rest.len());
                let text = String::from_utf8_lossy(&self.rest[..end.max(1).min(self.rest.len())]).into_owned();
                self.rest = &self.rest[end.max(1).min(self.rest.len())..];
                text.parse().map(J::Int).or_else(|_| text.parse().map(J::Float)).unwrap_or(J::Null)
            }
        }
    }
    fn string(&mut self) -> String {
        let mut out = Vec::new();
        self.rest = &self.rest[1..];
        loop {
            match self.rest {
                [b'"', rest @ ..] => { self.rest = rest; return String::from_utf8_lossy(&out).into_owned() }
                [b'\\', b'u', a, b, c, d, rest @ ..] => {
                    let unit = |it: [u8; 4]| u32::from_str_radix(std::str::from_utf8(&it).unwrap_or("0"), 16).unwrap_or(0);
                    let mut code = unit([*a, *b, *c, *d]);
                    self.rest = rest;
                    if let (0xd800..0xdc00, [b'\\', b'u', a, b, c, d, rest @ ..]) = (code, rest) {
                        code = 0x10000 + ((code - 0xd800) << 10) + (unit([*a, *b, *c, *d]).wrapping_sub(0xdc00) & 0x3ff);
                        self.rest = rest;
                    }
                    let mut bytes = [0; 4];
                    out.extend_from_slice(char::from_u32(code).unwrap_or('\u{fffd}').encode_utf8(&mut bytes).as_bytes());
                }
                [b'\\', c, rest @ ..] => {
                    out.push(match c { b'n' => b'\n', b't' => b'\t', b'r' => b'\r', b'b' => 8, b'f' => 12, c => *c });
                    self.rest = rest;
                }
                [c, rest @ ..] => { out.push(*c); self.rest = rest }
                [] => return String::from_utf8_lossy(&out).into_owned(),
            }
        }
    }
}

fn quote(text: &str, out: &mut String) {
    out.push('"');
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""), '\\' => out.push_str("\\\\"),
            c if (c as u32) < 32 => out.push_str(&format!("\\u{:04x}", c as u32)),
            c => out.push(c),
        }
    }
    out.push('"');
}

fn write(value: &J, out: &mut String) {
    match value {
        J::Null => out.push_str("null"), J::Bool(it) => out.push_str(if *it { "true" } else { "false" }),
        J::Int(it) if it.unsigned_abs() < 1 << 53 => out.push_str(&it.to_string()),
        J::Int(it) => out.push_str(&format!("{{\"$int\":\"{it}\"}}")),
        J::Float(it) if it.is_nan() => out.push_str("{\"$float\":\"nan\"}"),
        J::Float(it) if it.is_infinite() => out.push_str(if *it > 0.0 { "{\"$float\":\"inf\"}" } else { "{\"$float\":\"-inf\"}" }),
        J::Float(it) => out.push_str(&format!("{it:?}")),
        J::Text(text) => quote(text, out),
        J::List(items) => {
            out.push('[');
            for (index, item) in items.iter().enumerate() { if index > 0 { out.push(',') } write(item, out) }
            out.push(']');
        }
        J::Map(pairs) => {
            out.push('{');
            for (index, (key, item)) in pairs.iter().enumerate() { if index > 0 { out.push(',') } quote(key, out); out.push(':'); write(item, out) }
            out.push('}');
        }
    }
}

/// A value of the candidate's own types, out of what came in.
trait From_: Sized { fn from_(it: &J) -> Self; }
fn unfit<T>(it: &J) -> T { let mut text = String::new(); write(it, &mut text); panic!("an argument does not fit the type of its parameter: {text}") }

macro_rules! whole { ($($kind:ty)*) => { $(
    impl From_ for $kind { fn from_(it: &J) -> Self { match it {
        J::Int(it) => <$kind>::try_from(*it).unwrap_or_else(|_| panic!("{it} does not fit the type of its parameter")),
        J::Float(it) if it.fract() == 0.0 => *it as $kind,
        J::Map(_) => it.get("$int").text().parse().unwrap_or_else(|_| unfit(it)),
        it => unfit(it) } } }
    impl Into_ for $kind { fn into_(&self) -> J { i128::try_from(*self).map_or_else(|_| J::Map(vec![("$int".into(), J::Text(self.to_string()))]), J::Int) } }
)* } }
whole! { i8 i16 i32 i64 i128 isize u8 u16 u32 u64 u128 usize }
macro_rules! broken { ($($kind:ty)*) => { $(
    impl From_ for $kind { fn from_(it: &J) -> Self { match it {
        J::Int(it) => *it as $kind, J::Float(it) => *it as $kind,
        J::Map(_) => match it.get("$float").text() { "inf" => <$kind>::INFINITY, "-inf" => <$kind>::NEG_INFINITY, _ => <$kind>::NAN },
        it => unfit(it) } } }
    impl Into_ for $kind { fn into_(&self) -> J { J::Float(*self as f64) } }
)* } }
broken! { f32 f64 }
impl From_ for bool { fn from_(it: &J) -> Self { match it { J::Bool(it) => *it, it => unfit(it) } } }
impl From_ for String { fn from_(it: &J) -> Self { match it { J::Text(it) => it.clone(), it => unfit(it) } } }
impl From_ for char { fn from_(it: &J) -> Self { it.text().chars().next().unwrap_or_else(|| unfit(it)) } }
impl From_ for () { fn from_(_: &J) -> Self {} }
impl From_ for &'static str { fn from_(it: &J) -> Self { Box::leak(String::from_(it).into_boxed_str()) } }
impl<T: From_> From_ for Vec<T> { fn from_(it: &J) -> Self { match it { J::List(items) => items.iter().map(T::from_).collect(), J::Map(_) => ["$tuple", "$set"].iter().flat_map(|key| it.get(key).list()).map(T::from_).collect(), it => unfit(it) } } }
impl<T: From_> From_ for VecDeque<T> { fn from_(it: &J) -> Self { Vec::from_(it).into() } }
impl<T: From_> From_ for Box<T> { fn from_(it: &J) -> Self { Box::new(T::from_(it)) } }
impl<T: From_> From_ for Option<T> { fn from_(it: &J) -> Self { match it { J::Null => None, it => Some(T::from_(it)) } } }
impl<T: From_ + 'static> From_ for &'static [T] { fn from_(it: &J) -> Self { Box::leak(Vec::<T>::from_(it).into_boxed_slice()) } }
impl<T: From_ + 'static> From_ for &'static mut [T] { fn from_(it: &J) -> Self { Box::leak(Vec::<T>::from_(it).into_boxed_slice()) } }
impl<T: From_ + 'static> From_ for &'static T { fn from_(it: &J) -> Self { Box::leak(Box::new(T::from_(it))) } }
impl<T: From_ + 'static> From_ for &'static mut T { fn from_(it: &J) -> Self { Box::leak(Box::new(T::from_(it))) } }
impl<T: From_, const N: usize> From_ for [T; N] { fn from_(it: &J) -> Self { Vec::from_(it).try_into().unwrap_or_else(|_| unfit(it)) } }
fn pairs<K: From_, V: From_>(it: &J) -> Vec<(K, V)> {
    match it {
        J::Map(entries) if entries.iter().any(|it| it.0 == "$map") => it.get("$map").list().iter().map(|it| (K::from_(&it.list()[0]), V::from_(&it.list()[1]))).collect(),
        J::Map(entries) => entries.iter().map(|(key, value)| (K::from_(&J::Text(key.clone())), V::from_(value))).collect(),
        it => unfit(it),
    }
}
impl<K: From_ + Eq + std::hash::Hash, V: From_> From_ for HashMap<K, V> { fn from_(it: &J) -> Self { pairs(it).into_iter().collect() } }
impl<K: From_ + Ord, V: From_> From_ for BTreeMap<K, V> { fn from_(it: &J) -> Self { pairs(it).into_iter().collect() } }
impl<T: From_ + Eq + std::hash::Hash> From_ for HashSet<T> { fn from_(it: &J) -> Self { Vec::from_(it).into_iter().collect() } }
impl<T: From_ + Ord> From_ for BTreeSet<T> { fn from_(it: &J) -> Self { Vec::from_(it).into_iter().collect() } }

/// What goes back.
trait Into_ {
    fn into_(&self) -> J;
    /// What a call came to: for a `Result` its value, or its error.
    fn outcome(&self) -> Result<J, (String, String)> { Ok(self.into_()) }
}
impl Into_ for bool { fn into_(&self) -> J { J::Bool(*self) } }
impl Into_ for String { fn into_(&self) -> J { J::Text(self.clone()) } }
impl Into_ for str { fn into_(&self) -> J { J::Text(self.to_owned()) } }
impl Into_ for char { fn into_(&self) -> J { J::Text(self.to_string()) } }
impl Into_ for () { fn into_(&self) -> J { J::Null } }
impl<T: Into_ + ?Sized> Into_ for &T { fn into_(&self) -> J { (**self).into_() } }
impl<T: Into_ + ?Sized> Into_ for &mut T { fn into_(&self) -> J { (**self).into_() } }
impl<T: Into_ + ?Sized> Into_ for Box<T> { fn into_(&self) -> J { (**self).into_() } }
impl<T: Into_ + ToOwned + ?Sized> Into_ for std::borrow::Cow<'_, T> { fn into_(&self) -> J { (**self).into_() } }
impl<T: Into_> Into_ for Option<T> { fn into_(&self) -> J { self.as_ref().map_or(J::Null, T::into_) } }
impl<T: Into_> Into_ for [T] { fn into_(&self) -> J { J::List(self.iter().map(T::into_).collect()) } }
impl<T: Into_, const N: usize> Into_ for [T; N] { fn into_(&self) -> J { self[..].into_() } }
impl<T: Into_> Into_ for Vec<T> { fn into_(&self) -> J { self[..].into_() } }
impl<T: Into_> Into_ for VecDeque<T> { fn into_(&self) -> J { J::List(self.iter().map(T::into_).collect()) } }
fn tagged(tag: &str, items: Vec<J>) -> J { J::Map(vec![(tag.into(), J::List(items))]) }
impl<T: Into_> Into_ for HashSet<T> { fn into_(&self) -> J { tagged("$set", self.iter().map(T::into_).collect()) } }
impl<T: Into_> Into_ for BTreeSet<T> { fn into_(&self) -> J { tagged("$set", self.iter().map(T::into_).collect()) } }
fn table(pairs: Vec<(J, J)>) -> J {
    let plain = |it: &(J, J)| matches!(&it.0, J::Text(key) if !key.starts_with('$'));
    if pairs.iter().all(plain) { return J::Map(pairs.into_iter().map(|(key, value)| (key.text().to_owned(), value)).collect()) }
    tagged("$map", pairs.into_iter().map(|(key, value)| J::List(vec![key, value])).collect())
}
impl<K: Into_, V: Into_> Into_ for HashMap<K, V> { fn into_(&self) -> J { table(self.iter().map(|(k, v)| (k.into_(), v.into_())).collect()) } }
impl<K: Into_, V: Into_> Into_ for BTreeMap<K, V> { fn into_(&self) -> J { table(self.iter().map(|(k, v)| (k.into_(), v.into_())).collect()) } }
macro_rules! tuples { ($(($($name:ident $at:tt),*))*) => { $(
    impl<$($name: From_),*> From_ for ($($name,)*) { fn from_(it: &J) -> Self {
        let items = if let J::List(items) = it { &items[..] } else { it.get("$tuple").list() };
        let all = [$($at),*].len(); if items.len() != all { return unfit(it) }
        ($($name::from_(&items[$at]),)*) } }
    impl<$($name: Into_),*> Into_ for ($($name,)*) { fn into_(&self) -> J { tagged("$tuple", vec![$(self.$at.into_()),*]) } }
)* } }
tuples! { (A 0) (A 0, B 1) (A 0, B 1, C 2) (A 0, B 1, C 2, D 3) (A 0, B 1, C 2, D 3, E 4) }
impl<T: Into_, E: Debug> Into_ for Result<T, E> {
    fn into_(&self) -> J { self.as_ref().map_or_else(|error| J::Text(format!("{error:?}")), T::into_) }
    fn outcome(&self) -> Result<J, (String, String)> {
        match self {
            Ok(it) => Ok(it.into_()),
            Err(error) => {
                let text = format!("{error:?}");
                let kind = text.split(|c: char| !c.is_alphanumeric() && c != '_').next().unwrap_or("");
                Err((if kind.is_empty() { "Err".to_owned() } else { kind.to_owned() }, text.clone()))
            }
        }
    }
}

/// An argument: whatever the parameter wants.
fn arg<T: From_>(args: &[J], index: usize) -> T { T::from_(args.get(index).unwrap_or(&J::Null)) }

type Object = {OBJECT};

fn object(it: &mut Option<Object>) -> Result<&mut Object, (String, String)> {
    it.as_mut().ok_or_else(|| ("panic".to_owned(), "there is no object".to_owned()))
}

fn act_on(it: &mut Option<Object>, act: &str, name: &str, args: &[J]) -> Result<J, (String, String)> {
    match (act, name) {
{CALLS}
        _ => Err(("panic".to_owned(), format!("there is no {act} {name}"))),
    }
}

fn serve(line: &str) -> String {
    let order = Reader { rest: line.as_bytes() }.value();
    let mut it: Option<Object> = None;
    let mut replies = Vec::new();
    for step in order.get("steps").list() {
        let args = step.get("args").list();
        let (act, name) = (step.get("act").text(), step.get("name").text());
        let done = catch_unwind(AssertUnwindSafe(|| act_on(&mut it, act, name, args)));
        let outcome = done.unwrap_or_else(|panic| {
            let text = panic.downcast_ref::<String>().cloned().or_else(|| panic.downcast_ref::<&str>().map(|it| it.to_string()));
            Err(("panic".to_owned(), text.unwrap_or_default()))
        });
        let mut reply = match outcome {
            Ok(value) => vec![("value".to_owned(), value)],
            Err((kind, message)) => {
                let mut kinds = vec![J::Text(kind.clone())];
                if kind != "panic" && kind != "Err" { kinds.push(J::Text("Err".into())) }
                let message = message.chars().take(2000).collect();
                vec![("raised".to_owned(), J::Map(vec![("kinds".into(), J::List(kinds)), ("message".into(), J::Text(message))]))]
            }
        };
        reply.push(("args".to_owned(), J::List(Vec::new())));
        replies.push(J::Map(reply));
    }
    let mut out = String::new();
    write(&J::Map(vec![("steps".to_owned(), J::List(replies))]), &mut out);
    out
}

fn main() {
    let mut channel = unsafe { File::from_raw_fd(3) };
    let mut reader = BufReader::new(channel.try_clone().expect("the channel"));
    let mut line = String::new();
    let mut loaded = false;
    while reader.read_line(&mut line).unwrap_or(0) > 0 {
        let reply = if loaded { serve(&line) } else { "{\"loaded\":true}".to_owned() };
        loaded = true;
        let _ = std::io::stdout().flush();
        if channel.write_all(format!("{reply}\n").as_bytes()).is_err() { return }
        line.clear();
    }
}
