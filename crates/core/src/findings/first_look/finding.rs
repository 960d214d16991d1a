use serde::{Deserialize, Serialize};
use strum::{EnumDiscriminants, EnumString, IntoStaticStr, VariantArray};

use super::Check;
use crate::changes::remedy::Remedy;
use crate::findings::alarm::Trouble;
use crate::findings::health::Health;
use crate::time::Timestamp;

/// A page of the application that shows more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, EnumDiscriminants)]
#[serde(rename_all = "snake_case")]
#[strum_discriminants(name(PageName), derive(IntoStaticStr, EnumString, VariantArray))]
#[strum_discriminants(strum(serialize_all = "snake_case"), doc = "A page, whatever it is shown of.")]
pub enum Page {
    /// Instances and their connections.
    Instances,
    /// How an instance is collected.
    Collection,
    /// Load by wait kind.
    Load,
    /// What the server works with, and what moved.
    Resources,
    /// Who holds up whom.
    Blocking,
    /// Sessions that are busy.
    Sessions,
    /// Statements.
    Statements,
    /// One family of statements.
    Family(i64),
    /// A page of the advice book.
    Advice(i64),
}

/// What to do about something.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Step {
    /// In words.
    pub text: String,
    /// What to run on the server for that, where there is something.
    pub remedy: Option<Remedy>,
    /// Where more is shown.
    pub page: Option<Page>,
}

impl Step {
    /// In words alone.
    pub fn new(text: impl Into<String>) -> Step {
        Step { text: text.into(), ..Step::default() }
    }

    /// With what to run on the server.
    #[must_use]
    pub fn run(mut self, remedy: Remedy) -> Step {
        self.remedy = Some(remedy);
        self
    }

    /// With a page that shows more.
    #[must_use]
    pub fn see(mut self, page: Page) -> Step {
        self.page = Some(page);
        self
    }
}

/// One thing that a check found.
#[derive(Debug, Clone, PartialEq)]
pub struct Point {
    /// How urgent it is.
    pub verdict: Health,
    /// What was found.
    pub text: String,
    /// Which trouble it is, where it is another than that of its check.
    pub trouble: Option<Trouble>,
    /// Of what; empty for the server as a whole.
    pub object: String,
    /// Families that it is about, where it is about some.
    pub families: Vec<i64>,
    /// Seconds lost to it in a second, where that is known.
    pub lost_seconds_per_second: f64,
    /// When it began, where that is known.
    pub since: Option<Timestamp>,
    /// What to do about it.
    pub step: Step,
}

impl Point {
    /// Says which trouble it is, and of what.
    pub fn of(&mut self, trouble: Trouble, object: impl Into<String>) -> &mut Point {
        self.trouble = Some(trouble);
        self.object = object.into();
        self
    }

    /// Says which trouble it is, of a family.
    pub fn of_family(&mut self, trouble: Trouble, family: i64) -> &mut Point {
        self.families = vec![family];
        self.of(trouble, family.to_string())
    }
}

/// A piece of evidence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fact {
    /// What it is of.
    pub what: String,
    /// The figure, with its unit; empty where a moment is all.
    pub value: String,
    /// The moment that it is, or that the figure belongs to.
    pub at: Option<Timestamp>,
}

/// What a check found.
#[derive(Debug, Clone, PartialEq)]
pub struct Finding {
    /// The check.
    pub check: Check,
    /// In one sentence.
    pub summary: String,
    /// What was found, the most urgent first.
    pub points: Vec<Point>,
    /// What that rests on.
    pub facts: Vec<Fact>,
}

impl Finding {
    /// The verdict: that of the most urgent point.
    pub fn verdict(&self) -> Health {
        self.points.iter().map(|point| point.verdict).min().unwrap_or(Health::Quiet)
    }
}

/// A finding being made.
#[derive(Debug, Default)]
pub(super) struct Notes {
    points: Vec<Point>,
    facts: Vec<Fact>,
}

impl Notes {
    /// Notes a figure.
    pub fn fact(&mut self, what: impl Into<String>, value: impl Into<String>) {
        self.facts.push(Fact { what: what.into(), value: value.into(), at: None });
    }

    /// Notes a moment.
    pub fn moment(&mut self, what: impl Into<String>, at: Timestamp) {
        self.facts.push(Fact { what: what.into(), value: String::new(), at: Some(at) });
    }

    /// Notes a figure with the moment that it belongs to.
    pub fn dated(&mut self, what: impl Into<String>, value: impl Into<String>, at: Timestamp) {
        self.facts.push(Fact { what: what.into(), value: value.into(), at: Some(at) });
    }

    /// Notes a trouble, or that too little is known.
    pub fn point(&mut self, verdict: Health, text: impl Into<String>, step: Step) -> &mut Point {
        let text = text.into();
        let object = String::new();
        self.points.push(Point {
            verdict,
            text,
            trouble: None,
            object,
            families: Vec::new(),
            lost_seconds_per_second: 0.0,
            since: None,
            step,
        });
        let last = self.points.len() - 1;
        &mut self.points[last]
    }

    /// That somebody should act.
    pub fn act(&mut self, text: impl Into<String>, step: Step) -> &mut Point {
        self.point(Health::Act, text, step)
    }

    /// That it is worth a look.
    pub fn look(&mut self, text: impl Into<String>, step: Step) -> &mut Point {
        self.point(Health::Look, text, step)
    }

    /// That too little is known.
    pub fn unknown(&mut self, text: impl Into<String>, step: Step) -> &mut Point {
        self.point(Health::NoData, text, step)
    }

    /// How much evidence was noted so far.
    pub fn facts_noted(&self) -> usize {
        self.facts.len()
    }

    /// Whether nothing was found yet.
    pub fn is_quiet(&self) -> bool {
        self.points.is_empty()
    }

    /// The finding. `quiet` is what to say when nothing was found.
    pub fn done(mut self, check: Check, quiet: impl Into<String>) -> Finding {
        self.points.sort_by_key(|point| point.verdict);
        let summary = match self.points.as_slice() {
            [] => quiet.into(),
            [first, ..] => first.text.clone(),
        };
        Finding { check, summary, points: self.points, facts: self.facts }
    }
}
