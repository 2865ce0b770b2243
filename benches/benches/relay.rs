//! What the relay adds to a request, with 50 agents at once, against asking the host directly.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::{TcpListener, TcpStream};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use fairtrial_benches::median;
use fairtrial_candidates::{
    Relay, RelayConfig, Reporter, RequestNote, StepNote, Upstream, UpstreamConfig,
};
use fairtrial_core::plan::{AgentLimits, Price};

const AGENTS: usize = 50;
const REQUESTS: usize = 40;

/// How long the host takes to begin an answer: what is under way at once waits for it.
const LATENCY: Duration = Duration::from_millis(40);

struct Calm(AtomicU32);

impl Reporter for Calm {
    fn requested(&self) -> Option<u32> {
        Some(self.0.fetch_add(1, Ordering::Relaxed))
    }

    fn request_over(&self, _number: u32, _note: RequestNote) {}

    fn step(&self, _step: StepNote) {}

    fn is_stopping(&self) -> bool {
        false
    }

    fn is_stuck(&self) -> bool {
        false
    }
}

/// A host that answers each request after the same time: whole, or in parts.
fn host() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("an address").port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            std::thread::spawn(move || serve(stream));
        }
    });
    port
}

fn serve(mut stream: TcpStream) -> Option<()> {
    stream.set_nodelay(true).ok()?;
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    while let Some(body) = read_message(&mut reader) {
        std::thread::sleep(LATENCY);
        let usage = "\"usage\":{\"prompt_tokens\":9,\"completion_tokens\":3}";
        let (kind, text) = if body.contains("\"stream\":true") {
            let part = "data: {\"choices\":[{\"delta\":{\"content\":\"tide\"}}]}\n\n";
            (
                "text/event-stream",
                format!("{part}{part}data: {{\"choices\":[],{usage}}}\n\ndata: [DONE]\n\n"),
            )
        } else {
            (
                "application/json",
                format!("{{\"choices\":[{{\"message\":{{\"content\":\"tide\"}}}}],{usage}}}"),
            )
        };
        let length = text.len();
        write!(
            stream,
            "HTTP/1.1 200 OK\r\ncontent-type: {kind}\r\ncontent-length: {length}\r\n\r\n{text}"
        )
        .ok()?;
    }
    None
}

/// The body of the next message.
fn read_message(reader: &mut impl std::io::BufRead) -> Option<String> {
    let (mut length, mut chunked) = (0, false);
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).ok()? == 0 {
            return None;
        }
        let line = line.trim_end().to_lowercase();
        if let Some(value) = line.strip_prefix("content-length:") {
            length = value.trim().parse().ok()?;
        }
        chunked |= line == "transfer-encoding: chunked";
        if line.is_empty() {
            break;
        }
    }
    let mut body = Vec::new();
    if chunked {
        loop {
            let mut size = String::new();
            reader.read_line(&mut size).ok()?;
            let size = usize::from_str_radix(size.trim(), 16).ok()?;
            let mut part = vec![0; size + 2];
            reader.read_exact(&mut part).ok()?;
            body.extend(&part[..size]);
            if size == 0 {
                break;
            }
        }
    } else {
        body = vec![0; length];
        reader.read_exact(&mut body).ok()?;
    }
    String::from_utf8(body).ok()
}

/// Microseconds to the first byte of each answer, and to its end, of agents that ask at the same time.
fn ask(ports: &[u16], stream: bool) -> (Vec<i64>, Vec<i64>) {
    let one = |port: u16| {
        let mut connection = TcpStream::connect(("127.0.0.1", port)).expect("it listens");
        connection.set_nodelay(true).expect("a socket");
        let mut reader = BufReader::new(connection.try_clone().expect("a socket"));
        let body = format!("{{\"model\":\"m\",\"messages\":[],\"stream\":{stream}}}");
        let (mut first, mut whole) = (Vec::new(), Vec::new());
        for _ in 0..REQUESTS {
            let began = Instant::now();
            write!(connection, "POST /v1/chat/completions HTTP/1.1\r\nhost: h\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n{body}", body.len()).expect("it is sent");
            reader.fill_buf().expect("it is answered");
            first.push(began.elapsed().as_micros() as i64);
            read_message(&mut reader).expect("a message");
            whole.push(began.elapsed().as_micros() as i64);
        }
        (first, whole)
    };
    std::thread::scope(|scope| {
        let threads: Vec<_> = ports.iter().map(|&port| scope.spawn(move || one(port))).collect();
        let mut all = (Vec::new(), Vec::new());
        for thread in threads {
            let (first, whole) = thread.join().expect("it asks");
            all.0.extend(first);
            all.1.extend(whole);
        }
        all
    })
}

#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
fn main() -> ExitCode {
    let port = host();
    let endpoint = format!("http://127.0.0.1:{port}/v1");
    let headers = Default::default();
    let upstream = UpstreamConfig {
        candidate: "m",
        endpoint: &endpoint,
        key_env: None,
        headers: &headers,
        timeout: Duration::from_secs(30),
        patience: Default::default(),
        trust: None,
        key_header: None,
    };
    let mut relays = Vec::new();
    for _ in 0..AGENTS {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let config = RelayConfig {
            upstream: Arc::new(Upstream::new(&upstream, |_| None).expect("no key is needed")),
            model: "m".to_owned(),
            limits: AgentLimits { requests: u32::MAX, ..AgentLimits::default() },
            price: Price::default(),
            report_calls: true,
            settings: None,
        };
        let relay = Relay::start(listener, config, Arc::new(Calm(AtomicU32::new(1))));
        relays.push((port, relay.expect("there are threads")));
    }
    let relayed: Vec<u16> = relays.iter().map(|it| it.0).collect();
    let direct = vec![port; AGENTS];
    for stream in [false, true] {
        let (mut first, mut whole) = (Vec::new(), Vec::new());
        for _ in 0..3 {
            let (plain, through) = (ask(&direct, stream), ask(&relayed, stream));
            first.push(median(through.0) - median(plain.0));
            whole.push(median(through.1) - median(plain.1));
        }
        let what = if stream { "a stream" } else { "a whole answer" };
        println!(
            "the relay adds to {what}, {AGENTS} agents at once: {:.2} ms to the first byte, {:.2} ms in all",
            median(first) as f64 / 1000.0,
            median(whole) as f64 / 1000.0
        );
    }
    ExitCode::SUCCESS
}
