//! What asserts in twins of tests in Rust.

/// What asserts in place of the library's macros: it notes what it comes to and goes on, so that the test fails at
/// its end. Nothing in it can be shadowed by what an answer exports.
pub const HEAD: &str = r#"#[allow(dead_code, non_camel_case_types)] pub struct {id}_End(pub &'static ::std::sync::atomic::AtomicBool);
impl ::std::ops::Drop for {id}_End { fn drop(&mut self) { if self.0.swap(false, ::std::sync::atomic::Ordering::SeqCst) && !::std::thread::panicking() { ::std::panic!("an assertion failed") } } }
#[allow(dead_code)] pub fn {id}_note(failed: &::std::sync::atomic::AtomicBool, site: ::std::primitive::u32, held: ::std::primitive::bool) {
    let (site, held) = (site & 0x7fff_ffff, held != (site >> 31 == 1));
    if !held { failed.store(true, ::std::sync::atomic::Ordering::SeqCst); }
    static SEEN: ::std::sync::Mutex<::std::collections::BTreeSet<::std::primitive::u32>> = ::std::sync::Mutex::new(::std::collections::BTreeSet::new());
    let mut seen = SEEN.lock().unwrap_or_else(::std::sync::PoisonError::into_inner);
    if seen.insert(2 * site + held as ::std::primitive::u32) {
        let note = ::std::format!("\n{mark}{}={};\n", site, held as ::std::primitive::u8);
        let _ = ::std::io::Write::write_all(&mut ::std::io::stderr(), note.as_bytes());
    }
}
#[allow(unused_macros)] macro_rules! {id}_eq {
    ($failed:ident $site:expr; $left:expr, $right:expr $(,)?) => { match (&$left, &$right) { (left, right) => crate::{id}_note(&$failed, $site, *left == *right) } };
    ($failed:ident $site:expr; $left:expr, $right:expr, $($said:tt)+) => { match (&$left, &$right) { (left, right) => {
        if false { let _ = ::std::format_args!($($said)+); }
        crate::{id}_note(&$failed, $site, *left == *right)
    } } };
}
#[allow(unused_macros)] macro_rules! {id}_ne {
    ($failed:ident $site:expr; $left:expr, $right:expr $(,)?) => { match (&$left, &$right) { (left, right) => crate::{id}_note(&$failed, $site, !(*left == *right)) } };
    ($failed:ident $site:expr; $left:expr, $right:expr, $($said:tt)+) => { match (&$left, &$right) { (left, right) => {
        if false { let _ = ::std::format_args!($($said)+); }
        crate::{id}_note(&$failed, $site, !(*left == *right))
    } } };
}
#[allow(unused_macros)] macro_rules! {id}_eq_right {
    ($failed:ident $site:expr; $left:expr, $right:expr $(, $($said:tt)*)?) => { match &$left { left => match ::std::panic::catch_unwind(::std::panic::AssertUnwindSafe(|| $right)) {
        ::std::result::Result::Ok(right) => crate::{id}_note(&$failed, $site, *left == right),
        _ => crate::{id}_note(&$failed, $site, false),
    } } };
}
#[allow(unused_macros)] macro_rules! {id}_eq_left {
    ($failed:ident $site:expr; $left:expr, $right:expr $(, $($said:tt)*)?) => { match &$right { right => match ::std::panic::catch_unwind(::std::panic::AssertUnwindSafe(|| $left)) {
        ::std::result::Result::Ok(left) => crate::{id}_note(&$failed, $site, left == *right),
        _ => crate::{id}_note(&$failed, $site, false),
    } } };
}
#[allow(unused_macros)] macro_rules! {id}_ok {
    ($failed:ident $site:expr; $held:expr $(,)?) => { crate::{id}_note(&$failed, $site, if $held { true } else { false }) };
    ($failed:ident $site:expr; $held:expr, $($said:tt)+) => {{
        if false { let _ = ::std::format_args!($($said)+); }
        crate::{id}_note(&$failed, $site, if $held { true } else { false })
    }};
}
#[allow(unused_macros)] macro_rules! {id}_no {
    ($failed:ident $site:expr; $held:expr $(,)?) => { crate::{id}_note(&$failed, $site, if $held { false } else { true }) };
    ($failed:ident $site:expr; $held:expr, $($said:tt)+) => {{
        if false { let _ = ::std::format_args!($($said)+); }
        crate::{id}_note(&$failed, $site, if $held { false } else { true })
    }};
}
"#;

/// Makes a test fail at its end when one of its assertions did.
pub const BEGINS: &str = " static {id}_F: ::std::sync::atomic::AtomicBool = ::std::sync::atomic::AtomicBool::new(false); let _{id}_e = crate::{id}_End(&{id}_F);";

/// The macros that assert, with what stands in their place and what in that of their twins.
pub const MACROS: &[(&str, &str, &str)] = &[
    ("assert_eq", "eq", "ne"),
    ("assert_ne", "ne", "eq"),
    ("assert", "ok", "no"),
    ("debug_assert_eq", "eq", "ne"),
    ("debug_assert_ne", "ne", "eq"),
    ("debug_assert", "ok", "no"),
];
