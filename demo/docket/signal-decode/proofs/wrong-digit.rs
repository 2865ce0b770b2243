use std::io::Read;

fn main() {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).unwrap();
    for line in text.lines() {
        let mut out = String::new();
        let mut times = 1;
        for c in line.chars() {
            if let Some(digit) = c.to_digit(10) {
                times = digit as usize;
            } else {
                out.extend(std::iter::repeat(c).take(times));
                times = 1;
            }
        }
        println!("{out}");
    }
}
