//! The wording around what a candidate must know: templates of a plan, and the shipped ones.

use std::collections::BTreeMap;

use fairtrial_core::plan::PromptSettings;
use minijinja::syntax::SyntaxConfig;
use minijinja::value::Serde;
use minijinja::{Environment, UndefinedBehavior, Value};
use serde::Serialize;

use super::Images;

/// The shipped wording of a first prompt.
pub const FIRST: &str = include_str!("first.txt");

/// The shipped wording of what goes back after a failure.
pub const REPAIR: &str = include_str!("repair.txt");

/// Longest template, in bytes.
const LENGTH_MAX: usize = 256 << 10;

/// Steps that a template may take: none of ours comes near, one that loops for ever is ended.
const FUEL: u64 = 1_000_000;

/// What a first prompt is made of.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct PromptParts {
    /// What the task asks for.
    pub statement: String,
    /// The files that are there, with what is in them; empty: none are shown.
    pub files: String,
    /// Examples; empty: there are none.
    pub examples: String,
    /// How the answer is to look, and what it may use.
    pub answer: String,
    /// The language's name.
    pub language: String,
    /// The task's title.
    pub title: String,
}

/// What goes back after a failure is made of.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct RepairParts {
    /// In which way the answer failed.
    pub verdict: String,
    /// How many hidden tests passed; empty: that is not told.
    pub counts: String,
    /// What was reported, in a fence; empty: nothing is told.
    pub message: String,
    /// The tests that are told, each with what was expected; empty: none is.
    pub tests: String,
    /// How to answer again.
    pub again: String,
}

/// A template that cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("{place}: {why}")]
pub struct TemplateError {
    /// Where it stands, such as `prompt.first` of a candidate.
    place: String,
    /// What is wrong, with the line.
    why: String,
}

/// The templates of a plan: its own, and those of candidates that have others.
#[derive(Debug)]
pub struct PromptTemplates {
    environment: Environment<'static>,
    /// Candidates that have a first prompt, or a repair, of their own.
    own: BTreeMap<String, (bool, bool)>,
    /// Candidates of which it is said whether they are sent images.
    images: BTreeMap<String, Images>,
    /// Of all others.
    images_by_default: Images,
}

impl PromptTemplates {
    /// The shipped wording, for everybody.
    ///
    /// # Panics
    /// Never: a test renders the shipped templates.
    #[must_use]
    pub fn shipped() -> Self {
        Self::parse(&PromptSettings::default(), []).expect("the shipped templates are well-formed")
    }

