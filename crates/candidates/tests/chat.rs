//! Chat candidates against hosts that behave in every way that hosts do.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpListener;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use fairtrial_candidates::{
    Ask, AskOutcome, AskReply, Asker as _, AskerError, ChatAsker, Message, Reporter, RequestNote,
    Role, StepNote, TryAgain,
};
use fairtrial_core::answer::{AnswerEnd, Submission};
use fairtrial_core::plan::{Candidate, ChatCandidate, Plan};
use fairtrial_core::verdict::VoidReason;

/// Serves these raw responses, one a connection, and gives what was asked.
fn host(responses: &[impl AsRef<[u8]>]) -> (String, Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/v1/", listener.local_addr().unwrap());
    let responses: Vec<Vec<u8>> = responses.iter().map(|it| it.as_ref().to_vec()).collect();
    let (outcome, requests) = channel();
    thread::spawn(move || {
        for response in responses {
            let (mut stream, _) = listener.accept().unwrap();
            let mut reader = BufReader::new(stream.try_clone().unwrap());
            let (mut head, mut length) = (String::new(), 0);
            loop {
                let mut line = String::new();
                reader.read_line(&mut line).unwrap();
                if let Some(value) = line.to_lowercase().strip_prefix("content-length:") {
                    length = value.trim().parse().unwrap();
                }
                head.push_str(&line);
                if line.trim().is_empty() {
                    break;
                }
            }
            let mut body = vec![0; length];
            reader.read_exact(&mut body).unwrap();
            outcome.send(head + &String::from_utf8(body).unwrap()).unwrap();
            if let Some(rest) = response.strip_prefix(b"drip") {
                for event in String::from_utf8_lossy(rest).split_inclusive("\n\n") {
                    let _ = stream.write_all(event.as_bytes());
                    thread::sleep(Duration::from_millis(100));
                }
            } else if let Some(rest) = response.strip_prefix(b"hang") {
                stream.write_all(rest).unwrap();
                thread::sleep(Duration::from_secs(5));
            } else {
                let _ = stream.write_all(&response);
            }
        }
    });
    (address, requests)
}

fn json(status: &str, more: &str, body: &str) -> String {
    format!(
        "HTTP/1.1 {status}\r\ncontent-type: application/json\r\n{more}content-length: {}\r\n\
         connection: close\r\n\r\n{body}",
        body.len()
    )
}

fn stream(events: &[&str]) -> String {
    let body: String = events.iter().map(|event| format!("data: {event}\n\n")).collect();
    format!("HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\nconnection: close\r\n\r\n{body}")
}

fn config(address: &str, more: &str) -> ChatCandidate {
    let text = format!(
        "docket = \"d\"\n[[candidate]]\nname = \"petrel\"\nkind = \"chat\"\nmodel = \"m-1\"\n\
         endpoint = \"{address}\"\ntimeout = 1\n{more}\n"
    );
    match Plan::parse("plan.toml", &text).unwrap().candidates.remove(0) {
        Candidate::Chat(chat) => chat,
        _ => panic!("a chat candidate was written"),
    }
}

/// Counts requests, and refuses those beyond `most`.
struct Counting {
    most: u32,
    asked: AtomicU32,
}

fn counting(most: u32) -> Arc<dyn Reporter> {
    Arc::new(Counting { most, asked: AtomicU32::new(0) })
}

