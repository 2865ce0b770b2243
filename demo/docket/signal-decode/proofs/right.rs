use std::io::Read;

fn main() {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).unwrap();
    for line in text.lines() {
        let mut out = String::new();
        let mut count = String::new();
        for c in line.chars() {
            if c.is_ascii_digit() {
                count.push(c);
            } else {
                let times: usize = count.parse().unwrap_or(1);
                out.extend(std::iter::repeat(c).take(times));
                count.clear();
            }
        }
        println!("{out}");
    }
}
