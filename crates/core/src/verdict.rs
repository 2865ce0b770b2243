//! What an attempt or a trial came to, and why.
//!
//! The words here are the ones that people read in tables and programs read in JSON: each reason
//! has one spelling, used everywhere.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// Makes an enum whose variants each have one written form. Takes `fmt`, `FromStr`, `Serialize`,
/// `Deserialize` and [`UnknownWord`] from where it is used.
#[macro_export]
macro_rules! worded {
    ($(#[$meta:meta])* $name:ident { $($(#[$vmeta:meta])* $variant:ident = $word:literal,)* }) => {
        $(#[$meta])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub enum $name { $($(#[$vmeta])* #[serde(rename = $word)] $variant,)* }

        impl $name {
            /// Every value, in the order in which they are listed to people.
            pub const ALL: &'static [Self] = &[$(Self::$variant,)*];

            /// The written form.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self { $(Self::$variant => $word,)* }
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.word())
            }
        }

        impl FromStr for $name {
            type Err = UnknownWord;

            fn from_str(text: &str) -> Result<Self, UnknownWord> {
                Self::ALL.iter().copied().find(|it| it.word() == text).ok_or_else(|| UnknownWord {
                    found: text.to_owned(),
                    allowed: Self::ALL.iter().map(|it| it.word()).collect::<Vec<_>>().join(", "),
                })
            }
        }
    };
}
pub use worded;

/// A word that is none of those allowed in its place.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("unknown word `{found}`; allowed are: {allowed}")]
pub struct UnknownWord {
    /// What was found.
    pub found: String,
    /// What is allowed, separated by commas.
    pub allowed: String,
}

worded! {
    /// Why an answer did not pass.
    FailReason {
        /// It ran and gave something else than what was expected.
        WrongResult = "wrong result",
        /// It ended by an error or a signal where a result was expected.
        Crashed = "crashed",
        /// It used up its time, of the processor or of the wall clock.
        TimedOut = "timed out",
        /// It used up its memory.
        OutOfMemory = "out of memory",
        /// It wrote more than it may.
        TooMuchOutput = "too much output",
        /// It did not compile, or not load.
        DidNotBuild = "did not build",
        /// The answer has no code.
        NoCodeFound = "no code found",
        /// There is code, but a strict reader does not take it.
        NotAsAsked = "not in the form asked for",
        /// The code is in another language than the task's.
        WrongLanguage = "wrong language",
        /// The answer stops short or leaves parts out.
        Incomplete = "incomplete",
        /// The unified diff does not fit the files it is for.
        PatchDoesNotApply = "patch does not apply",
        /// Nothing was changed.
        EmptyChange = "empty change",
        /// Something that worked before works no longer.
        BrokeWhatWorked = "broke what worked",
        /// The judging itself was attacked.
        Tampering = "tampering",
        /// The candidate declined to answer.
        Refused = "refused",
        /// The candidate stopped by itself before it was done. No kind of candidate can yet.
        GaveUp = "gave up",
    }
}

