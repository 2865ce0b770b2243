//! What the program finds around it.

use std::collections::BTreeMap;
use std::io::IsTerminal as _;

use fairtrial_report::Style;

/// What the program finds around it.
#[derive(Debug, Clone)]
pub struct Environment {
    variables: BTreeMap<String, String>,
    out_is_terminal: bool,
    err_is_terminal: bool,
    columns: Option<usize>,
    program: String,
}

/// Columns of tables where no terminal says otherwise, and at most.
const WIDTH: usize = 100;

/// Columns of the terminal that standard output is.
fn columns() -> Option<usize> {
    let (_, columns) = console::Term::stdout().size_checked()?;
    Some(usize::from(columns))
}

impl Environment {
    /// Those of the process.
    #[must_use]
    pub fn of_process() -> Self {
        let variables = std::env::vars_os()
            .filter_map(|(key, value)| Some((key.into_string().ok()?, value.into_string().ok()?)));
        Self {
            variables: variables.collect(),
            out_is_terminal: std::io::stdout().is_terminal(),
            err_is_terminal: std::io::stderr().is_terminal(),
            columns: columns(),
            program: std::env::args().next().unwrap_or_else(|| "fairtrial".to_owned()),
        }
    }

    /// An environment variable.
    #[must_use]
    pub fn variable(&self, name: &str) -> Option<String> {
        self.variables.get(name).cloned()
    }

    /// How the program was called, for commands that a person is told to copy.
    #[must_use]
    pub fn program(&self) -> &str {
        &self.program
    }

    /// Whether standard output is a terminal.
    #[must_use]
    pub fn out_is_terminal(&self) -> bool {
        self.out_is_terminal
    }

    /// Whether standard error is a terminal.
    #[must_use]
    pub fn err_is_terminal(&self) -> bool {
        self.err_is_terminal
    }

    fn wants_colour(&self) -> bool {
        let set = |name: &str| self.variables.get(name).is_some_and(|it| !it.is_empty());
        !set("NO_COLOR") && self.variables.get("TERM").is_none_or(|it| it != "dumb")
    }

    /// How standard output looks.
    #[must_use]
    pub fn style(&self) -> Style {
        let width = if self.out_is_terminal { self.columns.unwrap_or(WIDTH) } else { WIDTH };
        Style { width: width.clamp(60, WIDTH), colour: self.out_is_terminal && self.wants_colour() }
    }

    /// Columns of the terminal that standard error is.
    #[must_use]
    pub fn err_columns(&self) -> usize {
        console::Term::stderr().size_checked().map_or(WIDTH, |it| usize::from(it.1))
    }

    /// Whether standard error has colour.
    #[must_use]
    pub fn err_colour(&self) -> bool {
        self.err_is_terminal && self.wants_colour()
    }
}
