//! From the text that a candidate sent to files that can be judged.
//!
//! Two readings are made of every answer. The strict reader takes the answer only if it is what
//! the prompt asks for: one closed code block, tagged with the language or not at all, and nothing
//! around it. The lenient reader finds code whatever surrounds it. Each thing that it had to forgive is a
//! [`Deviation`]; without deviations the two readings are the same, and with one the strict reader refuses.
//!
//! What stands as it is stays: code is changed only where it is not sound as it stands and is so
//! afterwards, which a [`SoundCheck`] finds out. Each block has a [`Role`], and the reading says which.
//! Nothing that is sealed is known here.

mod bare;
mod choose;
mod deviation;
mod edits;
mod elision;
mod facts;
mod fence;
mod fit;
mod inner;
mod join;
mod label;
mod mend;
mod prose;
mod rank;
mod read;
mod reading;
mod repository;
mod role;
mod scan;
mod sound;
mod submission;
mod thought;
mod unwrap;
mod wanted;

pub use self::deviation::Deviation;
pub use self::edits::EditError;
use self::facts::CodeFacts;
pub use self::read::{read_answer, read_files};
pub use self::reading::{Gaps, Reading};
pub use self::repository::{WantedChange, read_change, read_patch, read_whole_files};
pub use self::role::{BlockNote, ReadingNotes, Role};
pub use self::sound::{SoundCheck, Unchecked};
pub use self::submission::{AnswerEnd, Code, Submission};
pub use self::wanted::{Wanted, WantedKind};