    /// The templates of a plan, each tried with and without the parts that may be empty.
    ///
    /// # Errors
    /// When one is malformed, names what there is not, or leaves the statement out.
    pub fn parse<'a>(
        plan: &PromptSettings,
        candidates: impl IntoIterator<Item = (&'a str, &'a PromptSettings)>,
    ) -> Result<Self, TemplateError> {
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::Strict);
        environment.set_syntax(
            SyntaxConfig::builder()
                .keep_trailing_newline(true)
                .build()
                .expect("only newlines are kept"),
        );
        environment.set_auto_escape_callback(|_| minijinja::AutoEscape::None);
        environment.set_fuel(Some(FUEL));
        let of = |it: bool| if it { Images::Sent } else { Images::Named };
        let mut templates = Self {
            environment,
            own: BTreeMap::new(),
            images: BTreeMap::new(),
            images_by_default: of(plan.images.unwrap_or(true)),
        };
        templates.add(None, "first", plan.first.as_deref().unwrap_or(FIRST))?;
        templates.add(None, "repair", plan.repair.as_deref().unwrap_or(REPAIR))?;
        for (candidate, own) in candidates {
            let (first, repair) = (own.first.as_deref(), own.repair.as_deref());
            for (kind, text) in [("first", first), ("repair", repair)] {
                if let Some(text) = text {
                    templates.add(Some(candidate), kind, text)?;
                }
            }
            let has = (first.is_some(), repair.is_some());
            templates.own.insert(candidate.to_owned(), has);
            if let Some(images) = own.images {
                templates.images.insert(candidate.to_owned(), of(images));
            }
        }
        Ok(templates)
    }

    fn add(&mut self, of: Option<&str>, kind: &str, text: &str) -> Result<(), TemplateError> {
        let place = match of {
            Some(candidate) => format!("candidate `{candidate}`, `prompt.{kind}`"),
            None => format!("`prompt.{kind}`"),
        };
        let fail = |why: String| TemplateError { place: place.clone(), why };
        if text.len() > LENGTH_MAX {
            return Err(fail(format!("it has more than {} KiB", LENGTH_MAX >> 10)));
        }
        let name = name(of, kind);
        let told = |error: minijinja::Error| {
            let line = error.line().map_or(String::new(), |it| format!("line {it}: "));
            let what = error.detail().map_or_else(|| error.kind().to_string(), str::to_owned);
            let there = if kind == "first" { FIRST_NAMES } else { REPAIR_NAMES };
            fail(format!("{line}{what}; there are {there}"))
        };
        self.environment.add_template_owned(name.clone(), text.to_owned()).map_err(told)?;
        let render = |parts: Value| self.environment.get_template(&name)?.render(parts);
        if kind == "first" {
            render(Value::from(Serde(PromptParts::default()))).map_err(told)?;
            let statement = "the statement".to_owned();
            let parts = PromptParts { statement, ..PromptParts::default() };
            let said = render(Value::from(Serde(parts))).map_err(told)?;
            if !said.contains("the statement") {
                return Err(fail(
                    "it leaves out {{ statement }}, what the task asks for".to_owned(),
                ));
            }
        } else {
            render(Value::from(Serde(RepairParts::default()))).map_err(told)?;
        }
        Ok(())
    }

    /// Candidates whose first prompt is their own, by its wording or by the images that go with it.
    pub fn with_own_first(&self) -> impl Iterator<Item = &str> {
        let other_images = |it: &str| self.images(Some(it)) != self.images_by_default;
        let own = self.own.iter().filter(move |it| it.1.0 || other_images(it.0));
        own.map(|it| it.0.as_str())
    }

    /// Whether a candidate is sent the images that tasks show; `None`: all of which nothing else is said.
    #[must_use]
    pub fn images(&self, candidate: Option<&str>) -> Images {
        let own = candidate.and_then(|it| self.images.get(it));
        own.copied().unwrap_or(self.images_by_default)
    }

    /// The first prompt of a candidate; `None`: of all that have none of their own.
    #[must_use]
    pub fn first(&self, candidate: Option<&str>, parts: &PromptParts) -> String {
        let of = candidate.filter(|it| self.own.get(*it).is_some_and(|it| it.0));
        self.render(of, "first", parts)
    }

    /// What goes back to a candidate after a failure.
    #[must_use]
    pub fn repair(&self, candidate: &str, parts: &RepairParts) -> String {
        let of = Some(candidate).filter(|it| self.own.get(*it).is_some_and(|it| it.1));
        self.render(of, "repair", parts)
    }

    /// A template that was tried renders; should it fail by a text that nobody thought of, the failure is told in its
    /// place, so that nobody takes it for a prompt.
    fn render(&self, of: Option<&str>, kind: &str, parts: &impl Serialize) -> String {
        let template = self.environment.get_template(&name(of, kind));
        let rendered = template.and_then(|it| it.render(Value::from(Serde(parts))));
        rendered.unwrap_or_else(|error| format!("the template `prompt.{kind}` failed: {error}"))
    }
}

/// The names that a first prompt may use.
const FIRST_NAMES: &str = "statement, files, examples, answer, language, title";

/// The names that what goes back after a failure may use.
const REPAIR_NAMES: &str = "verdict, counts, message, tests, again";

/// What a template is called; no candidate's name has a control character.
fn name(of: Option<&str>, kind: &str) -> String {
    match of {
        Some(candidate) => format!("{kind}\n{candidate}"),
        None => kind.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn settings(first: &str) -> PromptSettings {
        PromptSettings { first: Some(first.to_owned()), ..PromptSettings::default() }
    }

    #[test]
    fn what_is_wrong_with_a_template_is_told_with_its_line() {
        for (first, part) in [
            ("{{ statement }\n", "line 1"),
            ("{{ statement }}\n{{ statment }}", "line 2"),
            ("Solve it.", "leaves out {{ statement }}"),
            (
                "{{ statement }}{% for i in range(9999) %}{% for j in range(9999) %}{% endfor %}{% endfor %}",
                "fuel",
            ),
        ] {
            let error = PromptTemplates::parse(&settings(first), []).unwrap_err().to_string();
            assert!(error.starts_with("`prompt.first`: ") && error.contains(part), "{error}");
        }
    }

    #[test]
    fn a_candidate_may_have_its_own_wording() {
        let own = settings("Be quick. {{ statement }} {{ answer }}");
        let templates =
            PromptTemplates::parse(&settings("{{ statement }}"), [("auk", &own)]).unwrap();
        let parts = PromptParts {
            statement: "<Say how far.>".into(),
            answer: "One file.".into(),
            ..PromptParts::default()
        };
        assert_eq!(templates.first(Some("auk"), &parts), "Be quick. <Say how far.> One file.");
        assert_eq!(templates.first(Some("tern"), &parts), "<Say how far.>");
        assert_eq!(templates.with_own_first().collect::<Vec<_>>(), ["auk"]);
        let parts = RepairParts { verdict: "it is incomplete".into(), ..RepairParts::default() };
        assert!(templates.repair("auk", &parts).starts_with("Your answer did not pass: it is inc"));
    }
}
