//! What is forgiven in a patch.

/// What had to be forgiven for a patch to fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Slack {
    /// A head has no numbers of lines, or wrong counts.
    Head,
    /// Its numbers of lines are wrong.
    LineNumbers,
    /// Lines around the change differ.
    Context,
    /// Lines end otherwise.
    LineEnds,
    /// White space at the ends of lines differs.
    WhiteSpace,
    /// A file that is said to be new is there, or one that is said to be there is not.
    Existence,
}
