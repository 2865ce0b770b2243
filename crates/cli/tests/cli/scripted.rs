//! A host that answers by a script.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpListener;
use std::thread::{self, JoinHandle};

use serde_json::Value;

/// A request, as the host got it.
pub struct Asked {
    /// The request line and the header lines.
    pub head: String,
    /// What was sent.
    pub body: Value,
}

/// Answers requests one after the other: each with a status and a body, and gives what it was asked.
pub fn scripted(answers: Vec<(u16, Value)>) -> (String, JoinHandle<Vec<Asked>>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/v1", listener.local_addr().unwrap());
    let thread = thread::spawn(move || {
        let mut asked = Vec::new();
        for (status, body) in answers {
            let (mut stream, _) = listener.accept().unwrap();
            let mut reader = BufReader::new(stream.try_clone().unwrap());
            let (mut length, mut head) = (0, String::new());
            loop {
                let mut line = String::new();
                reader.read_line(&mut line).unwrap();
                let lower = line.to_lowercase();
                if let Some(value) = lower.strip_prefix("content-length:") {
                    length = value.trim().parse().unwrap();
                }
                if line.trim().is_empty() {
                    break;
                }
                head.push_str(&line);
            }
            let mut request = vec![0; length];
            reader.read_exact(&mut request).unwrap();
            asked.push(Asked { head, body: serde_json::from_slice(&request).unwrap() });
            let body = body.to_string();
            let head = format!(
                "HTTP/1.1 {status} x\r\ncontent-type: application/json\r\nconnection: close\r\n\
                 retry-after: 0\r\ncontent-length: {}\r\n\r\n",
                body.len()
            );
            stream.write_all((head + &body).as_bytes()).unwrap();
        }
        asked
    });
    (address, thread)
}

/// An answer of the protocol that calls tools.
pub fn calling(calls: &[(&str, Value)]) -> (u16, Value) {
    let call = |(at, (name, arguments)): (usize, &(&str, Value))| {
        let arguments = arguments.as_str().map_or_else(|| arguments.to_string(), str::to_owned);
        serde_json::json!({ "id": format!("c{at}"), "type": "function",
                            "function": { "name": name, "arguments": arguments } })
    };
    let calls: Vec<Value> = calls.iter().enumerate().map(call).collect();
    let message = serde_json::json!({ "role": "assistant", "content": null, "tool_calls": calls });
    (
        200,
        serde_json::json!({ "choices": [{ "message": message, "finish_reason": "tool_calls" }],
        "usage": { "prompt_tokens": 100, "completion_tokens": 10 } }),
    )
}

/// An answer of the protocol that says something.
pub fn saying(text: &str) -> (u16, Value) {
    let message = serde_json::json!({ "role": "assistant", "content": text });
    (
        200,
        serde_json::json!({ "choices": [{ "message": message, "finish_reason": "stop" }],
        "usage": { "prompt_tokens": 100, "completion_tokens": 10 } }),
    )
}