worded! {
    /// Why a trial says nothing about its candidate.
    VoidReason {
        /// The host did not answer, or answered with an error of its own, and nothing more is known: in records of
        /// older versions.
        ProviderError = "provider error",
        /// Nobody takes a connection at the host's address.
        NobodyThere = "provider error: nobody there",
        /// The host's name has no address.
        NameNotFound = "provider error: name not found",
        /// The host's certificate is not trusted, or no protected connection comes about.
        TlsFailed = "provider error: TLS failed",
        /// The host took too long: to connect, to begin, between two parts, or altogether.
        HostTimedOut = "provider error: timed out",
        /// The host says that the fault is its own.
        ServerError = "provider error: server error",
        /// The answer broke off before its end.
        BrokeOff = "provider error: broke off",
        /// What came is no answer of the protocol.
        NotTheProtocol = "provider error: not the protocol",
        /// An answer came that has nothing in it.
        EmptyAnswer = "provider error: empty answer",
        /// The host sends requests elsewhere.
        Redirected = "provider error: redirected",
        /// The host does not take the key.
        KeyRefused = "provider error: key refused",
        /// The host does not know the model, or nothing is served at the address.
        ModelNotFound = "provider error: model not found",
        /// Money or a paid quota is used up.
        QuotaUsedUp = "provider error: quota used up",
        /// The host does not take the request as it is, such as one of its settings.
        RequestRefused = "provider error: request refused",
        /// A filter of the host's, not the model, kept the answer back.
        ContentFilter = "provider error: content filter",
        /// A program that was to pass the request on failed.
        CommandFailed = "provider error: command failed",
        /// No answer was written down for it.
        NotRecorded = "provider error: no recorded answer",
        /// The host refused for too many requests.
        RateLimit = "rate limit",
        /// The host refused since the conversation is too long for the model.
        RequestRefusedForLength = "request refused for length",
        /// The task does not hold on this machine: its repository cannot be made ready, or its tests do
        /// not come to what they must before anything is changed.
        Preflight = "preflight failed",
        /// This machine lacks what the task's language needs.
        ToolMissing = "tool missing",
        /// The sandbox could not be set up.
        SandboxError = "sandbox error",
        /// The plan's money, tokens or time were used up.
        BudgetReached = "budget reached",
        /// A person stopped the run. Older versions gave it; a trial that was stopped is resumed now.
        Cancelled = "cancelled",
    }
}

/// What is done about a fault of a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Remedy {
    /// The request is made again after a pause, as often as the plan says. If it stays in vain, the trial is void.
    AskAgain,
    /// So, and if it stays in vain, the candidate is no longer asked: nobody else would get an answer, either.
    AskAgainThenEnd,
    /// The trial is void; others may be answered.
    VoidTrial,
    /// The candidate is no longer asked.
    EndCandidate,
}

impl VoidReason {
    /// The reason without what is known besides.
    #[must_use]
    pub fn family(self) -> &'static str {
        self.word().split(": ").next().unwrap_or_default()
    }

    /// What is known besides of a fault of the host; `None` where nothing is.
    #[must_use]
    pub fn fault(self) -> Option<&'static str> {
        self.word().split_once(": ").map(|it| it.1)
    }

    /// The shortest words that name it: those of the fault, where there are any.
    #[must_use]
    pub fn short(self) -> &'static str {
        self.fault().unwrap_or(self.word())
    }

    /// The reason that [`VoidReason::short`] names so.
    #[must_use]
    pub fn of_short(short: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|it| it.short() == short)
    }

    /// What is done about a fault of a host; `None` for what is none.
    #[must_use]
    pub const fn remedy(self) -> Option<Remedy> {
        Some(match self {
            Self::NobodyThere | Self::NameNotFound | Self::TlsFailed => Remedy::AskAgainThenEnd,
            Self::HostTimedOut
            | Self::ServerError
            | Self::BrokeOff
            | Self::NotTheProtocol
            | Self::EmptyAnswer
            | Self::RateLimit
            | Self::CommandFailed => Remedy::AskAgain,
            Self::RequestRefused | Self::ContentFilter | Self::RequestRefusedForLength => {
                Remedy::VoidTrial
            }
            Self::Redirected | Self::KeyRefused | Self::ModelNotFound | Self::QuotaUsedUp => {
                Remedy::EndCandidate
            }
            Self::ProviderError
            | Self::NotRecorded
            | Self::Preflight
            | Self::ToolMissing
            | Self::SandboxError
            | Self::BudgetReached
            | Self::Cancelled => return None,
        })
    }

    /// Whether several of them in a row say that nothing more is to be had of the host. One that is slow, or that will
    /// not take this text, may take the next.
    #[must_use]
    pub const fn spoils_the_host(self) -> bool {
        !matches!(self, Self::HostTimedOut | Self::ContentFilter | Self::RequestRefusedForLength)
    }
}

/// What an attempt or a trial came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Verdict {
    /// Everything that was checked passed.
    Pass,
    /// Something that was checked did not pass.
    Fail(FailReason),
    /// Spoiled by no fault of the candidate: shown, not counted.
    Void(VoidReason),
}

