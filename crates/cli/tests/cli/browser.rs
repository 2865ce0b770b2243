//! A real browser without a window, driven over the pipe of its DevTools protocol.

use std::fs::{File, OpenOptions};
use std::io::{Read as _, Write as _};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value, json};

/// A browser with one page.
pub struct Browser {
    child: Child,
    to: File,
    from: File,
    session: String,
    number: u32,
    pending: Vec<u8>,
}

impl Browser {
    /// Starts it in a folder of its own and opens an address, in a window of this size.
    pub fn open(folder: &Path, address: &str, size: (u32, u32)) -> Self {
        let pipes = ["to", "from"].map(|it| folder.join(it));
        let made = Command::new("mkfifo").args(&pipes).status().unwrap();
        assert!(made.success());
        // The shell gives the browser the two pipes as the descriptors that it wants them on.
        let script = "exec chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run \
             --disable-background-networking --disable-component-update --disable-sync \
             --remote-debugging-pipe --user-data-dir=\"$3\" 3<\"$1\" 4>\"$2\"";
        let child = Command::new("sh")
            .args(["-c", script, "sh"])
            .args(&pipes)
            .arg(folder.join("profile"))
            .env("HOME", folder)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let to = OpenOptions::new().write(true).open(&pipes[0]).unwrap();
        let from = File::open(&pipes[1]).unwrap();
        let mut browser =
            Self { child, to, from, session: String::new(), number: 0, pending: Vec::new() };
        let target = browser.call("Target.createTarget", json!({"url": "about:blank"}));
        let target = target["targetId"].as_str().unwrap().to_owned();
        let attached =
            browser.call("Target.attachToTarget", json!({"targetId": target, "flatten": true}));
        browser.session = attached["sessionId"].as_str().unwrap().to_owned();
        browser.call("Page.enable", json!({}));
        browser.call("Runtime.enable", json!({}));
        let (width, height) = size;
        let screen =
            json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        browser.call("Emulation.setDeviceMetricsOverride", screen);
        browser.call("Page.navigate", json!({"url": address}));
        browser.until("document.readyState === 'complete'");
        browser
    }

    /// Calls a method and waits for what it gives.
    pub fn call(&mut self, method: &str, params: Value) -> Value {
        self.number += 1;
        let mut message = json!({"id": self.number, "method": method, "params": params});
        if !self.session.is_empty() {
            message["sessionId"] = json!(self.session);
        }
        self.to.write_all(format!("{message}\0").as_bytes()).unwrap();
        loop {
            let answer = self.message();
            if answer["id"] == self.number {
                assert!(answer.get("error").is_none(), "{method}: {answer}");
                return answer["result"].clone();
            }
        }
    }

    fn message(&mut self) -> Value {
        loop {
            if let Some(end) = self.pending.iter().position(|it| *it == 0) {
                let message: Vec<u8> = self.pending.drain(..=end).collect();
                return serde_json::from_slice(&message[..end]).unwrap();
            }
            let mut part = [0; 1 << 16];
            let read = self.from.read(&mut part).unwrap();
            assert!(read > 0, "the browser has gone");
            self.pending.extend_from_slice(&part[..read]);
        }
    }

    /// What an expression comes to in the page.
    pub fn value(&mut self, expression: &str) -> Value {
        let params = json!({"expression": expression, "returnByValue": true, "awaitPromise": true});
        let found = self.call("Runtime.evaluate", params);
        assert!(found.get("exceptionDetails").is_none(), "{expression}: {found}");
        found["result"]["value"].clone()
    }

    /// Waits until an expression is true in the page.
    pub fn until(&mut self, expression: &str) {
        let begun = Instant::now();
        while self.value(expression) != true {
            assert!(begun.elapsed() < Duration::from_secs(30), "it does not come: {expression}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Presses a key, such as `Tab`, `Enter` or `ArrowRight`, or writes a letter.
    pub fn press(&mut self, key: &str) {
        let text = match key {
            "Enter" => "\r",
            key if key.chars().count() == 1 => key,
            _ => "",
        };
        let code = match key {
            "Tab" => 9,
            "Enter" => 13,
            "Escape" => 27,
            "ArrowLeft" => 37,
            "ArrowUp" => 38,
            "ArrowRight" => 39,
            "ArrowDown" => 40,
            _ => 0,
        };
        let kind = if text.is_empty() { "rawKeyDown" } else { "keyDown" };
        for kind in [kind, "keyUp"] {
            let event = json!({"type": kind, "key": key, "text": if kind == "keyUp" { "" } else { text },
                "windowsVirtualKeyCode": code});
            self.call("Input.dispatchKeyEvent", event);
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