impl Reporter for Counting {
    fn requested(&self) -> Option<u32> {
        let number = self.asked.fetch_add(1, Ordering::Relaxed) + 1;
        (number <= self.most).then_some(number)
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

fn request(reply: &AskReply) -> &RequestNote {
    reply.request.as_ref().unwrap()
}

fn ask(address: &str, more: &str) -> AskReply {
    let asker =
        ChatAsker::new(&config(address, more), Path::new("."), |_| Some("seaworthy-1234".into()))
            .unwrap();
    let messages =
        vec![Message { role: Role::User, content: "Solve it.".into(), images: Vec::new() }];
    let ask =
        Ask { task: "gap".into(), sample: 1, attempt: 1, messages, seed: u64::MAX, last: None };
    asker.ask(&ask, None, &counting(1))
}

fn answer(text: &str, cut_off: bool) -> AskOutcome {
    let end = if cut_off { AnswerEnd::CutOff } else { AnswerEnd::Complete };
    AskOutcome::Answer { submission: Submission::Text(text.into()), end }
}

const GOOD: &str = r#"{"choices": [{"message": {"content": "x = 1"}, "finish_reason": "stop"}],
    "usage": {"prompt_tokens": 10, "completion_tokens": 3, "prompt_tokens_details": {"cached_tokens": 4}}}"#;

#[test]
fn a_refusal_is_told_with_its_words_and_why_the_answer_ended() {
    let no = "That would sink the ship.";
    let whole = format!(
        r#"{{"choices": [{{"message": {{"content": null, "refusal": "{no}"}}, "finish_reason": "content_filter"}}]}}"#
    );
    let parts = stream(&[
        r#"{"choices": [{"delta": {"refusal": "That would "}}]}"#,
        r#"{"choices": [{"delta": {"refusal": "sink the ship."}, "finish_reason": "content_filter"}]}"#,
        "[DONE]",
    ]);
    for response in [json("200 OK", "", &whole), parts] {
        let (address, _requests) = host(&[&response]);
        let reply = ask(&address, "");
        let submission = Submission::Text(no.into());
        assert_eq!(reply.outcome, AskOutcome::Answer { submission, end: AnswerEnd::Refused });
        let detail = &request(&reply).detail;
        assert_eq!(detail, &format!("finish reason `content_filter`; refusal: {no}"));
    }
}

#[test]
fn a_request_holds_what_the_plan_says_and_the_answer_what_the_host_says() {
    let (address, requests) = host(&[&json("200 OK", "", GOOD)]);
    let more = "key_env = \"KEY\"\nsend_seed = true\nheaders = { x-harbour = \"merrow\", x-team = { env = \"TEAM\" } }\n\
                sampling = { temperature = 0.5, max_tokens = 9 }";
    let reply = ask(&address, more);
    assert_eq!(reply.outcome, answer("x = 1", false));
    let tokens = request(&reply).tokens;
    assert_eq!((tokens.input, tokens.cached, tokens.output), (10, 4, 3));
    assert!(!request(&reply).estimated);
    let request = requests.recv().unwrap();
    assert!(request.starts_with("POST /v1/chat/completions HTTP/1.1"), "{request}");
    let lower = request.to_lowercase();
    assert!(
        lower.contains("authorization: bearer seaworthy-1234")
            && lower.contains("x-harbour: merrow")
            && lower.contains("x-team: seaworthy-1234")
    );
    let body: serde_json::Value =
        serde_json::from_str(request.split("\r\n\r\n").nth(1).unwrap()).unwrap();
    assert_eq!(body["model"], "m-1");
    assert_eq!(body["messages"][0], serde_json::json!({"role": "user", "content": "Solve it."}));
    assert_eq!((&body["temperature"], &body["max_tokens"]), (&0.5.into(), &9.into()));
    assert_eq!(body["seed"], 0x7fff_ffff);
    assert!(body.get("stream").is_none());
}

#[test]
fn streams_are_put_together_and_their_odd_ends_told_apart() {
    let part = |text: &str| format!(r#"{{"choices": [{{"delta": {{"content": "{text}"}}}}]}}"#);
    let end = r#"{"choices": [{"delta": {}, "finish_reason": "length"}]}"#;
    let usage = r#"{"choices": [], "usage": {"prompt_tokens": 2, "completion_tokens": 5}}"#;
    let whole = stream(&[&part("a"), &part("b"), end, usage, "[DONE]"]);
    let (address, requests) = host(&[&whole]);
    let reply = ask(&address, "stream = true");
    assert_eq!(reply.outcome, answer("ab", true));
    assert!(request(&reply).first_token.is_some() && !request(&reply).estimated);
    assert!(requests.recv().unwrap().contains("\"include_usage\":true"));
    // No count of tokens, no reason for the end: the text is all that is known.
    let (address, _requests) = host(&[&stream(&[&part("a"), "[DONE]"])]);
    let reply = ask(&address, "stream = true");
    assert_eq!((&reply.outcome, request(&reply).estimated), (&answer("a", false), true));
    // It breaks off: that is the host's fault.
    let (address, _requests) = host(&[&stream(&[&part("a")])]);
    let reply = ask(&address, "stream = true");
    assert!(matches!(reply.outcome, AskOutcome::Again(_)), "{reply:?}");
    // It never ends: what is there when the time is up is the answer, cut off.
    let endless = format!(
        "drip{}",
        stream(&vec![part("a"); 40].iter().map(String::as_str).collect::<Vec<_>>())
    );
    let (address, _requests) = host(&[&endless]);
    let began = Instant::now();
    let outcome = ask(&address, "stream = true").outcome;
    assert!(matches!(&outcome, AskOutcome::Answer { end: AnswerEnd::CutOff, .. }), "{outcome:?}");
    // It stalls with the connection open: that is the host's fault again.
    let stalled = format!("hang{}", stream(&[&part("a"), &part("b")]));
    let (address, _requests) = host(&[&stalled]);
    let outcome = ask(&address, "stream = true").outcome;
    assert!(matches!(&outcome, AskOutcome::Again(it) if it.why.contains("stalled")), "{outcome:?}");
    assert!(began.elapsed() < Duration::from_secs(20));
}

/// What is odd beside an answer never loses it, and what the host did is not the candidate's.
#[test]
fn packed_answers_are_unpacked_whoever_asked_for_that() {
    let (brotli, zstd) = (
        "G0QAwB0HbqzFThC02a9F9si2tk5fF8sU+SpzjAPW8+la9nEbPGQpX7vhvGwsUBIG3vc1+2GyQRsgPQ==",
        "KLUv/QRo5QEAUgQOEbDrGTbvzTxuSrntoYiRylRUUcQ39vp5Zk3WDdSJkzmIL6uUtOcf72Omh/k9pHvXYcj3amJIDwMAgZ3ETA==",
    );
    for (encoding, body) in [("br", brotli), ("zstd", zstd)] {
        let mut response = format!(
            "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-encoding: {encoding}\r\n\
             connection: close\r\n\r\n"
        )
        .into_bytes();
        response.extend(BASE64.decode(body).unwrap());
        let (address, _requests) = host(&[response]);
        assert_eq!(ask(&address, "").outcome, answer("packed", false), "{encoding}");
    }
}

#[test]
fn odd_streams_are_read_and_faults_in_them_are_the_hosts() {
    let part = r#"{"choices": [{"delta": {"content": "a"}, "message": null}], "usage": null}"#;
    let end = r#"{"choices": [{"delta": {}, "finish_reason": "stop"}]}"#;
    let high = r#"{"choices": [{"delta": {"content": "\ud83d"}}]}"#;
    let low = r#"{"choices": [{"delta": {"content": "\ude00"}}]}"#;
    let second = r#"{"choices": [{"index": 1, "delta": {"content": "another answer"}}]}"#;
    let usage = r#"{"choices": null, "usage": {"prompt_tokens": 2.0, "completion_tokens": "5"}}"#;
    let odd = stream(&[part, "", high, low, second, end, usage]);
    let other_name = odd.replace("text/event-stream", "Text/Event-Stream; charset=utf-8");
    let unnamed = odd.replace("text/event-stream", "application/json");
    for whole in [&odd, &other_name, &unnamed] {
        let (address, _requests) = host(&[whole]);
        let reply = ask(&address, "stream = true");
        assert_eq!(reply.outcome, answer("a\u{1f600}", false));
        assert_eq!((request(&reply).tokens.output, request(&reply).estimated), (5, false));
    }
    // One object although a stream was asked for.
    let (address, _requests) = host(&[&json("200 OK", "", GOOD)]);
    assert_eq!(ask(&address, "stream = true").outcome, answer("x = 1", false));
    use VoidReason::{ContentFilter, NotTheProtocol, RateLimit, ServerError};
    let finish =
        |word: &str| format!(r#"{{"choices": [{{"delta": {{}}, "finish_reason": "{word}"}}]}}"#);
    let error = |said: &str| format!(r#"{{"error": {{"message": "{said}"}}}}"#);
    for (events, reason, why) in [
        (vec!["[DONE]".to_owned()], NotTheProtocol, "no choice"),
        (vec![part.to_owned(), finish("error"), "[DONE]".to_owned()], ServerError, "an error"),
        (vec![part.to_owned(), error("the engine sank")], ServerError, "the engine sank"),
        (vec![part.to_owned(), error("rate limit reached")], RateLimit, "rate limit"),
        (vec![part.to_owned(), "{\"choi".to_owned()], NotTheProtocol, "no JSON"),
        (vec![part.to_owned(), finish("content_filter")], ContentFilter, "content filter"),
    ] {
        let events: Vec<&str> = events.iter().map(String::as_str).collect();
        let (address, _requests) = host(&[&stream(&events)]);
        let outcome = ask(&address, "stream = true").outcome;
        let (found, said) = match &outcome {
            AskOutcome::Again(it) => (it.reason, &it.why),
            AskOutcome::Void(reason, said) => (*reason, said),
            other => panic!("{other:?}"),
        };
        assert!(found == reason && said.contains(why), "{why}: {outcome:?}");
    }
}

/// What is thought aloud is kept apart, counted, and never judged; a stream that only thinks until its end was cut off.
#[test]
fn what_is_thought_aloud_is_no_part_of_the_answer() {
    let think = r#"{"choices": [{"delta": {"reasoning_content": "x = 2 or x = 1"}}]}"#;
    let say = r#"{"choices": [{"delta": {"content": "x = 1"}, "finish_reason": "stop"}]}"#;
    let usage = r#"{"choices": [], "usage": {"prompt_tokens": 2, "completion_tokens": 9,
        "completion_tokens_details": {"reasoning_tokens": 6}}}"#
        .replace('\n', " ");
    let (address, _requests) = host(&[&stream(&[think, say, &usage, "[DONE]"])]);
    let reply = ask(&address, "stream = true");
    assert_eq!(reply.outcome, answer("x = 1", false));
    let note = request(&reply);
    assert_eq!((note.thought.as_str(), note.tokens.reasoning), ("x = 2 or x = 1", 6));
    let long = r#"{"choices": [{"delta": {}, "finish_reason": "length"}]}"#;
    let (address, _requests) = host(&[&stream(&[think, long, "[DONE]"])]);
    assert_eq!(ask(&address, "stream = true").outcome, answer("", true));
}

/// The key that a host tells stays out of answers, and waits for parts of an answer have limits of their own.
#[test]
fn a_host_that_tells_the_key_and_one_that_falls_silent() {
    let echo = GOOD.replace("x = 1", "x = 'seaworthy-1234'");
    let (address, _requests) = host(&[&json("200 OK", "", &echo)]);
    assert_eq!(ask(&address, "key_env = \"KEY\"").outcome, answer("x = '[key]'", false));
    let part = r#"{"choices": [{"delta": {"content": "a"}}]}"#;
    let began = Instant::now();
    for (response, patience, why) in [
        (format!("hang{}", stream(&[part])), "silence = 0.2", "said nothing for 0.2 s"),
        ("hang".to_owned(), "first_byte = 0.2", "nothing came back within 0.2"),
    ] {
        let (address, _requests) = host(&[&response]);
        let more = format!("stream = true\npatience = {{ {patience} }}");
        let address = address.trim_end_matches('/').to_owned();
        match ask(&address, &format!("{more}\nretries = 1")).outcome {
            AskOutcome::Again(it) => {
                assert_eq!(it.reason, VoidReason::HostTimedOut);
                assert!(it.why.contains(why), "{}", it.why);
            }
            other => panic!("{other:?}"),
        }
    }
    assert!(began.elapsed() < Duration::from_millis(900), "{:?}", began.elapsed());
}

#[test]
fn a_host_that_will_not_count_in_streams_is_asked_without_and_a_query_stays_at_the_end() {
    let no = r#"{"error": {"message": "unknown field: stream_options"}}"#;
    let (address, requests) = host(&[&json("400 Bad Request", "", no), &json("200 OK", "", GOOD)]);
    let address = format!("{address}?api-version=7");
    assert_eq!(ask(&address, "stream = true").outcome, answer("x = 1", false));
    let (first, second) = (requests.recv().unwrap(), requests.recv().unwrap());
    assert!(first.contains("include_usage") && !second.contains("include_usage"));
    assert!(first.starts_with("POST /v1/chat/completions?api-version=7 "), "{first}");
}

#[test]
fn faults_of_the_host_may_be_tried_again_and_each_try_is_one_request() {
    let slow = |header: &str| {
        let body = r#"{"error": {"message": "slow", "code": "rate"}}"#;
        json("429 Too Many Requests", header, body)
    };
    let (address, requests) = host(&[&slow("retry-after: 7\r\n"), &json("200 OK", "", GOOD)]);
    let reply = ask(&address, "retries = 2");
    let again = TryAgain {
        reason: VoidReason::RateLimit,
        why: "rate limit (status 429): slow (rate)".to_owned(),
        after: Some(Duration::from_secs(7)),
        unreachable: false,
    };
    assert_eq!(reply.outcome, AskOutcome::Again(again));
    let noted = request(&reply);
    assert_eq!((noted.status, noted.detail.as_str()), (Some(429), "slow (rate)"));
    assert_eq!(requests.try_iter().count(), 1);
    assert_eq!(ask(&address, "retries = 2").outcome, answer("x = 1", false));
    use VoidReason::{
        BrokeOff, EmptyAnswer, HostTimedOut, NobodyThere, NotTheProtocol, ServerError,
    };
    let again = |address: &str| match ask(address, "").outcome {
        AskOutcome::Again(it) => (it.reason, it.unreachable),
        other => panic!("{other:?}"),
    };
    for (body, reason) in [
        ("", EmptyAnswer),
        ("no JSON", NotTheProtocol),
        ("{\"choices\": [", BrokeOff),
        ("{}", NotTheProtocol),
        (r#"{"choices": []}"#, NotTheProtocol),
        (r#"{"choices": [{"message": {"content": ""}, "finish_reason": "stop"}]}"#, EmptyAnswer),
        (r#"{"error": {"message": "overloaded"}}"#, ServerError),
    ] {
        let found = again(&host(&[&json("200 OK", "", body)]).0);
        assert_eq!(found, (reason, false), "{body}");
    }
    // Slow, but there.
    assert_eq!(again(&host(&["hang"]).0), (HostTimedOut, false));
    assert_eq!(again("http://127.0.0.1:9/v1"), (NobodyThere, true));
    assert_eq!(again("http://port-merrow.invalid/v1").0, VoidReason::NameNotFound);
    // Nobody speaks TLS there.
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let plain = format!("https://{}/v1", listener.local_addr().unwrap());
    thread::spawn(move || listener.accept().map(drop));
    assert_eq!(again(&plain), (VoidReason::TlsFailed, true));
}

#[test]
fn refusals_for_good_are_told_apart() {
    let long = r#"{"error": {"message": "maximum context length is 8192 tokens"}}"#;
    let (address, _requests) = host(&[&json("400 Bad Request", "", long)]);
    let outcome = ask(&address, "").outcome;
    assert!(
        matches!(outcome, AskOutcome::Void(VoidReason::RequestRefusedForLength, _)),
        "{outcome:?}"
    );
    let echo = r#"{"error": {"message": "bad key seaworthy-1234 \u001b[31m"}}"#;
    let (address, _requests) = host(&[&json("401 Unauthorized", "", echo)]);
    let reply = ask(&address, "key_env = \"KEY\"");
    assert_eq!(
        reply.outcome,
        AskOutcome::Halt(
            VoidReason::KeyRefused,
            "key refused (status 401): bad key [key]  [31m (the key is from `KEY`)".into()
        )
    );
    assert!(!format!("{reply:?}").contains("seaworthy"));
    let moved = "HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:9/\r\ncontent-length: 0\r\n\r\n";
    let (address, _requests) = host(&[moved]);
    let outcome = ask(&address, "").outcome;
    let why = "redirected (status 302): to `http://127.0.0.1:9/`: `endpoint` has to say so itself";
    assert_eq!(outcome, AskOutcome::Halt(VoidReason::Redirected, why.into()));
}

#[test]
fn what_a_model_wrote_is_its_answer_whatever_its_shape() {
    let counted = r#", "usage": {"prompt_tokens": 9, "completion_tokens": 40}"#;
    for (content, text, usage) in [
        // The host says that the model wrote something, which came to nothing.
        ("null", "", counted),
        (r#"[{"type": "text", "text": "a"}, {"type": "text", "text": "b"}]"#, "ab", ""),
    ] {
        let body = format!(r#"{{"choices": [{{"message": {{"content": {content}}}}}]{usage}}}"#);
        let (address, _requests) = host(&[&json("200 OK", "", &body)]);
        assert_eq!(ask(&address, "").outcome, answer(text, false), "{content}");
    }
}

#[test]
fn a_request_that_may_not_be_recorded_is_not_sent() {
    let (address, requests) = host(&[&json("200 OK", "", GOOD)]);
    let asker = ChatAsker::new(&config(&address, ""), Path::new("."), |_| None).unwrap();
    let ask =
        Ask { task: "t".into(), sample: 1, attempt: 1, messages: vec![], seed: 0, last: None };
    let reply = asker.ask(&ask, None, &counting(0));
    assert_eq!(reply, AskReply::bare(AskOutcome::Cancelled));
    assert!(requests.try_recv().is_err());
}

#[test]
fn what_cannot_be_sent_is_noticed_before_anything_is() {
    let make = |more: &str, key: Option<&str>| {
        ChatAsker::new(&config("http://127.0.0.1:9", more), Path::new("."), |_| {
            key.map(str::to_owned)
        })
        .err()
    };
    assert!(matches!(make("key_env = \"KEY\"", None), Some(AskerError::NoKey { .. })));
    assert!(matches!(make("key_env = \"KEY\"", Some("  ")), Some(AskerError::NoKey { .. })));
    let header = make("headers = { \"bad name\" = \"x\" }", None);
    assert!(matches!(header, Some(AskerError::Header { .. })));
    let header = "headers = { x-team = { env = \"TEAM\" } }";
    let missing = make(header, None).unwrap().to_string();
    assert!(missing.contains("the environment variable `TEAM` is not set"), "{missing}");
    assert!(make(header, Some("k")).is_none());
    assert!(make("key_env = \"KEY\"", Some("k")).is_none());
}