impl Verdict {
    /// `pass`, `fail` or `void`.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::Fail(_) => "fail",
            Self::Void(_) => "void",
        }
    }

    /// The written reason; `None` for a pass.
    #[must_use]
    pub const fn reason(self) -> Option<&'static str> {
        match self {
            Self::Pass => None,
            Self::Fail(reason) => Some(reason.word()),
            Self::Void(reason) => Some(reason.word()),
        }
    }

    /// The written reason without what is known besides of a fault of the host; `None` for a pass.
    #[must_use]
    pub fn family(self) -> Option<&'static str> {
        match self {
            Self::Void(reason) => Some(reason.family()),
            _ => self.reason(),
        }
    }

    /// What is known besides of a fault of the host.
    #[must_use]
    pub fn fault(self) -> Option<&'static str> {
        match self {
            Self::Void(reason) => reason.fault(),
            _ => None,
        }
    }

    /// Puts a verdict together again from its two written parts.
    ///
    /// # Errors
    /// When the words are not a verdict that [`Verdict::word`] and [`Verdict::reason`] give.
    pub fn parse(word: &str, reason: Option<&str>) -> Result<Self, UnknownWord> {
        match (word, reason) {
            ("pass", None) => Ok(Self::Pass),
            ("fail", Some(reason)) => Ok(Self::Fail(reason.parse()?)),
            ("void", Some(reason)) => Ok(Self::Void(reason.parse()?)),
            _ => Err(UnknownWord {
                found: format!("{word} {}", reason.unwrap_or("without a reason")),
                allowed: "pass, fail with a reason, void with a reason".to_owned(),
            }),
        }
    }

    /// Whether this is a pass.
    #[must_use]
    pub const fn is_pass(self) -> bool {
        matches!(self, Self::Pass)
    }

    /// Whether this is void.
    #[must_use]
    pub const fn is_void(self) -> bool {
        matches!(self, Self::Void(_))
    }
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.reason() {
            None => f.write_str(self.word()),
            Some(reason) => write!(f, "{} ({reason})", self.word()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_verdict_survives_being_written_and_read() {
        let fails = FailReason::ALL.iter().map(|&r| Verdict::Fail(r));
        let voids = VoidReason::ALL.iter().map(|&r| Verdict::Void(r));
        for verdict in fails.chain(voids).chain([Verdict::Pass]) {
            assert_eq!(Verdict::parse(verdict.word(), verdict.reason()), Ok(verdict));
        }
    }

    /// docs/plan.md has one row for each fault of a host, with what is done about it.
    #[test]
    fn what_is_done_about_a_fault_is_what_the_guide_says() {
        let guide = include_str!("../../../docs/plan.md");
        let known = VoidReason::ALL.iter().filter_map(|it| Some((it.short(), it.remedy()?)));
        let mut rows = 0;
        for (fault, remedy) in known {
            let done = match remedy {
                Remedy::AskAgain => "asked again, then void",
                Remedy::AskAgainThenEnd => "asked again, then the candidate rests or ends",
                Remedy::VoidTrial => "void",
                Remedy::EndCandidate => "the candidate is no longer asked",
            };
            let is_row = |it: &&str| {
                it.starts_with(&format!("| `{fault}` | ")) && it.ends_with(&format!(" | {done} |"))
            };
            assert_eq!(guide.lines().filter(is_row).count(), 1, "{fault}: {done}");
            rows += 1;
        }
        let table = guide.split("| kind | when | what is done |").nth(1).unwrap_or_default();
        let table = table.split("\n\n").next().unwrap_or_default();
        assert_eq!(table.lines().filter(|it| it.starts_with("| `")).count(), rows);
    }

    #[test]
    fn a_reason_that_does_not_belong_is_refused() {
        assert!(Verdict::parse("pass", Some("crashed")).is_err());
        assert!(Verdict::parse("fail", Some("rate limit")).is_err());
        assert!(Verdict::parse("fail", None).is_err());
    }
}
